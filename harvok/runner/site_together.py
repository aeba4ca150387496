"""Several near ends that begin together towards one station: a process for each, and what they came to together."""

import secrets
from collections.abc import Iterator, Sequence
from dataclasses import replace

from harvok.clock import SYSTEM
from harvok.core.ends import TWO_WAY
from harvok.core.figures import Figure
from harvok.core.judgement.finding import VERDICTS_WORST_FIRST
from harvok.core.models.run import RunRecord, TrialRecord
from harvok.core.models.site import RoundKeys
from harvok.core.site.failures import BROKEN
from harvok.core.site.together import MemberFlow, figures_together, ready_s
from harvok.errors import HarvokError
from harvok.rigs.stations import CommonStart
from harvok.runner.errands import CLOCK_AHEAD
from harvok.runner.site_orders import PROCESS, Came, SiteOrders
from harvok.worker.parent import Worker

_BETWEEN_TRIALS_S = 6.0
_SO_FAR, _IN_INTERVAL = "payload-bytes", "interval-bytes"
"""What a receiver of TCP tells with every tick, and one of datagrams for each service with every interval."""


def run_together(orders: SiteOrders, keys: RoundKeys) -> Came:
    """Has each near end run the test, all at the same time. What becomes of each is in what they came to: the first
    failure, the worst verdict."""
    wait_s = ready_s(len(orders.near))
    every_s = (keys.step.example.expected_s or 0.0) + _BETWEEN_TRIALS_S
    start = CommonStart(secrets.token_hex(8), SYSTEM.wall_ns() + round(wait_s * 1e9), every_s)
    workers = {near: Worker(PROCESS, replace(orders, near=[near], start=start).encode()) for near in orders.near}
    try:
        members = {near: _heard(worker, keys.longest_s + wait_s) for near, worker in workers.items()}
    except KeyboardInterrupt:
        for worker in workers.values():
            worker.close_input()
        members = {near: _heard(worker, keys.longest_s) for near, worker in workers.items()}
    finally:
        for worker in workers.values():
            worker.end()
    return _joined(members)


def _heard(worker: Worker, timeout_s: float) -> Came:
    try:
        return Came(**worker.hear(timeout_s))
    except HarvokError as error:
        return Came(failure=BROKEN.key, reason=error.message)


def _joined(members: dict[str, Came]) -> Came:
    """What all of them came to."""
    verdicts = {came.verdict for came in members.values()}
    failed = next(((near, came) for near, came in members.items() if came.failure), None)
    return Came(
        runs=[run for came in members.values() for run in came.runs],
        verdict=next((verdict for verdict in VERDICTS_WORST_FIRST if verdict in verdicts), ""),
        failure=failed[1].failure if failed else "",
        reason=f"{failed[0]}: {failed[1].reason}" if failed else "",
    )


def together(records: Sequence[RunRecord]) -> list[Figure]:
    """What the runs of one group came to together, of each direction; nothing where one of them has no such flow."""
    flows = [flow for record in records for flow in _flows(record)]
    figures = []
    for direction in dict.fromkeys(direction for direction, _ in flows):
        of_all = [flow for its_direction, flow in flows if its_direction == direction]
        if len(of_all) == len(records):
            figures += figures_together(direction, of_all)
    return figures


def _flows(record: RunRecord) -> Iterator[tuple[str, MemberFlow]]:
    """What arrived in each direction, with its name."""
    ahead_s = float(record.attributes.get(CLOCK_AHEAD, "0"))
    ceilings = {one.direction: one.ceiling.goodput_bps for one in record.readings if one.ceiling}
    for trial in record.trials:
        if trial.origin is None or trial.result is None:
            continue
        begins_s = trial.origin.timestamp() - ahead_s
        for direction in TWO_WAY:
            arrivals = _arrivals(trial, direction)
            if arrivals:
                moments = [begins_s + at_s for at_s, _ in arrivals]
                arrived = [value for _, value in arrivals]
                ceiling = ceilings.get(direction)
                yield direction, MemberFlow(record.near.name, begins_s, moments, arrived, ceiling)


def _arrivals(trial: TrialRecord, direction: str) -> list[tuple[float, float]]:
    """When how many bytes arrived, by the receiver in a direction, on the trial's time axis."""
    wanted = {"direction": direction, "role": "receiver"}
    blocks = [block for block in trial.samples if wanted.items() <= block.labels.items()]
    so_far = sorted(row for block in blocks if _SO_FAR in block.values for row in block.of(_SO_FAR))
    before = [0.0, *(value for _, value in so_far)]
    by_tick = [(at_s, value - earlier) for (at_s, value), earlier in zip(so_far, before, strict=False)]
    return by_tick or sorted(row for block in blocks if _IN_INTERVAL in block.values for row in block.of(_IN_INTERVAL))
