"""What a device counted over one trial, and over all trials of a run."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from harvok.core.device.location import Loss, together, words_of
from harvok.core.device.reading import PortCounts
from harvok.core.figures import Figure
from harvok.core.units import counted


@dataclass(frozen=True, slots=True)
class DeviceTrial:
    """One trial from the device's side.

    `ports` is what each of its ports counted, from before the trial to when its counters had come to rest. `cpu_max` is
    the most that any of its processors was busy, `cpu_mean` their mean; `memory_max` how much was used at most, all as
    ratios. `refresh_s` is how often its counters really change, None where they do at each question. `restarts` are
    starts of its own in mid-trial, `unanswered` questions without an answer. `losses` has one entry for each direction
    whose loss could be looked for.
    """

    ports: dict[str, PortCounts] = field(default_factory=dict)
    cpu_max: float | None = None
    cpu_mean: float | None = None
    memory_max: float | None = None
    temperature_max_c: float | None = None
    refresh_s: float | None = None
    restarts: int = 0
    unanswered: int = 0
    losses: list[Loss] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)


def figures_of(trials: Sequence[DeviceTrial]) -> list[Figure]:
    """What all trials of a run come to."""
    figures = []
    for quantity, values in (
        ("device-cpu-max", [trial.cpu_max for trial in trials]),
        ("device-memory-max", [trial.memory_max for trial in trials]),
    ):
        known = [value for value in values if value is not None]
        if known:
            figures.append(Figure(quantity, max(known)))
    figures += _port_figures(trials)
    for loss in losses_of(trials):
        for place, count in loss.places:
            figures.append(Figure("frames-lost-at", count, {"direction": loss.direction, "place": place}))
    return figures


def _port_figures(trials: Sequence[DeviceTrial]) -> Iterable[Figure]:
    """What each port discarded and found wrong; nothing of ports that did neither."""
    totals: dict[tuple[str, str, str], int] = {}
    for trial in trials:
        for port, counts in trial.ports.items():
            for what, way in (("discards", "in"), ("discards", "out"), ("errors", "in"), ("errors", "out")):
                key = f"device-{what}", port, way
                totals[key] = totals.get(key, 0) + (getattr(counts, f"{what}_{way}") or 0)
    for (quantity, port, way), count in totals.items():
        if count:
            yield Figure(quantity, count, {"port": port, "way": way})


def losses_of(trials: Sequence[DeviceTrial]) -> list[Loss]:
    """The losses of all trials of a run by direction, added up."""
    by_direction: dict[str, list[Loss]] = {}
    for trial in trials:
        for loss in trial.losses:
            by_direction.setdefault(loss.direction, []).append(loss)
    return [together(losses) for losses in by_direction.values()]


def notices_of(trials: Sequence[DeviceTrial], device: str) -> list[str]:
    """What the person at the bench should know; nothing where the device counted what the tester did."""
    said = [words_of(loss, device) for loss in losses_of(trials) if loss.lost or loss.certainty != "exact"]
    restarts, unanswered = sum(trial.restarts for trial in trials), sum(trial.unanswered for trial in trials)
    if restarts:
        times = "once" if restarts == 1 else f"{restarts} times"
        said.append(f"{device} restarted {times} in mid-test: its uptime went back")
    if unanswered:
        said.append(f"{device} left {counted(unanswered, 'question')} unanswered; what it counted then is not known")
    refresh_s = next((trial.refresh_s for trial in reversed(trials) if trial.refresh_s is not None), None)
    if refresh_s is not None:
        said.append(
            f"the counters of {device} change every {refresh_s:.1f} s, so what it shows in between is an average"
        )
    remarks = dict.fromkeys(remark for trial in trials for remark in trial.remarks)
    return said + list(remarks)
