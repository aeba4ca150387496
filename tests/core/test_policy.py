"""Policies: files, the bytes of checks, and what becomes of them."""

import struct
import tomllib
import unittest
from pathlib import Path

from pydantic import ValidationError

from harvok.core.app.policy_file import POLICY_FILE, PolicyFile
from harvok.core.fields import WRITTEN
from harvok.core.figures import Figure
from harvok.core.judgement.policy import judge_policy
from harvok.core.procedures.beside import figures_beside
from harvok.core.trials.app import Action, Application, AppMix, AppTrial, AppTrialResult, Level
from harvok.core.trials.policy import CheckCounts, CheckResult, PolicyCheck, PolicySummary
from harvok.core.wire.policy import exchange_of, payload_of_segment, segment_of, test_virus
from harvok.rigs.stations import policy_result

ROOT = Path(__file__).resolve().parents[2]
PROOF = "0123456789abcdef01234567"
TELNET = PolicyCheck("telnet", "blocked", "tcp", 23)
ARCHIVE = PolicyCheck("archive", "passed", "tcp", 8443)


def policy_of(checks: str) -> PolicyFile:
    head = 'format = "harvok-policy"\nversion = 1\nname = "p"\n'
    return POLICY_FILE.validate_python(tomllib.loads(f"{head}checks = [{checks}]"), context=WRITTEN)


class Files(unittest.TestCase):
    def test_the_policy_of_the_documentation_is_one(self) -> None:
        lines = (ROOT / "docs" / "policies.md").read_text().splitlines()
        begins = next(number for number, line in enumerate(lines) if "harvok-policy" in line)
        ends = next(number for number, line in enumerate(lines) if number > begins and line.startswith("|"))
        text = "\n".join(line.strip() for line in lines[begins:ends])
        checks = POLICY_FILE.validate_python(tomllib.loads(text), context=WRITTEN).build()
        self.assertEqual(len(checks), 12)
        self.assertEqual([check.port for check in checks if check.by in ("dns", "tls")], [53, 53, 443])
        self.assertEqual(next(check.header_bytes for check in checks if check.name == "large header"), 64_000)

    def test_what_makes_no_sense_is_refused_with_its_name(self) -> None:
        for check, words in (
            ('{ name = "a", must = "passed", by = "tcp" }', "'a' needs a port"),
            ('{ name = "a", must = "passed", by = "tcp", port = 5, host = "x.example" }', "host is for checks by"),
            ('{ name = "a", must = "passed", by = "udp", port = 5, header = "1k" }', "header is for checks by http"),
            ('{ name = "a", must = "passed", by = "dns" }', "'a' asks for no name"),
            ('{ name = "a", must = "passed", by = "flags", port = 5 }', "flags are for checks by flags"),
            ('{ name = "a", must = "maybe", by = "http" }', "'passed' or 'blocked'"),
            ('{ name = "a", must = "passed", by = "http", host = "a\\r\\nb" }', "pattern"),
            ('{ name = "a", must = "passed", by = "http" }, { name = "a", must = "passed", by = "tls" }', "named 'a'"),
            ('{ name = "a", must = "passed", by = "tcp", port = 443 }, { name = "b", must = "passed", by = "tls" }',
             "port 443 has checks by tls and others"),
        ):  # fmt: skip
            with self.assertRaises(ValidationError) as caught:
                policy_of(check)
            self.assertIn(words, str(caught.exception))


