"""Takes a port of this host down and brings it up again, over a connection to the kernel that is open beforehand."""

from types import TracebackType

from harvok.errors import NearEndError


class LinkSwitch:
    """A context manager: however it ends, the port is up afterwards, as it was before. Raises PortError for a port that
    is missing, or down already."""

    def __init__(self, interface: str) -> None:
        from pyroute2 import IPRoute

        from harvok.host.interfaces import port_that_is_up

        port_that_is_up(
            interface, "`harvok ports` lists them.", "Taking it down would cut this host off: take a port under test."
        )
        self._interface, self._kernel = interface, IPRoute()
        self._index = self._kernel.link_lookup(ifname=interface)[0]

    def __enter__(self) -> "LinkSwitch":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            self.up()
        finally:
            self._kernel.close()

    def down(self) -> None:
        """Raises NearEndError where the kernel refuses."""
        self._set("down")

    def up(self) -> None:
        """Raises NearEndError where the kernel refuses."""
        self._set("up")

    def _set(self, state: str) -> None:
        from pyroute2.netlink.exceptions import NetlinkError

        try:
            self._kernel.link("set", index=self._index, state=state)
        except NetlinkError as error:
            raise NearEndError(f"{self._interface} cannot be taken {state}: {error}", "It needs root.") from error
