"""A rig as a drawing in text, and what its device is said to do."""

from rich.console import Console
from rich.text import Text

from harvok.core.models.rig import RigFile
from harvok.core.units import format_duration, format_frame_rate, format_rate, format_share, format_size, format_speed


def show_rig(console: Console, rig: RigFile) -> None:
    """Who is wired to what; then the device's own figures."""
    speed = format_speed(rig.rated)
    width = max(len(rig.name), len("(simulated)")) + 2
    wire = f"──{speed}──"
    gap = " " * len(wire)
    lines = [
        f"┌────────┐{gap}┌{'─' * width}┐{gap}┌────────┐",
        f"│ port 1 │{wire}│{rig.name:^{width}}│{wire}│ port 2 │",
        f"│ tester │{gap}│{'(simulated)':^{width}}│{gap}│ tester │",
        f"└────────┘{gap}└{'─' * width}┘{gap}└────────┘",
    ]
    for line in lines:
        console.print(Text(line), soft_wrap=True)
    console.print()
    for text in device_words(rig):
        console.print(Text(text), soft_wrap=True)


def device_words(rig: RigFile) -> list[str]:
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
    chances = {"loses": device.loss, "reorders": device.reordering, "duplicates": device.duplication}
    words += [f"{what} {format_share(share)} of the frames at random" for what, share in chances.items() if share]
    if device.loss_burst_every:
        words.append(
            f"loses all for {format_duration(device.loss_burst)}, every {format_duration(device.loss_burst_every)}"
        )
    if device.hot_after is not None:
        words.append(
            f"falls to {format_share(device.hot_share)} of it after {format_duration(device.hot_after)} under load"
        )
    return words
