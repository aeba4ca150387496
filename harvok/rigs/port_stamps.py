"""By whose stamps the delays of a stream are known: the kernel's, the driver's, or those of the cards."""

from collections.abc import Callable, Iterator

from harvok.core.time_axis import ClockOffset
from harvok.core.trials.frames import DelaySummary, StampedBy
from harvok.core.wire.frame_orders import ReceiveReport, SampleBy, SendReport, Stamps, StampsOrder
from harvok.rigs.addresses import TesterPort
from harvok.traffic.card_stamps import MAX_SAMPLES

_SAME = ClockOffset(0.0, 0.0)


def sample_every(frames: int, batch: int, slots: int) -> int:
    """Of how many slots one is chosen, so that of a trial's frames no more are than a worker reports: a power of two,
    at least a batch and at most a lap."""
    every = 1 << (batch - 1).bit_length()
    while every * 2 <= slots and frames / every > MAX_SAMPLES:
        every *= 2
    return every


class PortStamps:
    """What the cards of a rig's ports can stamp. `ask` puts the question to the host of a port, by its place; cards of
    two hosts are compared only where their clocks are said to keep `within_s` of each other."""

    def __init__(self, ask: Callable[[str, StampsOrder], Stamps], within_s: float | None) -> None:
        self._ask, self._within_s = ask, within_s
        self._cards: dict[tuple[str, str], Stamps] = {}
        self.missing = ""
        """Why the kernel does not stamp each frame, once that is known."""

    def source_of(self, sending: TesterPort, hearing: TesterPort) -> SampleBy:
        """Who stamps some frames of a stream beside the kernel: the cards, or the driver where the kernel cannot."""
        cards = [self._card(sending), self._card(hearing)]
        if all(card.hardware for card in cards) and self._apart(sending, hearing) is not None:
            return "hardware"
        return "software" if self.missing and cards[0].software else ""

    def _card(self, port: TesterPort) -> Stamps:
        where = (port.place, port.interface)
        if where not in self._cards:
            self._cards[where] = self._ask(port.place, StampsOrder(port.interface))
        return self._cards[where]

    def _apart(self, sending: TesterPort, hearing: TesterPort) -> ClockOffset | None:
        """How far the clock of the hearing card is ahead of the sending one's; None where that is not known."""
        if sending.place != hearing.place:
            return None if self._within_s is None else ClockOffset(0.0, self._within_s)
        clock = self._card(sending).clock
        if clock == self._card(hearing).clock:
            return _SAME
        told = self._ask(hearing.place, StampsOrder(hearing.interface, clock))
        return None if told.ahead_s is None or told.error_s is None else ClockOffset(told.ahead_s, told.error_s)

    def apart(self, by: SampleBy, sending: TesterPort, hearing: TesterPort) -> ClockOffset:
        """The same of the clocks that stamped a stream."""
        return (by == "hardware" and self._apart(sending, hearing)) or _SAME


def sampled_delays_ns(sent: SendReport, received: ReceiveReport) -> Iterator[tuple[int, int]]:
    """The numbers of the frames that have a stamp at both ends, and how long they took."""
    left_ns = dict(sent.samples)
    for number, came_ns in received.samples:
        if number in left_ns:
            yield number, came_ns - left_ns[number]


def kind_of_stamps(by: SampleBy, sent: SendReport, sampled: bool) -> StampedBy:
    """Whose stamps the delays of a stream are by."""
    if by and sampled:
        return "card" if by == "hardware" else "driver"
    return "batch" if sent.no_stamps else "frame"


def summary_of(delays_ns: list[int]) -> DelaySummary | None:
    """The delays of some frames."""
    from harvok.core.measures.delay import DelayHistogram

    delays = DelayHistogram()
    delays.add(delays_ns)
    return delays.summary()
