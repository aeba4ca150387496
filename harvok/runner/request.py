"""What a user asks for: a test of any kind, where it is to run, and how often."""

from dataclasses import dataclass, field
from typing import Literal

from harvok.core.events import PlannedEvent
from harvok.core.judgement.assessment import Criterion
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.rig import RigFile
from harvok.core.procedure import Test
from harvok.rigs.device_files import DeviceSettings
from harvok.rigs.reflected import LoadSettings
from harvok.rigs.stations import StationsSettings
from harvok.station.browser.visit import Visit
from harvok.station.contact import Access


@dataclass(frozen=True, slots=True)
class Label:
    """What the user says about the runs."""

    series: str | None = None
    attributes: dict[str, str] = field(default_factory=dict)
    note: str = ""


@dataclass(frozen=True, slots=True)
class ReflectorPlace:
    """A path to a reflector. `port` None tries a station's reflector and the standard port; `by` None takes what
    answers. The station's token matters only under load."""

    stations: StationsSettings
    port: int | None = None
    by: Literal["stamp", "echo"] | None = None
    load: LoadSettings = LoadSettings()


@dataclass(frozen=True, slots=True)
class RigPlace:
    """Two ports with a device between them; `impairment` stands for the one that the rig file names."""

    rig: RigFile
    impairment: ImpairmentFile | None = None


@dataclass(frozen=True, slots=True)
class PortPlace:
    """A port of this host, which the test names."""


@dataclass(frozen=True, slots=True)
class BrowserPlace:
    """A browser that visits this host's station, which has this name and serves it at this port."""

    visit: Visit
    station: str
    port: int
    rated_bps: float | None = None


@dataclass(frozen=True, slots=True)
class Sent:
    """A station that is to be the near end in this host's place: by its address, and what opens its door. `reached_at`
    is where that one reaches the far end, where that is not as this host does."""

    station: str
    access: Access
    reached_at: str | None = None


Place = StationsSettings | ReflectorPlace | RigPlace | PortPlace | BrowserPlace


@dataclass(frozen=True, slots=True)
class TestRequest:
    """One test, to be run `repeat` times. `command` is what was typed, without the token; `first` is the number of the
    first repeat, where a series goes on."""

    place: Place
    test: Test
    logbook: str
    command: list[str]
    label: Label = Label()
    repeat: int = 1
    first: int = 0
    pause_s: float = 0.0
    wait_s: float = 0.0
    events: tuple[PlannedEvent, ...] = ()
    limits: tuple[Criterion, ...] = ()
    """Those of a plan, to be seen while it runs; it is judged when all runs are there."""
    sent: Sent | None = None
    """Who runs it, where that is not this host."""
    device: DeviceSettings | None = None
    """The device under test, to be watched; that of a virtual rig is watched by itself."""
