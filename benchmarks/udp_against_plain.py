"""Harvok's highest loss-free UDP rate against a plain send loop, over a veth pair between two namespaces. Needs root.

    python benchmarks/udp_against_plain.py [--payload 1472] [--rounds 3] [--seconds 2]

The plain loop sends as fast as it can, one numbered and stamped datagram with each call, and its receiver takes one
with each call and checks its number; what arrived is its rate, whether or not anything was lost. Harvok searches the
highest rate that arrives whole, and counts only that. Both use the same two cores, alternately.
"""

import argparse
import json
import os
import socket
import statistics
import struct
import subprocess
import sys
import tempfile
from pathlib import Path

from harvok.clock import SYSTEM
from harvok.testing.namespaces import ADDRESSES, NamespacePair
from harvok.testing.own_user import own_user

_PORT = 26495
_HEAD = struct.Struct("!QQ")


def plain_send(payload_bytes: int, seconds: float) -> None:
    """Sends numbered and stamped datagrams without a pause."""
    buffer = bytearray(payload_bytes)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.connect((ADDRESSES["far"], _PORT))
        end_ns, number = SYSTEM.now_ns() + int(seconds * 1e9), 0
        while (now := SYSTEM.now_ns()) < end_ns:
            _HEAD.pack_into(buffer, 0, number, now)
            sock.send(buffer)
            number += 1


def plain_receive(payload_bytes: int) -> None:
    """Receives until nothing comes for half a second; prints datagrams/s and how many were missing."""
    buffer = bytearray(payload_bytes + 1)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.setsockopt(socket.SOL_SOCKET, 33, 16 << 20)  # SO_RCVBUFFORCE
        sock.bind((ADDRESSES["far"], _PORT))
        print("ready", flush=True)
        count, highest = 1, 0
        sock.settimeout(10)
        sock.recv_into(buffer)
        begun_ns = last_ns = SYSTEM.now_ns()
        sock.settimeout(0.5)
        try:
            while True:
                sock.recv_into(buffer)
                highest = max(_HEAD.unpack_from(buffer)[0], highest)
                count, last_ns = count + 1, SYSTEM.now_ns()
        except TimeoutError:
            pass
    print(count / ((last_ns - begun_ns) / 1e9), highest + 1 - count)


def plain_fps(pair: NamespacePair, payload: int, seconds: float) -> tuple[float, int]:
    """(datagrams/s received, datagrams lost) of the plain loop."""
    me = [sys.executable, __file__, "--payload", str(payload), "--seconds", str(seconds)]
    with pair.popen("far", [*me, "--part", "receive"], stdout=subprocess.PIPE) as receiver:
        assert receiver.stdout
        receiver.stdout.readline()
        sent = pair.run("near", [*me, "--part", "send"])
        if sent.returncode:
            sys.exit(sent.stderr)
        rate, lost = receiver.stdout.read().split()
    return float(rate), int(lost)


def harvok_fps(pair: NamespacePair, payload: int, seconds: float) -> tuple[float, str]:
    """(highest loss-free datagrams/s, the means it was sent and received by)."""
    command = [
        sys.executable, "-m", "harvok", "udp", ADDRESSES["far"], "--direction", "send", "--search", "--rate", "60G",
        "--payload", str(payload), "--duration", f"{seconds}s", "--resolution", "5%", "--json",
    ]  # fmt: skip
    done = pair.run("near", command, timeout_s=300)
    if done.returncode:
        sys.exit(done.stderr)
    record = json.loads(done.stdout)
    goodput = next(float(f["value"]) for f in record["figures"] if f["quantity"] == "udp-throughput-goodput")
    far = record["trials"][-1]["result"]["directions"][0]
    means = f"{far['sender']['sent'][0]['means']}, {far['receiver']['received'][0]['means']}"
    return goodput / payload / 8, means


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--payload", type=int, nargs="+", default=[1472])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--seconds", type=float, default=2.0)
    parser.add_argument("--part", choices=("send", "receive"))
    asked = parser.parse_args()
    if asked.part == "send":
        return plain_send(asked.payload[0], asked.seconds)
    if asked.part == "receive":
        return plain_receive(asked.payload[0])
    with tempfile.TemporaryDirectory() as folder, NamespacePair() as pair:
        os.environ |= own_user(Path(folder))
        command = [sys.executable, "-m", "harvok", "station"]
        with pair.popen("far", command, stdout=subprocess.PIPE) as station:
            assert station.stdout
            station.stdout.readline()
            try:
                for payload in asked.payload:
                    ratios = []
                    for _ in range(asked.rounds):
                        plain, lost = plain_fps(pair, payload, asked.seconds)
                        ours, means = harvok_fps(pair, payload, asked.seconds)
                        ratios.append(ours / plain)
                        print(f"{payload} B: plain {plain / 1e3:.0f} k/s, {lost} lost; ours {ours / 1e3:.0f} ({means})")
                    print(
                        f"{payload} B: ratio {statistics.median(ratios):.1f} ({min(ratios):.1f} to {max(ratios):.1f})"
                    )
            finally:
                station.terminate()
    return None


if __name__ == "__main__":
    main()
