"""What the frame engine's worker processes are told and what they answer: JSON, one line each.

Plain dataclasses; a worker loads this file and little else.
"""

import json
from dataclasses import asdict, dataclass
from typing import Any, ClassVar

from harvok.core.wire.frame import FrameIp


@dataclass(frozen=True, slots=True)
class SendOrder:
    """Send the frames of each step (load in frames/s, frames, batch). One lap of the ring is `slots` frames; sizes and
    ends (hardware addresses in hex, IP addresses, ports) are taken in turn. The worker counts into row `row`, tells the
    receiver in the rows from `steps_row` on where each step after the first begins, and stays on core `cpu`."""

    kind: ClassVar[str] = "send"
    interface: str
    ip: FrameIp
    stream: int
    slots: int
    frame_sizes: list[int]
    ends: list[tuple[str, str, str, str, int, int]]
    steps: list[tuple[float, int, int]]
    row: int
    steps_row: int
    cpu: int | None


@dataclass(frozen=True, slots=True)
class SendReport:
    """What a sender did, in all and in each step (frames, ns). Times in ns; `late_p99_ns` is of batches."""

    kind: ClassVar[str] = "sent"
    sent: int
    steps: list[tuple[int, int]]
    sending_ns: int
    longest_stall_ns: int
    late_p99_ns: int
    held_back_ns: int


@dataclass(frozen=True, slots=True)
class ReceiveOrder:
    """Hear the frames of a stream until the row's stop cell is set.

    Numbers are lap × `slots` + slot; the ring has `blocks` blocks. Delays are of the first frame of each batch; `batch`
    is the largest of the `steps`. The content of one frame in `read_one_in` is checked. From each number of `tags` on,
    the first such frame is reported by itself. A frame that comes in on the sending port has run in a circle; "" is a
    port of another host. Delays are corrected by how far this host's clock is ahead of the sender's.
    """

    kind: ClassVar[str] = "receive"
    interface: str
    sending_interface: str
    ip: FrameIp
    stream: int
    frame_sizes: list[int]
    read_one_in: int
    slots: int
    batch: int
    blocks: int
    tags: list[int]
    steps: int
    row: int
    steps_row: int
    cpu: int | None
    clock_ahead_ns: int = 0


@dataclass(frozen=True, slots=True)
class ReceiveReport:
    """What a receiver heard, in all and of each step (frames, delays); delays in s. `last_lost` is of the numbers up to
    `highest`. What came in pieces, with another length or with another content is not received; content was read of one
    frame in `read_one_in`.
    """

    kind: ClassVar[str] = "received"
    received: int
    steps: list[tuple[int, dict[str, Any] | None]]
    duplicates: int
    reordered: int
    highest: int
    last_lost: int | None
    delay: dict[str, Any] | None
    tagged_delays_ns: list[int]
    longest_gap_ns: int
    ring_drops: int
    looped: int
    foreign: int
    fragments: int
    wrong_length: int
    altered: int
    read_one_in: int


@dataclass(frozen=True, slots=True)
class LearnOrder:
    """Send these frames (hex) once on a port, evenly over `over_s`: what teaches a device where addresses are."""

    kind: ClassVar[str] = "learn"
    interface: str
    frames: list[str]
    over_s: float


@dataclass(frozen=True, slots=True)
class AnswerOrder:
    """Answer for addresses on ports until told otherwise: per port its interface, networks and hardware address (hex).

    Then ask for the gateways: per port (target, own address).
    """

    kind: ClassVar[str] = "answer"
    ports: list[tuple[str, list[str], str]]
    gateways: list[tuple[str, str] | None]


@dataclass(frozen=True, slots=True)
class Gateways:
    """The gateways' hardware addresses (hex) by port; None for one that did not answer, or was not asked for."""

    kind: ClassVar[str] = "gateways"
    found: list[str | None]


@dataclass(frozen=True, slots=True)
class Ready:
    """The worker is ready to go, or done with what has no result."""

    kind: ClassVar[str] = "ready"


@dataclass(frozen=True, slots=True)
class Failed:
    """The worker could not: what the error says."""

    kind: ClassVar[str] = "failed"
    message: str
    hint: str


Line = SendOrder | SendReport | ReceiveOrder | ReceiveReport | LearnOrder | AnswerOrder | Gateways | Ready | Failed
_KINDS: dict[str, type[Line]] = {
    one.kind: one
    for one in (SendOrder, SendReport, ReceiveOrder, ReceiveReport, LearnOrder, AnswerOrder, Gateways, Ready, Failed)
}


def encode(line: Line) -> bytes:
    """One line of JSON with its end."""
    return json.dumps({"kind": line.kind, **asdict(line)}).encode() + b"\n"


def decode(text: bytes | str) -> Line:
    """The line that a text holds. Raises ValueError for anything else."""
    values = json.loads(text)
    kind = _KINDS.get(values.pop("kind", ""))
    if not kind:
        raise ValueError("not a line of the frame engine")
    return kind(**values)
