"""Mixes by name or from a file."""

import re
from pathlib import Path

from harvok.core.app.mix import MIX_FILE, MixAction, MixApplication, MixFile
from harvok.errors import MixError
from harvok.rigs.files import read_text, read_toml

_SHIPPED = Path(__file__).with_name("mixes")
_ORDER = ("observatory", "web", "web-http2", "calls")
_OBJECTS = {"1k": 1_000, "2k": 2_000, "4k": 4_000, "16k": 16_000, "64k": 64_000, "256k": 256_000, "1M": 1_000_000}
"""RFC 9411 §7.2, §7.3: one object; those of 1 to 256 kB are the standard's."""
_OBJECT_NAME = re.compile(r"object-(\w+?)(-new)?(-tls)?")
_HINT = "`harvok mix list` shows those that ship; docs/mixes.md has every key of a file."


def shipped() -> list[MixFile]:
    """Every mix that comes with Harvok."""
    names = [f"object-{size}{way}{tls}" for size in _OBJECTS for way in ("", "-new") for tls in ("", "-tls")]
    return [read_mix(name) for name in (*_ORDER, *names)]


def read_mix(name_or_path: str) -> MixFile:
    """One that ships, by its name, or the one in a file. Raises MixError, naming line and key."""
    made = _of_one_object(name_or_path)
    if made:
        return made
    path = _path_of(name_or_path)
    return read_toml(path, MIX_FILE, "mix", _HINT, MixError)


def mix_text(name: str) -> str:
    """The text of one that ships in a file, to begin one's own with. Raises MixError."""
    if name not in _ORDER:
        raise MixError(f"no file ships for the mix '{name}'", f"Begin with {' or '.join(_ORDER)}.")
    return read_text(_path_of(name), "mix", _HINT, MixError)


def _path_of(name_or_path: str) -> Path:
    path = _SHIPPED / f"{name_or_path}.toml" if name_or_path in _ORDER else Path(name_or_path)
    if not path.exists():
        raise MixError(f"there is no mix and no file '{name_or_path}'", _HINT)
    return path


def _of_one_object(name: str) -> MixFile | None:
    """`object-16k` fetches one object over and over on a connection that stays, `object-16k-new` on a new one each; and
    with `-tls` after that over TLS."""
    match = _OBJECT_NAME.fullmatch(name)
    if not match or match[1] not in _OBJECTS:
        return None
    size, new, tls = match[1], bool(match[2]), bool(match[3])
    each = "a new connection each" if new else "on a connection that stays"
    application = MixApplication(
        name="object",
        transactions_per_connection=1 if new else 0,
        tls=tls,
        actions=[MixAction(name="fetch", response=_OBJECTS[size])],
    )
    about = f"One object of {size}B, {each}{', over TLS' if tls else ''}, without a pause"
    return MixFile(format="harvok-mix", version=1, name=name, about=about, applications=[application])
