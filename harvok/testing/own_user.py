"""Everything that Harvok keeps of a user, in a folder of a benchmark's own."""

from pathlib import Path

from harvok.host.state import STATE_FOLDER
from harvok.station.keys import KEYS_FOLDER, Keys

TOKEN = "spectro-lead"


def own_user(folder: Path) -> dict[str, str]:
    """The environment of a user who has a logbook, a key and a station's token there; the station is that user's."""
    keys = Keys(folder / "keys")
    return {
        "HARVOK_TOKEN": TOKEN,
        "HARVOK_CODE": keys.code,
        "HARVOK_LOGBOOK": str(folder / "book.sqlite"),
        KEYS_FOLDER: str(keys.folder),
        STATE_FOLDER: str(folder / "state"),
    }
