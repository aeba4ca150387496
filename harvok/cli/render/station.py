"""What a station says: how to reach it, and what happens on it."""

import io
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from harvok.clock import SYSTEM, Clock
from harvok.core.models.control import DEFAULT_CONTROL_PORT
from harvok.core.units import format_span
from harvok.station.browser.code import page_address
from harvok.station.service import StationSettings
from harvok.traffic.sockets import format_address


class StationView:
    """Lines on a console: one block when the station is ready, then one line for each thing that happens."""

    def __init__(
        self, console: Console, settings: StationSettings, addresses: Sequence[str], clock: Clock = SYSTEM
    ) -> None:
        self._console = console
        self._settings = settings
        self._addresses = addresses
        self._clock = clock

    def ready(self) -> None:
        settings = self._settings
        versions = "this address" if settings.host else "IPv4 and IPv6"
        self._line(("Station ", ""), (settings.name, "bold"), (" is ready. At the near end, type:", ""))
        self._line()
        code = f" HARVOK_CODE={settings.keys.code}" if settings.keys else ""
        self._line((f"    export HARVOK_TOKEN={settings.token}{code}", "bold"))
        for address in self._addresses:
            plain = "" if settings.keys else " --plain"
            self._line((f"    harvok tcp {self._target(address)}{plain}", "bold"))
        self._line()
        self._line(
            (f"Firewall: let TCP ports {settings.control_port} (control) and {settings.data_port} (data) ", ""),
            (f"in, on {versions}.", ""),
        )
        self._line((f"UDP tests and delay also need UDP ports {settings.data_port}{_delay(settings)}.", ""))
        self._page()
        longest = format_span(settings.max_test_s)
        self._line((f"Limits: one test at a time, {settings.max_flows} flows, {longest} a trial.", ""))
        for said in (_whom(settings), _errands(settings), _lends(settings)):
            if said:
                self._line((said, ""))
        self._line((f"{_secrecy(settings)} Ctrl-C stops.", "dim"))

    def _page(self) -> None:
        """Where browsers measure, as text and, on a terminal, as a QR code."""
        page = self._settings.page
        if page is None:
            return
        every = [page_address(address, page) for address in self._addresses]
        self._line()
        self._line(("Hosts without Harvok open this in a browser, and measure:", ""))
        self._line()
        for address in every:
            self._line((f"    {address}", "bold"))
        if every and self._console.is_terminal:
            self._line()
            self._line((_qr_code(every[0]), ""))
        self._line()
        self._line((f"The page needs TCP port {page.port}. It is not encrypted; its code admits to nothing else.", ""))

    def tell(self, text: str) -> None:
        """One thing that happened, with its time."""
        self._line((f"{self._clock.utc().astimezone():%H:%M:%S %Z}  ", "dim"), (text, ""))

    def stopped(self) -> None:
        self.tell("stopped")

    def _target(self, address: str) -> str:
        port = self._settings.control_port
        return address if port == DEFAULT_CONTROL_PORT else format_address((address, port))

    def _line(self, *parts: tuple[str, str]) -> None:
        self._console.print(Text.assemble(*parts), soft_wrap=True)
        self._console.file.flush()


def _qr_code(text: str) -> str:
    import segno

    drawn = io.StringIO()
    segno.make(text, error="l").terminal(out=drawn, border=2, compact=True)
    return "\n".join(f"    {line}" for line in drawn.getvalue().splitlines())


def _lends(settings: StationSettings) -> str:
    ports = ", ".join(settings.frame_ports)
    only = ", only to send back what they get" if settings.reflect else ""
    return f"Lends as tester ports of rigs of kind remote: {ports}{only}." if ports else ""


def _delay(settings: StationSettings) -> str:
    """The reflector's port as part of a sentence."""
    if not settings.reflector:
        return " (data)"
    sealed = ", authenticated" if settings.reflector.key else ""
    return f" (data) and {settings.reflector.port} (STAMP reflector{sealed})"


def _secrecy(settings: StationSettings) -> str:
    """What an observer sees."""
    if not settings.keys:
        return "NOTHING IS ENCRYPTED, the token included: use it for looking at the protocol alone."
    return "Control is encrypted (TLS 1.3). Test traffic is not: it carries random data."


def _whom(settings: StationSettings) -> str:
    """Whom it serves, where that is not everybody with the token; or whom it learns to know."""
    if settings.only_paired and settings.keys:
        return f"Serves paired near ends alone: {', '.join(one.name for one in settings.keys.near_ends())}."
    return "Remembers near ends that pair now: `harvok pairing make` there." if settings.pairs else ""


def _errands(settings: StationSettings) -> str:
    """Toward whom it tests when paired near ends ask it to."""
    limits = settings.errands
    if limits is None:
        return ""
    hours = " and ".join(f"{begins:%H:%M}-{ends:%H:%M}" for begins, ends in limits.hours)
    when = f", {hours}" if hours else ""
    return f"Tests toward {', '.join(limits.toward)} when a paired near end asks for it{when}."
