"""The program with a kind of test that it does not ship: one module, its quantities, one row, one view.

The toy looks how large a share of the frames a device forwards while two loads follow upon each other.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from rich.console import Console

from harvok.core.figures import Figure
from harvok.core.kinds.frames import RigStep
from harvok.core.kinds.kind import Kind
from harvok.core.kinds.table import register as register_kind
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.frames import FrameSettings, FrameSize, measured, trial
from harvok.core.quantities import Quantity
from harvok.core.quantities import register as register_quantities
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep


@dataclass(frozen=True, slots=True)
class SeesawTest:
    """Full load and a tenth of it, in turn, with each frame size."""

    sizes: tuple[FrameSize, ...]
    settings: FrameSettings
    kind: Literal["seesaw"] = "seesaw"

    @property
    def title(self) -> str:
        return "seesaw"

    @property
    def expected_s(self) -> float:
        return len(self.sizes) * 2 * self.settings.full_s


def seesaw(test: SeesawTest, _: Context, findings: Findings) -> Procedure[FrameTrial, FrameTrialResult]:
    """One trial of two steps for each frame size."""
    for size in test.sizes:
        line_fps, settings = size.line_fps(test.settings.line_bps), test.settings
        steps = (LoadStep(line_fps, settings.full_s), LoadStep(line_fps / 10, settings.full_s))
        result = yield from measured(trial(settings, size, *steps, about=f"seesaw at {size.name} B"))
        for one in result.directions:
            labels = {"direction": one.direction, "frame-size": size.name, "rhythm": "two steps"}
            findings.figures.append(Figure("seesaw-forwarded", one.received_frames / one.sent_frames, labels))


class SeesawStep(RigStep):
    """A seesaw on the plan's rig."""

    test: Literal["seesaw"]

    def build(self, line_bps: float = 0.0) -> SeesawTest:
        return SeesawTest(self.sizes, self.settings(line_bps, 1.0))

    @property
    def words(self) -> str:
        return f"seesaw, {self._where}"


def conditions(test: SeesawTest) -> Iterator[tuple[str, str]]:
    yield "test.kind", test.kind
    yield "test.frame-sizes", ", ".join(size.name for size in test.sizes)


register_quantities(
    Quantity(
        "seesaw-forwarded", "forwarded over a seesaw", "ratio", "L2", "higher", "frames received / frames sent",
        labels=("direction", "frame-size", "rhythm"), heading="forwarded", rank="headline", judged=True,
    )
)  # fmt: skip
register_kind(Kind(SeesawTest, seesaw, "frames", ("seesaw-forwarded",), conditions, step=SeesawStep))


def main() -> None:
    from harvok.cli.main import main as harvok
    from harvok.cli.render.views import VIEWS, View
    from harvok.core.models.run import RunRecord

    def show(console: Console, record: RunRecord) -> None:
        console.print(f"the seesaw came to rest after {len(record.figures)} figures")

    VIEWS["seesaw"] = View(show)
    harvok()


if __name__ == "__main__":
    main()
