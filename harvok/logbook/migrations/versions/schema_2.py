"""Schema 2: records of version 2, and the figure keys that they have. The tables themselves are the same."""

import json

import sqlalchemy as sa
from alembic import op

from harvok.core.models.version1 import FIGURE_KEYS, upgraded_entry, upgraded_record

revision = "2"
down_revision = "1"

_ABOUT = sa.table("about", sa.column("key", sa.String), sa.column("value", sa.String))
_RUNS = sa.table("runs", sa.column("id", sa.String), sa.column("record", sa.Text))
_FIGURES = sa.table("figures", sa.column("quantity", sa.String))
_JOURNAL = sa.table("journal", sa.column("number", sa.Integer), sa.column("run", sa.String),
                    sa.column("trial", sa.Integer), sa.column("entry", sa.Text))  # fmt: skip


def upgrade() -> None:
    """Rewrites records, journals of runs that were broken off, and the keys of figures."""
    db = op.get_bind()
    for run in db.execute(sa.select(_RUNS.c.id)).scalars().all():
        text = db.execute(sa.select(_RUNS.c.record).where(_RUNS.c.id == run)).scalar_one()
        record = json.dumps(upgraded_record(json.loads(text)))
        db.execute(_RUNS.update().where(_RUNS.c.id == run).values(record=record))
    _upgrade_journals(db)
    for old, key in FIGURE_KEYS.items():
        db.execute(_FIGURES.update().where(_FIGURES.c.quantity == old).values(quantity=key))
    db.execute(_ABOUT.update().where(_ABOUT.c.key == "schema").values(value=revision))


def _upgrade_journals(db: sa.Connection) -> None:
    """Entries in the order in which they were written: the first of each trial is the trial itself."""
    trials: dict[tuple[str, int], dict[str, object]] = {}
    columns = (_JOURNAL.c.number, _JOURNAL.c.run, _JOURNAL.c.trial, _JOURNAL.c.entry)
    for number, run, trial, entry in db.execute(sa.select(*columns).order_by(_JOURNAL.c.number)).all():
        old = json.loads(entry)
        new = json.dumps(upgraded_entry(old, trials.get((run, trial))))
        trials.setdefault((run, trial), old)
        db.execute(_JOURNAL.update().where(_JOURNAL.c.number == number).values(entry=new))
