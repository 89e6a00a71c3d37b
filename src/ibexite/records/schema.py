"""The tables of the store, as plain data. Documented and stable: people write SQL against them.

docs/data-model.md is made from this. Types are those of SQLite; a whole number of 0 or 1 stands for no or yes.
"""

from __future__ import annotations

from dataclasses import dataclass

APPLICATION_ID = 0x49424558  # "IBEX", in the header of the SQLite file
VERSION = 5  # of the tables; an older store gets the columns it lacks, a newer one is refused


@dataclass(frozen=True, slots=True)
class Column:
    """A column: its SQL type with constraints, and what it holds."""

    name: str
    type: str
    comment: str


@dataclass(frozen=True, slots=True)
class Table:
    """A table with its columns and indexes (lists of columns; `unique` ones forbid the same values twice)."""

    name: str
    comment: str
    columns: tuple[Column, ...]
    indexes: tuple[tuple[str, ...], ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()

    def create(self) -> list[str]:
        """The SQL statements that make the table and its indexes, if they are not there."""
        columns = ", ".join(f"{c.name} {c.type}" for c in self.columns)
        made = [f"CREATE TABLE IF NOT EXISTS {self.name} ({columns})"]
        for word, indexes in (("UNIQUE INDEX", self.unique), ("INDEX", self.indexes)):
            for index in indexes:
                name = f"{self.name}_by_{'_'.join(index)}"
                made.append(f"CREATE {word} IF NOT EXISTS {name} ON {self.name} ({', '.join(index)})")
        return made

    def insert(self) -> str:
        """The SQL statement that inserts a row from a dictionary; the row number is given by the database."""
        names = [c.name for c in self.columns if c.type != ROW_NUMBER]
        return f"INSERT INTO {self.name} ({', '.join(names)}) VALUES ({', '.join(':' + name for name in names)})"


ROW_NUMBER = "INTEGER PRIMARY KEY"


def _table(name: str, comment: str, columns: str, *indexes: str, unique: str = "") -> Table:
    """A table from lines of `name | type | comment`."""
    parts = [[cell.strip() for cell in line.split("|")] for line in columns.strip().splitlines()]
    return Table(
        name,
        comment,
        tuple(Column(*part) for part in parts),
        tuple(tuple(index.split()) for index in indexes),
        (tuple(unique.split()),) if unique else (),
    )


TABLES = (
    _table(
        "units",
        "each unit that was tested",
        """
        id      | INTEGER PRIMARY KEY | number of the row
        serial  | TEXT NOT NULL       | serial number
        product | TEXT NOT NULL       | product of the sequence
        """,
        unique="serial product",
    ),
    _table(
        "runs",
        "each run of a sequence for a unit",
        """
        id              | TEXT PRIMARY KEY                      | run id: UTC time and a random part
        unit_id         | INTEGER NOT NULL REFERENCES units(id) | the unit
        number          | INTEGER NOT NULL DEFAULT 0            | counts the runs of this folder as they started
        started         | TEXT NOT NULL                         | wall time in UTC, ISO 8601
        utc_offset      | TEXT NOT NULL DEFAULT ''              | what the local time was ahead of UTC, as +02:00
        duration        | REAL NOT NULL                         | s
        verdict         | TEXT NOT NULL                         | pass, fail, error, aborted, no check (a measurement)
        is_trial        | INTEGER NOT NULL                      | 1: a pass does not count
        trial_reasons   | TEXT NOT NULL                         | why, one a line
        trial           | TEXT NOT NULL DEFAULT '[]'            | JSON: code, text, run (empty: this one) of each reason
        reason          | TEXT NOT NULL                         | why the run ended so, where no test says it
        reason_code     | TEXT NOT NULL DEFAULT ''              | the code of that, see verdicts.md
        broken_off      | INTEGER NOT NULL                      | 1: the process died; found and stored later
        is_safe         | INTEGER NOT NULL                      | 1: all outputs were off and said so at the end
        operator        | TEXT NOT NULL                         | who ran it
        station         | TEXT NOT NULL                         | name of the computer
        software        | TEXT NOT NULL                         | version of Ibexite
        sequence        | TEXT NOT NULL                         | title of the sequence
        revision        | TEXT NOT NULL                         | revision of the sequence
        sequence_file   | TEXT NOT NULL                         | its file
        sequence_sha256 | TEXT NOT NULL                         | hash of the file as it ran
        bench           | TEXT NOT NULL                         | name of the bench
        bench_sha256    | TEXT NOT NULL                         | hash of the bench file as it ran
        params          | TEXT NOT NULL                         | JSON: name, value, help, by_hand
        instruments     | TEXT NOT NULL                         | JSON: name, identity, address, profile, calibration
        lot             | TEXT NOT NULL DEFAULT ''              | lot, empty if none was named
        files           | TEXT NOT NULL DEFAULT '[]'            | JSON: name, sha256, version of other files taking part
        retest_of       | TEXT NOT NULL DEFAULT ''              | the run that this one completes; empty for a first run
        first_run       | TEXT NOT NULL DEFAULT ''              | the first of all that are completed; empty likewise
        first_verdict   | TEXT NOT NULL DEFAULT ''              | its verdict: the first pass
        remarks         | TEXT NOT NULL                         | JSON: texts shown, answers, problems, in order
        """,
        "unit_id",
        "started",
    ),
    _table(
        "tests",
        "each test of a run, also those that were skipped, and the blocks around them that gave values",
        """
        id       | INTEGER PRIMARY KEY               | number of the row
        run_id   | TEXT NOT NULL REFERENCES runs(id) | the run
        position | INTEGER NOT NULL                  | place in the sequence, from 0
        kind     | TEXT NOT NULL DEFAULT 'test'      | test, or block: before unit and the like, not counted as a test
        name     | TEXT NOT NULL                     | name in the sequence
        title    | TEXT NOT NULL                     | title in the sequence
        is_gate  | INTEGER NOT NULL                  | 1: the tests behind it were skipped unless it passed
        verdict  | TEXT NOT NULL                     | pass, fail, error, skipped, aborted or no check
        reason   | TEXT NOT NULL                     | why, where the results do not say it
        reason_code | TEXT NOT NULL DEFAULT ''       | the code of that, also of a skip, see verdicts.md
        duration | REAL NOT NULL                     | s
        tags     | TEXT NOT NULL DEFAULT ''          | tags, with commas
        has_failed | INTEGER NOT NULL DEFAULT 0      | 1: a check failed on valid readings, whatever the verdict
        run      | TEXT NOT NULL DEFAULT ''          | in a retest: the run that it was taken over from, with its values
        """,
        "run_id",
    ),
    _table(
        "results",
        "one row for each check line of a test: its worst point",
        """
        id        | INTEGER PRIMARY KEY                   | number of the row
        test_id   | INTEGER NOT NULL REFERENCES tests(id) | the test
        line      | INTEGER NOT NULL                      | line of the sequence
        label     | TEXT NOT NULL                         | label, else the name that was judged
        subject   | TEXT NOT NULL                         | the name that was judged; empty for a formula
        criterion | TEXT NOT NULL                         | the check line
        unit      | TEXT NOT NULL                         | base unit of the numbers (temperatures in K)
        shown     | TEXT NOT NULL                         | unit in which people see them; empty: a suitable prefix
        value     | REAL                                  | the value with the least margin; null if there was none
        low       | REAL                                  | lower limit there; null if there is none
        high      | REAL                                  | upper limit there; null if there is none
        margin    | REAL                                  | distance to the nearer limit; negative beyond it
        percent   | REAL                                  | margin in % of half the tolerance; one-sided: of the limit
        at        | TEXT NOT NULL                         | JSON: axis values of that point
        axes      | TEXT NOT NULL                         | JSON: name, unit, shown of each axis
        extent    | TEXT NOT NULL                         | JSON: least and largest judged value of each axis
        failing   | TEXT NOT NULL                         | JSON: axis values of the points that failed (the first 500)
        judged    | INTEGER NOT NULL                      | number of points judged
        failed    | INTEGER NOT NULL                      | of them beyond a limit
        bad       | INTEGER NOT NULL                      | of them without a usable value
        verdict   | TEXT NOT NULL                         | pass, fail or error
        reason    | TEXT NOT NULL                         | why, if not by the numbers
        reason_code | TEXT NOT NULL DEFAULT ''            | the code of that, see verdicts.md
        kind      | TEXT NOT NULL DEFAULT 'quantity'      | quantity, yes_no or text
        said      | TEXT NOT NULL DEFAULT ''              | a value that is no number: yes, no, a text, a bound
        demand    | TEXT NOT NULL DEFAULT ''              | what was demanded of it
        guard     | REAL NOT NULL DEFAULT 0               | the limits stand so much inside those that were written
        rule      | TEXT NOT NULL DEFAULT ''              | the decision rule, where there is a guard
        origin    | TEXT NOT NULL DEFAULT ''              | file and row, for limits from a limit table
        limits    | TEXT NOT NULL DEFAULT '[]'            | JSON: axis values, low, high of each point, if they vary
        n         | TEXT NOT NULL DEFAULT ''              | of how many values it was made, "14 of 15"; empty: of one
        """,
        "test_id",
        "label value",
    ),
    _table(
        "curves",
        "all values, judged or not: columns of sweeps, computed curves, single values",
        """
        id       | INTEGER PRIMARY KEY                   | number of the row
        test_id  | INTEGER NOT NULL REFERENCES tests(id) | the test
        grid     | INTEGER NOT NULL                      | columns of one grid belong together, row by row
        position | INTEGER NOT NULL                      | place within the grid, axes first
        name     | TEXT NOT NULL                         | name in the sequence
        origin   | TEXT NOT NULL                         | sweep (an axis), read or let
        unit     | TEXT NOT NULL                         | base unit (temperatures in K)
        shown    | TEXT NOT NULL                         | unit in which people see it; empty: a suitable prefix
        length   | INTEGER NOT NULL                      | number of values; 1 and no axes for a single value
        kind     | TEXT NOT NULL DEFAULT 'quantity'      | quantity; yes_no: 1 for yes; text: labels holds them
        labels   | TEXT NOT NULL DEFAULT ''              | JSON: the texts that the values number; empty for numbers
        n        | TEXT NOT NULL DEFAULT ''              | of a statistic: of how many values it was made, "14 of 15"
        bound    | TEXT NOT NULL DEFAULT ''              | where no more is known: "below 4 V"; of a column, row by row
        data     | BLOB NOT NULL                         | float64, little-endian; NaN for a hole; empty if elsewhere
        start    | REAL                                  | of an axis with even steps the first point (data is empty)
        step     | REAL                                  | and its step
        side     | TEXT NOT NULL DEFAULT ''              | file of folder curves with the values; empty: data has them
        side_begin | INTEGER NOT NULL DEFAULT 0          | number of the first value in it
        place    | TEXT NOT NULL DEFAULT ''              | JSON: of a curve read within loops their axes, and at: where
        """,
        "test_id",
    ),
    _table(
        "bad_readings",
        "readings that stayed bad after all tries",
        """
        id      | INTEGER PRIMARY KEY                   | number of the row
        test_id | INTEGER NOT NULL REFERENCES tests(id) | the test
        name    | TEXT NOT NULL                         | name in the sequence
        at      | TEXT NOT NULL                         | JSON: axis values
        reason  | TEXT NOT NULL                         | why it was not used
        reason_code | TEXT NOT NULL DEFAULT ''          | the code of that, see verdicts.md
        raw     | TEXT NOT NULL                         | what the instrument replied
        """,
        "test_id",
    ),
    _table(
        "figures",
        "figures asked for by plot lines",
        """
        id      | INTEGER PRIMARY KEY                   | number of the row
        test_id | INTEGER NOT NULL REFERENCES tests(id) | the test
        ys      | TEXT NOT NULL                         | JSON: names of the curves
        x       | TEXT NOT NULL                         | axis to draw them against
        by      | TEXT NOT NULL                         | axis of the family; empty if none
        title   | TEXT NOT NULL                         | title, may be empty
        """,
        "test_id",
    ),
    _table(
        "files",
        "files that were attached to a run",
        """
        id      | INTEGER PRIMARY KEY               | number of the row
        run_id  | TEXT NOT NULL REFERENCES runs(id) | the run
        test    | TEXT NOT NULL                     | name of the test
        name    | TEXT NOT NULL                     | name of the file
        path    | TEXT NOT NULL                     | where its copy is kept, in the folder of the records
        sha256  | TEXT NOT NULL                     | its hash
        size    | INTEGER NOT NULL                  | bytes
        """,
        "run_id",
    ),
)
BY_NAME = {table.name: table for table in TABLES}


def describe() -> str:
    """The tables as Markdown."""
    parts = []
    for table in TABLES:
        parts.append(f"### {table.name}\n\n{table.comment.capitalize()}.\n\n| column | type | |\n|---|---|---|")
        parts += [f"| `{c.name}` | {c.type.lower()} | {c.comment} |" for c in table.columns]
        parts.append("")
    return "\n".join(parts)
