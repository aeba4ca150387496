"""A comparison as an open JSON document."""

import json

from pydantic import TypeAdapter

from harvok.core.judgement.compare import Comparison

_COMPARISON = TypeAdapter(Comparison)


def encode_comparison(found: Comparison) -> str:
    """The whole comparison with its verdict. An interval without bound is written as null."""
    document = _COMPARISON.dump_python(found, mode="json")
    head = {"format": "harvok-comparison", "version": 1, "verdict": found.verdict}
    return json.dumps(head | _finite(document), indent=2)


def _finite(value: object) -> "dict[str, object]":
    """The same document with every infinity replaced by null, which JSON has instead."""
    return json.loads(json.dumps(value), parse_constant=lambda _: None)  # type: ignore[no-any-return]
