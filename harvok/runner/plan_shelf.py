"""Plans that are at hand: those in folders of this user and of others, with what came of each."""

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from difflib import get_close_matches
from pathlib import Path

from harvok.errors import HarvokError, PlanError
from harvok.logbook.store import Logbook
from harvok.runner.plan_files import PlanFile, read_plan

PLANS_VARIABLE = "HARVOK_PLANS"
_MAX_BYTES = 1_000_000


@dataclass(frozen=True, slots=True)
class ShelvedPlan:
    """A plan at hand: its name, what it is about, its file, between what it measures, how often it was judged, and when
    and how the last time. `fault` says why it cannot be run as it is."""

    name: str
    about: str
    file: str
    between: str
    times_judged: int = 0
    last_judged: datetime | None = None
    last_verdict: str = ""
    fault: str = ""


def plan_folders(shared: Sequence[Path] = ()) -> list[Path]:
    """Where plans are looked for: here, in this user's own folder, in those of HARVOK_PLANS, and in `shared` ones."""
    from platformdirs import user_data_path

    named = [Path(text) for text in os.environ.get(PLANS_VARIABLE, "").split(os.pathsep) if text]
    return list(dict.fromkeys([Path(), Path(user_data_path("harvok")) / "plans", *named, *shared]))


def shelved_plans(folders: Sequence[Path], logbook: Logbook) -> list[ShelvedPlan]:
    """The plans of some folders, those first that were used most often. Raises LogbookError."""
    judged = logbook.judged()
    found = [_shelved(path, judged) for path in _plan_files(folders)]
    return sorted(found, key=lambda plan: (-plan.times_judged, plan.name, plan.file))


def named_plans(folders: Sequence[Path]) -> dict[str, Path]:
    """The plans of some folders by their names; one that cannot be read by that of its file, so that its own fault is
    told."""
    named: dict[str, Path] = {}
    for path in _plan_files(folders):
        try:
            named.setdefault(read_plan(path).plan.name, path)
        except HarvokError:
            named.setdefault(path.stem, path)
    return named


def find_plan(name: str, folders: Sequence[Path]) -> Path:
    """The file of the plan that has a name. Raises PlanError."""
    named = named_plans(folders)
    if name in named:
        return named[name]
    near = get_close_matches(name, named, 1)
    hint = f"Did you mean {near[0]}? " if near else ""
    raise PlanError(
        f"there is neither a file nor a plan '{name}'",
        f"{hint}`harvok plan list` shows the plans at hand; `harvok plan new` writes one.",
    )


def _plan_files(folders: Sequence[Path]) -> Iterator[Path]:
    """The files that are plans, or were meant to be."""
    seen = set()
    for folder in folders:
        for path in sorted(folder.glob("*.toml")) if folder.is_dir() else ():
            if path.resolve() not in seen and _looks_like_a_plan(path):
                seen.add(path.resolve())
                yield path


def _looks_like_a_plan(path: Path) -> bool:
    try:
        return path.stat().st_size <= _MAX_BYTES and "[[steps]]" in path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return False


def _shelved(path: Path, judged: Sequence[tuple[str, datetime, str]]) -> ShelvedPlan:
    try:
        file = read_plan(path)
    except HarvokError as error:
        return ShelvedPlan(path.stem, "", str(path), "", fault=error.message)
    name = file.plan.name
    own = [(at, verdict) for run_as, at, verdict in judged if run_as == name or run_as.startswith(f"{name}-")]
    last_at, last = max(own, default=(None, ""))
    return ShelvedPlan(name, file.plan.about, str(path), _between(file), len(own), last_at, last)


def _between(file: PlanFile) -> str:
    places = [f"rig {file.rig.name}"] if file.rig else []
    return ", ".join([*places, *([f"station {file.plan.station}"] if file.plan.station else [])])
