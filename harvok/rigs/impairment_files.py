"""Impairments by name or from a file."""

from pathlib import Path

from harvok.core.models.impairment import IMPAIRMENT_FILE, ImpairmentFile
from harvok.errors import ImpairmentError
from harvok.rigs.files import read_toml

_SHIPPED = Path(__file__).with_name("impairments")
_ORDER = ("clean", "metro", "cross-country", "satellite", "lossy-lead", "congested-uplink")
_HINT = "`harvok impair list` shows those that ship; docs/impairments.md has every key of a file."


def shipped() -> list[ImpairmentFile]:
    """Every impairment that comes with Harvok."""
    return [read_impairment(name) for name in _ORDER]


def read_impairment(name_or_path: str) -> ImpairmentFile:
    """One that ships, by its name, or the one in a file. Raises ImpairmentError, naming line and key."""
    path = _SHIPPED / f"{name_or_path}.toml" if name_or_path in _ORDER else Path(name_or_path)
    if not path.exists():
        raise ImpairmentError(f"there is no impairment and no file '{name_or_path}'", _HINT)
    return read_toml(path, IMPAIRMENT_FILE, "impairment", _HINT, ImpairmentError)
