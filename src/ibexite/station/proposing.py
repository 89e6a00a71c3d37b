"""Limits proposed from many units: rows of a limit table for all their single numbers, or a mask for a curve."""

from __future__ import annotations

import csv
import datetime
import io
import json
import math
from collections import Counter
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING, NamedTuple

from ibexite import units as quantities
from ibexite.errors import MistakeError
from ibexite.records.lookup import Lookup
from ibexite.records.many_runs import AlikeColumns, columns_of, params_of, single_results
from ibexite.station.limit_methods import Method
from ibexite.station.many_units import LEAST_UNITS, LeftOut, Units
from ibexite.units import Unit
from ibexite.untyped import Fields
from ibexite.values import Quantity, stored_type
from ibexite.wording import is_log_spaced

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array
    from ibexite.reports.spread_figure import CurvesOfUnits, ValuesOfUnits

NOTHING_MEASURED, NO_CURVE = "nothing of it was measured", "has no such curve"
DIGITS = 3  # of the room between two limits that are written
MOST_POINTS = 100_000


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
    _need_units(units)
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


def _need_units(units: Units) -> None:
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
    _refuse_tolerance(method, kind)
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
        _rounded(low, low, high, unit, -1) if has["low"] or both else None,
        _rounded(high, low, high, unit, 1) if has["high"] or both else None,
        [serials[i] for i in outlying(values)], values[:, 0].tolist(),
    )  # fmt: skip


def _refuse_tolerance(method: Method, kind: Quantity) -> None:
    wanted = quantities.difference(kind.dimension)
    if method.dimension is not None and method.dimension != wanted:
        raise MistakeError(
            f"a tolerance in {quantities.describe(method.dimension)} for {quantities.describe(kind.dimension)}",
            where="--tolerance", remedy=f"Write it in {quantities.symbol_of(wanted)}; name a curve or tests it is for.",
        )  # fmt: skip


def _rounded(limit: float, low: float, high: float, unit: Unit, side: int) -> float:
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


# --- curves ----------------------------------------------------------------------------------------------------------


@dataclass(slots=True)
class ProposedMask:
    """A mask for a curve, and what it was made from. Arrays: x of shape (points,), values of shape (units, points)."""

    test: str
    name: str
    axis: str
    axis_kind: Quantity
    kind: Quantity
    x: Array
    values: Array
    mean: Array
    low: Array
    high: Array
    runs: list[str]
    outliers: list[str]
    left_out: list[LeftOut]
    passing: int
    is_aligned: bool
    largest_move: float = 0.0

    @property
    def units(self) -> int:
        """How many units the expected yield is of: also those that have nothing, which do not pass."""
        return len(self.runs) + sum(one.why in (NOTHING_MEASURED, NO_CURVE) for one in self.left_out)


def proposed_mask(
    lookup: Lookup, units: Units, test: str, name: str, method: Method, *, is_aligned: bool, smooth: float = 0.0,
    ignoring: Collection[str] = (),
) -> ProposedMask:  # fmt: skip
    """A mask for a curve over one axis.

    Args:
        is_aligned: each curve is moved to the common level first; only the shape is limited.
        smooth: parts of an octave over which the lines are averaged; 0 for none.
        ignoring: units without which the limits are made; they count for the expected yield all the same.

    Raises:
        MistakeError: there is no such curve, it is over several axes, complex, a text; too few units.
    """
    import numpy as np

    from ibexite.analysis.many_units import aligned_levels, outlying, within
    from ibexite.analysis.shaping import smooth_octaves

    _need_units(units)
    found = _curves(lookup, units, test, name)
    _refuse_tolerance(method, found.kind)
    values, moves = found.values, np.zeros(len(found.values))
    if is_aligned:
        values, moves = aligned_levels(values)
    counts = np.array([units.serials[run] not in ignoring for run in found.runs])
    spread, proposal = method.limits(values if counts.all() else values[counts])
    low, high = proposal
    if smooth:
        low, high = (smooth_octaves(found.x, line, smooth) for line in (low, high))
    outliers = [units.serials[found.runs[i]] for i in outlying(found.values if not is_aligned else values)]
    passing = int(within(values, low, high).sum())
    return ProposedMask(
        test, name, found.axis, found.axis_kind, found.kind, found.x, values, spread.mean, low, high, found.runs,
        outliers, found.left_out, passing, is_aligned, float(np.abs(moves).max()),
    )  # fmt: skip


class _Curves(NamedTuple):
    axis: str
    axis_kind: Quantity
    kind: Quantity
    x: Array
    values: Array
    runs: list[str]
    left_out: list[LeftOut]


def _curves(lookup: Lookup, units: Units, test: str, name: str) -> _Curves:
    """The curves of all units that have the points of most of them."""
    import numpy as np

    first, kept, runs, others = _kept(lookup, units, test, name, None)
    more = Counter({kind: len(found) for kind, found in others.items()}).most_common(1)
    if more and more[0][1] > len(runs):  # those of the first unit are not those of most
        first, kept, runs, others = _kept(lookup, units, test, name, more[0][0])
    left_out = []
    for (said, points), found in others.items():
        apart = f"other points of {said[1]}" if points != first.points.tobytes() else "{} over {} in {}".format(*said)
        left_out += [LeftOut(units.serials[run], apart) for run in found]
    axis_kind, kind = stored_type(first.axis), stored_type(first.column)
    if not isinstance(axis_kind, Quantity) or not isinstance(kind, Quantity):
        raise MistakeError(f"{test}.{name} is no curve of numbers", remedy="Limits are proposed for numbers.")
    empty = [i for i in np.flatnonzero(np.isnan(kept[:, :1]).any(axis=1)) if np.isnan(kept[i]).all()]
    if empty:
        left_out += [LeftOut(units.serials[runs[i]], NOTHING_MEASURED) for i in empty]
        kept, runs = np.delete(kept, empty, axis=0), [run for i, run in enumerate(runs) if i not in set(empty)]
    if len(runs) < LEAST_UNITS:
        raise MistakeError(f"{len(runs)} curves are too few to propose limits from", remedy="It takes three at least.")
    has_one = {units.serials[run] for run in runs} | {one.serial for one in left_out}
    left_out += [LeftOut(serial, NO_CURVE) for serial in units.serials.values() if serial not in has_one]
    return _Curves(first.axis["name"], axis_kind, kind, first.points, kept, runs, left_out)


