"""What a plot of a trial over time shows, from what was seen of it."""

import tempfile
import unittest
from pathlib import Path

from harvok.core.events import EVENT, EVENT_ENDS
from harvok.core.observer import started
from harvok.core.samples import INTERVAL_LENGTH, Event, Sample, SampleColumns, in_columns
from harvok.core.timeline import Timeline, timeline_of
from harvok.core.trials.frames import progress_samples
from harvok.reports.timeline import draw

TCP = {"direction": "send", "role": "receiver"}
USERS = {"direction": "send", "role": "sender"}


def frames() -> list[SampleColumns]:
    """10 000 frames/s for two seconds, of which the second half is lost."""
    seen = [one for n in range(1, 21) for one in progress_samples("send", n / 10, n * 1000, min(n, 10) * 1000, 1e-5)]
    seen += [Sample(n / 2, "device", "port-rate-bps", 5e6, {"port": "gi1", "way": "in"}) for n in range(1, 5)]
    seen += [
        Sample(n / 2, "device", "device-cpu", 0.1 * n, {"core": str(core)}) for n in range(1, 5) for core in (0, 1)
    ]
    return in_columns(seen)


class WhatIsShown(unittest.TestCase):
    def panels(self, line: Timeline) -> dict[str, dict[str, list[float]]]:
        return {
            panel.title: {curve.name: [round(y, 6) for _, y in curve.points] for curve in panel.curves}
            for panel in line.panels
        }

    def test_frames_and_the_device(self) -> None:
        events = [
            started(0),
            Event(1.0, EVENT, labels={"what": "link port2 down for 1s"}),
            Event(2.0, EVENT_ENDS, labels={"what": "link"}),
        ]
        line = timeline_of(frames(), events)
        panels = self.panels(line)
        self.assertEqual(panels["frames"]["offered, send"], [10_000.0] * 20)
        self.assertEqual(panels["frames"]["received, send"], [10_000.0] * 10 + [0.0] * 10)
        self.assertEqual(panels["lost since the start"]["lost or in flight, send"][-1], 10_000.0)
        self.assertEqual(panels["ports of the device"], {"gi1 in": [5.0] * 4})
        self.assertEqual(panels["busiest core"], {"device": [10.0, 20.0, 30.0, 40.0]})
        self.assertEqual(panels["delay"]["delay, send"], [10.0] * 20)  # µs
        self.assertEqual(line.marks, [(1.0, "link port2 down for 1s"), (2.0, "end of link")])

    def test_bytes_datagrams_and_transactions(self) -> None:
        seen = [Sample(n / 10, "far", "payload-bytes", n * 125_000.0, TCP) for n in (1, 2, 3)]
        seen += [Sample(1.0, "far", "interval-bytes", 250_000.0, {**TCP, "service": "voice"}),
                 Sample(1.0, "far", INTERVAL_LENGTH, 0.5, {**TCP, "service": "voice"})]  # fmt: skip
        for quantity, value in (
            ("transactions", 50.0),
            ("failed", 5.0),
            (INTERVAL_LENGTH, 0.5),
            ("response-median-s", 0.02),
        ):
            seen.append(Sample(1.0, "near", quantity, value, USERS))
        panels = self.panels(timeline_of(in_columns(seen), []))
        self.assertEqual(panels["rate"], {"goodput, send": [10.0] * 3, "received, send, voice": [4.0]})
        self.assertEqual(
            (panels["transactions"], panels["failed"]), ({"transactions, send": [100.0]}, {"failed, send": [10.0]})
        )
        self.assertEqual(panels["delay"], {"response, send": [20.0]})

    def test_what_stays_at_nothing_has_no_panel(self) -> None:
        self.assertEqual(timeline_of(in_columns([Sample(1.0, "near", "cpu-core", 0.0, {"core": "0"})]), []).panels, [])

    def test_it_is_drawn(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            for suffix in ("png", "svg"):
                path = Path(name) / f"line.{suffix}"
                draw(timeline_of(frames(), [Event(1.0, EVENT, labels={"what": "x" * 90})]), "a trial", path)
                self.assertGreater(path.stat().st_size, 10_000)
