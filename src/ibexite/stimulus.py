"""Stimuli: what is played into a product, part by part. Their samples are made in analysis/signals/stimuli.py, how they
are declared is read in language/stimuli.py.

Times are in s, frequencies in Hz, levels in V. A part begins at a whole sample and lasts for whole samples; a step of a
stepped part begins where its whole cycles begin, which may be between two samples.
"""

from __future__ import annotations

import math
from typing import ClassVar

from ibexite.frozen import frozen, replaced

FADE = 0.04  # of a chirp's time, at each end; what is faded lies beyond its band
SHORTEST_FADE = 0.02  # of the time of noise and tones
LEAST_CYCLES = 4  # of a step: with fewer its settled half has no two whole cycles
MOST_SAMPLES = 50_000_000  # of a stimulus, some minutes at the highest rates


@frozen
class Level:
    """How strong a part is: the RMS value in V, or the highest peak."""

    value: float
    is_peak: bool = False


@frozen
class Part:
    """What is common to all parts. `name` is what formulas call it by; parts of one name belong together."""

    kind: ClassVar[str]
    name: str
    is_judged: bool

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        raise NotImplementedError

    def count(self, rate: float) -> int:
        """How many samples it lasts."""
        return round(self.seconds * rate)

    @property
    def band(self) -> tuple[float, float] | None:
        """The lowest and the highest frequency that is judged in it, None where it has none of its own."""
        return None

    @property
    def played_band(self) -> tuple[float, float] | None:
        """The same with what is played beyond, in its fades."""
        return self.band

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        if self.count(rate) < 1:
            return "it is shorter than one sample"
        band = self.played_band
        if band is None:
            return ""
        low, high = band
        if not 0 < low <= high:
            return "its band is to begin above 0 Hz and to rise"
        if high >= rate / 2:
            return f"it goes up to {high:g} Hz, half the rate is {rate / 2:g} Hz"
        return ""


@frozen
class Silence(Part):
    """Nothing, for a time."""

    kind = "silence"
    duration: float

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.duration


@frozen
class Banded(Part):
    """What fills a band for a time."""

    low: float
    high: float
    duration: float
    level: Level

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.duration

    @property
    def band(self) -> tuple[float, float] | None:
        """As declared."""
        return self.low, self.high

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        if self.low >= self.high:
            return "its band is to have two ends"
        return Part.trouble(self, rate)


@frozen
class Marker(Banded):
    """A short linear chirp, by which the beginning of a stimulus is found in a record."""

    kind = "marker"

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        if (self.high - self.low) * self.duration < 20:
            return "its band times its time is to be 20 or more, else it is not found among noise"
        return Banded.trouble(self, rate)


@frozen
class Noise(Banded):
    """Noise of an even spectrum, the same at every time it is played."""

    kind = "noise"


@frozen
class Chirp(Part):
    """A tone whose frequency rises (or falls) by even ratios: between its fades from `first` to `last`."""

    kind = "chirp"
    first: float
    last: float
    duration: float
    level: Level

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.duration

    @property
    def time_constant(self) -> float:
        """The time in s in which the frequency changes by the factor e; negative where it falls."""
        return self.duration * (1 - 2 * FADE) / math.log(self.last / self.first)

    @property
    def band(self) -> tuple[float, float] | None:
        """Between its fades."""
        return min(self.first, self.last), max(self.first, self.last)

    @property
    def played_band(self) -> tuple[float, float] | None:
        """With its fades."""
        if not (self.first > 0 and self.last > 0) or self.first == self.last:
            return self.first, self.last
        beyond = math.exp(FADE * self.duration / abs(self.time_constant))
        return min(self.first, self.last) / beyond, max(self.first, self.last) * beyond

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        return "it begins and ends at one frequency" if self.first == self.last else Part.trouble(self, rate)


@frozen
class Stepped(Part):
    """Tones one behind another, each of whole cycles and begun at its zero: `cycles` of them, and as many more as fill
    `at_least` s."""

    kind = "stepped"
    frequencies: tuple[float, ...]
    cycles: int
    at_least: float
    level: Level

    @property
    def steps(self) -> tuple[tuple[float, float, int], ...]:
        """Each step: where it begins in s from the begin of the part, its frequency, its cycles."""
        found, begin = [], 0.0
        for frequency in self.frequencies:
            cycles = max(self.cycles, math.ceil(self.at_least * frequency - 1e-9))
            found.append((begin, frequency, cycles))
            begin += cycles / frequency
        return tuple(found)

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        begin, frequency, cycles = self.steps[-1]
        return begin + cycles / frequency

    def count(self, rate: float) -> int:
        """How many samples it lasts: to the end of its last cycle."""
        return math.ceil(self.seconds * rate - 1e-6)

    @property
    def band(self) -> tuple[float, float] | None:
        """From the lowest to the highest step."""
        return min(self.frequencies), max(self.frequencies)

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        if len(set(self.frequencies)) < len(self.frequencies):
            return "a frequency stands in it twice"
        if self.is_judged and min(cycles for _, _, cycles in self.steps) < LEAST_CYCLES:
            return f"a step that is judged takes {LEAST_CYCLES} cycles or more"
        return Part.trouble(self, rate)


