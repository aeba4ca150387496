"""What a report says, whatever it is written as: HTML, Markdown, CSV, JSON, JUnit XML."""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from harvok.core.judgement.finding import Finding, Verdict
from harvok.core.models.run import RunRecord


@dataclass(frozen=True, slots=True)
class Table:
    """A table with a title; every cell is text with its unit."""

    title: str
    header: list[str]
    rows: list[list[str]]


PictureKind = Literal["svg", "png"]


@dataclass(frozen=True, slots=True)
class Picture:
    """A plot and what it shows: SVG for a page, PNG for print."""

    title: str
    data: bytes


MAIN_PICTURES = 4
"""How many plots stand before the annex."""


@dataclass(frozen=True, slots=True)
class Report:
    """A whole report. `verdict` is None where nothing was to be judged; `records` are what it rests on.

    On its first page are `front` (the device, what was asked, by whom), what `decided`, `limiters` with their evidence,
    the drawing, and what was `untested`; then `comparison` tables; then the first `pictures`; all else is annex."""

    title: str
    made: datetime
    operator: str
    version: str
    records: list[RunRecord]
    verdict: Verdict | None = None
    findings: list[Finding] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    facts: list[tuple[str, str]] = field(default_factory=list)
    drawing: list[str] = field(default_factory=list)
    tables: list[Table] = field(default_factory=list)
    pictures: list[Picture] = field(default_factory=list)
    front: list[tuple[str, str]] = field(default_factory=list)
    decided: Table | None = None
    limiters: list[str] = field(default_factory=list)
    untested: list[str] = field(default_factory=list)
    notices: list[str] = field(default_factory=list)
    comparison: list[Table] = field(default_factory=list)

    @property
    def outcome(self) -> str:
        """The verdict in capitals, or that there is none."""
        return self.verdict or "NO VERDICT"

    @property
    def main_pictures(self) -> list[Picture]:
        """The plots that stand before the annex."""
        return self.pictures[:MAIN_PICTURES]

    @property
    def annex_pictures(self) -> list[Picture]:
        """All others."""
        return self.pictures[MAIN_PICTURES:]

    @property
    def reason(self) -> str:
        """The reason for the verdict in one line: the worst finding."""
        if not self.findings:
            broken = [record for record in self.records if record.state != "complete"]
            if broken and broken[0].fault:
                return f"run {broken[0].id} is {broken[0].state}: {broken[0].fault.message}"
            return "nothing was to be judged: no limit was set, and nothing to compare with was named"
        worst = self.findings[0]
        return f"{worst.where}: {worst.reason}" if worst.where else worst.reason

    @property
    def runs(self) -> list[str]:
        """The ids of all runs that it rests on."""
        return [record.id for record in self.records]

    @property
    def digest(self) -> str:
        """SHA-256 over all records, in order: what a later check is made against."""
        return digest_of(self.records)


def digest_of(records: Sequence[RunRecord]) -> str:
    """SHA-256 over records as JSON, one a line, in order; as hex."""
    text = "".join(record.model_dump_json() + "\n" for record in records)
    return hashlib.sha256(text.encode()).hexdigest()
