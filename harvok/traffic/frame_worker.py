"""A worker process of the frame engine: sends, hears or answers frames as its parent orders, one order after another,
or several streams together where a host has more of them than cores.

Started with the namespaces to enter and a counter table in its first argument. Orders come as lines on standard
input; it answers each with `ready`, starts at the line `go`, and ends with its report. When standard input closes the
parent is gone, and the worker goes too. Sender and receiver are processes of their own: as threads they would starve
each other.
"""

import heapq
import json
import os
import random
import select
import sys
import threading
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import ExitStack, suppress
from dataclasses import asdict
from itertools import cycle, pairwise
from typing import TYPE_CHECKING, Any

from harvok.clock import SYSTEM
from harvok.core.trials.frames import allowance_s
from harvok.core.wire.frame_orders import (
    AnswerOrder,
    LearnOrder,
    Line,
    Ready,
    ReceiveOrder,
    ReceiveReport,
    ReflectOrder,
    SendOrder,
    SendReport,
    StampsOrder,
    StreamOrder,
    Taught,
    decode_orders,
    encode,
)
from harvok.errors import HarvokError
from harvok.traffic.counters import NOT_YET, Counters, FrameCell
from harvok.traffic.pacing import CATCH_UP, Waiter
from harvok.worker.child import (
    end_with_parent,
    enter_namespaces,
    raise_priority,
    run,
    say_fault,
    say_ready,
    wait_begin,
    wake_precisely,
)

if TYPE_CHECKING:
    from harvok.traffic.card_stamps import StampedHearing, StampedSending
    from harvok.traffic.rings import Block, Lap, SendingRing
    from harvok.traffic.transmit_stamps import Stamping

_MADE_UP_BATCHES = 8
"""The longest lapse that is made up for, and so what a device has to store for it besides: eight frames at loads up to
30 000 frames/s, of which a batch has one. Switches store tens."""
_STALL_NS = 100_000
_SETTLE_NS = 1_000_000_000
_LOOK_AGAIN_NS = 1_000_000
_LAST_STAMPS_NS = 20_000_000
_DITHERS, _DITHERS_APART, _MAX_DRIFT = 15_000, 1021, 0.0005
_HEAR_MS = 20
_HELD = 64
"""How many blocks' delays the histogram counts at one time."""


def send(orders: Sequence[SendOrder], counters: Counters, stamping: "Stamping") -> list[Line]:
    """Lays the rings out, waits for the parent's word, and sends, each stream by a schedule of its own."""
    with ExitStack() as stack:
        senders = []
        for order in orders:
            ring, no_xdp = _sending_ring(order)
            stack.callback(ring.close)
            stamping.claim(ring.socket, order.ip, len(order.vlans))
            senders.append(_Sender(ring, order, counters, _sampled_sending(ring, order, stack), no_xdp))
        stack.enter_context(stamping.at({order.interface for order in orders}))
        _say_all(orders, [Ready() for _ in orders])
        wait_begin()
        _take_turns([sender.run() for sender in senders])
        return [sender.report(stamping.missing) for sender in senders]


def _sending_ring(order: SendOrder) -> "tuple[SendingRing, str]":
    """The ring that a sender goes round, and why it is a packet ring although another was asked for."""
    from harvok.traffic.layout import templates
    from harvok.traffic.rings import SendRing

    frames, missing = templates(order), ""
    if order.xdp:
        from harvok.traffic.xdp_ring import NoXdpError, XdpSendRing

        try:
            return XdpSendRing(order.interface, frames, order.slots, order.ip, len(order.vlans)), ""
        except NoXdpError as error:
            missing = str(error)
    return SendRing(order.interface, frames, order.slots, order.ip, len(order.vlans)), missing


def _sampled_sending(ring: "SendingRing", order: SendOrder, stack: ExitStack) -> "StampedSending | None":
    """What asks the card or the driver for stamps of some frames, where the order says so."""
    if not order.sample_by:
        return None
    from harvok.traffic.card_stamps import StampedSending

    _set_card(order, stack)
    return StampedSending(ring.socket, order.sample_by)


def _set_card(order: SendOrder | ReceiveOrder, stack: ExitStack) -> None:
    from harvok.traffic.card_stamps import card_that_stamps

    if order.sample_by == "hardware":
        stack.enter_context(card_that_stamps(order.interface))


Turns = Generator[int, int, None]
"""What yields the moment at which it is to go on, and is sent the time that it is then."""


