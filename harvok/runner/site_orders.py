"""What a coordinator tells the process of a test, and what that says at the end."""

import json
from dataclasses import asdict, dataclass, field
from typing import Any

from harvok.core.site.failures import failure_of
from harvok.errors import HarvokError
from harvok.rigs.stations import CommonStart

PROCESS = "harvok.runner.site_process"
LOGBOOK = "HARVOK_LOGBOOK"
"""The environment variable that says where runs are kept."""


@dataclass(frozen=True, slots=True)
class SiteOrders:
    """Which test of the site in a file is to be run. Where its runs are kept is in the environment: an address of a
    database may hold a password, which no command line may show. With `start` the near end is one of a group."""

    site: str
    round: str
    near: list[str]
    far: str
    start: CommonStart | None = None

    def encode(self) -> str:
        return json.dumps(asdict(self))


def decode_orders(text: str) -> SiteOrders:
    """The orders that `encode` wrote."""
    known: dict[str, Any] = json.loads(text)
    start = known.pop("start")
    return SiteOrders(**known, start=CommonStart(**start) if start else None)


@dataclass(slots=True)
class Came:
    """What a test came to: the ids of its runs, the verdict of its pair, where it failed the kind and the reason; and
    what several near ends came to together, as quantity, value and labels."""

    runs: list[str] = field(default_factory=list)
    verdict: str = ""
    failure: str = ""
    reason: str = ""
    figures: list[tuple[str, float, dict[str, str]]] = field(default_factory=list)

    def fail(self, error: HarvokError) -> None:
        self.failure, self.reason = failure_of(error.reference).key, error.message
