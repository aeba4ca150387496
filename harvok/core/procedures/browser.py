"""A host without Harvok, measured by its browser: responses at rest, then receive, send, and both at once."""

import statistics
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.bounds import Flows, SomeSeconds
from harvok.core.ends import RECEIVE, SEND, Stream
from harvok.core.figures import Figure
from harvok.core.limiter import Limiter
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.tcp.notices import result_notices
from harvok.core.tcp.reading import Reading, read_direction
from harvok.core.trials.browser import BOTH, BrowserTrial, BrowserTrialResult
from harvok.core.trials.tcp import DirectionResult, SocketOptions
from harvok.core.units import format_duration, format_share

_ORDER: tuple[tuple[Stream, ...], ...] = ((), (RECEIVE,), (SEND,), (RECEIVE, SEND))
_MAX_CONNECTIONS = 5
"""Browsers open six to one host at most, of which one is for short requests."""
_HELD_UP = 0.25
"""Of the time, in which the page could not run: it reads what arrives and sends what leaves."""
_UPLOAD_GAPS = 0.1
"""Of the time, in which the browser had no upload under way: as much as would show beside the 3 % of a ceiling."""
_P95 = 0.95


@dataclass(frozen=True, slots=True)
class BrowserTest:
    """What to measure: with how many connections, for how long in each direction, and at rest."""

    connections: Flows = 4
    duration_s: SomeSeconds = 8.0
    idle_s: SomeSeconds = 3.0
    kind: Literal["browser"] = "browser"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return self.kind

    @property
    def trials(self) -> list[BrowserTrial]:
        """The trials that this test runs, in order."""
        return [self._trial(streams) for streams in _ORDER]

    def _trial(self, streams: tuple[Stream, ...]) -> BrowserTrial:
        connections = min(self.connections, _MAX_CONNECTIONS // max(len(streams), 1))
        return BrowserTrial(streams, connections, self.duration_s if streams else self.idle_s)

    @property
    def expected_s(self) -> float:
        """How long it should take, in seconds."""
        return self.idle_s + 3 * self.duration_s


def browser_test(
    test: BrowserTest, context: Context, findings: Findings
) -> Procedure[BrowserTrial, BrowserTrialResult]:
    """Runs the trials, and reads each direction against the link. Both directions at once get figures of their own, and
    no reading."""
    results: list[DirectionResult] = []
    for trial in test.trials:
        result = yield trial
        findings.figures.extend(_responses(trial, result))
        for direction in result.directions:
            reading, figures = read_direction(direction, context.link, SocketOptions())
            if trial.load == BOTH:
                findings.figures.extend(_both_ways(figures))
                continue
            findings.readings.append(replace(reading, limiter=_limiter(reading, result)))
            findings.figures.extend(figures)
            results.append(direction)
        findings.notices.extend(_notices(trial, result))
    findings.notices.extend(result_notices(results, findings.readings))


def _both_ways(figures: Sequence[Figure]) -> Iterator[Figure]:
    for figure in figures:
        if figure.quantity == "goodput-settled":
            yield replace(figure, quantity="goodput-both-ways")


def _responses(trial: BrowserTrial, result: BrowserTrialResult) -> Iterator[Figure]:
    times = sorted(result.page.responses_s)
    if not times:
        return
    labels = {"load": trial.load}
    yield Figure("page-response-median", statistics.median(times), labels)
    yield Figure("page-response-p95", times[min(int(_P95 * len(times)), len(times) - 1)], labels)
    yield Figure("page-response-min", times[0], labels)


def _limiter(reading: Reading, result: BrowserTrialResult) -> Limiter:
    """The browser, where something proves that it was; else what the station's kernel saw."""
    found = reading.limiter
    if found.kind in ("receive-window", "receiving-host"):
        return _browser(found.evidence)
    if found.kind == "link":
        return found
    if reading.direction == SEND.name and result.upload_gaps >= _UPLOAD_GAPS:
        return _browser(f"it had no upload under way {format_share(result.upload_gaps)} of the time.")
    if result.page.held_up >= _HELD_UP:
        return _browser(f"its page could not run {format_share(result.page.held_up)} of the time.")
    return found


def _browser(evidence: str) -> Limiter:
    return Limiter(
        "browser", evidence, "Close other pages and programs, or measure with a computer that has Harvok: harvok tcp."
    )


def _notices(trial: BrowserTrial, result: BrowserTrialResult) -> Iterator[str]:
    page = result.page
    if page.failed:
        yield f"{trial.load}: {page.failed} of {page.failed + len(page.responses_s)} short requests got no answer"
    middle = statistics.median(page.responses_s) if page.responses_s else 0.0
    if page.responses_s and page.clock_step_s >= middle / 2:
        step = format_duration(page.clock_step_s)
        yield f"{trial.load}: responses took no more than two steps of the browser's clock, each {step}"
