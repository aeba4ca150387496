"""A rig in virtual time: tester ports with a modelled device between them. Exact, and the same for the same seed.

Nothing is sent and nobody waits, so a whole RFC 2544 suite takes seconds. Delays are reported for a sample of the
frames, spread evenly over each trial.
"""

import random
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from math import log

import numpy as np
from numpy.typing import NDArray

from harvok.core.ends import Stream
from harvok.core.measures.delay import DelayHistogram
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.rig import SimulatedRig
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, FrameTrialResult, LoadStep, StepResult
from harvok.core.wire.frame import FrameIp
from harvok.errors import UsageError
from harvok.host.port_counters import FramesCounted
from harvok.rigs.device import Device, Stretch, follow, late_frames, whole_frames
from harvok.rigs.fabric import AddressTable, Coming, Fabric, GroupTable, arrivals
from harvok.rigs.simulated_device import FollowedModel, ports_of

_SAMPLED_DELAYS = 2000


class SimulatedPorts:
    """Runs frame trials on a device model. Randomness (jitter, random loss, order) comes from the seed alone."""

    def __init__(
        self,
        device: Device,
        seed: int = 1,
        asked: FollowedModel | None = None,
        fabric: Fabric = Fabric(),
        table: AddressTable | None = None,
        max_frame_bytes: int | None = None,
        groups: GroupTable = GroupTable(),
    ) -> None:
        self._device, self._fabric, self._table = device, fabric, table or AddressTable()
        self._max_frame_bytes, self._groups = max_frame_bytes, groups
        self._rng = random.Random(seed)
        self._now_s = 0.0
        self.asked = asked

    def check(self, sizes: Sequence[int], ip: FrameIp, pairs: int) -> None:
        """A model carries anything."""

    def run(self, trial: FrameTrial, observer: Observer) -> FrameTrialResult:
        """Runs one trial; nothing is told on the way, since no time passes."""
        self._learn(trial)
        coming = [
            arrivals(trial, step, self._fabric, self._device.capacity_fps, partial(self._reaches, trial), ports_of)
            for step in trial.steps
        ]
        result = FrameTrialResult(
            [
                self._told(trial, stream, self._stream(trial, stream.name, [one[stream.name] for one in coming]))
                for stream in trial.streams
            ]
        )
        self._now_s += trial.duration_s + trial.pause_s
        if self.asked:
            self.asked.carry(trial, result)
        return result

    def tester_counts(self) -> dict[str, FramesCounted]:
        """What the modelled ports of the tester have counted; nothing where the device is not asked either."""
        return self.asked.tester_counts() if self.asked else {}

    def ports_of(self, stream: Stream) -> tuple[str, str]:
        """The two ports that a stream joins."""
        return ports_of(stream)

    def _learn(self, trial: FrameTrial) -> None:
        for stream in trial.streams:
            frames = trial.frames(stream.name)
            if frames.cast == "learning":
                load_fps = trial.load_of(stream.name, trial.steps[0])
                self._table.learn(frames, ports_of(stream)[0], load_fps, self._now_s)

    def _reaches(self, trial: FrameTrial, stream: Stream) -> float:
        """The share of a stream that is forwarded to its destination."""
        frames = trial.frames(stream.name)
        sizes = frames.sizes(trial.frame_sizes)
        short = sum(size <= (self._max_frame_bytes or size) for size in sizes) / len(sizes)
        if frames.cast == "multicast":
            return short * self._groups.reaches(trial, stream)
        if frames.cast == "learned":
            return short * self._table.reaches(frames, ports_of(stream)[1], self._now_s)
        return short

    def _told(self, trial: FrameTrial, stream: Stream, result: FrameDirectionResult) -> FrameDirectionResult:
        """The result of a stream, with how long joining and leaving its groups took to show."""
        if trial.frames(stream.name).cast != "multicast" or not result.received_frames:
            return result
        begins_s, ends_s = self._groups.open_s(trial, stream)
        return replace(
            result,
            join_delay_s=None if trial.join_at_s is None else begins_s - trial.join_at_s,
            leave_delay_s=None if trial.leave_at_s is None else ends_s - trial.leave_at_s,
        )

    def _stream(self, trial: FrameTrial, direction: str, coming: Sequence[Coming]) -> FrameDirectionResult:
        size, device = trial.frames(direction).mean_bytes(trial.frame_sizes), self._device
        queued = [LoadStep(one.all_fps, step.duration_s) for one, step in zip(coming, trial.steps, strict=True)]
        stretches = list(follow(device, size, queued, trial.reset_at_s))
        delays, steps = DelayHistogram(), list[StepResult]()
        by_chance, altered, start_s = 0, 0, 0.0
        for step, own_coming in zip(trial.steps, coming, strict=True):
            sent = whole_frames(trial.load_of(direction, step) * step.duration_s)
            result, lost, changed, own = self._step(size, stretches, step, start_s, sent, own_coming)
            steps.append(result)
            delays.merge(own)
            by_chance, altered, start_s = by_chance + lost, altered + changed, start_s + step.duration_s
        received = sum(step.received_frames for step in steps)
        return FrameDirectionResult(
            direction=direction,
            sent_frames=sum(step.sent_frames for step in steps),
            sending_s=trial.duration_s,
            received_frames=received,
            duplicates=self._binomial(received, device.duplication),
            reordered=self._binomial(received, device.reordering),
            steps=steps if len(steps) > 1 else [],
            delay=delays.summary(),
            tagged_delays_s=self._tagged(trial, size, stretches),
            last_loss_s=self._last_loss_s(stretches, trial.duration_s, by_chance + altered),
            longest_gap_s=_longest_gap_s(stretches),
            altered_frames=altered,
            stamped_by="model",
        )

    def _step(
        self,
        size: float,
        stretches: Sequence[Stretch],
        step: LoadStep,
        start_s: float,
        sent: int,
        coming: Coming,
    ) -> tuple[StepResult, int, int, DelayHistogram]:
        """What became of one step, how many of its frames chance lost and altered, and its delays."""
        reached = min(whole_frames(coming.own_fps * step.duration_s), sent)
        within = [s for s in stretches if 0 <= (s.start_s + s.end_s) / 2 - start_s < step.duration_s]
        late = late_frames(stretches[-1]) if within[-1] is stretches[-1] else 0.0
        arrived = reached - min(whole_frames((sum(s.lost for s in within) + late) * coming.share), reached)
        by_chance = self._binomial(arrived, self._device.loss)
        altered = self._binomial(arrived - by_chance, self._device.corruption)
        received = arrived - by_chance - altered
        delays = DelayHistogram()
        sampled = self._delays(size, stretches, (start_s, step.duration_s), received)
        delays.add(np.rint(sampled * 1e9).astype(np.int64))
        return StepResult(sent, step.duration_s, received, delays.summary()), by_chance, altered, delays

    def _delays(
        self, size: float, stretches: Sequence[Stretch], span_s: tuple[float, float], received: int
    ) -> NDArray[np.float64]:
        """Of frames sent evenly over a span: its start and its length."""
        (start_s, length_s), count = span_s, min(_SAMPLED_DELAYS, received)
        at_s = start_s + (np.arange(count, dtype=np.float64) + 0.5) * length_s / max(count, 1)
        return self._delays_at(size, stretches, at_s)

    def _tagged(self, trial: FrameTrial, size: float, stretches: Sequence[Stretch]) -> list[float]:
        if trial.tag_at_s is None:
            return []
        step_s = (trial.duration_s - trial.tag_at_s) / trial.tags
        delays: list[float] = self._delays_at(
            size, stretches, trial.tag_at_s + np.arange(trial.tags, dtype=np.float64) * step_s
        ).tolist()
        return delays

    def _delays_at(self, size: float, stretches: Sequence[Stretch], at_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """Time through the device for frames sent at some moments: transit, the queue before each, and jitter."""
        ends = np.array([stretch.end_s for stretch in stretches])
        here = np.minimum(np.searchsorted(ends, at_s, side="right"), len(ends) - 1)
        waiting_s = np.zeros(len(at_s))
        for number in np.unique(here):
            stretch = stretches[number]
            if stretch.capacity_fps:
                inside = here == number
                waiting_s[inside] = _queue_at(stretch, at_s[inside]) / stretch.capacity_fps
        draw, jitter_s = self._rng.uniform, self._device.jitter_s
        jitters = np.array([draw(0.0, jitter_s) for _ in at_s]) if jitter_s else 0.0
        return self._device.transit_s(size) + waiting_s + jitters

    def _binomial(self, count: int, share: float) -> int:
        """How many of `count` frames chance picks: drawn exactly for few, from the normal limit for many."""
        if not share or not count:
            return 0
        mean = count * share
        if mean < 1000:
            return self._few(count, share)
        deviation = (mean * (1 - share)) ** 0.5
        return min(max(round(self._rng.gauss(mean, deviation)), 0), count)

    def _few(self, count: int, share: float) -> int:
        """A binomial draw by jumping from one picked frame to the next (geometric gaps)."""
        if share >= 1:
            return count
        picked, at = 0, 0
        while (at := at + int(log(1 - self._rng.random()) / log(1 - share)) + 1) <= count:
            picked += 1
        return picked

    def _last_loss_s(self, stretches: Sequence[Stretch], duration_s: float, by_chance: int) -> float | None:
        lossy = [s.end_s for s in stretches if s.lossy_from_s is not None and whole_frames(s.lost)]
        by_queue = max(lossy, default=None)
        if not by_chance:
            return by_queue
        last = duration_s * max(self._rng.random() for _ in range(min(by_chance, 1000)))
        return max(by_queue or 0.0, last)


def device_of(rig: SimulatedRig) -> Device:
    """The device that a rig file describes, between ports of the rated speed."""
    model = rig.device
    return Device(
        port_bps=rig.rated,
        forwarding_fps=model.forwarding_fps,
        forwarding_bps=model.forwarding,
        buffer_frames=model.buffer_frames,
        buffer_bytes=model.buffer,
        latency_s=model.latency,
        jitter_s=model.jitter,
        store_and_forward=model.store_and_forward,
        loss=model.loss,
        reordering=model.reordering,
        duplication=model.duplication,
        corruption=model.corruption,
        burst_every_s=model.loss_burst_every,
        burst_s=model.loss_burst,
        hot_after_s=model.hot_after,
        hot_share=model.hot_share,
        reset_s=model.reset,
    )


def fabric_of(rig: SimulatedRig) -> tuple[Fabric, AddressTable, int | None, GroupTable]:
    """What the device has between its ports."""
    model = rig.device
    return (
        Fabric(model.fabric_fps, model.fabric, model.head_of_line),
        AddressTable(model.addresses, model.learns_per_s, rig.aging),
        model.max_frame,
        GroupTable(model.groups, model.join_delay, model.leave_delay),
    )


def impaired(device: Device, file: ImpairmentFile) -> Device:
    """A device behind an impairment: both become one model. Raises UsageError for what the model has no word for."""
    stage = file.plan().stages[0]
    if file.schedule or stage.send != stage.receive:
        raise UsageError(
            "a simulated device treats both directions alike, at all times",
            "Vary both, or take a virtual rig with an impairment for its device.",
        )
    put = stage.send
    if put.burst_loss or put.spread != "uniform":
        raise UsageError(
            "a simulated device loses no frames in bursts by chance, and knows uniform variation only",
            "Take a virtual rig with an impairment for its device.",
        )
    rates = [rate for rate in (device.forwarding_bps, put.rate_bps) if rate]
    return replace(
        device,
        latency_s=device.latency_s + put.delay_s - put.variation_s,
        jitter_s=device.jitter_s + 2 * put.variation_s,
        loss=_either(device.loss, put.loss),
        reordering=_either(device.reordering, put.reordering),
        duplication=_either(device.duplication, put.duplication),
        corruption=_either(device.corruption, put.corruption),
        forwarding_bps=min(rates, default=None),
        buffer_bytes=put.queue_bytes if put.rate_bps else device.buffer_bytes,
    )


def _either(one: float, other: float) -> float:
    """The chance that one of two independent things happens."""
    return one + other - one * other


def _queue_at(stretch: Stretch, at_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """Frames in the queue at moments within a stretch."""
    growth_fps = stretch.load_fps - stretch.capacity_fps
    grown = stretch.queue_at_start + growth_fps * (at_s - stretch.start_s)
    return np.minimum(grown, stretch.queue_at_end) if growth_fps > 0 else np.maximum(grown, 0.0)


def _longest_gap_s(stretches: Sequence[Stretch]) -> float:
    """The longest time in which nothing came: a dead stretch and the gap around it, else the gap between frames."""
    gaps = [1 / min(s.load_fps, s.capacity_fps) for s in stretches if s.load_fps and s.capacity_fps]
    usual_s = max(gaps, default=0.0)
    dead_s = [s.end_s - s.start_s for s in stretches if not s.capacity_fps]
    return max(dead_s) + usual_s if dead_s else usual_s
