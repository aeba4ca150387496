"""Plans: what they would do, how far they are, and what came of them."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from harvok.cli.render.run_view import RunView, list_and_count_findings
from harvok.cli.render.sweep import show_sweep
from harvok.cli.render.tables import PlainTable, plain_table
from harvok.cli.render.views import live_view
from harvok.cli.render.words import DASH, verdict_text
from harvok.clock import local_words
from harvok.core.kinds.step import Step
from harvok.core.labels import label_text
from harvok.core.measures.statistics import Summary
from harvok.core.models.plan import Plan, PlanCriterion
from harvok.core.models.rig import RigFile
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observers
from harvok.core.quantities import QUANTITIES
from harvok.core.units import format_quantity, format_share, format_span, format_speed
from harvok.reports.rig_drawing import drawing
from harvok.runner.request import TestRequest
from harvok.runner.samples import headline_figures, main_figures, summaries_of

if TYPE_CHECKING:
    from harvok.runner.plan_shelf import ShelvedPlan
    from harvok.runner.plans import PlanOutcome


def show_shelf(console: Console, plans: "Sequence[ShelvedPlan]") -> None:
    """The plans at hand; then what is wrong with those that cannot be run as they are."""
    if not plans:
        console.print("no plan is at hand here; `harvok plan new` writes one for a usual job", soft_wrap=True)
        return
    table = plain_table(("plan", "between", "last verdict", "when", "file"), ("judged",))
    for plan in plans:
        at = local_words(plan.last_judged) if plan.last_judged else DASH
        last = plan.last_verdict or DASH
        table.add_row(plan.name, plan.between or DASH, last, at, plan.file, str(plan.times_judged))
    console.print(table)
    for plan in plans:
        if plan.about:
            console.print(Text(f"{plan.name}: {plan.about}", style="dim"), soft_wrap=True)
        if plan.fault:
            console.print(Text.assemble(("problem ", "bold red"), plan.fault), soft_wrap=True)


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
    for agreement in plan.agreements:
        two = f"{' and '.join(agreement.steps)} agree to {format_share(agreement.within)} on layer 2"
        console.print(Text.assemble(("accepted if ", "bold"), two), soft_wrap=True)
    if not plan.criteria:
        console.print("no criteria: the plan measures, and its verdict is RETEST")
    spread = f", spread at most {format_share(plan.max_spread)}" if plan.max_spread else ""
    sure = f"at least {plan.min_repeats} complete runs of each step{spread}; {plan.confidence * 100:g} % sure in all"
    console.print(Text(sure, style="dim"))
    console.print(f"takes about {format_span(round(expected_s))}, not counting work at the bench", highlight=False)


def step_words(plan: Plan, step: Step) -> str:
    """A step in a few words."""
    words = f"{plan.repeats_of(step)} × {step.words}"
    if not step.over:
        return words
    points = len(step.parts())
    return f"{words}, over {' and '.join(step.over)}: {points} points, and the baseline before and after them"


def criterion_words(criterion: PlanCriterion) -> str:
    """A criterion as a sentence."""
    quantity = QUANTITIES[criterion.figure]
    of = label_text(criterion.narrowed)
    limit = criterion.build("")
    limits = limit.bounds_words
    if limit.regression_words:
        limits.append(f"worse than in {criterion.against} by at most {limit.regression_words}")
    in_step = f" in {criterion.step}" if criterion.step else ""
    in_step += f" at {criterion.at}" if criterion.at else ""
    return f"{quantity.name}{f' ({of})' if of else ''}{in_step} is {' and '.join(limits)}"


class PlanView(Observers):
    """One line for each run of a plan that is run as `name`, which is followed on a terminal while it is taken;
    instructions between steps. `waits`: somebody is there to press Enter. To be closed at the end."""

    def __init__(self, console: Console, name: str, waits: bool, charted: bool = True) -> None:
        super().__init__([])
        self._console, self._name, self._waits, self._charted = console, name, waits, charted
        self._live: RunView | None = None

    def follow(self, request: TestRequest) -> None:
        """The next run."""
        self.close()
        if self._console.is_terminal:
            self._live = live_view(self._console, request, self._charted, compact=True)
            self._observers = [self._live]

    def close(self) -> None:
        """No run is under way."""
        if self._live:
            self._live.close()
        self._live, self._observers = None, []

    def bench(self, name: str, instruction: str) -> None:
        """Before a step."""
        self._console.print(Text.assemble((f"step {name}", "bold"), f"  {instruction}"), soft_wrap=True)
        if self._waits and instruction:
            self._console.input("  press Enter when it is done ")

    def notice(self, text: str) -> None:
        self._console.print(Text.assemble(("  note ", "bold yellow"), text), soft_wrap=True)

    def record(self, record: RunRecord) -> None:
        """One finished run, in its main figures."""
        self.close()
        step = (record.series or "").removeprefix(f"{self._name}.")
        result = "; ".join(_headlines(record)) if record.state == "complete" else record.state
        self._console.print(Text(f"  {step}: {result}  (run {record.id})"), soft_wrap=True)


def _headlines(record: RunRecord) -> list[str]:
    return [
        f"{label_text(figure.labels)} {format_quantity(figure.value, figure.meaning.unit)}".strip()
        for figure in headline_figures(record)
    ]


def show_outcome(console: Console, name: str, outcome: "PlanOutcome") -> None:
    """The verdict, its reasons worst first, what is odd, and the figures of each step."""
    judgement = outcome.judgement
    console.print()
    console.print(Text.assemble(verdict_text(judgement.verdict), f"  {name}"))
    list_and_count_findings(console, judgement.findings)
    for remark in judgement.remarks:
        console.print(Padding(Text.assemble(("look at ", "bold"), remark), (0, 0, 0, 2), expand=False))
    for earlier in outcome.earlier:
        words = f"{earlier.judged:%Y-%m-%d %H:%M} by other criteria: {earlier.verdict}"
        console.print(Padding(Text.assemble(("judged before ", "bold"), words), (0, 0, 0, 2), expand=False))
    single = {step: records for step, records in outcome.records.items() if step not in outcome.sweeps}
    if single:
        console.print()
        console.print(_figures(single))
    for step, readings in outcome.sweeps.items():
        show_sweep(console, f"{name}.{step}", readings)


def _figures(steps: Mapping[str, Sequence[RunRecord]]) -> PlainTable:
    """A row for each main figure, a column for each step: trimmed mean and spread of its repeats."""
    table = plain_table(("",), [heading for step in steps for heading in (step, "spread")])
    for (quantity, of), by_step in summaries_of(steps, main_figures).items():
        cells = [cell for step in steps for cell in _mean_and_spread(by_step.get(step), QUANTITIES[quantity].unit)]
        table.add_row(", ".join(filter(None, (QUANTITIES[quantity].name, of))), *cells)
    return table


def _mean_and_spread(summary: Summary | None, unit: str) -> tuple[str, str]:
    if summary is None:
        return DASH, DASH
    return format_quantity(summary.mean, unit), format_share(summary.spread)
