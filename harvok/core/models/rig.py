"""A rig as a TOML file describes it. docs/rig-files.md explains every key."""

import ipaddress
from itertools import combinations
from typing import Annotated, Literal

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Duration, Model, Rate, Share, Size
from harvok.core.gateway import MAX_CLIENTS, parse_features
from harvok.core.models.device import NamedDevice
from harvok.errors import UsageError

MAX_PORTS = 64


def numbered_ports(number: int) -> list[str]:
    """The names of so many ports, where a file gives none."""
    return [f"port{one}" for one in range(1, number + 1)]


class SimulatedDevice(Model):
    """What a simulated device can do; what is left out has no limit, or does not happen."""

    forwarding_fps: Annotated[float, Field(gt=0)] | None = None
    forwarding: Rate | None = None
    buffer_frames: Annotated[float, Field(ge=0)] | None = None
    buffer: Size | None = None
    latency: Duration = 0.0
    jitter: Duration = 0.0
    store_and_forward: bool = True
    loss: Share = 0.0
    reordering: Share = 0.0
    duplication: Share = 0.0
    corruption: Share = 0.0
    loss_burst_every: Annotated[Duration, Field(gt=0)] | None = None
    loss_burst: Duration = 0.0
    hot_after: Duration | None = None
    hot_share: Share = 1.0
    reset: Duration = 0.0
    fabric_fps: Annotated[float, Field(gt=0)] | None = None
    fabric: Rate | None = None
    head_of_line: bool = False
    addresses: Annotated[int, Field(ge=2)] | None = None
    learns_per_s: Annotated[float, Field(gt=0)] | None = None
    max_frame: Annotated[int, Field(ge=64)] | None = None
    groups: Annotated[int, Field(ge=0)] | None = None
    join_delay: Duration = 0.0
    leave_delay: Duration = 0.0

    @model_validator(mode="after")
    def _keys_go_together(self) -> "SimulatedDevice":
        for key, other in (("hot_share", "hot_after"), ("loss_burst", "loss_burst_every")):
            if (key in self.model_fields_set) != (other in self.model_fields_set):
                raise ValueError(f"{key} and {other} go together: one without the other does nothing")
        if self.loss_burst_every is not None and self.loss_burst >= self.loss_burst_every:
            raise ValueError("loss_burst is as long as loss_burst_every: the device would never forward anything")
        return self


class SimulatedGatewayKeys(Model):
    """What a simulated gateway can do with application traffic; what is left out has no limit."""

    table: Annotated[int, Field(ge=1)] | None = None
    connections_per_s: Annotated[float, Field(gt=0)] | None = None
    throughput: Rate | None = None
    delay: Annotated[Duration, Field(gt=0)] = 100e-6


class SimulatedAgentKeys(Model):
    """How the device of a simulated rig answers when it is asked what it counts, with the faults of real agents."""

    refresh: Duration = 0.0
    bits: Literal[32, 64] = 64
    wraps_after: Annotated[int, Field(ge=1, le=2**32)] | None = None
    restart_at: Annotated[Duration, Field(gt=0)] | None = None
    bad_lead: Literal["port1", "port2"] | None = None


Workers = Annotated[int, Field(ge=1, le=8)]
"""Of each stream: as many senders and as many receivers."""

SenderChoice = Literal["ring", "xdp"]
"""What carries frames to the ports: packet rings, or the express data path."""


class _RigBase(Model):
    """What every rig file says: what the device is called, the speed of its ports, and for how long it keeps an address
    that says nothing."""

    version: Literal[1]
    name: Annotated[str, Field(min_length=1, max_length=100)]
    rated: Rate
    aging: Annotated[Duration, Field(gt=0, le=1_000_000)] = 300.0


class SimulatedRig(_RigBase):
    """A modelled device between tester ports of the rated speed, in virtual time; with `gateway` also a modelled
    gateway between users and a service, and with `agent` a device that is watched."""

    kind: Literal["simulated"]
    seed: int = 1
    ports: Annotated[int, Field(ge=2, le=MAX_PORTS)] = 2
    device: SimulatedDevice = SimulatedDevice()
    gateway: SimulatedGatewayKeys | None = None
    agent: SimulatedAgentKeys | None = None

    @model_validator(mode="after")
    def _two_ports_are_asked(self) -> "SimulatedRig":
        if self.ports > 2 and (self.agent or self.gateway):
            raise ValueError("a modelled agent or gateway is between two ports")
        return self

    @property
    def port_names(self) -> list[str]:
        return numbered_ports(self.ports)


