"""A rig as a drawing in text: two tester ports, and the device between them."""

from harvok.core.models.rig import PortsRig, RigFile, SimulatedRig, VirtualRig
from harvok.core.units import format_speed


def drawing(rig: RigFile) -> list[str]:
    """The rig as lines of text: two tester ports, and the device between them."""
    lead = f"──{format_speed(rig.rated)}──"
    ports = (rig.port1.interface, rig.port2.interface) if isinstance(rig, PortsRig) else ("port 1", "port 2")
    left, right = (_box(port, "tester") for port in ports)
    if isinstance(rig, PortsRig | VirtualRig) and rig.device == "wire":
        middle, gap = ["", lead, "", ""], " " * len(lead)
        return [f"{a}{m or gap}{b}" for a, m, b in zip(left, middle, right, strict=True)]
    what = rig.kind if isinstance(rig, SimulatedRig) else rig.device
    middle, gap = _box(rig.name, f"({what})" if what == "simulated" else what), " " * len(lead)
    joins = [gap, lead, gap, gap]
    return [f"{a}{j}{m}{j}{b}" for a, j, m, b in zip(left, joins, middle, right, strict=True)]


def _box(name: str, what: str) -> list[str]:
    width = max(len(name), len(what)) + 2
    return [f"┌{'─' * width}┐", f"│{name:^{width}}│", f"│{what:^{width}}│", f"└{'─' * width}┘"]
