"""Looks, before a test on a rig of ports, at everything that could spoil it."""

from collections.abc import Iterator
from contextlib import closing

from harvok.clock import SYSTEM, Clock, local_words
from harvok.core.models.preflight import Check, calibration_check, cpu_checks, port_check, traffic_check
from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig
from harvok.errors import LogbookError, PortError
from harvok.host.facts import interface_counters
from harvok.host.ports import all_ports, remarks_on
from harvok.logbook.store import Logbook
from harvok.rigs.frame_rigs import usable_port
from harvok.runner.benches.bench import this_host
from harvok.runner.calibration import calibration_of_ports

_WATCH_S = 1.0


def preflight_ports(rig: RigFile, logbook: str, clock: Clock = SYSTEM) -> Iterator[Check]:
    """Yields each finding as it is made."""
    if isinstance(rig, SimulatedRig):
        yield Check("rig", "ok", f"{rig.name} is a model: nothing of this host can spoil it")
        return
    yield from cpu_checks("near", this_host())
    if isinstance(rig, PortsRig):
        yield from _ports(rig, clock)
    else:
        yield Check("rig", "ok", f"{rig.name} is made of this host's kernel, when it is needed")
    try:
        with closing(Logbook(logbook)) as book:
            found = calibration_of_ports(book, rig)
    except LogbookError as error:
        yield Check("ability of the tester", "unknown", error.message, error.hint)
        return
    yield calibration_check(found.id if found else "", local_words(found.started) if found else "")


def _ports(rig: PortsRig, clock: Clock) -> Iterator[Check]:
    """Each port of this host: whether it can be used, its speed, what may hold it down, what goes on there now."""
    own = {name: port.interface for name, port in rig.ports.items() if not port.station}
    before = {interface: interface_counters(interface) for interface in own.values()}
    clock.sleep(_WATCH_S)
    known = {port.name: port for port in all_ports()}
    for name, port in rig.ports.items():
        if port.station:
            yield Check(name, "unknown", f"{port.place}: that station says when a test begins whether it can be lent")
            continue
        try:
            facts = usable_port(port.interface, rig.rated)
        except PortError as error:
            yield Check(name, "stop", error.message, error.hint)
            continue
        yield port_check(name, facts, rig.rated)
        for remark in remarks_on(known[port.interface]) if port.interface in known else ():
            yield Check(f"{name}, {port.interface}", "warning", remark, "`harvok ports` shows all that is known of it.")
        after = interface_counters(port.interface)
        yield from traffic_check(name, before[port.interface], after, rig.rated)
