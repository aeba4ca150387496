"""RFC 9411 §7: the highest rates and numbers that a device carries of application traffic, and times at half of them.

Each case is a search over trials of users. A trial passes when everything was carried that was asked for, and no more
than RFC 9411 lets fail did. A trial that the tester held down says nothing; the search goes on below what it held.
"""

from collections.abc import Callable, Generator
from dataclasses import dataclass, replace
from typing import Literal

from harvok.core.app.reading import LevelReading, times_of
from harvok.core.ends import SEND
from harvok.core.figures import Figure, Mark
from harvok.core.limiter import Limiter
from harvok.core.link import Link
from harvok.core.procedure import Context, Findings, Procedure
from harvok.core.procedures.app import read_levels
from harvok.core.procedures.search import MAX_RETREATS, Attempt, Outcome, Range, guided, retreat
from harvok.core.trials.app import (
    MAX_ARRIVALS_PER_S,
    MAX_USERS,
    Action,
    Application,
    AppMix,
    AppTrial,
    AppTrialResult,
    Level,
    WebProtocol,
)
from harvok.core.units import format_per_second, format_rate, format_size
from harvok.errors import TesterLimitError

CaseName = Literal["mix", "connections", "throughput", "latency", "concurrent"]
CASES: tuple[CaseName, ...] = ("mix", "connections", "throughput", "latency", "concurrent")
SIZES: dict[CaseName, tuple[int, ...]] = {
    "connections": (1_000, 2_000, 4_000, 16_000, 64_000),
    "throughput": (1_000, 16_000, 64_000, 256_000),
    "latency": (1_000, 16_000, 64_000),
    "concurrent": (1_000,),
}
"""RFC 9411 §7.2.3.2, §7.3.3.2, §7.4.3.2, §7.5.3.2: the objects that are fetched."""

SEARCHED = ("max-connections-rate", "max-app-throughput", "max-open-connections")
"""The quantities that are found by a search, in the standard's order."""

_EACH = 10
"""RFC 9411 §7.3.3.2: transactions of a connection, where connections themselves are not what is tested."""
_THINK_S = 5.0
"""Between two transactions of a connection that is held: it is to stay open, and do little else."""
_HELD = 0.99
"""RFC 9411 lets rates vary by 5 % in the sustain phase; of their mean, that is this much."""
_AT_EDGES = 2
"""Transactions, or sessions, that may have begun before a trial was measured or ended after it."""
_NEAR = 0.95
"""Of what the tester could be made to hold: above, a result is the tester's as much as the device's."""
_USERS_FIRST_S = 0.5
"""Users are there for so long at most before arrivals count as unserved: a device that queues for longer has failed."""


@dataclass(frozen=True, slots=True)
class Rfc9411Test:
    """Which `cases` to take. Loads are searched up to the maxima, to within `resolution` of them; each trial is ramped
    for `ramp_s` and sustained for `sustain_s`. `mix` and `users` are those of the case mix."""

    cases: tuple[CaseName, ...]
    mix: AppMix
    users: int = 64
    sizes: tuple[int, ...] = ()
    max_connections_per_s: float = 20_000.0
    max_throughput_bps: float = 10e9
    max_connections: int = 20_000
    resolution: float = 0.01
    sustain_s: float = 30.0
    ramp_s: float = 5.0
    timeout_s: float = 10.0
    tls: bool = False
    protocol: WebProtocol = "http/1.1"
    kind: Literal["rfc9411"] = "rfc9411"

    @property
    def title(self) -> str:
        """What a list of runs shows."""
        return f"rfc9411 {' '.join(self.cases)}"

    @property
    def expected_s(self) -> float:
        """About: a search takes six trials, a trial at a load one."""
        trials = sum(1 if case == "mix" else 6 * len(self.sizes_of(case)) for case in self.cases)
        return trials * (self.sustain_s + 2 * self.ramp_s)

    def sizes_of(self, case: CaseName) -> tuple[int, ...]:
        """The objects of a case: those that were asked for, or the standard's."""
        return self.sizes or SIZES[case]


@dataclass(frozen=True, slots=True)
class _Case:
    """What a search is about: its figure, the most that is tried, and how a load becomes a trial and is read again.
    `grain` is how much of a load one transaction more or less is, at the edges of a time in seconds."""

    quantity: str
    maximum: float
    trial: Callable[[float], AppTrial]
    carried: Callable[[LevelReading], float]
    grain: Callable[[float], float]
    words: Callable[[float], str]


