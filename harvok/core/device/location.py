"""Where frames were lost: what the tester and the device counted, set against each other exactly, for one direction of
one trial.

    tester ──── lead ────▶ port of the device ─ ─ inside ─ ─▶ port of the device ──── lead ────▶ tester
     sent               frames_in, discards_in,              frames_out, discards_out,          received
                        errors_in (FCS)                      errors_out

Two things are not the same in all devices: whether `frames_in` counts what is discarded (RFC 2863 says no, the Linux
kernel yes), and whether `frames_out` does (RFC 2863 says yes, most switches no). Of the readings in which nothing is
negative, that one holds which leaves no frame unexplained by the device's own counters, or the only one there is. Where
several would do, or none, that is what is said.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import product
from typing import Literal

from harvok.core.device.reading import PortCounts

Certainty = Literal["exact", "other-traffic", "unclear"]


@dataclass(frozen=True, slots=True)
class Crossing:
    """What is known of one direction of a trial, all of the same stretch of time.

    `sent` and `received` are the trial's own frames. `left` and `arrived` are all frames that left and reached the
    tester's two ports, the trial's and others; `arrived_bad` came with errors, and `dropped_here` never got beyond the
    tester's own host. `entry` and `exit` are what the device counted at the ports where the direction enters and leaves
    it, `entry_name` and `exit_name` what it calls them.
    """

    direction: str
    sent: int
    received: int
    left: int
    arrived: int
    arrived_bad: int
    dropped_here: int
    entry_name: str
    entry: PortCounts
    exit_name: str
    exit: PortCounts


@dataclass(frozen=True, slots=True)
class Moved:
    """A counter of errors or discards that moved: how far, and whose it is."""

    counter: str
    of: str
    count: int

    def __str__(self) -> str:
        return f"{self.counter} of {self.of}: {_grouped(self.count)}"


@dataclass(frozen=True, slots=True)
class Loss:
    """Where the lost frames of one direction were lost: in the tester's own host, on the lead to the device, inside it,
    or on the lead from it; None where the counters do not tell these apart. `evidence` are the counters of errors and
    discards that moved; `why` says what does not agree."""

    direction: str
    sent: int
    lost: int
    in_tester: int
    on_entry_lead: int | None
    inside: int | None
    on_exit_lead: int | None
    entry_name: str
    exit_name: str
    certainty: Certainty
    evidence: list[Moved] = field(default_factory=list)
    why: str = ""

    @property
    def is_located(self) -> bool:
        return None not in (self.on_entry_lead, self.inside, self.on_exit_lead)

    @property
    def places(self) -> list[tuple[str, int]]:
        """How many frames were lost where, from the sender to the receiver; nothing where that cannot be told."""
        if self.on_entry_lead is None or self.inside is None or self.on_exit_lead is None:
            return []
        return [
            ("tester", self.in_tester),
            ("entry lead", self.on_entry_lead),
            ("device", self.inside),
            ("exit lead", self.on_exit_lead),
        ]


@dataclass(frozen=True, slots=True)
class _Reading:
    """One way to read the device's counters: frames lost on either lead, and frames that it took in and neither gave on
    nor counted as discarded."""

    on_entry_lead: int
    on_exit_lead: int
    unexplained: int


def locate(crossing: Crossing) -> Loss:
    """Where the frames of a direction were lost."""
    readings = _readings(crossing)
    if isinstance(readings, str):
        return _loss(crossing, None, None, None, "unclear", readings)
    best = readings[0]
    if len(readings) > 1 and (best.unexplained or not readings[1].unexplained):
        why = "what the device counts as discarded can be read in more than one way"
        return _loss(crossing, None, None, None, "unclear", why)
    lost = crossing.sent - crossing.received
    outside = crossing.dropped_here + best.on_entry_lead + best.on_exit_lead
    inside = lost - outside
    if inside < 0:
        why = f"{outside} frames are missing outside of the device and {lost} were lost: other traffic is among them"
        return _loss(crossing, None, None, None, "unclear", why)
    kept = (crossing.left - best.on_entry_lead) - (crossing.arrived + best.on_exit_lead)  # by the device's own counters
    if kept != inside:
        why = (
            f"the device took in {kept} frames more than it gave on, and {inside} of the trial's were lost there: "
            "other traffic came or went"
        )
        return _loss(crossing, best.on_entry_lead, inside, best.on_exit_lead, "other-traffic", why)
    return _loss(crossing, best.on_entry_lead, inside, best.on_exit_lead, "exact", "")


def _readings(crossing: Crossing) -> list[_Reading] | str:
    """Every way to read the counters that is possible, that in which the least is unexplained first; a sentence where
    there is none."""
    entry, exit_ = crossing.entry, crossing.exit
    for name, count in ((crossing.entry_name, entry.frames_in), (crossing.exit_name, exit_.frames_out)):
        if count is None:
            return f"the device does not count frames at {name}"
    frames_in, frames_out = entry.frames_in or 0, exit_.frames_out or 0
    discards_in, discards_out = entry.discards_in or 0, (exit_.discards_out or 0) + (exit_.errors_out or 0)
    possible = set[_Reading]()
    for in_counts_discards, out_counts_discards in product((True, False), repeat=2):
        reached = frames_in if in_counts_discards else frames_in + discards_in
        left_it = frames_out - discards_out if out_counts_discards else frames_out
        on_entry_lead, on_exit_lead = crossing.left - reached, left_it - crossing.arrived
        unexplained = reached - discards_in - discards_out - left_it
        if on_entry_lead >= 0 and on_exit_lead >= 0:
            possible.add(_Reading(on_entry_lead, on_exit_lead, unexplained))
    if possible:
        return sorted(possible, key=lambda one: (abs(one.unexplained), one.on_entry_lead, one.on_exit_lead))
    if frames_in > crossing.left:
        return (
            f"{crossing.entry_name} counted {frames_in - crossing.left} frames more than left the tester: its counters "
            "are of another time, or somebody else sends there"
        )
    if crossing.arrived > frames_out:
        return (
            f"{crossing.arrived - frames_out} frames more reached the tester than {crossing.exit_name} counted: its "
            "counters are of another time, or somebody else sends there"
        )
    return "its counters do not agree with each other, however what is discarded is read"


def _loss(
    crossing: Crossing,
    on_entry_lead: int | None,
    inside: int | None,
    on_exit_lead: int | None,
    certainty: Certainty,
    why: str,
) -> Loss:
    return Loss(
        crossing.direction,
        crossing.sent,
        crossing.sent - crossing.received,
        crossing.dropped_here,
        on_entry_lead,
        inside,
        on_exit_lead,
        crossing.entry_name,
        crossing.exit_name,
        certainty,
        list(_evidence(crossing)),
        why,
    )


def _evidence(crossing: Crossing) -> Iterator[Moved]:
    """Counters of errors and discards that moved."""
    entry, exit_ = crossing.entry, crossing.exit
    for counter, of, count in (
        ("FCS errors", crossing.entry_name, entry.fcs_errors),
        ("inErrors", crossing.entry_name, None if entry.fcs_errors else entry.errors_in),
        ("inDiscards", crossing.entry_name, entry.discards_in),
        ("outDiscards", crossing.exit_name, exit_.discards_out),
        ("outErrors", crossing.exit_name, exit_.errors_out),
        ("receive errors", "the tester's port", crossing.arrived_bad),
    ):
        if count:
            yield Moved(counter, of, count)


_CERTAINTIES: tuple[Certainty, ...] = ("exact", "other-traffic", "unclear")


def together(losses: Sequence[Loss]) -> Loss:
    """The losses of one direction in several trials, as one: no more certain than the least certain of them."""
    first = losses[0]
    moved: dict[tuple[str, str], int] = {}
    for one in (one for loss in losses for one in loss.evidence):
        moved[one.counter, one.of] = moved.get((one.counter, one.of), 0) + one.count
    return replace(
        first,
        sent=sum(loss.sent for loss in losses),
        lost=sum(loss.lost for loss in losses),
        in_tester=sum(loss.in_tester for loss in losses),
        on_entry_lead=_sum(loss.on_entry_lead for loss in losses),
        inside=_sum(loss.inside for loss in losses),
        on_exit_lead=_sum(loss.on_exit_lead for loss in losses),
        certainty=max((loss.certainty for loss in losses), key=_CERTAINTIES.index),
        evidence=[Moved(counter, of, count) for (counter, of), count in moved.items()],
        why=next((loss.why for loss in losses if loss.why), ""),
    )


def _sum(counts: Iterable[int | None]) -> int | None:
    """None where one of them is not known."""
    known = list(counts)
    return None if None in known else sum(count for count in known if count is not None)


def words_of(loss: Loss, device: str) -> str:
    """In one sentence."""
    of = f"of {_grouped(loss.sent)} frames" + (f" ({loss.direction})" if loss.direction else "")
    if not loss.is_located:
        lost = f"{_grouped(loss.lost)} {of} were lost, and where cannot be told" if loss.lost else f"none {of} was lost"
        return f"{lost}: {loss.why}"
    places = [
        (loss.in_tester, "in the tester's own host"),
        (loss.on_entry_lead, f"on the lead to {loss.entry_name} of {device}"),
        (loss.inside, f"inside {device}"),
        (loss.on_exit_lead, f"on the lead from {loss.exit_name} of {device}"),
    ]
    some = [(count, where) for count, where in places if count]
    beside = f"; {loss.why}" if loss.why else ""
    if not some:
        agrees = ", and the device counted as many" if loss.certainty == "exact" else ""
        return f"none {of} was lost{agrees}{beside}"
    evidence = f" ({', '.join(map(str, loss.evidence))})" if loss.evidence else ""
    only = "; none on the leads" if loss.inside and not (loss.on_entry_lead or loss.on_exit_lead) else ""
    lost = f"{_grouped(loss.lost)} {of} were lost"
    if len(some) == 1:
        return f"{lost} {some[0][1]}{evidence}{only}{beside}"
    return f"{lost}: {' and '.join(f'{_grouped(count)} {where}' for count, where in some)}{evidence}{only}{beside}"


def _grouped(count: int) -> str:
    return f"{count:,}".replace(",", " ")
