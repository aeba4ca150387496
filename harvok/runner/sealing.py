"""Seals reports with this user's key, and says of a report whether it still holds."""

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from harvok.errors import HarvokError
from harvok.reports.document import Report
from harvok.reports.seal import Seal, new_key, public_part, put_seal, read_seal
from harvok.reports.written import what_it_rests_on
from harvok.runner.plan_files import read_plan
from harvok.runner.plans import PlanRequest
from harvok.runner.reports import Signature, report_of_plan, report_of_runs, verify
from harvok.station.keys import own_keys

_KEY = "report-key.pem"


@dataclass(frozen=True, slots=True)
class MadeOf:
    """What a report was made of: names in the logbook, the file of a plan, conditions that were changed on purpose."""

    names: list[str]
    plan: str = ""
    changed: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Held:
    """One thing that was looked at: whether it holds, None where that cannot be told, and what to say of it."""

    holds: bool | None
    words: str


def key_file() -> Path:
    """Where this user's report key is, if there is one."""
    return own_keys().folder / _KEY


def make_key() -> tuple[Path, str, bool]:
    """This user's report key, made where there is none: its file, its public half, and whether it is new."""
    path, is_new = key_file(), not key_file().exists()
    if is_new:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.write(new_key())
    return path, public_part(path.read_bytes()), is_new


def seal(report: Report, path: Path, made_of: MadeOf) -> str:
    """Seals a report that was just written; returns the public half of the key that signed it, "" where none did."""
    key = key_file().read_bytes() if key_file().exists() else None
    plan = Path(made_of.plan).name  # without its folder, which is nobody's business
    whole = Seal("", report.digest, report.runs, report.verdict or "", made_of.names, plan, list(made_of.changed))
    put_seal(path, whole, key)
    return public_part(key) if key else ""


def held(path: Path, logbook: str, expected_key: str = "") -> Iterator[Held]:
    """What still holds of a report. Raises UsageError for what cannot be read."""
    read = read_seal(path)
    if read is None:
        return _held_unsealed(*what_it_rests_on(path), logbook, expected_key)
    return _held(*read, path.parent, logbook, expected_key)


def _held_unsealed(runs: Sequence[str], digest: str, logbook: str, expected_key: str) -> Iterator[Held]:
    """Of a report that an earlier version wrote."""
    yield Held(False if expected_key else None, "it has no seal: nothing says whether its text was altered")
    unchanged = verify(logbook, runs, digest)
    words = "unchanged: the logbook has" if unchanged else "CHANGED: the logbook no longer has"
    yield Held(unchanged, f"{words} all {len(runs)} records as the report names them")


def _held(seal: Seal, text_holds: bool, folder: Path, logbook: str, expected_key: str) -> Iterator[Held]:
    yield Held(text_holds, "the text is the one that was sealed" if text_holds else "the text was ALTERED since")
    yield _signature(seal, expected_key)
    try:
        unchanged = verify(logbook, seal.runs, seal.records)
    except HarvokError as error:
        yield Held(False, f"the logbook no longer has its records: {error.message}")
        return
    count = len(seal.runs)
    yield Held(
        unchanged,
        f"unchanged: the logbook has all {count} records as the report names them"
        if unchanged
        else f"CHANGED: the {count} records in the logbook are not those that the report was made from",
    )
    if unchanged:
        yield _judged_again(seal, folder, logbook)


def _signature(seal: Seal, expected_key: str) -> Held:
    if not seal.key:
        words = "it is not signed: whoever altered it can seal it anew; `harvok report key` makes a key for the next"
        return Held(False if expected_key else None, words)
    if not seal.has_its_signature:
        return Held(False, "the signature is WRONG: the seal was altered")
    own = public_part(key_file().read_bytes()) if key_file().exists() else ""
    if expected_key and seal.key != expected_key.replace(" ", "").lower():
        return Held(False, f"signed by ANOTHER key than the one expected: {seal.key}")
    whose = "this user's own" if seal.key == own else "compare it with what its operator gave you"
    return Held(True, f"signed by the key {seal.key} ({whose if not expected_key else 'the one expected'})")


def _judged_again(seal: Seal, folder: Path, logbook: str) -> Held:
    """By the plan of the same file name here, or beside the report."""
    try:
        if seal.plan:
            here, beside = Path(Path(seal.plan).name), folder / Path(seal.plan).name
            plan = read_plan(here if here.exists() else beside)
            request = PlanRequest(plan, seal.names[0], {}, logbook, [])
            verdict = report_of_plan(request, Signature()).verdict
        else:
            verdict = report_of_runs(logbook, seal.names, seal.changed, Signature()).verdict
    except (HarvokError, IndexError) as error:
        return Held(None, f"it cannot be judged again: {error}")
    now, then = verdict or "no verdict", seal.verdict or "no verdict"
    return Held(now == then, f"judged again: {now}, " + ("as before" if now == then else f"and it was {then}"))
