"""RFC 2889 and RFC 3918 on switches made of this kernel, whose answers are known by arithmetic.

    sudo .venv/bin/python benchmarks/switch_known_answers.py [--rounds 3]

Four ports in full mesh over a bridge shaped to 100 Mb/s a port; three ports that send to one at line rate, each of
which should get a third; a table of 1024 addresses; a group that is left after two seconds.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

_HARVOK = str(Path(sys.executable).with_name("harvok"))
_SHAPED = """
version = 1
kind = "virtual"
name = "shaped"
rated = "100M"
device = "switch"
ports = 4
shape = "100M"
"""
_TABLE = """
version = 1
kind = "virtual"
name = "table"
rated = "1G"
device = "switch"
ports = 3
addresses = 1024
aging = "5s"
"""
_SNOOPING = """
version = 1
kind = "virtual"
name = "snooping"
rated = "10M"
device = "switch"
ports = 3
snooping = true
"""
_LINE_FPS = 100e6 / 8 / 1538
_QUICK = ("--trial-pause", "300ms", "--json")


def _figures(folder: Path, rig: str, *words: str) -> list[dict[str, Any]]:
    (folder / "rig.toml").write_text(rig)
    command, *rest = words
    environment = os.environ | {"HARVOK_LOGBOOK": str(folder / "logbook")}
    said = subprocess.run(
        [_HARVOK, command, "rig.toml", *rest, *_QUICK], cwd=folder, env=environment, capture_output=True, text=True
    )
    if said.returncode:
        raise SystemExit(said.stderr)
    found: list[dict[str, Any]] = json.loads(said.stdout)["figures"]
    return found


def _values(figures: list[dict[str, Any]], quantity: str, direction: str = "") -> list[float]:
    return [f["value"] for f in figures if f["quantity"] == quantity and direction in f["labels"].get("direction", "")]


def _round(folder: Path) -> dict[str, float]:
    sized = ("--frame-size", "1518", "--duration", "5s")
    patterns = _figures(folder, _SHAPED, "rfc2889", "mesh", "many-to-one", *sized)
    thirds = _values(patterns, "forwarding-rate", "many-to-one from")
    table = _figures(
        folder,
        _TABLE,
        "rfc2889",
        "address-capacity",
        "--frame-size",
        "64",
        "--learning-rate",
        "4000",
        "--duration",
        "1s",
    )
    groups = _figures(folder, _SNOOPING, "rfc3918", "join-delay", "leave-delay", "--leave", "4s", *sized[:2])
    return {
        "mesh, each port at line rate / arithmetic": statistics.median(_values(patterns, "forwarding-rate", "mesh to"))
        / _LINE_FPS,
        "mesh, throughput / arithmetic": _values(patterns, "throughput", "mesh")[0] / _LINE_FPS,
        "many to one, furthest from a third": max(abs(rate / (_LINE_FPS / 3) - 1) for rate in thirds),
        "addresses kept of 1024": _values(table, "address-capacity")[0],
        "group left after, s (2 of the kernel)": max(_values(groups, "group-leave-delay")),
        "group joined after, s": max(_values(groups, "group-join-delay")),
    }


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=3)
    wanted = parser.parse_args()
    rounds = []
    for number in range(wanted.rounds):
        with tempfile.TemporaryDirectory() as folder:
            rounds.append(_round(Path(folder)))
        print(
            f"round {number + 1}: " + "; ".join(f"{name} {value:.4g}" for name, value in rounds[-1].items()), flush=True
        )
    for name in rounds[0]:
        values = [one[name] for one in rounds]
        print(f"answer: {name}: median {statistics.median(values):.4g} ({min(values):.4g} to {max(values):.4g})")


if __name__ == "__main__":
    main()
