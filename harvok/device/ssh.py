"""Commands on a device over SSH, by the package asyncssh: the connection is opened beforehand, and the host's key is
known beforehand as well."""

import asyncio
import contextlib
import threading
from collections.abc import Coroutine
from dataclasses import dataclass
from typing import Any, TypeVar

import asyncssh

from harvok.device.orders import SshAccess
from harvok.errors import DeviceRefusedError, DeviceSilentError
from harvok.worker.child import enter_namespaces

_OPEN_S = 20.0
_CLOSE_S = 3.0
_MAX_OUTPUT = 65_536
ResultT = TypeVar("ResultT")


@dataclass(frozen=True, slots=True)
class CommandResult:
    """What a command came to: its exit code, None where the device has none, and what it printed."""

    code: int | None
    output: str


class SshSession:
    """An open connection. A context manager. Raises DeviceSilentError, DeviceRefusedError when it cannot be opened."""

    def __init__(self, access: SshAccess) -> None:
        self._access = access
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, name="ssh", daemon=True)
        self._thread.start()
        try:
            self._connection = self._wait(self._open(), _OPEN_S)
        except BaseException:
            self._stop()
            raise

    def _run(self) -> None:
        enter_namespaces(self._access.namespaces)
        self._loop.run_forever()

    def __enter__(self) -> "SshSession":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def run(self, command: str, timeout_s: float = 60.0) -> CommandResult:
        """Runs a command, and waits for its end. Raises DeviceSilentError when it takes too long."""
        done = self._wait(self._connection.run(command, check=False, stderr=asyncssh.STDOUT), timeout_s)
        return CommandResult(done.exit_status, str(done.stdout or "")[-_MAX_OUTPUT:])

    def close(self) -> None:
        """May be called again."""
        if self._loop.is_running():
            with contextlib.suppress(DeviceSilentError, DeviceRefusedError):
                self._wait(self._end(), _CLOSE_S)
            self._stop()

    async def _end(self) -> None:
        self._connection.close()
        await self._connection.wait_closed()

    async def _open(self) -> asyncssh.SSHClientConnection:
        access = self._access
        known = asyncssh.import_known_hosts(f"{_pattern(access)} {access.host_key}\n")
        return await asyncssh.connect(
            access.host,
            access.port,
            username=access.user,
            password=access.password or None,
            client_keys=[access.key_file] if access.key_file else None,
            known_hosts=known,
            agent_path=None,
            config=None,
            connect_timeout=_OPEN_S / 2,
        )

    def _wait(self, what: Coroutine[Any, Any, ResultT], timeout_s: float) -> ResultT:
        where = f"the device at {self._access.host} port {self._access.port}"
        try:
            return asyncio.run_coroutine_threadsafe(what, self._loop).result(timeout_s)
        except asyncssh.HostKeyNotVerifiable as error:
            raise DeviceRefusedError(
                f"{where} shows another host key than the one in its description",
                "See on the device itself which one is right before you change host_key.",
            ) from error
        except asyncssh.PermissionDenied as error:
            raise DeviceRefusedError(
                f"{where} does not let '{self._access.user}' in", "Check user, and password or key_file."
            ) from error
        except TimeoutError as error:
            raise DeviceSilentError(
                f"{where} does not answer over SSH in time", "Check the address, and that SSH is on there."
            ) from error
        except (OSError, asyncssh.Error) as error:
            raise DeviceSilentError(
                f"{where} cannot be reached over SSH: {error}", "Check the address, and that SSH is on there."
            ) from error

    def _stop(self) -> None:
        asyncio.run_coroutine_threadsafe(_cancel_all(), self._loop).result(_CLOSE_S)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()
        self._loop.close()


async def _cancel_all() -> None:
    """Whatever is still going on is over."""
    left = asyncio.all_tasks() - {asyncio.current_task()}
    for task in left:
        task.cancel()
    await asyncio.gather(*left, return_exceptions=True)


def _pattern(access: SshAccess) -> str:
    """As a file of known hosts names it."""
    return access.host if access.port == 22 else f"[{access.host}]:{access.port}"
