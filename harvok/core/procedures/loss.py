"""Frame loss rate: from the maximum rate down, until two successive trials lose nothing (RFC 2544 §26.3)."""

from collections.abc import Generator

from harvok.core.figures import Figure, counted_share
from harvok.core.procedures.frames import FrameSettings, FrameSize, measured, order_figures, trial
from harvok.core.trials.frames import FrameTrial, FrameTrialResult, LoadStep
from harvok.errors import TesterLimitError

STEP = 0.1  # RFC 2544 §26.3: the maximum granularity is 10 % of the maximum rate


def loss_rate(
    settings: FrameSettings, size: FrameSize, step: float = STEP
) -> Generator[FrameTrial, FrameTrialResult, list[Figure]]:
    """Loss at each load for one frame size; `step` is a share of the maximum rate. Loads that the tester cannot offer
    are left out. Raises TesterLimitError when that is all of them."""
    maximum, figures, clean, number = settings.max_fps(size), [], 0, 0
    while clean < 2 and (share := 1 - number * step) > step / 2:
        number += 1
        try:
            step_down, about = (
                LoadStep(share * maximum, settings.full_s),
                f"frame loss at {size.name} B, {share * 100:g} %",
            )
            result = yield from measured(trial(settings, size, step_down, about=about))
        except TesterLimitError:
            if share <= step * 1.5:
                raise
            continue
        for direction in result.directions:
            labels = {"direction": direction.direction, "frame-size": size.name, "load": f"{share * 100:g} %"}
            figures.append(counted_share("frame-loss", direction.lost_frames, direction.sent_frames, labels))
        figures.extend(order_figures(result, size, f"{share * 100:g} %"))
        clean = clean + 1 if all(direction.lost_frames == 0 for direction in result.directions) else 0
    return figures
