"""Schema 3: the judgements of plans are kept beside the runs that they rest on."""

import sqlalchemy as sa
from alembic import op

revision = "3"
down_revision = "2"


def upgrade() -> None:
    """A new, empty table."""
    op.create_table(
        "judgements",
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("judged", sa.DateTime(timezone=True), nullable=False),
        sa.Column("verdict", sa.String(20), nullable=False),
        sa.Column("criteria", sa.String(40), nullable=False),
        sa.Column("document", sa.Text, nullable=False),
    )
    op.create_index("ix_judgements_name", "judgements", ["name"])
    about = sa.table("about", sa.column("key", sa.String), sa.column("value", sa.String))
    op.get_bind().execute(about.update().where(about.c.key == "schema").values(value=revision))
