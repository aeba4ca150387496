"""A mix of applications as a TOML file. docs/mixes.md explains every key."""

from collections.abc import Sequence
from statistics import NormalDist
from typing import Annotated, Literal

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Duration, Model, Size, named_once, read_by
from harvok.core.trials.app import MAX_BODY_BYTES, Action, Application, AppMix, AppProtocol, SharedBy
from harvok.core.wire.media import MAX_MEDIA_BYTES, MIN_MEDIA_BYTES

DRAWS = 64
"""How many values stand for a distribution. They are its quantiles, so that every 64 transactions have its mean and its
spread, in an order that looks random and is the same in every run."""
_STRIDE = 39
"""Nearest to the golden section of 64 among the numbers without a factor in common with it."""

_P90 = NormalDist().inv_cdf(0.9)
_DECIMALS = 6
"""Microseconds, and more than enough for bytes."""
_NAME = r"^[\w .:/+-]+$"
MixName = Annotated[str, Field(min_length=1, max_length=60, pattern=_NAME)]


class SizeSpread(Model):
    """Sizes of a log-normal distribution: half are below `median`, nine tenths below `p90`, none above `max`."""

    median: Annotated[Size, Field(ge=1)]
    p90: Annotated[Size, Field(ge=1)]
    maximum: Annotated[Size, Field(alias="max", ge=1, le=MAX_BODY_BYTES)]


class TimeSpread(Model):
    """Times of a log-normal distribution, alike."""

    median: Annotated[Duration, Field(gt=0)]
    p90: Annotated[Duration, Field(gt=0)]
    maximum: Annotated[Duration, Field(alias="max", gt=0, le=3600)]


_ASize = Annotated[Size, Field(le=MAX_BODY_BYTES)]
_ATime = Annotated[Duration, Field(le=3600)]
Sizes = _ASize | Annotated[list[_ASize], Field(min_length=1, max_length=1024)] | SizeSpread
PausesOrTimes = _ATime | Annotated[list[_ATime], Field(min_length=1, max_length=1024)] | TimeSpread


def drawn(spec: float | Sequence[float] | SizeSpread | TimeSpread, seed: int = 0) -> tuple[float, ...]:
    """The values of a spec, in the order in which they are taken; `seed` says where that begins."""
    if isinstance(spec, (int, float)):
        return (float(spec),)
    if not isinstance(spec, (SizeSpread, TimeSpread)):
        return tuple(spec)
    normal = NormalDist()
    growth = (spec.p90 / spec.median) ** (1 / _P90)
    quantiles = [
        round(min(spec.median * growth ** normal.inv_cdf((number + 0.5) / DRAWS), spec.maximum), _DECIMALS)
        for number in range(DRAWS)
    ]
    return tuple(quantiles[(seed + number) * _STRIDE % DRAWS] for number in range(DRAWS))


def _whole(values: tuple[float, ...]) -> tuple[int, ...]:
    return tuple(round(value) for value in values)


class MixAction(Model):
    """One thing that a user does; sizes are those of bodies."""

    name: MixName
    request: Sizes = 0.0
    response: Sizes
    times: Annotated[int, Field(ge=1, le=1000)] = 1
    think: PausesOrTimes = 0.0
    service_time: PausesOrTimes = 0.0
    packets: Annotated[float, Field(gt=0, le=10_000)] | None = None
    lasts: Annotated[Duration, Field(gt=0, le=3600)] | None = None

    def build(self, seed: int) -> Action:
        """The action as trials have it."""
        return Action(
            self.name,
            _whole(drawn(self.response, seed)),
            _whole(drawn(self.request, seed)),
            drawn(self.think, seed),
            drawn(self.service_time, seed),
            self.times,
            self.packets or 0.0,
            self.lasts or 0.0,
        )


class MixApplication(Model):
    """What users of one kind do, over and over."""

    name: MixName
    about: str = ""
    weight: Annotated[float, Field(gt=0, le=1e6)] = 1.0
    protocol: AppProtocol = "http/1.1"
    transactions_per_connection: Annotated[int, Field(ge=0, le=10**9)] = 0
    connections: Annotated[int, Field(ge=1, le=64)] = 1
    tls: bool = False
    actions: Annotated[list[MixAction], Field(min_length=1, max_length=64)]

    @field_validator("actions")
    @classmethod
    def _names_differ(cls, actions: list[MixAction]) -> list[MixAction]:
        return named_once(actions, "actions")

    @model_validator(mode="after")
    def _every_answer_has_an_end(self) -> "MixApplication":
        """Raises ValueError for an exchange without an answer, which nobody could wait for."""
        for action in self.actions:
            if self.protocol == "tcp" and min(drawn(action.response)) < 1:
                raise ValueError(f"'{action.name}' answers nothing, which only http can: give it a response")
        return self

    @model_validator(mode="after")
    def _media_is_media(self) -> "MixApplication":
        """Raises ValueError for a media stream that lacks something, and for its keys elsewhere."""
        for action in self.actions:
            is_media = self.protocol == "udp"
            if is_media != (action.packets is not None and action.lasts is not None):
                raise ValueError(f"packets and lasts are for protocol udp, which needs both: see '{action.name}'")
            sizes = {*drawn(action.request), *drawn(action.response)} if is_media else {MIN_MEDIA_BYTES}
            if not all(MIN_MEDIA_BYTES <= size <= MAX_MEDIA_BYTES for size in sizes) or len(sizes) > 2:
                allowed = f"{MIN_MEDIA_BYTES} to {MAX_MEDIA_BYTES} B"
                raise ValueError(f"datagrams of '{action.name}' need one size each way, {allowed}")
            if is_media and (self.tls or max(drawn(action.service_time))):
                raise ValueError(f"'{action.name}' is a media stream, which has neither TLS nor a service time")
        return self

    def build(self, seed: int) -> Application:
        """The application as trials have it."""
        return Application(
            self.name,
            self.weight,
            tuple(action.build(seed + number) for number, action in enumerate(self.actions)),
            self.protocol,
            self.transactions_per_connection,
            self.connections,
            self.tls,
        )


class MixFile(Model):
    """A whole mix."""

    format: Literal["harvok-mix"]
    version: Literal[1]
    name: MixName
    about: str = ""
    shared_by: SharedBy = "users"
    seed: Annotated[int, Field(ge=0, le=2**31)] = 0
    applications: Annotated[list[MixApplication], Field(min_length=1, max_length=64)]

    @field_validator("applications")
    @classmethod
    def _names_differ(cls, applications: list[MixApplication]) -> list[MixApplication]:
        return named_once(applications, "applications")

    def build(self) -> AppMix:
        """The mix as trials have it."""
        applications = tuple(one.build(self.seed + 8 * number) for number, one in enumerate(self.applications))
        return AppMix(self.name, applications, self.shared_by)


MIXES = "read_mix"
"""In the context in which a file is read: reads the mix that it names."""


NamedMix = Annotated[MixFile, read_by(MIXES)]
"""A mix that a file names, and that a record has whole, so that next year it is the same."""


MIX_FILE: TypeAdapter[MixFile] = TypeAdapter(MixFile)
