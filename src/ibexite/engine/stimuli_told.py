"""What can be told of a stimulus before it is played: how long, how strong, part by part. Samples are made for it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ibexite import units
from ibexite.engine.files import samples_of
from ibexite.language.program import Program
from ibexite.plain_file import cannot_write
from ibexite.stimulus import Banded, Burst, Chirp, Level, Part, Recorded, Silence, Stepped, Stimulus, Tones


@dataclass(frozen=True, slots=True)
class PartTold:
    """A part: when it begins and how long it lasts, in s; what it is, in words; the highest peak in V."""

    name: str
    kind: str
    begin: float
    seconds: float
    text: str
    peak: float
    is_judged: bool


@dataclass(frozen=True, slots=True)
class StimulusTold:
    """A stimulus: its rate in Hz, samples, duration in s, peak in V and crest factor (peak over RMS of all of it)."""

    name: str
    title: str
    rate: float
    samples: int
    seconds: float
    peak: float
    crest: float
    parts: tuple[PartTold, ...]


def stimuli_told(program: Program) -> list[StimulusTold]:
    """The stimuli that are played, in the order in which they come."""
    played = dict.fromkeys(use.node.stimulus for use in program.plays)
    found = [program.stimuli.get(name) for name in played]
    return [told(stimulus) for stimulus in found if stimulus is not None]


def told(stimulus: Stimulus) -> StimulusTold:
    """What is told of one."""
    from ibexite.analysis.signals import whole

    samples = samples_of(stimulus)
    parts = tuple(
        PartTold(
            placed.part.name, placed.part.kind, placed.begin / stimulus.rate, placed.count / stimulus.rate,
            _words(placed.part), whole.peak(samples[placed.begin : placed.begin + placed.count]), placed.part.is_judged,
        )
        for placed in stimulus.placed
    )  # fmt: skip
    return StimulusTold(
        stimulus.name, stimulus.title, stimulus.rate, stimulus.count, stimulus.seconds, whole.peak(samples),
        whole.crest(samples), parts,
    )  # fmt: skip


def write_wav(program: Program, told: StimulusTold, path: Path) -> None:
    """Writes a stimulus as a WAV file of 24 bits, of which full scale is its peak.

    Raises:
        MistakeError: its rate is no whole number, or the file cannot be written.
    """
    from ibexite.wave_file import write_wave

    stimulus = program.stimuli[told.name]
    assert stimulus is not None
    try:
        write_wave(path, samples_of(stimulus) / (told.peak or 1.0), stimulus.rate, "24")
    except OSError as error:
        raise cannot_write(path, error) from None


def _words(part: Part) -> str:
    """What a part is: its band with what is played beyond it, its steps, tones or cycles, and its level."""
    match part:
        case Silence():
            return ""
        case Stepped(frequencies=frequencies, steps=steps):
            cycles = [count for _, _, count in steps]
            span = f"{_hertz(frequencies[0])} to {_hertz(frequencies[-1])}"
            return f"{len(frequencies)} steps, {span}, {min(cycles)} to {max(cycles)} cycles, {_level(part.level)}"
        case Chirp(first=first, last=last):
            low, high = part.played_band or (first, last)
            beyond = f"with its fades {_hertz(low)} to {_hertz(high)}"
            return f"{_hertz(first)} to {_hertz(last)} ({beyond}), {_level(part.level)}"
        case Tones(frequencies=frequencies):
            return f"{', '.join(map(_hertz, frequencies))}, {_level(part.level)}"
        case Burst():
            every = units.format_value(part.every, units.SECOND, digits=4)
            return (
                f"{part.times} x {part.cycles} cycles of {_hertz(part.frequency)} every {every}, {_level(part.level)}"
            )
        case Banded():
            return f"{_hertz(part.low)} to {_hertz(part.high)}, {_level(part.level)}"
        case Recorded():
            return f"{part.path}, channel {part.channel}" + (f", {_level(part.level)}" if part.level else "")
    raise AssertionError(part)


def _hertz(frequency: float) -> str:
    return units.format_value(frequency, units.HERTZ, digits=5)


def _level(level: Level) -> str:
    return units.format_value(level.value, units.VOLT, digits=4) + (" peak" if level.is_peak else " RMS")
