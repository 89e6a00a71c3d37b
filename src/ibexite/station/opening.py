"""Opens a sequence with its project, its companions and its bench: what is wrong is found, all of it, and nothing is
connected. Findings are values; what becomes of them is the caller's business."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import MistakeError
from ibexite.frozen import frozen
from ibexite.station.project import Project, find_project, need_bench, need_position, shown_path

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.companions.files import Files
    from ibexite.language.program import Program
    from ibexite.language.source import Finding, Source


@frozen
class Opened:
    """A vetted sequence; the bench file is None where none is named and none is needed."""

    program: Program
    bench: BenchFile | None
    project: Project

    @property
    def findings(self) -> list[tuple[Source, Finding]]:
        """All mistakes, warnings and notes, each with the text that it stands in."""
        return [(source, finding) for source in self.program.sources for finding in source.sorted_findings()]

    @property
    def has_mistakes(self) -> bool:
        """True for what must not be run."""
        return self.program.has_mistakes


@frozen
class Ready:
    """A sequence without mistakes, and the bench that it was vetted against: it may be run."""

    program: Program
    bench: BenchFile
    project: Project


class NotReady(Exception):
    """A sequence with mistakes, which are in `opened`."""

    def __init__(self, opened: Opened) -> None:
        super().__init__("there are mistakes in the sequence")
        self.opened = opened


def open_to_run(sequence: Path, bench: Path | None, given: Mapping[str, str]) -> Ready:
    """A sequence that may be run with these parameters.

    Raises:
        MistakeError: a file cannot be read, no bench is named, or no position where the bench has several.
        NotReady: there are mistakes.
    """
    program, project = _vet(sequence, given)
    opened = _against(program, project, need_bench(bench, project, sequence))
    if opened.bench is not None:
        need_position(opened.bench)
    if opened.has_mistakes or opened.bench is None:
        raise NotReady(opened)
    return Ready(opened.program, opened.bench, project)


def open_to_judge(sequence: Path, given: Mapping[str, str], limits: Path | None) -> Program:
    """A sequence that stored runs are judged by: without a bench, perhaps by another limit table.

    Raises:
        MistakeError: a file cannot be read; the sequence has no limit table in whose place another one could stand.
        NotReady: there are mistakes.
    """
    program, project = _vet(sequence, given, limits)
    if program.has_mistakes:
        raise NotReady(Opened(program, None, project))
    return program


def open_to_vet(sequence: Path, bench: Path | None, given: Mapping[str, str]) -> Opened:
    """A sequence with all that is wrong about it; where a parameter has choices (a variant), with each of them.

    Raises:
        MistakeError: a file cannot be read.
    """
    program, project = _vet(sequence, given)
    opened = _against(program, project, bench or project.bench_for(sequence))
    for option, where in _other_choices(program, given):
        other, _ = _vet(sequence, {**given, **option})
        if opened.bench is not None:
            vet_on(other, opened.bench)
        _take_over(program, other, where)
    return opened


def _vet(sequence: Path, given: Mapping[str, str], limits: Path | None = None) -> tuple[Program, Project]:
    """A sequence with all that it names; `limits` stands in the place of its limit table."""
    from ibexite.language.check import vet
    from ibexite.language.source import read_source

    source, project = read_source(sequence), find_project(sequence)
    companions = companions_of(sequence, project)
    companions.limits_instead = limits
    program = vet(source, given, companions)
    if limits is not None and not program.limits_file:
        raise MistakeError(
            "the sequence names no limit table", where=str(sequence), remedy='Write in its head: limits "limits.csv"'
        )
    program.python_files = companions.python_files + ([companions.limit_file] if companions.limit_file else [])
    return program, project


def _against(program: Program, project: Project, bench: Path | None) -> Opened:
    if bench is None:
        return Opened(program, None, project)
    from ibexite.bench.file import read_bench

    file = read_bench(shown_path(bench))
    vet_on(program, file)
    return Opened(program, file, project)


def vet_on(program: Program, file: BenchFile) -> None:
    """Compares a program with a bench; what is wrong is reported."""
    from ibexite.engine.bench_facts import bench_facts
    from ibexite.language.facts import vet_against

    vet_against(program, bench_facts(file))
    if program.plays:
        from ibexite.engine.play_facts import vet_plays

        vet_plays(program, file)
    if program.recordings:
        from ibexite.engine.record_facts import vet_recordings

        vet_recordings(program, file)


def companions_of(sequence: Path, project: Project) -> Files:
    """The files that a sequence may name."""
    from ibexite.companions.files import Files

    return Files(
        Path(shown_path(sequence.parent)),
        tuple(Path(shown_path(f)) for f in project.measurements),
        Path(shown_path(project.folder)),
    )


def declared_params(sequence: Path) -> list[str]:
    """The names of the parameters that a sequence declares, whatever else is wrong with it."""
    from ibexite.language.build import build_sequence
    from ibexite.language.source import read_source

    return [param.name for param in build_sequence(read_source(sequence)).params]


def _other_choices(program: Program, given: Mapping[str, str]) -> Iterator[tuple[dict[str, str], str]]:
    """Each choice of a parameter that is not the one just vetted, as a parameter from outside and in words."""
    from ibexite.language import constants

    for param in program.sequence.params:
        if not param.choices or param.name in given or param.name not in program.params:
            continue
        kind = program.param_types[param.name]
        for choice in param.choices:
            value = constants.evaluate(choice, program.params)
            if value is not None and value != program.params[param.name]:
                text = constants.written(value, kind.dimension, kind.shown)
                yield {param.name: text}, f"with {param.name} = {text}"


def _take_over(program: Program, other: Program, where: str) -> None:
    """Mistakes that another choice brings are told with it."""
    for source in program.sources:
        same = next((s for s in other.sources if s.name == source.name), None)
        for finding in same.sorted_findings() if same is not None else ():
            if finding.level == "mistake":
                source.report(finding.span, finding.title, finding.mark or where, f"{finding.remedy} ({where})".strip())
