"""A made-up switch that answers SNMP, for trying things out where there is no device."""

import math
import socket
from collections.abc import Callable

from harvok.clock import SYSTEM, Clock
from harvok.core.device.model import AgentFaults, ModelAgent
from harvok.core.wire.snmp_agent import AgentPort, AgentState, answer_to, objects_of

COMMUNITY = "harvok"
_PORTS = ("gi1", "gi2", "gi3", "gi4")
_SPEED_BPS = 1e9
_FRAME_BYTES = 800
_SWING_S = 60.0
_ERRORS_EACH_S = 0.5
_BEATS_S = 0.005


class StandIn:
    """Counts traffic that nobody sends: gi1 and gi2 exchange up to 600 and 200 Mb/s, gi3 counts errors, gi4 is idle."""

    def __init__(self, faults: AgentFaults, clock: Clock = SYSTEM) -> None:
        self._agent, self._clock = ModelAgent("dome-sw-a", _PORTS, _SPEED_BPS, faults), clock
        self._began_ns, self._counted_s = clock.now_ns(), 0.0
        self._left = dict.fromkeys(("there", "back", "errors"), 0.0)

    def answer(self, request: bytes) -> bytes | None:
        """What it answers now."""
        at_s = (self._clock.now_ns() - self._began_ns) / 1e9
        while self._counted_s + _BEATS_S <= at_s:
            self._beat()
        reading, facts = self._agent.reading(at_s), self._agent.facts(at_s)
        ports = [
            AgentPort(number, name, reading.ports[name], up=name != "gi4", speed_bps=_SPEED_BPS)
            for number, name in enumerate(_PORTS, 1)
        ]
        state = AgentState(
            "dome-sw-a",
            "a made-up switch of Harvok",
            reading.uptime_s,
            ports,
            facts.firmware,
            [self._cpu(at_s)],
            [41.5],
        )
        return answer_to(request, COMMUNITY, objects_of(state))

    def _cpu(self, at_s: float) -> float:
        return 0.1 + 0.3 * self._swing(at_s)

    def _swing(self, at_s: float) -> float:
        """Between 0 and 1 and back, each minute."""
        return (1 - math.cos(2 * math.pi * at_s / _SWING_S)) / 2

    def _beat(self) -> None:
        self._counted_s += _BEATS_S
        swing = self._swing(self._counted_s)
        for source, destination, way, most_bps in (("gi1", "gi2", "there", 600e6), ("gi2", "gi1", "back", 200e6)):
            frames = self._whole(way, (0.05 + 0.95 * swing) * most_bps * _BEATS_S / (8 * _FRAME_BYTES))
            self._agent.count(source, frames_in=frames, octets_in=frames * _FRAME_BYTES)
            self._agent.count(destination, frames_out=frames, octets_out=frames * _FRAME_BYTES)
        errors = self._whole("errors", _ERRORS_EACH_S * _BEATS_S)
        self._agent.count("gi3", errors_in=errors, fcs_errors=errors)

    def _whole(self, what: str, count: float) -> int:
        """Whole frames; what is left over goes to the next beat."""
        self._left[what] += count
        whole = int(self._left[what])
        self._left[what] -= whole
        return whole


def serve_stand_in(port: int, faults: AgentFaults, ready: Callable[[int], None]) -> None:
    """Answers on loopback until it is interrupted; `ready` is told the port. Raises NearEndError for one in use."""
    from harvok.errors import NearEndError

    hears = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    with hears:
        try:
            hears.bind(("127.0.0.1", port))
        except OSError as error:
            raise NearEndError(f"port {port} cannot be taken: {error.strerror}", "Take another, or 0.") from error
        ready(hears.getsockname()[1])
        stand_in = StandIn(faults)
        while True:
            request, sender = hears.recvfrom(65_535)
            answer = stand_in.answer(request)
            if answer is not None:
                hears.sendto(answer, sender)
