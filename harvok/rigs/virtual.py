"""A device made of this host's kernel between two virtual ports: built for a rig, and gone with it."""

import json
from dataclasses import asdict
from types import TracebackType
from typing import Literal

from harvok.clock import SYSTEM, Clock
from harvok.core.events import LinkState
from harvok.core.models.device import USUAL_EVERY_S
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.models.rig import DeviceKind, VirtualRig
from harvok.core.observer import Observer
from harvok.device.orders import SnmpAccess, WatchOrders
from harvok.errors import NearEndError, UsageError
from harvok.host.device_agent import COMMUNITY
from harvok.host.namespaces import DEVICE_PORTS, Built, DeviceSpec, device_ports
from harvok.rigs.device_files import DeviceSettings
from harvok.rigs.impaired import ImpairedPath
from harvok.rigs.impairment_files import read_impairment
from harvok.rigs.ports import FramePorts, Wiring
from harvok.worker.parent import Worker

_LINK_S = 10.0


class VirtualDevice:
    """The device, held by a process of its own; see harvok.host.namespaces. A context manager."""

    def __init__(self, spec: DeviceSpec) -> None:
        self._worker = Worker("harvok.host.namespaces", json.dumps(asdict(spec)))
        try:
            self.built = Built(**self._worker.wait_ready())
        except NearEndError as error:
            self._worker.kill()
            raise NearEndError(
                f"this system does not let Harvok build a virtual rig: {error.message}",
                "It needs root, or user namespaces (sysctl kernel.unprivileged_userns_clone, "
                "user.max_user_namespaces).",
            ) from error

    def __enter__(self) -> "VirtualDevice":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._worker.kill()

    @property
    def pid(self) -> int:
        """The process that holds it."""
        return self._worker.pid

    def set_link(self, port: str, state: str) -> None:
        """Takes a port of the device down, cuts it, or brings it up; `ready` loads what cutting takes. Raises
        NearEndError."""
        self._worker.tell(f"link {port} {state}\n".encode())
        self._worker.hear(_LINK_S)

    def reset(self) -> None:
        """Takes the device's ports down for a second, and up again."""
        self._worker.tell(b"reset\n")


class VirtualPorts(FramePorts):
    """Tester ports with a virtual device between them, which it builds and takes down; `impairment` stands for the
    one that the rig names."""

    def __init__(self, rig: VirtualRig, clock: Clock = SYSTEM, impairment: ImpairmentFile | None = None) -> None:
        if rig.device == "gateway":
            raise UsageError(
                f"{rig.name} is a gateway between two hosts: frames have no place there",
                "Use `harvok app` or `harvok rig try` with it.",
            )
        self._rig, self._device = rig, VirtualDevice(device_of(rig))
        kind: DeviceKind = "wire" if rig.device == "impairment" else rig.device
        interfaces = {name: name for name in rig.port_names}
        inside = self._device.built.namespaces
        wiring = Wiring(rig.name, interfaces, rig.sides, kind, rig.mtu, inside, workers=rig.workers, sender=rig.sender)
        self._path: ImpairedPath | None = None
        try:
            self.impairment = (impairment or read_impairment(rig.impairment)) if rig.impairment else None
            if self.impairment:
                plan = self.impairment.plan()
                built = self._device.built
                self._path = ImpairedPath(DEVICE_PORTS, plan, [*built.namespaces[:-1], built.device])
                self._path.__enter__()
            super().__init__(wiring, clock, [self._path.pid] if self._path else [], self._device.pid)
        except BaseException:
            self._take_down()
            raise

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        super().__exit__(kind, error, trace)
        self._take_down()

    def _take_down(self) -> None:
        if self._path:
            self._path.stop()
        self._device.__exit__(None, None, None)

    def reset_device(self, observer: Observer) -> None:
        self._device.reset()

    def set_link(self, port: str, state: LinkState | Literal["ready"]) -> None:
        """Of one of the device's ports, or of that beside a port of the tester. Raises NearEndError."""
        beside = dict(zip(self._rig.port_names, device_ports(self._rig.ports), strict=True))
        self._device.set_link(beside.get(port, port), state)

    @property
    def port_names(self) -> list[str]:
        return self._rig.port_names

    @property
    def device_port_names(self) -> list[str]:
        return device_ports(self._rig.ports)

    def impair(self, file: ImpairmentFile) -> None:
        """Has the path do from now on what another impairment says; only where it has one."""
        assert self._path
        self._path.apply(file.plan())

    @property
    def device(self) -> DeviceSettings | None:
        """How the device's agent is asked; None for a wire or an impaired path, which have none."""
        return settings_of(self._device.built.agent_port, self._rig)


def settings_of(agent_port: int, rig: VirtualRig) -> DeviceSettings | None:
    """How the device of a virtual rig is watched: by its agent, on loopback."""
    if not agent_port:
        return None
    access = SnmpAccess("127.0.0.1", agent_port, COMMUNITY)
    ports = dict(zip(rig.port_names, device_ports(rig.ports), strict=True))
    return DeviceSettings(rig.name, WatchOrders(access, USUAL_EVERY_S, tuple(ports.values())), ports)


def device_of(rig: VirtualRig) -> DeviceSpec:
    """What to build for a rig file. A router has the addresses that the tester takes for its gateways."""
    sides = [
        tuple(
            f"{gateway}/{address.partition('/')[2]}"
            for gateway, address in zip(side.gateways, side.addresses, strict=True)
        )
        for side in (rig.sides if rig.device == "router" else ())
    ]
    if rig.device == "gateway":
        return _gateway_of(rig)
    return DeviceSpec(
        kind="path" if rig.device == "impairment" else rig.device,
        mtu_bytes=rig.mtu,
        rate_bps=rig.shape,
        buffer_bytes=int(rig.buffer),
        ports=rig.ports,
        aging_s=rig.aging,
        addresses_kept=rig.addresses,
        max_frame_bytes=rig.max_frame,
        snooping=rig.snooping,
        name=rig.name,
        speed_bps=rig.rated,
        addresses=(sides[0], sides[1]) if rig.device == "router" else ((), ()),
    )


def _gateway_of(rig: VirtualRig) -> DeviceSpec:
    """Two hosts with a gateway between them."""
    near, far = rig.sides
    return DeviceSpec(
        kind="gateway",
        mtu_bytes=rig.mtu,
        rate_bps=rig.shape,
        buffer_bytes=int(rig.buffer),
        addresses=(tuple(near.addresses), tuple(far.addresses)),
        gateways=(tuple(near.gateways), tuple(far.gateways)),
        features=tuple(rig.features),
        has_clients=rig.clients > 1,
        name=rig.name,
        speed_bps=rig.rated,
    )
