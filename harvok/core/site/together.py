"""What several near ends had together that tested towards one far end at the same time, of each direction by itself."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from harvok.core.figures import Figure
from harvok.core.measures.statistics import fairness

_READY_S, _READY_EACH_S = 6.0, 2.0


def ready_s(near_ends: int) -> float:
    """How long so many near ends may take until all of them have their processes, sessions and connections, on a host
    with few cores; a single one waits for nobody."""
    return _READY_S + _READY_EACH_S * near_ends if near_ends > 1 else 0.0


@dataclass(frozen=True, slots=True)
class MemberFlow:
    """What arrived of one near end's traffic in a direction: bytes at moments (seconds, by one clock for all), from
    when its trial began. `ceiling_bps` is the goodput ceiling of its link, where one is known."""

    name: str
    began_s: float
    moments_s: Sequence[float]
    arrived_bytes: Sequence[float]
    ceiling_bps: float | None = None

    @property
    def ended_s(self) -> float:
        return self.moments_s[-1]

    def arrived_by(self, moment_s: float) -> float:
        """All that had arrived by a moment, in bytes."""
        moments: npt.NDArray[np.float64] = np.asarray([self.began_s, *self.moments_s])
        return float(np.interp(moment_s, moments, np.cumsum([0.0, *self.arrived_bytes])))


def figures_together(direction: str, flows: Sequence[MemberFlow]) -> list[Figure]:
    """The goodput of all members while all of them sent, its share of the highest ceiling, how evenly it was divided
    (Jain, Chiu and Hawe 1984: 1 where all had the same, 1/n where one had everything), and how far apart they began."""
    begins_s, ends_s = max(flow.began_s for flow in flows), min(flow.ended_s for flow in flows)
    labels = {"direction": direction}
    figures = [Figure("start-skew", begins_s - min(flow.began_s for flow in flows), labels)]
    if ends_s <= begins_s:
        return figures
    each_bps = {f.name: (f.arrived_by(ends_s) - f.arrived_by(begins_s)) * 8 / (ends_s - begins_s) for f in flows}
    total_bps = sum(each_bps.values())
    figures.append(Figure("together-goodput", total_bps, labels))
    figures.append(Figure("together-fairness", fairness(list(each_bps.values())), labels))
    ceilings = [flow.ceiling_bps for flow in flows if flow.ceiling_bps]
    if ceilings:
        figures.append(Figure("together-ceiling-share", total_bps / max(ceilings), labels))
    return figures
