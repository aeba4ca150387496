"""State that another user of the host planted is not believed, and no planted file is loaded."""

import json
import os
import socket
import unittest
from pathlib import Path

from harvok.errors import StateError, TestRunningError
from harvok.host.state import (
    CHANGED_FEATURES,
    IMPAIRMENT_SOCKET,
    LENT_PORTS,
    TEST_LOCK,
    open_state,
    read_state,
    state_folder,
    state_path,
    write_state,
)
from harvok.runner.impair import ask, only_one
from harvok.runner.lock import one_test_at_a_time
from harvok.testing.clock import ManualClock
from tests.own_state import own_state
from tests.whole.program import ProgramTest
from tests.whole.test_udp import NEEDS_ROOT

_SOMEBODY = 4711
_MODULES = ("mmap", "json", "socket", "struct", "numpy", "harvok", "psutil", "pyroute2", "ctypes", "hmac")


class PlantedFiles(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = own_state(self)

    def test_what_is_written_is_read_and_is_nobody_elses(self) -> None:
        self.assertIsNone(read_state(LENT_PORTS))
        write_state(LENT_PORTS, "mine")
        self.assertEqual(read_state(LENT_PORTS), "mine")
        self.assertEqual((self.folder / LENT_PORTS).stat().st_mode & 0o777, 0o600)
        self.assertEqual([path.name for path in self.folder.iterdir()], [LENT_PORTS])

    def test_a_folder_that_is_missing_is_made_for_this_user_alone(self) -> None:
        os.environ["HARVOK_STATE_FOLDER"] = str(self.folder / "new" / "harvok")
        state_path(TEST_LOCK)
        self.assertEqual(state_folder().stat().st_mode & 0o777, 0o700)

    def test_a_lock_that_is_a_link_is_refused_and_what_it_leads_to_is_left_alone(self) -> None:
        precious = self.folder / "precious"
        precious.write_text("not to be overwritten")
        (self.folder / TEST_LOCK).symlink_to(precious)
        with self.assertRaises(StateError) as caught, one_test_at_a_time("a test", 0, ManualClock(), print):
            self.fail("the link was followed")
        self.assertIn(str(self.folder / TEST_LOCK), caught.exception.message)
        self.assertEqual(precious.read_text(), "not to be overwritten")

    def test_a_hard_link_is_refused(self) -> None:
        (self.folder / "precious").write_text("not to be overwritten")
        (self.folder / TEST_LOCK).hardlink_to(self.folder / "precious")
        with self.assertRaises(StateError):
            open_state(TEST_LOCK, os.O_RDWR)

    def test_a_file_or_folder_that_others_may_write_is_refused(self) -> None:
        write_state(LENT_PORTS, "{}")
        (self.folder / LENT_PORTS).chmod(0o666)
        with self.assertRaises(StateError):
            read_state(LENT_PORTS)
        self.folder.chmod(0o777)
        with self.assertRaises(StateError) as caught:
            write_state(CHANGED_FEATURES, "{}")
        self.assertIn(f"{self.folder} may be written by others", caught.exception.message)

    @NEEDS_ROOT
    def test_a_socket_that_somebody_planted_is_refused(self) -> None:
        place = self.folder / IMPAIRMENT_SOCKET
        with socket.socket(socket.AF_UNIX) as planted:
            planted.bind(str(place))
            os.chown(place, _SOMEBODY, _SOMEBODY)
            with self.assertRaises(StateError):
                ask("stop")
            with self.assertRaises(StateError) as caught, only_one():
                self.fail("the socket was taken")
        self.assertIn(f"{place} belongs to user {_SOMEBODY}", caught.exception.message)

    def test_a_lock_of_another_user_holds_nobody_up(self) -> None:
        with one_test_at_a_time("mine", 0, ManualClock(), print):
            with self.assertRaises(TestRunningError), one_test_at_a_time("mine too", 0, ManualClock(), print):
                self.fail("two at once")
            os.environ["HARVOK_STATE_FOLDER"] = str(self.folder / "of another user")
            with one_test_at_a_time("theirs", 0, ManualClock(), print):
                self.assertTrue((self.folder / "of another user" / TEST_LOCK).exists())


class PlantedBeforeACommand(ProgramTest):
    @NEEDS_ROOT
    def test_notes_of_somebody_else_are_named_and_not_obeyed(self) -> None:
        self.state.mkdir(mode=0o700)
        port = {"name": "lo", "index": 1, "up": True, "mtu_bytes": 1280, "addresses": [["203.0.113.9", 32]]}
        for name, notes in (
            (LENT_PORTS, {"ports": [port | {"routes": [["192.0.2.0/24", None]]}]}),
            (CHANGED_FEATURES, {"features": {"lo": {"rx-gro": False}}}),
        ):
            path = self.state / name
            path.write_text(json.dumps({"holder": 4194305, **notes}))
            os.chown(path, _SOMEBODY, _SOMEBODY)
            before = Path("/sys/class/net/lo/mtu").read_text()
            said = self.harvok("logbook", "list", code=4).stderr
            self.assertIn(f"{path} belongs to user {_SOMEBODY}, not to you, so what it says is not believed", said)
            self.assertEqual(Path("/sys/class/net/lo/mtu").read_text(), before)
            path.unlink()
        self.inside("logbook", "list", code=0)

    def test_the_shared_temporary_folder_is_not_looked_at(self) -> None:
        for name in ("harvok-lent-ports.json", "harvok-changed-ports.json", LENT_PORTS, CHANGED_FEATURES):
            (self.folder / name).write_text('{"holder": 4194305, "ports": [], "features": {}}')
        self.inside("logbook", "list")
        self.assertTrue((self.folder / LENT_PORTS).exists())

    def test_no_process_loads_what_lies_in_the_current_folder(self) -> None:
        trap, sprung = "open({!r}, 'a').write(__name__)\n", self.folder / "sprung"
        for name in _MODULES:
            (self.folder / f"{name}.py").write_text(trap.format(str(sprung)))
        _, address = self.station()
        self.harvok("tcp", address, "--duration", "500ms", "--direction", "both")
        self.harvok("udp", address, "--rate", "1M", "--duration", "500ms")
        self.assertFalse(sprung.exists())
