"""Limits proposed from many units: rows of a limit table for all their single numbers, and what masks are proposed with
as well."""

from __future__ import annotations

import csv
import datetime
import io
import json
import math
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING

from ibexite import units as quantities
from ibexite.decision_rules import COVERAGE
from ibexite.errors import MistakeError
from ibexite.records.lookup import Lookup
from ibexite.records.many_runs import params_of, single_results
from ibexite.reports.of_units import ValuesOfUnits
from ibexite.station.limit_methods import Method
from ibexite.station.many_units import LEAST_UNITS, Units
from ibexite.units import Amount, Unit
from ibexite.untyped import Fields
from ibexite.values import Quantity, stored_type
from ibexite.wording import risk_text

if TYPE_CHECKING:
    pass

DIGITS = 3  # of the room between two limits that are written


@dataclass(frozen=True, slots=True)
class ProposedRow:
    """A row of a limit table; numbers in base units. `outliers` are the serial numbers of units like no other."""

    test: str
    name: str
    kind: Quantity
    n: int
    mean: float
    deviation: float
    low: float | None
    high: float | None
    outliers: list[str]
    values: list[float]


@dataclass(slots=True)
class ProposedTable:
    """Rows of a limit table."""

    rows: list[ProposedRow]
    passing: int  # units that lie within all of them
    units: int
    variant: str  # of all units
    without_name: list[str] = field(default_factory=list)  # checks of formulas: a table has limits for names
    lacking: dict[str, int] = field(default_factory=dict)  # units that lack values, and how many: they do not pass
    too_few: list[str] = field(default_factory=list)  # values that too few units have, with how many do

    @property
    def outliers(self) -> dict[str, list[str]]:
        """The units that are like no other, with the names of the values."""
        found: dict[str, list[str]] = {}
        for row in self.rows:
            for serial in row.outliers:
                found.setdefault(serial, []).append(f"{row.test}.{row.name}")
        return found


def proposed_table(
    lookup: Lookup, units: Units, method: Method, *, ignoring: Mapping[str, Collection[str]] | None = None
) -> ProposedTable:
    """Limits for every single number that a check judged.

    Args:
        ignoring: units, and of which of their values ("test.name") the limits are made without; they count for the
            expected yield all the same.

    Raises:
        MistakeError: there are fewer than LEAST_UNITS units, or no such numbers.
    """
    need_units(units)
    of_values: dict[tuple[str, str], dict[str, Fields]] = {}
    without_name: dict[str, None] = {}
    for row in single_results(lookup, units.ids):
        test = row["test"].partition(" [")[0]
        if row["subject"]:
            of_values.setdefault((test, row["subject"]), {})[row["run"] + row["test"]] = row
        else:
            without_name[f"{test}: {row['label']}"] = None
    if not of_values:
        raise MistakeError("no check of these runs judged a single number", remedy="Name a curve: --curve test.name")
    too_few = _take_out_what_few_have(of_values, units, ignoring or {})
    if not of_values:
        raise MistakeError(
            f"no value was measured of {LEAST_UNITS} units: {', '.join(too_few)}", remedy="It takes more units."
        )
    rows = [_proposed_row(key, list(found.values()), units, method, ignoring or {}) for key, found in of_values.items()]
    size = len(units.runs[0].id)
    good = {run: [0, 0] for run in units.ids}  # of each run how many values lie within, and how many there are
    for limits, found in zip(rows, of_values.values(), strict=True):
        for run, one in found.items():
            good[run[:size]][0] += _is_within(one["value"], limits)
            good[run[:size]][1] += 1
    whole = max(count for _, count in good.values())
    lacking = {units.serials[run]: whole - count for run, (_, count) in good.items() if count < whole}
    passing = sum(inside == whole for inside, _ in good.values())
    variant = _common_variant(lookup, units)
    return ProposedTable(rows, passing, len(units.runs), variant, list(without_name), lacking, too_few)


