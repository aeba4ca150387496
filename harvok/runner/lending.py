"""Two ports of this host, each in a namespace of its own for a while."""

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict

from harvok.errors import NearEndError, UsageError
from harvok.host.interfaces import port_to_use
from harvok.host.pair import PairSpec, restore_lent_ports
from harvok.host.state import LENT_PORTS
from harvok.worker.parent import Worker

_HOME_S = 30.0
"""How long ports may take to be put back; killed before, they would stay away."""


def check_lendable(ports: tuple[str, str]) -> None:
    """Raises PortError for ports that may not be lent, and UsageError for one port twice."""
    for port in ports:
        port_to_use(
            port, "`harvok ports` lists them.", "It would be cut off: test ports that nothing else needs meanwhile."
        )
    if ports[0] == ports[1]:
        raise UsageError("a port cannot be tested against itself", "Name two ports that a lead or a device joins.")


@contextmanager
def lent_ports(
    ports: tuple[str, str], addresses: tuple[str, str], gateways: tuple[str, str] = ("", "")
) -> Iterator[list[str]]:
    """Lends ports, with addresses and routes for a time; yields the paths of their namespaces. Raises NearEndError."""
    spec = PairSpec(ports, addresses, LENT_PORTS, gateways)
    worker = Worker("harvok.host.pair", json.dumps(asdict(spec)))
    try:
        try:
            lent: list[str] = worker.wait_ready()
        except NearEndError as error:
            message = f"the ports could not be moved into namespaces of their own: {error.message}"
            raise NearEndError(message, "Run Harvok as root.") from error
        yield lent
    finally:
        worker.end(_HOME_S)  # the ports are home when it has ended


def restore_ports() -> tuple[list[str], list[str]]:
    """Puts back ports that a killed test left behind; returns their names, and those of ports that are gone."""
    return restore_lent_ports(LENT_PORTS)
