"""Schema 4: what became of each test of a site's rounds."""

import sqlalchemy as sa
from alembic import op

revision = "4"
down_revision = "3"


def upgrade() -> None:
    """A new, empty table."""
    op.create_table(
        "site_tests",
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("site", sa.String(40), nullable=False),
        sa.Column("round", sa.String(40), nullable=False),
        sa.Column("near", sa.String(200), nullable=False),
        sa.Column("far", sa.String(40), nullable=False),
        sa.Column("due", sa.DateTime(timezone=True), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("began", sa.DateTime(timezone=True)),
        sa.Column("ended", sa.DateTime(timezone=True)),
        sa.Column("owner", sa.String(200), nullable=False),
        sa.Column("after", sa.Text, nullable=False),
        sa.Column("failure", sa.String(40), nullable=False),
        sa.Column("reason", sa.Text, nullable=False),
        sa.Column("verdict", sa.String(20), nullable=False),
        sa.Column("runs", sa.Text, nullable=False),
        sa.Column("figures", sa.Text, nullable=False),
        sa.UniqueConstraint("site", "round", "near", "far", "due", name="site_tests_once"),
    )
    op.create_index("ix_site_tests_state", "site_tests", ["site", "state"])
    about = sa.table("about", sa.column("key", sa.String), sa.column("value", sa.String))
    op.get_bind().execute(about.update().where(about.c.key == "schema").values(value=revision))
