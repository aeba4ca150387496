"""A site as a TOML file describes it: stations, links that they share, and rounds of tests. docs/sites.md has every
key."""

import shlex
from collections.abc import Iterator
from datetime import time
from itertools import combinations, permutations
from typing import Annotated, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Duration, Model, Rate, checked_by
from harvok.core.judgement.assessment import Criterion
from harvok.core.kinds.table import kind_of
from harvok.core.models.plan import AnyStep, PlanCriterion
from harvok.core.site.calendar import cron_expression, parse_hours
from harvok.core.wire.pairing import read_pairing_code

HERE = "here"
"""The end that coordinates: a near end without a station."""
SiteName = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,31}$")]
_PAIR = " > "
_USUAL_LATE_S = 1800.0
_AROUND_A_TEST_S = 5.0
"""Connecting, starting, letting go, writing down."""
_PATIENCE, _MORE_PATIENCE_S = 2.0, 60.0
_AT_THE_BENCH = ("events", "setup", "undo", "instruction", "instruction_again", "impairment")
"""Keys of a step that ask for hands, or for this host's own devices."""


_Address = Annotated[str, Field(min_length=1, max_length=255)]


class StationKeys(Model):
    """A station: where it is, and which groups it is one of. `reached_at` is where other stations reach it,
    `token_file` what lets the coordinator in (HARVOK_TOKEN without), `code` its pairing code, by which it is known, and
    `frame_port` the interface that it lends for tests of frames."""

    name: SiteName
    address: _Address
    reached_at: _Address | None = None
    token_file: str | None = None
    code: Annotated[str, checked_by(read_pairing_code)] | None = None
    frame_port: Annotated[str, Field(min_length=1, max_length=15)] | None = None
    groups: list[SiteName] = []


class LinkKeys(Model):
    """A link that several stations share: what goes between those `behind` it and all others crosses it, and two tests
    never do at one time."""

    name: SiteName
    rated: Rate | None = None
    behind: Annotated[list[SiteName], Field(min_length=1)]


class RoundKeys(Model):
    """A test that comes round: when (`at`), and between whom.

    `between` names pairs, "dome > hall" from the near end to the far; `mesh` stations or groups of which each is tested
    with each other, once, or in both directions where the test has but one; `many` near ends to one `to`, `together` at
    the same time, or one after the other. A test that could not begin `late` after its time is missed. In `quiet`
    hours none is due.

    `criteria` are held against the latest `judged_over` runs of each pair. One that takes longer than `max_duration` is
    broken off. The coordinator runs the commands `before` each test and, whatever became of it, those `after` it.
    """

    name: SiteName
    at: Annotated[str, Field(min_length=1, max_length=100), checked_by(cron_expression)]
    between: list[str] = []
    mesh: list[SiteName] = []
    many: list[SiteName] = []
    to: SiteName | None = None
    together: bool = False
    late: Annotated[Duration, Field(ge=0, le=7 * 86_400)] = _USUAL_LATE_S
    quiet: list[Annotated[str, checked_by(parse_hours)]] = []
    max_duration: Annotated[Duration, Field(ge=1, le=7 * 86_400)] | None = None
    before: list[str] = []
    after: list[str] = []
    judged_over: Annotated[int, Field(ge=5, le=1000)] = 5
    criteria: list[PlanCriterion] = []
    step: AnyStep

    @field_validator("criteria")
    @classmethod
    def _of_this_round(cls, criteria: list[PlanCriterion]) -> list[PlanCriterion]:
        if any(one.step or one.at or one.against or one.changed for one in criteria):
            raise ValueError("criteria of a round are of its own figures: min and max, without step or against")
        return criteria

    @field_validator("before", "after")
    @classmethod
    def _commands(cls, texts: list[str]) -> list[str]:
        for text in texts:
            try:
                words = shlex.split(text)
            except ValueError as error:
                raise ValueError(f"'{text}' is no command: {error}") from error
            if not words:
                raise ValueError("an empty text is no command")
        return texts

    @field_validator("between")
    @classmethod
    def _pairs(cls, texts: list[str]) -> list[str]:
        for text in texts:
            if len(text.split(_PAIR)) != 2:
                raise ValueError(f"'{text}' is no pair: write it as \"dome > hall\", the near end first")
        return texts

    @model_validator(mode="after")
    def _one_way_of_saying_between_whom(self) -> "RoundKeys":
        given = [name for name in ("between", "mesh", "many") if getattr(self, name)]
        if len(given) != 1:
            raise ValueError("says between whom by one of between, mesh, and many with to")
        if bool(self.many) != (self.to is not None):
            raise ValueError("many and to go together")
        if self.step.over:
            raise ValueError("a sweep has a baseline of its own, and is no round")
        done = [key for key in _AT_THE_BENCH if getattr(self.step, key)]
        if done:
            raise ValueError(f"{done[0]} is for somebody at the bench, and not of a round")
        known = kind_of(self.step.example).quantities
        for one in self.criteria:
            if one.figure not in known:
                raise ValueError(f"criteria: a test of {self.step.test} has no figure '{one.figure}'")
        return self

    @model_validator(mode="after")
    def _near_ends_together(self) -> "RoundKeys":
        if not self.together:
            return self
        if not self.many:
            raise ValueError("together goes with many: near ends that begin at the same time")
        if self.step.test not in ("tcp", "udp"):
            raise ValueError(f"together is of tcp and udp, not of {self.step.test}")
        if self.step.repeats not in (None, 1):
            raise ValueError("near ends together begin once: leave repeats out, and have the round come more often")
        return self

    @property
    def cron(self) -> str:
        """When it is due, as cron writes it."""
        return cron_expression(self.at)

    @property
    def quiet_hours(self) -> list[tuple[time, time]]:
        return [parse_hours(text) for text in self.quiet]

    @property
    def expected_s(self) -> float:
        """How long one test should take, with its repeats."""
        return self.repeats * ((self.step.example.expected_s or 0.0) + _AROUND_A_TEST_S)

    @property
    def repeats(self) -> int:
        return self.step.repeats or 1

    @property
    def longest_s(self) -> float:
        """After how long a test is broken off."""
        return self.max_duration or _PATIENCE * self.expected_s + _MORE_PATIENCE_S

    def criteria_of(self, series: str) -> list[Criterion]:
        """The criteria as they are held against a series."""
        return [one.build(series) for one in self.criteria]


