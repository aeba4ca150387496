"""The conditions that a run was taken under, at each end: what must be alike before two series may be compared."""

from harvok.core.fields import Model


class InterfaceFacts(Model):
    """The interface that an end really uses. `kind` is `physical`, `loopback` or the kind of a virtual one (`veth`,
    `vlan`, …); `negotiated_bps` is None where a speed has no meaning or is not told."""

    name: str
    kind: str
    driver: str | None = None
    hardware_address: str | None = None
    negotiated_bps: float | None = None
    duplex: str | None = None
    mtu_bytes: int | None = None
    offloads: dict[str, bool] = {}


class SocketLimits(Model):
    """What this system allows for socket buffers, in bytes; TCP's are (least, default, most) when tuned by itself."""

    receive_max_bytes: int | None = None
    send_max_bytes: int | None = None
    tcp_receive_bytes: tuple[int, int, int] | None = None
    tcp_send_bytes: tuple[int, int, int] | None = None


class ClockFacts(Model):
    """The system clock: its source, and whether something keeps it in step with UTC, to within `error_s`."""

    source: str | None = None
    synchronised: bool | None = None
    error_s: float | None = None


class HostConditions(Model):
    """One end of a test. What this system does not tell is None, and named in `missing`. `boot` stands for one start of
    one machine: two ends that share it share a clock."""

    name: str
    system: str
    kernel: str
    machine: str
    python: str
    harvok: str
    boot: str | None = None
    cpu_model: str | None = None
    cores: int
    governor: str | None = None
    load_1min: float | None = None
    clock: ClockFacts = ClockFacts()
    congestion_control: str | None = None
    congestion_controls: list[str] = []
    socket_limits: SocketLimits = SocketLimits()
    local_address: str | None = None
    interface: InterfaceFacts | None = None
    missing: list[str] = []


class InterfaceCounters(Model):
    """What an interface has counted so far, at a moment of its host's monotonic clock. `faults`: errors, drops."""

    name: str
    at_s: float
    received_bytes: int
    sent_bytes: int
    faults: int


_OF_AN_INTERFACE = ("interface", "driver", "hardware-address", "speed", "duplex", "mtu")
_OF_A_HOST = (
    "host", "kernel", "harvok", "cpu", "governor", "clock", "congestion-control",
    *(f"{key.replace('_', '-').removesuffix('-bytes')}-buffer" for key in SocketLimits.model_fields),
)  # fmt: skip
OFFLOADS = (
    "tcp-segmentation", "receive-coalescing", "large-receive", "udp-segmentation", "receive-checksum", "send-checksum",
)  # fmt: skip
"""The offloads that change what a test shows, as conditions are called."""

HOST_CONDITIONS = (
    "link.rated",
    "path.impairment",
    "device.name",
    "device.features",
    "device.description",
    "device.firmware",
    "device.ports",
    *(f"{end}.{name}" for end in ("near", "far") for name in (*_OF_A_HOST, *_OF_AN_INTERFACE, *OFFLOADS)),
    *(f"port{number}.{name}" for number in (1, 2) for name in (*_OF_AN_INTERFACE, *OFFLOADS)),
)
"""The names of all conditions that do not depend on the test; a test holds them to what records have."""
