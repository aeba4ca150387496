"""What to do to decide a question with what is at hand: the commands, in their order, and what each is for."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, get_args

from harvok.core.units import write_speed
from harvok.errors import UsageError

Question = Literal["cable", "capacity", "slow", "before", "loss", "delay", "choice"]
QUESTIONS: dict[Question, str] = {
    "cable": "Is this cable good?",
    "capacity": "Does this switch, router or link carry its rating?",
    "slow": "Why is this transfer slow?",
    "before": "Is it as fast as before?",
    "loss": "Where does the loss come from?",
    "delay": "What does delay do to us?",
    "choice": "Which of two devices is better?",
}
Hand = Literal["hosts", "ports", "host"]
HANDS: dict[Hand, str] = {
    "hosts": "two hosts, with the equipment between them and Harvok on both",
    "ports": "two free ports of this host, with the equipment between them",
    "host": "this host alone, to learn on a model",
}


@dataclass(frozen=True, slots=True)
class AtHand:
    """What there is: the station at the far end, or the two ports of this host; the file of a device that answers SNMP,
    if any; the rated speed; what files are called; and facts about the
    unit under test, as KEY=VALUE."""

    hand: Hand
    rated_bps: float
    station: str = ""
    ports: tuple[str, str] = ("", "")
    device_file: str = ""
    name: str = "first"
    facts: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class GuideStep:
    """A command of Harvok, and what it is for. `before` is what the person at the bench does first. One that `decides`
    says ACCEPT, REJECT or RETEST by its exit code; one that may fail is only worth a look."""

    words: tuple[str, ...]
    purpose: str
    before: str = ""
    decides: bool = False
    may_fail: bool = False

    @property
    def writes(self) -> str:
        """The file that it writes, of which one that is there is used as it is; "" for a command that writes none."""
        return self.words[2] if self.words[:2] in (("plan", "new"), ("rig", "new")) else ""


@dataclass(frozen=True, slots=True)
class Guidance:
    """How a question is decided: why in this way, the commands, and what to look at afterwards."""

    why: str
    steps: tuple[GuideStep, ...]
    afterwards: str


def advise(question: Question, at: AtHand) -> Guidance:
    """The way to an answer. Raises UsageError for a question that cannot be decided with what is at hand."""
    ways = _WAYS[question]
    if at.hand not in ways:
        possible = " or ".join(f"--have {hand}" for hand in get_args(Hand) if hand in ways)
        raise UsageError(f"'{QUESTIONS[question]}' cannot be decided with {HANDS[at.hand]}", f"It takes {possible}.")
    why, make, afterwards = ways[at.hand]
    return Guidance(why, tuple(make(at)), afterwards)


Steps = Iterator[GuideStep]
_PLANNED = (
    "A plan holds what is measured, how often, and what is acceptable, so that anybody can run it again next year."
)
_ON_ACCEPT = "`harvok report make` writes the evidence down; the plan runs again for the next unit with other facts."


def _plan(at: AtHand, job: str, *where: str) -> Steps:
    file = f"{at.name}.toml"
    rated = write_speed(at.rated_bps)
    yield GuideStep(
        ("plan", "new", file, "--job", job, "--rated", rated, *where),
        "writes the plan, which may be edited",
    )
    yield GuideStep(("plan", "check", file), "says what it will do, and for how long")
    facts = [word for fact in at.facts for word in ("--with", fact)]
    yield GuideStep(("run", file, *facts), "runs it, step by step, and decides", decides=True)


def _words(command: str, series: str, at: AtHand) -> tuple[str, ...]:
    """A command whose runs are a series, with the device watched where it can be asked."""
    watched = ("--device", at.device_file) if at.device_file else ()
    return (*command.split(), "--series", series, *watched)


def _look_first(at: AtHand) -> Steps:
    yield GuideStep(
        ("preflight", at.station, "--rated", write_speed(at.rated_bps)),
        "looks for what could spoil the test: the wrong interface, small buffers, a busy host",
        may_fail=True,
    )


def _planned_between_hosts(job: str) -> Callable[[AtHand], Steps]:
    def steps(at: AtHand) -> Steps:
        yield from _look_first(at)
        yield from _plan(at, job, "--station", at.station)

    return steps


def _rig(at: AtHand, device: str) -> GuideStep:
    one, other = at.ports
    words = ("rig", "new", _rig_file(at), "--kind", "ports", "--name", at.name, "--rated", write_speed(at.rated_bps))
    return GuideStep((*words, "--device", device, "--port1", one, "--port2", other), "says what is wired to what")


def _rig_file(at: AtHand) -> str:
    return f"{at.name}-rig.toml"


def _planned_between_ports(job: str) -> Callable[[AtHand], Steps]:
    def steps(at: AtHand) -> Steps:
        yield _rig(at, job)
        yield GuideStep(
            ("preflight", _rig_file(at)),
            "looks for what could spoil the test: a port that is down, too slow or in use, a slow slot, a busy host",
            before=f"Join {at.ports[0]} and {at.ports[1]} with a lead that is known to be good.",
            may_fail=True,
        )
        yield GuideStep(
            ("calibrate", _rig_file(at), "--frame-size", "64", "--frame-size", "1518"),
            "measures what this tester itself can do, so that its limit is not taken for the device's",
        )
        yield from _plan(at, job, "--rig", _rig_file(at))
        yield from _by_flows(at)

    return steps


def _by_flows(at: AtHand) -> Steps:
    """The same device between two hosts, which are made of its two ports: by TCP and by UDP, which must agree."""
    file = f"{at.name}-flows.toml"
    yield GuideStep(
        ("plan", "new", file, "--job", "link", "--rated", write_speed(at.rated_bps), "--station", "hall"),
        "writes a second plan, by other means: TCP, and the loss-free rate of UDP, which must agree",
    )
    facts = [word for fact in at.facts for word in ("--with", fact)]
    yield GuideStep(
        ("rig", "try", _rig_file(at), "run", file, *facts),
        "runs it between two hosts that are made of the two ports, so that frames are not the only witness",
        decides=True,
    )


def _cable_between_ports(at: AtHand) -> Steps:
    one, other = at.ports
    rated = write_speed(at.rated_bps)
    yield GuideStep(
        ("ports", "watch", one, "--rated", rated, "--duration", "20s"),
        "shows whether the link comes up at its speed, and stays",
        before="Join both ports with the lead in question. Coil and uncoil it while the port is watched.",
        decides=True,
    )
    yield GuideStep(
        ("ports", "pair", one, other, "--rated", rated, "--repeat", "5", "--series", f"{at.name}.lead"),
        "fills the lead with TCP, both ways, five times",
    )
    yield GuideStep(
        ("ports", "pair", one, other, "--rated", rated, "--repeat", "5", "--series", f"{at.name}.known-good"),
        "does the same over a lead that is known to be good",
        before="Take the known-good lead.",
    )
    yield GuideStep(
        ("compare", f"{at.name}.known-good", f"{at.name}.lead"),
        "compares the two, and decides",
        decides=True,
    )


def _modelled(at: AtHand) -> Steps:
    rated = write_speed(at.rated_bps)
    yield GuideStep(
        ("rig", "new", _rig_file(at), "--kind", "simulated", "--name", at.name, "--rated", rated),
        "describes a switch in virtual time: nothing is sent, and nobody waits",
    )
    yield from _plan(at, "switch", "--rig", _rig_file(at))


def _slow(at: AtHand) -> Steps:
    rated = write_speed(at.rated_bps)
    yield from _look_first(at)
    yield GuideStep(
        _words(f"tcp {at.station} --rated {rated} --repeat 5", f"{at.name}.tcp", at),
        "measures five times, and names what limited each direction, with its evidence",
    )
    yield GuideStep(
        _words(f"udp {at.station} --rate {rated} --search --direction each", f"{at.name}.udp", at),
        "finds the highest rate without loss: where that is much more than TCP's, the path is not the limit",
    )
    yield GuideStep(
        _words(f"delay {at.station} --load each --rated {rated}", f"{at.name}.delay", at),
        "shows how much delay the load adds: long queues slow everything else",
    )


def _loss(at: AtHand) -> Steps:
    yield from _look_first(at)
    for share, name in ((0.1, "low"), (0.5, "half"), (0.95, "high")):
        rate = write_speed(at.rated_bps * share)
        yield GuideStep(
            _words(f"udp {at.station} --rate {rate} --duration 10s --direction each", f"{at.name}.{name}", at),
            f"counts every datagram at {rate}b/s",
        )


_DELAYED = "impair try clean sweep --over delay=0,5ms,20ms,80ms --over socket-buffer=256k,1M,4M --repeats 2"


def _delay(at: AtHand) -> Steps:
    yield GuideStep(
        (*_DELAYED.split(), "--series", f"{at.name}.delay"),
        "puts delay on a path between two hosts made of this one, and measures TCP with small and large buffers",
    )


def _choice(at: AtHand, words: str, purpose: str, before: str) -> Steps:
    """The same command for either device, and which of them is better."""
    for which in ("first", "second"):
        measured = (*_words(words, f"{at.name}.{which}", at), "--with", f"device={which}")
        yield GuideStep(measured, purpose.format(which), before=before.format(which))
    yield GuideStep(
        ("compare", f"{at.name}.first", f"{at.name}.second"),
        "says whether the second is worse than the first",
        decides=True,
    )


def _choice_between_hosts(at: AtHand) -> Steps:
    yield from _look_first(at)
    yield from _choice(
        at,
        f"tcp {at.station} --rated {write_speed(at.rated_bps)} --repeat 5",
        "measures through the {} device, five times, both ways",
        "Put the {} device between the hosts, and nothing else.",
    )


def _choice_between_ports(at: AtHand) -> Steps:
    yield _rig(at, "switch")
    yield from _choice(
        at,
        f"rfc2544 {_rig_file(at)} --frame-size 64 --frame-size 1518 --duration 10s --repeat 5",
        "benchmarks the {} device, five times",
        "Wire both ports to the {} device, and nothing else.",
    )


Way = tuple[str, Callable[[AtHand], Steps], str]
_WAYS: dict[Question, dict[Hand, Way]] = {
    "cable": {
        "hosts": (
            "The cable is held against a known-good one in the same place, and against what its speed allows.",
            _planned_between_hosts("cable"),
            _ON_ACCEPT,
        ),
        "ports": (
            "A bad lead shows by the speed its ends agree on, a link that goes when it moves, and what it carries.",
            _cable_between_ports,
            "Errors of one direction point to one pair or plug: `harvok ports` shows the counters of each port.",
        ),
    },
    "capacity": {
        "hosts": (_PLANNED, _planned_between_hosts("link"), _ON_ACCEPT),
        "ports": (_PLANNED, _planned_between_ports("switch"), _ON_ACCEPT),
        "host": (
            "One host alone decides nothing about equipment. A modelled switch shows how it goes with a real one.",
            _modelled,
            "With a second port, or a second host, the same commands decide about a device.",
        ),
    },
    "slow": {
        "hosts": (
            "A transfer is as slow as its narrowest part: path, windows, a host, or the application. Each test names "
            "its limiter, and when that is the tester, it says so.",
            _slow,
            "`harvok explain LIMITER` says what a limiter means and what to change; measure again after one change.",
        ),
    },
    "before": {
        "hosts": (
            "Before and after are measured in turns, so that drift of the hosts is not taken for the change.",
            _planned_between_hosts("change"),
            _ON_ACCEPT,
        ),
    },
    "loss": {
        "hosts": (
            "Loss at every rate alike is a bad lead or port; from a rate on, it is a queue that overflows. A device "
            "that answers SNMP tells on which side of it frames were lost: --device FILE.",
            _loss,
            "Compare the loss of the three rates, and of both directions; `harvok logbook show` has the details.",
        ),
    },
    "delay": {
        "host": (
            "Delay is put on purpose on a path of this host, beside nobody's traffic, so that nothing else changes.",
            _delay,
            "Where goodput falls as delay grows, the window is too small: it has to hold bandwidth × RTT.",
        ),
    },
    "choice": {
        "hosts": (
            "Both are measured in the same place with the same hosts, five times each, and compared.",
            _choice_between_hosts,
            "A difference within the noise is none: take the cheaper one, or measure more.",
        ),
        "ports": (
            "Both are measured in the same place with the same ports, five times each, and compared.",
            _choice_between_ports,
            "A difference within the noise is none: take the cheaper one, or measure more.",
        ),
    },
}


def usual_hand(question: Question, free_ports: Sequence[str], stations: Sequence[str]) -> Hand:
    """What is taken to be at hand where nobody says: what this host has, and the question can use."""
    ways = _WAYS[question]
    if "hosts" in ways and stations:
        return "hosts"
    if "ports" in ways and len(free_ports) >= 2:
        return "ports"
    return "host" if "host" in ways else "hosts"
