"""A delay measurement while it runs, and what it comes to."""

import bisect
from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.status import Status
from rich.text import Text

from harvok.cli.render.charts import Chart
from harvok.cli.render.run_view import RunView, ShowRun
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.words import maybe
from harvok.core.figures import find
from harvok.core.models.run import RunRecord, TrialRecord
from harvok.core.quantities import heading_of
from harvok.core.samples import Sample
from harvok.core.trials.any import Trial
from harvok.core.trials.delay import PACKET, TWO_WAY_DELAY, DelayOutcome, DelayTrial, Means
from harvok.core.units import format_duration, format_rate, format_share, format_span
from harvok.runner.request import TestRequest

_MEANS: dict[Means, str] = {
    "stamp": "STAMP",
    "stamp-authenticated": "STAMP, authenticated",
    "echo": "ICMP echo, which gives no one-way delay and which a busy router may answer late",
}
_DELAYS = (
    "two-way-delay-min", "two-way-delay-median", "two-way-delay-mean", "two-way-delay-p99", "two-way-delay-max",
    "two-way-variation-p99",
)  # fmt: skip


class DelayView(RunView):
    """Shows how many packets were answered so far, and the delay of each, with gaps for those that were not."""

    def __init__(self, console: Console, show: ShowRun, request: TestRequest) -> None:
        super().__init__(console, show, request)
        self._status: Status | None = None
        self._packets = self._answered = 0
        self._moments_s: list[float] = []
        self._delays: list[float | None] = []

    def trial_started(self, number: int, trial: Trial) -> None:
        assert isinstance(trial, DelayTrial)
        self._packets, self._answered = trial.packets, 0
        self._moments_s, self._delays, self.device_cpu, self.marks = [], [], [], []
        load = f"while {trial.load} fills the link" if trial.load else "on an idle link"
        words = f"{trial.packets} packets in {format_span(trial.duration_s)}, {load}"
        self._status = self._start_status(words)
        if not self._status:
            self._console.print(Text(words), soft_wrap=True)

    def samples(self, samples: Sequence[Sample]) -> None:
        self.see_device(samples)
        for sample in samples:
            if sample.quantity == PACKET:
                self._moments_s.append(sample.at_s)
                self._delays.append(None)
            elif sample.quantity == TWO_WAY_DELAY and self._delays:
                self._answered += 1
                self._delays[-1] = sample.value
        last = next((delay_s for delay_s in reversed(self._delays) if delay_s is not None), None)
        if self._status and last is not None:
            words = f"{self._answered} of {self._packets} answered, the last in {format_duration(last)}"
            self._status.update(self.with_charts(Text(words)))

    def status_charts(self) -> list[Chart]:
        """The delay of each packet."""
        marks = [bisect.bisect_left(self._moments_s, at_s) for at_s in self.marks]
        asked = (self.limit_of(f"two-way-delay-{which}") for which in ("median", "max", "p99", "mean"))
        limit = next((one for one in asked if one), None)
        return [Chart("delay there and back", self._delays, format_duration, marks=marks, limit=limit)]


def show_delay(console: Console, record: RunRecord) -> None:
    """What one run comes to: a row for each load, then where packets were lost, and what the load adds."""
    trials = [(trial, trial.result) for trial in record.trials if isinstance(trial.result, DelayOutcome)]
    for figure in record.figures:
        if figure.quantity == "delay-under-load":
            verb, to = ("adds", "to") if figure.value >= 0 else ("takes", "off")
            change = f"{figure.labels['load']} {verb} {format_duration(abs(figure.value))}"
            console.print(Text.assemble((change, "bold"), f" {to} the median delay"), soft_wrap=True)
    if trials:
        port = f" on UDP port {record.rig.port}" if record.rig.kind == "stations" and record.rig.port else ""
        console.print(f"by {_MEANS[trials[0][1].means]}{port}", soft_wrap=True)
        console.print()
        console.print(_table(record))
    for trial, outcome in trials:
        _show_rest(console, trial, outcome)


def _table(record: RunRecord) -> PlainTable:
    table = plain_table(("two-way delay",), [*map(heading_of, _DELAYS), "loss"])
    for load in ("idle", *record.test.loads):
        labels = {"load": load} if record.test.loads else {}
        delays = [find(record.figures, quantity, **labels) for quantity in _DELAYS]
        loss = find(record.figures, "two-way-loss", **labels)
        table.add_row(load, *(maybe(delay, format_duration) for delay in delays), maybe(loss, format_share))
    return table


def _show_rest(console: Console, trial: TrialRecord, result: DelayOutcome) -> None:
    """Loss by its way, order, and the load that really flowed."""
    assert isinstance(trial.trial, DelayTrial)
    sent, answered = (sum(len(block.of(key)) for block in trial.samples) for key in (PACKET, TWO_WAY_DELAY))
    where = ""
    if result.lost_there is not None and sent > answered:
        where = f": {result.lost_there} on the way out, {result.lost_back} on the way back"
    parts = [f"{sent - answered} of {sent} packets lost{where}"]
    parts += [f"{result.duplicates} duplicates"] if result.duplicates else []
    parts += [f"{result.reordered} out of order"] if result.reordered else []
    parts += [f"{result.refused} answers refused as not valid"] if result.refused else []
    parts += [f"the load carried {format_rate(result.load_bps)} of payload"] if result.load_bps else []
    name = trial.trial.load or "idle"
    console.print(Padding(Text(f"{name}: {'; '.join(parts)}"), (0, 0, 0, 2), expand=False))
