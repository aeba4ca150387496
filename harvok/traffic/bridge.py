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
from collections import deque
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from harvok.core.ends import Direction
from harvok.core.impairment import DirectionReport, Impairment
from harvok.core.measures.delay import DelayHistogram
from harvok.core.measures.fates import Fate
from harvok.errors import NearEndError
from harvok.traffic.rings import listen_to_everything, open_packet_socket, statistics

_SOL_PACKET = 263
_RX_RING, _VERSION, _RESERVE, _TX_RING, _LOSS, _VNET_HDR, _IGNORE_OUTGOING = 5, 10, 12, 13, 14, 15, 23
_V2, _EVERY_PROTOCOL = 1, 0x0003
_KERNEL, _USER, _SEND_REQUEST = 0, 1, 1
_VLAN_VALID = 1 << 4
_SLOT_BYTES = 2048
_BLOCK_BYTES = 1 << 20
_RESERVED = 6  # brings the virtio header to a multiple of eight
_RX_VNET, _RX_FRAME = 72, 82
_TX_VNET, _TX_FRAME = 32, 42
_VNET_BYTES = _RX_FRAME - _RX_VNET
_SEND_SLOTS = 4096
_PORTION = 512
_ETHERNET_BYTES = 14

_RX_LAYOUT = np.dtype(
    {
        "names": ["status", "length", "kept", "mac", "s", "ns"],
        "formats": ["<u4", "<u4", "<u4", "<u2", "<u4", "<u4"],
        "offsets": [0, 4, 8, 12, 16, 20],
        "itemsize": _SLOT_BYTES,
    }
)
_TX_LAYOUT = np.dtype(
    {
        "names": ["status", "length", "header"],
        "formats": ["<u4", "<u4", "<u2"],
        "offsets": [0, 4, _TX_VNET + 2],
        "itemsize": _SLOT_BYTES,
    }
)


