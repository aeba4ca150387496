"""A session over SNMPv3 with authentication and privacy (RFC 3414, RFC 3826), by the package pysnmp.

Some fifteen milliseconds a question: for a few a second, where the community's would take a tenth of one.
"""

import asyncio
from collections.abc import Awaitable, Sequence
from typing import Any

from pyasn1.type import univ
from pysnmp.hlapi.v3arch import asyncio as api
from pysnmp.proto import rfc1902, rfc1905

from harvok.core.wire.ber import ObjectId
from harvok.core.wire.snmp import COUNTER_32, COUNTER_64, GAUGE_32, TIME_TICKS, Binding, Missing, Number, SnmpValue
from harvok.device.orders import SnmpAccess
from harvok.device.session import refused, silent
from harvok.errors import DeviceRefusedError
from harvok.worker.child import inside

_AUTHENTICATION = {
    "sha": api.USM_AUTH_HMAC96_SHA,
    "sha224": api.USM_AUTH_HMAC128_SHA224,
    "sha256": api.USM_AUTH_HMAC192_SHA256,
    "sha384": api.USM_AUTH_HMAC256_SHA384,
    "sha512": api.USM_AUTH_HMAC384_SHA512,
}
_PRIVACY = {
    "aes128": api.USM_PRIV_CFB128_AES,
    "aes192": api.USM_PRIV_CFB192_AES_BLUMENTHAL,
    "aes256": api.USM_PRIV_CFB256_AES_BLUMENTHAL,
}
_NUMBERS = (
    (rfc1902.Counter64, COUNTER_64),
    (rfc1902.Counter32, COUNTER_32),
    (rfc1902.TimeTicks, TIME_TICKS),
    (rfc1902.Gauge32, GAUGE_32),
)
_MISSING = (rfc1905.NoSuchObject, rfc1905.NoSuchInstance, rfc1905.EndOfMibView)
_SILENCE = ("requestTimedOut", "RequestTimedOut")


class UserSession:
    """SNMPv3 as a user. Its requests run on an event loop of its own, one at a time."""

    def __init__(self, access: SnmpAccess) -> None:
        self._access, self._loop, self._engine = access, asyncio.new_event_loop(), api.SnmpEngine()
        self._user = api.UsmUserData(
            access.user,
            authKey=access.authentication_password or None,
            privKey=access.privacy_password or None,
            authProtocol=_AUTHENTICATION[access.authentication] if access.authentication else api.USM_AUTH_NONE,
            privProtocol=_PRIVACY[access.privacy] if access.privacy else api.USM_PRIV_NONE,
        )
        maker = api.Udp6TransportTarget if ":" in access.host else api.UdpTransportTarget
        self._target = self._run(
            maker.create((access.host, access.port), timeout=access.timeout_s, retries=access.retries)
        )

    def get(self, names: Sequence[ObjectId]) -> list[SnmpValue]:
        found = {one.name: one.value for one in self._ask(api.get_cmd, [_name(name) for name in names])}
        return [found.get(name, Missing()) for name in names]

    def next_rows(self, names: Sequence[ObjectId], rows: int) -> list[Binding]:
        return self._ask(api.bulk_cmd, [_name(name) for name in names], 0, rows)

    def set(self, bindings: Sequence[Binding]) -> None:
        self._ask(api.set_cmd, [api.ObjectType(api.ObjectIdentity(one.name), _made(one.value)) for one in bindings])

    def close(self) -> None:
        self._engine.close_dispatcher()
        left = asyncio.all_tasks(self._loop)
        for task in left:
            task.cancel()
        self._run(asyncio.gather(*left, return_exceptions=True))
        self._loop.close()

    def _ask(self, command: Any, asked: Sequence[Any], *numbers: int) -> list[Binding]:
        words = (self._engine, self._user, self._target, api.ContextData(), *numbers, *asked)
        problem, error, _, bindings = self._run(command(*words, lookupMib=False))
        if problem:
            if type(problem).__name__ in _SILENCE:
                raise silent(self._access)
            raise DeviceRefusedError(
                f"the device at {self._access.host} refuses: {problem}",
                f"Check the user '{self._access.user}', its passwords, and how they are used.",
            )
        if int(error):
            raise refused(self._access, int(error))
        return [Binding(tuple(one[0]), _value(one[1])) for one in bindings]

    def _run(self, what: Awaitable[Any]) -> Any:
        with inside(self._access.namespaces):
            return self._loop.run_until_complete(asyncio.ensure_future(what, loop=self._loop))


def _name(name: ObjectId) -> Any:
    return api.ObjectType(api.ObjectIdentity(name))


def _value(value: Any) -> SnmpValue:
    for kind, tag in _NUMBERS:
        if isinstance(value, kind):
            return Number(int(value), tag)
    if isinstance(value, _MISSING):
        return Missing()
    if isinstance(value, univ.ObjectIdentifier):
        return tuple(value)
    if isinstance(value, univ.OctetString):
        return bytes(value)
    return int(value) if isinstance(value, univ.Integer) else None


def _made(value: SnmpValue) -> Any:
    """What is given to a name: a number, a text, or another name."""
    match value:
        case int():
            return rfc1902.Integer32(value)
        case Number():
            return next(kind for kind, tag in _NUMBERS if tag == value.tag)(value.value)
        case bytes():
            return rfc1902.OctetString(value)
        case _:
            return rfc1902.ObjectIdentifier(value)
