"""Describes this host for the record: everything that may explain a result next year."""

import ctypes
import hashlib
import os
import platform
import socket
import sys
from pathlib import Path

import psutil

from harvok import __version__
from harvok.clock import SYSTEM, Clock
from harvok.core.conditions import ClockFacts, HostConditions, InterfaceCounters, SocketLimits
from harvok.host.interfaces import interface_towards
from harvok.zones import socket_address

_SYS = Path("/proc/sys/net")


def host_conditions(
    towards: str, *, name: str | None = None, source: str | None = None, interface: str | None = None
) -> HostConditions:
    """The conditions of this host for traffic to the address `towards`."""
    port = interface_towards(towards, source, interface)
    return HostConditions(
        name=name or socket.gethostname(),
        system=platform.system(),
        kernel=platform.release(),
        machine=platform.machine(),
        python=platform.python_version(),
        harvok=__version__,
        cpu_model=_cpu_model(),
        boot=_boot(),
        cores=os.cpu_count() or 1,
        governor=_read("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor"),
        load_1min=os.getloadavg()[0] if hasattr(os, "getloadavg") else None,
        clock=clock_facts(),
        congestion_control=_read(_SYS / "ipv4/tcp_congestion_control"),
        congestion_controls=(_read(_SYS / "ipv4/tcp_available_congestion_control") or "").split(),
        socket_limits=_socket_limits(),
        local_address=_local_address(towards, source),
        interface=port,
        missing=[] if port else ["interface, negotiated speed and MTU"],
    )


def _read(path: Path | str) -> str | None:
    try:
        return Path(path).read_text().strip()
    except OSError:
        return None


def _cpu_model() -> str | None:
    for line in (_read("/proc/cpuinfo") or "").splitlines():
        if line.startswith("model name"):
            return line.partition(":")[2].strip()
    return platform.processor() or None


def _boot() -> str | None:
    """Which start of which machine this is: alike at two ends, they are one machine and have one clock."""
    reported = _read("/proc/sys/kernel/random/boot_id")
    return hashlib.sha256(reported.encode()).hexdigest()[:16] if reported else None


def _number(path: Path) -> int | None:
    text = _read(path)
    return int(text) if text and text.isdigit() else None


def _triple(path: Path) -> tuple[int, int, int] | None:
    parts = (_read(path) or "").split()
    return (int(parts[0]), int(parts[1]), int(parts[2])) if len(parts) == 3 else None


def _socket_limits() -> SocketLimits:
    return SocketLimits(
        receive_max_bytes=_number(_SYS / "core/rmem_max"),
        send_max_bytes=_number(_SYS / "core/wmem_max"),
        tcp_receive_bytes=_triple(_SYS / "ipv4/tcp_rmem"),
        tcp_send_bytes=_triple(_SYS / "ipv4/tcp_wmem"),
    )


def _local_address(towards: str, source: str | None) -> str | None:
    """The address that the kernel would send from: what connecting a UDP socket, which sends nothing, tells."""
    if source:
        return source
    family = socket.AF_INET6 if ":" in towards else socket.AF_INET
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as probe:
            probe.connect(socket_address(towards, 9))
            return str(probe.getsockname()[0])
    except OSError:
        return None


class _Timex(ctypes.Structure):
    """The head of Linux's struct timex (uapi/linux/timex.h); the rest is room."""

    _fields_ = (
        ("modes", ctypes.c_uint),
        ("offset", ctypes.c_long),
        ("freq", ctypes.c_long),
        ("maxerror", ctypes.c_long),
        ("esterror", ctypes.c_long),
        ("status", ctypes.c_int),
        ("_rest", ctypes.c_long * 32),
    )


def clock_facts() -> ClockFacts:
    """Asks the kernel whether something disciplines its clock, and how far off it may be (adjtimex, read only)."""
    source = _read("/sys/devices/system/clocksource/clocksource0/current_clocksource")
    if sys.platform != "linux":
        return ClockFacts(source=source)
    state = _Timex()
    try:
        result = ctypes.CDLL(None, use_errno=True).adjtimex(ctypes.byref(state))
    except (OSError, AttributeError):
        return ClockFacts(source=source)
    if result < 0:
        return ClockFacts(source=source)
    unsynchronised = bool(state.status & 0x40) or result == 5  # STA_UNSYNC, TIME_ERROR
    return ClockFacts(
        source=source,
        synchronised=not unsynchronised,
        error_s=None if unsynchronised else state.maxerror / 1e6,
    )


def interface_counters(name: str, clock: Clock = SYSTEM) -> InterfaceCounters | None:
    """What an interface has counted so far; None where the system does not tell."""
    every = psutil.net_io_counters(pernic=True).get(name)
    if every is None:
        return None
    return InterfaceCounters(
        name=name,
        at_s=clock.now_ns() / 1e9,
        received_bytes=every.bytes_recv,
        sent_bytes=every.bytes_sent,
        faults=every.errin + every.errout + every.dropin + every.dropout,
    )
