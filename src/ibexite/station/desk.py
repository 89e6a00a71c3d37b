"""One reusable measurement at the desk: the sequence of one test that carries it out, and what it gave."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ibexite.errors import MistakeError, did_you_mean
from ibexite.station.opening import NotReady, Opened, Ready, companions_of, vet_on
from ibexite.station.project import find_project, need_bench, need_position, shown_path
from ibexite.untyped import Fields
from ibexite.values import Text

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.language import nodes
    from ibexite.language.program import MeasurementFacts
    from ibexite.records.stored_run import RunRecord

RESULT = "result"
FILE = "measure.ibx"  # the name of the sequence that is made


class Desk:
    """What a folder offers: the measurements of its project and those of installed packages."""

    def __init__(self, folder: Path) -> None:
        self.project = find_project(folder)
        self._companions = companions_of(folder / FILE, self.project)

    def offered(self) -> dict[str, MeasurementFacts]:
        """All of them, by name; those of the project go before others of the same name."""
        return {**self._companions.installed(), **self._companions.measurements()}

    def find(self, name: str) -> MeasurementFacts:
        """The measurement of this name. Raises MistakeError: there is none."""
        own = self._companions.measurements()
        facts = own.get(name) or self._companions.installed().get(name)
        if facts is None:
            raise MistakeError(
                f"there is no measurement {name!r}",
                remedy=did_you_mean(name, own)
                or f"Name a folder of them in {self.project.folder.name}/ibexite.toml: measurements",
            )
        return facts

    def open(self, facts: MeasurementFacts, inputs: dict[str, str], roles: dict[str, str], bench: Path | None) -> Ready:
        """A sequence of one test that carries out a measurement, vetted against the bench.

        Raises:
            MistakeError: an input or role that it does not have, a role or signal that the bench does not have.
            NotReady: it does not go with the bench.
        """
        from ibexite.bench.file import read_bench

        _check_names(facts, inputs, roles)
        file = read_bench(shown_path(need_bench(bench, self.project, Path(FILE))))
        need_position(file)
        _check_roles(facts, roles, file)
        return self.open_text(_sequence(facts, inputs, roles), file)

    def open_text(self, text: str, file: BenchFile) -> Ready:
        """A sequence that was made for a measurement, vetted against the bench. Raises NotReady: it does not go with
        it."""
        from ibexite.language.check import vet
        from ibexite.language.source import Source

        program = vet(Source(FILE, text), {}, self._companions)
        vet_on(program, file)
        if program.has_mistakes:
            raise NotReady(Opened(program, file, self.project))
        return Ready(program, file, self.project)


def kind_of(need: nodes.Need) -> str:
    """The class of a role, the unit or kind of a signal."""
    return need.class_name or (need.type.word if need.type else "")


def _check_names(facts: MeasurementFacts, inputs: dict[str, str], roles: dict[str, str]) -> None:
    for name in inputs:
        if name not in facts.inputs:
            raise MistakeError(
                f"{facts.name} has no input {name!r}", where="--with", remedy=did_you_mean(name, facts.inputs)
            )
    for name in roles:
        if name not in facts.needs:
            raise MistakeError(
                f"{facts.name} needs no {name!r}", where="--role", remedy=did_you_mean(name, facts.needs)
            )


def _check_roles(facts: MeasurementFacts, roles: dict[str, str], file: BenchFile) -> None:
    """Refuses names that the bench does not have; the kinds of those it has are vetted with the sequence.

    Raises:
        MistakeError: with the option that says what plays a role.
    """
    for name, need in facts.needs.items():
        what = "role" if need.is_role else "route" if need.is_route else "signal"
        known: Collection[str] = file.roles if need.is_role else file.routes if need.is_route else file.signals
        if roles.get(name, name) not in known:
            raise MistakeError(
                f"{facts.name} needs the {what} {name!r}, and the bench has no {what} {roles.get(name, name)!r}",
                where=str(file.path),
                remedy=f"Say what plays it: --role {name}=NAME. There is: {', '.join(sorted(known))}.",
            )


def _sequence(facts: MeasurementFacts, inputs: dict[str, str], roles: dict[str, str]) -> str:
    """The text of the sequence."""
    from ibexite.language import constants
    from ibexite.language.given_values import parse_typed

    arguments = [f"{name} = {roles.get(name, name)}" for name in facts.needs]
    for name, text in inputs.items():
        kind = facts.inputs[name]
        value = parse_typed(kind, text, f"--with {name}")
        arguments.append(f'{name} = "{value}"' if isinstance(kind, Text) else
                         f"{name} = {constants.written(value, kind.dimension, kind.shown)}")  # fmt: skip
    needs = []
    for name, need in facts.needs.items():
        what = need.words
        needs.append(f"    {roles.get(name, name)} : {what}")
    lines = [
        f'sequence "measurement {facts.name}"',
        '    product "measurement"', "", *(["needs", *needs, ""] if needs else []),
        f'test {facts.name} "{facts.title}"', f"    measure {facts.name}({', '.join(arguments)}) as {RESULT}",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def outputs_of(record: RunRecord, facts: MeasurementFacts) -> Fields:
    """The outputs that a stored run of a measurement has, with all their digits in base units; a hole is None."""
    outputs: Fields = {}
    for name, kind in facts.outputs.items():
        grid = record.tests[0].grid_with(f"{RESULT}.{name}")
        if grid is None:
            continue
        column = next(c for c in grid.columns if c["name"] == f"{RESULT}.{name}")
        values: list[Any] = [None if v != v else v for v in grid.values(column["name"])]
        axes = {a: list(grid.values(a)) for a in grid.axes}
        outputs[name] = {"unit": column["unit"], "kind": column["kind"]}
        outputs[name] |= {"values": values, "axes": axes} if kind.axes else {"value": values[0]}
    return outputs
