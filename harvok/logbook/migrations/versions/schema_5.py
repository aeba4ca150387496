"""Schema 5: the trials of a record in a table of their own."""

import json

import sqlalchemy as sa
from alembic import op

revision = "5"
down_revision = "4"

_ABOUT = sa.table("about", sa.column("key", sa.String), sa.column("value", sa.String))
_RUNS = sa.table("runs", sa.column("id", sa.String), sa.column("record", sa.Text))
_TRIALS = sa.table("trials", sa.column("run", sa.String), sa.column("number", sa.Integer), sa.column("entry", sa.Text))


def upgrade() -> None:
    """Takes the trials out of every record, one record at a time."""
    op.create_table(
        "trials",
        sa.Column("run", sa.String(40), sa.ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("entry", sa.Text, nullable=False),
    )
    db = op.get_bind()
    for run in db.execute(sa.select(_RUNS.c.id)).scalars().all():
        record = json.loads(db.execute(sa.select(_RUNS.c.record).where(_RUNS.c.id == run)).scalar_one())
        rows = [
            {"run": run, "number": number, "entry": json.dumps(trial)}
            for number, trial in enumerate(record.pop("trials"))
        ]
        if rows:
            db.execute(_TRIALS.insert(), rows)
        db.execute(_RUNS.update().where(_RUNS.c.id == run).values(record=json.dumps(record)))
    db.execute(_ABOUT.update().where(_ABOUT.c.key == "schema").values(value=revision))
