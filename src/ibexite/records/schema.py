"""The tables of the store. Documented and stable: people write SQL against them. docs/data-model.md is made from this.

SQLAlchemy is imported here, so only what writes or makes a store imports this module.
"""

from __future__ import annotations

from sqlalchemy import Boolean, Column, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, String, Table, Text

metadata = MetaData()


def _id(comment: str = "number of the row") -> Column:
    return Column("id", Integer, primary_key=True, comment=comment)


units = Table(
    "units",
    metadata,
    _id(),
    Column("serial", String(120), nullable=False, comment="serial number"),
    Column("product", String(200), nullable=False, comment="product of the sequence"),
    Index("units_by_serial", "serial", "product", unique=True),
    comment="each unit that was tested",
)

runs = Table(
    "runs",
    metadata,
    Column("id", String(40), primary_key=True, comment="run id: UTC time and a random part"),
    Column("unit_id", Integer, ForeignKey("units.id"), nullable=False, comment="the unit"),
    Column("started", String(40), nullable=False, comment="wall time, ISO 8601 with offset to UTC"),
    Column("duration", Float, nullable=False, comment="s"),
    Column("verdict", String(10), nullable=False, comment="pass, fail, error or aborted"),
    Column("is_trial", Boolean, nullable=False, comment="true: a pass does not count"),
    Column("trial_reasons", Text, nullable=False, comment="why, one a line"),
    Column("reason", Text, nullable=False, comment="why the run ended as it did, where a test does not say it"),
    Column("broken_off", Boolean, nullable=False, comment="true: the process died; found and stored later"),
    Column("is_safe", Boolean, nullable=False, comment="true: all outputs were off and said so at the end"),
    Column("operator", String(200), nullable=False, comment="who ran it"),
    Column("station", String(200), nullable=False, comment="name of the computer"),
    Column("software", String(40), nullable=False, comment="version of Ibexite"),
    Column("sequence", Text, nullable=False, comment="title of the sequence"),
    Column("revision", String(80), nullable=False, comment="revision of the sequence"),
    Column("sequence_file", Text, nullable=False, comment="its file"),
    Column("sequence_sha256", String(64), nullable=False, comment="hash of the file as it ran"),
    Column("bench", Text, nullable=False, comment="name of the bench"),
    Column("bench_sha256", String(64), nullable=False, comment="hash of the bench file as it ran"),
    Column("params", Text, nullable=False, comment="JSON: name, value, help, by_hand"),
    Column("instruments", Text, nullable=False, comment="JSON: name, identity, address, profile, calibration"),
    Column("remarks", Text, nullable=False, comment="JSON: texts shown, answers, problems, in order"),
    Index("runs_by_unit", "unit_id"),
    Index("runs_by_started", "started"),
    comment="each run of a sequence for a unit",
)

tests = Table(
    "tests",
    metadata,
    _id(),
    Column("run_id", String(40), ForeignKey("runs.id"), nullable=False, comment="the run"),
    Column("position", Integer, nullable=False, comment="place in the sequence, from 0"),
    Column("name", String(120), nullable=False, comment="name in the sequence"),
    Column("title", Text, nullable=False, comment="title in the sequence"),
    Column("is_gate", Boolean, nullable=False, comment="true: the tests behind it were skipped unless it passed"),
    Column("verdict", String(10), nullable=False, comment="pass, fail, error, skipped, aborted or no check"),
    Column("reason", Text, nullable=False, comment="why, where the results do not say it"),
    Column("duration", Float, nullable=False, comment="s"),
    Index("tests_by_run", "run_id"),
    comment="each test of a run, also those that were skipped",
)

