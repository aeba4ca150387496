"""A figure over the weeks as a drawing for the page of a site: SVG that takes its colours from the page."""

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cached_property
from zoneinfo import ZoneInfo

from harvok.core.site.history import History
from harvok.core.units import format_share

WIDTH, HEIGHT = 720, 190
_LEFT, _RIGHT, _TOP, _BOTTOM = 100, 12, 22, 26
_TEXT_WIDTH, _TEXT_HEIGHT = 130, 18
_MAX_DOTS = 400
_TICKS = 4
_NICE = (1.0, 2.0, 2.5, 5.0, 10.0)
_MAX_DAY_TICKS = 8


@dataclass(frozen=True, slots=True)
class Tick:
    """Where a value or a day is marked, and with what."""

    place: float
    text: str


@dataclass(frozen=True, slots=True)
class Mark:
    """A change of level: where, and what it was in words at the height `y`. `anchor` is the side of its text that is
    fixed."""

    x: float
    y: float
    text: str
    anchor: str


@dataclass(frozen=True)
class HistoryChart:
    """Coordinates of everything that is drawn. Times are seconds since 1970; `shown` writes a value with its unit."""

    history: History
    limits: Sequence[float]
    failed_s: Sequence[float]
    begins_s: float
    ends_s: float
    zone: ZoneInfo
    shown: Callable[[float], str]
    width: int = WIDTH
    height: int = HEIGHT

    @cached_property
    def scale(self) -> tuple[float, float]:
        """The lowest and the highest value that is drawn: the history, its baseline and its limits, with some room."""
        values = [one.value for one in self.history.seen]
        every = [*values, self.history.low, self.history.high, *self.limits]
        low, high = min(every), max(every)
        room = (high - low) * 0.08 or abs(high) * 0.05 or 1.0
        return max(low - room, 0.0) if low >= 0 else low - room, high + room

    def x(self, at_s: float) -> float:
        """The place of a moment."""
        share = (at_s - self.begins_s) / max(self.ends_s - self.begins_s, 1.0)
        return round(_LEFT + share * (WIDTH - _LEFT - _RIGHT), 1)

    def y(self, value: float) -> float:
        """The place of a value."""
        low, high = self.scale
        return round(HEIGHT - _BOTTOM - (value - low) / (high - low) * (HEIGHT - _TOP - _BOTTOM), 1)

    @property
    def dots(self) -> str:
        """A path that is drawn with round ends: a dot for each value or, of many, for the median of a few."""
        return "".join(f"M{self.x(at_s)} {self.y(value)}h0" for at_s, value in self._thinned())

    def _thinned(self) -> Iterator[tuple[float, float]]:
        seen = self.history.seen
        of_each = math.ceil(len(seen) / _MAX_DOTS)
        for at in range(0, len(seen), of_each):
            few = sorted(seen[at : at + of_each], key=lambda one: one.value)
            yield seen[at].at_s, few[len(few) // 2].value

    @property
    def levels(self) -> str:
        """A path along the levels."""
        seen, parts = self.history.seen, []
        for begin, end, value in self.history.levels:
            ends_s = seen[end].at_s if end < len(seen) else seen[-1].at_s
            parts.append(f"M{self.x(seen[begin].at_s)} {self.y(value)}H{self.x(ends_s)}")
        return "".join(parts)

    @property
    def crosses(self) -> str:
        """A path with a cross on the axis for each test that failed."""
        y = HEIGHT - _BOTTOM
        return "".join(f"M{self.x(at) - 2.5} {y - 2.5}l5 5m-5 0l5 -5" for at in self.failed_s if at >= self.begins_s)

    @property
    def marks(self) -> list[Mark]:
        """The changes of level."""
        marks, row = list[Mark](), 0
        for change in self.history.changes:
            x = self.x(self.history.seen[change.index].at_s)
            row = (row + 1) % 2 if marks and x - marks[-1].x < _TEXT_WIDTH else 0
            arrow, size = "▲" if change.share > 0 else "▼", format_share(abs(change.share))
            text = f"{arrow} {size}" if math.isfinite(change.share) else arrow
            anchor = "end" if x > WIDTH - _TEXT_WIDTH else "start"
            marks.append(Mark(x, _TOP + 10 + row * _TEXT_HEIGHT, text, anchor))
        return marks

    @property
    def value_ticks(self) -> list[Tick]:
        """Round values on the left."""
        low, high = self.scale
        rough = (high - low) / _TICKS
        power = 10.0 ** math.floor(math.log10(rough))
        step = next(nice * power for nice in _NICE if nice * power >= rough)
        first = math.ceil(low / step)
        return [Tick(self.y(number * step), self.shown(number * step)) for number in range(first, int(high / step) + 1)]

    @property
    def day_ticks(self) -> list[Tick]:
        """Midnights below, by the site's clocks; hours where there are not two midnights."""
        begins, ends = (datetime.fromtimestamp(moment, self.zone) for moment in (self.begins_s, self.ends_s))
        days = (ends - begins) / timedelta(days=1)
        if days < 2:
            step = timedelta(hours=max(round(days * 24 / _MAX_DAY_TICKS), 1))
            moment, form = begins.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1), "%H:%M"
        else:
            step = timedelta(days=math.ceil(days / _MAX_DAY_TICKS))
            moment, form = begins.replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1), "%m-%d"
        ticks = []
        while moment < ends:
            ticks.append(Tick(self.x(moment.timestamp()), f"{moment:{form}}"))
            moment += step
        return ticks

    @property
    def words(self) -> str:
        """What the drawing shows, for those who do not see it."""
        history = self.history
        said = [f"{len(history.seen)} values, {self.shown(history.newest.value)} at last"]
        said.append(f"baseline {self.shown(history.level)}")
        said += [f"from {self.shown(one.before)} to {self.shown(one.after)}" for one in history.changes]
        return "; ".join(said)

    @property
    def plot(self) -> tuple[int, int, int, int]:
        """Left, right, top and bottom of what is inside the axes."""
        return _LEFT, WIDTH - _RIGHT, _TOP, HEIGHT - _BOTTOM
