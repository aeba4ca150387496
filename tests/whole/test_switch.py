"""RFC 2889 and RFC 3918 by the installed program: on a model, and with real frames through bridges of this kernel."""

import json
from typing import Any

from tests.whole.program import ProgramTest

MODEL = """
version = 1
kind = "simulated"
name = "hall-sw-a"
rated = "1G"
ports = 4
[device]
head_of_line = true
buffer = "128k"
addresses = 500
"""
BRIDGE = """
version = 1
kind = "virtual"
name = "hall-sw-b"
rated = "10M"
device = "switch"
ports = 4
"""


def figure(record: dict[str, Any], quantity: str, **labels: str) -> float:
    return values(record, quantity, **labels)[0]


def values(record: dict[str, Any], quantity: str, **labels: str) -> list[float]:
    """The figures of a quantity with some labels, in their order."""
    return [
        one["value"]
        for one in record["figures"]
        if one["quantity"] == quantity and labels.items() <= one["labels"].items()
    ]


class SwitchTests(ProgramTest):
    def rig(self, text: str) -> str:
        (self.folder / "rig.toml").write_text(text)
        return "rig.toml"

    def test_a_model_of_four_ports(self) -> None:
        shown = self.inside("rig", "show", self.rig(MODEL)).stdout
        self.assertIn("head-of-line blocking", shown)
        self.assertIn("keeps 500 addresses, for 5 min", shown)
        said = self.inside("rfc2889", "rig.toml", "all", "--frame-size", "64", "--frame-size", "1518").stdout
        for words in ("64 B, mesh", "1518 B, many-to-one", "address caching capacity", "lost at the free port"):
            self.assertIn(words, said)
        again = self.inside("rfc2889", "rig.toml", "congestion", "--frame-size", "512", "--json").stdout
        record = json.loads(again)
        self.assertAlmostEqual(figure(record, "head-of-line-loss"), 1 / 3, places=3)
        self.assertEqual(record["test"]["ports"], ["port1", "port2", "port3", "port4"])
        shown = self.inside("logbook", "show", record["id"]).stdout
        self.assertIn("lost at the congested port", shown)

    def test_ports_in_the_order_that_was_asked_for(self) -> None:
        order = ("--port", "port3", "--port", "port1")
        said = self.inside("rfc2889", self.rig(MODEL), "one-to-many", "--frame-size", "512", *order, "--json").stdout
        directions = {one["labels"]["direction"] for one in json.loads(said)["figures"]}
        self.assertEqual(directions, {"one-to-many", "one-to-many to port1"})

    def test_what_is_refused_before_anything_is_sent(self) -> None:
        rig = self.rig(MODEL)
        self.assertIn("there is no test 'mess'", self.inside("rfc2889", rig, "mess", code=2).stderr)
        self.assertIn("no port port9", self.inside("rfc2889", rig, "--port", "port1", "--port", "port9", code=2).stderr)
        self.assertIn("two ports at least", self.inside("rfc2889", rig, "--port", "port1", code=2).stderr)
        narrow = self.rig(BRIDGE)
        refused = self.inside("rfc2889", narrow, "errored-frames", "--oversize", "2000", code=2).stderr
        self.assertIn("frames of 2000 B do not fit", refused)

    def test_a_plan_rejects_a_switch_that_blocks(self) -> None:
        self.rig(MODEL)
        plan = """
version = 1
name = "the-hall"
rig = "rig.toml"
[[steps]]
name = "congested"
test = "rfc2889"
tests = ["congestion"]
ports = ["port1", "port2", "port3", "port4"]
frame_sizes = [512]
[[criteria]]
figure = "head-of-line-loss"
max = "1%"
"""
        (self.folder / "plan.toml").write_text(plan)
        said = self.inside("run", "plan.toml", code=1).stdout
        self.assertIn("REJECT", said)
        self.assertIn("head-of-line blocking", said)
        (self.folder / "rig.toml").write_text(MODEL.replace("head_of_line = true", ""))
        (self.folder / "other.toml").write_text(plan.replace("the-hall", "the-other-hall"))
        self.assertIn("ACCEPT", self.inside("run", "other.toml").stdout)
        (self.folder / "plan.toml").write_text(plan.replace('"port4"]', '"port3"]'))
        self.assertIn("each port is to be named once", self.inside("plan", "check", "plan.toml", code=2).stderr)

    def test_multicast_on_a_model(self) -> None:
        rig = self.rig(MODEL + 'groups = 255\njoin_delay = "12ms"\n')
        self.assertIn("keeps 255 groups", self.inside("rig", "show", rig).stdout)
        said = self.inside("rfc3918", rig, "all", "--frame-size", "1518", "--leave", "2s").stdout
        for words in ("1518 B, multicast", "multicast group capacity", "join to port2", "loss at line rate"):
            self.assertIn(words, said)
        record = json.loads(self.inside("rfc3918", rig, "join-delay", "--frame-size", "512", "--json").stdout)
        self.assertAlmostEqual(figure(record, "group-join-delay", direction="join to port3"), 0.012)
        for wrong, words in (
            (("--ip-version", "none"), "groups are joined with IP"),
            (("--multicast-share", "0%"), "between 0 and 100 %"),
            (("speed",), "there is no test 'speed'"),
        ):
            self.assertIn(words, self.inside("rfc3918", rig, *wrong, code=2).stderr)


