"""Plans: what they would do, how far they are, and what came of them."""

from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from harvok.cli.render.compare import show_finding
from harvok.cli.render.sweep import show_sweep
from harvok.cli.render.words import DASH, verdict_text
from harvok.core.figures import Figure
from harvok.core.judgement.compare import where
from harvok.core.measures.statistics import summarise
from harvok.core.models.plan import DelayStep, Plan, PlanCriterion, RampStep, RigStep, Step, UdpStep
from harvok.core.models.rig import RigFile
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.procedures.load import LoadTest
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_duration, format_quantity, format_rate, format_share, format_span, format_speed
from harvok.reports.rig_drawing import drawing
from harvok.runner.plans import PlanOutcome

_SHOWN = (
    "goodput-settled", "ceiling-share", "udp-received", "udp-throughput", "datagram-loss", "two-way-delay-median",
    "two-way-delay-p99", "two-way-loss", "delay-under-load", "throughput", "frame-loss", "latency-p999",
)  # fmt: skip
_HEADLINES = (
    "goodput-settled", "udp-throughput", "udp-received", "two-way-delay-median", "delay-under-load", "throughput-share",
    "frame-loss",
)  # fmt: skip
_MAX_ACCEPTED = 6
_SEVEN_SIZES = "RFC 2544's seven sizes"


def show_plan(console: Console, plan: Plan, rig: RigFile | None, expected_s: float) -> None:
    """What a plan would do: between what, its steps, its criteria, and for how long."""
    console.print(Text.assemble((plan.name, "bold"), f"  {plan.about}"), soft_wrap=True)
    if rig:
        for line in drawing(rig):
            console.print(Text(line), soft_wrap=True)
    if plan.station:
        rated = f", rated {format_speed(plan.rated)}" if plan.rated else ""
        console.print(f"towards the station {plan.station}{rated}", highlight=False)
    console.print()
    for number, step in enumerate(plan.steps, 1):
        console.print(Text.assemble((f"{number}. {step.name}", "bold"), f"  {step_words(plan, step)}"), soft_wrap=True)
        if step.instruction:
            console.print(Padding(Text(step.instruction), (0, 0, 0, 3), expand=False))
    if plan.alternate:
        console.print("the steps alternate, one run each in turn; runs are compared pair by pair")
    console.print()
    for criterion in plan.criteria:
        console.print(Text.assemble(("accepted if ", "bold"), criterion_words(criterion)), soft_wrap=True)
    if not plan.criteria:
        console.print("no criteria: it measures, and says RETEST")
    spread = f", spread at most {format_share(plan.largest_spread)}" if plan.largest_spread else ""
    sure = f"at least {plan.min_repeats} complete runs of each step{spread}; {plan.confidence * 100:g} % sure in all"
    console.print(Text(sure, style="dim"))
    console.print(f"takes about {format_span(round(expected_s))}, not counting work at the bench", highlight=False)


def step_words(plan: Plan, step: Step) -> str:
    """A step in a few words."""
    words = f"{plan.repeats_of(step)} × {_test_words(step)}"
    if not step.over:
        return words
    points = len(step.parts())
    return f"{words}, over {' and '.join(step.over)}: {points} points, and the baseline before and after them"


def _test_words(step: Step) -> str:
    if isinstance(step, RigStep):
        through = f", through {step.impairment}" if step.impairment else ""
        sizes = ", ".join(map(str, step.frame_sizes))
        if isinstance(step, RampStep):
            held = f"{format_span(step.hold)} each{' without a pause' if step.continuous else ''}"
            return f"loads {step.loads}, {sizes or '64, 1518'} B, {step.direction}, {held}{through}"
        lasting = f"{step.direction}, trials of {format_span(step.duration)}{through}"
        return f"{' '.join(step.tests)}, {sizes or _SEVEN_SIZES}, {lasting}"
    if isinstance(step, DelayStep):
        load = "" if step.load == "none" else f", idle and under load ({step.load})"
        return f"delay of {step.packets} packets, one every {format_duration(step.gap)}{load}"
    flows = f", {step.flows} flows" if step.flows > 1 else ""
    if isinstance(step, UdpStep):
        what = f"highest UDP rate up to {format_rate(step.rate)}" if step.search else f"UDP at {format_rate(step.rate)}"
        return f"{what}, {step.frame_size} B, {step.direction}{flows}, {format_span(step.duration)}"
    return f"TCP, {step.direction}{flows}, {format_span(step.duration)}"


