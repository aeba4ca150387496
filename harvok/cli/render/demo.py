"""What the demo says between its measurements."""

from collections.abc import Sequence
from pathlib import Path

from rich.console import Console
from rich.text import Text

from harvok.core.figures import find
from harvok.core.limiter import Limiter
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.units import format_rate, format_share


class DemoView(Observer):
    """One line for each run, and the story around them."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._number = 0
        self._switches: dict[str, RunRecord] = {}

    def scene(self) -> None:
        self._say("[bold]A mountain observatory re-cables the link between its dome and its data hall.[/]")
        self._say(
            "Both ends run on this host, over loopback: its CPU is the limit, so this shows the way, and no verdict."
        )
        self._say("A real test has a station at the far end:  harvok station  there,  harvok tcp STATION  here.")

    def series(self, name: str, state: str) -> None:
        self._number = 0
        self._say(f"\n[bold]{name}[/]: {state}")

    def notice(self, text: str) -> None:
        self._console.print(Text(f"  note {text}"), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One run on one line: settled goodput and limiter of each direction."""
        self._number += 1
        parts = []
        for reading in record.readings:
            goodput = find(record.figures, "goodput-settled", direction=reading.direction) or 0.0
            parts.append(f"{reading.direction} {format_rate(goodput)} ({reading.limiter.name})")
        self._say(f"  run {self._number}: {'; '.join(parts) or record.state}")

    def switches(self, today: str, offered: str) -> None:
        self._say(f"\n[bold]{offered} is offered in place of {today}[/]: RFC 2544 on models of both, in virtual time")

    def switch(self, record: RunRecord) -> None:
        """The first repeat of each switch speaks for it."""
        name = record.series or ""
        if name in self._switches:
            return
        self._switches[name] = record
        found = [f for f in record.figures if f.quantity == "throughput-share"]
        shares = ", ".join(f"{f.labels['frame-size']} B {format_share(f.value)}" for f in found)
        self._say(f"  {name}: throughput of line rate: {shares}")

    @property
    def newest_switches(self) -> list[RunRecord]:
        return list(self._switches.values())

    def gateways(self, today: str, offered: str) -> None:
        self._say(f"[bold]{offered} is offered in place of {today}[/], the gateway between dome and hall.")
        self._say("Both are made of this kernel's firewall, with sixty people on one side and a station on the other.")

    def gateway(self, name: str) -> None:
        self._say(f"\n[bold]$ harvok rig try {name}.toml run gateway-plan.toml[/]")

    def limiter(self, limiter: Limiter) -> None:
        """What held the runs of a gateway down."""
        self._console.print(
            Text.assemble(("limiter: ", "bold"), f"{limiter.name} – {limiter.evidence}"), soft_wrap=True
        )

    def stations(self) -> None:
        self._say("[bold]An observatory tests its links day and night.[/] Three stations stand on this host:")
        self._say("dome and spectro on the summit, hall in the valley. A coordinator asks, and they test each other.")

    def past(self, runs: int, days: int) -> None:
        self._say(f"The logbook gets {runs} runs of the {days} days before, which are made up, as their notes say.")

    def site(self, file: Path) -> None:
        self._say(f"\n[bold]$ harvok site run {file.name} --once[/]")

    def page(self, file: Path, page: Path) -> None:
        self._say(f"\n[bold]$ harvok site page {file.name} --to {page.name}[/]")
        self._say(f"written: {page}; open it in any browser. The stations have ended; the site's file is beside it.")

    def sweep(self, switch: str, command: str) -> None:
        self._say(f"\n[bold]How much load can {switch} carry with 64-byte frames?[/] The load is raised step by step:")
        self._say(f"[bold]$ {command}[/]")

    def drawn(self, paths: Sequence[Path]) -> None:
        self._say(f"drawn in {paths[0].parent}: {', '.join(path.name for path in paths if path.suffix == '.png')}")

    def verdict_comes(self, command: str) -> None:
        self._say(f"\n[bold]$ {command}[/]")

    def what_next(self, place: str) -> None:
        self._say("\n[bold]Look at what was recorded:[/]")
        self._say(f"  harvok logbook list --logbook {place}")
        self._say(f"  harvok logbook show last --logbook {place}")
        self._say("Then read docs/guide.md, which follows the order of work at the bench.")

    def _say(self, text: str) -> None:
        self._console.print(text, soft_wrap=True, markup=True)
