"""What the fields of files and records are read with: quantities with their units, and the base of all models."""

from collections.abc import Callable, Mapping
from typing import Annotated, Any, Protocol, TypeVar

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, ValidationInfo

from harvok.core.units import parse_duration_s, parse_rate_bps, parse_size_bytes
from harvok.errors import BadQuantityError, UsageError


class Model(BaseModel):
    """Base of all models: unknown keys are an error, so that a typo or a newer format never passes unseen, and so is a
    number that is not finite. A model is built when it is first used: of a hundred, a command needs a few, and the
    others would be a fifth of its start."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, defer_build=True, allow_inf_nan=False)


WRITTEN: dict[str, Any] = {"written": True}
"""The context in which files are read that people write: there every rate, size and time has its unit, so that nobody
has to guess whether 10 was meant to be seconds. Records, which programs write, hold bare numbers."""


def _reads(parse: Callable[[str], float], unit: str = "") -> BeforeValidator:
    """Reads a quantity that is written with its unit; `unit` is an example of one that may not be left out."""

    def read(value: object, info: ValidationInfo) -> object:
        if not isinstance(value, str):
            if unit and (info.context or {}).get("written") and value and isinstance(value, (int, float)):
                raise ValueError(f'{value} has no unit; write it with one, such as "{value}{unit}"')
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


Rate = Annotated[float, _reads(parse_rate_bps, "M"), Field(gt=0)]
Size = Annotated[float, _reads(parse_size_bytes, "B"), Field(ge=0)]
Duration = Annotated[float, _reads(parse_duration_s, "s"), Field(ge=0)]
Share = Annotated[float, _reads(_ratio), Field(ge=0, le=1)]


def with_new_names(values: Any, names: Mapping[str, str]) -> Any:
    """A table of a file in which keys of earlier versions, `names` by their new ones, are read as if they were new."""
    if not isinstance(values, dict):
        return values
    return {names.get(key, key): value for key, value in values.items()}


class _Named(Protocol):
    name: str


NamedT = TypeVar("NamedT", bound=_Named)


def named_once(ones: list[NamedT], what: str) -> list[NamedT]:
    """The same, no two of which have one name. Raises ValueError."""
    names = [one.name for one in ones]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice:
        raise ValueError(f"has two {what} named '{twice}'")
    return ones


def read_by(reader: str) -> BeforeValidator:
    """Reads what a text names with the function that the context has under `reader`, so that records hold it whole;
    where there is none, and for anything but a text, what is given stays as it is. Raises ValueError for what cannot be
    read."""

    def read(given: object, info: ValidationInfo) -> object:
        function = (info.context or {}).get(reader)
        if not isinstance(given, str) or function is None:
            return given
        try:
            return function(given)
        except UsageError as error:
            raise ValueError(error.message) from error

    return BeforeValidator(read)


def checked_by(check: Callable[[Any], object]) -> AfterValidator:
    """Refuses what a function refuses that raises UsageError, in its words."""

    def checked(given: Any) -> Any:
        try:
            check(given)
        except UsageError as error:
            raise ValueError(f"{error.message}. {error.hint}") from error
        return given

    return AfterValidator(checked)
