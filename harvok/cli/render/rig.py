"""A rig as a drawing in text, and what its device is said to do."""

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig, VirtualRig
from harvok.core.procedures.frames import FramesTest
from harvok.core.units import (
    format_duration,
    format_frame_rate,
    format_rate,
    format_share,
    format_size,
    format_span,
    format_speed,
)
from harvok.reports.rig_drawing import drawing


def show_rig(console: Console, rig: RigFile, problems: Sequence[str] = ()) -> None:
    """Who is wired to what; then what is known of the device, and what is wrong."""
    for line in drawing(rig):
        console.print(Text(line), soft_wrap=True)
    console.print()
    for text in rig_words(rig):
        console.print(Text(text), soft_wrap=True)
    for text in problems:
        console.print(Text.assemble(("problem ", "bold red"), text), soft_wrap=True)


def rig_words(rig: RigFile) -> list[str]:
    """What is known of the device."""
    if isinstance(rig, SimulatedRig):
        return device_words(rig)
    words = []
    if rig.device == "router":
        for name, side in zip(rig.port_names, rig.sides, strict=True):
            words.append(f"{name}: {', '.join(side.addresses)}; the router at {', '.join(side.gateways)}")
    if isinstance(rig, VirtualRig):
        shaped = (
            f"shaped to {format_speed(rig.shape)} each way, queue of {format_size(rig.buffer)}" if rig.shape else ""
        )
        return [
            *words,
            f"made of this host's kernel, MTU {rig.mtu} B; {shaped or 'not shaped'}",
            "nothing leaves this host",
        ]
    isolated = "isolated, as the file says" if rig.isolated else "not said to be isolated: see RFC 6815"
    return [*words, isolated]


_NAMED_WAYS = 6
"""So many streams are named one by one."""


def what_is_sent(rig: RigFile, test: FramesTest) -> str:
    """What a test will send where, said before it starts."""
    settings = test.settings
    sizes = ", ".join(size.name for size in test.sizes)
    fastest = max(size.line_fps(settings.line_bps) for size in test.sizes)
    names = [port.place for port in rig.ports.values()] if isinstance(rig, PortsRig) else rig.port_names
    ends = dict(zip((*rig.port_names, "near", "far"), (*names, *names[:2]), strict=True))
    ways = [
        f"{ends.get(stream.source, stream.source)} → {ends.get(stream.destination, stream.destination)}"
        + (f" ({own})" if (own := str(settings.frames(stream.name))) else "")
        for stream in settings.streams
    ]
    if len(ways) > _NAMED_WAYS:
        ways = [f"in {len(ways)} streams between {', '.join(names)}"]
    what = f"IPv{settings.ip_version}" if settings.ip_version else "bare Ethernet"
    networks = {4: "198.18.0.0/15", 6: "2001:2::/48", None: "no IP address"}[settings.ip_version]
    return (
        f"sends {what} frames of {sizes} B, up to {format_frame_rate(fastest)} frames/s, {' and '.join(ways)}; "
        f"test addresses {networks}"
    )


def device_words(rig: SimulatedRig) -> list[str]:
    """What the device does, a line for each property that is not at rest."""
    device = rig.device
    forwards = [
        f"{format_frame_rate(device.forwarding_fps)} frames/s" if device.forwarding_fps is not None else "",
        format_rate(device.forwarding) if device.forwarding is not None else "",
    ]
    buffers = [
        f"{device.buffer_frames:g} frames" if device.buffer_frames is not None else "",
        format_size(device.buffer) if device.buffer is not None else "",
    ]
    kind = "store-and-forward" if device.store_and_forward else "bit-forwarding"
    words = [
        f"forwards {' and '.join(filter(None, forwards)) or 'at line rate'}, each direction",
        f"buffer {' or '.join(filter(None, buffers)) or 'without limit'}",
        f"{kind}, own latency {format_duration(device.latency)}, jitter up to {format_duration(device.jitter)}",
    ]
    chances = {
        "loses": device.loss,
        "reorders": device.reordering,
        "duplicates": device.duplication,
        "alters": device.corruption,
    }
    words += [f"{what} {format_share(share)} of the frames at random" for what, share in chances.items() if share]
    words += fabric_words(rig)
    if device.loss_burst_every:
        words.append(
            f"loses all for {format_duration(device.loss_burst)}, every {format_duration(device.loss_burst_every)}"
        )
    if device.hot_after is not None:
        words.append(
            f"falls to {format_share(device.hot_share)} of it after {format_duration(device.hot_after)} under load"
        )
    return words


def fabric_words(rig: SimulatedRig) -> list[str]:
    """What the device has between its ports."""
    device = rig.device
    together = [
        f"{format_frame_rate(device.fabric_fps)} frames/s" if device.fabric_fps is not None else "",
        format_rate(device.fabric) if device.fabric is not None else "",
    ]
    words = [f"forwards {' and '.join(filter(None, together))} in all"] if any(together) else []
    words += ["head-of-line blocking: the streams of a port wait in one queue"] if device.head_of_line else []
    if device.addresses:
        words.append(f"keeps {device.addresses} addresses, for {format_span(rig.aging)}")
    if device.groups is not None:
        words.append(f"keeps {device.groups} groups" if device.groups else "floods all groups")
    if device.max_frame:
        words.append(f"drops frames above {device.max_frame} B")
    if device.learns_per_s:
        words.append(f"learns {format_frame_rate(device.learns_per_s)} addresses a second")
    return words
