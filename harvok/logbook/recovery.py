"""Puts a run together from what its journal had when its process died."""

from collections.abc import Sequence

from pydantic import TypeAdapter

from harvok.core.models.control import Fault
from harvok.core.models.run import RunRecord, TrialRecord
from harvok.core.trials.any import Trial
from harvok.core.trials.delay import DelayTrialResult
from harvok.core.trials.frames import FrameTrialResult
from harvok.core.trials.link import LinkTrialResult
from harvok.core.trials.tcp import TcpInterval
from harvok.core.trials.udp import UdpInterval

Entry = TcpInterval | UdpInterval | Trial | FrameTrialResult | DelayTrialResult | LinkTrialResult
"""A trial that starts, an interval of it, or the result of one that tells no intervals."""

_ENTRY: TypeAdapter[Entry] = TypeAdapter(Entry)


def encode_entry(entry: Entry) -> str:
    """An entry as a line of the journal."""
    return _ENTRY.dump_json(entry, exclude_none=True).decode()


def put_together(record: RunRecord, entries: Sequence[tuple[int, str]]) -> RunRecord:
    """The record of a broken run, with every interval that the journal has; entries are (trial number, JSON)."""
    trials: dict[int, TrialRecord] = {}
    for number, text in entries:
        entry = _ENTRY.validate_json(text)
        if isinstance(entry, (TcpInterval, UdpInterval)):
            trials[number].intervals.append(entry)
        elif isinstance(entry, (FrameTrialResult, DelayTrialResult, LinkTrialResult)):
            trials[number] = TrialRecord(trial=trials[number].trial, result=entry)
        else:
            trials[number] = TrialRecord(trial=entry, intervals=[])
    fault = Fault(
        reference="process-died",
        message="the process that measured this run died before it ended",
        hint="Measure again; if nobody killed it, look into the system's log for the reason.",
    )
    return record.model_copy(update={"state": "broken", "trials": list(trials.values()), "fault": fault})
