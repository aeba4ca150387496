"""How a device is asked. Worker processes get this through memory: secrets never stand on a command line."""

import json
import os
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Literal

from harvok.core.wire.snmp import SNMP_PORT

Authentication = Literal["sha", "sha224", "sha256", "sha384", "sha512"]
Privacy = Literal["aes128", "aes192", "aes256"]


@dataclass(frozen=True, slots=True)
class SnmpAccess:
    """Where an agent answers, and what it wants to be told. With a `user` it is SNMPv3 (RFC 3414), whose passwords may
    be empty for no authentication or no privacy; otherwise v2c with a `community`. `namespaces` are entered before it
    is asked: where this process is in a network of its own, the device is reached from another."""

    host: str
    port: int = SNMP_PORT
    community: str = ""
    user: str = ""
    authentication: Authentication | None = None
    authentication_password: str = ""
    privacy: Privacy | None = None
    privacy_password: str = ""
    timeout_s: float = 1.0
    retries: int = 2
    namespaces: Sequence[str] = ()

    @property
    def version(self) -> str:
        """As people call it."""
        return "SNMPv3" if self.user else "SNMPv2c"


@dataclass(frozen=True, slots=True)
class SshAccess:
    """Where a device takes commands. `host_key` is its public key as `ssh-keyscan` prints it, without the name: nothing
    else is believed. Either a `password` or the file of a private key. `namespaces` are as those of SnmpAccess."""

    host: str
    user: str
    host_key: str
    port: int = 22
    password: str = ""
    key_file: str = ""
    namespaces: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class WatchOrders:
    """Ask the device at `access` every `every_s` seconds for the counters of `ports`, by name or alias; for those of
    all ports that are up, where none are named."""

    access: SnmpAccess
    every_s: float
    ports: Sequence[str] = ()
    cpu: bool = True
    memory: bool = True
    temperature: bool = True


def write_orders(orders: WatchOrders) -> int:
    """The descriptor of a memory file with the orders."""
    fd = os.memfd_create("device")
    os.write(fd, json.dumps(asdict(orders)).encode())
    return fd


def read_orders(fd: int) -> WatchOrders:
    """Orders as the parent wrote them."""
    with os.fdopen(fd, "rb") as file:
        file.seek(0)
        told = json.load(file)
    return WatchOrders(**(told | {"access": SnmpAccess(**told["access"])}))
