"""A test that talks to a station, between two hosts made of this one: what is between them is up to the caller."""

import contextlib
import os
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import ip_address, ip_interface
from itertools import pairwise
from pathlib import Path

from harvok.clock import Clock
from harvok.core.models.rig import PortsRig, Side, VirtualRig
from harvok.errors import UsageError
from harvok.rigs.device_files import OUTSIDE
from harvok.rigs.virtual import VirtualDevice, device_of
from harvok.runner.lending import check_lendable, lent_ports
from harvok.runner.lock import one_test_at_a_time
from harvok.runner.namespaced import (
    ADDRESSES,
    BUILT_AGENT,
    BUILT_RIG,
    HostNamespaces,
    host_namespaces,
    run_in,
    station_on,
)

COMMANDS = ("tcp", "udp", "app", "rfc9411", "delay", "sweep", "run")
HOSTS = ("dome", "hall")


@dataclass(frozen=True, slots=True)
class AcrossRequest:
    """What was asked for. `words` are a command of Harvok's without its station, `command` is what was typed. One that
    `shows` itself does so on this terminal."""

    words: tuple[str, ...]
    logbook: str
    command: tuple[str, ...]
    wait_s: float = 0.0
    shows: bool = True


@contextlib.contextmanager
def held(request: AcrossRequest, what: str, notice: Callable[[str], None], clock: Clock) -> Iterator[Path]:
    """Holds this host for the request; yields a folder that is gone afterwards."""
    with (
        one_test_at_a_time(f"a test across {what}", request.wait_s, clock, notice),
        tempfile.TemporaryDirectory() as folder,
    ):
        yield Path(folder)


def run_between(
    near: HostNamespaces,
    far: HostNamespaces,
    request: AcrossRequest,
    folder: Path,
    environment: Mapping[str, str] | None = None,
) -> int:
    """Runs the command on one host towards a station on the other; returns its exit code."""
    with station_on(far, folder) as access:
        words = with_station(request.words, far.address)
        access = {**access, **(environment or {})}
        return run_in(near, words, access, request.logbook, request.command, folder, request.shows)


def run_across(rig: VirtualRig | PortsRig, request: AcrossRequest, notice: Callable[[str], None], clock: Clock) -> int:
    """Runs the command across a gateway of this kernel, or across a device between two ports of this host; returns its
    exit code. Raises UsageError for another rig or a command that talks to no station, PortError for ports that may not
    be lent, NearEndError where no hosts can be made."""
    with_station(request.words, "")  # refused before anything is built
    if rig.kind == "remote":
        raise UsageError(
            "the ports of a remote rig are two hosts already", "Test from one to the other: harvok tcp STATION."
        )
    version = _version_asked(request.words)
    hosts = _gateway_hosts(rig, version) if isinstance(rig, VirtualRig) else _port_hosts(rig, version)
    with held(request, rig.name, notice, clock) as folder, hosts as (near, far, agent_port):
        built = {BUILT_RIG: rig.model_dump_json(), BUILT_AGENT: str(agent_port), OUTSIDE: _network(rig)}
        return run_between(near, far, request, folder, built)


def _network(rig: VirtualRig | PortsRig) -> str:
    """Where a device between two real ports is reached from: the network of this process, which neither host is in."""
    return f"/proc/{os.getpid()}/ns/net" if isinstance(rig, PortsRig) else ""


TwoHosts = contextlib.AbstractContextManager[tuple[HostNamespaces, HostNamespaces, int]]
"""The near and the far host, and the port at which the agent of what is between them answers; 0 for none."""


def _version_asked(words: Sequence[str]) -> int:
    """The IP version that the command asks for; IPv4 where it does not say."""
    return 6 if "--ip-version=6" in words or ("--ip-version", "6") in pairwise(words) else 4


def _addresses(rig: VirtualRig | PortsRig, version: int) -> tuple[str, str]:
    """Of both hosts, with prefix length. Raises UsageError where the rig has none of that version."""
    of_each = [[one for one in side.addresses if ip_interface(one).version == version] for side in rig.sides]
    if not all(of_each):
        raise UsageError(
            f"{rig.name} has no IPv{version} addresses on both sides", "Give each port one in the rig file."
        )
    return of_each[0][0], of_each[1][0]


def _gateway_hosts(rig: VirtualRig, version: int) -> TwoHosts:
    """Two hosts with a gateway of this kernel between them. Raises UsageError for another device."""
    if rig.device != "gateway":
        raise UsageError(
            f"{rig.name} is a {rig.device} between two ports, not between two hosts",
            'Take a rig with device = "gateway", or one of ports.',
        )
    return _built_hosts(rig, _addresses(rig, version))


@contextlib.contextmanager
def _built_hosts(rig: VirtualRig, addresses: tuple[str, str]) -> Iterator[tuple[HostNamespaces, HostNamespaces, int]]:
    with VirtualDevice(device_of(rig)) as device:
        built = device.built
        near, far = host_namespaces(built.namespaces, [*built.namespaces[:-1], built.other], HOSTS, addresses)
        yield near, far, built.agent_port


def _port_hosts(rig: PortsRig, version: int) -> TwoHosts:
    """Each of two ports of this host as a host of its own. Raises UsageError and PortError."""
    if len(rig.ports) != 2:
        raise UsageError(f"{rig.name} has {len(rig.ports)} ports, and two hosts have one each", "Name two of them.")
    first, second = (port.interface for port in rig.ports.values())
    check_lendable((first, second))
    return _lent_hosts(rig, (first, second), version)


@contextlib.contextmanager
def _lent_hosts(
    rig: PortsRig, interfaces: tuple[str, str], version: int
) -> Iterator[tuple[HostNamespaces, HostNamespaces, int]]:
    routed = rig.device == "router"
    given = all(port.addresses for port in rig.ports.values())
    near, far = _addresses(rig, version) if routed or given or version == 6 else ADDRESSES
    here, there = (_gateway(side, version) for side in rig.sides) if routed else ("", "")
    with lent_ports(interfaces, (near, far), (here, there)) as lent:
        yield *host_namespaces([lent[0]], [lent[1]], HOSTS, (near, far)), 0


def _gateway(side: Side, version: int) -> str:
    return next((one for one in side.gateways if ip_address(one).version == version), "")


def with_station(words: Sequence[str], far: str) -> list[str]:
    """The command with the far host put where its station belongs. Raises UsageError."""
    if not words or words[0] not in COMMANDS:
        raise UsageError(
            f"'{' '.join(words)}' talks to no station",
            f"Name a command and its options, without the station: {', '.join(COMMANDS)}.",
        )
    kept = ("--logbook", "--token-file", "--code", "--plain", "--station" if words[0] == "run" else "--name")
    given = next((word for word in words if word.split("=")[0] in kept), None)
    if given:
        raise UsageError(
            f"{given.partition('=')[0]} is set already", "Leave it out; --logbook belongs before the impairment or rig."
        )
    return [*words, "--station", far] if words[0] == "run" else [words[0], far, *words[1:], "--name", HOSTS[0]]
