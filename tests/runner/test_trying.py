"""Tests across an impairment between hosts made of this one, and the desk at which an impairment is asked."""

import json
import os
import socket
import subprocess
import sys
import tempfile
import unittest
from contextlib import closing
from dataclasses import asdict
from pathlib import Path
from unittest import mock

from harvok.clock import SYSTEM
from harvok.core.impairment import DirectionReport, ImpairmentPlan, ImpairmentReport
from harvok.core.models.impairment import ImpairmentFile, ImpairmentRecord
from harvok.core.models.plan import PLAN
from harvok.errors import HarvokError, NothingFoundError, PlanError, UsageError
from harvok.host.cpu import avoiding_cores, usable_cores
from harvok.host.namespaces import TESTER_PORTS, DeviceSpec
from harvok.host.state import IMPAIRMENT_SOCKET, LENT_PORTS, read_cleanup, write_cleanup
from harvok.rigs.impairment_files import read_impairment
from harvok.rigs.stations import StationsSettings
from harvok.rigs.virtual import VirtualDevice
from harvok.runner import impair, plans
from harvok.runner.across import with_station
from harvok.runner.namespaced import HostNamespaces, _inside
from harvok.runner.plan_files import PlanFile, expected_s
from harvok.runner.plans import PlanRequest, run_plan
from harvok.runner.request import TestRequest
from tests.own_state import own_state
from tests.runner.test_sweeps_and_delay import Heard
from tests.whole.program import until


class Commands(unittest.TestCase):
    def test_the_station_is_put_where_it_belongs(self) -> None:
        self.assertEqual(
            with_station(("tcp", "--flows", "4"), "198.18.0.2"), ["tcp", "198.18.0.2", "--flows", "4", "--name", "dome"]
        )
        self.assertEqual(
            with_station(("run", "plan.toml"), "198.18.0.2"), ["run", "plan.toml", "--station", "198.18.0.2"]
        )

    def test_what_is_seen_to_already(self) -> None:
        named, tokened = ("tcp", "--name", "x"), ("udp", "--token-file=x")
        for words in (named, tokened, ("tcp", "--plain"), ("run", "p", "--station", "x"), ("logbook",)):
            with self.assertRaises(UsageError):
                with_station(words, "198.18.0.2")

    def test_namespaces_are_entered_in_order(self) -> None:
        words = _inside(HostNamespaces(("/proc/1/ns/user", "/proc/1/ns/net"), "dome", "198.18.0.1"), "ports")
        self.assertIn("/proc/1/ns/user:/proc/1/ns/net", words)
        self.assertEqual(words[-1], "ports")


class StandIn:
    """Stands in for the bridge: remembers what it was told."""

    def __init__(self) -> None:
        self.plans: list[ImpairmentPlan] = []
        directions = [DirectionReport("send", 10, 100, 9, 90, lost=1), DirectionReport("receive")]
        self.last = ImpairmentReport(1.0, 0, directions)

    def apply(self, plan: ImpairmentPlan) -> None:
        self.plans.append(plan)


class TheDesk(unittest.TestCase):
    def setUp(self) -> None:
        self.place = own_state(self) / IMPAIRMENT_SOCKET
        self.path = StandIn()

    def control(self) -> impair.ImpairmentControl:
        listener = self.enterContext(impair.only_one())
        return impair.ImpairmentControl(listener, self.path, read_impairment("metro"), ("eth1", "eth2"))  # type: ignore[arg-type]

    def test_what_is_at_work_is_told_whole(self) -> None:
        self.control()
        found = impair.at_work()
        assert found
        self.assertEqual((found.carried_out_by, found.ports), ("bridge", ["eth1", "eth2"]))
        self.assertEqual(found.impairment.plan(), read_impairment("metro").plan())
        self.assertEqual(impair.ask("show")["report"], asdict(self.path.last))

    def test_it_is_changed_borrowed_and_ended(self) -> None:
        control = self.control()
        with impair.borrowed_bridge() as before:
            impair.ask("change", before.changed({"delay": 0.02}))
            self.assertEqual(impair.ask("show")["impairment"]["send"]["delay"], 0.02)
        self.assertEqual([plan.stages[0].send.delay_s for plan in self.path.plans], [0.02, 0.0006])
        self.assertFalse(control.ended)
        impair.ask("stop")
        self.assertTrue(control.ended)

    def test_nonsense_at_the_door_ends_nothing(self) -> None:
        self.control()
        for nonsense in (b"", b"{", b"[]", b'{"do": "change", "impairment": {}}'):
            with closing(socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)) as guest:
                guest.settimeout(5)
                guest.connect(str(self.place))
                guest.sendall(nonsense or b" ")
                self.assertEqual(guest.recv(100), b"")
        self.assertEqual(impair.ask("show")["name"], "metro")

    def test_only_one_and_the_place_is_free_afterwards(self) -> None:
        with impair.only_one():
            with self.assertRaises(UsageError), impair.only_one():
                self.fail("there were two")
            self.assertTrue(self.place.exists())
        self.assertFalse(self.place.exists())
        with self.assertRaises(NothingFoundError), impair.borrowed_bridge():
            self.fail("there is none")
        self.place.touch()  # left by one that was killed
        with impair.only_one():
            self.assertTrue(self.place.is_socket())


