"""A record in the logbook is its head and its trials, so that whoever looks through many runs reads no trials."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from harvok.core.models.run import RunRecord


def head_of(record: "RunRecord") -> str:
    """A record without its trials, as JSON."""
    return record.model_dump_json(exclude={"trials"})


def trials_of(record: "RunRecord") -> list[str]:
    """Each trial of a record, as JSON."""
    return [trial.model_dump_json() for trial in record.trials]


def whole(head: str, trials: Sequence[str]) -> str:
    """The JSON of a record from its head and its trials. Raises ValueError for what is no head."""
    if not head.endswith("}"):
        raise ValueError("a record breaks off")
    return f'{head[:-1]},"trials":[{",".join(trials)}]}}'
