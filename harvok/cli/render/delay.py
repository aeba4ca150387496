"""A delay measurement while it runs, and what it comes to."""

from rich.console import Console
from rich.padding import Padding
from rich.status import Status
from rich.table import Table
from rich.text import Text

from harvok.cli.render.tcp import show_broken
from harvok.cli.render.words import maybe
from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer, RunOutline
from harvok.core.procedures.delay import DelayTest, delays_s
from harvok.core.trials.any import Trial
from harvok.core.trials.delay import DelayTrial, DelayTrialResult, Echo, Means
from harvok.core.units import format_duration, format_rate, format_share, format_span

_MEANS: dict[Means, str] = {
    "stamp": "STAMP",
    "stamp-authenticated": "STAMP, authenticated",
    "echo": "ICMP echo, which tells nothing of either way alone and may be answered late by a busy router",
}
_COLUMNS = {
    "least": "two-way-delay-min",
    "typical": "two-way-delay-median",
    "mean": "two-way-delay-mean",
    "99 %": "two-way-delay-p99",
    "greatest": "two-way-delay-max",
    "variation 99 %": "two-way-variation-p99",
}
_BAR = 40


class DelayView(Observer):
    """Says how far it is, and sums each run up. To be closed at the end."""

    def __init__(self, console: Console) -> None:
        self.records: list[RunRecord] = []
        self._console = console
        self._status: Status | None = None
        self._trial: DelayTrial | None = None
        self._heard = self._given_up = 0

    def run_started(self, outline: RunOutline) -> None:
        repeat = f", repeat {outline.number} of {outline.of}" if outline.of > 1 else ""
        title = Text.assemble((f"{outline.near} – {outline.far}", "bold"), f"  run {outline.run}{repeat}")
        self._console.print(title, soft_wrap=True)

    def trial_started(self, number: int, trial: Trial) -> None:
        self._stop()
        if not isinstance(trial, DelayTrial):
            return
        self._trial, self._heard, self._given_up = trial, 0, 0
        load = f"while {trial.load} fills the link" if trial.load else "with nothing else on the link from here"
        words = f"{trial.packets} packets in {format_span(trial.duration_s)}, {load}"
        if self._console.is_terminal:
            self._status = self._console.status(words)
            self._status.start()
        else:
            self._console.print(Text(words), soft_wrap=True)

    def echo(self, echo: Echo) -> None:
        if echo.two_way_s is None:
            self._given_up += 1
            return
        self._heard += 1
        if self._status and self._trial:
            now = format_duration(echo.two_way_s)
            self._status.update(f"{self._heard} of {self._trial.packets} answered, the last in {now}")

    def notice(self, text: str) -> None:
        self._console.print(Text.assemble(("note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, whole or broken."""
        self._stop()
        self.records.append(record)
        show_delay_run(self._console, record)

    def close(self) -> None:
        self._stop()

    def _stop(self) -> None:
        if self._status:
            self._status.stop()
            self._status = None


def show_delay_run(console: Console, record: RunRecord) -> None:
    """Prints what one run comes to."""
    assert isinstance(record.test, DelayTest)
    if record.state in ("broken", "invalid"):
        show_broken(console, record)
    results = [t.result for t in record.trials if isinstance(t.result, DelayTrialResult)]
    trials = [t.trial for t in record.trials if isinstance(t.trial, DelayTrial)]
    if results:
        port = f" on UDP port {record.rig.port}" if record.rig.kind == "stations" and record.rig.port else ""
        console.print(f"by {_MEANS[results[0].means]}{port}", soft_wrap=True)
        console.print()
        console.print(_table(record))
        for trial, result in zip(trials, results, strict=False):
            _show_rest(console, trial, result)
    for figure in record.figures:
        if figure.quantity == "delay-under-load":
            more = format_duration(abs(figure.value))
            word, on = ("adds", "to") if figure.value >= 0 else ("takes", "off")
            console.print(
                Text.assemble((f"{figure.labels['load']} {word} {more}", "bold"), f" {on} the typical delay"),
                soft_wrap=True,
            )
    console.print(Text(f"kept as run {record.id}", style="dim"))


def _table(record: RunRecord) -> Table:
    assert isinstance(record.test, DelayTest)
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("two-way delay", no_wrap=True)
    for heading in (*_COLUMNS, "loss"):
        table.add_column(heading, justify="right", no_wrap=True)
    for load in ("idle", *record.test.loads):
        labels = {"load": load} if record.test.loads else {}
        values = [find(record.figures, quantity, **labels) for quantity in _COLUMNS.values()]
        loss = find(record.figures, "two-way-loss", **labels)
        table.add_row(load, *(maybe(value, format_duration) for value in values), maybe(loss, format_share))
    return table


def _show_rest(console: Console, trial: DelayTrial, result: DelayTrialResult) -> None:
    """Loss by its way, order, and the load that really flowed."""
    sent, answered = len(result.echoes), len(delays_s(result))
    where = ""
    if result.lost_there is not None and sent > answered:
        where = f": {result.lost_there} on the way there, {result.lost_back} on the way back"
    parts = [f"{sent - answered} of {sent} packets lost{where}"]
    parts += [f"{result.duplicates} answered twice"] if result.duplicates else []
    parts += [f"{result.reordered} out of order"] if result.reordered else []
    parts += [f"{result.refused} answers that were none of ours"] if result.refused else []
    parts += [f"the load carried {format_rate(result.load_bps)} of payload"] if result.load_bps else []
    name = trial.load or "idle"
    console.print(Padding(Text(f"{name}: {'; '.join(parts)}"), (0, 0, 0, 2), expand=False))
