"""How long this host took for the same before: a forecast that knows its pauses, retries and stalls."""

import socket
from collections.abc import Iterator
from statistics import median

from harvok.core.ethernet import IpVersion
from harvok.core.models.run import RunRecord
from harvok.core.observer import RunOutline
from harvok.logbook.store import Logbook


def outline_of(logbook: Logbook, record: RunRecord, number: int, of: int, ip_version: IpVersion) -> RunOutline:
    """What is known as a run begins, the one with this number (from 0) of so many repeats."""
    return RunOutline(
        run=record.id,
        number=number + 1,
        of=of,
        near=record.near.name,
        far=record.far.name if record.far else record.rig.name,
        link=record.link,
        ip_version=ip_version,
        expected_s=forecast_s(logbook, record),
    )


_LOOK_BACK, _ENOUGH = 20, 5


def forecast_s(logbook: Logbook, record: RunRecord) -> float | None:
    """How long a run of frames that begins should take: what its test expects, times how much longer than expected the
    latest such runs of this host on the same rig took (median of at most five). Time on a simulated rig is virtual, and
    goes by as expected. None where a test expects nothing."""
    expected_s: float | None = record.test.expected_s
    if not expected_s or record.rig.kind not in ("ports", "virtual"):
        return expected_s
    ratios = [ratio for ratio, _ in zip(_ratios(logbook, record), range(_ENOUGH), strict=False)]
    return expected_s * (median(ratios) if ratios else 1.0)


def _ratios(logbook: Logbook, record: RunRecord) -> Iterator[float]:
    for before in logbook.newest_of(record.test.title, _LOOK_BACK):
        same = before.near.name == socket.gethostname() and before.rig.name == record.rig.name
        if same and before.ended and before.test.expected_s:
            yield (before.ended - before.started).total_seconds() / before.test.expected_s
