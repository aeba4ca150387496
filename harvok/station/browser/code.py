"""The code that admits to a station's page, and the address that carries it."""

import hashlib
from dataclasses import dataclass

from harvok.core.bounds import UNLIKE_LETTERS
from harvok.traffic.sockets import format_address

_CODE_GROUPS = 3  # of four letters: 59 bits


@dataclass(frozen=True, slots=True)
class PageSettings:
    """At which port the page is, and the code that admits to it."""

    port: int
    code: str


def code_of(token: str) -> str:
    """The code that goes with a station's token: the same for as long as that is, and the token cannot be found from
    it."""
    number = int.from_bytes(hashlib.sha256(b"harvok-page " + token.encode()).digest())
    letters = []
    for _ in range(4 * _CODE_GROUPS):
        number, place = divmod(number, len(UNLIKE_LETTERS))
        letters.append(UNLIKE_LETTERS[place])
    text = "".join(letters)
    return "-".join(text[at : at + 4] for at in range(0, len(text), 4))


def page_address(host: str, settings: PageSettings) -> str:
    """What to open in a browser. The code stands behind the #, which no browser sends anywhere."""
    return f"http://{format_address((host, settings.port))}/#{settings.code}"
