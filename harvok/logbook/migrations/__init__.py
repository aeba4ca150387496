"""How a logbook of an older schema becomes one of today's: Alembic's environment, and a file for each step."""
