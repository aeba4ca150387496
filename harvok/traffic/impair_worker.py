"""A worker process: impairs the path between two ports until its standard input closes.

It begins at once (see harvok.worker) and says a report every second. Each line on standard input is a new plan, carried
out from then on; when standard input closes it says its last report and ends. Nothing of the ports is changed but what
goes away with the process.
"""

import gc
import json
import os
import select
import sys
import threading
from dataclasses import asdict, dataclass, field
from typing import Any

from harvok.clock import SYSTEM
from harvok.core.impairment import Impairment, ImpairmentPlan, ImpairmentReport, Stage
from harvok.worker.child import end_with_parent, enter_namespaces, raise_priority, run, say, say_ready, wake_precisely

_SPIN_NS, _NAP_NS = 60_000, 50_000
_IDLE_MS = 5
_REPORT_NS = 1_000_000_000
_MIN_HELD, _MAX_HELD = 1 << 13, 1 << 18


@dataclass(frozen=True, slots=True)
class BridgeOrders:
    """What to do between which ports. `namespaces` are entered first; `held_fps` is how many frames a second the
    delay line must have room for."""

    ports: tuple[str, str]
    plan: ImpairmentPlan
    namespaces: list[str] = field(default_factory=list)
    held_fps: float = 1e6

    def encode(self) -> str:
        return json.dumps(asdict(self))

    @classmethod
    def decode(cls, text: str) -> "BridgeOrders":
        reported = json.loads(text)
        ports = tuple(reported["ports"])
        return cls((ports[0], ports[1]), read_plan(reported["plan"]), reported["namespaces"], reported["held_fps"])


def read_plan(reported: dict[str, Any]) -> ImpairmentPlan:
    """A plan as it came over a pipe."""
    stages = tuple(
        Stage(one["at_s"], _read_impairment(one["send"]), _read_impairment(one["receive"]))
        for one in reported["stages"]
    )
    return ImpairmentPlan(reported["name"], stages, reported["seed"])


def _read_impairment(reported: dict[str, Any]) -> Impairment:
    return Impairment(**reported | {"recorded_s": tuple(reported["recorded_s"])})


def slots_for(plan: ImpairmentPlan, held_fps: float) -> int:
    """How many frames the delay line holds: a power of two, with half as much again as the plan needs, and 20 ms."""
    wanted = (plan.longest_s * 1.5 + 0.02) * held_fps
    return min(max(1 << int(wanted).bit_length(), _MIN_HELD), _MAX_HELD)


class _Bridge:
    """Both directions, in turns."""

    def __init__(self, orders: BridgeOrders) -> None:
        from harvok.traffic.bridge import PathDirection

        self._plan, first = orders.plan, orders.plan.stages[0]
        held = slots_for(orders.plan, orders.held_fps)
        one, other = orders.ports
        self._directions = [
            PathDirection("send", one, other, first.send, orders.plan.seed * 2, held),
            PathDirection("receive", other, one, first.receive, orders.plan.seed * 2 + 1, held),
        ]
        self._began_ns = SYSTEM.now_ns()
        self._plan_ns = self._began_ns
        self._stage = 0
        self.stopping = False
        self.next_plan: ImpairmentPlan | None = None

    def run(self) -> None:
        """Busy while anything is due soon, asleep while nothing is."""
        poll = select.poll()
        for direction in self._directions:
            poll.register(direction.fileno(), select.POLLIN)
        report_ns = self._began_ns + _REPORT_NS
        while not self.stopping:
            busy = False
            for direction in self._directions:
                wall_ns = SYSTEM.wall_ns()
                busy |= direction.take(wall_ns)
                busy |= direction.release(wall_ns)
            now_ns = SYSTEM.now_ns()
            self._follow_schedule(now_ns)
            if now_ns >= report_ns:
                self._report(now_ns, over=False)
                report_ns += _REPORT_NS
            if not busy:
                self._rest(poll)
        self._report(SYSTEM.now_ns(), over=True)
        for direction in self._directions:
            direction.close()

    def _rest(self, poll: "select.poll") -> None:
        """Sleeps until a frame comes; while frames wait, in naps, so that those which are due at once are seen soon."""
        dues = [due for direction in self._directions if (due := direction.next_due_ns()) is not None]
        if not dues:
            poll.poll(_IDLE_MS)
            return
        left_ns = min(dues) - SYSTEM.wall_ns() - _SPIN_NS
        if left_ns > 0:
            SYSTEM.sleep(min(left_ns, _NAP_NS) / 1e9)

    def _follow_schedule(self, now_ns: int) -> None:
        if self.next_plan:
            self._plan, self.next_plan = self.next_plan, None
            self._plan_ns, self._stage = now_ns, 0
            self._apply()
        passed_s = (now_ns - self._plan_ns) / 1e9
        upcoming = self._stage + 1
        if upcoming < len(self._plan.stages) and passed_s >= self._plan.stages[upcoming].at_s:
            self._stage = upcoming
            self._apply()

    def _apply(self) -> None:
        for direction in self._directions:
            direction.apply(self._plan.stages[self._stage].of(direction.direction))

    def _report(self, now_ns: int, over: bool) -> None:
        reported = [direction.report(whole=over) for direction in self._directions]
        report = ImpairmentReport((now_ns - self._began_ns) / 1e9, self._stage, reported, over)
        say(asdict(report))


def _listen(bridge: _Bridge) -> None:
    """New plans as they come; the end when nothing more can."""
    for text in sys.stdin:
        bridge.next_plan = read_plan(json.loads(text))
    bridge.stopping = True


def work(text: str) -> None:
    orders = BridgeOrders.decode(text)
    end_with_parent()
    wake_precisely()
    raise_priority()
    enter_namespaces(orders.namespaces)
    bridge = _Bridge(orders)
    say_ready()
    gc.disable()
    threading.Thread(target=_listen, args=[bridge], daemon=True).start()
    bridge.run()
    os._exit(0)


if __name__ == "__main__":
    run(work, "Check that both ports are up; `harvok ports`.")