def criterion_words(criterion: PlanCriterion) -> str:
    """A criterion as a sentence."""
    quantity = QUANTITIES[criterion.figure]
    labels = {"direction": criterion.direction, "frame-size": criterion.frame_size, "load": criterion.load}
    of = where({key: str(value) for key, value in labels.items() if value is not None})
    made = criterion.build("")
    limits = []
    if made.least is not None:
        limits.append(f"at least {format_quantity(made.least, quantity.unit)}")
    if made.most is not None:
        limits.append(f"at most {format_quantity(made.most, quantity.unit)}")
    if criterion.largest_regression is not None:
        limits.append(f"worse than in {criterion.against} by at most {format_share(criterion.largest_regression)}")
    in_step = f" in {criterion.step}" if criterion.step else ""
    in_step += f" at {criterion.at}" if criterion.at else ""
    return f"{quantity.name}{f' ({of})' if of else ''}{in_step} is {' and '.join(limits)}"


class PlanView(Observer):
    """One line for each run of a plan that is run as `name`; instructions between steps. `waits`: somebody is there to
    press Enter."""

    def __init__(self, console: Console, name: str, waits: bool) -> None:
        self._console, self._name, self._waits = console, name, waits

    def bench(self, name: str, instruction: str) -> None:
        """Before a step."""
        self._console.print(Text.assemble((f"step {name}", "bold"), f"  {instruction}"), soft_wrap=True)
        if self._waits and instruction:
            self._console.input("  press Enter when it is done ")

    def notice(self, text: str) -> None:
        self._console.print(Text.assemble(("  note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, in its main figures."""
        step = (record.series or "").removeprefix(f"{self._name}.")
        said = "; ".join(_headlines(record)) if record.state == "complete" else record.state
        self._console.print(Text(f"  {step}: {said}  (run {record.id})"), soft_wrap=True)


def _shown(record: RunRecord, quantities: Sequence[str]) -> list[Figure]:
    """Some figures of a run; the loss at each load only where that is what the run was about."""
    return [
        figure
        for figure in record.figures
        if figure.quantity in quantities and (figure.quantity != "frame-loss" or isinstance(record.test, LoadTest))
    ]


def _headlines(record: RunRecord) -> list[str]:
    shown = _shown(record, _HEADLINES)
    return [f"{where(f.labels)} {format_quantity(f.value, QUANTITIES[f.quantity].unit)}".strip() for f in shown]


def show_outcome(console: Console, name: str, outcome: PlanOutcome) -> None:
    """The verdict, its reasons worst first, what is odd, and the figures of each step."""
    judgement = outcome.judgement
    console.print()
    console.print(Text.assemble(verdict_text(judgement.verdict), f"  {name}"))
    accepted = [finding for finding in judgement.findings if finding.verdict == "ACCEPT"]
    for finding in judgement.findings:
        if finding.verdict != "ACCEPT" or len(accepted) <= _MAX_ACCEPTED:
            show_finding(console, finding)
    if len(accepted) > _MAX_ACCEPTED:
        console.print(Text.assemble("  ", verdict_text("ACCEPT"), f" {len(accepted)} figures keep their limits"))
    for remark in judgement.remarks:
        console.print(Padding(Text.assemble(("look at ", "bold"), remark), (0, 0, 0, 2), expand=False))
    single = {step: records for step, records in outcome.records.items() if step not in outcome.sweeps}
    if single:
        console.print()
        console.print(_figures(single))
    for step, readings in outcome.sweeps.items():
        show_sweep(console, f"{name}.{step}", readings)


def _figures(steps: Mapping[str, Sequence[RunRecord]]) -> Table:
    """A row for each main figure, a column for each step: trimmed mean and spread of its repeats."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column("")
    for step in steps:
        table.add_column(step, justify="right")
        table.add_column("spread", justify="right")
    values: dict[tuple[str, str], dict[str, list[float]]] = {}
    for step, records in steps.items():
        for figure in (f for r in records if r.state == "complete" for f in _shown(r, _SHOWN)):
            values.setdefault((figure.quantity, where(figure.labels)), {}).setdefault(step, []).append(figure.value)
    for (quantity, of), by_step in sorted(values.items(), key=lambda item: _SHOWN.index(item[0][0])):
        cells = []
        for step in steps:
            summary = summarise(by_step[step]) if step in by_step else None
            cells += (
                [format_quantity(summary.mean, QUANTITIES[quantity].unit), format_share(summary.spread)]
                if summary
                else [DASH, DASH]
            )
        table.add_row(", ".join(filter(None, (QUANTITIES[quantity].name, of))), *cells)
    return table
