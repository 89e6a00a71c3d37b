"""Compares play lines with a bench before anything is switched on: whether it can play so much, so fast and so strong.
Samples are made for it, so NumPy is loaded where something is played, and nowhere else."""

from __future__ import annotations

from ibexite import units
from ibexite.bench.entries import RoleEntry
from ibexite.bench.file import BenchFile
from ibexite.bench.playing_times import begins_by_trigger, recorded_samples
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
        _look_at_records(use, stimulus, role, file)


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


def _look_at_records(use: PlayUse, stimulus: Stimulus, player: RoleEntry, file: BenchFile) -> None:
    """Whether the recorders take so many samples, so fast, and somebody knows when the stimulus begins in them."""
    signals = [file.signals.get(use.signals.get(one.source, one.source)) for one in use.node.readings]
    free: list[str] = []
    for name in dict.fromkeys(signal.role for signal in signals if signal is not None and signal.role in file.roles):
        recorder = file.roles[name]
        settings = file.instruments[recorder.instrument].profile.settings
        by_trigger = begins_by_trigger(file.roles, name, player.name)
        count = recorded_samples(stimulus, by_trigger=by_trigger)
        free += [] if by_trigger else [name]
        for key, value, what in (
            ("samples", float(count), f"{count:,} samples are recorded of {stimulus.name}"),
            ("interval", 1 / stimulus.rate, f"{recorder.instrument} is to record {stimulus.rate:g} samples a second"),
        ):
            extent = settings[key].extent if key in settings else None
            if extent is not None and not extent[0] * (1 - 1e-9) <= value <= extent[1] * (1 + 1e-9):
                unit = " s" if key == "interval" else ""
                ends = " to ".join(f"{end:,.9g}{unit}" for end in extent)
                remedy = f"{key} of {recorder.instrument}: {ends}. Shorten the stimulus, or change its rate."
                use.source.report(use.node.span, what, "", remedy)
    if free and all(part.kind != "marker" for part in stimulus.parts):
        use.source.report(
            use.node.span, f"nobody knows when {stimulus.name} begins in the records of {free[0]}", "",
            "Add to the stimulus: part marker, or to the role in the bench file: triggered_by = …",
        )  # fmt: skip
