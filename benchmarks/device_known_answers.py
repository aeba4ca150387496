"""What is known beforehand of a device that is watched, and of events, against what Harvok says.

    python benchmarks/device_known_answers.py                    # all of it, some three minutes; needs root
    python benchmarks/device_known_answers.py --only located

`located`: frames lost in the bridge, on the lead to it and on the lead from it, by rules of nftables, 20 times in all.
`outage`: a port of a virtual switch cut for 200 ms at 10 000 frames/s, 8 times. `polling`: the CPU of asking a
device ten times a second. `on-time`: when commands on this host start.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable
from itertools import cycle, islice
from pathlib import Path
from time import process_time
from typing import Any, get_args

from harvok.clock import SYSTEM
from harvok.core.ends import SEND
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameTrial, LoadStep
from harvok.device.asking import Poll, open_session, read_facts
from harvok.device.orders import SnmpAccess, WatchOrders
from harvok.runner.device import WatchedDevice, followed
from harvok.testing.leads import Losing, Place, SwitchWithLeads
from harvok.testing.own_user import own_user

HARVOK = str(Path(sys.executable).with_name("harvok"))
_TRIAL = FrameTrial((64,), (LoadStep(5000.0, 2.0),), (SEND,), pause_s=0.0)
_RIG = """
version = 1
kind = "virtual"
name = "dome-sw-a"
rated = "1G"
device = "switch"
"""


def located(_: Path) -> bool:
    """Every frame of twenty trials found where it was lost."""
    right = 0
    for where in islice(cycle(get_args(Place)), 20):
        with SwitchWithLeads(Losing(where, 70)) as switch, followed(switch.device) as watch:
            assert watch
            rig = WatchedDevice(switch.ports, watch, switch.device, SYSTEM)
            rig.run(_TRIAL, Observer())
        (loss,) = rig.trials[0].losses
        good = loss.certainty == "exact" and loss.lost > 0 and dict(loss.places)[where] == loss.lost
        right += good
        print(
            f"lost on {where}: {loss.lost}, found {dict(loss.places)} {loss.why}{'' if good else '  OFF'}", flush=True
        )
    print(f"located: {right} of 20")
    return right == 20


def _record(folder: Path, *words: str) -> dict[str, Any]:
    done = subprocess.run([HARVOK, *words, "--json"], cwd=folder, capture_output=True, text=True, check=True)
    record: dict[str, Any] = json.loads(done.stdout)
    return record


def outage(folder: Path) -> bool:
    """Eight outages of 200 ms."""
    (folder / "rig.toml").write_text(_RIG)
    share = 10_000 / (1e9 / 8 / 84)
    found = list[float]()
    for _ in range(8):
        words = (
            "ramp",
            "rig.toml",
            "--loads",
            f"{share:.4%}",
            "--hold",
            "4s",
            "--frame-size",
            "64",
            "--trial-pause",
            "0s",
        )
        record = _record(folder, *words, "--event", "2s: link port2 cut for 200ms")
        marks = [one for one in record["trials"][-1]["events"] if one["name"].startswith("event")]
        figures = {one["quantity"]: one["value"] for one in record["figures"]}
        found.append(figures["outage-from-loss"])
        print(
            f"outage from loss {1e3 * found[-1]:.2f} ms, by rate {1e3 * figures['outage-from-rate']:.1f} ms; down "
            f"and up {1e3 * (marks[1]['at_s'] - marks[0]['at_s']):.2f} ms apart, the first "
            f"{1e3 * (marks[0]['at_s'] - 2):.2f} ms late and {1e3 * marks[0]['values']['took-s']:.2f} ms long",
            flush=True,
        )
    off = max(abs(one - 0.2) for one in found)
    print(f"outage: median {1e3 * statistics.median(found):.2f} ms, at most {1e3 * off:.2f} ms off")
    return off <= 0.002


def polling(_: Path) -> bool:
    """The CPU of ten questions a second, as a share of a core."""
    stand_in = subprocess.Popen([HARVOK, "device", "stand-in"], stdout=subprocess.PIPE, text=True)
    try:
        assert stand_in.stdout
        port = int(stand_in.stdout.readline().split()[-1])
        access = SnmpAccess("127.0.0.1", port, "harvok")
        session = open_session(access)
        poll = Poll(session, read_facts(session), WatchOrders(access, 0.1, ("gi1", "gi2")))
        began = process_time()
        for _question in range(300):
            poll.read()
        each_s = (process_time() - began) / 300
        session.close()
    finally:
        stand_in.kill()
    print(f"polling two ports: {1e3 * each_s:.2f} ms of CPU a question, {10 * each_s:.2%} of a core at 10 Hz")
    return 10 * each_s < 0.01


def on_time(folder: Path) -> bool:
    """Commands of this host, from their intended time to their start."""
    (folder / "rig.toml").write_text(_RIG)
    events = [word for number in range(20) for word in ("--event", f"{500 + 150 * number}ms: run true")]
    words = ("ramp", "rig.toml", "--loads", "1%", "--hold", "4s", "--frame-size", "1518", "--trial-pause", "0s")
    record = _record(folder, *words, *events)
    late = [
        one["at_s"] - one["values"]["intended-s"] for one in record["trials"][-1]["events"] if one["name"] == "event"
    ]
    print(f"{len(late)} commands: median {1e3 * statistics.median(late):.3f} ms late, max {1e3 * max(late):.3f} ms")
    return bool(max(late) < 0.005)


ANSWERS: dict[str, Callable[[Path], bool]] = {
    "located": located, "outage": outage, "polling": polling, "on-time": on_time,
}  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", nargs="+", choices=[*ANSWERS], default=[*ANSWERS])
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        os.environ |= own_user(Path(name))
        good = [ANSWERS[one](Path(name)) for one in asked.only]
    sys.exit(0 if all(good) else 1)


if __name__ == "__main__":
    main()
