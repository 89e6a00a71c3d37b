"""What is told of a function of formulas, and which dimension its result has.

Kinds:   point    value by value, on single values and curves alike
         consume  takes an axis of a curve away (named by `along`, or the only one)
         keep     a curve over the same axes
         special  called in a way of its own (at, crossing with all, onto, line, number)
         wave, wave_keep              the same as consume and keep for waveforms: along `time`, evenly sampled
         over_freq, over_freq_keep    and for spectra and responses: along `freq`
Arguments (all but x, pairs and axis are classes of ibexite.language.function_arguments; with ? it may be left out):
           x        a number with unit; for consume and keep a curve
           same     of the unit of x          plain    a plain number          decibel  a ratio in dB
           window   5 points, 3 per octave    unit     the symbol of a unit    pairs    x -> y, x -> y, …
           axis     axis = value, …           time, frequency                  waveform of any unit
           any      of any unit
           part     a stimulus, or those of its parts that have a name: ping, ping.chirp
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from ibexite import units
from ibexite.units import Dimension

PART = "part"
WAVE, WAVE_KEEP, OVER_FREQUENCY, OVER_FREQUENCY_KEEP = "wave", "wave_keep", "over_freq", "over_freq_keep"
AXES = {"freq": units.HERTZ, "time": units.SECOND, "order": units.PLAIN, "burst": units.PLAIN}  # that functions give

Rule = Callable[[Dimension, Dimension], Dimension]  # of x and of the axis: of the result


@dataclass(frozen=True, slots=True)
class Function:
    """One function. `fields` are the parts of its result (resonance(z).q), each with its rule."""

    name: str
    group: str
    kind: str
    usage: str
    help: str
    example: str
    target: str
    result: Rule
    arguments: tuple[str, ...] = ("x",)
    flags: tuple[str, ...] = ()
    fields: Mapping[str, Rule] = field(default_factory=dict)
    complexity: str = "real"  # which x: real, any (complex as well), complex (only), result_real, makes_complex
    gives: tuple[str, ...] = ()  # axes of AXES that the result has in place of the one that is taken away
    is_yes_no: bool = False  # whether the result is yes or no
    part_kinds: tuple[str, ...] = ()  # which parts of stimuli it takes, all of one kind; empty where any will do
    per_second: bool = False  # whether the result is also divided by the unit of the second argument
    others: tuple[Function, ...] = ()  # the other forms in which it is called

    @property
    def forms(self) -> tuple[Function, ...]:
        """All forms in which it is called."""
        return (self, *self.others)

    @property
    def is_of_waveforms(self) -> bool:
        """Whether it takes waveforms, or spectra and responses."""
        return self.kind in (WAVE, WAVE_KEEP, OVER_FREQUENCY, OVER_FREQUENCY_KEEP)

    @property
    def consumed(self) -> str:
        """The axis that it takes, where there is but one that it can take."""
        return "" if not self.is_of_waveforms else "time" if self.kind in (WAVE, WAVE_KEEP) else "freq"

    def takes(self, arguments: int, parts: tuple[int, ...]) -> bool:
        """Whether it is called with so many arguments, with parts of stimuli in these places."""
        least = sum(not kind.endswith("?") for kind in self.arguments)
        return least <= arguments <= len(self.arguments) and parts == tuple(
            i for i, kind in enumerate(self.arguments) if kind == PART
        )

    def option_for(self, x: Dimension) -> str:
        """A further argument for what the computing must know of x, "" if nothing: whether it is a level, an amplitude
        or a power, or how it is averaged."""
        is_level = x.kind in ("level", "db")
        if self.name in ("bandwidth", "cutoff"):
            return "scale=" + repr("level" if is_level else "power" if x == units.WATT else "amplitude")
        if self.name == "smooth":
            return "kind=" + repr("level" if is_level else "angle" if x == units.RADIAN else "plain")
        return ""
