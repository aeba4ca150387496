"""Decides what becomes of frames: which are lost, doubled or bent, and when each is due.

Each kind of fate draws from a generator of its own, once for each frame, so that it depends on the seed and on the
frame's place in the sequence alone, and not on how the frames were cut into portions.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from harvok.core.impairment import Impairment

Times = NDArray[np.int64]
Mask = NDArray[np.bool_]

_KINDS = ("loss", "burst", "delay", "reordering", "duplication", "corruption")
_FCS_BYTES = 4
_FINE = 1024


@dataclass(frozen=True, slots=True)
class FrameOutcomes:
    """What becomes of each frame of a portion. Dropped ones have a `due_ns` without meaning."""

    lost: Mask
    queue_drops: Mask
    due_ns: Times
    duplicated: Mask
    held_back: Mask
    corrupted: Mask

    @property
    def goes_on(self) -> Mask:
        return ~(self.lost | self.queue_drops)


class FrameImpairer:
    """One direction of an impairment, with what it remembers from frame to frame."""

    def __init__(self, impairment: Impairment, seed: int) -> None:
        children = np.random.SeedSequence(seed).spawn(len(_KINDS))
        self._rng = {kind: np.random.default_rng(child) for kind, child in zip(_KINDS, children, strict=True)}
        self._burst_left = 0
        self._bad = False
        self._free = 0  # when the queue will be empty: since the first frame, in units of 1/1024 ns
        self._base_ns: int | None = None
        self._last_due_ns = 0
        self.apply(impairment)

    def apply(self, impairment: Impairment) -> None:
        """Changes what is done from the next frame on; queue and order carry over."""
        self.impairment = impairment
        self._recorded_ns = np.array(impairment.recorded_s) * 1e9
        self._burst_left, self._bad = 0, False

    @property
    def delays_only(self) -> bool:
        """Whether frames are only delayed, so that `due_ns` tells all."""
        one = self.impairment
        return not (one.loss or one.burst_loss or one.reordering or one.duplication or one.corruption or one.rate_bps)

    @property
    def keeps_order(self) -> bool:
        """Whether no frame overtakes another that came before it."""
        return self.impairment.keeps_order and not self.impairment.reordering

    def due_ns(self, at_ns: Times) -> Times:
        """When frames that are only delayed are to go on."""
        due_ns = at_ns + self._delays_ns(len(at_ns))
        if self.impairment.keeps_order and len(due_ns):
            due_ns = np.maximum.accumulate(np.maximum(due_ns, self._last_due_ns))
            self._last_due_ns = int(due_ns[-1])
        return due_ns

    def decide(self, at_ns: Times, frame_bytes: NDArray[np.int64]) -> FrameOutcomes:
        """The fates of frames that arrived at `at_ns`, in order; `frame_bytes` without FCS."""
        one, count = self.impairment, len(at_ns)
        lost = self._befalls("loss", one.loss, count) | self._burst_losses(count)
        queue_drops, out_ns = self._through_queue(at_ns, frame_bytes, lost)
        held_back = self._befalls("reordering", one.reordering, count)
        due_ns = out_ns + self._delays_ns(count)
        due_ns = np.maximum(due_ns, at_ns)
        if one.keeps_order:
            due_ns = np.maximum.accumulate(np.maximum(due_ns, self._last_due_ns))
            if count:
                self._last_due_ns = int(due_ns[-1])
        if one.reordering:
            due_ns = due_ns + held_back * int(one.reorder_by_s * 1e9)
        return FrameOutcomes(
            lost=lost,
            queue_drops=queue_drops,
            due_ns=due_ns,
            duplicated=self._befalls("duplication", one.duplication, count),
            held_back=held_back,
            corrupted=self._befalls("corruption", one.corruption, count),
        )

    def _befalls(self, kind: str, share: float, count: int) -> Mask:
        if not share:
            return np.zeros(count, dtype=bool)
        found: Mask = self._rng[kind].random(count) < share
        return found

    def _burst_losses(self, count: int) -> Mask:
        """Runs of good and bad frames whose lengths are geometric (Gilbert–Elliott)."""
        lost = np.zeros(count, dtype=bool)
        share, length = self.impairment.burst_loss, max(self.impairment.burst_frames, 1.0)
        if not share:
            return lost
        good_length = max(length * (1 - share) / share, 1.0)
        at = 0
        while at < count:
            if not self._burst_left:
                mean = length if self._bad else good_length
                self._burst_left = int(self._rng["burst"].geometric(1 / mean))
            run = min(self._burst_left, count - at)
            lost[at : at + run] = self._bad
            at, self._burst_left = at + run, self._burst_left - run
            if not self._burst_left:
                self._bad = not self._bad
        return lost

    def _delays_ns(self, count: int) -> Times:
        one = self.impairment
        if one.spread == "recorded" and len(self._recorded_ns):
            drawn = self._recorded_ns[self._rng["delay"].integers(len(self._recorded_ns), size=count)]
        elif not one.variation_s:
            return np.full(count, int(one.delay_s * 1e9), dtype=np.int64)
        elif one.spread == "normal":
            drawn = one.delay_s * 1e9 + self._rng["delay"].standard_normal(count) * one.variation_s * 1e9
        else:
            drawn = one.delay_s * 1e9 + (self._rng["delay"].random(count) * 2 - 1) * one.variation_s * 1e9
        return np.maximum(drawn, 0).astype(np.int64)

    def _through_queue(self, at_ns: Times, frame_bytes: NDArray[np.int64], lost: Mask) -> tuple[Mask, Times]:
        """(those that found the queue full, when each leaves it): a clock that runs ahead by what waits."""
        one = self.impairment
        drops = np.zeros(len(at_ns), dtype=bool)
        if not one.rate_bps or not len(at_ns):
            return drops, at_ns
        if self._base_ns is None:
            self._base_ns = int(at_ns[0])
        at = (at_ns - self._base_ns) * _FINE
        a_byte = 8e9 * _FINE / one.rate_bps
        service = np.where(lost, 0, np.round((frame_bytes + _FCS_BYTES) * a_byte)).astype(np.int64)
        room = round(one.queue_bytes * a_byte)
        done = np.cumsum(service)
        before = done - service
        start = np.maximum.accumulate(np.maximum(at - before, self._free)) + before
        if (start - at <= room).all():
            self._free = int(start[-1] + service[-1])
            return drops, self._base_ns + (start + service) // _FINE
        out, free = at.copy(), self._free
        for number, (arrived, takes) in enumerate(zip(at.tolist(), service.tolist(), strict=True)):
            begins = free if free > arrived else arrived
            if begins - arrived > room and takes:
                drops[number] = True
                continue
            free = begins + takes
            out[number] = free
        self._free = free
        return drops, self._base_ns + out // _FINE
