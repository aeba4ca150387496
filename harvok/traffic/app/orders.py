"""What the processes of application traffic are told, and how: in memory, since command lines can be read by every user
of a host, and hold no whole mix."""

import contextlib
import json
import os
import pickle
import resource
from dataclasses import dataclass
from typing import Any

from harvok.core.trials.app import AppTrial
from harvok.traffic.sockets import Source

PATTERN_BYTES = 1 << 20
PROVE_S = 5.0
_MANY = 1 << 20
"""What Linux allows at most unless told otherwise (fs.nr_open)."""
OTHER_DESCRIPTORS = 64
"""Of a process, for what is no connection."""
COARSE = 4
"""Intervals tell their times with 1/8 of resolution, which takes a sixteenth of the bins."""


@dataclass(frozen=True, slots=True)
class UsersOrders:
    """Be the users of process `number` of `of`, towards the service at `address`, whose media streams are at
    `media_port`."""

    trial: AppTrial
    address: tuple[str, int]
    proof: str
    source: Source
    number: int = 0
    of: int = 1
    media_port: int = 0


@dataclass(frozen=True, slots=True)
class ServiceOrders:
    """Be process `number` of the service, at sockets `fds` that listen and `media_fds` that datagrams come to, for
    `lasts_s` and until the last user has gone.

    A connection may take `prove_s` to its first request, and `timeout_s` to end after its last. With a `certificate`
    the service speaks TLS with those who begin so, or with all.
    """

    fds: tuple[int, ...]
    proof: str
    lasts_s: float
    interval_s: float
    timeout_s: float
    prove_s: float
    number: int = 0
    certificate: bytes = b""
    all_tls: bool = False
    media_fds: tuple[int, ...] = ()


def write_orders(orders: UsersOrders | ServiceOrders) -> int:
    """The descriptor of a memory file with the orders; the caller closes it."""
    fd = os.memfd_create("orders")
    os.write(fd, pickle.dumps(orders))
    return fd


def read_orders(text: str) -> Any:
    """The orders that the parent wrote."""
    with os.fdopen(json.loads(text), "rb") as file:
        file.seek(0)
        return pickle.load(file)


def pattern() -> int:
    """The descriptor of a memory file of bytes that nothing on the way can shrink, which bodies are cut from."""
    fd = os.memfd_create("bodies")
    os.write(fd, os.urandom(PATTERN_BYTES))
    return fd


def stay_on_a_core(number: int, service: bool) -> None:
    """Keeps this process, the `number`-th of its end, on one core: users on the first half of the cores, services on
    the second. Where both ends are one host, the scheduler would put those who wake each other on one and the same."""
    cores = sorted(os.sched_getaffinity(0))
    half = len(cores) // 2
    mine = cores[half:] if service else cores[:half]
    if mine:
        os.sched_setaffinity(0, {mine[number % len(mine)]})


def allow_many_descriptors() -> int:
    """As many open files as the system lets this process have, which for root is more than it was given; returns how
    many."""
    hard = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_NOFILE, (_MANY, max(hard, _MANY)))
        return _MANY
    resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
    return hard
