import json
import unittest
from pathlib import Path

from jsonschema import Draft202012Validator

from harvok.core.models.run import RunRecord
from tests.whole.program import HARVOK, Contention, ProgramTest, free_ports

SHORT = ("--duration", "0.6s", "--interval", "0.2s")
SCHEMA = Path(__file__).parents[2] / "docs" / "schema" / "run-2.json"


class Measuring(ProgramTest):
    def test_the_record_is_whole_and_follows_its_schema(self) -> None:
        _, address = self.station()
        record = self.measured(
            address,
            *SHORT,
            "--flows",
            "2",
            "--rated",
            "100G",
            "--series",
            "before",
            "--with",
            "length=15",
            "--note",
            "x",
        )
        Draft202012Validator(json.loads(SCHEMA.read_text())).validate(record)
        self.assertEqual(
            (record["state"], record["series"], record["attributes"]), ("complete", "before", {"length": "15"})
        )
        self.assertEqual(record["far"]["name"], "hall")
        self.assertEqual(record["command"][:2], ["harvok", "tcp"])
        self.assertEqual(
            [[s["name"] for s in t["trial"]["streams"]] for t in record["trials"]], [["send"], ["receive"]]
        )
        quantities = {(f["quantity"], f["labels"]["direction"]) for f in record["figures"]}
        for direction in ("send", "receive"):
            for quantity in ("goodput-settled", "goodput-mean", "ceiling", "ceiling-share", "fairness", "settling"):
                self.assertIn((quantity, direction), quantities)
        self.assertEqual(RunRecord.model_validate(record).id, record["id"])

    def test_words_for_people(self) -> None:
        _, address = self.station()
        said = self.harvok("tcp", address, *SHORT, "--direction", "both", "--name", "dome").stdout
        for words in (
            "dome (lo) – hall (lo)",
            "of the",
            "send →",
            "receive ←",
            "settled goodput",
            "MB/s",
            "limiter:",
            "next:",
        ):
            self.assertIn(words, said)
        self.assertIn("no rated speed, so no ceiling", said)
        self.assertRegex(said, r"\d\.\d to \d\.\d s, send: goodput [\d.]+ [GM]b/s")
        self.assertNotIn("\x1b", said)

    def test_an_amount_instead_of_a_time(self) -> None:
        _, address = self.station()
        record = self.measured(
            address, "--amount", "5M", "--flows", "2", "--direction", "receive", "--interval", "0.1s"
        )
        receiver = record["trials"][0]["result"]["directions"][0]["receiver"]
        self.assertEqual(receiver["flow_bytes"], [2_500_000, 2_500_000])

    def test_what_was_not_copied_is_said_and_is_another_condition(self) -> None:
        _, address = self.station()
        common = (address, *SHORT, "--direction", "send")
        said = self.harvok("tcp", *common, "--method", "zero-copy", "--series", "spared").stdout
        self.assertRegex(said, r"zero-copy: the receiver read and compared \d+\.\d+ %")
        record = self.measured(*common, "--method", "copy", "--series", "copied")
        (direction,) = record["trials"][0]["result"]["directions"]
        self.assertEqual([direction[half]["method"] for half in ("sender", "receiver")], ["copy", "copy"])
        self.assertEqual(direction["receiver"]["compared_bytes"], 0)
        told = self.inside("compare", "copied", "spared", code=3).stdout
        self.assertRegex(told, r"test\.method\s+copy\s+zero-copy")
        self.assertNotIn("test.method", self.inside("compare", "copied", "copied", code=3).stdout)

    def test_repeats_are_runs_of_one_series(self) -> None:
        _, address = self.station()
        said = self.harvok("tcp", address, *SHORT, "--direction", "send", "--repeat", "3", "--series", "before").stdout
        self.assertIn("repeat 2 of 3", said)
        self.assertIn("trimmed mean", said)
        lines = json.loads(self.inside("logbook", "list", "--json").stdout)
        self.assertEqual([line["series"] for line in lines], ["before"] * 3)

    def test_the_token_never_reaches_the_record(self) -> None:
        _, address = self.station()
        record = self.measured(address, *SHORT, "--direction", "send")
        self.assertNotIn("spectro-lead", json.dumps(record))

    def test_a_small_buffer_is_the_limiter(self) -> None:
        _, address = self.station()
        record = self.measured(address, "--duration", "1s", "--direction", "send", "--socket-buffer", "8000")
        connection = record["trials"][0]["result"]["directions"][0]["receiver"]["connections"][0]
        self.assertLessEqual(connection["receive_buffer_bytes"], 16_000)
        self.assertIn(record["readings"][0]["limiter"]["kind"], ("receive-window", "send-buffer"))

    def test_a_buffer_beyond_the_systems_limit_is_said(self) -> None:
        _, address = self.station()
        record = self.measured(address, *SHORT, "--direction", "send", "--socket-buffer", "1G")
        self.assertTrue(any("net.core.rmem_max" in notice for notice in record["notices"]), record["notices"])

    def test_pacing_is_recognised(self) -> None:
        _, address = self.station()
        contention = Contention()
        record = self.measured(address, "--duration", "1s", "--direction", "send", "--pacing", "50M")
        kind = record["readings"][0]["limiter"]["kind"]
        if kind.startswith("cpu-"):
            self.skip_if_busy(contention)
        self.assertEqual(kind, "pacing")


