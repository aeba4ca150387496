"""Carries frames from one port to the other and treats them on the way: one direction of an impairment.

The receiving ring is the delay line: a frame stays in its slot until it is due, and is then copied, whole slices at a
time, into the sending ring. Both rings are of version 2 with virtio headers, whose words stand alike in both, so that
a checksum which the kernel has yet to fill in (as on virtual links) is carried on as it came. Frames that are longer
than a port carries, which segmentation offload makes of several, are counted and dropped: delay and loss befall frames.
"""

import errno
import mmap
import socket
import struct
from collections import Counter, deque
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from harvok.core.impairment import DirectionReport, Impairment
from harvok.core.measures.delay import DelayHistogram
from harvok.core.measures.impairer import FrameImpairer, FrameOutcomes
from harvok.errors import NearEndError
from harvok.traffic.rings import EVERY_PROTOCOL, SOL_PACKET, bind, listen_to_everything, open_packet_socket, statistics

_RX_RING, _VERSION, _RESERVE, _TX_RING, _LOSS, _VNET_HDR, IGNORE_OUTGOING = 5, 10, 12, 13, 14, 15, 23
_V2 = 1
_KERNEL, _USER, _SEND_REQUEST = 0, 1, 1
_NEEDS_CHECKSUM = 1  # VIRTIO_NET_HDR_F_NEEDS_CSUM
_VLAN_VALID, _TPID_VALID = 1 << 4, 1 << 6
_TAG_BYTES, _TAG_AT, _USUAL_TPID = 4, 12, 0x8100  # IEEE 802.1Q §9.6: behind both addresses
_SLOT_BYTES = 2048
_BLOCK_BYTES = 1 << 20
_RESERVED = 6  # brings the virtio header to a multiple of eight
_RX_VNET, _RX_FRAME = 72, 82
_TX_VNET, _TX_FRAME = 32, 42
_VNET_BYTES = _RX_FRAME - _RX_VNET
_SEND_SLOTS = 4096
_PORTION = 512
_ETHERNET_BYTES = 14
_MIN_LAZY_NS, _MAX_LAZY_NS, _MANY = 50_000, 300_000, 64
"""Frames are taken in together: this long after the last ones (a quarter of the time that they are to wait anyway, a
little where they are not), or when so many are there. What comes after a silence is taken at once."""
_STATISTICS_EVERY = 256

_RX_LAYOUT = np.dtype(
    {
        "names": ["status", "length", "kept", "mac", "s", "ns", "tci", "tpid"],
        "formats": ["<u4", "<u4", "<u4", "<u2", "<u4", "<u4", "<u2", "<u2"],
        "offsets": [0, 4, 8, 12, 16, 20, 24, 26],
        "itemsize": _SLOT_BYTES,
    }
)
_TX_LAYOUT = np.dtype(
    {
        "names": ["status", "length", "flags", "header", "checksum_from"],
        "formats": ["<u4", "<u4", "u1", "<u2", "<u2"],
        "offsets": [0, 4, _TX_VNET, _TX_VNET + 2, _TX_VNET + 6],
        "itemsize": _SLOT_BYTES,
    }
)


