"""`harvok preflight RIG`: what is looked at on a rig of ports."""

import json
import os
import sys
import unittest

from tests.whole.program import ProgramTest

CAN = sys.platform == "linux" and os.geteuid() == 0


class Rigs(ProgramTest):
    def test_a_model_cannot_be_spoilt(self) -> None:
        self.inside("rig", "new", "dome.toml", "--name", "dome-sw-a", "--rated", "1G")
        said = self.inside("preflight", "dome.toml").stdout
        self.assertIn("dome-sw-a is a model", said)
        self.assertIn("nothing stands in the way", said)
        self.inside("preflight", "nowhere.toml", code=2)

    @unittest.skipUnless(CAN, "ports are made by root on Linux")
    def test_ports_that_are_there_and_one_that_is_not(self) -> None:
        from pyroute2 import IPRoute

        first, second = f"hva{os.getpid() % 10**6}", f"hvb{os.getpid() % 10**6}"
        with IPRoute() as kernel:
            kernel.link("add", ifname=first, kind="veth", peer={"ifname": second})
            self.addCleanup(lambda: IPRoute().link("del", ifname=first))
            for name in (first, second):
                kernel.link("set", ifname=name, state="up")
            ports = ("--kind", "ports", "--port1", first, "--port2", second)
            self.inside("rig", "new", "lab.toml", "--name", "lab-sw", "--rated", "1G", *ports)
            found = json.loads(self.inside("preflight", "lab.toml", "--json").stdout)
            outcomes = {check["topic"]: check["outcome"] for check in found}
            self.assertEqual((outcomes["port1"], outcomes["port2"]), ("ok", "ok"), found)
            self.assertEqual(outcomes["ability of the tester"], "warning")
            self.assertIn("harvok calibrate", next(c["advice"] for c in found if c["topic"] == "ability of the tester"))
            kernel.link("set", ifname=second, state="down")
        stopped = self.inside("preflight", "lab.toml", code=4).stdout
        self.assertIn(f"the interface {second} is down", stopped)
        self.assertIn("2 reasons to stop", stopped, "its other end has lost its link")
