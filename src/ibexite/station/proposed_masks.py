"""Masks proposed from the curves of many units."""

from __future__ import annotations

import csv
import io
import math
from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from ibexite import units as quantities
from ibexite.errors import MistakeError
from ibexite.records.lookup import Lookup
from ibexite.records.many_runs import AlikeColumns, columns_of
from ibexite.reports.of_units import CurvesOfUnits, UnitCurves
from ibexite.station.limit_methods import Method
from ibexite.station.many_units import LEAST_UNITS, LeftOut, Units
from ibexite.station.proposing import need_units, refuse_tolerance, rounded_outwards, told_source, yield_said
from ibexite.values import Quantity, stored_type
from ibexite.wording import is_log_spaced

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array

NOTHING_MEASURED, NO_CURVE = "nothing of it was measured", "has no such curve"
MOST_POINTS = 100_000


@dataclass(slots=True)
class ProposedMask:
    """A mask for a curve of a test, and what it was made from."""

    test: str
    curves: UnitCurves
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

    need_units(units)
    found = _curves(lookup, units, test, name)
    refuse_tolerance(method, found.kind)
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
    curves = UnitCurves(name, found.axis, found.axis_kind, found.kind, found.x, values, spread.mean, low, high)
    return ProposedMask(
        test, curves, found.runs, outliers, found.left_out, passing, is_aligned, float(np.abs(moves).max())
    )


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

    curves = mask.curves
    x_unit = quantities.unit_for(*curves.x, dimension=curves.axis_kind.dimension, shown=curves.axis_kind.shown)
    unit = quantities.unit_for(*curves.low, *curves.high, dimension=curves.kind.dimension, shown=curves.kind.shown)
    is_log = is_log_spaced(curves.x.tolist())
    order = np.argsort(curves.x, kind="stable")
    head = f"{'log ' if is_log else ''}{curves.axis} [{x_unit.symbol}]" if x_unit.symbol else curves.axis
    ends = [f"{side} [{unit.symbol}]" if unit.symbol else side for side in ("low", "high")]
    out = io.StringIO()
    out.write(f"# {mask.test}.{curves.name}, {told_source(units, method, len(mask.runs))}\n")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([head, *ends])
    for i in order:
        low, high = curves.low[i], curves.high[i]
        writer.writerow([f"{x_unit.from_base(float(curves.x[i])):.12g}",
                         *(f"{unit.from_base(rounded_outwards(float(y), float(low), float(high), unit, side)):.12g}"
                           for y, side in ((low, -1), (high, 1)))])  # fmt: skip
    return out.getvalue()


def move_said(mask: ProposedMask) -> str:
    """By how much curves were moved to their common level, rounded up, in words."""
    dimension = quantities.difference(mask.curves.kind.dimension)
    unit = quantities.unit_for(mask.largest_move, dimension=dimension)
    step = 10.0 ** (math.floor(math.log10(mask.largest_move / float(unit.factor))) - 1) if mask.largest_move else 1.0
    return f"{math.ceil(mask.largest_move / float(unit.factor) / step) * step:.12g} {unit.symbol}".rstrip()


def curves_picture(mask: ProposedMask, units: Units, method: Method) -> CurvesOfUnits:
    """The picture of a mask."""
    outlying = tuple(i for i, run in enumerate(mask.runs) if units.serials.get(run) in mask.outliers)
    level = ", brought to one level" if mask.is_aligned else ""
    told = f"{len(mask.runs)} units{level}, {method.told}; expected yield {yield_said(mask.passing, mask.units)}"
    return CurvesOfUnits(f"{units.product}: {mask.test}.{mask.curves.name}", mask.curves, outlying, told)