class Bridges(ProgramTest):
    def rig(self, text: str) -> str:
        (self.folder / "rig.toml").write_text(text)
        return "rig.toml"

    def test_a_table_of_sixteen_is_found_exactly(self) -> None:
        few = BRIDGE.replace("ports = 4", 'ports = 3\naddresses = 16\naging = "2s"')
        quick = ("--max-addresses", "40", "--frame-size", "64", "--duration", "1s")
        record = self.held("rfc2889", self.rig(few), "address-capacity", *quick)
        self.assertEqual(figure(record, "address-capacity"), 16)

    def test_frames_that_are_too_long_are_dropped(self) -> None:
        short = BRIDGE.replace("ports = 4", "mtu = 9000\nmax_frame = 1518")
        quick = ("--oversize", "2000", "--frame-size", "64", "--duration", "1s", "--trial-pause", "0s")
        record = self.held("rfc2889", self.rig(short), "errored-frames", *quick)
        self.assertEqual(figure(record, "errored-forwarded"), 0)

    def test_twelve_streams_of_a_mesh_keep_their_loads_on_two_cores(self) -> None:
        quick = ("--frame-size", "1518", "--loads", "30%", "--hold", "1s", "--trial-pause", "0s")
        record = self.held("ramp", self.rig(BRIDGE), *quick, "--stream", "all:all")
        rates = values(record, "forwarding-rate")
        self.assertEqual(len(rates), 12)
        for rate in rates:
            self.assertAlmostEqual(rate / (0.3 * 10e6 / 8 / 1538 / 3), 1, delta=0.05)

    def test_tags_classes_and_copies_arrive(self) -> None:
        streams = ("port1:port2,vlan=100.20,size=512", "port3:port1,to=broadcast", "port3:port4,to=broadcast")
        asked = [word for stream in streams for word in ("--stream", stream)]
        quick = ("--frame-size", "1518", "--loads", "20%", "--hold", "1s", "--trial-pause", "0s")
        record = self.held("ramp", self.rig(BRIDGE), *quick, *asked)
        self.assertEqual(values(record, "frame-loss"), [0, 0, 0])
        directions = ("port1 to port2", "port3 to port1", "port3 to port4")
        sent = {name: figure(record, "offered-load", direction=name) for name in directions}
        self.assertEqual(sent["port3 to port1"], sent["port3 to port4"], "the same frames")
        self.assertAlmostEqual(sent["port1 to port2"] / sent["port3 to port1"], 1538 / (512 + 8 + 20), delta=0.1)

    def test_a_group_is_joined_at_once_and_left_after_two_seconds(self) -> None:
        """What a bridge of this kernel does: one question a second, two in all."""
        snooping = BRIDGE.replace("ports = 4", "ports = 3\nsnooping = true").replace("10M", "1M")
        quick = ("--frame-size", "1518", "--leave", "4s", "--trial-pause", "0s", "--groups", "2")
        record = self.held("rfc3918", self.rig(snooping), "join-delay", "leave-delay", *quick)
        for delay_s in values(record, "group-leave-delay"):
            self.assertAlmostEqual(delay_s, 2.0, delta=0.4)
        for delay_s in values(record, "group-join-delay"):
            self.assertTrue(0 <= delay_s < 0.2, delay_s)
        self.assertEqual(len(values(record, "group-join-delay")) + len(values(record, "group-leave-delay")), 4)
