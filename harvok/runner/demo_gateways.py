"""The demo of application traffic: one plan, run across two gateways that are made of this kernel."""

import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from harvok.clock import SYSTEM
from harvok.core.limiter import Limiter
from harvok.core.models.rig import VirtualRig
from harvok.core.procedures.app import read_levels
from harvok.core.trials.app import AppTrial, AppTrialResult
from harvok.logbook.store import Logbook
from harvok.rigs.rig_files import read_rig
from harvok.runner.across import AcrossRequest, run_across

GATEWAYS = ("dome-gw-a", "dome-gw-b")
_FOLDER = Path(__file__).parents[1] / "rigs" / "demo"
_WAIT_S = 60.0


def limiters_of(name: str, place: str) -> list[Limiter]:
    """What limited the last run across a gateway, level by level."""
    with closing(Logbook(place)) as logbook:
        record = logbook.series_records(f"{name}.pages")[-1]
    trials = record.trials_of(AppTrial, AppTrialResult)
    return [
        limiter
        for trial, result in trials
        for stream in result.streams
        for _, limiter in read_levels(trial, stream, record.link)
    ]


def judge_gateway(name: str, place: str, notice: Callable[[str], None]) -> int:
    """Runs the demo's plan across a gateway; returns its exit code. Raises NearEndError where no virtual hosts can be
    made."""
    rig = read_rig(_FOLDER / f"{name}.toml")
    assert isinstance(rig, VirtualRig)
    words = ("run", str(_FOLDER / "gateway-plan.toml"), "--unattended", "--name", name)
    sys.stdout.flush()  # what comes next is another process's
    return run_across(rig, AcrossRequest(words, place, ("harvok", "demo", "app"), _WAIT_S), notice, SYSTEM)
