"""Where a logbook is, as people may read it: a path, or a database URL without its password."""

import re

_PASSWORD = re.compile(
    r"(?P<before>[a-z0-9+]+://[^/\s:@]*:|[?&](?:password|passfile|sslpassword)=)[^/\s@&]+", re.IGNORECASE
)


def has_password(text: str) -> bool:
    """Whether a database URL with its password is in a text."""
    return "://" in text and any("@" in text[found.start() :] or "=" in found[0] for found in _PASSWORD.finditer(text))


def without_password(text: str) -> str:
    """The same text with every password of a URL left out."""
    return _PASSWORD.sub(r"\g<before>…", text) if has_password(text) else text