DeviceKind = Literal["wire", "switch", "router"]
VirtualKind = Literal["wire", "switch", "router", "impairment", "gateway"]


class Side(Model):
    """What a tester port beside a router needs: its own address with the prefix length, and the router's address on
    that side, for IPv4, IPv6 or both."""

    addresses: list[str] = []
    gateways: list[str] = []

    @field_validator("addresses")
    @classmethod
    def _addresses(cls, texts: list[str]) -> list[str]:
        for text in texts:
            if "/" not in text:
                raise ValueError(f"'{text}' has no prefix length: write it as 198.18.0.2/16")
            ipaddress.ip_interface(text)
        return texts

    @field_validator("gateways")
    @classmethod
    def _gateways(cls, texts: list[str]) -> list[str]:
        for text in texts:
            ipaddress.ip_address(text)
        return texts


SIDE_1 = Side(addresses=["198.18.0.2/16", "2001:2:0:1::2/64"], gateways=["198.18.0.1", "2001:2:0:1::1"])
SIDE_2 = Side(addresses=["198.19.0.2/16", "2001:2:0:2::2/64"], gateways=["198.19.0.1", "2001:2:0:2::1"])
"""Where a router is expected when a rig file does not say: RFC 2544 App. C.2.2, RFC 5180 §8."""

PortName = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,31}$")]


def side(number: int) -> Side:
    """The addresses of a port, numbered from 1, where a file does not say; only the first two are beside a router."""
    if number <= 2:
        return (SIDE_1, SIDE_2)[number - 1]
    return Side(addresses=[f"198.19.{number}.2/16", f"2001:2:0:{number}::2/64"])


class Port(Side):
    """A tester port: an interface of this host, or one that a `station` lends. `code` is the station's pairing code,
    and `token_file` has its token; else that is in the environment. A port may only `reflect`: it sends back every
    frame of a trial, with its addresses swapped."""

    interface: Annotated[str, Field(min_length=1, max_length=15)]
    station: Annotated[str, Field(min_length=1, max_length=300)] | None = None
    code: Annotated[str, Field(max_length=100)] | None = None
    reflect: bool = False
    token_file: Annotated[str, Field(min_length=1, max_length=4000)] | None = None

    @model_validator(mode="after")
    def _doors_are_of_stations(self) -> "Port":
        if not self.station and (self.code or self.token_file):
            raise ValueError("code and token_file are for a station, and this port is of this host")
        return self

    @property
    def place(self) -> str:
        """The port with its station, as people write it."""
        return f"{self.interface} at {self.station}" if self.station else self.interface


class PortsRig(_RigBase):
    """Interfaces with a device, or a lead, between them, by the names that the file gives them: a table `[ports.NAME]`
    for each, or `[port1]` and `[port2]`. They are this host's; of kind `remote`, stations lend some or all of them.
    `isolated`: nothing else is on this wire. `watched` is the device itself, as it is asked what it counts: a table, or
    the file that has it. `card_clocks_within` says that the clocks of network cards of all its hosts are kept together
    by IEEE 1588, and how closely. Each stream has so many `workers`,
    and is sent by a `sender`."""

    kind: Literal["ports", "remote"]
    device: DeviceKind = "switch"
    isolated: bool = False
    watched: NamedDevice | None = None
    card_clocks_within: Duration | None = None
    workers: Workers | None = None
    sender: SenderChoice = "ring"
    ports: Annotated[dict[PortName, Port], Field(min_length=2, max_length=MAX_PORTS)]

    @model_validator(mode="before")
    @classmethod
    def _ports_by_name(cls, data: object) -> object:
        """`[port1]` is short for `[ports.port1]`."""
        if not isinstance(data, dict):
            return data
        short = {key: value for key, value in data.items() if key in ("port1", "port2")}
        rest = {key: value for key, value in data.items() if key not in short}
        return rest | {"ports": short | rest.get("ports", {})} if short else data

    @model_validator(mode="after")
    def _each_of_its_own(self) -> "PortsRig":
        for name, other in combinations(self.ports, 2):
            if self.ports[name].place == self.ports[other].place:
                raise ValueError(f"{name} and {other} are both {self.ports[name].place}; each port needs its own")
        if (self.kind == "remote") != any(port.station for port in self.ports.values()):
            raise ValueError('kind = "remote" and a port with a station go together')
        if self.kind == "remote" and (self.workers or self.sender != "ring"):
            raise ValueError("a station decides itself how it sends and receives: leave out workers and sender")
        if self.kind == "ports" and self.card_clocks_within is not None:
            raise ValueError("card_clocks_within is of the cards of several hosts; those of one host are compared")
        if self.kind == "remote" and self.watched:
            raise ValueError("a device between two hosts is not watched: leave out watched")
        bare = [name for name in list(self.ports)[2:] if not self.ports[name].addresses]
        if self.device == "router" and bare:
            raise ValueError(f"beside a router {bare[0]} needs addresses and gateways: only two ports have usual ones")
        return self

    @property
    def port_names(self) -> list[str]:
        return list(self.ports)

    @property
    def reflecting(self) -> list[str]:
        """The ports that send frames back."""
        return [name for name, port in self.ports.items() if port.reflect]

    @property
    def sides(self) -> list[Side]:
        """Each port's addresses, with what stands in for what the file leaves out."""
        return [port if port.addresses else side(number) for number, port in enumerate(self.ports.values(), 1)]


