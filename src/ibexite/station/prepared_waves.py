"""Prepared records: WAV files that stand-ins give in place of what they would sample."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import MistakeError, UnitError
from ibexite.units import format_value, parse_quantity
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.bench.entries import SignalEntry
    from ibexite.language.program import Program
    from ibexite.wave_file import WaveFile

EXAMPLE = 'Write: { file = "echo.wav", channel = 1, full_scale = "10 Pa" }'
_KEYS = ("file", "channel", "full_scale")
_SAME_RATE = 1e-6


@dataclass(frozen=True, slots=True)
class PreparedWave:
    """A channel of a WAV file as the record of a signal. `full_scale` is what 1 in the file means, in base units;
    `where` is the place in the file of readings."""

    file: WaveFile
    channel: int
    full_scale: float
    where: str

    def told(self, signal: SignalEntry) -> str:
        """It as a stand-in takes it: what makes readings, in base units, of its samples."""
        scale, offset = signal.chain.scale, signal.chain.offset
        given = {"wave": self.file.path, "channel": self.channel, "scale": self.full_scale / scale}
        return json.dumps(given | {"offset": -offset / scale, "rate": self.file.rate})


def wave_of(where: str, entry: Fields, signal: SignalEntry, folder: Path) -> PreparedWave:
    """A prepared record.

    Raises:
        MistakeError: the file is not there, cut off or none; it has no such channel; the full scale is none.
    """
    from ibexite.wave_file import read_wave

    unknown = [key for key in entry if key not in _KEYS]
    if unknown or "file" not in entry or not isinstance(entry["file"], str):
        what = f"there is no {unknown[0]!r} here" if unknown else "no file is named"
        raise MistakeError(what, where=where, remedy=EXAMPLE)
    file = read_wave((folder / entry["file"]).absolute())
    channel = entry.get("channel", 1)
    if not isinstance(channel, int) or not 1 <= channel <= file.channels:
        raise MistakeError(f"no channel {channel} in {entry['file']}", where=where, remedy=f"It has {file.channels}.")
    try:
        scale = parse_quantity(str(entry.get("full_scale", "1")))
    except UnitError as error:
        raise MistakeError(error.what, where=where, remedy=error.remedy) from None
    if "full_scale" not in entry or scale.dimension != signal.dimension or not float(scale) > 0:
        what = f"full_scale says what 1 in the file means, in the unit of {signal.name}"
        raise MistakeError(what, where=where, remedy=EXAMPLE)
    return PreparedWave(file, channel, float(scale), where)


def vet_waves(program: Program, *readings: Mapping[str, Sequence[object]]) -> None:
    """Compares prepared records with what the sequence plays and records.

    Raises:
        MistakeError: one has another rate, or ends before the stimulus does.
    """
    for name, waves in _waves(readings):
        for play in program.plays:
            stimulus = program.stimuli.get(play.node.stimulus)
            if stimulus is None or name not in [play.signals.get(r.source, r.source) for r in play.node.readings]:
                continue
            for wave in waves:
                _refuse_other_rate(wave, stimulus.rate, stimulus.name)
                if wave.file.samples < stimulus.count:
                    what = f"{wave.file.samples:,} samples, and {stimulus.name} has {stimulus.count:,}"
                    raise MistakeError(what, where=wave.where, remedy="Record it to its end.")
        for recording in program.recordings:
            named = [recording.signals.get(r.source, r.source) for r in recording.node.readings]
            if name in named and recording.every is not None:
                for wave in waves:
                    _refuse_other_rate(wave, 1 / recording.every, recording.node.name)


def _waves(readings: Sequence[Mapping[str, Sequence[object]]]) -> Iterator[tuple[str, list[PreparedWave]]]:
    for given in readings:
        for name, values in given.items():
            waves = [value for value in values if isinstance(value, PreparedWave)]
            if waves:
                yield name, waves


def _refuse_other_rate(wave: PreparedWave, rate: float, whose: str) -> None:
    from ibexite.units import HERTZ

    if abs(wave.file.rate / rate - 1) > _SAME_RATE:
        found, wanted = format_value(wave.file.rate, HERTZ), format_value(rate, HERTZ)
        remedy = "Nothing is resampled: take a file of the same rate."
        raise MistakeError(f"a rate of {found}, and {whose} has {wanted}", where=wave.where, remedy=remedy)
