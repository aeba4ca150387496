import json
import tomllib
from pathlib import Path

from jsonschema import Draft202012Validator

from tests.whole.program import ProgramTest

SCHEMA = Path(__file__).parents[2] / "docs" / "schema" / "run-2.json"
RIG = """
version = 1
kind = "simulated"
name = "dome-sw-b"
rated = "1G"
[device]
forwarding_fps = 500_000
buffer_frames = 100
latency = "5us"
reset = "2s"
"""


class Benchmarking(ProgramTest):
    def rig(self, text: str = RIG, name: str = "rig.toml") -> str:
        path = self.folder / name
        path.write_text(text)
        return str(path)

    def test_every_test_in_virtual_time(self) -> None:
        asked = ("all", "--frame-size", "64", "--frame-size", "1518", "--burst-repeats", "3")
        said = self.harvok("rfc2544", self.rig(), *asked).stdout
        self.assertIn("of virtual time", " ".join(said.split()))
        for words in ("throughput, send", "latency, send", "longest burst", "reset", "loss at"):
            self.assertIn(words, said)
        self.assertRegex(said, r"64 B +(499|500) \d{3} +33\.6 %")
        self.assertRegex(said, r"1518 B +81 274 +100\.0 %")
        self.assertIn("dome-sw-b", self.inside("logbook", "show").stdout)

    def test_the_record_follows_its_schema_and_holds_the_rig(self) -> None:
        asked = ("throughput", "loss", "--frame-size", "aag", "--direction", "both", "--json", "--series", "b")
        record = json.loads(self.harvok("rfc2544", self.rig(), *asked).stdout)
        Draft202012Validator(json.loads(SCHEMA.read_text())).validate(record)
        self.assertEqual(record["rig"]["file"]["device"]["forwarding_fps"], 500_000)
        self.assertEqual(record["test"]["sizes"][0]["sizes"], [64, 64, 1518])
        self.assertEqual({f["labels"].get("direction") for f in record["figures"]}, {"send", "receive", None})
        self.assertGreater(len(record["trials"]), 3)
        self.inside("logbook", "export", "--to", "out.jsonl")
        self.assertIn("1 were there", self.inside("logbook", "import", "out.jsonl").stdout)

    def test_two_devices_are_compared_size_by_size(self) -> None:
        better = self.rig(RIG.replace("500_000", "900_000"), "better.toml")
        for series, rig in (("now", better), ("offered", self.rig())):
            self.inside("rfc2544", rig, "throughput", "--frame-size", "64", "--repeat", "5", "--series", series)
        said = self.inside("compare", "now", "offered", code=1).stdout
        self.assertIn("REJECT send, 64 B: throughput changed by -44", said)
        self.inside("compare", "offered", "now", code=0)

    def test_a_tolerance_is_said_beside_the_figure(self) -> None:
        rig = self.rig(RIG + 'loss = "0.01%"\n')
        said = self.inside("rfc2544", rig, "throughput", "--frame-size", "1518", "--loss-tolerance", "0.1").stdout
        self.assertIn("loss tolerance 0.100 %", said)
        self.assertIn("81 274", said)

    def test_plots(self) -> None:
        self.inside("rfc2544", self.rig(), "throughput", "latency", "loss", "--plots", "drawn")
        drawn = {path.name for path in (self.folder / "drawn").iterdir()}
        self.assertEqual(
            drawn,
            {
                f"{name}.{kind}"
                for name in ("throughput", "latency", "loss", "delay-distribution")
                for kind in ("png", "svg")
            },
        )
        self.assertTrue((self.folder / "drawn" / "loss.png").read_bytes().startswith(b"\x89PNG"))

    def test_bad_rigs_name_line_and_key(self) -> None:
        cases = {
            RIG.replace("buffer_frames", "bufer_frames"): ("line 8", "device.bufer_frames"),
            RIG.replace('"5us"', '"5"'): ("line 9", "device.latency"),
            RIG.replace('rated = "1G"\n', ""): ("rated", "is missing"),
            RIG.replace('"simulated"', '"wired"'): ("line 3", "kind"),
            RIG + "loss = 2\n": ("line 11", "device.loss"),
            RIG + "latency = 5us\n": ("is not TOML", "line 11"),
            RIG.replace("version = 1", "version = 2"): ("line 2", "version"),
        }
        for text, words in cases.items():
            said = self.inside("rig", "show", self.rig(text), code=2).stderr
            for word in words:
                self.assertIn(word, said)
        self.assertIn("line 8", self.inside("rfc2544", self.rig(next(iter(cases))), code=2).stderr)
        self.assertIn("cannot be read", self.inside("rfc2544", "missing.toml", code=2).stderr)

    def test_bad_options(self) -> None:
        rig = self.rig()
        for arguments, words in (
            (("speed",), "no test 'speed'"),
            (("--frame-size", "60"), "60"),
            (("--frame-size", "abz"), "mix"),
            (("--resolution", "0"), "--resolution"),
            (("--duration", "0.1s"), "outside"),
            (("--address-pairs", "0"), "--address-pairs"),
        ):
            self.assertIn(words, self.inside("rfc2544", rig, *arguments, code=2).stderr)
        self.assertFalse(self.logbook.exists())


class RigFiles(ProgramTest):
    def test_a_new_one_works(self) -> None:
        self.harvok("rig", "new", "dome.toml", "--name", 'dome "a"', "--rated", "2.5G")
        text = (self.folder / "dome.toml").read_text()
        self.assertEqual(tomllib.loads(text)["rated"], "2.5G")
        said = self.harvok("rig", "show", "dome.toml").stdout
        for words in ('dome "a"', "──2.5 Gb/s──", "at line rate", "port1"):
            self.assertIn(words, said)
        everything = text.replace("\n# ", "\n")
        (self.folder / "dome.toml").write_text(everything.replace("A rig of", "# A rig of"))
        self.assertIn("reorders 0.010 %", self.harvok("rig", "show", "dome.toml").stdout)
        self.harvok("rig", "new", "dome.toml", "--name", "b", "--rated", "1G", code=2)
        self.assertIn("not answered", self.harvok("rig", "new", "other.toml", code=2).stderr)
        self.harvok("rig", "new", "dome.toml", "--name", "b", "--rated", "1G", "--overwrite")
        self.assertEqual(json.loads(self.harvok("rig", "show", "dome.toml", "--json").stdout)["name"], "b")
