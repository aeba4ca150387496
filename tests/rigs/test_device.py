import unittest
from dataclasses import astuple

from hypothesis import given, settings
from hypothesis import strategies as st

from harvok.core.models.rig import SimulatedRig as SimulatedRigFile
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameTrial, LoadStep
from harvok.rigs.device import Device, carries, follow, whole_frames
from harvok.rigs.files import line_of
from harvok.rigs.simulated import SimulatedPorts, device_of

SIZE = 64


def lost_one_by_one(load_fps: float, capacity_fps: float, room: int, duration_s: float) -> int:
    """The same device simulated frame by frame: a queue that is served evenly, and a frame lost when it is full."""
    queue, lost, last_s = 0.0, 0, 0.0
    for number in range(int(load_fps * duration_s)):
        at_s = number / load_fps
        queue = max(queue - (at_s - last_s) * capacity_fps, 0.0)
        last_s = at_s
        if queue + 1 > room + 1e-9:
            lost += 1
        else:
            queue += 1
    return lost


def lost_as_fluid(device: Device, *steps: LoadStep) -> int:
    return whole_frames(sum(stretch.lost for stretch in follow(device, SIZE, steps)))


class Queues(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.floats(100, 5000), st.floats(100, 5000), st.integers(2, 200), st.floats(0.2, 2.0))
    def test_against_a_queue_followed_frame_by_frame(
        self, load_fps: float, capacity_fps: float, room: int, duration_s: float
    ) -> None:
        device = Device(10e9, forwarding_fps=capacity_fps, buffer_frames=room)
        fluid = lost_as_fluid(device, LoadStep(load_fps, duration_s))
        self.assertAlmostEqual(fluid, lost_one_by_one(load_fps, capacity_fps, room, duration_s), delta=3)

    def test_the_smaller_limit_counts(self) -> None:
        device = Device(1e9, forwarding_fps=1e6, forwarding_bps=100e6, buffer_frames=10, buffer_bytes=320)
        self.assertEqual(device.capacity_fps(SIZE), 100e6 / 512)
        self.assertEqual(device.room_frames(SIZE), 5)
        self.assertEqual(Device(1e9).capacity_fps(SIZE), Device(1e9).line_fps(SIZE))

    def test_a_queue_drains_between_overloads(self) -> None:
        device = Device(1e9, forwarding_fps=1000, buffer_frames=100)
        burst, rest = LoadStep(2000, 0.1), LoadStep(0, 0.1)
        self.assertEqual(lost_as_fluid(device, burst, rest, burst, rest), 0)
        self.assertEqual(lost_as_fluid(device, burst, burst), 100)

    def test_loss_bursts_take_all_frames_of_their_time(self) -> None:
        device = Device(1e9, burst_every_s=1.0, burst_s=0.01)
        self.assertEqual(lost_as_fluid(device, LoadStep(10_000, 3.5)), 300)

    def test_a_hot_device_forwards_less(self) -> None:
        device = Device(1e9, forwarding_fps=1000, buffer_frames=0, hot_after_s=2.0, hot_share=0.5)
        self.assertEqual(lost_as_fluid(device, LoadStep(1000, 4.0)), 1000)
        self.assertTrue(carries(device, SIZE, 500, 60))
        self.assertFalse(carries(device, SIZE, 510, 60))

    def test_a_buffer_lets_through_more_in_a_short_trial(self) -> None:
        device = Device(1e9, forwarding_fps=1000, buffer_frames=100)
        self.assertTrue(carries(device, SIZE, 1099, 1.0))
        self.assertFalse(carries(device, SIZE, 1099, 10.0))


class SimulatedRigs(unittest.TestCase):
    def result(self, device: Device, load_fps: float, seconds: float = 1.0, **more: object):  # type: ignore[no-untyped-def]
        trial = FrameTrial((SIZE,), (LoadStep(load_fps, seconds),), **more)  # type: ignore[arg-type]
        return SimulatedPorts(device).run(trial, Observer()).directions[0]

    def test_delay_in_a_full_queue_is_its_length(self) -> None:
        device = Device(1e9, forwarding_fps=1e5, buffer_frames=1000, latency_s=1e-6)
        found = self.result(device, 2e5, 10.0)
        self.assertAlmostEqual(found.delay.max_s, 512e-9 + 1e-6 + 1000 / 1e5, delta=1e-5)

    def test_chance_is_drawn_in_proportion(self) -> None:
        device = Device(1e9, loss=0.01, reordering=0.002, duplication=0.0005)
        found = self.result(device, 1e6)
        self.assertAlmostEqual(found.loss, 0.01, delta=0.0005)
        self.assertAlmostEqual(found.reordered / found.received_frames, 0.002, delta=0.0003)
        self.assertAlmostEqual(found.duplicates / found.received_frames, 0.0005, delta=0.0002)
        self.assertEqual(self.result(Device(1e9, loss=1.0), 100).received_frames, 0)

    def test_the_last_loss_is_when_it_happened(self) -> None:
        device = Device(1e9, burst_every_s=2.0, burst_s=0.5)
        self.assertAlmostEqual(self.result(device, 1000, 3.0).last_loss_s, 2.5)
        self.assertIsNone(self.result(Device(1e9), 1000, 3.0).last_loss_s)

    def test_rates_that_the_result_tells(self) -> None:
        found = self.result(Device(1e9, forwarding_fps=500, buffer_frames=0), 1000, 10.0)
        self.assertEqual((found.offered_load_fps, found.forwarding_rate_fps, found.lost_frames), (1000, 500, 5000))
        self.assertEqual(found.loss, 0.5)


class Files(unittest.TestCase):
    TEXT = 'version = 1\nname = "a"\n\n[device]\nloss = 1\n# name = "b"\n  jitter="1us"\n'

    def test_lines_of_keys(self) -> None:
        wanted = {
            ("name",): 2,
            ("device",): 4,
            ("device", "loss"): 5,
            ("device", "jitter"): 7,
            ("device", "name"): None,
        }
        for keys, line in wanted.items():
            self.assertEqual(line_of(self.TEXT, list(keys)), line, keys)

    def test_every_key_reaches_the_device(self) -> None:
        device = {
            "forwarding_fps": 5, "forwarding": "6M", "buffer_frames": 7, "buffer": "8k", "latency": "9us",
            "jitter": "10us", "store_and_forward": False, "loss": "11%", "reordering": 0.12, "duplication": "13 %",
            "corruption": 0.135,
            "loss_burst_every": "14s", "loss_burst": "15ms", "hot_after": "16s", "hot_share": 0.17, "reset": "18s",
        }  # fmt: skip
        file = SimulatedRigFile.model_validate(
            {"version": 1, "kind": "simulated", "name": "a", "rated": "1G", "device": device}
        )
        wanted = (1e9, 5, 6e6, 7, 8000, 9e-6, 10e-6, False, 0.11, 0.12, 0.13, 0.135, 14, 0.015, 16, 0.17, 18)
        for got, want in zip(astuple(device_of(file)), wanted, strict=True):
            self.assertAlmostEqual(got, want)
