"""The table of all kinds of test, by the name that a record gives them."""

from harvok.core.kinds.app import APP, APP_CALIBRATION, RFC9411
from harvok.core.kinds.browser import BROWSER
from harvok.core.kinds.delay import DELAY
from harvok.core.kinds.frames import CALIBRATION, EMULATOR, LOAD, RFC2544
from harvok.core.kinds.groups import RFC3918
from harvok.core.kinds.kind import Kind
from harvok.core.kinds.link import LINK
from harvok.core.kinds.switch import RFC2889
from harvok.core.kinds.tcp import TCP
from harvok.core.kinds.udp import UDP_LOAD, UDP_SEARCH, UDP_SERVICES, UDP_STEPS
from harvok.core.procedure import Test

KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        TCP, UDP_LOAD, UDP_STEPS, UDP_SEARCH, UDP_SERVICES, APP, RFC9411, DELAY, BROWSER, LINK, RFC2544, RFC2889,
        RFC3918, LOAD, EMULATOR, CALIBRATION, APP_CALIBRATION,
    )
}  # fmt: skip


def register(kind: Kind) -> None:
    """Adds a kind of test that is not part of Harvok itself. To be called before records or plans are read, which know
    the kinds that there are then. Raises ValueError for a name in use."""
    if kind.name in KINDS:
        raise ValueError(f"there is a kind of test {kind.name} already")
    KINDS[kind.name] = kind


def kind_of(test: Test) -> Kind:
    """The row of a test."""
    return KINDS[test.kind]
