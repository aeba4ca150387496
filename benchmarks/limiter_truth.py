"""How often the limiter is right: TCP over paths whose cause is built on purpose, between network namespaces.

    python benchmarks/limiter_truth.py [--repeats 5] [--seconds 4] [--only NAME] [--json FILE]

Two hosts, or two hosts with a bridge between them that delays and loses (harvok impair), each in a network namespace
of its own. Every path is measured by the installed program, repeat by repeat, and its answer is set beside the cause.
Prints cause × answer, the share of right answers, and how often equipment was blamed for the tester or the settings, or
the tester or the settings for the equipment. Needs root, nft, ip, tc and sysctl; takes about 25 minutes.

A link is built by a token bucket, with the buffer of a switch; a policer by a limit of nft that drops; busy neighbours
are loops of this very program, always or half of the time. Loss that leaves a link full limits nothing: there `link` is
right as well, and the loss is judged by itself.
"""

import argparse
import contextlib
import json
import os
import subprocess
import sys
import tempfile
import time
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from harvok.core.limiter import Limiter, LimiterKind
from harvok.core.tcp.limiter import FULL_SHARE
from harvok.testing.own_user import own_user

HARVOK = str(Path(sys.executable).with_name("harvok"))
_NEAR, _MID, _FAR = "harvok-truth-near", "harvok-truth-mid", "harvok-truth-far"
_ADDRESS = "198.18.0.2"

CPU: frozenset[LimiterKind] = frozenset({"cpu-near", "cpu-far"})
WINDOW: frozenset[LimiterKind] = frozenset({"receive-window", "send-buffer"})
RECEIVE_WINDOW: frozenset[LimiterKind] = frozenset({"receive-window"})


@dataclass(frozen=True, slots=True)
class Case:
    """One path: what is built, how it is measured, and which answers are right.

    `rate` shapes both ways (or each its own); `bridge` are keys of an impairment; `rules` are of nft, where the far end
    receives, `near_rules` where the near end does; `tune` are sysctl settings by end; `busy` are neighbours that
    compute, `half` such that compute half of the time; `rival` is a flow beside the test. `full_is_right`: a link that
    is full all the same is a right answer.
    """

    name: str
    cause: str
    right: frozenset[LimiterKind]
    options: tuple[str, ...] = ()
    rate: str = ""
    bridge: str = ""
    rules: tuple[str, ...] = ()
    near_rules: tuple[str, ...] = ()
    tune: dict[str, dict[str, str]] = field(default_factory=dict)
    busy: int = 0
    half: int = 0
    rival: bool = False
    seconds: float | None = None
    full_is_right: bool = False


def _delay(ms: float, **more: str | int) -> str:
    keys = {"delay": f"{ms}ms", **more} | ({"queue": "256k"} if "rate" in more else {})
    return "\n".join(f"{key} = {json.dumps(value)}" for key, value in keys.items())


LINK: frozenset[LimiterKind] = frozenset({"link"})
LOSS: frozenset[LimiterKind] = frozenset({"loss", "policer"})
SHORT: frozenset[LimiterKind] = frozenset({"too-short", "window-opening"})


def cases() -> Iterator[Case]:
    """Every path."""
    yield from _links()
    yield from _neighbours()
    yield from _losses()
    yield from _settings()
    yield from _others()


def _links() -> Iterator[Case]:
    for control in ("cubic", "bbr"):
        by = ("--congestion-control", control)
        yield Case(f"shaped 50M as rated, {control}", "link", LINK, (*by, "--rated", "50M"), "50mbit")
        yield Case(f"shaped 200M as rated, {control}", "link", LINK, (*by, "--rated", "200M"), "200mbit")
        yield Case(f"shaped 50M, rated 500M, {control}", "link", LINK, (*by, "--rated", "500M"), "50mbit")
        yield Case(f"shaped 200M, no rating, {control}", "link", LINK, by, "200mbit")
        yield Case(f"delay 5 ms, 50M, {control}", "link", LINK, (*by, "--rated", "50M"), bridge=_delay(5, rate="50M"))
    yield Case("shaped 1000M as rated", "link", LINK | CPU, ("--rated", "1G"), "1gbit")
    yield Case("both ways, shaped 50M", "link", LINK, ("--rated", "50M", "--direction", "both"), "50mbit")
    yield Case("asymmetric 200M/20M", "link", LINK, ("--rated", "200M", "--direction", "each"), "200mbit 20mbit")
    yield Case("duplication 2 %", "link", LINK, ("--rated", "50M"), bridge=_delay(5, rate="50M", duplication="2%"))
    reordered = _delay(5, rate="50M", reordering="2%")
    yield Case("reordering 2 %", "link", LINK | {"unknown"}, ("--rated", "50M"), bridge=reordered)
    acks = ("tcp sport 26471 meta length < 100 numgen random mod 10 < 1 drop",)
    yield Case("acknowledgements lost 10 %", "link", LINK, ("--rated", "200M"), "200mbit", near_rules=acks)


