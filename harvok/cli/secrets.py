"""Secrets do not belong on a command line, where every user of the host can read them, and which records keep."""

from collections.abc import Sequence

from harvok.errors import UsageError
from harvok.logbook.places import has_password

_FILES = {"--token": "HARVOK_TOKEN", "--stamp-key": "HARVOK_STAMP_KEY"}


def refuse_secrets(words: Sequence[str]) -> None:
    """Raises UsageError where a secret was typed as part of a command, and says where it belongs."""
    for word in words:
        option = word.partition("=")[0]
        if option in _FILES:
            raise UsageError(
                f"{option} on the command line can be read by every user of this host",
                f"Put it into the environment variable {_FILES[option]}, or into a file: {option}-file FILE.",
            )
        if has_password(word):
            raise UsageError(
                "the password in a database URL on the command line can be read by every user of this host",
                "Put the URL into the environment variable HARVOK_LOGBOOK, or the password where the database's own "
                "library looks for it (PGPASSFILE).",
            )
