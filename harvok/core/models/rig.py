"""A rig as a TOML file describes it. docs/rig-files.md explains every key."""

import ipaddress
from typing import Annotated, Literal

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Duration, Model, Rate, Share, Size


class SimulatedDevice(Model):
    """What a simulated device can do; what is left out has no limit, or does not happen."""

    forwarding_fps: Annotated[float, Field(ge=0)] | None = None
    forwarding: Rate | None = None
    buffer_frames: Annotated[float, Field(ge=0)] | None = None
    buffer: Size | None = None
    latency: Duration = 0.0
    jitter: Duration = 0.0
    store_and_forward: bool = True
    loss: Share = 0.0
    reordering: Share = 0.0
    duplication: Share = 0.0
    loss_burst_every: Annotated[Duration, Field(gt=0)] | None = None
    loss_burst: Duration = 0.0
    hot_after: Duration | None = None
    hot_share: Share = 1.0
    reset: Duration = 0.0


class _RigBase(Model):
    """What every rig file says: what the device is called, and the speed of its ports."""

    version: Literal[1]
    name: Annotated[str, Field(min_length=1, max_length=100)]
    rated: Rate


class SimulatedRig(_RigBase):
    """A modelled device between two tester ports of the rated speed, in virtual time."""

    kind: Literal["simulated"]
    seed: int = 1
    device: SimulatedDevice = SimulatedDevice()


DeviceKind = Literal["wire", "switch", "router"]
VirtualKind = Literal["wire", "switch", "router", "impairment"]


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


class Port(Side):
    """A tester port: an interface of this host."""

    interface: Annotated[str, Field(min_length=1, max_length=15)]


class PortsRig(_RigBase):
    """Two interfaces of this host with a device, or a lead, between them. `isolated`: nothing else is on this wire."""

    kind: Literal["ports"]
    device: DeviceKind = "switch"
    isolated: bool = False
    port1: Port
    port2: Port

    @model_validator(mode="after")
    def _two_ports(self) -> "PortsRig":
        if self.port1.interface == self.port2.interface:
            raise ValueError(f"port1 and port2 are both {self.port1.interface}; a rig has two ports")
        return self

    @property
    def sides(self) -> tuple[Side, Side]:
        """Both ports' addresses, with what stands in for what the file leaves out."""
        first = SIDE_1 if not self.port1.addresses else self.port1
        return first, SIDE_2 if not self.port2.addresses else self.port2


class VirtualRig(_RigBase):
    """A switch, router or wire made of this host's kernel between two virtual ports, or a path with an `impairment`,
    by the name of one that ships or the path of a file. `shape` holds each way to a line rate, with a queue of
    `buffer`."""

    kind: Literal["virtual"]
    device: VirtualKind = "switch"
    impairment: str | None = None
    shape: Rate | None = None
    buffer: Annotated[Size, Field(ge=2048)] = 65536
    mtu: Annotated[int, Field(ge=68, le=65535)] = 1500

    @model_validator(mode="after")
    def _a_wire_has_no_queue(self) -> "VirtualRig":
        if (self.device == "impairment") != (self.impairment is not None):
            raise ValueError('device = "impairment" and impairment = "metro" (or another) go together')
        if self.shape and self.device == "impairment":
            raise ValueError("an impairment has a rate of its own: leave out shape")
        if self.shape and self.device == "wire":
            raise ValueError("a wire cannot be shaped: it has no queue; take a switch")
        if self.shape and self.shape > min(self.rated, _MAX_SHAPED_BPS):
            raise ValueError("shape is to be at most the rated speed, and 34 Gb/s")
        return self

    @property
    def sides(self) -> tuple[Side, Side]:
        """Both ports' addresses."""
        return SIDE_1, SIDE_2


_MAX_SHAPED_BPS = 34e9

RigFile = SimulatedRig | PortsRig | VirtualRig
RIG_FILE: TypeAdapter[RigFile] = TypeAdapter(Annotated[RigFile, Field(discriminator="kind")])
"""Reads any rig file."""
