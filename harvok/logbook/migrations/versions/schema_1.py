"""Schema 1, of Harvok 0.1: what is there before the first step. Its logbooks did not know Alembic yet."""

revision = "1"
down_revision = None


def upgrade() -> None:
    """Nothing: logbooks of schema 1 were made by Harvok 0.1."""
