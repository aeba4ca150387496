"""What becomes of a test of a round."""

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from harvok.core.figures import Figure

TestState = Literal["waiting", "running", "done", "failed", "missed"]
SiteTestKey = tuple[str, tuple[str, ...], str, datetime]
"""Round, near ends, far end, and when it was due."""
AND = " + "
"""Between several near ends, in words and in the logbook."""


@dataclass(frozen=True, slots=True)
class SiteTest:
    """A test of a round, between its near ends and one far end, with what became of it; times are UTC. `failure` is the
    key of its kind (core.site.failures), `after` are commands that are still to be run."""

    round: str
    near: tuple[str, ...]
    far: str
    due: datetime
    state: TestState = "waiting"
    began: datetime | None = None
    ended: datetime | None = None
    after: tuple[str, ...] = ()
    failure: str = ""
    reason: str = ""
    verdict: str = ""
    runs: tuple[str, ...] = ()
    figures: tuple[Figure, ...] = ()
    """What several near ends came to together."""

    @property
    def key(self) -> SiteTestKey:
        """Which test it is, whatever became of it."""
        return self.round, self.near, self.far, self.due

    @property
    def pair(self) -> str:
        """Who is tested with whom, in words."""
        return f"{AND.join(self.near)} to {self.far}"