class _Ring:
    """Memory shared with the kernel, as an array of slots and as rows of 64-bit words."""

    def __init__(self, sock: socket.socket, option: int, slots: int, layout: np.dtype[Any]) -> None:
        size = slots * _SLOT_BYTES
        block = min(_BLOCK_BYTES, size)
        sock.setsockopt(_SOL_PACKET, option, struct.pack("IIII", block, size // block, _SLOT_BYTES, slots))
        self._map = mmap.mmap(sock.fileno(), size, mmap.MAP_SHARED, mmap.PROT_READ | mmap.PROT_WRITE)
        memory = np.frombuffer(self._map, dtype=np.uint8)
        self.slots: NDArray[Any] = memory.view(layout)
        self.words: NDArray[np.uint64] = memory.view(np.uint64).reshape(slots, -1)
        self.bytes: NDArray[np.uint8] = memory.reshape(slots, -1)
        self.status: NDArray[np.uint32] = self.slots["status"]


def _open(interface: str) -> socket.socket:
    sock = open_packet_socket(interface)
    sock.setsockopt(_SOL_PACKET, _VERSION, _V2)
    sock.setsockopt(_SOL_PACKET, _VNET_HDR, 1)
    return sock


def _bind(sock: socket.socket, interface: str, protocol: int) -> None:
    try:
        sock.bind((interface, protocol))
    except OSError as error:
        raise NearEndError(f"there is no interface {interface}", "`harvok ports` lists them.") from error


@dataclass(slots=True)
class _Held:
    """Frames that wait, in the order in which they are due."""

    due_ns: NDArray[np.int64]
    at_ns: NDArray[np.int64]
    slots: NDArray[np.int64]
    twice: NDArray[np.bool_]
    bent: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.due_ns)

    def part(self, which: Any) -> "_Held":
        return _Held(self.due_ns[which], self.at_ns[which], self.slots[which], self.twice[which], self.bent[which])


def _joined(parts: "deque[_Held]") -> _Held:
    return _Held(*(np.concatenate([getattr(one, name) for one in parts]) for name in _Held.__slots__))


class Lane:
    """One direction: hears on one port, sends on the other. `most_held` is how many frames it can hold."""

    def __init__(
        self, direction: Direction, source: str, target: str, impairment: Impairment, seed: int, most_held: int
    ) -> None:
        self.direction: Direction = direction
        self._fate = Fate(impairment, seed)
        self._rng = np.random.default_rng(seed)
        self._hearing, self._sending = _open(source), _open(target)
        self._hearing.setsockopt(_SOL_PACKET, _IGNORE_OUTGOING, 1)
        self._hearing.setsockopt(_SOL_PACKET, _RESERVE, _RESERVED)
        self._sending.setsockopt(_SOL_PACKET, _LOSS, 1)
        self._rx = _Ring(self._hearing, _RX_RING, most_held, _RX_LAYOUT)
        self._tx = _Ring(self._sending, _TX_RING, _SEND_SLOTS, _TX_LAYOUT)
        self._slots = most_held
        self._head = self._tx_head = self._outstanding = 0
        self._held: deque[_Held] = deque()
        self._count = DirectionReport(direction)
        self._all, self._recent = DelayHistogram(), DelayHistogram()
        self._late, self._recent_late = DelayHistogram(), DelayHistogram()
        self._pending_send = False
        _bind(self._sending, target, 0)
        _bind(self._hearing, source, _EVERY_PROTOCOL)
        listen_to_everything(self._hearing, source)

    def fileno(self) -> int:
        return self._hearing.fileno()

    def become(self, impairment: Impairment) -> None:
        """Changes what is done to frames that arrive from now on."""
        self._fate.become(impairment)

    def next_due_ns(self) -> int | None:
        """When the next frame is to go on; None when none waits."""
        return int(self._held[0].due_ns[0]) if self._held else None

    def take(self) -> bool:
        """Takes in what has arrived; False when nothing has."""
        most = min(_PORTION, self._slots - self._head, self._slots - self._outstanding)
        ready = (self._rx.status[self._head : self._head + most] & _USER).astype(bool)
        count = most if ready.all() else int(np.argmin(ready))
        if not count:
            return False
        self._decide(self._head, count)
        self._head = (self._head + count) % self._slots
        return True

    def _decide(self, head: int, count: int) -> None:
        frames = self._rx.slots[head : head + count]
        lengths = frames["length"].astype(np.int64)
        at_ns = frames["s"].astype(np.int64) * 1_000_000_000 + frames["ns"]
        fits = (frames["length"] == frames["kept"]) & ((frames["status"] & _VLAN_VALID) == 0)
        fates = self._fate.decide(at_ns, lengths)
        goes_on = fates.goes_on & fits
        slots = np.arange(head, head + count)
        if not goes_on.all():
            self._rx.status[slots[~goes_on]] = _KERNEL
        held = _Held(fates.due_ns, at_ns, slots, fates.duplicated, fates.corrupted).part(goes_on)
        self._outstanding += len(held)
        if len(held):
            self._hold(held)
        now = self._count
        self._count = replace(
            now,
            in_frames=now.in_frames + count,
            in_bytes=now.in_bytes + int(lengths.sum()),
            lost=now.lost + int((fates.lost & fits).sum()),
            queue_drops=now.queue_drops + int((fates.queue_drops & fits & ~fates.lost).sum()),
            duplicated=now.duplicated + int((fates.duplicated & goes_on).sum()),
            reordered=now.reordered + int((fates.held_back & goes_on).sum()),
            corrupted=now.corrupted + int((fates.corrupted & goes_on).sum()),
            too_large=now.too_large + int((~fits).sum()),
        )

    def _hold(self, held: _Held) -> None:
        """Queues frames by the time at which they are due; sorts only where some overtake others."""
        in_order = bool((np.diff(held.due_ns) >= 0).all())
        if in_order and (not self._held or held.due_ns[0] >= self._held[-1].due_ns[-1]):
            self._held.append(held)
            return
        self._held.append(held)
        everyone = _joined(self._held)
        self._held.clear()
        self._held.append(everyone.part(np.argsort(everyone.due_ns, kind="stable")))

    def release(self, wall_ns: int) -> bool:
        """Sends on what is due by now; False when nothing was."""
        sent = False
        while self._held and self._held[0].due_ns[0] <= wall_ns:
            first = self._held[0]
            due = int(np.searchsorted(first.due_ns, wall_ns, side="right"))
            went = self._send(first.part(slice(0, min(due, _PORTION))), wall_ns)
            if not went:
                break
            sent = True
            if went == len(first):
                self._held.popleft()
            else:
                self._held[0] = first.part(slice(went, None))
        if sent or self._pending_send:
            self._kick()
        return sent

    def _send(self, frames: _Held, wall_ns: int) -> int:
        """Copies frames into the sending ring, and gives their slots back; returns how many found room."""
        copies = frames.slots if not frames.twice.any() else np.repeat(frames.slots, 1 + frames.twice)
        room = min(_SEND_SLOTS - self._tx_head, len(copies))
        busy = self._tx.status[self._tx_head : self._tx_head + room] != 0
        if busy.any():
            room = int(np.argmax(busy))
        if room < len(copies):
            ends = np.cumsum(1 + frames.twice)
            whole = int(np.searchsorted(ends, room, side="right"))
            if not whole:
                if room < 2 and self._tx_head >= _SEND_SLOTS - 2:
                    self._tx_head = 0  # a doubled frame does not fit before the end of the ring
                self._pending_send = True
                return 0
            frames, copies = frames.part(slice(0, whole)), copies[: int(ends[whole - 1])]
        self._copy(copies)
        if frames.bent.any():
            self._bend(frames)
        self._rx.status[frames.slots] = _KERNEL
        self._note(frames, len(copies), wall_ns)
        return len(frames)

    def _copy(self, slots: NDArray[np.int64]) -> None:
        """Header words and frame, as words of eight bytes, as many as the longest frame needs."""
        rx, tx, count, start = self._rx, self._tx, len(slots), self._tx_head
        lengths = rx.slots["length"][slots]
        words = -(-(_VNET_BYTES + int(lengths.max())) // 8)
        first = int(slots[0])
        in_a_row = count == int(slots[-1]) - first + 1
        rows: Any = slice(first, first + count) if in_a_row else slots
        here, there = _RX_VNET // 8, _TX_VNET // 8
        tx.words[start : start + count, there : there + words] = rx.words[rows, here : here + words]
        to = tx.slots[start : start + count]
        to["length"] = lengths + _VNET_BYTES
        to["header"] = lengths  # makes the kernel copy the frame into one linear buffer
        self._sent_bytes = int(lengths.sum())

    def _bend(self, frames: _Held) -> None:
        """Turns one bit of each frame that corruption befalls, behind its Ethernet header; a checksum that the kernel
        was yet to fill in is left to it, so that such a frame arrives bent and whole."""
        places = np.cumsum(1 + frames.twice) - (1 + frames.twice)
        for place in np.flatnonzero(frames.bent):
            row = self._tx.bytes[self._tx_head + int(places[place])]
            length = int(self._rx.slots["length"][frames.slots[place]])
            at = _TX_FRAME + int(self._rng.integers(_ETHERNET_BYTES, max(length, _ETHERNET_BYTES + 1)))
            row[at] ^= 1 << int(self._rng.integers(8))

    def _note(self, frames: _Held, copies: int, wall_ns: int) -> None:
        given, late = wall_ns - frames.at_ns, wall_ns - frames.due_ns
        for histogram, values in ((self._recent, given), (self._recent_late, late)):
            histogram.add(values)
        self._all.add(given)
        self._late.add(late)
        now = self._count
        self._count = replace(now, out_frames=now.out_frames + copies, out_bytes=now.out_bytes + self._sent_bytes)
        self._outstanding -= len(frames)
        self._tx.status[self._tx_head : self._tx_head + copies] = _SEND_REQUEST
        self._tx_head = (self._tx_head + copies) % _SEND_SLOTS

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
        overrun = self._count.overrun + statistics(self._hearing)[1]
        self._count = replace(self._count, overrun=overrun)
        given, late = (self._all, self._late) if whole else (self._recent, self._recent_late)
        told = replace(self._count, queued_frames=self._outstanding)
        delays, lateness = given.summary(), late.summary()
        if delays and lateness:
            told = replace(
                told,
                given_least_s=delays.least_s,
                given_median_s=delays.median_s,
                given_p99_s=given.quantile_ns(0.99) / 1e9,
                given_most_s=delays.most_s,
                late_p99_s=late.quantile_ns(0.99) / 1e9,
            )
        if not whole:
            self._recent, self._recent_late = DelayHistogram(), DelayHistogram()
        return told

    def close(self) -> None:
        """Gives the rings back to the kernel."""
        del self._rx, self._tx
        self._held.clear()
        self._hearing.close()
        self._sending.close()
