"""What the two ends of the control protocol can do, and how they agree on it.

Each end says what it can do when a session begins, and both use what both can do. A capability is a name with the
version of its bodies, such as `tcp/1`. A reader ignores keys that it does not know, so that bodies may gain keys; a
change that must not be ignored, or a new kind of traffic, is a capability of its own. So an older station goes on
serving what it knows, and is refused for nothing else.
"""

from collections.abc import Collection

from harvok.errors import ProtocolError
from harvok.traffic.table import TRAFFIC

_CONTROL = ("sessions/1", "conditions/1", "counters/1", "trials/1")
PASSES, ERRANDS, GROUPS, FRAMES = "passes/1", "errands/1", "groups/1", "lent-ports/1"
CAPABILITIES = (
    *_CONTROL,
    PASSES,
    ERRANDS,
    GROUPS,
    FRAMES,
    *(f"{kind}/{traffic.version}" for kind, traffic in TRAFFIC.items()),
)
"""What this version of Harvok can do, at either end."""


def agreed(near: Collection[str], who: str) -> list[str]:
    """What both ends can do. Raises ProtocolError where that is not even to hold a session."""
    common = [capability for capability in CAPABILITIES if capability in near]
    require(common, _CONTROL, who)
    return common


def require(common: Collection[str], needed: Collection[str], who: str) -> None:
    """Raises ProtocolError where the two ends have not all of `needed` in common; `who` is the other end."""
    missing = [capability for capability in needed if capability not in common]
    if missing:
        raise ProtocolError(
            f"{who} cannot do {', '.join(missing)}, which this test needs",
            "Upgrade Harvok at that end; everything that both ends can do still works.",
        )


def traffic_capability(kind: str) -> str:
    """What both ends need for a kind of traffic."""
    return f"{kind}/{TRAFFIC[kind].version}"
