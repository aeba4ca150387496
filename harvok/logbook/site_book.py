"""What became of each test of a site's rounds, in the logbook: the coordinator's queue and its history in one table."""

import json
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import sqlalchemy as sa

from harvok.core.figures import Figure
from harvok.core.site.outcome import AND, SiteTest, TestState
from harvok.logbook.listing import as_utc
from harvok.logbook.owner import is_alive, this_process
from harvok.logbook.store import Logbook
from harvok.logbook.tables import site_tests


class SiteBook:
    """The tests of one site. Every method raises LogbookError when the database cannot do its part."""

    def __init__(self, logbook: Logbook, site: str) -> None:
        self._logbook, self._site = logbook, site

    def enter(self, tests: Sequence[SiteTest]) -> None:
        """Has tests wait for their turn, all or none of them; one that is there already stays as it is."""
        with self._logbook.writing() as db:
            for test in tests:
                if db.execute(self._of(test, sa.select(site_tests.c.number))).first() is None:
                    db.execute(site_tests.insert().values(owner="", **self._key(test), **_values(test)))

    def begin(self, test: SiteTest, now: datetime, after: Sequence[str] = ()) -> SiteTest:
        """A test runs from now on, by this process; `after` must be run once it is over, however it ends."""
        return self.put(replace(test, state="running", began=now, after=tuple(after)), this_process())

    def take(self, test: SiteTest, now: datetime, after: Sequence[str] = ()) -> SiteTest | None:
        """The same for a test that several coordinators could begin: None where it waits no longer."""
        begun = replace(test, state="running", began=now, after=tuple(after))
        with self._logbook.writing() as db:
            waiting = self._of(test, site_tests.update()).where(site_tests.c.state == "waiting")
            taken = db.execute(waiting.values(owner=this_process(), **_values(begun))).rowcount
        return begun if taken else None

    def find(self, test: SiteTest) -> SiteTest | None:
        """What became of a test; None where it was never entered."""
        found = self._tests(self._of(test, self._select()))
        return found[0] if found else None

    def end(self, test: SiteTest, now: datetime | None) -> SiteTest:
        """A test is over, or will not begin; what it came to is in it."""
        return self.put(replace(test, ended=now))

    def left_over(self) -> list[SiteTest]:
        """Tests that a coordinator was running whose process is gone."""
        query = self._select(site_tests.c.owner).where(site_tests.c.state == "running")
        with self._logbook.reading() as db:
            rows = list(db.execute(query))
        return [_test(row) for row in rows if not is_alive(row.owner)]

    def of_state(self, *states: TestState) -> list[SiteTest]:
        """The tests that are in one of some states, by when they were due."""
        return self._tests(self._select().where(site_tests.c.state.in_(states)).order_by(site_tests.c.due))

    def last_due(self) -> datetime | None:
        """When the newest test was due that was ever entered; None where none was."""
        query = sa.select(sa.func.max(site_tests.c.due)).where(site_tests.c.site == self._site)
        with self._logbook.reading() as db:
            newest = db.execute(query).scalar_one_or_none()
        return newest and as_utc(newest)

    def newest(self, maximum: int, *states: TestState) -> list[SiteTest]:
        """The newest tests that ended in one of some states, newest first."""
        query = self._select().where(site_tests.c.state.in_(states))
        return self._tests(query.order_by(site_tests.c.due.desc(), site_tests.c.number.desc()).limit(maximum))

    def since(self, moment: datetime) -> list[SiteTest]:
        """Every test that was due since a moment, in the order of time."""
        return self._tests(self._select().where(site_tests.c.due >= moment).order_by(site_tests.c.due))

    def until(self, test: SiteTest, since: datetime) -> list[SiteTest]:
        """A test and those before it of its pair in its round that were due since a moment, in the order of time."""
        pair = self._key(test)
        query = self._select().where(site_tests.c.due >= since, site_tests.c.due <= pair.pop("due"))
        for name, value in pair.items():
            query = query.where(site_tests.c[name] == value)
        return self._tests(query.order_by(site_tests.c.due))

    def _select(self, *more: Any) -> sa.Select[Any]:
        columns = [site_tests.c[name] for name in SiteTest.__dataclass_fields__]
        return sa.select(*columns, *more).where(site_tests.c.site == self._site)

    def _tests(self, query: sa.Select[Any]) -> list[SiteTest]:
        with self._logbook.reading() as db:
            return [_test(row) for row in db.execute(query)]

    def _key(self, test: SiteTest) -> dict[str, Any]:
        return {
            "site": self._site,
            "round": test.round,
            "near": AND.join(test.near),
            "far": test.far,
            "due": test.due.astimezone(UTC),
        }

    def _of(self, test: SiteTest, statement: Any) -> Any:
        for name, value in self._key(test).items():
            statement = statement.where(site_tests.c[name] == value)
        return statement

    def put(self, test: SiteTest, owner: str = "") -> SiteTest:
        """Writes what has become of a test, whether or not it was entered before."""
        with self._logbook.writing() as db:
            written = db.execute(self._of(test, site_tests.update()).values(owner=owner, **_values(test)))
            if not written.rowcount:
                db.execute(site_tests.insert().values(owner=owner, **self._key(test), **_values(test)))
        return test

    def every(self) -> list[SiteTest]:
        """All tests, in the order in which they were entered."""
        return self._tests(self._select().order_by(site_tests.c.number))

    def forget(self, test: SiteTest) -> None:
        """As if it had never been entered."""
        with self._logbook.writing() as db:
            db.execute(self._of(test, site_tests.delete()))


def sites_of(logbook: Logbook) -> list[str]:
    """The sites of which a logbook has tests."""
    with logbook.reading() as db:
        return list(db.execute(sa.select(site_tests.c.site).distinct()).scalars())


def _values(test: SiteTest) -> dict[str, Any]:
    return {
        "state": test.state,
        "began": test.began and test.began.astimezone(UTC),
        "ended": test.ended and test.ended.astimezone(UTC),
        "after": json.dumps(test.after),
        "failure": test.failure,
        "reason": test.reason,
        "verdict": test.verdict,
        "runs": json.dumps(test.runs),
        "figures": json.dumps([[one.quantity, one.value, one.labels] for one in test.figures]),
    }


def _test(row: Any) -> SiteTest:
    return SiteTest(
        round=row.round,
        near=tuple(row.near.split(AND)),
        far=row.far,
        due=as_utc(row.due),
        state=row.state,
        began=row.began and as_utc(row.began),
        ended=row.ended and as_utc(row.ended),
        after=tuple(json.loads(row.after)),
        failure=row.failure,
        reason=row.reason,
        verdict=row.verdict,
        runs=tuple(json.loads(row.runs)),
        figures=tuple(Figure(*one) for one in json.loads(row.figures)),
    )