class PlansWithImpairments(unittest.TestCase):
    def plan(self, impairment: str = "satellite") -> PlanFile:
        steps = [
            {"name": "clean", "test": "tcp", "duration": "1s"},
            {"name": "far", "test": "udp", "rate": "1M", "duration": "1s", "impairment": impairment},
        ]
        plan = PLAN.validate_python(
            {"version": 1, "name": "cause", "station": "hall", "repeats": 2, "alternate": True, "steps": steps}
        )
        return PlanFile(plan, Path(), "abc")

    def test_each_run_has_that_of_its_step(self) -> None:
        usual, reported, taken = read_impairment("clean"), [], []
        self.assertGreater(expected_s(self.plan()), 4)
        found = ImpairmentRecord(carried_out_by="bridge", impairment=usual, ports=["a", "b"])

        def control(_: str, file: ImpairmentFile) -> None:
            reported.append(file.name)

        def take(asked: TestRequest, *_: object) -> None:
            assert isinstance(asked.place, StationsSettings)
            taken.append((asked.place.station, asked.test.kind))

        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch.object(impair, "at_work", return_value=found),
            mock.patch.object(impair, "ask", control),
            mock.patch.object(plans, "ask", control),
            mock.patch.object(plans, "run_test", take),
        ):
            request = PlanRequest(self.plan(), "cause", {}, f"{folder}/book.sqlite", [], station="198.18.0.2")
            run_plan(request, Heard(), lambda _: None, lambda *_: None)
        self.assertEqual(reported, ["clean", "satellite", "clean", "satellite", "clean"])
        self.assertEqual(taken, [("198.18.0.2", "tcp"), ("198.18.0.2", "udp-load")] * 2)

    def test_one_that_there_is_not_is_refused_first(self) -> None:
        with self.assertRaises(PlanError) as raised:
            expected_s(self.plan("nowhere"))
        self.assertIn("step far", raised.exception.message)


class Processes(unittest.TestCase):
    def test_a_worker_ends_with_the_one_that_started_it(self) -> None:
        child = "from harvok.worker.child import end_with_parent as e; e(); print('x', flush=True); input()"
        parent = (
            "import subprocess, sys, os\n"
            f"words, pipe = [sys.executable, '-c', {child!r}], subprocess.PIPE\n"
            "one = subprocess.Popen(words, stdin=pipe, stdout=pipe)\n"
            "one.stdout.readline()\n"
            "os.set_inheritable(one.stdin.fileno(), True)\n"
            "keeper = subprocess.Popen(['sleep', '60'], close_fds=False)\n"  # so that the pipe stays open
            "print(one.pid, keeper.pid, flush=True); sys.stdin.read()"
        )
        process = subprocess.Popen(
            [sys.executable, "-c", parent], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert process.stdout and process.stdin
        worker, keeper = map(int, process.stdout.readline().split())
        self.addCleanup(os.kill, keeper, 15)
        process.kill()
        process.communicate()
        until(lambda: not Path(f"/proc/{worker}/exe").exists())

    def test_others_are_kept_off_a_core_as_well(self) -> None:
        cores = usable_cores()
        if len(cores) < 2:
            self.skipTest("there is one core alone")
        with subprocess.Popen(["sleep", "60"]) as other:
            with avoiding_cores([cores[0]], [other.pid, 2**22 + 1]):
                self.assertEqual(sorted(os.sched_getaffinity(other.pid)), cores[1:])
            self.assertEqual(sorted(os.sched_getaffinity(other.pid)), cores)
            other.kill()

    def test_notes_of_a_living_process_are_its_own(self) -> None:
        folder = own_state(self)
        write_cleanup(LENT_PORTS, {"ports": ["eth1"]})
        self.assertEqual(json.loads((folder / LENT_PORTS).read_text()), {"holder": os.getpid(), "ports": ["eth1"]})
        self.assertIsNone(read_cleanup(LENT_PORTS))


class Hosts(unittest.TestCase):
    def test_two_hosts_with_nothing_between_them(self) -> None:
        spec = DeviceSpec("hosts", addresses=(("198.18.0.1/24",), ("198.18.0.2/24",)))
        try:
            device = VirtualDevice(spec)
        except HarvokError as error:
            self.skipTest(error.message)
        with device:
            host_namespaces = (device.built.namespaces, [*device.built.namespaces[:-1], device.built.other])
            for room, port, address in zip(host_namespaces, TESTER_PORTS, ("198.18.0.1", "198.18.0.2"), strict=True):
                seen = subprocess.run(
                    [sys.executable, "-P", "-m", "harvok.host.enter", ":".join(room), sys.executable, "-c", _LOOK],
                    capture_output=True, text=True, check=True,
                ).stdout  # fmt: skip
                self.assertEqual(json.loads(seen), {"lo": "127.0.0.1", port: address})
            holder = int(device.built.device.split("/")[2])
        SYSTEM.sleep(0)
        until(lambda: not Path(f"/proc/{holder}/exe").exists())


_LOOK = (
    "import json; from pyroute2 import IPRoute; k = IPRoute(); "
    "n = {l['index']: l.get_attr('IFLA_IFNAME') for l in k.get_links()}; "
    "print(json.dumps({n[a['index']]: a.get_attr('IFA_ADDRESS') for a in k.get_addr(family=2)}))"
)
