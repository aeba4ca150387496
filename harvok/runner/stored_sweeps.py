"""Finds a sweep in the logbook again, by its name alone: its baselines, its points, and what they say."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import permutations

from harvok.core.judgement.sample import Series
from harvok.core.kinds.table import KINDS, kind_of
from harvok.core.models.run import RunRecord
from harvok.core.sweeps.axes import (
    BASELINES,
    MAX_AXES,
    Axis,
    AxisSet,
    Point,
    Role,
    Setting,
    is_impairment,
    parse_axis,
    point_name,
)
from harvok.core.sweeps.reading import SweepReading, Swept, read_sweep
from harvok.errors import NothingFoundError, UsageError
from harvok.logbook.store import Logbook
from harvok.runner.samples import as_series


@dataclass(frozen=True, slots=True)
class StoredSweep:
    """A sweep as the logbook has it. `records` by the last part of the name of their series."""

    name: str
    test: str
    roles: dict[str, Role]
    points: list[Swept]
    records: Mapping[str, Sequence[RunRecord]]

    def readings(self) -> list[SweepReading]:
        """What it says: one reading for each direction that was measured."""
        before, after = (self.series(name) for name in BASELINES)
        sweeping = KINDS[self.test].sweeping
        assert sweeping  # only kinds that can be swept have a baseline
        found = [
            read_sweep(self.test, sweeping.figures, self.points, (before, after), direction, self.roles)
            for direction in ("send", "receive")
        ]
        return [reading for reading in found if reading]

    def every_record(self) -> list[RunRecord]:
        """All its runs in the order in which they were taken."""
        return sorted((r for group in self.records.values() for r in group), key=lambda record: record.started)

    def series(self, part: str) -> Series:
        """The runs of a point or a baseline; none where it was not measured."""
        return as_series(f"{self.name}.{part}", self.records.get(part, []))


def is_sweep(logbook: Logbook, name: str) -> bool:
    """Whether a sweep of that name was kept."""
    return f"{name}.{BASELINES[0]}" in logbook.series()


def stored_sweep(logbook: Logbook, name: str) -> StoredSweep:
    """The sweep of that name. Raises NothingFoundError."""
    parts = [sery.removeprefix(f"{name}.") for sery in logbook.series() if sery.startswith(f"{name}.")]
    if BASELINES[0] not in parts:
        raise NothingFoundError(
            f"the logbook has no sweep called '{name}'",
            "`harvok logbook list` shows all series; those of a sweep are called NAME.baseline-before and so on.",
        )
    records = {part: logbook.series_records(f"{name}.{part}") for part in parts}
    test = records[BASELINES[0]][0].test.kind
    found: dict[str, Swept] = {}
    roles: dict[str, Role] = {}
    for part in parts:
        settings = list(_settings(records[part][0], roles))
        point = _point_called(part, settings)
        if point is not None:
            fixed = tuple(one for one in settings if one not in point)
            found[part] = Swept(point, as_series(f"{name}.{part}", records[part]), fixed)
    varied = {setting.name for swept in found.values() for setting in swept.point}
    return StoredSweep(
        name=name,
        test=test,
        roles={axis: role for axis, role in roles.items() if axis in varied},
        points=_in_order(list(found.values())),
        records={part: records[part] for part in parts if part in found or part in BASELINES},
    )


def _settings(record: RunRecord, roles: dict[str, Role]) -> Iterator[Setting]:
    """What a run of a sweep says was set, varied or not; notes the role of each in `roles`."""
    kind = kind_of(record.test)
    for name, text in record.attributes.items():
        axis = _axis(name, text, kind.axes)
        if axis:
            roles[name] = axis.role
            yield from axis.values
    for setting in kind.sweeping.implied(record.test) if kind.sweeping else ():
        if setting.name not in record.attributes:
            yield setting


def _axis(name: str, text: str, axes: AxisSet) -> Axis | None:
    """An attribute as what was set; None for what somebody noted about the unit, under whatever name."""
    if name not in axes.kinds and not is_impairment(name):
        return None
    try:
        return parse_axis(f"{name}={text}", axes, min_values=1)
    except UsageError:
        return None


def _point_called(part: str, settings: Sequence[Setting]) -> Point | None:
    """Those settings that the name of a series is made of; None where it is none of a point."""
    for count in range(1, MAX_AXES + 1):
        for point in permutations(settings, count):
            if point_name(point) == part:
                return point
    return None


def _in_order(points: Sequence[Swept]) -> list[Swept]:
    """By number along each axis; names in the order in which they were measured."""
    names = [setting.text for swept in points for setting in swept.point]
    return sorted(
        points,
        key=lambda swept: [
            names.index(setting.text) if setting.number is None else setting.number for setting in swept.point
        ],
    )
