"""What can be told of a stimulus before it is played: how long, how strong, part by part. Samples are made for it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ibexite import units
from ibexite.engine.files import samples_of
from ibexite.language.program import Program
from ibexite.plain_file import cannot_write
from ibexite.stimulus import Banded, Burst, Chirp, Level, Part, Recorded, Silence, Stepped, Stimulus, Tones
from ibexite.wave_file import FORMS, write_wave

WAV_BITS = tuple(FORMS)  # of the samples in WAV files


@dataclass(frozen=True, slots=True)
class PartTold:
    """A part: when it begins and how long it lasts, in s; what it is, in words, with what shaping made of its level;
    the highest peak in V."""

    name: str
    kind: str
    begin: float
    seconds: float
    text: str
    peak: float
    is_judged: bool


@dataclass(frozen=True, slots=True)
class StimulusTold:
    """A stimulus: its rate in Hz, samples, duration in s, peak in V and crest factor (peak over RMS of all of it); by
    what it is shaped, in words, "" if by nothing."""

    name: str
    title: str
    rate: float
    samples: int
    seconds: float
    peak: float
    crest: float
    parts: tuple[PartTold, ...]
    shaped: str


def stimuli_told(program: Program) -> list[StimulusTold]:
    """The stimuli that are played, in the order in which they come."""
    played = dict.fromkeys(use.node.stimulus for use in program.plays)
    found = [program.stimuli.get(name) for name in played]
    return [told(stimulus) for stimulus in found if stimulus is not None]


def told(stimulus: Stimulus) -> StimulusTold:
    """What is told of one."""
    from ibexite.analysis.signals import whole

    samples = samples_of(stimulus)
    parts = []
    for part, begin, count in ((placed.part, placed.begin, placed.count) for placed in stimulus.placed):
        own, words = samples[begin : begin + count], _words(part)
        if stimulus.gain is not None and words:
            words += f"; shaped {units.format_value(float((own**2).mean() ** 0.5), units.VOLT, digits=4)} RMS in all"
        at = begin / stimulus.rate, count / stimulus.rate
        parts.append(PartTold(part.name, part.kind, *at, words, whole.peak(own), part.is_judged))
    return StimulusTold(
        stimulus.name, stimulus.title, stimulus.rate, stimulus.count, stimulus.seconds, whole.peak(samples),
        whole.crest(samples), tuple(parts), _shaping(stimulus),
    )  # fmt: skip


def _shaping(stimulus: Stimulus) -> str:
    """By what it is shaped, and which judged parts that does not reach."""
    gain = stimulus.gain
    if gain is None:
        return ""
    low, high = gain.frequencies[0], gain.frequencies[-1]
    text = f"{gain.name}, measured {gain.measured[:16].replace('T', ' ')}, from {_hertz(low)} to {_hertz(high)}"
    judged = [(part.name, part.band) for part in stimulus.parts if part.is_judged]
    missed = dict.fromkeys(name for name, band in judged if band is not None and (band[0] < low or band[1] > high))
    return text + (f"; beyond that {', '.join(missed)} as at its ends" if missed else "")


def write_wav(program: Program, told: StimulusTold, path: Path, form: str) -> None:
    """Writes a stimulus as a WAV file, of which full scale is its peak; `form` is one of WAV_BITS.

    Raises:
        MistakeError: its rate is no whole number, or the file cannot be written.
    """
    stimulus = program.stimuli[told.name]
    assert stimulus is not None
    try:
        write_wave(path, samples_of(stimulus) / (told.peak or 1.0), stimulus.rate, form)
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
