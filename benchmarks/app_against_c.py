"""Harvok's application traffic against a bare C client and server of the same design, alternated, across a stateful
gateway of this kernel. Needs root, cc, the headers of OpenSSL and nftables' library.

    python benchmarks/app_against_c.py [--rounds 8] [--seconds 3] [--connections 32] [--only new-1k kept-1k …]

Prints transactions a second of both for each round, and the median of the ratios of neighbours, which is what can be
trusted on a noisy machine.
"""

import argparse
import contextlib
import json
import os
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

from harvok.certificates import self_signed
from harvok.core.models.rig import VirtualRig
from harvok.host.namespaces import Built
from harvok.rigs.virtual import VirtualDevice, device_of
from harvok.runner.namespaced import HostNamespaces, host_namespaces, station_on
from harvok.testing.own_user import own_user
from harvok.worker.child import enter_namespaces
from harvok.worker.parent import module_command

SCENARIOS = {
    "new-1k": (1_000, 1), "kept-1k": (1_000, 0), "kept-64k": (64_000, 0), "kept-1M": (1_000_000, 0),
    "tls-1k": (1_000, 1),
}  # fmt: skip
"""The size of the object, and how many a connection fetches; 0 without end."""
ASKED = {"new-1k": 0.80, "kept-1k": 0.65, "kept-64k": 0.80, "kept-1M": 0.85, "tls-1k": 0.80}
_TLS = "tls-1k"
"""Whose every transaction has a connection and a handshake of TLS of its own."""
RIG = VirtualRig(version=1, kind="virtual", name="gateway", rated=100e9, device="gateway", features=["stateful"])
FAR = RIG.sides[1].addresses[0].partition("/")[0]
_SOURCES = {"app_reference.c": [], "app_tls_reference.c": ["-lssl", "-lcrypto"]}
"""The C references, and what they are linked with."""
_PORT = "26491"
_SETTINGS = {"tcp_tw_reuse": "1", "ip_local_port_range": "1024 65535"}
"""The C client ends its connections first, and would run out of ports."""


def compile_references(folder: Path) -> None:
    """The C references, compiled on the spot, and a certificate beside them."""
    for source, libraries in _SOURCES.items():
        path = Path(__file__).with_name(source)
        words = [os.environ.get("CC", "cc"), "-O2", "-o", str(folder / path.stem), str(path), *libraries]
        subprocess.run(words, check=True)
    (folder / "certificate").write_bytes(self_signed())


def start(namespaces: Sequence[str], words: Sequence[str]) -> "subprocess.Popen[str]":
    """A program on one of the two hosts."""

    def enter() -> None:
        enter_namespaces(namespaces)
        for name, value in _SETTINGS.items():
            Path(f"/proc/sys/net/ipv4/{name}").write_text(value)

    return subprocess.Popen(words, stdout=subprocess.PIPE, text=True, preexec_fn=enter)


def reference_per_s(
    near: HostNamespaces, far: HostNamespaces, folder: Path, scenario: str, asked: argparse.Namespace
) -> float:
    """Transactions a second of the C programs."""
    size, each = SCENARIOS[scenario]
    over_tls = scenario == _TLS
    program = str(folder / ("app_tls_reference" if over_tls else "app_reference"))
    server = start(
        far.namespaces, [program, "serve", FAR, _PORT, str(size), *([str(folder / "certificate")] * over_tls)]
    )
    try:
        assert server.stdout
        server.stdout.readline()
        what = [] if over_tls else [str(each), str(size)]
        words = [program, "ask", FAR, _PORT, str(asked.connections), *what, str(asked.seconds)]
        out, _ = start(near.namespaces, words).communicate(timeout=60)
        transactions, _, seconds = out.split()
        return float(transactions) / float(seconds)
    finally:
        server.terminate()
        server.communicate()


def harvok_per_s(
    near: HostNamespaces, access: dict[str, str], scenario: str, asked: argparse.Namespace
) -> tuple[float, float]:
    """Transactions a second of Harvok, and the largest share of a core that a worker had."""
    size, each = SCENARIOS[scenario]
    mix = f"object-{ {1_000: '1k', 64_000: '64k', 1_000_000: '1M'}[size] }{'-new' if each else ''}"
    mix += "-tls" if scenario == _TLS else ""
    words = [
        "app", FAR, "--mix", mix, "--users", str(asked.connections), "--ramp", "0s", "--hold", f"{asked.seconds}s",
        "--json",
    ]  # fmt: skip
    command = module_command("harvok.host.enter", ":".join(near.namespaces), sys.executable, "-m", "harvok", *words)
    done = subprocess.run(command, env=os.environ | access, capture_output=True, text=True, timeout=120)
    if done.returncode:
        sys.exit(done.stderr)
    record = json.loads(done.stdout)
    figures = {figure["quantity"]: figure["value"] for figure in record["figures"]}
    if figures["failed-transactions"]:
        sys.exit(f"transactions failed: {record['notices']}")
    return figures["transactions-rate"], max(record["trials"][0]["result"]["streams"][0]["users"]["levels"][0]["cpu"])


@contextlib.contextmanager
def two_hosts() -> Iterator[tuple[HostNamespaces, HostNamespaces]]:
    """The two hosts beside the gateway."""
    with VirtualDevice(device_of(RIG)) as device:
        built: Built = device.built
        addresses = (RIG.sides[0].addresses[0], RIG.sides[1].addresses[0])
        yield host_namespaces(built.namespaces, [*built.namespaces[:-1], built.other], ("dome", "hall"), addresses)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=8)
    parser.add_argument("--seconds", type=float, default=3.0)
    parser.add_argument("--connections", type=int, default=32)
    parser.add_argument("--only", nargs="+", choices=[*SCENARIOS], default=[*SCENARIOS])
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder, two_hosts() as (near, far):
        os.environ |= own_user(Path(folder))
        compile_references(Path(folder))
        with station_on(far, Path(folder)) as access:
            for scenario in asked.only:
                measure(near, far, Path(folder), access, scenario, asked)


def measure(
    near: HostNamespaces,
    far: HostNamespaces,
    folder: Path,
    access: dict[str, str],
    scenario: str,
    asked: argparse.Namespace,
) -> None:
    """Alternates the two, and prints each round and the medians."""
    ratios = []
    for number in range(1, asked.rounds + 1):
        reference = reference_per_s(near, far, folder, scenario, asked)
        harvok, busy = harvok_per_s(near, access, scenario, asked)
        ratios.append(harvok / reference)
        print(
            f"{scenario}, round {number}: C {reference:8.0f} /s, Harvok {harvok:8.0f} /s, ratio {ratios[-1]:.3f}, "
            f"users' core {busy:.0%}",
            flush=True,
        )
    spread = f"{min(ratios):.3f} to {max(ratios):.3f}"
    print(
        f"{scenario}: median ratio {statistics.median(ratios):.3f} ({spread}), asked {ASKED[scenario]:.2f}", flush=True
    )


if __name__ == "__main__":
    main()
