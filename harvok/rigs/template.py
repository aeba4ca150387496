"""A commented rig file to start from."""

import json
from typing import Literal

from harvok.core.models.rig import SIDE_1, SIDE_2, DeviceKind, Side
from harvok.core.units import write_speed

Kind = Literal["simulated", "ports", "remote", "virtual"]

_HEAD = """\
# A rig of Harvok. docs/rig-files.md explains every key.
version = 1
"""
_SIMULATED = """\
kind = "simulated"       # a modelled device between two tester ports, in virtual time
name = {name}
rated = "{rated}"             # speed of the ports
seed = 1                 # for jitter, random loss and order: the same seed gives the same run

[device]                 # what is left out has no limit, or does not happen
# forwarding_fps = 1_000_000   # frames/s that it forwards, each direction
# forwarding = "950M"          # b/s of frames that it forwards, each direction
# buffer_frames = 512          # or buffer = "256k" in bytes
# latency = "4us"              # its own, on top of the frame's length for store-and-forward
# jitter = "500ns"             # 0 to this, evenly spread
store_and_forward = true
# loss = "0.001%"              # at random
# reordering = "0.01%"
# duplication = "0%"
# corruption = "0%"
# loss_burst_every = "10s"     # loses everything for loss_burst, this often
# loss_burst = "5ms"
# hot_after = "30s"            # under load; its capacity then falls to hot_share
# hot_share = 0.9
# reset = "4s"                 # how long it is dead when it is reset
"""


_PORTS = """\
kind = "{kind}"{about}
name = {name}
rated = "{rated}"             # speed of the ports
device = "{device}"        # wire (a lead alone), switch, or router
isolated = false         # true once nothing else is on this wire (RFC 6815)

[port1]
interface = {port1}
{side1}
[port2]
interface = {port2}
{station}{side2}"""
_ABOUT = {
    "ports": "           # two interfaces of this host, with the device between them",
    "remote": "          # one interface here and one elsewhere, with the device between them",
}
_STATION = """\
station = {station}      # where it is: harvok station --frames {port}
# token_file = "hall.token"    # else HARVOK_TOKEN
# code = "ABCD-EFGH-IJKL-MNOP" # the station's pairing code, else HARVOK_CODE; needed once
"""
_SIDE = """\
addresses = {addresses}   # the tester's own on this side
gateways = {gateways}        # the router's
"""
_VIRTUAL = """\
kind = "virtual"         # a device made of this host's kernel, built for each test and gone with it
name = {name}
rated = "{rated}"             # the line rate that results are held against
device = "{device}"        # wire, switch, or router
{shape}shape = "{rated}"             # holds each way to this line rate, preamble and gap counted
# buffer = "64k"         # of a shaped port
# mtu = 1500
"""


def rig_text(
    kind: Kind,
    name: str,
    rated_bps: float,
    device: DeviceKind = "switch",
    ports: tuple[str, str] = ("", ""),
    station: str = "",
) -> str:
    """The text of a rig file for a device of this name and port speed; `ports` are the interfaces of a ports rig, of
    which `station` lends the second where the rig is a remote one."""
    text = _HEAD + {"simulated": _SIMULATED, "ports": _PORTS, "remote": _PORTS, "virtual": _VIRTUAL}[kind]
    return text.format(
        kind=kind,
        about=_ABOUT.get(kind, ""),
        name=json.dumps(name),
        rated=write_speed(rated_bps),
        device=device,
        shape="# " if device == "wire" else "",
        port1=json.dumps(ports[0]),
        port2=json.dumps(ports[1]),
        station=_STATION.format(station=json.dumps(station), port=json.dumps(ports[1])) if kind == "remote" else "",
        side1=_side_text(SIDE_1, device),
        side2=_side_text(SIDE_2, device),
    )


def _side_text(side: Side, device: DeviceKind) -> str:
    if device != "router":
        return ""
    return _SIDE.format(addresses=json.dumps(side.addresses), gateways=json.dumps(side.gateways))
