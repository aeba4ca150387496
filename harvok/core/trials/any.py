"""Every kind of trial, of answer to one, and of what a record keeps of the answer."""

from dataclasses import replace

from harvok.core.trials.app import AppTrial, AppTrialResult
from harvok.core.trials.browser import BrowserOutcome, BrowserTrial, BrowserTrialResult
from harvok.core.trials.delay import DelayOutcome, DelayTrial, DelayTrialResult
from harvok.core.trials.frames import FrameTrial, FrameTrialResult
from harvok.core.trials.link import LinkOutcome, LinkTrial, LinkTrialResult
from harvok.core.trials.tcp import TcpOutcome, TcpTrial, TcpTrialResult
from harvok.core.trials.udp import UdpTrial, UdpTrialResult

Trial = TcpTrial | UdpTrial | AppTrial | FrameTrial | DelayTrial | LinkTrial | BrowserTrial
TrialResult = (
    TcpTrialResult
    | UdpTrialResult
    | AppTrialResult
    | FrameTrialResult
    | DelayTrialResult
    | LinkTrialResult
    | BrowserTrialResult
)
TrialOutcome = (
    TcpOutcome | UdpTrialResult | AppTrialResult | FrameTrialResult | DelayOutcome | LinkOutcome | BrowserOutcome
)
"""A result without what stands in the samples and events of its trial."""


def outcome_of(result: TrialResult | TrialOutcome) -> TrialOutcome:
    """What a record keeps of a result; those that hold no time series are kept whole, and so is what was kept of one
    already."""
    if isinstance(result, AppTrialResult) and isinstance(result.probes, DelayTrialResult):
        return replace(result, probes=result.probes.outcome)
    outcome: TrialOutcome = getattr(result, "outcome", result)  # type: ignore[arg-type]
    return outcome