results = Table(
    "results",
    metadata,
    _id(),
    Column("test_id", Integer, ForeignKey("tests.id"), nullable=False, comment="the test"),
    Column("line", Integer, nullable=False, comment="line of the sequence"),
    Column("label", Text, nullable=False, comment="label, else the name that was judged"),
    Column("subject", String(120), nullable=False, comment="the name that was judged; empty for a formula"),
    Column("criterion", Text, nullable=False, comment="the check line"),
    Column("unit", String(40), nullable=False, comment="base unit of the numbers (temperatures in K)"),
    Column("shown", String(40), nullable=False, comment="unit in which people see them; empty: a suitable prefix"),
    Column("value", Float, comment="the value with the least margin; null if there was none"),
    Column("low", Float, comment="lower limit there; null if there is none"),
    Column("high", Float, comment="upper limit there; null if there is none"),
    Column("margin", Float, comment="distance to the nearer limit; negative beyond it"),
    Column("at", Text, nullable=False, comment="JSON: axis values of that point"),
    Column("axes", Text, nullable=False, comment="JSON: name, unit, shown of each axis"),
    Column("extent", Text, nullable=False, comment="JSON: least and largest judged value of each axis"),
    Column("failing", Text, nullable=False, comment="JSON: axis values of the points that failed (the first 500)"),
    Column("judged", Integer, nullable=False, comment="number of points judged"),
    Column("failed", Integer, nullable=False, comment="of them beyond a limit"),
    Column("bad", Integer, nullable=False, comment="of them without a usable value"),
    Column("verdict", String(10), nullable=False, comment="pass, fail or error"),
    Column("reason", Text, nullable=False, comment="why, if not by the numbers"),
    Index("results_by_test", "test_id"),
    Index("results_by_label", "label", "value"),
    comment="one row for each check line of a test: its worst point",
)

curves = Table(
    "curves",
    metadata,
    _id(),
    Column("test_id", Integer, ForeignKey("tests.id"), nullable=False, comment="the test"),
    Column("grid", Integer, nullable=False, comment="columns of one grid belong together, row by row"),
    Column("position", Integer, nullable=False, comment="place within the grid, axes first"),
    Column("name", String(120), nullable=False, comment="name in the sequence"),
    Column("origin", String(10), nullable=False, comment="sweep (an axis), read or let"),
    Column("unit", String(40), nullable=False, comment="base unit (temperatures in K)"),
    Column("shown", String(40), nullable=False, comment="unit in which people see it; empty: a suitable prefix"),
    Column("length", Integer, nullable=False, comment="number of values; 1 and no axes for a single value"),
    Column("data", LargeBinary, nullable=False, comment="float64, little-endian; NaN for a hole"),
    Index("curves_by_test", "test_id"),
    comment="all values, judged or not: columns of sweeps, computed curves, single values",
)

bad_readings = Table(
    "bad_readings",
    metadata,
    _id(),
    Column("test_id", Integer, ForeignKey("tests.id"), nullable=False, comment="the test"),
    Column("name", String(120), nullable=False, comment="name in the sequence"),
    Column("at", Text, nullable=False, comment="JSON: axis values"),
    Column("reason", Text, nullable=False, comment="why it was not used"),
    Column("raw", Text, nullable=False, comment="what the instrument replied"),
    Index("bad_readings_by_test", "test_id"),
    comment="readings that stayed bad after all tries",
)

figures = Table(
    "figures",
    metadata,
    _id(),
    Column("test_id", Integer, ForeignKey("tests.id"), nullable=False, comment="the test"),
    Column("ys", Text, nullable=False, comment="JSON: names of the curves"),
    Column("x", String(120), nullable=False, comment="axis to draw them against"),
    Column("by", String(120), nullable=False, comment="axis of the family; empty if none"),
    Column("title", Text, nullable=False, comment="title, may be empty"),
    Index("figures_by_test", "test_id"),
    comment="figures asked for by plot lines",
)


def describe() -> str:
    """The tables as a page of Markdown."""
    parts = []
    for table in metadata.sorted_tables:
        parts.append(f"### {table.name}\n\n{(table.comment or '').capitalize()}.\n\n| column | type | |\n|---|---|---|")
        parts += [f"| `{c.name}` | {str(c.type).lower()} | {c.comment} |" for c in table.columns]
        parts.append("")
    return "\n".join(parts)