class _Ring:
    """Memory shared with the kernel, as an array of slots and as rows of 64-bit words."""

    def __init__(self, sock: socket.socket, option: int, slots: int, layout: np.dtype[Any]) -> None:
        size = slots * _SLOT_BYTES
        block = min(_BLOCK_BYTES, size)
        sock.setsockopt(SOL_PACKET, option, struct.pack("IIII", block, size // block, _SLOT_BYTES, slots))
        self._map = mmap.mmap(sock.fileno(), size, mmap.MAP_SHARED, mmap.PROT_READ | mmap.PROT_WRITE)
        memory = np.frombuffer(self._map, dtype=np.uint8)
        self.slots: NDArray[Any] = memory.view(layout)
        self.words: NDArray[np.uint64] = memory.view(np.uint64).reshape(slots, -1)
        self.bytes: NDArray[np.uint8] = memory.reshape(slots, -1)
        self.status: NDArray[np.uint32] = self.slots["status"]


def _open(interface: str) -> socket.socket:
    sock = open_packet_socket(interface)
    sock.setsockopt(SOL_PACKET, _VERSION, _V2)
    sock.setsockopt(SOL_PACKET, _VNET_HDR, 1)
    return sock


@dataclass(slots=True)
class _Held:
    """Frames that wait, in the order in which they are due; those before `start` are gone. A frame that goes twice
    stands here twice. `last` marks the copy with which its slot is given back, `corrupted` those of which a bit is
    turned; `special` is whether any is not last, or corrupted, `tagged` whether any had a VLAN tag. `words` is the
    length of the longest, in words of eight bytes."""

    due_ns: NDArray[np.int64]
    at_ns: NDArray[np.int64]
    slots: NDArray[np.int64]
    last: NDArray[np.bool_]
    corrupted: NDArray[np.bool_]
    special: bool
    tagged: bool
    words: int
    start: int = 0

    @property
    def next_due_ns(self) -> int:
        return int(self.due_ns[self.start])


class PathDirection:
    """One direction: hears on one port, sends on the other. `most_held` is how many frames it can hold."""

    def __init__(
        self, direction: str, source: str, target: str, impairment: Impairment, seed: int, max_held: int
    ) -> None:
        self.direction = direction
        self._impairer = FrameImpairer(impairment, seed)
        self._rng = np.random.default_rng(seed)
        self._hearing, self._sending = _open(source), _open(target)
        self._hearing.setsockopt(SOL_PACKET, IGNORE_OUTGOING, 1)
        self._hearing.setsockopt(SOL_PACKET, _RESERVE, _RESERVED)
        self._sending.setsockopt(SOL_PACKET, _LOSS, 1)
        self._rx = _Ring(self._hearing, _RX_RING, max_held, _RX_LAYOUT)
        self._tx = _Ring(self._sending, _TX_RING, _SEND_SLOTS, _TX_LAYOUT)
        self._rx_lengths, self._tx_lengths = self._rx.slots["length"], self._tx.slots["length"]
        self._tx_headers = self._tx.slots["header"]
        self._slots = max_held
        self._head = self._tx_head = self._tx_free = self._outstanding = 0
        self._last_take_ns = 0
        self._held: deque[_Held] = deque()
        self._count: Counter[str] = Counter()  # of the fields of DirectionReport
        self._gone: list[tuple[int, NDArray[np.int64], NDArray[np.int64]]] = []
        self._all, self._recent = DelayHistogram(), DelayHistogram()
        self._late = DelayHistogram()
        self._pending_send = False
        self.apply(impairment)
        bind(self._sending, target, 0)
        bind(self._hearing, source, EVERY_PROTOCOL)
        listen_to_everything(self._hearing, source)

    def fileno(self) -> int:
        return self._hearing.fileno()

    def apply(self, impairment: Impairment) -> None:
        """Changes what is done to frames that arrive from now on."""
        self._impairer.apply(impairment)
        shortest_s = impairment.delay_s - (impairment.variation_s if impairment.spread == "uniform" else 1.0)
        self._lazy_ns = int(min(max(shortest_s / 4 * 1e9, _MIN_LAZY_NS), _MAX_LAZY_NS))

    def next_due_ns(self) -> int | None:
        """When the next frame is to go on; None when none waits."""
        return self._held[0].next_due_ns if self._held else None

    def take(self, wall_ns: int) -> bool:
        """Takes in what has arrived; False when nothing has, or when it may wait a little for more to come."""
        maximum = min(_PORTION, self._slots - self._head, self._slots - self._outstanding)
        status = self._rx.status
        if not maximum or not status[self._head] & _USER:
            return False
        patient = wall_ns - self._last_take_ns < self._lazy_ns
        if patient and (maximum <= _MANY or not status[self._head + _MANY] & _USER):
            return False
        self._last_take_ns = wall_ns
        count = _run_length(status, self._head, maximum, _USER)
        self._decide(self._head, count)
        self._head = (self._head + count) % self._slots
        return True

    def _decide(self, head: int, count: int) -> None:
        frames = self._rx.slots[head : head + count]
        tagged = (frames["status"] & _VLAN_VALID) != 0
        lengths = frames["length"].astype(np.int64) + tagged * _TAG_BYTES
        at_ns = frames["s"].astype(np.int64) * 1_000_000_000 + frames["ns"]
        self._count.update(in_frames=count, in_bytes=int(lengths.sum()))
        slots = np.arange(head, head + count)
        odd = frames["length"] != frames["kept"]
        any_tagged = bool(tagged.any())
        if self._impairer.delays_only and not odd.any():
            due_ns, last = self._impairer.due_ns(at_ns), np.ones(count, dtype=bool)
            self._hold(_Held(due_ns, at_ns, slots, last, ~last, False, any_tagged, _words(lengths)))
            return
        outcomes = self._impairer.decide(at_ns, lengths)
        goes_on = outcomes.goes_on & ~odd
        self._count.update(
            too_large=int(odd.sum()),
            lost=int((outcomes.lost & ~odd).sum()),
            queue_drops=int((outcomes.queue_drops & ~odd & ~outcomes.lost).sum()),
            duplicated=int((outcomes.duplicated & goes_on).sum()),
            reordered=int((outcomes.held_back & goes_on).sum()),
            corrupted=int((outcomes.corrupted & goes_on).sum()),
        )
        self._rx.status[slots[~goes_on]] = _KERNEL
        if goes_on.any():
            self._hold(_copies(outcomes, goes_on, at_ns, slots, any_tagged, _words(lengths[goes_on])))

    def _hold(self, held: _Held) -> None:
        """Queues frames by the time at which they are due; sorts only where some overtake others."""
        self._outstanding += int(np.count_nonzero(held.last))
        in_order = self._impairer.keeps_order or bool((held.due_ns[1:] >= held.due_ns[:-1]).all())
        if self._held and held.next_due_ns < self._held[-1].due_ns[-1]:
            in_order = False
        self._held.append(held)
        if not in_order:
            self._sort()

    def _sort(self) -> None:
        """Puts all that waits into one stretch, in the order of its times; copies of one frame keep theirs."""
        every = list(self._held)
        due, at, slots, last, corrupted = (
            np.concatenate([getattr(one, name)[one.start :] for one in every])
            for name in ("due_ns", "at_ns", "slots", "last", "corrupted")
        )
        order = np.argsort(due, kind="stable")
        special, tagged = any(one.special for one in every), any(one.tagged for one in every)
        words = max(one.words for one in every)
        self._held = deque(
            [_Held(due[order], at[order], slots[order], last[order], corrupted[order], special, tagged, words)]
        )

    def release(self, wall_ns: int) -> bool:
        """Sends on what is due by now; False when nothing was."""
        sent = False
        while self._held and self._held[0].next_due_ns <= wall_ns:
            first = self._held[0]
            stop = first.start + int(np.searchsorted(first.due_ns[first.start :], wall_ns, side="right"))
            went = self._send(first, first.start, min(stop, first.start + _PORTION), wall_ns)
            if not went:
                break
            sent = True
            first.start += went
            if first.start == len(first.due_ns):
                self._held.popleft()
        if sent or self._pending_send:
            self._kick()
        return sent

    def _send(self, held: _Held, start: int, stop: int, wall_ns: int) -> int:
        """Copies frames into the sending ring, and gives slots back; returns how many found room."""
        count = self._room(stop - start)
        if not count:
            self._pending_send = True
            return 0
        stop = start + count
        slots = done = held.slots[start:stop]
        self._copy(slots, held.words)
        if held.tagged:
            self._tag(slots)
        if held.special:
            self._corrupt(held, start, stop)
            done = slots[held.last[start:stop]]
        if len(done):
            self._rx.status[slots_as_rows(done)] = _KERNEL
        self._tx.status[self._tx_head : self._tx_head + count] = _SEND_REQUEST
        self._tx_head, self._tx_free = (self._tx_head + count) % _SEND_SLOTS, self._tx_free - count
        self._outstanding -= len(done)
        self._gone.append((wall_ns, held.at_ns[start:stop], held.due_ns[start:stop]))
        if len(self._gone) >= _STATISTICS_EVERY:
            self._tally()
        return count

    def _room(self, wanted: int) -> int:
        """How many slots of the sending ring are free in a row, up to `wanted`; looks only when it does not know."""
        upto = min(wanted, _SEND_SLOTS - self._tx_head)
        if self._tx_free < upto:
            maximum = min(max(upto, _PORTION), _SEND_SLOTS - self._tx_head)
            self._tx_free = _free_length(self._tx.status, self._tx_head, maximum)
        return min(upto, self._tx_free)

    def _copy(self, slots: NDArray[np.int64], words: int) -> None:
        """Header words and frame, as words of eight bytes, as many as the longest frame needs."""
        count, start, rows = len(slots), self._tx_head, slots_as_rows(slots)
        lengths = self._rx_lengths[rows]
        here, there = _RX_VNET // 8, _TX_VNET // 8
        self._tx.words[start : start + count, there : there + words] = self._rx.words[rows, here : here + words]
        self._tx_lengths[start : start + count] = lengths + _VNET_BYTES
        self._tx_headers[start : start + count] = lengths  # the kernel copies the frame into one linear buffer
        self._count.update(out_frames=count, out_bytes=int(lengths.sum()))

    def _tag(self, slots: NDArray[np.int64]) -> None:
        """Puts the tags back that the kernel took off, and moves what stands behind them."""
        which = np.flatnonzero(self._rx.slots["status"][slots] & _VLAN_VALID)
        if not len(which):
            return
        come, gone = slots[which], self._tx_head + which
        heads = self._rx.slots[come]
        behind = int(self._rx_lengths[come].max()) - _TAG_AT
        here, there = _RX_FRAME + _TAG_AT, _TX_FRAME + _TAG_AT
        self._tx.bytes[gone, there + _TAG_BYTES : there + _TAG_BYTES + behind] = self._rx.bytes[
            come, here : here + behind
        ]
        tpid = np.where(heads["status"] & _TPID_VALID, heads["tpid"], _USUAL_TPID)
        tags = np.stack([tpid >> 8, tpid & 0xFF, heads["tci"] >> 8, heads["tci"] & 0xFF], axis=1)
        self._tx.bytes[gone, there : there + _TAG_BYTES] = tags
        self._tx_lengths[gone] += _TAG_BYTES
        self._tx_headers[gone] += _TAG_BYTES
        self._tx.slots["checksum_from"][gone] += (self._tx.slots["flags"][gone] & _NEEDS_CHECKSUM) * _TAG_BYTES
        self._count["out_bytes"] += _TAG_BYTES * len(which)

    def _corrupt(self, held: _Held, start: int, stop: int) -> None:
        """Turns one bit of each frame that corruption befalls, behind its Ethernet header; a checksum that the kernel
        was yet to fill in is left to it, so that such a frame arrives bent and whole."""
        for number in np.flatnonzero(held.corrupted[start:stop]):
            row = self._tx.bytes[self._tx_head + int(number)]
            length = int(self._tx_headers[self._tx_head + number])
            at = _TX_FRAME + int(self._rng.integers(_ETHERNET_BYTES, max(length, _ETHERNET_BYTES + 1)))
            row[at] ^= 1 << int(self._rng.integers(8))

    def _tally(self) -> None:
        """Counts delays into the histograms, of many sends at once."""
        if not self._gone:
            return
        sizes = [len(at_ns) for _, at_ns, _ in self._gone]
        walls = np.repeat(np.array([wall for wall, _, _ in self._gone]), sizes)
        given = walls - np.concatenate([at_ns for _, at_ns, _ in self._gone])
        self._late.add(walls - np.concatenate([due_ns for _, _, due_ns in self._gone]))
        self._recent.add(given)
        self._gone.clear()

    def _kick(self) -> None:
        """Lets the kernel take what is marked; what it cannot take now, it takes with the next."""
        self._pending_send = False
        try:
            self._sending.send(b"", socket.MSG_DONTWAIT)
        except OSError as error:
            if error.errno in (errno.ENETDOWN, errno.ENXIO, errno.ENODEV):
                raise NearEndError("a port of the impairment went down", "Check the lead and the port.") from error
            if error.errno not in (errno.EAGAIN, errno.ENOBUFS):
                raise
            self._pending_send = True

    def report(self, whole: bool) -> DirectionReport:
        """What was done so far; delays of the time since the last report, or with `whole` of all."""
        self._tally()
        self._count["overrun"] += statistics(self._hearing)[1]
        self._all.merge(self._recent)
        given, self._recent = self._all if whole else self._recent, DelayHistogram()
        reported = DirectionReport(self.direction, **self._count, queued_frames=self._outstanding)
        delays = given.summary()
        if delays:
            reported = replace(
                reported,
                given_min_s=delays.min_s,
                given_median_s=delays.median_s,
                given_p99_s=given.quantile_ns(0.99) / 1e9,
                given_max_s=delays.max_s,
                late_p99_s=self._late.quantile_ns(0.99) / 1e9,
            )
        return reported

    def close(self) -> None:
        """Gives the rings back to the kernel."""
        self._hearing.close()
        self._sending.close()


def _words(lengths: NDArray[np.int64]) -> int:
    """The longest frame with its virtio header, in words of eight bytes."""
    return -(-(_VNET_BYTES + int(lengths.max())) // 8)


def _copies(
    outcomes: FrameOutcomes,
    goes_on: NDArray[np.bool_],
    at_ns: NDArray[np.int64],
    slots: NDArray[np.int64],
    tagged: bool,
    words: int,
) -> _Held:
    """The frames that go on, those that go twice two times; of these the first copy alone may be bent."""
    which = np.repeat(np.flatnonzero(goes_on), 1 + outcomes.duplicated[goes_on])
    first, last = np.ones(len(which), dtype=bool), np.ones(len(which), dtype=bool)
    first[1:] = last[:-1] = which[1:] != which[:-1]
    corrupted = outcomes.corrupted[which] & first
    special = bool(corrupted.any() or not last.all())
    return _Held(outcomes.due_ns[which], at_ns[which], slots[which], last, corrupted, special, tagged, words)


def slots_as_rows(slots: NDArray[np.int64]) -> Any:
    """The same slots as a slice where they follow one another, which is copied much faster. First and last alone do not
    tell: frames that were reordered may stand between any two."""
    first, last = int(slots[0]), int(slots[-1])
    in_a_row = last - first == len(slots) - 1 and bool((np.diff(slots) == 1).all())
    return slice(first, last + 1) if in_a_row else slots


def _run_length(status: NDArray[np.uint32], head: int, maximum: int, flag: int) -> int:
    """How many slots from `head` on have the flag, up to `most`; the first one has it. Looks at few slots, since each
    look is a walk to memory."""
    low, step = 1, 1  # status[head + low - 1] has the flag
    while low < maximum:
        probe = min(low + step, maximum)
        if not status[head + probe - 1] & flag:
            break
        low, step = probe, step * 2
    else:
        return maximum
    high = min(low + step, maximum)  # status[head + high - 1] has not
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if status[head + middle - 1] & flag else (low, middle)
    return low


def _free_length(status: NDArray[np.uint32], head: int, maximum: int) -> int:
    """How many slots from `head` on the kernel has given back, up to `most`. A device that drops gives them back out of
    order, so every one is looked at."""
    busy = status[head : head + maximum] != _KERNEL
    return int(np.argmax(busy)) if busy.any() else maximum