@frozen
class Tones(Part):
    """Several tones at once, with phases that keep the peak low. `shares` are their amplitudes, of any scale."""

    kind = "tones"
    frequencies: tuple[float, ...]
    shares: tuple[float, ...]
    duration: float
    level: Level

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.duration

    @property
    def band(self) -> tuple[float, float] | None:
        """From the lowest to the highest tone."""
        return min(self.frequencies), max(self.frequencies)

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        ordered = sorted(self.frequencies)
        apart = min((b - a for a, b in zip(ordered, ordered[1:], strict=False)), default=ordered[0])
        if min(apart, ordered[0]) * self.duration < LEAST_CYCLES:
            return "it is too short to tell its tones apart"
        return Part.trouble(self, rate)


@frozen
class Burst(Part):
    """A tone for some whole cycles, again and again; its level is that within a burst."""

    kind = "burst"
    frequency: float
    cycles: int
    every: float
    times: int
    level: Level

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.every * self.times

    @property
    def band(self) -> tuple[float, float] | None:
        """Its one frequency."""
        return self.frequency, self.frequency

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        if self.cycles < 1 or self.times < 1:
            return "it has no cycles"
        if self.cycles / self.frequency > self.every:
            return "one burst is longer than the time to the next"
        return Part.trouble(self, rate)


@frozen
class Recorded(Part):
    """Samples from a file. `samples` says how many it has; `channel` counts from 1."""

    kind = "file"
    path: str
    sha256: str
    channel: int
    samples: int
    file_rate: float
    level: Level | None  # None: in V as the file has them

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.samples / self.file_rate

    def count(self, rate: float) -> int:
        """How many samples it lasts."""
        return self.samples

    def trouble(self, rate: float) -> str:
        """Why it cannot be played at a rate, "" if it can."""
        if self.file_rate != rate:
            return f"it was made for {self.file_rate:g} Hz, the stimulus has {rate:g} Hz"
        return Part.trouble(self, rate)


RESPONSES = ("stepped", "chirp", "noise", "tones")  # parts of which a response can be computed
DISTORTIONS = ("stepped", "chirp")  # and of which harmonics can
KINDS: tuple[type[Part], ...] = (Marker, Noise, Silence, Stepped, Chirp, Tones, Burst, Recorded)


@frozen
class Gain:
    """A gain over frequency by which a stimulus is shaped: points in Hz, rising, and factors; from which reference,
    when that was measured (wall time, ISO 8601), and how old it may be in s, 0 for any age."""

    name: str
    frequencies: tuple[float, ...]
    factors: tuple[float, ...]
    measured: str = ""
    most_age: float = 0.0


@frozen
class Placed:
    """A part in its place: its first sample, and how many it has."""

    part: Part
    begin: int
    count: int


@frozen
class Stimulus:
    """A stimulus: its rate in Hz, and its parts in the order in which they are played."""

    name: str
    title: str
    rate: float
    parts: tuple[Part, ...]
    gain: Gain | None = None

    @property
    def placed(self) -> tuple[Placed, ...]:
        """The parts in their places."""
        found, begin = [], 0
        for part in self.parts:
            count = part.count(self.rate)
            found.append(Placed(part, begin, count))
            begin += count
        return tuple(found)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its parts, each once."""
        return tuple(dict.fromkeys(part.name for part in self.parts))

    @property
    def count(self) -> int:
        """How many samples it has."""
        return sum(part.count(self.rate) for part in self.parts)

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.count / self.rate

    def only(self, name: str) -> Stimulus:
        """The same, of which only the parts of a name are meant; all keep their places."""
        return Stimulus(self.name, self.title, self.rate, tuple(_unmeant(p, name) for p in self.parts), self.gain)

    def of_kind(self, *kinds: str) -> tuple[Placed, ...]:
        """The judged parts of some kinds."""
        return tuple(placed for placed in self.placed if placed.part.is_judged and placed.part.kind in kinds)

    def of_one_kind(self, *kinds: str) -> tuple[Placed, ...]:
        """The judged parts that a function takes, which are all of one kind.

        Raises:
            ValueError: there is none of these kinds, or there are several that could be meant.
        """
        parts = self.of_kind(*kinds)
        found = sorted({placed.part.kind for placed in parts})
        if len(found) > 1:
            raise ValueError(f"{self.name} has parts of several kinds that could be meant: {', '.join(found)}")
        if not parts:
            raise ValueError(f"{self.name} has no judged part of these kinds: {', '.join(kinds)}")
        if len(parts) > 1 and found != ["stepped"]:
            raise ValueError(f"{self.name} has several {found[0]} parts that could be meant: give them names")
        return parts


def _unmeant(part: Part, name: str) -> Part:
    """A part, judged only if it has that name."""
    return replaced(part, is_judged=part.name == name)
