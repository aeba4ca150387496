"""Which of several coordinators plans: the one that holds the site's lock in PostgreSQL, until its connection ends."""

import hashlib
from typing import Self

import sqlalchemy as sa
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import NullPool

from harvok.errors import LogbookError
from harvok.logbook.places import without_password


class Seat:
    """The planner's seat of a site. The database frees it as soon as it loses the connection that took it, so that it
    is never taken twice and never stays empty."""

    def __init__(self, place: str, site: str) -> None:
        self._place = place
        self._key = int.from_bytes(hashlib.sha256(f"harvok site {site}".encode()).digest()[:8], signed=True)
        self._engine = sa.create_engine(place, poolclass=NullPool, isolation_level="AUTOCOMMIT")
        self._db: sa.Connection | None = None
        self._ours = False

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._leave()
        self._engine.dispose()

    def taken(self) -> bool:
        """Whether it is ours; takes it when it is free. Raises LogbookError while the database is away, and it is
        nobody's then."""
        try:
            if self._db is None:
                self._db = self._engine.connect()
            question = "select true" if self._ours else "select pg_try_advisory_lock(:key)"
            self._ours = self._db.execute(sa.text(question), {} if self._ours else {"key": self._key}).scalar_one()
            return self._ours
        except DatabaseError as error:
            self._leave()
            why, _, _ = str(error.orig).partition("\n")
            raise LogbookError(
                f"the logbook {without_password(self._place)} cannot be reached: {why}",
                "Nothing new begins until it is back.",
            ) from error

    def _leave(self) -> None:
        db, self._db, self._ours = self._db, None, False
        if db is not None:
            db.invalidate()
            db.close()
