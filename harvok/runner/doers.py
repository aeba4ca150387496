"""What can be done to a device on purpose, in mid-test or between the steps of a plan: everything that it needs is
opened beforehand, and links are up again at the end."""

import select
import shlex
import subprocess
import sys
import termios
import threading
from collections.abc import Callable
from contextlib import ExitStack
from functools import cached_property
from typing import Literal, Protocol, runtime_checkable

from harvok.core.events import Action, LinkState, PlannedEvent
from harvok.core.models.impairment import ImpairmentFile
from harvok.core.wire.snmp import Binding
from harvok.device.asking import open_session
from harvok.device.names import object_named, value_written
from harvok.errors import NothingFoundError, UsageError
from harvok.host.links import LinkSwitch
from harvok.rigs.device_files import DeviceSettings
from harvok.rigs.impairment_files import read_impairment
from harvok.runner.impair import ask, borrowed_bridge

_COMMAND_S = 60.0
_KEY_S = 0.1

Do = Callable[[], str]
"""Does it, and returns what was printed. Raises HarvokError when it fails."""


@runtime_checkable
class HasLinks(Protocol):
    """A rig whose device's ports can be taken down and brought up."""

    @property
    def device_port_names(self) -> list[str]: ...

    @property
    def port_names(self) -> list[str]: ...

    def set_link(self, port: str, state: LinkState | Literal["ready"]) -> None: ...


@runtime_checkable
class HasImpairment(Protocol):
    """A rig whose path may have an impairment, None where it has none, that can be changed while frames flow."""

    @property
    def impairment(self) -> ImpairmentFile | None: ...

    def impair(self, file: ImpairmentFile) -> None: ...


class Doers:
    """Makes of words what is to be done, for as long as `stack` lasts. `rig` is where links and impairments are looked
    for, `device` what is told and set; `notice` tells the person at the bench, who is waited for until `over`."""

    def __init__(
        self,
        stack: ExitStack,
        rig: object,
        device: DeviceSettings | None,
        notice: Callable[[str], None],
        over: threading.Event,
    ) -> None:
        self._stack, self._rig, self._device, self._notice, self._over = stack, rig, device, notice, over

    def of(self, action: Action, words: str) -> Do:
        """Raises UsageError for what cannot be done here, and what opening a connection raises."""
        match action:
            case "link":
                event = PlannedEvent(0.0, "link", words)
                return self.link(event.port, event.link_state)
            case "run":
                return _command(words)
            case "device":
                return self._command_there(words)
            case "set":
                return self._set(words)
            case "impair":
                return self._impair(read_impairment(words))
            case "tell":
                return self._tell(words)
            case "await":
                return self._await(words)

    def undo(self, event: PlannedEvent) -> Do:
        """What ends an event that lasts for a time. Raises as `of` does."""
        return self._impair(self._path[0]) if event.action == "impair" else self.link(event.port, "up")

    def link(self, port: str, state: LinkState) -> Do:
        """A port of the rig's device, where it has such ports, or else of this host. Raises UsageError for what cannot
        be cut."""
        rig = self._rig
        if isinstance(rig, HasLinks) and port in (*rig.port_names, *rig.device_port_names):
            if state == "cut":
                rig.set_link(port, "ready")
            self._stack.callback(rig.set_link, port, "up")
            return lambda: _quietly(lambda: rig.set_link(port, state))
        interface = getattr(rig, "interface_of", lambda name: name)(port)
        if state == "cut":
            raise UsageError(
                f"{interface} can only be taken down: to cut it and keep its link up takes a virtual rig",
                f'Write "link {port} down for …", or pull the lead.',
            )
        link = self._stack.enter_context(LinkSwitch(interface))
        return lambda: _quietly(link.down if state == "down" else link.up)

    def _impair(self, file: ImpairmentFile) -> Do:
        _, change = self._path
        return lambda: _quietly(lambda: change(file))

    @cached_property
    def _path(self) -> tuple[ImpairmentFile, Callable[[ImpairmentFile], object]]:
        """What befalls the path by itself, and how that is changed: of the rig, or of the bridge on this host. It is
        put back at the end."""
        rig = self._rig
        if isinstance(rig, HasImpairment) and rig.impairment:
            self._stack.callback(rig.impair, rig.impairment)
            return rig.impairment, rig.impair
        try:
            usual = self._stack.enter_context(borrowed_bridge())
        except NothingFoundError as error:
            raise UsageError(
                "no bridge impairs this path, so there is nothing to change",
                "Start one between two ports: harvok impair start PORT OTHER clean. Or take a rig with an impairment.",
            ) from error
        return usual, lambda file: ask("change", file)

    def _command_there(self, words: str) -> Do:
        from harvok.device.ssh import SshSession

        access = self._device.ssh if self._device else None
        if access is None:
            raise UsageError(
                f"'device {words}' needs a device that takes commands", "Name it with --device; its file needs [ssh]."
            )
        session = self._stack.enter_context(SshSession(access))

        def run() -> str:
            done = session.run(words)
            if done.code:
                raise UsageError(f"'{words}' ended with code {done.code} there", "Try it by hand.")
            return done.output

        return run

    def _set(self, words: str) -> Do:
        access = self._device.writing if self._device else None
        if access is None:
            raise UsageError(
                f"'set {words}' needs a device that lets itself be changed",
                "Name it with --device; its file needs write_community, or a user who may write.",
            )
        name, _, value = words.partition(" ")
        binding = Binding(object_named(name), value_written(value))
        session = open_session(access)
        self._stack.callback(session.close)
        return lambda: _quietly(lambda: session.set([binding]))

    def _tell(self, words: str) -> Do:
        return lambda: _quietly(lambda: self._notice(f"now: {words}"))

    def _await(self, words: str) -> Do:
        if not sys.stdin.isatty():
            raise UsageError(
                f"'await {words}' needs somebody at a terminal, to say when it is done",
                'Write "tell …": then the mark is when it was told.',
            )

        def wait() -> str:
            termios.tcflush(sys.stdin, termios.TCIFLUSH)  # what was typed before says nothing
            self._notice(f"now: {words}. Press Enter when it is done")
            while not select.select([sys.stdin], [], [], _KEY_S)[0]:
                if self._over.is_set():
                    raise UsageError("nobody said that it was done", "Press Enter before the trial is over.")
            sys.stdin.readline()
            return ""

        return wait


def _quietly(do: Callable[[], object]) -> str:
    do()
    return ""


def _command(words: str) -> Do:
    """A command on this host."""
    try:
        arguments = shlex.split(words)
    except ValueError as error:
        raise UsageError(f"'{words}' is no command: {error}", "Close its quotes.") from error

    def run() -> str:
        try:
            done = subprocess.run(
                arguments,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                timeout=_COMMAND_S,
                check=False,
                text=True,
            )
        except (OSError, subprocess.TimeoutExpired) as error:
            raise UsageError(f"'{words}' could not be run: {error}", "Try it by hand.") from error
        if done.returncode:
            raise UsageError(f"'{words}' ended with code {done.returncode}", "Try it by hand.")
        return done.stdout

    return run