def _neighbours() -> Iterator[Case]:
    """Busy ones, beside a path of its own and flat out."""
    for busy, half in ((2, 0), (0, 2)):
        many, rated = f"{busy + half} {'half-' if half else ''}busy neighbours", ("--rated", "200M")
        yield Case(f"shaped 50M, rated 200M, {many}", "link", LINK, rated, "50mbit", busy=busy, half=half)
        yield Case(f"flat out, {many}", "cpu", CPU, ("--rated", "100G"), busy=busy, half=half)
        path = {"rate": "200mbit", "rules": _lost(50), "busy": busy, "half": half}
        yield Case(f"loss 5 %, {many}", "loss", LOSS, rated, full_is_right=True, **path)  # type: ignore[arg-type]
    yield Case("flat out", "cpu", CPU, ("--rated", "100G"))
    yield Case("flat out, no rating", "cpu", CPU)
    yield Case("flat out, four flows", "cpu", CPU, ("--flows", "4"))


def _losses() -> Iterator[Case]:
    rated = ("--rated", "100M")
    for permille, shown in ((1, "0.1%"), (10, "1%"), (50, "5%")):
        rules = _lost(permille)
        yield Case(f"loss {shown}, no delay", "loss", LOSS, rated, "100mbit", rules=rules, full_is_right=True)
        for ms in (5, 20):
            bridge = _delay(ms / 2, rate="100M", loss=shown)
            yield Case(f"loss {shown}, {ms} ms", "loss", LOSS, rated, bridge=bridge, full_is_right=True)
        if permille >= 10:
            by = (*rated, "--congestion-control", "bbr")
            yield Case(f"loss {shown}, 20 ms, bbr", "loss", LOSS | LINK, by, bridge=_delay(10, rate="100M", loss=shown))
    burst = _delay(2.5, rate="100M", burst_loss="2%", burst_length=20)
    yield Case("loss 2 % in bursts, 5 ms", "loss", LOSS, rated, bridge=burst, full_is_right=True)
    both = (*rated, "--direction", "both")
    yield Case("loss 2 %, both ways", "loss", LOSS, both, "100mbit", rules=_lost(20), full_is_right=True)
    for bridge, ms in (("", 0), (_delay(2.5), 5)):
        yield Case(f"policed to 50M, {ms} ms", "policer", LOSS, rated, bridge=bridge, rules=_policed(6250))


def _settings() -> Iterator[Case]:
    rated, slow, small = ("--rated", "100M"), _delay(2.5, rate="100M"), "4096 16384 32768"
    for end, key, right in (("near", "tcp_wmem", WINDOW), ("far", "tcp_rmem", RECEIVE_WINDOW)):
        tune = {end: {f"net.ipv4.{key}": small}}
        yield Case(f"{key} of the {end} end 32k, 5 ms", "settings", right, rated, bridge=slow, tune=tune)
    for size in ("16k", "64k"):
        options = (*rated, "--socket-buffer", size)
        far_away = _delay(5, rate="100M")
        yield Case(f"socket buffer {size}, 10 ms", "settings", WINDOW, options, bridge=far_away)
    paced = ("--rated", "50M", "--pacing", "20M")
    yield Case("paced at 20M", "settings", frozenset({"pacing"}), paced, "50mbit")
    for seconds, ms in ((1, 100), (2, 100), (2, 200)):
        bridge = _delay(ms / 2, rate="100M")
        yield Case(f"{seconds} s over {ms} ms", "too short", SHORT, rated, bridge=bridge, seconds=seconds)


def _others() -> Iterator[Case]:
    rated = ("--rated", "100M")
    yield Case("a rival on the link", "other traffic", frozenset({"other-traffic"}), rated, "100mbit", rival=True)
    yield Case("not the rated link", "above ceiling", frozenset({"above-ceiling"}), rated)


def _lost(permille: int) -> tuple[str, ...]:
    return (f"tcp dport 26471 meta length > 500 numgen random mod 1000 < {permille} drop",)


