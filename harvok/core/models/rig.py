"""A rig as a TOML file describes it. docs/rig-files.md explains every key."""

from collections.abc import Callable
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field

from harvok.core.models.conditions import Model
from harvok.core.units import parse_duration_s, parse_rate_bps, parse_size_bytes
from harvok.errors import BadQuantityError


def _reads(parse: Callable[[str], float]) -> BeforeValidator:
    """Reads a quantity that is written with its unit; a bare number stays what it is and is refused later."""

    def read(value: object) -> object:
        if not isinstance(value, str):
            return value
        try:
            return parse(value)
        except BadQuantityError as error:
            raise ValueError(error.message) from error

    return BeforeValidator(read)


def _ratio(text: str) -> float:
    """A share: 0.01, or 1 %."""
    number = text.strip()
    try:
        return float(number.removesuffix("%")) / (100 if number.endswith("%") else 1)
    except ValueError:
        raise BadQuantityError(f"'{text}' is not a share such as 0.01 or 1%", "Give a share.") from None


Rate = Annotated[float, _reads(parse_rate_bps), Field(gt=0)]
Size = Annotated[float, _reads(parse_size_bytes), Field(ge=0)]
Duration = Annotated[float, _reads(parse_duration_s), Field(ge=0)]
Share = Annotated[float, _reads(_ratio), Field(ge=0, le=1)]


class SimulatedDevice(Model):
    """What a simulated device can do; what is left out has no limit, or does not happen."""

    forwarding_fps: Annotated[float, Field(ge=0)] | None = None
    forwarding: Rate | None = None
    buffer_frames: Annotated[float, Field(ge=0)] | None = None
    buffer: Size | None = None
    latency: Duration = 0.0
    jitter: Duration = 0.0
    store_and_forward: bool = True
    loss: Share = 0.0
    reordering: Share = 0.0
    duplication: Share = 0.0
    loss_burst_every: Annotated[Duration, Field(gt=0)] | None = None
    loss_burst: Duration = 0.0
    hot_after: Duration | None = None
    hot_share: Share = 1.0
    reset: Duration = 0.0


class SimulatedRig(Model):
    """A modelled device between two tester ports of the rated speed, in virtual time."""

    version: Literal[1]
    kind: Literal["simulated"]
    name: Annotated[str, Field(min_length=1, max_length=100)]
    rated: Rate
    seed: int = 1
    device: SimulatedDevice = SimulatedDevice()


RigFile = SimulatedRig
