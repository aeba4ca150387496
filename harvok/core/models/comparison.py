"""A comparison as an open JSON document."""

import json
from collections.abc import Sequence

from pydantic import TypeAdapter

from harvok.core.judgement.compare import Comparison
from harvok.core.judgement.sample import Series

_COMPARISON = TypeAdapter(Comparison)


def encode_comparison(found: Comparison) -> str:
    """The whole comparison with its verdict. An interval without bound is written as null."""
    document = _finite(_COMPARISON.dump_python(found, mode="json", exclude={"before", "after"}))
    head: dict[str, object] = {"format": "harvok-comparison", "version": 1, "verdict": found.verdict}
    head |= {"before": _series(found.before), "after": _series(found.after)}
    return json.dumps(head | document, indent=2)


def encode_costs(name: str, costs: Sequence[Comparison]) -> str:
    """What features cost, each against the same baseline; without verdicts, for a cost is none."""
    rows = [{"features": one.after.name.removeprefix(f"{name}."), **_rows(one)} for one in costs]
    return json.dumps({"format": "harvok-feature-costs", "version": 1, "name": name, "costs": rows}, indent=2)


def _rows(found: Comparison) -> dict[str, object]:
    rows = _finite(_COMPARISON.dump_python(found, mode="json", include={"rows"}))
    return {"before": _series(found.before), "after": _series(found.after), **rows}


def _series(series: Series) -> dict[str, object]:
    """A series by name and run ids; the records themselves are in the logbook."""
    return {"name": series.name, "runs": [run.id for run in series.runs], "left_out": series.left_out}


def _finite(value: object) -> "dict[str, object]":
    """The same document with every infinity replaced by null, which JSON has instead."""
    return json.loads(json.dumps(value), parse_constant=lambda _: None)  # type: ignore[no-any-return]