_Kind = tuple[tuple[str, str, str], bytes]  # the words for a curve and its axis, and the points of the axis


def _kept(
    lookup: Lookup, units: Units, test: str, name: str, wanted: _Kind | None
) -> tuple[AlikeColumns, Array, list[str], dict[_Kind, list[str]]]:
    """The curves of one kind (None: that of the first one): one of them, the values of all, shape (units, points), and
    their runs; and the runs of those of other kinds."""
    import numpy as np

    usual: AlikeColumns | None = None
    values: Array = np.empty((0, 0))
    runs: list[str] = []
    others: dict[_Kind, list[str]] = {}
    for group in columns_of(lookup, units.ids, test, name):
        kind = (group.column["unit"], group.axis["name"], group.axis["unit"]), group.points.tobytes()
        size = len(group.points)
        wanted = wanted or (kind if size else None)
        if kind != wanted:
            others.setdefault(kind, []).extend(group.runs)
            continue
        if usual is None:
            if size > MOST_POINTS:
                raise MistakeError(f"{test}.{name} has {size:,} points", remedy=f"At most {MOST_POINTS:,} are taken.")
            usual, values = group, np.empty((len(units.runs), size))
        end = len(runs) + len(group.runs)
        values[len(runs) : end] = np.frombuffer(b"".join(group.data), "<f8").reshape(-1, size)
        runs += group.runs
    if usual is None:
        raise MistakeError(f"no unit has a curve {test}.{name} over one axis", remedy="See ibexite show.")
    return usual, values[: len(runs)], runs, others


def mask_text(mask: ProposedMask, units: Units, method: Method) -> str:
    """The mask as CSV, with as many points as its lines need; nobody has approved it."""
    import numpy as np

    x_unit = quantities.unit_for(*mask.x, dimension=mask.axis_kind.dimension, shown=mask.axis_kind.shown)
    unit = quantities.unit_for(*mask.low, *mask.high, dimension=mask.kind.dimension, shown=mask.kind.shown)
    is_log = is_log_spaced(mask.x.tolist())
    order = np.argsort(mask.x, kind="stable")
    head = f"{'log ' if is_log else ''}{mask.axis} [{x_unit.symbol}]" if x_unit.symbol else mask.axis
    ends = [f"{side} [{unit.symbol}]" if unit.symbol else side for side in ("low", "high")]
    out = io.StringIO()
    out.write(f"# {mask.test}.{mask.name}, {told_source(units, method, len(mask.runs))}\n")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([head, *ends])
    for i in order:
        low, high = mask.low[i], mask.high[i]
        writer.writerow([f"{x_unit.from_base(float(mask.x[i])):.12g}",
                         *(f"{unit.from_base(_rounded(float(y), float(low), float(high), unit, side)):.12g}"
                           for y, side in ((low, -1), (high, 1)))])  # fmt: skip
    return out.getvalue()


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


def move_said(mask: ProposedMask) -> str:
    """By how much curves were moved to their common level, rounded up, in words."""
    dimension = quantities.difference(mask.kind.dimension)
    unit = quantities.unit_for(mask.largest_move, dimension=dimension)
    step = 10.0 ** (math.floor(math.log10(mask.largest_move / float(unit.factor))) - 1) if mask.largest_move else 1.0
    return f"{math.ceil(mask.largest_move / float(unit.factor) / step) * step:.12g} {unit.symbol}".rstrip()


def values_picture(table: ProposedTable, units: Units, method: Method) -> ValuesOfUnits:
    """The picture of a table."""
    from ibexite.reports.spread_figure import ValuesOfUnits

    rows = tuple((f"{row.test}.{row.name}", row.kind, row.values, row.low, row.high) for row in table.rows)
    told = f"{table.units} units, {method.told}; expected yield {yield_said(table.passing, table.units)}"
    return ValuesOfUnits(f"{units.product}: proposed limits", rows, told)


def curves_picture(mask: ProposedMask, units: Units, method: Method) -> CurvesOfUnits:
    """The picture of a mask."""
    from ibexite.reports.spread_figure import CurvesOfUnits

    outlying = tuple(i for i, run in enumerate(mask.runs) if units.serials.get(run) in mask.outliers)
    level = ", brought to one level" if mask.is_aligned else ""
    told = f"{len(mask.runs)} units{level}, {method.told}; expected yield {yield_said(mask.passing, mask.units)}"
    return CurvesOfUnits(
        f"{units.product}: {mask.test}.{mask.name}", mask.name, mask.axis, mask.axis_kind, mask.kind, mask.x,
        mask.values, mask.mean, mask.low, mask.high, outlying, told,
    )  # fmt: skip
