"""Frame sizes and mixes by name: a size in bytes, or a genome of RFC 6985 such as `aaaaaaafffg`."""

from collections.abc import Sequence
from typing import Literal

from harvok.core.ethernet import RFC2544_FRAME_SIZES, SMALLEST_FRAME_BYTES
from harvok.core.procedures.frames import FrameSize
from harvok.core.wire.frame import min_frame_bytes
from harvok.errors import UsageError

GENES = {"a": 64, "b": 128, "c": 256, "d": 512, "e": 1024, "f": 1280, "g": 1518, "h": 2112, "i": 9000, "j": 16000}
"""RFC 6985 §3: the letter of each frame size."""
LARGEST_FRAME_BYTES = 16000


def frame_size(text: str) -> FrameSize:
    """Reads a frame size in bytes, or a mix as a genome. Raises UsageError."""
    if text.isdigit() and SMALLEST_FRAME_BYTES <= int(text) <= LARGEST_FRAME_BYTES:
        return FrameSize(str(int(text)), (int(text),))
    if text.isalpha() and set(text) <= set(GENES):
        return FrameSize(text, tuple(GENES[letter] for letter in text))
    raise UsageError(
        f"'{text}' is neither a frame size of {SMALLEST_FRAME_BYTES} to {LARGEST_FRAME_BYTES} B nor a mix",
        "Give bytes, or a genome of RFC 6985 such as aaaaaaafffg (a 64, b 128, c 256, d 512, e 1024, f 1280, g 1518).",
    )


def frame_sizes(
    asked: Sequence[str], ip_version: Literal[4, 6] | None, usual: Sequence[int] = RFC2544_FRAME_SIZES
) -> tuple[FrameSize, ...]:
    """What was asked for, or the usual sizes; with IPv6 the smallest of those holds no test header, and is larger."""
    minimum = min_frame_bytes(ip_version)
    return tuple(frame_size(text) for text in asked or [str(max(size, minimum)) for size in usual])
