"""Sites: read from files, and made into rounds whose jobs can be counted and forecast."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from harvok.core.models.site import SITE_FILE, RoundKeys, SiteFile
from harvok.core.site.forecast import Forecast, forecast
from harvok.core.site.queue import Job
from harvok.core.site.rounds import Group, Round, jobs_between
from harvok.core.site.together import ready_s
from harvok.errors import SiteError
from harvok.rigs.files import parse_toml, read_text
from harvok.rigs.named_files import readers_beside

_HINT = "docs/sites.md has every key; `harvok site new` writes a site that works."


def read_site(path: Path) -> SiteFile:
    """The site in a TOML file. Raises SiteError, naming line and key."""
    text = read_text(path, "site", _HINT, SiteError)
    return parse_toml(text, path, SITE_FILE, "site", _HINT, SiteError, readers_beside(path))


def rounds_of(site: SiteFile) -> list[Round]:
    """The rounds of a site, with what their tests need."""
    return [_round(site, keys) for keys in site.rounds]


def _round(site: SiteFile, keys: RoundKeys) -> Round:
    """A round with who is tested with whom, and what each test needs."""
    groups = tuple(Group(near, far, site.needs(near, far)) for near, far in site.groups_of(keys))
    return Round(keys.name, keys.cron, groups, keys.late, tuple(keys.quiet_hours))


@dataclass(frozen=True, slots=True)
class Outlook:
    """What a site's rounds come to from one moment to another, where every test takes as long as it should."""

    begins: datetime
    ends: datetime
    jobs: list[Job]
    forecast: Forecast

    def busy(self) -> dict[str, float]:
        """The share of the time that each station and link is taken; more than 1 where it would take longer."""
        length_s = (self.ends - self.begins).total_seconds()
        return {name: busy_s / length_s for name, busy_s in self.forecast.busy_s().items()}

    @property
    def fits(self) -> bool:
        """Whether every job begins in time."""
        return not self.forecast.missed


def outlook(site: SiteFile, begins: datetime, length: timedelta) -> Outlook:
    """A stretch of a site's schedule in virtual time."""
    expected_s = {keys.name: keys.expected_s for keys in site.rounds}

    def takes_s(job: Job) -> float:
        return expected_s[job.round] + ready_s(len(job.near))

    jobs = jobs_between(rounds_of(site), site.clock, begins, begins + length)
    return Outlook(begins, begins + length, jobs, forecast(jobs, takes_s))


SITE_TEXT = """# A site, as Harvok tests it again and again. docs/sites.md has every key.
format = "harvok-site"
version = 1
name = "observatory"
zone = "Europe/Berlin"          # by whose clocks rounds are due

[[stations]]                    # `harvok station` runs there
name = "dome"
address = "dome.example"
groups = ["summit"]

[[stations]]
name = "spectro"
address = "spectro.example"
groups = ["summit"]

[[stations]]
name = "hall"
address = "hall.example"

[[links]]                       # two tests never cross it at one time
name = "uplink-summit"
rated = "1G"
behind = ["summit"]

[[rounds]]
name = "hourly"
at = "every hour"
mesh = ["summit", "hall"]       # each with each other
quiet = ["20:00-06:00"]         # the observers have the night
criteria = [{figure = "goodput-settled", min = "900M"}]     # of the newest five runs of each pair
[rounds.step]
name = "tcp"
test = "tcp"
duration = "10s"

[[rounds]]
name = "noon"
at = "weekdays 12:10"
between = ["dome > hall"]       # the near end first
late = "20min"                  # missed when it cannot begin until then
[rounds.step]
name = "delay"
test = "delay"

# [[alarms]]                    # who is told of a changed verdict, a failure, a change of level
# command = "/usr/local/bin/tell-the-night-shift"
"""
