"""A site as a TOML file describes it: stations, links that they share, and rounds of tests. docs/sites.md has every
key."""

from collections.abc import Iterator
from datetime import time
from itertools import combinations, permutations
from typing import Annotated, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Duration, Model, Rate, checked_by
from harvok.core.models.plan import AnyStep
from harvok.core.site.calendar import cron_expression, parse_hours

HERE = "here"
"""The end that coordinates: a near end without a station."""
SiteName = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,31}$")]
_PAIR = " > "
_USUAL_LATE_S = 1800.0
_AROUND_A_TEST_S = 5.0
"""Connecting, starting, letting go, writing down."""


class StationKeys(Model):
    """A station: where it is, and which groups it is one of."""

    name: SiteName
    address: Annotated[str, Field(min_length=1, max_length=255)]
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
    step: AnyStep

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
        if self.together and not self.many:
            raise ValueError("together goes with many: near ends that begin at the same time")
        if self.step.place != "station":
            raise ValueError(f"a test of {self.step.test} is of a rig: rounds are between stations")
        if self.step.over:
            raise ValueError("a sweep has a baseline of its own, and is no round")
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
        """How long one test should take."""
        return (self.step.example.expected_s or 0.0) + _AROUND_A_TEST_S


class SiteFile(Model):
    """A site: its stations, links and rounds, and the zone of its clock."""

    format: Literal["harvok-site"]
    version: Literal[1]
    name: SiteName
    zone: str = "UTC"
    stations: Annotated[list[StationKeys], Field(min_length=1, max_length=1000)]
    links: list[LinkKeys] = []
    rounds: Annotated[list[RoundKeys], Field(min_length=1, max_length=1000)]

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
        for link in self.links:
            self._check_known(f"link {link.name}", link.behind, known)
        for one in self.rounds:
            ends = [end for pair in one.between for end in pair.split(_PAIR)]
            near = {HERE} if not one.mesh else set()
            self._check_known(f"round {one.name}", [*ends, *one.mesh, *one.many], known | near)
            self._check_known(f"round {one.name}", [one.to] if one.to else [], known)
            if not list(self.groups_of(one)):
                raise ValueError(f"round {one.name} joins no two different stations")
        return self

    def _check_known(self, where: str, names: list[str], known: set[str]) -> None:
        for name in names:
            if name not in known:
                raise ValueError(f"{where}: there is no station and no group '{name}'")

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
