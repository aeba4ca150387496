"""The tables of the logbook. The record is the truth; the other columns are there to find it quickly."""

from sqlalchemy import (
    Column,
    DateTime,
    Float,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

metadata = MetaData()

"""Which schema this is, for Harvok 0.1 alone: it refuses a logbook that is newer than itself by this table."""
about = Table(
    "about",
    metadata,
    Column("key", String(40), primary_key=True),
    Column("value", String(200), nullable=False),
)

alembic_version = Table(
    "alembic_version",
    metadata,
    Column("version_num", String(32), primary_key=True, doc="the schema; Alembic's own table"),
)

runs = Table(
    "runs",
    metadata,
    Column("id", String(40), primary_key=True),
    Column("started", DateTime(timezone=True), nullable=False, index=True),
    Column("state", String(20), nullable=False, index=True),
    Column("test", String(40), nullable=False),
    Column("rig", String(200), nullable=False),
    Column("series", String(200), index=True),
    Column("note", Text, nullable=False),
    Column("limiters", Text, nullable=False, doc="JSON object: direction to kind"),
    Column("owner", String(200), nullable=False, doc="host, process and its start time, while it runs"),
    Column("record", Text, nullable=False, doc="the record without its trials, as JSON"),
)

trials = Table(
    "trials",
    metadata,
    Column("run", String(40), ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True),
    Column("number", Integer, primary_key=True, doc="in the order of measuring"),
    Column("entry", Text, nullable=False, doc="the trial, as JSON"),
)

figures = Table(
    "figures",
    metadata,
    Column("run", String(40), ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True),
    Column("number", Integer, primary_key=True),
    Column("quantity", String(60), nullable=False),
    Column("labels", Text, nullable=False, doc="JSON object, keys in order"),
    Column("value", Float, nullable=False),
    Index("figures_by_quantity", "quantity"),
)

journal = Table(
    "journal",
    metadata,
    Column("number", Integer, primary_key=True, doc="in the order of writing"),
    Column("run", String(40), ForeignKey("runs.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("trial", Integer, nullable=False),
    Column("entry", Text, nullable=False, doc="a trial or an interval, as JSON; gone once the run has ended"),
)

judgements = Table(
    "judgements",
    metadata,
    Column("number", Integer, primary_key=True, doc="in the order of judging"),
    Column("name", String(200), nullable=False, index=True, doc="under which a plan was run"),
    Column("judged", DateTime(timezone=True), nullable=False),
    Column("verdict", String(20), nullable=False),
    Column("criteria", String(40), nullable=False, doc="digest of the criteria"),
    Column("document", Text, nullable=False, doc="the whole judgement, as JSON"),
)

site_tests = Table(
    "site_tests",
    metadata,
    Column("number", Integer, primary_key=True, doc="in the order in which they were entered"),
    Column("site", String(40), nullable=False),
    Column("round", String(40), nullable=False),
    Column("near", String(200), nullable=False, doc="several near ends with ' + ' between them"),
    Column("far", String(40), nullable=False),
    Column("due", DateTime(timezone=True), nullable=False),
    Column("state", String(20), nullable=False, doc="waiting, running, done, failed or missed"),
    Column("began", DateTime(timezone=True)),
    Column("ended", DateTime(timezone=True)),
    Column("owner", String(200), nullable=False, doc="the coordinator, while it runs"),
    Column("after", Text, nullable=False, doc="JSON list: commands that are still to be run after it"),
    Column("failure", String(40), nullable=False, doc="the kind of failure, else empty"),
    Column("reason", Text, nullable=False, doc="why it failed or was missed, else empty"),
    Column("verdict", String(20), nullable=False, doc="what its pair came to with it, empty without criteria"),
    Column("runs", Text, nullable=False, doc="JSON list of ids"),
    Column("figures", Text, nullable=False, doc="JSON list: what several near ends came to together"),
    UniqueConstraint("site", "round", "near", "far", "due", name="site_tests_once"),
    Index("ix_site_tests_state", "site", "state"),
)
