"""Checks tests, groups and the blocks around them, each with its limits and clauses."""

from __future__ import annotations

from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import replaced
from ibexite.language import constants, nodes
from ibexite.language.check_declarations import DeclarationChecker
from ibexite.language.program import Scope
from ibexite.language.source import Span


class TestChecker(DeclarationChecker):
    """The tests of a sequence in their order."""

    __test__ = False  # not for pytest

    def _limits(self) -> None:
        sequence = self.program.sequence
        if not sequence.limits or self.companions is None:
            return
        try:
            self.limit_table = self.companions.limits(sequence.limits)
            self.program.limits_file, digest = self.limit_table.path, self.limit_table.sha256
            self.program.is_table_approved = not self.companions.objection(self.limit_table.path, digest)
            edited = self.companions.objection(self.limit_table.path, digest, is_needed=False)
            self.program.objections[self.limit_table.path] = edited
        except MistakeError as error:
            what = f"{error.where}: {error.what}" if error.where else error.what
            self.program.source.report(sequence.limits_span, what, "", error.remedy)

    def _tests(self) -> None:
        program, sequence, source = self.program, self.program.sequence, self.program.source
        self._block("before lot", sequence.before_lot, program.main)
        self._block("before unit", sequence.before_unit, program.main)
        seen: set[str] = set()
        previous = ""
        for part in sequence.parts:
            scope = program.main
            if isinstance(part, nodes.Group):
                self._declared(part.name, part.span, seen)
                scope = self._group(part)
            for test in part.tests if isinstance(part, nodes.Group) else (part,):
                self._declared(test.name, test.span, seen)
                self._clauses(test, previous, scope)
                self._block(test.name, test.body, scope)
                previous = test.name
        self._block("after unit", sequence.after_unit, program.main)
        self._block("after lot", sequence.after_lot, program.main)
        unused = self.limit_table.unused() if self.limit_table is not None else []
        if unused:
            source.report(
                sequence.limits_span, "rows of the limit table that no check uses", "",
                f"{', '.join(unused[:8])}{' …' if len(unused) > 8 else ''}: a misspelt name, a missing check?",
                level="warning",
            )  # fmt: skip
        if sequence.limits and self.limit_table is None and self.companions is None:
            source.findings = [f for f in source.findings if f.title != "a check without limits"]

    def _declared(self, name: str, span: Span, seen: set[str]) -> None:
        if name in seen or name in self.program.needs or name in self.program.params:
            self.program.source.report(span, f"'{name}' is declared twice", "", "Give the test another name.")
        seen.add(name)

    def _group(self, group: nodes.Group) -> Scope:
        """The scope of the tests of a group: the corner is known by its type, its value differs from turn to turn."""
        main = self.program.main
        if group.condition is not None:
            self.block_checker(main, group.name).condition(group.condition, 'if variant == "A"')
        if not group.corner:
            return main
        checker = self.block_checker(main, group.name)
        kinds = [checker.scalar(value) for value in group.values]
        first = kinds[0]
        for expr, kind in zip(group.values, kinds, strict=True):
            if kind is not None and first is not None and not kind.fits(first):
                self.program.source.report(expr.span, "wrong unit", str(kind), f"The first corner is {first}.")
            if constants.evaluate(expr, main.known) is None and kind is not None:
                self.program.source.report(
                    expr.span, "not known before the run", "", "Corners are numbers or parameters."
                )
        if group.corner in main.types or group.corner in main.needs:
            self.program.source.report(group.span, f"'{group.corner}' is declared twice")
        return main.inner(main.needs, {}, {group.corner: first} if first is not None else {})

    def _clauses(self, test: nodes.Test, previous: str, scope: Scope) -> None:
        source = self.program.source
        if test.condition is not None:
            self.block_checker(scope, test.name).condition(test.condition, 'if variant == "A"')
        for name, span in test.needs_pass:
            if name not in self.program.names or " " in name:
                earlier = [n for n in self.program.names if " " not in n]
                later = any(t.name == name for t in self.program.sequence.tests)
                source.report(
                    span,
                    f"no test {name!r} before this one",
                    "",
                    "It runs later." if later else did_you_mean(name, earlier),
                )
        if test.keeps_state and not previous:
            source.report(
                test.span, "no test before it", "", "'keeps state' begins with the state that the test before left."
            )

    def _block(self, name: str, body: tuple[nodes.Statement, ...], scope: Scope) -> None:
        checker = self.block_checker(scope, name)
        first = len(self.program.set_points)
        checker.check_block(body)
        self.program.names[name] = checker.names
        group = next((p for p in self.program.sequence.parts if isinstance(p, nodes.Group) and p.corner
                      and any(t.body is body for t in p.tests)), None)  # fmt: skip
        if group is not None:  # each corner gives set points of its own
            mine = self.program.set_points[first:]
            del self.program.set_points[first:]
            for value, _ in self.program.corners(group):
                assert value is not None
                self.program.set_points += [replaced(p, known={**p.known, group.corner: value}) for p in mine]

    def _switches(self) -> None:
        """A level that is set on a role whose output is never switched on reaches nothing: surely a forgotten line."""
        program = self.program
        switched = {(p.role, p.assignment.setting) for p in program.set_points}
        told: set[str] = set()
        for point in program.set_points:
            role, setting = point.role, point.assignment.setting
            known = program.class_of(program.needs.get(role))
            if known is None or not known.switch or setting not in known.levels or role in told:
                continue  # what has no output gives its level as it is set
            if (role, known.switch) in switched:
                continue
            told.add(role)
            point.source.report(
                point.assignment.span,
                "nothing switches it on",
                remedy=f"{role}.{setting} is set, but {role}.{known.switch} never is. "
                f"Write: set {role}.{known.switch} = on",
            )
