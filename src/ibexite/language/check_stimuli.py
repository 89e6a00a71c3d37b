"""Checks declared stimuli and gives them the values of the parameters of this run."""

from __future__ import annotations

from collections.abc import Callable

from ibexite import stimulus, units
from ibexite.errors import MistakeError
from ibexite.language import constants, nodes
from ibexite.language.check_files import GOLDEN, FileChecker, file_of, value_in
from ibexite.language.program import Companions, Program, Scope
from ibexite.language.shaping import gain_of
from ibexite.language.types import Typer
from ibexite.stimulus import Level
from ibexite.units import HERTZ, PLAIN, SECOND, VOLT, Dimension
from ibexite.values import Type

MARKER_TIME = 10e-3  # s, unless it says otherwise
_MARKER_SIZE = 200.0  # band times time that a marker is given at least


class _Refused(Exception):
    """A mistake in it was reported."""


class StimulusChecker:
    """Makes the stimuli of one file of the nodes of their declarations."""

    def __init__(self, program: Program, scope: Scope, companions: Companions | None, files: FileChecker) -> None:
        """`files` looks for what lies in files of the project."""
        self._program, self._scope, self._source, self._companions = program, scope, scope.source, companions
        self._files = files
        self._typer = Typer(scope.source, program.types, program.tolerances, {}, from_file=files.from_file)

    def check(self, node: nodes.Stimulus) -> None:
        """Checks one and keeps it with the program; what is wrong is reported."""
        scope, program = self._scope, self._program
        if node.name in scope.types or node.name in scope.needs or node.name in program.stimuli:
            self._source.report(node.span, f"'{node.name}' is declared twice", "", "Give it another name.")
            return
        program.stimuli[node.name] = None
        if node.is_broken:
            return
        try:
            rate = self._positive(node.rate, HERTZ)
            others = [self._part(part) for part in node.parts if part.kind != "marker"]
        except _Refused:
            return
        parts: list[stimulus.Part] = []
        rest = iter(others)
        for part in node.parts:
            try:
                parts.append(self._marker(part, others) if part.kind == "marker" else next(rest))
            except _Refused:
                return
        if not self._can_be_played(node, parts, rate):
            return
        gain = None
        if node.shaping is not None:
            try:
                gain = self._gain(node.shaping)
            except _Refused:
                return
        program.stimuli[node.name] = stimulus.Stimulus(node.name, node.title, rate, tuple(parts), gain)

    def _gain(self, shaping: nodes.Shaping) -> stimulus.Gain:
        """What shapes a stimulus."""
        kind = self._typer.type_of(shaping.curve, self._lookup)
        if kind is None or not isinstance(shaping.curve, nodes.FromFile) or shaping.curve.kind != GOLDEN:
            if kind is not None:
                remedy = (
                    'It is a curve that was measured and saved: shaped by inverse of golden("hall.sound") at 40 kHz'
                )
                self._source.report(shaping.curve.span, "not a reference", str(kind), remedy)
            raise _Refused
        at = self._positive(shaping.at, HERTZ) if shaping.at is not None else None
        age = self._positive(shaping.not_older, SECOND) if shaping.not_older is not None else 0.0
        reference = self._program.references[file_of(shaping.curve)]
        value = value_in(reference, shaping.curve.name) if reference is not None else None
        assert reference is not None and value is not None  # else it has no type
        try:
            return gain_of(reference, value, is_inverse=shaping.is_inverse, at=at, most_age=age)
        except ValueError as error:
            self._source.report(shaping.span, "nothing to shape by", str(error), f"See {reference.path}.")
            raise _Refused from None

    def _can_be_played(self, node: nodes.Stimulus, parts: list[stimulus.Part], rate: float) -> bool:
        is_well = True
        for part, made in zip(node.parts, parts, strict=True):
            trouble = made.trouble(rate)
            if trouble:
                self._source.report(part.span, "this part cannot be played", trouble, "Mend it, or raise the rate.")
                is_well = False
        if is_well and sum(part.count(rate) for part in parts) > stimulus.MOST_SAMPLES:
            self._source.report(node.span, "too long a stimulus", f"it has more than {stimulus.MOST_SAMPLES:,} samples")
            return False
        return is_well

    # --- parts -------------------------------------------------------------------------------------------------------

    def _part(self, part: nodes.StimulusPart) -> stimulus.Part:
        made: Callable[[nodes.StimulusPart], stimulus.Part] = getattr(self, f"_{part.kind}")
        return made(part)

    def _noise(self, part: nodes.StimulusPart) -> stimulus.Part:
        low, high = self._band(part)
        return stimulus.Noise(part.name, part.is_judged, low, high, self._time(part), self._level(part))

    def _silence(self, part: nodes.StimulusPart) -> stimulus.Part:
        return stimulus.Silence(part.name, part.is_judged, self._time(part))

    def _chirp(self, part: nodes.StimulusPart) -> stimulus.Part:
        first, last = self._band(part)
        return stimulus.Chirp(part.name, part.is_judged, first, last, self._time(part), self._level(part))

    def _stepped(self, part: nodes.StimulusPart) -> stimulus.Part:
        for segment in part.segments:
            for expr in (segment.start, segment.end):
                if expr is not None:
                    self._positive(expr, HERTZ)
            self._positive(segment.amount, HERTZ if segment.spacing == "step" else PLAIN)
        sweep = nodes.Sweep(part.span, part.name, (), part.segments, ())
        points = constants.report_points(self._source, sweep, self._scope.known, HERTZ, "Hz")
        if points is None:
            if not self._source.has_mistakes:
                self._source.report(part.span, "its steps are not known before the run", "", "Use parameters.")
            raise _Refused
        at_least = self._positive(part.at_least, SECOND) if part.at_least is not None else 0.0
        frequencies = tuple(map(float, points))
        return stimulus.Stepped(part.name, part.is_judged, frequencies, self._cycles(part), at_least, self._level(part))

    def _tones(self, part: nodes.StimulusPart) -> stimulus.Part:
        frequencies = tuple(self._positive(tone, HERTZ) for tone, _ in part.tones)
        shares = tuple(1.0 if share is None else self._positive(share, PLAIN) for _, share in part.tones)
        return stimulus.Tones(part.name, part.is_judged, frequencies, shares, self._time(part), self._level(part))

    def _burst(self, part: nodes.StimulusPart) -> stimulus.Part:
        assert part.frequency is not None and part.every is not None
        frequency, every = self._positive(part.frequency, HERTZ), self._positive(part.every, SECOND)
        cycles = self._cycles(part)
        return stimulus.Burst(part.name, part.is_judged, frequency, cycles, every, part.times, self._level(part))

    def _file(self, part: nodes.StimulusPart) -> stimulus.Part:
        if self._companions is None:
            raise _Refused
        try:
            found = self._companions.wave(part.file)
        except MistakeError as error:
            self._source.report(part.span, f"{error.where}: {error.what}", "", error.remedy)
            raise _Refused from None
        if not 1 <= part.channel <= found.channels:
            self._source.report(
                part.span, f"no channel {part.channel}", "", f"{found.path} has {found.channels}: channel 1 and up."
            )
            raise _Refused
        level = self._level(part) if part.level is not None else None
        return stimulus.Recorded(
            part.name, part.is_judged, found.path, found.sha256, part.channel, found.samples, found.rate, level
        )

    def _marker(self, part: nodes.StimulusPart, others: list[stimulus.Part]) -> stimulus.Part:
        """A marker; what it does not say it takes from the other parts: their band, the strongest of their levels."""
        bands = [other.band for other in others if other.band is not None]
        levels = [level for other in others if (level := getattr(other, "level", None)) is not None]
        if part.low is not None and part.high is not None:
            low, high = self._positive(part.low, HERTZ), self._positive(part.high, HERTZ)
        elif bands:
            low, high = min(band[0] for band in bands), max(band[1] for band in bands)
        else:
            self._source.report(part.span, "nothing says its band", "", "Write: part marker from 5 kHz to 60 kHz")
            raise _Refused
        if part.level is not None:
            level = self._level(part)
        elif levels:
            level = max(levels, key=lambda each: each.value * (1.0 if each.is_peak else 2**0.5))
        else:
            self._source.report(part.span, "nothing says its level", "", "Write: part marker level 1 V")
            raise _Refused
        needed = _MARKER_SIZE / (high - low) if high > low else MARKER_TIME
        time = self._positive(part.time, SECOND) if part.time is not None else max(MARKER_TIME, needed)
        return stimulus.Marker(part.name, False, low, high, time, level)

    # --- what clauses say --------------------------------------------------------------------------------------------

    def _band(self, part: nodes.StimulusPart) -> tuple[float, float]:
        assert part.low is not None and part.high is not None
        return self._positive(part.low, HERTZ), self._positive(part.high, HERTZ)

    def _time(self, part: nodes.StimulusPart) -> float:
        if part.time is None:
            raise _Refused  # reported when it was built
        return self._positive(part.time, SECOND)

    def _cycles(self, part: nodes.StimulusPart) -> int:
        if part.cycles is None:
            raise _Refused
        cycles = self._positive(part.cycles, PLAIN)
        if cycles != round(cycles):
            self._source.report(part.cycles.span, "not a whole number of cycles", "", "Write: for 12 cycles")
            raise _Refused
        return round(cycles)

    def _level(self, part: nodes.StimulusPart) -> Level:
        if part.level is None:
            raise _Refused
        return Level(self._positive(part.level, VOLT), part.is_peak)

    def _positive(self, expr: nodes.Expr, dimension: Dimension) -> float:
        """The value of an expression that is known before the run, of a dimension, above zero."""
        kind = self._typer.type_of(expr, self._lookup)
        if kind is None:
            raise _Refused
        if kind.dimension != dimension or kind.axes:
            self._source.report(expr.span, "wrong unit", str(kind), f"Here belongs {units.describe(dimension)}.")
            raise _Refused
        value = constants.number(expr, self._scope.known)
        if value is None:
            self._source.report(expr.span, "not known before the run", "", "It is made of numbers and parameters.")
            raise _Refused
        if value <= 0:
            self._source.report(expr.span, "not above zero", "", f"It is {units.describe(dimension)}.")
            raise _Refused
        return float(value)

    def _lookup(self, name: nodes.Name | nodes.ResultOf) -> Type | None:
        if isinstance(name, nodes.Name) and name.name in self._scope.types:
            self._scope.used.add(name.name)
            return self._scope.types[name.name]
        if name.name != nodes.REPORTED:
            self._source.report(name.span, f"unknown name {name.name!r}", "", "Stimuli know parameters and constants.")
        return None