def _take_out_what_few_have(
    of_values: dict[tuple[str, str], dict[str, Fields]], units: Units, ignoring: Mapping[str, Collection[str]]
) -> list[str]:
    """Takes out the values that fewer than LEAST_UNITS units have; their names, with how many do."""
    size, told = len(units.runs[0].id), []
    for key, found in list(of_values.items()):
        name = ".".join(key)
        having = {units.serials[run[:size]] for run in found}
        count = sum(name not in ignoring.get(serial, ()) for serial in having)
        if count < LEAST_UNITS:
            del of_values[key]
            told.append(f"{name} ({count})")
    return told


def need_units(units: Units) -> None:
    if len(units.runs) < LEAST_UNITS:
        raise MistakeError(
            f"{len(units.runs)} unit{'s are' if len(units.runs) > 1 else ' is'} too few to propose limits from",
            remedy=f"It takes {LEAST_UNITS} at least; forty are better.",
        )  # fmt: skip


def _is_within(value: float, row: ProposedRow) -> bool:
    return (row.low is None or value >= row.low) and (row.high is None or value <= row.high)


def _proposed_row(
    key: tuple[str, str], found: list[Fields], units: Units, method: Method, ignoring: Mapping[str, Collection[str]]
) -> ProposedRow:
    import numpy as np

    from ibexite.analysis.many_units import outlying

    kind = stored_type(found[0])
    assert isinstance(kind, Quantity)
    refuse_tolerance(method, kind)
    size, name = len(units.runs[0].id), ".".join(key)
    serials = [units.serials[row["run"][:size]] for row in found]
    values = np.array([[row["value"]] for row in found])
    counts = np.array([name not in ignoring.get(serial, ()) for serial in serials])
    spread, proposal = method.limits(values[counts])
    low, high = float(proposal.low[0]), float(proposal.high[0])
    has = {side: any(row[side] is not None for row in found) for side in ("low", "high")}
    both = not has["low"] and not has["high"]  # nobody had set any
    unit = quantities.unit_for(low, high, dimension=kind.dimension, shown=kind.shown)
    return ProposedRow(
        *key, kind, int(counts.sum()), float(spread.mean[0]), float(spread.deviation[0]),
        rounded_outwards(low, low, high, unit, -1) if has["low"] or both else None,
        rounded_outwards(high, low, high, unit, 1) if has["high"] or both else None,
        [serials[i] for i in outlying(values)], values[:, 0].tolist(),
    )  # fmt: skip


def refuse_tolerance(method: Method, kind: Quantity) -> None:
    wanted = quantities.difference(kind.dimension)
    if method.dimension is not None and method.dimension != wanted:
        raise MistakeError(
            f"a tolerance in {quantities.describe(method.dimension)} for {quantities.describe(kind.dimension)}",
            where="--tolerance", remedy=f"Write it in {quantities.symbol_of(wanted)}; name a curve or tests it is for.",
        )  # fmt: skip


def rounded_outwards(limit: float, low: float, high: float, unit: Unit, side: int) -> float:
    """A limit with few digits in its unit, rounded outwards."""
    room = (high - low) / float(unit.factor)
    if not room > 0 or not math.isfinite(room):
        return limit
    step = 10.0 ** (math.floor(math.log10(room)) - DIGITS + 1)
    number = unit.from_base(limit) / step
    whole = (math.ceil(number - 1e-9) if side > 0 else math.floor(number + 1e-9)) * step
    return float(unit.to_base(Decimal(f"{whole:.12g}")))


