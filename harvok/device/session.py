"""A session with an agent: SNMPv2c by our own codec over one UDP socket."""

import socket
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import count
from typing import Protocol

from harvok.clock import SYSTEM, Clock
from harvok.core.wire.ber import MalformedBerError, ObjectId
from harvok.core.wire.snmp import (
    ERRORS,
    GET,
    GET_BULK,
    NO_ERROR,
    RESPONSE,
    SET,
    TOO_BIG,
    Binding,
    Missing,
    SnmpMessage,
    SnmpValue,
    make_message,
    read_message,
)
from harvok.device.orders import SnmpAccess
from harvok.errors import DeviceRefusedError, DeviceSilentError
from harvok.worker.child import inside

_ROWS = 20
"""Of a table, asked for at once: twenty values of two or three columns fit into one datagram of Ethernet's size."""
_MAX_ROWS = 20_000
_MAX_DATAGRAM = 65_535
_IN_ONE = 48
"""Names asked for with one GET: answers of as many counters fit into 1472 bytes."""


class SnmpSession(Protocol):
    """What every version can do. Raises DeviceSilentError when no answer comes, DeviceRefusedError for an error."""

    def get(self, names: Sequence[ObjectId]) -> list[SnmpValue]:
        """The values of these names, in their order; Missing for those that are not there."""

    def next_rows(self, names: Sequence[ObjectId], rows: int) -> list[Binding]:
        """What follows each of the names, `rows` times."""

    def set(self, bindings: Sequence[Binding]) -> None:
        """Gives names other values, all of them or none."""

    def close(self) -> None: ...


class CommunitySession:
    """SNMPv2c (RFC 1901)."""

    def __init__(self, access: SnmpAccess, clock: Clock = SYSTEM) -> None:
        self._access, self._clock = access, clock
        self._community, self._numbers = access.community.encode(), count(1)
        with inside(access.namespaces):
            self._socket = _connected(access)

    def get(self, names: Sequence[ObjectId]) -> list[SnmpValue]:
        return [value for begin in range(0, len(names), _IN_ONE) for value in self._get(names[begin : begin + _IN_ONE])]

    def _get(self, names: Sequence[ObjectId]) -> list[SnmpValue]:
        answer = self._ask(GET, [Binding(name) for name in names])
        if answer.first == TOO_BIG and len(names) > 1:
            half = len(names) // 2
            return self._get(names[:half]) + self._get(names[half:])
        self._check(answer)
        values = {one.name: one.value for one in answer.bindings}
        return [values.get(name, Missing()) for name in names]

    def next_rows(self, names: Sequence[ObjectId], rows: int) -> list[Binding]:
        answer = self._ask(GET_BULK, [Binding(name) for name in names], 0, rows)
        if answer.first == TOO_BIG and rows > 1:
            return self.next_rows(names, rows // 2)
        self._check(answer)
        return list(answer.bindings)

    def set(self, bindings: Sequence[Binding]) -> None:
        self._check(self._ask(SET, bindings))

    def close(self) -> None:
        self._socket.close()

    def _check(self, answer: SnmpMessage) -> None:
        if answer.first != NO_ERROR:
            raise refused(self._access, answer.first)

    def _ask(self, kind: int, bindings: Sequence[Binding], first: int = 0, second: int = 0) -> SnmpMessage:
        """Asks until an answer comes, a few times. Whatever else comes there is passed over."""
        for _ in range(1 + self._access.retries):
            number = next(self._numbers) & 0x7FFF_FFFF
            self._send(make_message(SnmpMessage(self._community, kind, number, bindings, first, second)))
            answer = self._await(number)
            if answer is not None:
                return answer
        raise silent(self._access)

    def _send(self, data: bytes) -> None:
        try:
            self._socket.send(data)
        except OSError:  # an ICMP error about the last one: that nobody listens shows by silence
            return

    def _await(self, number: int) -> SnmpMessage | None:
        until_ns = self._clock.now_ns() + int(self._access.timeout_s * 1e9)
        while (left_s := (until_ns - self._clock.now_ns()) / 1e9) > 0:
            self._socket.settimeout(left_s)
            try:
                answer = read_message(self._socket.recv(_MAX_DATAGRAM))
            except TimeoutError:
                return None
            except ConnectionRefusedError:
                self._clock.sleep(min(left_s, _AFTER_REFUSAL_S))
                continue
            except (OSError, MalformedBerError):
                continue
            if answer.kind == RESPONSE and answer.request_id == number and answer.community == self._community:
                return answer
        return None


_AFTER_REFUSAL_S = 0.05


def _connected(access: SnmpAccess) -> socket.socket:
    """A socket that hears the agent alone. Raises DeviceSilentError for a name that is not known."""
    try:
        family, kind, proto, _, address = socket.getaddrinfo(access.host, access.port, type=socket.SOCK_DGRAM)[0]
    except OSError as error:
        raise DeviceSilentError(f"there is no host {access.host}: {error.strerror}", "Check the address.") from error
    made = socket.socket(family, kind, proto)
    try:
        made.connect(address)
    except OSError as error:
        made.close()
        raise DeviceSilentError(f"no way to {access.host}: {error.strerror}", "Check the address.") from error
    return made


def silent(access: SnmpAccess) -> DeviceSilentError:
    """Nothing came back."""
    secret = f"the user '{access.user}' and its passwords" if access.user else "the community"
    return DeviceSilentError(
        f"the device at {access.host} port {access.port} does not answer {access.version}",
        f"Check the address, that the device lets this host ask, and {secret}: agents are silent about wrong ones.",
    )


def refused(access: SnmpAccess, number: int) -> DeviceRefusedError:
    """The agent answered with an error."""
    words = ERRORS[number] if 0 <= number < len(ERRORS) else f"error {number}"
    return DeviceRefusedError(
        f"the device at {access.host} refuses: {words}", "Check what the device lets this community or user see and do."
    )


@dataclass(frozen=True, slots=True)
class TableRow:
    """A row of a table: its index, and its values by column."""

    index: ObjectId
    values: dict[ObjectId, SnmpValue]


def read_table(session: SnmpSession, columns: Sequence[ObjectId]) -> list[TableRow]:
    """All rows of a table, by index, with those of the columns that the agent has. An agent that does not go forward is
    not followed."""
    rows: dict[ObjectId, dict[ObjectId, SnmpValue]] = {}
    for column in columns:
        for binding in _column(session, column):
            rows.setdefault(binding.name[len(column) :], {})[column] = binding.value
    return [TableRow(index, values) for index, values in sorted(rows.items())]


def _column(session: SnmpSession, column: ObjectId) -> Iterator[Binding]:
    at, seen = column, 0
    while seen < _MAX_ROWS:
        found = session.next_rows([at], _ROWS)
        for binding in found:
            if binding.name[: len(column)] != column or isinstance(binding.value, Missing) or binding.name <= at:
                return
            yield binding
            at, seen = binding.name, seen + 1
        if not found:
            return
