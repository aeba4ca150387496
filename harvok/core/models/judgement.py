"""What came of a plan as an open JSON document; docs/plans.md describes it."""

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from pydantic_core import to_json

from harvok.core.judgement.criteria import Judgement

FORMAT, VERSION = "harvok-judgement", 1


def encode_judgement(
    name: str,
    digests: Mapping[str, str],
    unit: Mapping[str, str],
    judgement: Judgement,
    runs: Mapping[str, list[str]],
) -> str:
    """A judgement as JSON: the verdict first, then its findings, and the ids of all runs by step.

    `digests` are those of what is measured and of how it is judged.
    """
    document: dict[str, Any] = {
        "format": FORMAT,
        "version": VERSION,
        "verdict": judgement.verdict,
        "name": name,
        **digests,
        "unit": dict(unit),
        "findings": [asdict(finding) for finding in judgement.findings],
        "remarks": judgement.remarks,
        "runs": {step: list(ids) for step, ids in runs.items()},
    }
    return to_json(document, indent=2).decode()