def rfc9411(test: Rfc9411Test, context: Context, findings: Findings) -> Procedure[AppTrial, AppTrialResult]:
    """Runs the cases in the order of the standard. Raises TesterLimitError when the tester holds no load."""
    found: dict[int, float] = {}
    for name in CASES:
        if name not in test.cases:
            continue
        if name == "mix":
            yield from _mix(test, context.link, findings)
            continue
        for size in test.sizes_of(name):
            if name == "latency":
                yield from _latency(test, size, found.get(size), context.link, findings)
                continue
            highest = yield from _search(test, _case(test, name, size), size, context.link, findings)
            if name == "throughput":
                found[size] = highest


def _case(test: Rfc9411Test, name: CaseName, size: int) -> _Case:
    if name == "connections":
        return _Case(
            "max-connections-rate",
            test.max_connections_per_s,
            lambda load: _arrivals(test, _object(test, size, each=1), load, f"{format_per_second(load)} connections/s"),
            lambda reading: reading.each_second(reading.total.transactions),
            lambda seconds: 1 / seconds,
            lambda load: f"{format_per_second(load)} connections/s",
        )
    if name == "throughput":
        return _Case(
            "max-app-throughput",
            test.max_throughput_bps,
            lambda load: _arrivals(
                test, _object(test, size, times=_EACH), load / (8 * size * _EACH), format_rate(load)
            ),
            lambda reading: reading.each_second(reading.total.transactions) * size * 8,
            lambda seconds: size * 8 * _EACH / seconds,
            format_rate,
        )
    return _Case(
        "max-open-connections",
        float(test.max_connections),
        lambda load: _held(test, size, round(load)),
        lambda reading: reading.open_connections,
        lambda seconds: 0.0,
        lambda load: f"{load:.0f} connections",
    )


def _object(test: Rfc9411Test, size: int, each: int = 0, times: int = 1, think_s: float = 0.0) -> AppMix:
    """One object, fetched `times` one after the other in each session."""
    actions = tuple(Action(f"fetch {number}", (size,), think_s=(think_s,)) for number in range(1, times + 1))
    application = Application("object", 1.0, actions, test.protocol, each, tls=test.tls)
    return AppMix(f"object of {format_size(size)}", (application,))


def _arrivals(test: Rfc9411Test, mix: AppMix, load: float, about: str) -> AppTrial:
    load = min(max(load, 0.01), MAX_ARRIVALS_PER_S)
    level = Level(test.sustain_s, test.ramp_s, arrivals_per_s=load)
    room = min(max(100, round(load * (_USERS_FIRST_S + test.timeout_s / 2))), MAX_USERS)
    return AppTrial(mix, (SEND,), (level,), 0.0, timeout_s=test.timeout_s, max_users=room, about=about)


def _held(test: Rfc9411Test, size: int, connections: int) -> AppTrial:
    """Each user has one connection, and now and then a transaction on it."""
    level = Level(test.sustain_s, test.ramp_s, min(max(connections, 1), MAX_USERS))
    about = f"{connections} connections held"
    mix = _object(test, size, think_s=_THINK_S)
    return AppTrial(mix, (SEND,), (level,), 0.0, timeout_s=test.timeout_s, about=about)


def _mix(test: Rfc9411Test, link: Link, findings: Findings) -> Procedure[AppTrial, AppTrialResult]:
    """RFC 9411 §7.1: what a mix of applications gets, at a number of users."""
    level = Level(test.sustain_s, test.ramp_s, test.users)
    about = f"mix {test.mix.name}"
    trial = AppTrial(test.mix, (SEND,), (level,), test.ramp_s, timeout_s=test.timeout_s, about=about)
    reading, limiter = _reading(trial, (yield trial), link)
    labels = {"case": "mix"}
    _add(findings, reading, limiter, labels)


