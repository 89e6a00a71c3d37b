"""Compares play lines with a bench before anything is switched on: whether it can play so much, so fast and so strong.
Samples are made for it, so NumPy is loaded where something is played, and nowhere else."""

from __future__ import annotations

from ibexite import units
from ibexite.bench.entries import RoleEntry
from ibexite.bench.file import BenchFile
from ibexite.classes import PLAYER
from ibexite.instruments.profile import Profile
from ibexite.language.program import PlayUse, Program
from ibexite.stimulus import Stimulus


def vet_plays(program: Program, file: BenchFile) -> None:
    """Reports play lines that this bench cannot carry out, or that go beyond a ceiling."""
    for use in program.plays:
        stimulus, role = program.stimuli.get(use.node.stimulus), file.roles.get(use.role)
        if stimulus is None or role is None:
            continue  # told already
        profile = file.instruments[role.instrument].profile
        lacking = [name for name in PLAYER if name not in profile.settings]
        if profile.play is None or lacking:
            what = f"settings {', '.join(lacking)}" if lacking else "table [play]"
            use.source.report(
                use.node.span, f"{use.role} cannot play here", "", f"Profile {profile.name} has no {what}."
            )
            continue
        _look(use, stimulus, role, profile)


def _look(use: PlayUse, stimulus: Stimulus, role: RoleEntry, profile: Profile) -> None:
    from ibexite.engine.files import samples_of

    def report(what: str, remedy: str) -> None:
        use.source.report(use.node.span, what, "", remedy)

    assert profile.play is not None
    if stimulus.count > profile.play.most:
        report(
            f"{stimulus.name} has {stimulus.count:,} samples",
            f"The memory of {role.instrument} takes {profile.play.most:,}: shorten it, or lower its rate.",
        )
    interval = profile.settings["interval"].extent
    if interval is not None and not interval[0] * (1 - 1e-9) <= 1 / stimulus.rate <= interval[1]:
        ends = (units.format_value(1 / end, units.HERTZ) for end in reversed(interval))
        report(f"{role.instrument} plays no {stimulus.rate:g} samples a second", f"It plays {' to '.join(ends)}.")
    peak = float(abs(samples_of(stimulus)).max())
    most, whose = role.ceiling.get("amplitude"), f"the ceiling of {role.name}.amplitude"
    extent = profile.settings["amplitude"].extent
    if extent is not None and (most is None or extent[1] < most):
        most, whose = extent[1], f"the range of {profile.name}"
    if most is not None and peak > most * (1 + 1e-12):
        told, limit = (units.format_value(value, units.VOLT, digits=4) for value in (peak, most))
        report(f"{stimulus.name} has a peak of {told}", f"That is beyond {limit} ({whose}): lower its levels.")
