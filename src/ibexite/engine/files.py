"""What lines take from files of the project: the lines of masks, the values of references; and declared stimuli."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from ibexite.errors import MistakeError
from ibexite.holes import BAD
from ibexite.language.check_files import GOLDEN, value_in
from ibexite.language.program import Program
from ibexite.reference import ReferenceValue
from ibexite.stimulus import Recorded, Stimulus
from ibexite.untyped import Measured
from ibexite.values import YesNo


@cache
def samples_of(stimulus: Stimulus) -> Measured:
    """The samples of a stimulus in V, shape (n,), made once for a process. They are not to be changed."""
    from ibexite.analysis.signals import stimuli

    made = stimuli.samples(stimulus, wave_files(stimulus))
    made.flags.writeable = False
    return made


def wave_files(stimulus: Stimulus) -> dict[str, Measured]:
    """Of each WAV file that a stimulus plays, the samples of its channel.

    Raises:
        MistakeError: a file is gone, or is another one than when it was vetted.
    """
    found: dict[str, Measured] = {}
    for part in stimulus.parts:
        if isinstance(part, Recorded):
            from ibexite.wave_file import read_wave

            file = read_wave(Path(part.path))
            if file.sha256 != part.sha256:
                raise MistakeError("the WAV file was changed meanwhile", where=part.path, remedy="Vet and run again.")
            found[part.path] = file.values[:, part.channel - 1]
    return found


class ProjectFiles:
    """The values of a program that lie in files, by kind (golden; mask_low, mask_high; limits of a mask: low, high),
    and its stimuli (ping, or ping.chirp for a part), by name; each made when it is first asked for."""

    def __init__(self, program: Program) -> None:
        self._program = program
        self._made: dict[tuple[str, str], Measured] = {}

    def __call__(self, kind: str, name: str) -> Measured:
        """The value."""
        key = (kind, name)
        if key not in self._made:
            self._made[key] = self._make(kind, name)
        return self._made[key]

    def _make(self, kind: str, name: str) -> Measured:
        if kind == GOLDEN:
            reference = self._program.references[name.partition(".")[0]]
            value = value_in(reference, name) if reference is not None else None
            assert value is not None  # it was looked at when it was vetted
            return made_of(value)
        if kind == "stimulus":
            stimulus, _, part = name.partition(".")
            whole = self._program.stimuli[stimulus]
            assert whole is not None  # it was looked at when it was vetted
            return whole.only(part) if part else whole
        from ibexite.analysis.masks import limit_of, line_of

        mask = self._program.masks[name]
        return line_of(mask, kind.removeprefix("mask_")) if kind.startswith("mask_") else limit_of(mask, kind)


def made_of(value: ReferenceValue) -> Measured:
    """The value of a reference as formulas have it. Where it was never measured it is bad: what was measured there is
    not to pass unseen."""
    if not value.axes:
        (one,) = value.values
        return bool(one) if isinstance(value.type, YesNo) else BAD if one is None else one
    import numpy as np

    from ibexite.analysis.curve import ArrayCurve, SampledCurve, Sampling, array_of

    is_complex = any(isinstance(number, complex) for number in value.values)
    hole = complex(BAD, BAD) if is_complex else BAD
    given: list[Measured] = [hole if number is None else number for number in value.values]
    values = np.array(given) if is_complex else array_of(given)
    first = value.axes[0]
    if first.sampling is not None:
        return SampledCurve(Sampling(first.name, *first.sampling), values)
    shape = [len(axis.points) for axis in value.axes]
    return ArrayCurve({axis.name: array_of(axis.points) for axis in value.axes}, values.reshape(shape))
