"""A rig as a drawing in text: its tester ports, and the device between them."""

from collections.abc import Sequence

from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig, VirtualRig
from harvok.core.units import format_speed


def drawing(rig: RigFile) -> list[str]:
    """The rig as lines of text: every second tester port on the left, the others on the right, the device between."""
    lead = f"──{format_speed(rig.rated)}──"
    ports = [port.place for port in rig.ports.values()] if isinstance(rig, PortsRig) else rig.port_names
    gap, boxes = " " * len(lead), [_box(port, "tester") for port in ports]
    if isinstance(rig, PortsRig | VirtualRig) and rig.device == "wire":
        return [f"{a}{join}{b}" for a, join, b in zip(boxes[0], [gap, lead, gap, gap], boxes[1], strict=True)]
    what = rig.kind if isinstance(rig, SimulatedRig) else rig.device
    lefts, rights = _stacked(boxes[::2], lead), _stacked(boxes[1::2], lead)
    middle = _box(rig.name, f"({what})" if what == "simulated" else what, len(lefts))
    blank = " " * len(rights[0][0])
    rights += [(blank, gap)] * (len(lefts) - len(rights))
    return [
        f"{left}{join}{device}{other}{right}".rstrip()
        for (left, join), device, (right, other) in zip(lefts, middle, rights, strict=True)
    ]


def _stacked(boxes: Sequence[list[str]], lead: str) -> list[tuple[str, str]]:
    """Boxes below one another, padded to one width: (line of the box, its join to the device)."""
    width = max(len(line) for box in boxes for line in box)
    joins = [" " * len(lead), lead, " " * len(lead), " " * len(lead)]
    return [(line.rjust(width), join) for box in boxes for line, join in zip(box, joins, strict=True)]


def _box(name: str, what: str, height: int = 4) -> list[str]:
    width = max(len(name), len(what)) + 2
    empty = [f"│{'':{width}}│"] * (height - 4)
    return [f"┌{'─' * width}┐", f"│{name:^{width}}│", f"│{what:^{width}}│", *empty, f"└{'─' * width}┘"]


def between(ends: tuple[str, str], what: str, speed: str) -> list[str]:
    """Two ends of the tester with something between them, as lines of text."""
    lead = f"──{speed}──"
    gap = " " * len(lead)
    boxes = _box(ends[0], "tester"), _box(what, "under test"), _box(ends[1], "tester")
    joins = [gap, lead, gap, gap]
    return [f"{a}{join}{b}{join}{c}" for a, join, b, c in zip(boxes[0], joins, *boxes[1:], strict=True)]