class AlarmKeys(Model):
    """Who is told, by a `command` that gets JSON on its standard input or by an HTTP `post`, of what: a changed
    verdict, a failure, a change of level. A verdict or a failure counts once so many tests `in_a_row` said it. `rounds`
    narrow it down."""

    on: Annotated[list[Literal["verdict", "failure", "change"]], Field(min_length=1)] = ["verdict", "failure", "change"]
    command: str | None = None
    post: Annotated[str, Field(pattern=r"^https?://", max_length=2000)] | None = None
    in_a_row: Annotated[int, Field(ge=1, le=100)] = 2
    rounds: list[SiteName] = []

    @model_validator(mode="after")
    def _one_way_of_telling(self) -> "AlarmKeys":
        if (self.command is None) == (self.post is None):
            raise ValueError("an alarm needs either a command or an address to post to")
        return self


class SiteFile(Model):
    """A site: its stations, links and rounds, who is told of what, and the zone of its clock."""

    format: Literal["harvok-site"]
    version: Literal[1]
    name: SiteName
    zone: str = "UTC"
    stations: Annotated[list[StationKeys], Field(min_length=1, max_length=1000)]
    links: list[LinkKeys] = []
    rounds: Annotated[list[RoundKeys], Field(min_length=1, max_length=1000)]
    alarms: list[AlarmKeys] = []

    @field_validator("zone")
    @classmethod
    def _known_zone(cls, name: str) -> str:
        try:
            ZoneInfo(name)
        except (ZoneInfoNotFoundError, ValueError, OSError) as error:
            raise ValueError(f"'{name}' is no time zone: write it as Europe/Berlin, or UTC") from error
        return name

    @model_validator(mode="after")
    def _names_are_known(self) -> "SiteFile":
        names = [*(station.name for station in self.stations), *(link.name for link in self.links)]
        groups = {group for station in self.stations for group in station.groups}
        twice = {name for name in names if names.count(name) > 1 or name in groups or name == HERE}
        if twice:
            raise ValueError(f"'{min(twice)}' is the name of two things, or of the coordinator itself")
        rounds = [one.name for one in self.rounds]
        if len(set(rounds)) < len(rounds):
            raise ValueError(f"two rounds are called {min(name for name in rounds if rounds.count(name) > 1)}")
        known = {station.name for station in self.stations} | groups
        for alarm in self.alarms:
            missing = next((name for name in alarm.rounds if name not in rounds), None)
            if missing:
                raise ValueError(f"an alarm is of round '{missing}', which there is not")
        for link in self.links:
            self._check_known(f"link {link.name}", link.behind, known)
        for one in self.rounds:
            pairs = [pair.split(_PAIR) for pair in one.between]
            near = [*(end for end, _ in pairs), *one.many]
            far = [*(end for _, end in pairs), *one.mesh, *([one.to] if one.to else [])]
            self._check_known(f"round {one.name}", near, known | {HERE})
            self._check_known(f"round {one.name}", far, known)
            if not list(self.groups_of(one)):
                raise ValueError(f"round {one.name} joins no two different stations")
            if one.step.place == "rig":
                self._check_frames(one)
        return self

    def _check_known(self, where: str, names: list[str], known: set[str]) -> None:
        for name in names:
            if name not in known:
                raise ValueError(f"{where}: there is no station and no group '{name}'")

    def _check_frames(self, one: RoundKeys) -> None:
        """Raises ValueError for ends of a test of frames that lend no port, or between which no speed is rated."""
        for (near, *_), far in self.groups_of(one):
            for name in (near, far):
                if name == HERE or not self.station(name).frame_port:
                    raise ValueError(f"round {one.name}: {name} has no frame_port, which a test of frames needs")
            if not self.rated_of(near, far):
                raise ValueError(
                    f"round {one.name}: a test of frames needs a rated speed: name the link between {near} and {far}, "
                    "with rated"
                )

    def station(self, name: str) -> StationKeys:
        """The station of a name that is one."""
        return next(one for one in self.stations if one.name == name)

    def round(self, name: str) -> RoundKeys:
        """The round of a name that is one."""
        return next(one for one in self.rounds if one.name == name)

    def series(self, round_name: str, near: str, far: str) -> str:
        """What the runs of a pair in a round are called."""
        return f"{self.name}.{round_name}.{near}.{far}"

    def rated_of(self, near: str, far: str) -> float | None:
        """What the slowest shared link between two stations is rated for, in b/s; None where nobody says."""
        return min((link.rated for link in self.links_between(near, far) if link.rated), default=None)

    @property
    def clock(self) -> ZoneInfo:
        return ZoneInfo(self.zone)

    def members(self, name: str) -> list[str]:
        """The stations that a name stands for: one, or those of a group."""
        if name == HERE or any(station.name == name for station in self.stations):
            return [name]
        return [station.name for station in self.stations if name in station.groups]

    def groups_of(self, one: RoundKeys) -> Iterator[tuple[tuple[str, ...], str]]:
        """Who is tested with whom in a round: near ends that begin together, and their far end."""
        pairs = dict.fromkeys(self._pairs_of(one))
        if not one.together:
            yield from (((near,), far) for near, far in pairs)
            return
        for far in dict.fromkeys(far for _, far in pairs):
            yield tuple(near for near, other in pairs if other == far), far

    def _pairs_of(self, one: RoundKeys) -> Iterator[tuple[str, str]]:
        for pair in one.between:
            near, far = pair.split(_PAIR)
            yield from self._across([near], [far])
        if one.mesh:
            everybody = list(dict.fromkeys(member for name in one.mesh for member in self.members(name)))
            one_way = getattr(one.step, "direction", "each") in ("send", "receive")
            yield from (permutations if one_way else combinations)(everybody, 2)
        if one.to:
            yield from self._across(one.many, [one.to])

    def _across(self, near: list[str], far: list[str]) -> Iterator[tuple[str, str]]:
        for here in (member for name in near for member in self.members(name)):
            for there in (member for name in far for member in self.members(name)):
                if here != there:
                    yield here, there

    def needs(self, near: tuple[str, ...], far: str) -> frozenset[str]:
        """What a test between these ends takes for itself: both ends, and the links between them."""
        return frozenset({*near, far, *(link.name for end in near for link in self.links_between(end, far))})

    def links_between(self, near: str, far: str) -> Iterator[LinkKeys]:
        """The shared links that a test crosses: those that one of its ends is behind, and the other is not."""
        for link in self.links:
            behind = {member for name in link.behind for member in self.members(name)}
            if (near in behind) != (far in behind):
                yield link


SITE_FILE: TypeAdapter[SiteFile] = TypeAdapter(SiteFile)