def _take_turns(turns: "list[Turns]") -> None:
    """Lets each go on when it is due, until all have ended."""
    wait_until, now = Waiter().until, SYSTEM.now_ns()
    if len(turns) == 1:  # a heap of one would take three times as long for each batch
        go_on = turns[0].send
        with suppress(StopIteration):
            due = next(turns[0])
            while True:
                due = go_on(now := wait_until(due, now))
        return
    waiting = [(next(turn), number) for number, turn in enumerate(turns)]
    heapq.heapify(waiting)
    while waiting:
        due, number = waiting[0]
        now = wait_until(due, now)
        try:
            heapq.heapreplace(waiting, (turns[number].send(now), number))
        except StopIteration:
            heapq.heappop(waiting)


class _Sender:
    """Sends batches on an absolute schedule. What a lapse of a few batches held up is made up for at a slightly higher
    load; a longer one shifts the schedule, since to catch up with it would overflow small buffers. A step may end later
    for that by as much as its load may be off."""

    def __init__(
        self, ring: "SendingRing", order: SendOrder, counters: Counters, sampled: "StampedSending | None", no_xdp: str
    ) -> None:
        self._ring, self._order, self._sampled, self._no_xdp = ring, order, sampled, no_xdp
        self._cells = counters.cells
        self._frames_at = Counters.index(order.row, FrameCell.FRAMES)
        self._stop_at = Counters.index(order.row, FrameCell.STOP)
        self._late = [0] * 64  # by the number of bits of the lateness in ns
        self._sent = self._slot = self._lap = 0
        self._longest_stall_ns = self._held_back_ns = 0
        self._began_ns = self._last_ns = self._last_gap_ns = 0
        self._steps: list[list[int]] = []
        self._starts = counters.row_cells(order.steps_row, len(order.steps))
        self._laps = {batch: ring.lap(batch) for _, _, batch in order.steps}
        self._later = [self._dither(batch / load_fps * 1e9) for load_fps, _, batch in order.steps]

    def run(self) -> Turns:
        """Sends all steps."""
        self._began_ns = origin_ns = SYSTEM.now_ns()
        for number, (load_fps, frames, batch) in enumerate(self._order.steps):
            before = self._starts[number] = self._sent  # told to the receiver before the first of these frames is sent
            end_ns = origin_ns + int(frames / load_fps * 1e9)
            allowed_ns = int(allowance_s(frames / load_fps) * 1e9)
            yield from self._step(number, origin_ns, end_ns + allowed_ns)
            if number < len(self._order.steps) - 1:
                yield from self._finish_batch()
            self._last_gap_ns = int((frames % batch or batch) / load_fps * 1e9)
            sending_ns = self._last_ns - origin_ns + self._last_gap_ns if self._sent > before else 0
            self._steps.append([self._sent - before, sending_ns])
            origin_ns = max(end_ns, self._last_ns)
        yield from self._until_taken()

    def report(self, no_stamps: str) -> SendReport:
        """What was sent, once all has been; `no_stamps` is why frames have none of their own."""
        from harvok.traffic.rings import PACKET_RING

        pending = self._ring.pending()
        self._steps[-1][0] -= pending
        sent = self._sent - pending
        return SendReport(
            sent=sent,
            steps=[(frames, sending_ns) for frames, sending_ns in self._steps],
            sending_ns=self._last_ns - self._began_ns + self._last_gap_ns if sent else 0,
            longest_stall_ns=self._longest_stall_ns,
            late_p99_ns=self._late_p99_ns(),
            held_back_ns=self._held_back_ns,
            no_stamps=no_stamps if self._ring.about == PACKET_RING else "what is sent by xdp passes no program",
            no_xdp=self._no_xdp,
            sent_by=self._ring.about,
            samples=self._sampled.stamps if self._sampled else [],
        )

    def _finish_batch(self) -> Turns:
        """Sends the rest of a batch of the largest size at once, in which a step ended that the host fell short of: the
        next step begins with a whole batch, and the kernel takes one slot after the other, leaving none out."""
        rest = -self._slot % max(batch for _, _, batch in self._order.steps)
        if not rest:
            return
        end = self._slot + rest
        here = self._ring.part(self._slot, end)
        yield from self._held_back(here, 0, SYSTEM.now_ns() + _SETTLE_NS)
        mark, write_mark = self._marker()
        write_mark(self._lap)
        here.marks[0][:] = mark
        here.request(0, rest)
        self._ring.send()
        self._sent += rest
        self._lap, self._slot = self._lap + (end == self._ring.slots), end % self._ring.slots

    def _marker(self) -> "tuple[Any, Callable[[int], None]]":
        """The mark of a batch, and what writes the lap of the ring and the time of now into it, even, as no stamp of
        the kernel's is."""
        import struct

        import numpy as np

        from harvok.core.wire.frame import EVEN, balanced, mark_bytes

        mark = np.zeros(1, np.dtype((np.void, mark_bytes(self._order.ip))))
        text, put, wall_ns = memoryview(mark.view(np.uint8)), struct.Struct(">IQ"), SYSTEM.wall_ns  # type: ignore[arg-type]
        put_into = put.pack_into

        def write(lap: int) -> None:
            put_into(text, 0, lap, wall_ns() & EVEN)

        def write_balanced(lap: int) -> None:
            text[:] = balanced(put.pack(lap, wall_ns() & EVEN))

        return mark, write_balanced if self._order.ip == 6 else write

    def _step(self, number: int, origin_ns: int, end_ns: int) -> Turns:
        """The hot loop: all that it touches is cut and bound before it starts."""
        from harvok.traffic.rings import MSG_DONTWAIT

        load_fps, frames, batch = self._order.steps[number]
        check, later = self._ring.check, cycle(self._later[number])
        batches = turns, marks, is_held, request = self._laps[batch]
        give, (mark, write_mark) = self._ring.give, self._marker()
        cells, frames_at, stop_at, late_by = self._cells, self._frames_at, self._stop_at, self._late
        gap_ns = batch / load_fps * 1e9
        nearest_ns, stall_ns = int(gap_ns * CATCH_UP), max(int(_MADE_UP_BATCHES * gap_ns), _STALL_NS)
        at, lap, sent, shift_ns = self._slot // batch, self._lap, self._sent, 0
        sample_at = self._sampled and max(self._order.sample_every // batch, 1)
        now, upto = SYSTEM.now_ns(), sent + frames
        may_ns = 0
        if self._order.dither:
            nearest_ns = 0
            gap_ns *= 1 + min(self._order.dither * batch / frames, _MAX_DRIFT)
        for turn, later_ns in zip(range(-(-frames // batch)), later, strict=False):
            due = origin_ns + shift_ns + int(turn * gap_ns) + later_ns
            now = yield max(due, may_ns)
            late, may_ns = now - due, now + nearest_ns
            late_by[late.bit_length()] += 1
            if late > stall_ns:
                shift_ns += late - stall_ns
                self._longest_stall_ns = max(self._longest_stall_ns, late)
            if is_held(at):
                yield from self._held_back(batches, at, end_ns)
                now = SYSTEM.now_ns()
            if now >= end_ns or cells[stop_at]:
                break
            write_mark(lap)
            marks[at][:] = mark
            sent += batch
            request(at, batch if sent <= upto else batch + upto - sent)
            try:
                if sample_at and not at % sample_at:
                    self._send_sampled(sent - batch, batch)
                else:
                    give(b"", MSG_DONTWAIT)
            except OSError as error:
                check(error)
            cells[frames_at] = sent
            at += 1
            if at == turns:
                at, lap = 0, lap + 1
        self._slot, self._lap, self._sent, self._last_ns = at * batch, lap, min(sent, upto), now

    def _send_sampled(self, first: int, frames: int) -> None:
        """Sends a batch whose frames are to be stamped one by one, unless some before it still wait, which would be
        taken for it."""
        assert self._sampled
        marked = self._ring.pending()
        if marked > frames or self._sampled.full:
            return self._ring.send()
        try:
            self._sampled.send()
        finally:
            self._sampled.asked(range(first, first + marked - self._ring.pending()))

    def _dither(self, gap_ns: float) -> list[int]:
        """By how much each batch is late on purpose, again and again; each stream begins again after another number of
        batches."""
        if not self._order.dither:
            return [0]
        drawn = random.Random(self._order.stream)
        return [int(drawn.random() * gap_ns) for _ in range(_DITHERS + self._order.stream % _DITHERS_APART)]

    def _held_back(self, batches: "Lap", at: int, end_ns: int) -> Turns:
        """Waits for the kernel to give back the slots of a batch."""
        since_ns = now = SYSTEM.now_ns()
        while batches.is_held(at) and now < end_ns:
            self._ring.send()
            now = yield now
        self._held_back_ns += now - since_ns

    def _until_taken(self) -> Turns:
        """Waits for the kernel to take what is still marked."""
        now = SYSTEM.now_ns()
        deadline_ns = now + _SETTLE_NS
        while self._ring.pending() and now < deadline_ns:
            self._ring.send()
            now = yield now + _LOOK_AGAIN_NS
        if self._sampled:
            yield SYSTEM.now_ns() + _LAST_STAMPS_NS
            self._sampled.collect()

    def _late_p99_ns(self) -> int:
        """The upper edge of the bin that holds the 99th percentile."""
        total, seen = sum(self._late), 0
        for bits, batches in enumerate(self._late):
            seen += batches
            if seen >= 0.99 * total:
                return (1 << bits) - 1
        return 0


def receive(orders: Sequence[ReceiveOrder], counters: Counters) -> list[Line]:
    """Hears every stream until all are told to stop, and then what is still in the rings."""
    with ExitStack() as stack:
        receivers = [_FrameReceiver(order, counters, stack) for order in orders]
        _say_all(orders, [Ready() for _ in orders])
        poll = select.poll()
        for receiver in receivers:
            poll.register(receiver.fileno(), select.POLLIN | select.POLLERR)
        stopping = False
        while not stopping:
            stopping = all(receiver.is_to_stop for receiver in receivers)
            poll.poll(_HEAR_MS)
            for receiver in receivers:
                receiver.hear()
        return [receiver.report() for receiver in receivers]


def _sampled_hearing(order: ReceiveOrder, stack: ExitStack) -> "StampedHearing | None":
    """What hears some frames with stamps of the card or the driver, where the order says so."""
    if not order.sample_by:
        return None
    from harvok.traffic.card_stamps import StampedHearing

    _set_card(order, stack)
    hearing = StampedHearing(
        order.interface, order.ip, order.stream, order.slots, order.sample_every, order.sample_by, order.inner_tags
    )
    stack.callback(hearing.close)
    return hearing


class _FrameReceiver:
    """Accounts whole blocks of frames at once."""

    def __init__(self, order: ReceiveOrder, counters: Counters, stack: ExitStack) -> None:
        from harvok.core.measures.arrivals import Arrivals
        from harvok.core.measures.delay import DelayHistogram
        from harvok.traffic.rings import ReceiveRing, counting_socket, raw_slots

        sent_here, tags = order.sending_interface, order.inner_tags
        self._loops = sent_here and stack.enter_context(counting_socket(sent_here, order.ip, order.stream, tags))
        self._ring = ReceiveRing(
            order.interface, order.ip, order.stream, order.frame_sizes, order.read_one_in, order.blocks, tags,
            order.lanes, order.group,
        )  # fmt: skip
        stack.callback(self._ring.close)
        self._sampled = _sampled_hearing(order, stack)
        self._order, self._cells = order, counters.cells
        self._frames_at = Counters.index(order.row, FrameCell.FRAMES)
        self._stop_at = Counters.index(order.row, FrameCell.STOP)
        self._delay_at = Counters.index(order.row, FrameCell.DELAY_NS)
        self._starts = counters.row_cells(order.steps_row, order.steps)
        for number, start in enumerate(order.starts):
            self._starts[number] = start
        self._arrivals = Arrivals()
        self._delays = [DelayHistogram() for _ in range(order.steps)]
        self._held: list[list[Any]] = [[] for _ in range(order.steps)]
        self._raw_slots = raw_slots(order.slots)
        self._received = [0] * order.steps
        self._tagged: list[int] = []
        self._stream = 0
        self._first_ns = self._last_ns = self._longest_gap_ns = self._own = 0
        self._all_before = _frames_in(order.interface)

    def fileno(self) -> int:
        """Readable when a block is full."""
        return self._ring.fileno()

    @property
    def is_to_stop(self) -> bool:
        """Whether the parent has said so."""
        return bool(self._cells[self._stop_at])

    def hear(self) -> None:
        """Takes the blocks that are full by now."""
        for block in self._ring.blocks():
            at_ns = block.at_ns()
            self._own += len(block)
            self._stream = self._stream or block.stream()
            if not self._take_run(block, at_ns):
                self._take_any(block, at_ns)
            self._first_ns = self._first_ns or int(at_ns[0])
            before_ns = self._last_ns or int(at_ns[0])
            within_ns = int((at_ns[1:] - at_ns[:-1]).max(initial=0))
            self._longest_gap_ns = max(self._longest_gap_ns, within_ns, int(at_ns[0]) - before_ns)
            self._last_ns = int(at_ns[-1])
            self._cells[self._frames_at] = self._arrivals.received
        if self._sampled:
            self._sampled.collect()

    def _take_run(self, block: "Block", at_ns: Any) -> bool:
        """Takes a block in which nothing is missing, doubled or out of order, as in nearly all; False for others."""
        import numpy as np

        first, count, batch = self._arrivals.highest + 1, len(block), self._order.batch
        starts = self._begun()
        if starts and starts[-1] > first:
            return False
        if not block.is_run(first, self._order.slots, self._raw_slots):
            return False
        self._arrivals.add_run(first, count)
        self._received[len(starts)] += count
        every = self._order.delay_one_in if block.stamped_each() else batch
        which = slice(-first % every, None, every)
        self._take_delays(
            len(starts), at_ns[which] - block.stamp_ns(which), lambda: np.arange(first, first + count)[which]
        )
        return True

    def _begun(self) -> list[int]:
        """Where each step after the first began, of those that have."""
        return [start for start in self._starts[1:] if start != NOT_YET]

    def _take_any(self, block: "Block", at_ns: Any) -> None:
        numbers = block.numbers(self._order.slots)
        for step, start, end in self._by_step(numbers):
            self._take(step, block.part(start, end), numbers[start:end], at_ns[start:end])

    def _by_step(self, numbers: Any) -> "Iterator[tuple[int, int, int]]":
        """The portions of a block that follow one upon the other and were sent in one step: step, start, end."""
        import numpy as np

        starts = self._begun()
        if not starts or int(numbers.min()) >= starts[-1]:
            yield len(starts), 0, len(numbers)
            return
        steps = np.searchsorted(np.array(starts), numbers, side="right")
        cuts = [0, *(np.flatnonzero(np.diff(steps)) + 1).tolist(), len(numbers)]
        for start, end in pairwise(cuts):
            yield int(steps[start]), start, end

    def _take(self, step: int, block: "Block", numbers: Any, at_ns: Any) -> None:
        """Without stamps of their own, delays are of the first frame of each batch alone. In a run without gaps the
        frames whose delays are counted stand at even distances."""
        import numpy as np

        before = self._arrivals.received
        in_a_run = self._arrivals.add(numbers)
        self._received[step] += self._arrivals.received - before
        every = self._order.delay_one_in if block.stamped_each() else self._order.batch
        if in_a_run:
            which: Any = slice(int(-numbers[0] % every), None, every)
        else:
            which = np.flatnonzero(numbers % every == 0)
        self._take_delays(step, at_ns[which] - block.stamp_ns(which), lambda: numbers[which])

    def _take_delays(self, step: int, delays: Any, numbers: Callable[[], Any]) -> None:
        """Delays of some frames, and their numbers where these are needed."""
        if not len(delays):
            return
        delays -= self._order.clock_ahead_ns
        held = self._held[step]
        held.append(delays)
        if len(held) == _HELD:
            self._count_held(step)
        self._cells[self._delay_at] = int(delays.sum()) // len(delays)
        if len(self._tagged) < len(self._order.tags):
            self._tag(numbers(), delays)

    def _count_held(self, step: int) -> None:
        """Has the histogram count many blocks at once: it costs as much for a few delays as for hundreds."""
        import numpy as np

        held = self._held[step]
        if held:
            self._delays[step].add(np.concatenate(held))
            held.clear()

    def _tag(self, numbers: Any, delays: Any) -> None:
        tags = self._order.tags
        for number, delay in zip(numbers.tolist(), delays.tolist(), strict=True):
            if len(self._tagged) < len(tags) and number >= tags[len(self._tagged)]:
                self._tagged.append(delay)

    def report(self) -> ReceiveReport:
        """What came."""
        from harvok.traffic.rings import statistics

        drops = self._ring.drops()
        own = self._own + self._ring.corrupted.frames + drops
        foreign = max(_frames_in(self._order.interface) - self._all_before - own, 0)
        looped = statistics(self._loops)[0] if self._loops else 0
        for step in range(len(self._held)):
            self._count_held(step)
        reported = [delays.summary() for delays in self._delays]
        for later in self._delays[1:]:
            self._delays[0].merge(later)
        delay = self._delays[0].summary()
        return ReceiveReport(
            received=self._arrivals.received,
            steps=[(came, asdict(one) if one else None) for came, one in zip(self._received, reported, strict=True)],
            duplicates=self._arrivals.duplicates,
            reordered=self._arrivals.reordered,
            highest=self._arrivals.highest,
            last_lost=self._arrivals.last_lost(),
            delay=asdict(delay) if delay else None,
            tagged_delays_ns=self._tagged,
            first_ns=self._first_ns,
            last_ns=self._last_ns,
            longest_gap_ns=self._longest_gap_ns,
            ring_drops=drops,
            looped=looped,
            foreign=foreign,
            **asdict(self._ring.corrupted),
            read_one_in=self._order.read_one_in,
            samples=self._sampled.stamps if self._sampled else [],
            stream=self._stream,
        )


def _frames_in(interface: str) -> int:
    """How many frames an interface of this namespace has received, as its driver counts."""
    from pathlib import Path

    for line in Path("/proc/thread-self/net/dev").read_text().splitlines():
        name, _, numbers = line.partition(":")
        if name.strip() == interface:
            return int(numbers.split()[1])
    return 0


def learn(order: LearnOrder) -> Taught:
    """Sends a few frames, spread out."""
    from harvok.traffic.rings import open_packet_socket

    with open_packet_socket(order.interface) as sock:
        sock.bind((order.interface, 0))
        at_ns = SYSTEM.wall_ns()
        for frame in order.frames:
            sock.send(bytes.fromhex(frame))
            SYSTEM.sleep(order.over_s / len(order.frames))
    return Taught(at_ns)


def _say_all(orders: Sequence[StreamOrder], lines: Sequence[Line]) -> None:
    """A line for each of the orders that are carried out together."""
    os.write(1, b"".join(encode(line, order.row) for order, line in zip(orders, lines, strict=True)))


def _obey(orders: Sequence[Line], counters: Counters, stamping: "Stamping") -> None:
    """Carries out one order, or several of one kind together, and says what came of it."""
    senders = [order for order in orders if isinstance(order, SendOrder)]
    receivers = [order for order in orders if isinstance(order, ReceiveOrder)]
    reflectors = [order for order in orders if isinstance(order, ReflectOrder)]
    asked = [one.cpu for one in senders] + [one.cpu for one in receivers] + [one.cpu for one in reflectors]
    if cores := {core for core in asked if core is not None}:
        os.sched_setaffinity(0, cores)
    if senders:
        _say_all(senders, send(senders, counters, stamping))
    elif receivers:
        _say_all(receivers, receive(receivers, counters))
    elif reflectors:
        from harvok.traffic.frame_reflector import reflect

        ready = [Ready() for _ in reflectors]
        _say_all(reflectors, reflect(reflectors, counters, lambda: _say_all(reflectors, ready)))
    else:
        os.write(1, encode(_help(orders[0])))


def _help(order: Line) -> Line:
    if isinstance(order, LearnOrder):
        return learn(order)
    if isinstance(order, AnswerOrder):
        from harvok.traffic.neighbours import Answerer

        answerer = Answerer(order)
        threading.Thread(target=answerer.run, daemon=True).start()
        return answerer.resolve()
    if isinstance(order, StampsOrder):
        from harvok.traffic.card_stamps import stamps_of

        return stamps_of(order)
    raise ValueError(f"no order: {order.kind}")


def work(text: str) -> None:
    setup = json.loads(text)
    end_with_parent()
    from harvok.traffic.transmit_stamps import Stamping
    from harvok.traffic.xdp_ring import may_lock_memory

    raise_priority()  # before it is nobody to this host, inside a rig of its own
    stamping = Stamping()  # for the same reason
    may_lock_memory()
    try:
        enter_namespaces(setup["namespaces"])
        counters = Counters(setup["rows"], setup["counters_fd"])
    except OSError as error:
        say_fault(f"a worker could not enter the rig: {error.strerror}", "Start again; the rig may have gone.")
        return
    wake_precisely()
    say_ready()
    for line in sys.stdin.buffer:
        try:
            _obey(decode_orders(line), counters, stamping)
        except HarvokError as error:
            say_fault(error.message, error.hint)
        except OSError as error:
            say_fault(f"the kernel refused: {error.strerror}", "Check the ports of the rig with `harvok rig show`.")


if __name__ == "__main__":
    run(work)
