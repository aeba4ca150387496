"""Asks a device again and again, and says what comes: in a thread, or in a process of its own."""

from collections.abc import Callable
from typing import Any

from harvok.clock import SYSTEM, Clock
from harvok.core.device.reading import told_of
from harvok.device.asking import Poll, open_session, read_facts
from harvok.device.orders import WatchOrders
from harvok.errors import DeviceRefusedError, DeviceSilentError

Say = Callable[[dict[str, Any]], None]
Wait = Callable[[float], bool | None]
"""Waits for so many seconds: True when somebody asks for a reading meanwhile, None when there is no more to do."""


def follow(orders: WatchOrders, say: Say, wait: Wait, clock: Clock = SYSTEM) -> None:
    """First what the device is (`ready`), then each `reading`, and `silent` where no answer came. Raises
    DeviceSilentError, DeviceRefusedError, DeviceFileError before it is ready."""
    session = open_session(orders.access)
    try:
        facts = read_facts(session)
        poll = Poll(session, facts, orders, clock)
        say({"ready": told_of(facts) | {"watched": [port.name for port in poll.ports]}})
        next_ns, asked = clock.now_ns(), 0
        while True:
            word = wait(max((next_ns - clock.now_ns()) / 1e9, 0.0))
            if word is None:
                return
            if word:
                asked += 1
            else:
                next_ns = max(next_ns + int(orders.every_s * 1e9), clock.now_ns())
            try:
                say({"reading": told_of(poll.read()), "asked": asked})
            except (DeviceSilentError, DeviceRefusedError) as error:
                say({"silent": error.message, "asked": asked})
    finally:
        session.close()