def table_text(table: ProposedTable, units: Units, method: Method) -> str:
    """The limit table as CSV; nobody has approved it."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["test", "name", "variant", "low", "high", "unit", "source", "approved"])
    for row in table.rows:
        ends = [x for x in (row.low, row.high) if x is not None]
        unit = quantities.unit_for(*ends, dimension=row.kind.dimension, shown=row.kind.shown)
        cells = ["" if x is None else f"{unit.from_base(x):.12g}" for x in (row.low, row.high)]
        writer.writerow([row.test, row.name, table.variant, *cells, unit.symbol, told_source(units, method, row.n), ""])
    return out.getvalue()


def told_source(units: Units, method: Method, count: int) -> str:
    """Where proposed limits come from, in words."""
    lots = sorted({run.lot for run in units.runs} - {""})
    where = f" of lot {', '.join(lots)}" if lots else ""
    today = datetime.date.today().isoformat()
    return f"proposed from {count} units{where}, {method.told}, {today}"


def _common_variant(lookup: Lookup, units: Units) -> str:
    told = map(json.loads, params_of(lookup, units.ids))
    found = {next((p["value"] for p in params if p["name"] == "variant"), "") for params in told}
    if len(found) > 1:
        raise MistakeError(
            f"units of several variants: {', '.join(sorted(found))}", remedy="Propose limits for each by itself."
        )
    return found.pop()


# --- in words and pictures -------------------------------------------------------------------------------------------


def yield_said(passing: int, count: int) -> str:
    """An expected yield with its confidence interval.

    >>> yield_said(38, 40)
    '95 % (38 of 40 units; 95 % confidence: 83.1 to 99.4 %, Clopper-Pearson)'
    """
    from ibexite.analysis.proportions import confidence_interval

    low, high = confidence_interval(passing, count)
    told = f"{passing} of {count} units; 95 % confidence: {100 * low:.1f} to {100 * high:.1f} %, Clopper-Pearson"
    return f"{100 * passing / count:.3g} % ({told})"


def row_said(row: ProposedRow) -> str:
    """A row in words: the limits, and what they were made from."""
    ends = [x for x in (row.low, row.high) if x is not None]
    unit = quantities.unit_for(*ends, row.mean, dimension=row.kind.dimension, shown=row.kind.shown)
    low, high, mean = (None if x is None else quantities.plain_number(unit.from_base(x), 6)
                       for x in (row.low, row.high, row.mean))  # fmt: skip
    limits = f"{low} to {high}" if low and high else f">= {low}" if low else f"<= {high}"
    sigma = quantities.plain_number(row.deviation / float(unit.factor), 3)
    return f"{limits} {unit.symbol}".rstrip() + f"   mean {mean}, sigma {sigma}, n = {row.n}"


def risks_said(row: ProposedRow, uncertainty: Amount) -> str:
    """How many units of a production like those that were measured are judged wrongly by the limits of a row, in words;
    "" where the uncertainty is one of something else.

    Args:
        uncertainty: of the measurement, expanded (k = 2). What the units themselves spread is what it leaves of the
            spread that was measured.
    """
    from ibexite.analysis.risk import global_risks

    if quantities.difference(row.kind.dimension) != uncertainty.dimension:
        return ""
    u = float(uncertainty) / COVERAGE
    variance = row.deviation**2 - u**2
    if not variance > 0:
        return "they spread no more than the uncertainty: nothing is known of the units themselves"
    low, high = (-math.inf if row.low is None else row.low), (math.inf if row.high is None else row.high)
    found = global_risks(row.mean, math.sqrt(variance), u, low, high, accept_low=low, accept_high=high)
    return (
        f"accepted although beyond its limits: {risk_text(found.false_accept)} of all units, "
        f"rejected although within: {risk_text(found.false_reject)} (JCGM 106:2012, 9.5)"
    )


def values_picture(table: ProposedTable, units: Units, method: Method) -> ValuesOfUnits:
    """The picture of a table."""
    rows = tuple((f"{row.test}.{row.name}", row.kind, row.values, row.low, row.high) for row in table.rows)
    told = f"{table.units} units, {method.told}; expected yield {yield_said(table.passing, table.units)}"
    return ValuesOfUnits(f"{units.product}: proposed limits", rows, told)
