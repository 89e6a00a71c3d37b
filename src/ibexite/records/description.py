"""The tables of the store, described once, with SQLAlchemy Core. Documented and stable: people write SQL against them.

`make tables` makes tables.json of it, which is shipped: what a store of one file needs. It is read by
ibexite.records.schema without SQLAlchemy, which takes half a second to load. A database of another kind can be made
from the description itself. A whole number of 0 or 1 stands for no or yes.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import sqlite
from sqlalchemy.schema import CreateColumn, CreateIndex, CreateTable

VERSION = 12  # an older store gets the columns it lacks and goes through named steps, a newer one is refused
METADATA = sa.MetaData()
TEXT, WHOLE, BYTES = sa.Text(), sa.Integer(), sa.LargeBinary()
REAL: sa.Double[float] = sa.Double()


def _column(
    name: str, kind: sa.types.TypeEngine[Any], comment: str, *, key: bool = False, of: str = "",
    default: str | None = None, may_lack: bool = False,
) -> sa.Column[Any]:  # fmt: skip
    """A column. key: it numbers the rows; of: it refers to "table.column"; may_lack: there may be no value."""
    link = [sa.ForeignKey(of)] if of else []
    given = sa.text(default) if default is not None and kind is not TEXT else default
    return sa.Column(name, kind, *link, primary_key=key, nullable=may_lack, comment=comment, server_default=given)


def _table(
    name: str, comment: str, *columns: sa.Column[Any], indexes: tuple[tuple[str, ...], ...] = (),
    unique: tuple[tuple[str, ...], ...] = (),
) -> sa.Table:  # fmt: skip
    """A table with its indexes (`unique` ones forbid the same values twice)."""
    table = sa.Table(name, METADATA, *columns, comment=comment)
    for are_unique, indexed in ((False, indexes), (True, unique)):
        for names in indexed:
            sa.Index(f"{name}_by_{'_'.join(names)}", *(table.c[each] for each in names), unique=are_unique)
    return table


_table(
    "units",
    "each unit that was tested",
    _column("id", WHOLE, "number of the row", key=True),
    _column("serial", TEXT, "serial number"),
    _column("product", TEXT, "product of the sequence"),
    unique=(("serial", "product"),),
)

_table(
    "runs",
    "each run of a sequence for a unit",
    _column("id", TEXT, "run id: UTC time and a random part", key=True),
    _column("unit_id", WHOLE, "the unit", of="units.id"),
    _column("number", WHOLE, "counts the runs of this folder as they started", default="0"),
    _column("started", TEXT, "wall time in UTC, ISO 8601"),
    _column("utc_offset", TEXT, "what the local time was ahead of UTC, as +02:00", default=""),
    _column("duration", REAL, "s"),
    _column("verdict", TEXT, "pass, fail, error, aborted, no check (a measurement)"),
    _column("is_trial", WHOLE, "1: a pass does not count"),
    _column("trial_reasons", TEXT, "why, one a line"),
    _column("trial", TEXT, "JSON: code, text, run (empty: this one) of each reason", default="[]"),
    _column("reason", TEXT, "why the run ended so, where no test says it"),
    _column("reason_code", TEXT, "the code of that, see verdicts.md", default=""),
    _column("broken_off", WHOLE, "1: the process died; found and stored later"),
    _column("is_safe", WHOLE, "1: all outputs were off and said so at the end"),
    _column("operator", TEXT, "who ran it"),
    _column("station", TEXT, "name of the computer"),
    _column("software", TEXT, "version of Ibexite"),
    _column("sequence", TEXT, "title of the sequence"),
    _column("revision", TEXT, "revision of the sequence"),
    _column("sequence_file", TEXT, "its file"),
    _column("sequence_sha256", TEXT, "hash of the file as it ran"),
    _column("bench", TEXT, "name of the bench"),
    _column("bench_sha256", TEXT, "hash of the bench file as it ran"),
    _column("position", TEXT, "position of the product on the bench, empty where it has one only", default=""),
    _column("params", TEXT, "JSON: name, value, help, by_hand"),
    _column("instruments", TEXT, "JSON: name, identity, address, profile, calibration"),
    _column("signals", TEXT, "JSON: name, where it is read, unit, conversion, accuracy, calibration", default="[]"),
    _column("lot", TEXT, "lot, empty if none was named", default=""),
    _column("files", TEXT, "JSON: name, sha256, version of other files taking part", default="[]"),
    _column("retest_of", TEXT, "the run that this one completes; empty for a first run", default=""),
    _column("first_run", TEXT, "the first of all that are completed; empty likewise", default=""),
    _column("first_verdict", TEXT, "its verdict: the first pass", default=""),
    _column("remarks", TEXT, "JSON: texts shown, answers, problems, in order"),
    indexes=(("unit_id",), ("started",)),
)

_table(
    "tests",
    "each test of a run, also those that were skipped, and the blocks around them that gave values",
    _column("id", WHOLE, "number of the row", key=True),
    _column("run_id", TEXT, "the run", of="runs.id"),
    _column("position", WHOLE, "place in the sequence, from 0"),
    _column("kind", TEXT, "test, or block: before unit and the like, not counted as a test", default="test"),
    _column("name", TEXT, "name in the sequence"),
    _column("title", TEXT, "title in the sequence"),
    _column("is_gate", WHOLE, "1: the tests behind it were skipped unless it passed"),
    _column("verdict", TEXT, "pass, fail, error, skipped, aborted or no check"),
    _column("reason", TEXT, "why, where the results do not say it"),
    _column("reason_code", TEXT, "the code of that, also of a skip, see verdicts.md", default=""),
    _column("duration", REAL, "s"),
    _column("tags", TEXT, "tags, with commas", default=""),
    _column("has_failed", WHOLE, "1: a check failed on valid readings, whatever the verdict", default="0"),
    _column("run", TEXT, "in a retest: the run that it was taken over from, with its values", default=""),
    indexes=(("run_id",),),
)

_table(
    "results",
    "one row for each check line of a test: its worst point",
    _column("id", WHOLE, "number of the row", key=True),
    _column("test_id", WHOLE, "the test", of="tests.id"),
    _column("line", WHOLE, "line of the sequence"),
    _column("label", TEXT, "label, else the name that was judged"),
    _column("subject", TEXT, "the name that was judged; empty for a formula"),
    _column("criterion", TEXT, "the check line"),
    _column("unit", TEXT, "base unit of the numbers (temperatures in K)"),
    _column("shown", TEXT, "unit in which people see them; empty: a suitable prefix"),
    _column("value", REAL, "the value with the least margin; null if there was none", may_lack=True),
    _column("low", REAL, "lower limit there; null if there is none", may_lack=True),
    _column("high", REAL, "upper limit there; null if there is none", may_lack=True),
    _column("margin", REAL, "distance to the nearer limit; negative beyond it", may_lack=True),
    _column("percent", REAL, "margin in % of half the tolerance; one-sided: of the limit", may_lack=True),
    _column("at", TEXT, "JSON: axis values of that point"),
    _column("axes", TEXT, "JSON: name, unit, shown of each axis"),
    _column("extent", TEXT, "JSON: least and largest judged value of each axis"),
    _column("failing", TEXT, "JSON: axis values of the points that failed (the first 500)"),
    _column("judged", WHOLE, "number of points judged"),
    _column("failed", WHOLE, "of them beyond a limit"),
    _column("bad", WHOLE, "of them without a usable value"),
    _column("verdict", TEXT, "pass, fail or error"),
    _column("reason", TEXT, "why, if not by the numbers"),
    _column("reason_code", TEXT, "the code of that, see verdicts.md", default=""),
    _column("kind", TEXT, "quantity, yes_no, text, table, connections or picture", default="quantity"),
    _column("said", TEXT, "a value that is no number: yes, no, a text, a bound", default=""),
    _column("demand", TEXT, "what was demanded of it", default=""),
    _column("guard", REAL, "the limits stand so much inside those that were written", default="0"),
    _column("rule", TEXT, "the decision rule, where there is a guard", default=""),
    _column("origin", TEXT, "file and row, for limits from a limit table", default=""),
    _column("limits", TEXT, "JSON: axis values, low, high of each point, if they vary", default="[]"),
    _column("n", TEXT, 'of how many values it was made, "14 of 15"; empty: of one', default=""),
    _column("differences", TEXT, "JSON: kind and words of each difference, of what was to be the same", default="[]"),
    _column("uncertainty", REAL, "of the value: its expanded uncertainty (k = 2), or its accuracy", default="0"),
    _column(
        "risk", REAL, "probability that the verdict is wrong, or an undecided value beyond its limit", may_lack=True
    ),
    _column("moved", TEXT, "by how much the limits were moved onto what was judged, in words", default=""),
    indexes=(("test_id",), ("label", "value")),
)

_table(
    "curves",
    "all values, judged or not: columns of sweeps, computed curves, single values",
    _column("id", WHOLE, "number of the row", key=True),
    _column("test_id", WHOLE, "the test", of="tests.id"),
    _column("grid", WHOLE, "columns of one grid belong together, row by row"),
    _column("position", WHOLE, "place within the grid, axes first"),
    _column("name", TEXT, "name in the sequence"),
    _column("origin", TEXT, "sweep (an axis), read or let"),
    _column("unit", TEXT, "base unit (temperatures in K)"),
    _column("shown", TEXT, "unit in which people see it; empty: a suitable prefix"),
    _column("length", WHOLE, "number of values; 1 and no axes for a single value"),
    _column(
        "kind",
        TEXT,
        "quantity; yes_no: 1 for yes; text and others: labels holds them",
        default="quantity",
    ),
    _column("labels", TEXT, "JSON: the texts that the values number; empty for numbers", default=""),
    _column("n", TEXT, 'of a statistic: of how many values it was made, "14 of 15"', default=""),
    _column("bound", TEXT, 'where no more is known: "below 4 V"; of a column, row by row', default=""),
    _column("data", BYTES, "float64, little-endian; NaN for a hole; empty if elsewhere"),
    _column("start", REAL, "of an axis with even steps the first point (data is empty)", may_lack=True),
    _column("step", REAL, "and its step", may_lack=True),
    _column("side", TEXT, "file of folder curves with the values; empty: data has them", default=""),
    _column("side_begin", WHOLE, "number of the first value in it", default="0"),
    _column("side_channel", TEXT, "of a recording the channel: the file is one of folder streams", default=""),
    _column("place", TEXT, "JSON: of what came in one turn of loops their axes, and at: where", default=""),
    indexes=(("test_id",),),
)

_table(
    "conditions",
    "under which conditions values of a test came to be: settings, ranges, parameters",
    _column("id", WHOLE, "number of the row", key=True),
    _column("test_id", WHOLE, "the test", of="tests.id"),
    _column("names", TEXT, "JSON: names of readings, and of what is computed from them"),
    _column("conditions", TEXT, "JSON: what each was, in words; of what changed the least and the greatest"),
    indexes=(("test_id",),),
)

_table(
    "bad_readings",
    "readings that stayed bad after all tries",
    _column("id", WHOLE, "number of the row", key=True),
    _column("test_id", WHOLE, "the test", of="tests.id"),
    _column("name", TEXT, "name in the sequence"),
    _column("at", TEXT, "JSON: axis values"),
    _column("reason", TEXT, "why it was not used"),
    _column("reason_code", TEXT, "the code of that, see verdicts.md", default=""),
    _column("raw", TEXT, "what the instrument replied"),
    indexes=(("test_id",),),
)

_table(
    "figures",
    "figures asked for by plot lines",
    _column("id", WHOLE, "number of the row", key=True),
    _column("test_id", WHOLE, "the test", of="tests.id"),
    _column("ys", TEXT, "JSON: names of the curves"),
    _column("x", TEXT, "axis to draw them against"),
    _column("by", TEXT, "axis of the family; empty if none"),
    _column("title", TEXT, "title, may be empty"),
    _column("spans", TEXT, "JSON: stretches of x that are marked: name, begin and end", default="[]"),
    indexes=(("test_id",),),
)

_table(
    "calls",
    "programs and measurements outside the language that were called",
    _column("id", WHOLE, "number of the row", key=True),
    _column("test_id", WHOLE, "the test", of="tests.id"),
    _column("program", TEXT, "name of the program or measurement"),
    _column("given", TEXT, "JSON: what went in, by name, in base units"),
    _column("gave", TEXT, "JSON: what came out; of what has many values, how many"),
    _column("duration", REAL, "how long it took, in s"),
    indexes=(("test_id",),),
)

_table(
    "second_verdicts",
    "verdicts of runs that were judged again and kept; that of the run itself stays",
    _column("id", WHOLE, "number of the row", key=True),
    _column("run_id", TEXT, "the run", of="runs.id"),
    _column("judged", TEXT, "wall time in UTC, ISO 8601"),
    _column("operator", TEXT, "who judged it"),
    _column("software", TEXT, "version of Ibexite"),
    _column("verdict", TEXT, "pass, fail, error or aborted"),
    _column("is_trial", WHOLE, "1: a pass does not count"),
    _column("trial", TEXT, "JSON: code, text, run of each reason"),
    _column("guard", TEXT, "the uncertainty that was given to all checks of its unit; empty if none", default=""),
    _column("files", TEXT, "JSON: name and sha256 of each file that was judged by"),
    _column("changes", TEXT, "JSON: test, check, old and new of each check that was judged otherwise"),
    indexes=(("run_id",),),
)

_table(
    "files",
    "files that were attached to a run",
    _column("id", WHOLE, "number of the row", key=True),
    _column("run_id", TEXT, "the run", of="runs.id"),
    _column("test", TEXT, "name of the test"),
    _column("name", TEXT, "name of the file"),
    _column("path", TEXT, "where its copy is kept, in the folder of the records"),
    _column("sha256", TEXT, "its hash"),
    _column("size", WHOLE, "bytes"),
    indexes=(("run_id",),),
)

_table(
    "relays",
    "how often relays of routes closed in a run; with those closed by hand (relays_by_hand.jsonl) the wear of a switch",
    _column("id", WHOLE, "number of the row", key=True),
    _column("run_id", TEXT, "the run", of="runs.id"),
    _column("instrument", TEXT, "its name in the bench file"),
    _column("identity", TEXT, "who it said it is"),
    _column("channel", WHOLE, "channel of the relay"),
    _column("closed", WHOLE, "how often it closed"),
    indexes=(("run_id",), ("identity", "channel")),
)

_table(
    "traffic",
    "what was said last to each instrument, of runs that ended in an error, were aborted or broke off",
    _column("id", WHOLE, "number of the row", key=True),
    _column("run_id", TEXT, "the run", of="runs.id"),
    _column("instrument", TEXT, "its name in the bench file"),
    _column("t", REAL, "when, in s since the run began"),
    _column("direction", TEXT, "> to it, < from it, ! about its link"),
    _column("message", TEXT, "the bytes, each as one character (Latin-1)"),
    indexes=(("run_id",),),
)


def as_data() -> dict[str, Any]:
    """The description as plain data, with the statements that make each table in a SQLite file."""
    dialect = sqlite.dialect()

    def text(statement: Any) -> str:
        return " ".join(str(statement.compile(dialect=dialect)).split())

    tables = []
    for table in METADATA.tables.values():
        indexes = sorted(table.indexes, key=lambda index: str(index.name))
        columns = [
            {
                "name": c.name,
                "type": text(CreateColumn(c)).removeprefix(c.name + " "),
                "comment": c.comment,
                "part": "primary key" if c.primary_key else "".join(f"is {k.target_fullname}" for k in c.foreign_keys),
                "is_number": c.primary_key and isinstance(c.type, sa.Integer),
            }
            for c in table.columns
        ]
        statements = [CreateTable(table, if_not_exists=True), *(CreateIndex(i, if_not_exists=True) for i in indexes)]
        tables.append({"name": table.name, "comment": table.comment, "columns": columns,
                       "create": list(map(text, statements))})  # fmt: skip
    return {"version": VERSION, "tables": tables}


def main() -> None:
    """Writes tables.json."""
    path = Path(__file__).with_name("tables.json")
    path.write_text(json.dumps(as_data(), indent=1, ensure_ascii=False) + "\n")


if __name__ == "__main__":
    main()