class Bytes(unittest.TestCase):
    def test_every_check_has_bytes_of_its_own_with_the_proof_in_them(self) -> None:
        checks = [TELNET, ARCHIVE, PolicyCheck("site", "blocked", "http", 80, "games.example")]
        made = [exchange_of(check, number, PROOF, "hall.example") for number, check in enumerate(checks)]
        self.assertEqual(len({one.request for one in made} | {one.answer for one in made}), 6)
        for one in made:
            self.assertIn(PROOF.encode(), one.request)
        self.assertIn(b"Host: games.example\r\n", made[2].request)

    def test_what_a_web_check_is_about_is_in_its_bytes(self) -> None:
        def of(**more: object) -> tuple[bytes, bytes]:
            made = exchange_of(PolicyCheck("a", "blocked", "http", 80, **more), 0, PROOF, "h")  # type: ignore[arg-type]
            return made.request, made.answer

        self.assertTrue(of(content="test-virus")[1].endswith(test_virus()))
        self.assertTrue(of(content="test-virus", uploads=True)[0].endswith(b"\r\n\r\n" + test_virus()))
        self.assertEqual(len(test_virus()), 68)
        self.assertGreater(len(of(header_bytes=64_000)[0]), 64_000)
        self.assertEqual(of(malformed="two-lengths")[0].count(b"Content-Length"), 2)
        self.assertNotIn(b"Host", of(malformed="no-host")[0])
        self.assertNotIn(b"\r", of(malformed="bare-newlines")[0])
        self.assertIn(b"\0", of(malformed="zero-byte")[0])
        self.assertIn(b"X-Check :", of(malformed="space-in-field")[0])

    def test_a_question_is_one_and_its_answer_answers_it(self) -> None:
        made = exchange_of(PolicyCheck("n", "passed", "dns", 53, "archive.example"), 0, PROOF, "h")
        question = b"\x07archive\x07example\x00" + struct.pack("!HH", 1, 1)
        self.assertEqual(made.request[12:], question)
        self.assertEqual(made.answer[:2], made.request[:2])
        self.assertEqual(struct.unpack("!H", made.answer[2:4])[0] & 0x800F, 0x8000)  # an answer, and no error

    def test_a_segment_has_its_flags_and_a_checksum_that_holds(self) -> None:
        check = PolicyCheck("odd", "blocked", "flags", 8443, flags=("syn", "fin"))
        for payload in (b"even", b"odd"):
            segment = segment_of(check, payload, ("198.18.0.1", 50_000), ("198.18.0.2", 8443))
            self.assertEqual(segment[13], 3)
            pseudo = bytes([198, 18, 0, 1, 198, 18, 0, 2, 0, 6]) + struct.pack("!H", len(segment))
            whole = pseudo + segment + b"\0" * (len(segment) % 2)
            total = sum(struct.unpack(f"!{len(whole) // 2}H", whole))
            self.assertEqual(total % 0xFFFF, 0)
            packet = bytes([0x45, 0, 0, 0, 0, 0, 0, 0, 64, 6]) + bytes(10) + segment
            self.assertEqual(payload_of_segment(packet, 8443), payload)
            self.assertEqual(payload_of_segment(packet, 8444), b"")
        for short in (b"", b"\x45", bytes(19), b"\x4f" + bytes(30)):
            self.assertEqual(payload_of_segment(short, 0), b"")


class Results(unittest.TestCase):
    ODD = PolicyCheck("odd", "blocked", "flags", 8443, flags=("syn",))

    def test_both_ends_are_put_together(self) -> None:
        """Nobody answers odd segments, so that only the far end knows of them."""
        here = PolicySummary("send", "sender", [CheckCounts(5, 2, blocked={"no-answer": 3}), CheckCounts(5, 0)])
        there = PolicySummary("send", "receiver", [CheckCounts(arrived=4), CheckCounts(arrived=1)])
        tcp, odd = policy_result((TELNET, self.ODD), [here, there])
        self.assertEqual((tcp.passed, tcp.arrived, tcp.blocked, tcp.wrong), (2, 4, {"no-answer": 3}, 2))
        self.assertEqual((odd.passed, odd.arrived, odd.blocked, odd.wrong), (1, 1, {"not-seen": 4}, 1))

    def test_every_try_counts_for_the_verdict(self) -> None:
        trial = AppTrial(AppMix("m", (Application("a", 1.0, (Action("b", (1,)),)),)), (), (Level(1, 0, 1),))
        results = [CheckResult(TELNET, 10, 1, 1), CheckResult(ARCHIVE, 10, 10, 10)]
        figures = list(figures_beside(trial, AppTrialResult([], policy=results), 4))
        self.assertEqual([figure.value for figure in figures], [0.05, 0.1, 0.0])
        bad, good = judge_policy((TELNET, ARCHIVE), figures)
        self.assertEqual((bad.verdict, bad.reason), ("REJECT", "passed in 10.0 % of its tries, and must be blocked"))
        self.assertEqual((good.verdict, good.where), ("ACCEPT", "policy check archive"))
        (untried,) = judge_policy((TELNET,), [])
        self.assertEqual(untried.verdict, "RETEST")
        (lost,) = judge_policy((ARCHIVE,), [Figure("wrong-checks", 0.5, {"check": "archive"})])
        self.assertIn("was blocked in 50.0 % of its tries", lost.reason)


if __name__ == "__main__":
    unittest.main()