def _latency(
    test: Rfc9411Test, size: int, highest_bps: float | None, link: Link, findings: Findings
) -> Procedure[AppTrial, AppTrialResult]:
    """RFC 9411 §7.4: times at half of the throughput that was found, or that was asked for."""
    load = (highest_bps or test.max_throughput_bps) / 2
    trial = _case(test, "throughput", size).trial(load)
    reading, limiter = _reading(trial, (yield replace(trial, about=f"latency at {format_rate(load)}")), link)
    _add(findings, reading, limiter, {"case": "latency", "object": format_size(size)})


def _add(findings: Findings, reading: LevelReading, limiter: Limiter, labels: dict[str, str]) -> None:
    """The figures of a single trial."""
    mark: Mark = "tester-limit" if limiter.blame == "tester" else ""
    total = reading.total
    values: list[tuple[str, float | None]] = [
        ("transactions-rate", reading.each_second(total.transactions)),
        ("connections-rate", reading.each_second(reading.connections.opened)),
        ("failed-transactions", total.failed_share),
        *times_of(total),
    ]
    findings.figures.extend(Figure(key, value, labels, mark) for key, value in values if value is not None)
    for direction, bps in (("send", reading.request_bps), ("receive", reading.response_bps)):
        findings.figures.append(Figure("app-goodput", bps, labels | {"direction": direction}, mark))


def _search(
    test: Rfc9411Test, case: _Case, size: int, link: Link, findings: Findings
) -> Generator[AppTrial, AppTrialResult, float]:
    """The highest load that passes, below what the tester holds."""
    maximum, retreats = case.maximum, 0
    while True:
        try:
            highest = yield from _attempts(test, case, maximum, link)
            break
        except TesterLimitError as limit:
            if retreats == MAX_RETREATS:
                raise
            retreats, maximum = retreats + 1, retreat(maximum, limit.held_share)
    mark: Mark = "tester-limit" if retreats and highest > _NEAR * maximum else ""
    open_load = min(test.resolution * case.maximum, max(case.maximum - highest, 0.0))
    findings.figures.append(Figure(case.quantity, highest, {"object": format_size(size)}, mark, open_load))
    if highest >= case.maximum * (1 - 1e-9):
        findings.notices.append(f"{case.words(highest)} is all that was asked for: look higher to find the limit")
    return highest


def _attempts(test: Rfc9411Test, case: _Case, maximum: float, link: Link) -> Generator[AppTrial, AppTrialResult, float]:
    """One search. Raises TesterLimitError with how much of a load the tester held."""
    short_s = min(max(test.sustain_s / 6, 1.0), test.sustain_s)
    search = guided(Range(maximum, test.resolution * case.maximum, test.sustain_s, short_s))
    attempt = next(search)
    while True:
        outcome = yield from _try(case, attempt, link)
        try:
            attempt = search.send(outcome)
        except StopIteration as end:
            found: float = end.value
            return found


def _try(case: _Case, attempt: Attempt, link: Link) -> Generator[AppTrial, AppTrialResult, Outcome]:
    trial = case.trial(attempt.load)
    levels = tuple(replace(level, sustain_s=attempt.duration_s) for level in trial.levels)
    trial = replace(trial, levels=levels)
    reading, limiter = _reading(trial, (yield trial), link)
    carried = min(case.carried(reading), attempt.load)
    whole = not (reading.total.fails_too_often or reading.is_reset_too_often or reading.unserved)
    at_edges = _AT_EDGES * case.grain(attempt.duration_s)
    passed = whole and carried + at_edges >= _HELD * attempt.load
    if limiter.blame == "tester" and not passed:
        raise TesterLimitError(limiter.evidence, limiter.advice, _held_share(trial, reading))
    return Outcome(passed, carried)


def _held_share(trial: AppTrial, reading: LevelReading) -> float:
    """How much of a load the tester began, whatever became of it."""
    level = reading.level
    if level.users is not None:
        return min(reading.open_connections / level.users, 1.0)
    asked = level.height * sum(application.transactions for application in trial.mix.applications)
    return min(reading.each_second(reading.total.attempted + reading.unserved) / asked, 1.0)


def _reading(trial: AppTrial, result: AppTrialResult, link: Link) -> tuple[LevelReading, Limiter]:
    """The one level of a trial. Raises TesterLimitError where it was not sustained to its end."""
    levels = read_levels(trial, result.streams[0], link)
    if not levels:
        raise TesterLimitError("the trial ended before its load was sustained", "Measure again.")
    return levels[0]
