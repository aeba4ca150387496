"""An impairment as a TOML file describes it. docs/impairments.md explains every key."""

from collections.abc import Mapping
from typing import Annotated, Literal

from pydantic import Field, TypeAdapter, ValidationError, model_validator

from harvok.core.fields import Duration, Model, Rate, Share, Size
from harvok.core.impairment import Impairment, ImpairmentPlan, Stage
from harvok.errors import ImpairmentError

_USUAL_BURST = 5.0


class Effects(Model):
    """What befalls one direction; what is left out does not happen."""

    delay: Duration = 0.0
    variation: Duration = 0.0
    spread: Literal["uniform", "normal", "recorded"] = "uniform"
    recorded: list[Duration] = []
    keep_order: bool = True
    loss: Share = 0.0
    burst_loss: Annotated[Share, Field(lt=1)] = 0.0
    burst_length: Annotated[float, Field(ge=1)] = _USUAL_BURST
    reordering: Share = 0.0
    reorder_by: Duration = 0.001
    duplication: Share = 0.0
    corruption: Share = 0.0
    rate: Rate | None = None
    queue: Size = 64 * 1024

    @model_validator(mode="after")
    def _makes_sense(self) -> "Effects":
        if self.spread == "recorded" and not self.recorded:
            raise ValueError('spread recorded needs the delays, in recorded = ["5ms", …]')
        if self.spread == "uniform" and self.variation > self.delay:
            raise ValueError("variation is larger than delay, and no frame can arrive before it was sent")
        return self

    def build(self) -> Impairment:
        """The impairment as the engine takes it."""
        return Impairment(
            delay_s=self.delay,
            variation_s=self.variation,
            spread=self.spread,
            recorded_s=tuple(self.recorded),
            keeps_order=self.keep_order,
            loss=self.loss,
            burst_loss=self.burst_loss,
            burst_frames=self.burst_length,
            reordering=self.reordering,
            reorder_by_s=self.reorder_by,
            duplication=self.duplication,
            corruption=self.corruption,
            rate_bps=self.rate,
            queue_bytes=self.queue,
        )


class _Both(Model):
    """Effects for both directions, or for each."""

    both: Effects | None = None
    send: Effects | None = None
    receive: Effects | None = None

    @model_validator(mode="after")
    def _one_way_of_saying_it(self) -> "_Both":
        if self.both and (self.send or self.receive):
            raise ValueError("give both, or send and receive, not all of them")
        return self

    def stage(self, at_s: float) -> Stage:
        """The stage that starts at a time."""
        both = self.both or Effects()
        return Stage(at_s, (self.send or both).build(), (self.receive or both).build())


class ScheduledEffects(_Both):
    """What holds from a moment on."""

    at: Annotated[Duration, Field(gt=0)]


class ImpairmentFile(_Both):
    """A whole file. `about` says where its figures come from."""

    version: Literal[1]
    name: Annotated[str, Field(min_length=1, max_length=60)]
    about: str = ""
    seed: Annotated[int, Field(ge=0)] = 1
    schedule: list[ScheduledEffects] = []

    @model_validator(mode="after")
    def _in_order(self) -> "ImpairmentFile":
        times = [one.at for one in self.schedule]
        if sorted(set(times)) != times:
            raise ValueError("the schedule is to stand in the order of its times, each of them once")
        return self

    def changed(self, changes: Mapping[str, float]) -> "ImpairmentFile":
        """The same with other figures, such as {"delay": 0.005, "send.loss": 0.01}; its schedule is left out.

        Raises ImpairmentError for figures that do not go together.
        """
        both = self.both or Effects()
        ways = {"send": self.send or both, "receive": self.receive or both}
        reported = {way: effects.model_dump() for way, effects in ways.items()}
        for name, value in changes.items():
            way, _, key = name.rpartition(".")
            for one in (way,) if way else ("send", "receive"):
                reported[one][key.replace("-", "_")] = value
        try:
            parts = {way: Effects.model_validate(effects) for way, effects in reported.items()}
        except ValidationError as error:
            why = error.errors()[0]["msg"].removeprefix("Value error, ")
            raise ImpairmentError(f"{', '.join(changes)} cannot be as asked: {why}", "Vary others, or less.") from error
        return self.model_copy(update={"both": None, "schedule": [], **parts})

    def plan(self) -> ImpairmentPlan:
        """What the engine carries out."""
        stages = (self.stage(0.0), *(one.stage(one.at) for one in self.schedule))
        return ImpairmentPlan(self.name, stages, self.seed)


class ImpairmentRecord(Model):
    """An impairment that a run went through: all of it, and what carried it out: Harvok's `bridge` between `ports`,
    the `kernel` where one of them sends, or the `model` of a simulated rig."""

    carried_out_by: Literal["bridge", "kernel", "model"]
    impairment: ImpairmentFile
    ports: list[str] = []


IMPAIRMENT_FILE: TypeAdapter[ImpairmentFile] = TypeAdapter(ImpairmentFile)
