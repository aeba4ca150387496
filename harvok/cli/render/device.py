"""The device under test: what it is, what it counts, and what it said of a run."""

import json
import queue
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.live import Live
from rich.text import Text

from harvok.cli.render.charts import Chart, charts
from harvok.cli.render.console import print_hanging, stdout
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import DASH, maybe
from harvok.clock import SYSTEM
from harvok.core.device.counters import PortRates
from harvok.core.device.reading import DeviceFacts, DeviceReading, PortCounts
from harvok.core.device.trial import notices_of
from harvok.core.models.run import RunRecord
from harvok.core.samples import Sample
from harvok.core.units import (
    format_duration,
    format_frame_rate,
    format_rate,
    format_share,
    format_span,
    format_speed,
)
from harvok.device.watch import DeviceWatch

if TYPE_CHECKING:
    from harvok.rigs.device_files import DeviceSettings

_KEPT = 240
_CHARTED = 4
_PATIENCE = 1.5
"""Times between two questions that an answer is waited for before nothing new is said."""


def show_device(
    console: Console, settings: "DeviceSettings", facts: DeviceFacts, reading: DeviceReading | None
) -> None:
    """What a device is, and what it has counted since it started."""
    access = settings.orders.access
    console.print(Text.assemble((settings.name, "bold"), f"  {access.version} at {access.host} port {access.port}"))
    for name, value in (
        ("it says", facts.description),
        ("called", facts.name),
        ("firmware", facts.firmware),
        ("up for", format_span(facts.uptime_s)),
        ("processors", ", ".join(format_share(share) for share in reading.cpu) if reading else ""),
        ("memory", f"{format_share(reading.memory)} in use" if reading and reading.memory is not None else ""),
        ("temperature", ", ".join(f"{one:.1f} °C" for one in reading.temperatures_c) if reading else ""),
        ("counters", "64 bits" if facts.wide else "32 bits: a fast port wraps them within seconds"),
    ):
        if value:
            print_hanging(console, Text(f"  {name:<12} "), value)
    console.print()
    ends = {port: end for end, port in settings.ports.items()}
    table = plain_table(
        ("port", "of end", "state", "speed", "duplex", "neighbour"), ("frames in", "out", "errors", "discards")
    )
    for port in facts.ports:
        counts = reading.ports.get(port.name) if reading else None
        table.add_row(
            port.name,
            ends.get(port.name) or ends.get(port.alias) or DASH,
            "up" if port.up else "down",
            maybe(port.speed_bps, format_speed),
            port.duplex or DASH,
            port.neighbour or DASH,
            *_counts(counts),
        )
    console.print(table)


def _counts(counts: PortCounts | None) -> tuple[str, str, str, str]:
    if counts is None:
        return DASH, DASH, DASH, DASH
    errors = [count for count in (counts.errors_in, counts.errors_out) if count is not None]
    discards = [count for count in (counts.discards_in, counts.discards_out) if count is not None]
    return (
        maybe(counts.frames_in, str),
        maybe(counts.frames_out, str),
        str(sum(errors)) if errors else DASH,
        str(sum(discards)) if discards else DASH,
    )