def _policed(kbytes: int) -> tuple[str, ...]:
    return (f"tcp dport 26471 limit rate over {kbytes} kbytes/second burst 64 kbytes drop",)


def run(*words: str, within: str = "") -> subprocess.CompletedProcess[str]:
    command = [*(("ip", "netns", "exec", within) if within else ()), *words]
    return subprocess.run(command, capture_output=True, text=True, check=True)


class TruthPath(contextlib.ExitStack):
    """The path of a case, for as long as it is open."""

    def __init__(self, case: Case, folder: Path) -> None:
        super().__init__()
        self._case = case
        self.env = os.environ | own_user(folder)
        self._folder = folder

    def __enter__(self) -> "TruthPath":
        try:
            self._build()
        except BaseException:
            self.close()
            raise
        return self

    def _build(self) -> None:
        case = self._case
        for space in (_NEAR, _FAR, *([_MID] if case.bridge else [])):
            subprocess.run(["ip", "netns", "del", space], capture_output=True)
            run("ip", "netns", "add", space)
            self.callback(subprocess.run, ["ip", "netns", "del", space], capture_output=True)
        self._wire()
        self._shape()
        for end, settings in case.tune.items():
            for key, value in settings.items():
                run("sysctl", "-qw", f"{key}={value}", within=_NEAR if end == "near" else _FAR)
        for space, rules in ((_FAR, case.rules), (_NEAR, case.near_rules)):
            if rules:
                chain = "\n".join(["chain input {", "type filter hook input priority 0", *rules, "}"])
                run("nft", f"table inet truth {{\n{chain}\n}}\n", within=space)
        self._start(_FAR, [HARVOK, "station", "--name", "hall"], "ready")
        self._accompany()

    def _wire(self) -> None:
        case = self._case
        if not case.bridge:
            self._join(_NEAR, "near0", _FAR, "far0", "198.18.0.1/24", f"{_ADDRESS}/24")
            return
        self._join(_NEAR, "near0", _MID, "left0", "198.18.0.1/24", "")
        self._join(_MID, "right0", _FAR, "far0", "", f"{_ADDRESS}/24")
        for space, port in ((_NEAR, "near0"), (_FAR, "far0")):  # whole segments, as a real lead would carry them
            off = f"from harvok.host.offloads import switch; switch({port!r}, {{'tx-checksum-ip-generic': False}})"
            run(sys.executable, "-c", off, within=space)
        file = self._folder / "path.toml"
        file.write_text(f'version = 1\nname = "truth"\n[both]\n{case.bridge}\n')
        self._start(_MID, [HARVOK, "impair", "start", "left0", "right0", str(file)], "")
        time.sleep(3)

    def _shape(self) -> None:
        rates = self._case.rate.split()
        ends = ((_NEAR, "near0"), (_FAR, "far0"))
        for (space, port), rate in zip(ends, rates * 2, strict=False):
            bucket = ["tbf", "rate", rate, "burst", "32kb", "limit", "256kb"]
            run("tc", "qdisc", "add", "dev", port, "root", *bucket, within=space)

    def _accompany(self) -> None:
        """Whatever keeps the hosts or the link busy beside the test."""
        if self._case.rival:
            self._start(_FAR, [sys.executable, "-c", _SINK], "")
            time.sleep(0.5)
            self._start(_NEAR, [sys.executable, "-c", _SOURCE], "")
        for script in (*["while True: pass"] * self._case.busy, *[_HALF] * self._case.half):
            self._start("", [sys.executable, "-c", script], "")

    def _join(self, one: str, port: str, other: str, peer: str, address: str, peer_address: str) -> None:
        run("ip", "-n", one, "link", "add", port, "type", "veth", "peer", "name", peer, "netns", other)
        for space, name, own in ((one, port, address), (other, peer, peer_address)):
            if own:
                run("ip", "-n", space, "addr", "add", own, "dev", name)
            run("ip", "-n", space, "link", "set", name, "up")
            run("ip", "-n", space, "link", "set", "lo", "up")

    def _start(self, space: str, words: Sequence[str], ready: str) -> None:
        command = [*(("ip", "netns", "exec", space) if space else ()), *words]
        process = subprocess.Popen(command, env=self.env, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        self.callback(_end, process)
        assert process.stdout
        if ready and ready not in process.stdout.readline():
            raise RuntimeError(f"{' '.join(words)} did not become ready")

    def measure(self, seconds: float, repeats: int) -> list[dict[str, Any]]:
        """The records of some repeats."""
        options = self._case.options
        way: tuple[str, ...] = () if "--direction" in options else ("--direction", "send")
        way += () if "--congestion-control" in options else ("--congestion-control", "cubic")
        lasts = ("--duration", f"{self._case.seconds or seconds}s", "--repeat", str(repeats))
        command = ["ip", "netns", "exec", _NEAR, HARVOK, "tcp", _ADDRESS, "--json", *way, *lasts, *options]
        done = subprocess.run(command, env=self.env, capture_output=True, text=True)
        if not done.stdout.strip():
            raise RuntimeError(done.stderr.strip())
        return [json.loads(document) for document in _documents(done.stdout)]


_HALF = "import time\nwhile True:\n t=time.time()+.05\n while time.time()<t: pass\n time.sleep(.05)"
_SINK = "import socket\ns=socket.create_server(('198.18.0.2',9009))\nc,_=s.accept()\nwhile c.recv(1<<16): pass"
_SOURCE = "import socket\nc=socket.create_connection(('198.18.0.2',9009))\nwhile True: c.send(bytes(65536))"


def _documents(text: str) -> Iterator[str]:
    """The JSON documents that stand one after the other."""
    decoder, at = json.JSONDecoder(), 0
    while at < len(text.rstrip()):
        _, end = decoder.raw_decode(text, at)
        yield text[at:end]
        at = end + len(text[end:]) - len(text[end:].lstrip())


def _end(process: "subprocess.Popen[str]") -> None:
    process.terminate()
    try:
        process.wait(5)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    if process.stdout:
        process.stdout.close()


def blame_of(kind: LimiterKind) -> str:
    """Whom an answer blames."""
    return Limiter(kind, "", "").blame


def is_wrong_blame(case: Case, kind: LimiterKind) -> bool:
    """Whether equipment is blamed where it is not the cause, or the tester or settings where they are not."""
    true = {blame_of(one) for one in case.right}
    return blame_of(kind) not in true and blame_of(kind) != "nothing"


class Tally:
    """What was answered, by cause."""

    def __init__(self) -> None:
        self.runs = self.right = self.wrong_blame = 0
        self.answers: dict[str, Counter[str]] = defaultdict(Counter)

    def add(self, case: Case, record: dict[str, Any]) -> None:
        """Counts and prints the answers of one run, one for each direction."""
        shares = {f["labels"]["direction"]: f["value"] for f in record["figures"] if f["quantity"] == "ceiling-share"}
        for reading in record["readings"]:
            limiter, share = reading["limiter"], shares.get(reading["direction"], 0.0)
            kind = limiter["kind"]
            good = kind in case.right or (case.full_is_right and kind == "link" and share >= FULL_SHARE)
            self.runs, self.right = self.runs + 1, self.right + good
            self.wrong_blame += not good and is_wrong_blame(case, kind)
            self.answers[case.cause][kind] += 1
            why = "" if good else f"   <-- {limiter['evidence']}"
            print(f"{case.name:44} {reading['direction']:8} {share * 100:6.1f} %  {kind}{why}", flush=True)

    def show(self) -> None:
        """The table, in Markdown."""
        print("\n| cause | answers |\n| --- | --- |")
        for cause, answers in self.answers.items():
            print(f"| {cause} | {', '.join(f'{kind} {count}' for kind, count in answers.most_common())} |")
        runs = max(self.runs, 1)
        print(f"\nright: {self.right} of {self.runs} ({self.right / runs:.1%})")
        print(f"wrong blame: {self.wrong_blame} ({self.wrong_blame / runs:.1%})")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--repeats", type=int, default=5)
    parser.add_argument("--seconds", type=float, default=4)
    parser.add_argument("--only", default="", help="Paths whose name has this in it.")
    parser.add_argument("--json", type=Path, help="Where to add every record, with its path and cause.")
    asked = parser.parse_args()
    tally = Tally()
    for case in cases():
        if asked.only not in case.name:
            continue
        with tempfile.TemporaryDirectory() as folder, TruthPath(case, Path(folder)) as path:
            for record in path.measure(asked.seconds, asked.repeats):
                tally.add(case, record)
                if asked.json:
                    with asked.json.open("a") as file:
                        file.write(json.dumps({"path": case.name, "cause": case.cause, "record": record}) + "\n")
    tally.show()


if __name__ == "__main__":
    main()