class BadOptions(ProgramTest):
    def test_refused_before_anything_is_sent_with_the_place_named(self) -> None:
        cases = {
            ("--duration", "10"): "such as 1.5ms",
            ("--duration", "0s"): "outside",
            ("--duration", "-5s"): "-5s",
            ("--flows", "0"): "1",
            ("--flows", "65"): "64",
            ("--rated", "117MB/s"): "bytes",
            ("--socket-buffer", "1"): "outside",
            ("--dscp", "64"): "63",
            ("--direction", "up"): "up",
            ("--with", "length"): "key=value",
            ("--interval", "1ms"): "outside",
            ("--repeat", "0"): "1",
            ("--mss", "12"): "88",
        }
        for (option, value), words in cases.items():
            said = self.inside("tcp", "127.0.0.1:1", option, value, code=2).stderr
            self.assertIn(option, said)
            self.assertIn(words, said)
        self.assertFalse(self.logbook.exists())

    def test_options_that_contradict_each_other(self) -> None:
        said = self.inside("tcp", "hall", "--duration", "5s", "--amount", "1G", code=2).stderr
        self.assertIn("either a duration or an amount", said)
        said = self.inside("tcp", "hall", "--duration", "5s", "--settling", "5s", code=2).stderr
        self.assertIn("shorter than the duration", said)

    def test_stations_that_make_no_sense(self) -> None:
        self.harvok("tcp", "hall:port", code=2)
        self.env["HARVOK_TOKEN"] = "short"
        self.assertIn("8 printable", self.harvok("station", code=2).stderr)
        self.harvok("station", "--port", "65535", code=2)
        del self.env["HARVOK_TOKEN"]
        self.assertIn("HARVOK_TOKEN", self.harvok("tcp", "hall", code=2).stderr)


class Stations(ProgramTest):
    def test_it_says_what_the_near_end_needs_and_stops_cleanly(self) -> None:
        for number in (2, 15):
            port = free_ports()
            process = self.start("station", "--port", str(port), "--host", "127.0.0.1", "--name", "hall")
            assert process.stdout
            head = [process.stdout.readline() for _ in range(8)]
            said = "".join(head)
            for words in (f"harvok tcp 127.0.0.1:{port}", "HARVOK_TOKEN=", f"{port} (control) and {port + 1} (data)"):
                self.assertIn(words, said)
            process.send_signal(number)
            out, err = process.communicate(timeout=20)
            self.assertEqual((process.returncode, err), (0, ""))
            self.assertIn("stopped", out)

    def test_a_new_token_at_every_start(self) -> None:
        del self.env["HARVOK_TOKEN"]
        tokens = set()
        for _ in range(2):
            process = self.start("station", "--port", str(free_ports()), "--host", "127.0.0.1")
            assert process.stdout
            line = next(line for line in process.stdout if "HARVOK_TOKEN=" in line)
            tokens.add(line.strip())
            self.end(process)
        self.assertEqual(len(tokens), 2)

    def test_a_taken_port(self) -> None:
        _, address = self.station()
        port = address.rpartition(":")[2]
        said = self.harvok("station", "--host", "127.0.0.1", "--port", port, code=4).stderr
        self.assertIn(f"port {port} is already in use", said)

    def test_limits_are_the_operators(self) -> None:
        _, address = self.station("--max-duration", "5s", "--max-flows", "2")
        for more, words in ((("--flows", "3"), "1 to 2 flows"), (("--duration", "6s"), "tests of 5 s")):
            self.assertIn(words, self.inside("tcp", address, *more, code=2).stderr)

    def test_an_amount_that_takes_too_long_is_ended(self) -> None:
        _, address = self.station("--max-duration", "1s")
        said = self.harvok("tcp", address, "--amount", "100G", "--direction", "send", "--pacing", "10M", code=2).stderr
        self.assertIn("ends every test after 1 s", said)
        self.assertEqual(json.loads(self.inside("logbook", "list", "--json").stdout)[0]["state"], "broken")


class Installed(unittest.TestCase):
    def test_the_program_is_there(self) -> None:
        self.assertTrue(Path(HARVOK).exists(), "install Harvok first: make test does")
