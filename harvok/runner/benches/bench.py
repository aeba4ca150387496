"""What every bench offers: a rig for one run, and everything that is known as the run begins."""

from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Protocol

from harvok.core.conditions import HostConditions
from harvok.core.drive import AnyRig
from harvok.core.models.impairment import ImpairmentRecord
from harvok.core.models.preflight import Check
from harvok.core.models.run import AnyRigRecord
from harvok.core.procedure import Context, Test
from harvok.host.facts import host_conditions
from harvok.logbook.store import Logbook
from harvok.rigs.device_files import DeviceSettings

_NOWHERE = "127.0.0.1"


def this_host() -> HostConditions:
    """The near end of a bench of ports: they have no route, so only the host is described."""
    return host_conditions(_NOWHERE)


@dataclass(frozen=True, slots=True)
class Situation:
    """What is known as one run begins. `test` is the one asked for, with what the bench knows of the tester put in."""

    rig: AnyRig
    kept_as: AnyRigRecord
    test: Test
    context: Context
    near: HostConditions
    far: HostConditions | None = None
    notices: list[str] = field(default_factory=list)
    preflight: list[Check] = field(default_factory=list)
    calibration: str | None = None
    impairment: ImpairmentRecord | None = None
    device: DeviceSettings | None = None
    """A device of the bench's own, which is watched where no other was named."""


class Bench(Protocol):
    """A place that is held for as long as a request runs."""

    def situation(self, number: int, logbook: Logbook) -> AbstractContextManager[Situation]:
        """Gets ready for repeat `number`, from 0. Raises UsageError for what cannot be done there."""
