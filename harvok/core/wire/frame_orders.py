"""What the frame engine's worker processes are told and what they answer: JSON, one line each.

Plain dataclasses; a worker loads this file and little else.
"""

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, ClassVar, Literal, get_args

from harvok.core.wire.frame import FrameIp

SampleBy = Literal["", "hardware", "software"]


@dataclass(frozen=True, slots=True)
class SendOrder:
    """Send the frames of each step (load in frames/s, frames, batch). One lap of the ring is `slots` frames; sizes and
    ends (hardware addresses in hex, IP addresses, ports) are taken in turn; all have the same tags and class. The
    worker counts into row `row`, tells the receiver in the rows from `steps_row` on where each step after the first
    begins, and stays on core `cpu`.

    Streams that meet at one port would keep their order for a whole trial, and where its queue has room for one frame,
    the same stream would always get it. So with a `dither` above 0 each batch is up to a gap late, by chance, and a
    step takes so many gaps more, for each stream another number.

    Of frames in slots whose numbers `sample_every` divides, `sample_by` the card ("hardware") or its driver
    ("software") stamps of their own are asked for; "" for none. `xdp` asks for the express data path."""

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
    vlans: list[int] = field(default_factory=list)
    dscp: int = 0
    dither: int = 0
    sample_by: SampleBy = ""
    sample_every: int = 1
    xdp: bool = False


@dataclass(frozen=True, slots=True)
class SendReport:
    """What a sender did, in all and in each step (frames, ns). Times in ns; `late_p99_ns` is of batches. `no_stamps`
    says why frames have no transmit stamps of their own; empty where they have. `samples` are numbers of frames, and
    when these left, in ns by the clock that was asked for. `sent_by` is what carried the frames, and `no_xdp` why that
    was not the express data path, where that was asked for."""

    kind: ClassVar[str] = "sent"
    sent: int
    steps: list[tuple[int, int]]
    sending_ns: int
    longest_stall_ns: int
    late_p99_ns: int
    held_back_ns: int
    no_stamps: str = ""
    samples: list[tuple[int, int]] = field(default_factory=list)
    sent_by: str = ""
    no_xdp: str = ""


@dataclass(frozen=True, slots=True)
class ReceiveOrder:
    """Hear the frames of a stream until the row's stop cell is set.

    Numbers are lap × `slots` + slot; the ring has `blocks` blocks. Delays are of one frame in `delay_one_in` where each
    has a transmit stamp of its own, else of the first of each batch; `batch` is the largest of the `steps`. The content
    of one frame in `read_one_in` is checked. From each number of `tags` on, the first such frame is reported by itself.
    A frame that comes in on the sending port has run in a circle; "" is a port of another host. Delays are corrected by
    how far this host's clock is ahead of the sender's. The kernel takes the outer tag of a frame away; `inner_tags` are
    those that stay. Where a stream has several `lanes`, with numbers that follow one upon another, the receivers of a
    `group` share them: each gets one, and says afterwards which.
    `starts` says where the steps begin, where the sender is on another host and cannot tell.
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
    inner_tags: int = 0
    delay_one_in: int = 1
    sample_by: SampleBy = ""
    sample_every: int = 1
    lanes: int = 1
    group: int = 0
    starts: list[int] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class ReceiveReport:
    """What a receiver heard, in all and of each step (frames, delays); delays in s. The first and the last frame came
    at `first_ns` and `last_ns` by the wall clock there, 0 where none came. `last_lost` is of the numbers up to
    `highest`. What came in pieces, with another length or with another content is not received; content was read of one
    frame in `read_one_in`. `samples` are as in SendReport: when these frames came. `stream` is the number
    that they had.
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
    first_ns: int
    last_ns: int
    longest_gap_ns: int
    ring_drops: int
    looped: int
    foreign: int
    fragments: int
    wrong_length: int
    altered: int
    read_one_in: int
    samples: list[tuple[int, int]] = field(default_factory=list)
    stream: int = 0


@dataclass(frozen=True, slots=True)
class ReflectOrder:
    """Send every frame of a stream back on the port that it came in on, with its addresses swapped, until the row's
    stop cell is set."""

    kind: ClassVar[str] = "reflect"
    interface: str
    ip: FrameIp
    stream: int
    row: int
    cpu: int | None
    inner_tags: int = 0


@dataclass(frozen=True, slots=True)
class ReflectReport:
    """How many frames were sent back, and how many came while the socket was full."""

    kind: ClassVar[str] = "reflected"
    reflected: int
    dropped: int


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
class StampsOrder:
    """Tell what the card of a port can stamp, and how far its clock is ahead of the card's with the number `clock`."""

    kind: ClassVar[str] = "stamps"
    interface: str
    clock: int = -1


@dataclass(frozen=True, slots=True)
class Stamps:
    """What a card can stamp: see harvok.core.wire.card_stamps.PortStamping. Its clock is so far ahead, within the
    error, of the one that was named; None where none was, or they cannot be compared."""

    kind: ClassVar[str] = "stamped-by"
    software: bool
    hardware: bool
    clock: int
    ahead_s: float | None = None
    error_s: float | None = None


@dataclass(frozen=True, slots=True)
class Gateways:
    """The gateways' hardware addresses (hex) by port; None for one that did not answer, or was not asked for."""

    kind: ClassVar[str] = "gateways"
    found: list[str | None]


@dataclass(frozen=True, slots=True)
class Taught:
    """Such frames were sent; the first of them at `at_ns` by the wall clock there."""

    kind: ClassVar[str] = "taught"
    at_ns: int


@dataclass(frozen=True, slots=True)
class Ready:
    """The worker is ready to go."""

    kind: ClassVar[str] = "ready"


@dataclass(frozen=True, slots=True)
class Failed:
    """The worker could not: what the error says."""

    kind: ClassVar[str] = "failed"
    message: str
    hint: str


StreamOrder = SendOrder | ReceiveOrder | ReflectOrder
Order = StreamOrder | LearnOrder | AnswerOrder | StampsOrder
Line = Order | SendReport | ReceiveReport | ReflectReport | Taught | Gateways | Stamps | Ready | Failed
_KINDS: dict[str, type[Line]] = {one.kind: one for one in get_args(Line)}


def encode(line: Line, row: int | None = None) -> bytes:
    """One line of JSON with its end; `row` says to which of several orders an answer is."""
    about = {} if row is None else {"about": row}
    return json.dumps({"kind": line.kind, **asdict(line), **about}).encode() + b"\n"


def encode_orders(orders: Sequence[Line]) -> bytes:
    """Orders that are carried out together, as one line."""
    return json.dumps([{"kind": order.kind, **asdict(order)} for order in orders]).encode() + b"\n"


def decode(text: bytes | str) -> Line:
    """The line that a text holds. Raises ValueError for anything else."""
    return decode_answer(text)[1]


def decode_answer(text: bytes | str) -> tuple[int | None, Line]:
    """The same, with the row of the order that it answers, where it says so."""
    values = json.loads(text)
    return values.pop("about", None), _line(values)


def decode_orders(text: bytes | str) -> list[Line]:
    """One order, or those that are carried out together. Raises ValueError for anything else."""
    values = json.loads(text)
    return [_line(one) for one in (values if isinstance(values, list) else [values])]


def _line(values: dict[str, Any]) -> Line:
    kind = _KINDS.get(values.pop("kind", ""))
    if not kind:
        raise ValueError("not a line of the frame engine")
    return kind(**values)
