"""Readings that give whole curves: asks for the numbers, then for what scales them and where they lie.

A curve that cannot be had is one of a single point without value, so that nothing that is made of it can pass.
"""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import ArrayCurve, Curve, SampledCurve, Sampling
from ibexite.bench.query import BadReading, Item, Query
from ibexite.holes import Bad
from ibexite.instruments.answers import AxisCommands, CurveCommands, Spacing, Told, holes_in
from ibexite.instruments.link import Data
from ibexite.instruments.session import Session
from ibexite.untyped import Measured
from ibexite.verdicts import BAD_READINGS, OVERLOAD, Reason


class CurveQuery(Query):
    """One query whose reply is one curve."""

    has_reply_to_itself = True

    def __init__(self, session: Session, items: list[Item], places: list[int]) -> None:
        super().__init__(session, items, places)
        commands = items[0].commands
        assert commands.curve is not None
        self._commands: CurveCommands = commands.curve
        self._unit, self._channel = commands.unit, items[0].channel
        self._speech = commands.speech.of_channel(self._channel)

    def take(self, values: list[Measured]) -> list[Bad]:
        """Puts the curve into its place; what is bad in it: all of it, or some of its points."""
        name, place = self.items[0].name, self.places[0]
        reply: Data = (
            self.session.answer_with_block(self._in_full) if self._commands.numbers
            else self._answer(self._in_full).encode("latin-1")
        )  # fmt: skip
        try:
            curve, bad = self._curve(reply)
        except BadReading as error:
            values[place] = nothing(self._commands)
            return [Bad(name, error.reason, error.raw)]
        values[place] = curve
        return [Bad(name, reason, "") for reason in bad]

    def _curve(self, reply: Data) -> tuple[Curve, list[Reason]]:
        """The curve of a reply, and why points of it are bad. Raises BadReading."""
        try:
            numbers = self._commands.decoded(reply, self._speech, self._unit)
        except ValueError as error:
            raise BadReading("not_a_number", _beginning(reply), f": {error!s:.80}") from None
        if not len(numbers):
            raise BadReading("empty", "")
        overload, none = holes_in(numbers)
        if self._commands.is_complex:
            if len(numbers) % 2:
                raise BadReading("count", "", f": {len(numbers)} numbers for pairs")
            overload, none = overload[0::2] | overload[1::2], none[0::2] | none[1::2]
            numbers = numbers[0::2] + 1j * numbers[1::2]
        factor, offset = self._number(self._commands.factor), self._number(self._commands.offset)
        unit = self._unit
        values = (numbers * factor + offset) * float(unit.factor) + float(unit.offset)
        values[overload | none | ~np.isfinite(values)] = math.nan
        reasons = []
        for code, many in ((OVERLOAD, int(overload.sum())), ("not_a_number", int(none.sum()))):
            if many:
                reasons.append(Reason(code, f"{BAD_READINGS[code]} at {many} of {len(numbers)} points"))
        return self._over(values), reasons

    def _over(self, values: np.ndarray) -> Curve:
        axes = self._commands.axes
        first = axes[0]
        if first.start is not None and first.stop is not None:
            return self._between(first, first.start, first.stop, values)
        if first.start is not None and first.step is not None:
            start, step = self._number(first.start), self._number(first.step)
            if not step:
                raise BadReading("not_a_number", "0", f": the step of {first.name}")
            return SampledCurve(Sampling(first.name, start, step), values)
        points = {axis.name: self._points(axis) for axis in axes}
        shape = tuple(map(len, points.values()))
        if math.prod(shape) != len(values):
            wanted = " x ".join(map(str, shape))
            raise BadReading("count", "", f": {len(values)} for {wanted} points")
        return ArrayCurve(points, values.reshape(shape))

    def _between(self, axis: AxisCommands, first: Told, last: Told, values: np.ndarray) -> Curve:
        """A curve whose points lie between two places, evenly or by even ratios."""
        start, stop, count = self._number(first), self._number(last), len(values)
        is_log = axis.spacing is not None and self._is_logarithmic(axis.spacing)
        if is_log and not (start > 0 and stop > 0):
            raise BadReading("not_a_number", f"{start:g}", f": where the points of {axis.name} begin, by even ratios")
        if count < 2 or start == stop:
            raise BadReading("count", "", f": {count} points from {start:g} to {stop:g}")
        if is_log:
            points = np.geomspace(start, stop, count)
            return ArrayCurve({axis.name: points}, values)
        return SampledCurve(Sampling(axis.name, start, (stop - start) / (count - 1)), values)

    def _is_logarithmic(self, spacing: Spacing) -> bool:
        reply = self._asked(spacing.query)
        try:
            return spacing.is_logarithmic(reply)
        except ValueError:
            raise BadReading("not_a_number", reply[:60], f": the answer to {spacing.query}") from None

    def _points(self, axis: AxisCommands) -> np.ndarray:
        assert axis.points is not None
        reply = self._asked(axis.points.query)
        try:
            points = axis.points.numbers_in(reply)
        except ValueError:
            raise BadReading("not_a_number", reply[:60], f": the points of {axis.name}") from None
        if len(set(points.tolist())) < len(points):
            raise BadReading("not_a_number", reply[:60], f": the points of {axis.name}")
        return points

    def _number(self, told: Told) -> float:
        if not told.query:
            return told.number
        reply = self._asked(told.query)
        try:
            return told.number_in(reply)
        except ValueError:
            raise BadReading("not_a_number", reply[:60], f": the answer to {told.query}") from None

    def _asked(self, query: str) -> str:
        return self.session.exchange_once(self.session.message(self._speech.at(query, self._channel)))


def nothing(commands: CurveCommands) -> Curve:
    """What stands for a curve that could not be had: one point, which is bad."""
    axes = [axis.name for axis in commands.axes]
    if commands.axes[0].start is not None:
        return SampledCurve(Sampling(axes[0], 0.0, 1.0), np.array([math.nan]))
    return ArrayCurve({name: np.zeros(1) for name in axes}, np.full((1,) * len(axes), math.nan))


def _beginning(reply: Data) -> str:
    return reply[:60].decode("latin-1")
