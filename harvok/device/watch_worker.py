"""A worker process that follows a device whose answers take long to read (SNMPv3), so that it holds up no test."""

import json
import select
import sys

from harvok.device.following import follow
from harvok.device.orders import read_orders
from harvok.worker.child import run, say


def _wait(wait_s: float) -> bool | None:
    if not select.select([sys.stdin], [], [], wait_s)[0]:
        return False
    return True if sys.stdin.readline() else None


if __name__ == "__main__":
    run(lambda fd: follow(read_orders(json.loads(fd)), say, _wait))
