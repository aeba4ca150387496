"""The pairing code: what a person carries from one end of a test to the other, so that each end is who it says it is.

The first 80 bits of SHA-256 over a certificate (DER), as four groups of four letters and digits (RFC 4648 §6). To make
another certificate with the same code takes 2^80 tries.
"""

import base64
import hashlib

from harvok.errors import UsageError

_BYTES, _GROUP = 10, 4
_LOOK_ALIKE = str.maketrans("018", "OIB")  # which the code never has


def pairing_code(certificate: bytes) -> str:
    """The code of a certificate in DER: ABCD-EFGH-IJKL-MNOP."""
    text = base64.b32encode(hashlib.sha256(certificate).digest()[:_BYTES]).decode()
    return "-".join(text[at : at + _GROUP] for at in range(0, len(text), _GROUP))


def read_pairing_code(text: str) -> str:
    """A code as somebody typed it, in the form of `pairing_code`. Raises UsageError."""
    letters = "".join(c for c in text.upper() if c.isalnum()).translate(_LOOK_ALIKE)
    try:
        whole = len(base64.b32decode(letters)) == _BYTES
    except ValueError:
        whole = False
    if not whole:
        raise UsageError(
            f"'{text}' is not a pairing code",
            "It has four groups of four letters and digits, such as ABCD-EFGH-IJKL-MNOP.",
        )
    return "-".join(letters[at : at + _GROUP] for at in range(0, len(letters), _GROUP))


def signed_text(station_code: str, session: str, errand: str) -> bytes:
    """What the host that asks signs: its errand, for this session of the station with this pairing code, so that no
    station can hand it on to another."""
    return "\n".join(("harvok errand", station_code, session, errand)).encode()
