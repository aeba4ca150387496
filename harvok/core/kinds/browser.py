"""A browser: what a host without Harvok gets to and from a station."""

from harvok.core.kinds.kind import Conditions, Kind
from harvok.core.procedures.browser import BrowserTest, browser_test


def _conditions(test: BrowserTest) -> Conditions:
    yield "test.kind", test.kind
    yield "test.connections", str(test.connections)
    yield "test.duration", f"{test.duration_s:g} s"


BROWSER = Kind(
    test=BrowserTest,
    procedure=browser_test,
    rig="browser",
    quantities=(
        "goodput-settled", "goodput-both-ways", "ceiling-share", "page-response-median", "page-response-p95",
        "goodput-mean", "tcp-throughput-l2", "settling", "ceiling", "transfer-time-ratio", "segment-payload",
        "retransmitted", "rtt-min", "rtt-mean", "buffer-delay", "fairness", "page-response-min", "busiest-core-far",
    ),
    conditions=_conditions,
    held_against_calibration=False,
)  # fmt: skip