class VirtualRig(_RigBase):
    """A switch, router or wire made of this host's kernel between two virtual ports, or a path with an `impairment`, by
    the name of one that ships or the path of a file. `shape` holds each way to a line rate, with a queue of `buffer`. A
    switch may have more than two `ports`, a table of so many `addresses`, a `max_frame` above which it drops frames,
    and IGMP `snooping`. A gateway is between two hosts, for tests that talk to a station; its `features` are those of
    core.gateway, and `clients` how many IPv4 addresses users of applications come from. Each stream has so many
    `workers`, and is sent by a `sender`."""

    kind: Literal["virtual"]
    device: VirtualKind = "switch"
    impairment: str | None = None
    shape: Rate | None = None
    buffer: Annotated[Size, Field(ge=2048)] = 65536
    mtu: Annotated[int, Field(ge=68, le=65535)] = 1500
    ports: Annotated[int, Field(ge=2, le=MAX_PORTS)] = 2
    addresses: Annotated[int, Field(ge=2)] | None = None
    max_frame: Annotated[int, Field(ge=64)] | None = None
    snooping: bool = False
    features: list[str] = []
    workers: Workers | None = None
    sender: SenderChoice = "ring"
    clients: Annotated[int, Field(ge=1, le=MAX_CLIENTS)] = 1

    @field_validator("features")
    @classmethod
    def _known_features(cls, texts: list[str]) -> list[str]:
        try:
            return parse_features(texts).names
        except UsageError as error:
            raise ValueError(f"{error.message}. {error.hint}") from error

    @model_validator(mode="after")
    def _a_wire_has_no_queue(self) -> "VirtualRig":
        if (self.device == "impairment") != (self.impairment is not None):
            raise ValueError('device = "impairment" and impairment = "metro" (or another) go together')
        if self.ports > 2 and self.device != "switch":
            raise ValueError(f"a {self.device} has two ports; a switch may have more")
        if self.device != "switch" and (self.addresses or self.max_frame or self.snooping):
            raise ValueError("only a switch has addresses, a max_frame and snooping")
        if self.device != "gateway" and (self.features or self.clients > 1):
            raise ValueError("only a gateway has features, and clients")
        if self.shape and self.device == "impairment":
            raise ValueError("an impairment has a rate of its own: leave out shape")
        if self.shape and self.device == "wire":
            raise ValueError("a wire cannot be shaped: it has no queue; take a switch")
        if self.shape and self.shape > min(self.rated, _MAX_SHAPED_BPS):
            raise ValueError("shape is to be at most the rated speed, and 34 Gb/s")
        return self

    @property
    def port_names(self) -> list[str]:
        return numbered_ports(self.ports)

    @property
    def sides(self) -> list[Side]:
        """Each port's addresses."""
        return [side(number) for number in range(1, self.ports + 1)]


_MAX_SHAPED_BPS = 34e9

RigFile = SimulatedRig | PortsRig | VirtualRig
RIG_FILE: TypeAdapter[RigFile] = TypeAdapter(Annotated[RigFile, Field(discriminator="kind")])
"""Reads any rig file."""
