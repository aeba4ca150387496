"""A port of this host, whose link is watched."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from harvok.clock import Clock
from harvok.core.conditions import InterfaceFacts
from harvok.core.link import Link
from harvok.core.models.run import PortRecord
from harvok.core.procedure import Context
from harvok.core.procedures.link import LinkTest
from harvok.errors import NothingFoundError
from harvok.host.interfaces import port_state
from harvok.logbook.store import Logbook
from harvok.rigs.watched import WatchedRig
from harvok.runner.benches.bench import Situation, this_host
from harvok.runner.request import TestRequest


@dataclass(frozen=True, slots=True)
class PortBench:
    """One port."""

    test: LinkTest
    facts: InterfaceFacts
    rig: WatchedRig

    @contextmanager
    def situation(self, number: int, logbook: Logbook) -> Iterator[Situation]:
        context = Context(Link(self.test.rated_bps))
        yield Situation(self.rig, PortRecord(port=self.facts), self.test, context, this_host())


@contextmanager
def open_port(request: TestRequest, notice: Callable[[str], None], clock: Clock) -> Iterator[PortBench]:
    """Raises NothingFoundError when there is no such port."""
    test = request.test
    assert isinstance(test, LinkTest)
    found = port_state(test.trial.port)
    if found is None:
        raise NothingFoundError(f"this host has no port {test.trial.port}", "`harvok ports` lists them.")
    yield PortBench(test, found.facts, WatchedRig(clock=clock))