class _Followed:
    """What has been seen of a device so far: the newest value of everything, and the rates of some ports."""

    def __init__(self, watch: DeviceWatch, settings: "DeviceSettings") -> None:
        self._watch, self._settings = watch, settings
        self._rates = PortRates(SYSTEM.now_ns(), watch.refresh)
        self._newest: dict[tuple[str, str, str], float] = {}
        self._series: dict[tuple[str, str], deque[float | None]] = {}
        self.reading: DeviceReading | None = None

    def add(self, reading: DeviceReading) -> list[Sample]:
        """Takes a reading; returns what it adds."""
        self.reading, samples = reading, self._rates.add(reading)
        for sample in samples:
            port, way = sample.labels.get("port", ""), sample.labels.get("way", "")
            self._newest[sample.quantity, port, way] = sample.value
            if sample.quantity == "port-rate-bps":
                self._series.setdefault((port, way), deque(maxlen=_KEPT)).append(sample.value)
        return samples

    def table(self) -> PlainTable:
        """A row for each port that is watched."""
        table = plain_table(("port", "of end"), ("in", "out", "frames/s in", "out", "errors", "discards"))
        ends = {port: end for end, port in self._settings.ports.items()}
        for port in self._watch.watched:
            table.add_row(
                port,
                ends.get(port, DASH),
                *(self._shown("port-rate-bps", port, way, format_rate) for way in ("in", "out")),
                *(self._shown("port-rate-fps", port, way, format_frame_rate) for way in ("in", "out")),
                self._moved("port-errors", port),
                self._moved("port-discards", port),
            )
        return table

    def _shown(self, quantity: str, port: str, way: str, show: Callable[[float], str]) -> str:
        return maybe(self._newest.get((quantity, port, way)), show)

    def _moved(self, quantity: str, port: str) -> str:
        """Since it has been watched, both ways."""
        return str(round(sum(self._newest.get((quantity, port, way), 0.0) for way in ("in", "out"))))

    def state(self) -> str:
        """How the device is, in one line."""
        reading, refresh = self.reading, self._watch.refresh
        if reading is None:
            return "no answer yet"
        said = [f"up for {format_span(reading.uptime_s)}"]
        said += [f"CPU {', '.join(format_share(share) for share in reading.cpu)}"] if reading.cpu else []
        said += [f"memory {format_share(reading.memory)}"] if reading.memory is not None else []
        said += [f"{', '.join(f'{one:.1f} °C' for one in reading.temperatures_c)}"] if reading.temperatures_c else []
        if refresh.is_late and refresh.period_s:
            said.append(f"counters change every {format_duration(refresh.period_s)}")
        if self._watch.restarts:
            said.append("restarted meanwhile")
        return "; ".join(said)

    def drawn(self, width: int) -> RenderableType:
        """The table, and the rates of the ports that are wired to an end of a test, or of the first ones."""
        named = [port for port in self._watch.watched if port in self._settings.ports.values()] or self._watch.watched
        some = [
            Chart(f"{port} {way}", list(self._series.get((port, way), ())), format_rate)
            for port in named[: _CHARTED // 2]
            for way in ("in", "out")
        ]
        head = Text.assemble((self._settings.name, "bold"), f"  {self.state()}")
        return Group(head, self.table(), Text(), charts(some, width))


def follow_device(settings: "DeviceSettings", for_s: float | None, as_json: bool) -> None:
    """Shows a device until its time is over, or somebody ends it: drawn on a terminal, in lines elsewhere."""
    console = stdout()
    with DeviceWatch(settings.orders) as watch, suppress(KeyboardInterrupt):
        watch.refresh.flows()
        followed = _Followed(watch, settings)
        readings: queue.SimpleQueue[DeviceReading] = queue.SimpleQueue()
        watch.on_reading = readings.put
        until_ns = SYSTEM.now_ns() + int(for_s * 1e9) if for_s else None
        live = Live(console=console, auto_refresh=False) if console.is_terminal and not as_json else None
        if live:
            live.start()
        try:
            while until_ns is None or SYSTEM.now_ns() < until_ns:
                reading = _next(readings, _PATIENCE * settings.orders.every_s)
                samples = followed.add(reading) if reading else []
                if live:
                    live.update(followed.drawn(console.width), refresh=True)
                else:
                    _print_lines(console, settings.name, followed, samples, as_json)
        finally:
            if live:
                live.stop()


def _next(readings: "queue.SimpleQueue[DeviceReading]", within_s: float) -> DeviceReading | None:
    """The next reading; None when none comes in time."""
    try:
        return readings.get(timeout=within_s)
    except queue.Empty:
        return None


def _print_lines(console: Console, name: str, followed: _Followed, samples: Sequence[Sample], as_json: bool) -> None:
    if as_json:
        for sample in samples:
            line = {"at_s": sample.at_s, "quantity": sample.quantity, "value": sample.value, **sample.labels}
            console.file.write(json.dumps(line) + "\n")
        console.file.flush()
        return
    rates = {(one.labels["port"], one.labels["way"]): one.value for one in samples if one.quantity == "port-rate-bps"}
    said = [f"{port} {way} {format_rate(value)}" for (port, way), value in rates.items()]
    console.print(Text(f"{name}: {', '.join(said) or 'nothing new'}; {followed.state()}"), soft_wrap=True)


def show_device_words(console: Console, record: RunRecord) -> None:
    """What the device said of a run: where frames were lost, and what could not be told."""
    if record.device is None:
        return
    told = [trial.device for trial in record.trials if trial.device]
    cpu = max((trial.cpu_max for trial in told if trial.cpu_max is not None), default=None)
    said = notices_of(told, record.device.name)
    if cpu is not None:
        said.append(f"CPU of {record.device.name}: {format_share(cpu)} at most")
    for words in said:
        print_hanging(console, Text("device ", "bold"), words)
