"""`harvok site`: a site's file, and what its schedule comes to."""

import json

from tests.whole.program import ProgramTest

SITE = """
format = "harvok-site"
version = 1
name = "observatory"
zone = "Europe/Berlin"

[[stations]]
name = "dome"
address = "192.0.2.1"
groups = ["summit"]

[[stations]]
name = "spectro"
address = "192.0.2.2"
groups = ["summit"]

[[stations]]
name = "hall"
address = "192.0.2.3:26480"

[[links]]
name = "uplink"
rated = "1G"
behind = ["summit"]

[[rounds]]
name = "hourly"
at = "every hour"
mesh = ["summit", "hall"]
[rounds.step]
name = "tcp"
test = "tcp"
duration = "10s"

[[rounds]]
name = "noon"
at = "weekdays 12:00"
many = ["summit"]
to = "hall"
together = true
late = "{late}"
[rounds.step]
name = "voice"
test = "udp"
rate = "5M"
duration = "20s"
"""
WEEK = ("--from", "2026-11-23", "--for", "7d")


class Sites(ProgramTest):
    def site(self, late: str = "5min", text: str = SITE) -> str:
        (self.folder / "site.toml").write_text(text.replace("{late}", late))
        return "site.toml"

    def test_a_new_site_is_complete_fits_and_is_not_written_over(self) -> None:
        self.inside("site", "new", "new.toml")
        out = self.inside("site", "check", "new.toml", *WEEK).stdout
        self.assertIn("observatory  3 stations, 1 shared link, 2 rounds, times in Europe/Berlin", out)
        self.assertIn("fits every one of", out)
        self.assertIn("--overwrite", self.inside("site", "new", "new.toml", code=2).stderr)

    def test_what_runs_when(self) -> None:
        out = self.inside("site", "plan", self.site(), "--from", "2026-11-23T11:59", "--for", "30min").stdout
        rows = [line.split() for line in out.splitlines()[1:] if line]
        self.assertEqual(len(rows), 4, "three pairs, and two near ends together")
        self.assertEqual(rows[0][2:8], ["12:00:00", "noon", "dome", "+", "spectro", "hall"])
        told = json.loads(
            self.inside("site", "plan", "site.toml", "--from", "2026-11-23T11:59", "--for", "30min", "--json").stdout
        )
        self.assertTrue(told["fits"])
        together = next(test for test in told["tests"] if test["round"] == "noon")
        self.assertEqual(together["needs"], ["dome", "hall", "spectro", "uplink"])
        inside = next(test for test in told["tests"] if {*test["near"], test["far"]} == {"dome", "spectro"})
        self.assertEqual(inside["needs"], ["dome", "spectro"], "both are behind the uplink, and do not cross it")
        self.assertEqual(together["due"], "2026-11-23T12:00:00+01:00")
        self.assertGreater(inside["wait_s"], 20)

    def test_one_that_does_not_fit_says_why(self) -> None:
        often = SITE.replace('at = "every hour"', 'at = "every 1min"\nlate = "30s"')
        out = self.inside("site", "check", self.site(text=often), "--from", "2026-11-23", "--for", "1h", code=1).stdout
        self.assertIn("does not fit", out)
        self.assertRegex(out, r"hourly: \d+ of its tests would wait too long for")
        told = json.loads(
            self.inside("site", "check", "site.toml", "--from", "2026-11-23", "--for", "1h", "--json", code=1).stdout
        )
        self.assertFalse(told["fits"])
        self.assertEqual({one["round"] for one in told["missed"]}, {"hourly"})
        self.assertTrue(all(one["held_by"] and one["waited_for"] for one in told["missed"]))

    def test_what_is_wrong_is_said_with_its_line(self) -> None:
        for old, new, words in (
            ('"every hour"', '"every 7min"', "would drift"),
            ('"every hour"', '"soon"', "is no time at which a round could be due"),
            ('"Europe/Berlin"', '"Mars/Olympus"', "is no time zone"),
            ('behind = ["summit"]', 'behind = ["base"]', "link uplink: there is no station and no group 'base'"),
            ('mesh = ["summit", "hall"]', "", "says between whom by one of"),
            ('mesh = ["summit", "hall"]', 'mesh = ["hall"]', "round hourly joins no two different stations"),
            ('mesh = ["summit", "hall"]', 'between = ["dome - hall"]', "is no pair"),
            ('to = "hall"', "", "many and to go together"),
            ('name = "spectro"', 'name = "dome"', "'dome' is the name of two things"),
            ('name = "noon"', 'name = "hourly"', "two rounds are called hourly"),
            ('late = "{late}"', 'quiet = ["all day"]', "are no hours from when to when"),
            ('test = "udp"\nrate = "5M"\nduration = "20s"', 'test = "rfc2544"', "not of rfc2544"),
            ('rated = "1G"', 'speed = "1G"', "'speed' of"),
            (
                'test = "udp"\nrate = "5M"\nduration = "20s"',
                'test = "app"\nmix = "web"\nusers = 5\npolicy = "no.toml"',
                "no.toml cannot be read",
            ),
            (
                'test = "udp"\nrate = "5M"\nduration = "20s"',
                'test = "app"\nmix = "no.toml"\nusers = 5',
                "there is no mix and no file 'no.toml'",
            ),
        ):
            said = self.inside("site", "check", self.site(text=SITE.replace(old, new)), code=2).stderr
            self.assertIn("site.toml", said)
            self.assertIn(words, said)
        self.assertIn("cannot be read", self.inside("site", "check", "nosuch.toml", code=2).stderr)
