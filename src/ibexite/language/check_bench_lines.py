"""Checks the lines that touch hardware: set, do, send, read."""

from __future__ import annotations

from ibexite import units
from ibexite.classes import Feature
from ibexite.errors import did_you_mean
from ibexite.language import constants, nodes
from ibexite.language.check_names import NameChecker
from ibexite.language.program import PlayUse, RoleUse, SetPoint
from ibexite.language.source import Span
from ibexite.values import NUMBER, Quantity, Text, Type, YesNo


class BenchLineChecker(NameChecker):
    """The verbs set, do, send, read."""

    def _text(self, text: str, span: Span, *, bare: bool = False) -> None:
        raise NotImplementedError

    def _set(self, statement: nodes.Set) -> None:
        for assignment in statement.assignments:
            self._assignment(assignment)
            self.set_points.append(
                SetPoint(assignment, tuple(self.loops), assignment.role, self.source, self.scope.known)
            )

    def _assignment(self, assignment: nodes.Assignment) -> None:
        known = self.role(assignment.role, assignment.span)
        kind = self.scalar(assignment.value)
        if known is None:
            return
        feature = known.settings.get(assignment.setting)
        start = assignment.span.start + len(assignment.role) + 1
        span = Span(start, assignment.span.end)
        if feature is None:
            what = "a reading, not a setting" if assignment.setting in known.readings else ""
            self.source.report(
                span,
                f"unknown setting {assignment.setting!r}",
                what,
                f"{_a(known.name)} has none of this name. {did_you_mean(assignment.setting, known.settings)}",
            )
        elif kind is not None and not self._fits(feature, kind):
            same = [f.name for f in known.settings.values() if self._fits(f, kind)]
            takes, what = "on or off", "not on or off"
            if feature.dimension is not None:
                takes, what = units.describe(feature.dimension), "wrong unit"
            elif feature.choices:
                takes, what = "one of " + _quoted(feature.choices), "not one of its words"
            hint = f" Did you mean {assignment.role}.{same[0]}?" if same else ""
            self.source.report(
                assignment.value.span, what, str(kind), f"{assignment.role}.{assignment.setting} takes {takes}.{hint}"
            )
        elif feature.choices:
            self._choice(assignment, feature)

    @staticmethod
    def _fits(feature: Feature, kind: Type) -> bool:
        if feature.choices:
            return isinstance(kind, Text)
        if feature.is_switch:
            return isinstance(kind, YesNo)
        return isinstance(kind, Quantity) and kind.dimension == feature.dimension and not kind.is_complex

    def _choice(self, assignment: nodes.Assignment, feature: Feature) -> None:
        """A word that is known before the run must be one that the setting takes."""
        for word, span in self._words_of(assignment.value):
            if word not in feature.choices:
                self.source.report(
                    span, f"there is no choice {word!r}", "",
                    f"{assignment.role}.{assignment.setting} takes one of {_quoted(feature.choices)}.",
                )  # fmt: skip

    def _words_of(self, value: nodes.Expr) -> list[tuple[str, Span]]:
        """The words that a value is known to be, each with its place: a text, a parameter, all of a sweep."""
        if isinstance(value, nodes.Text):
            return [(value.value, value.span)]
        if not isinstance(value, nodes.Name):
            return []
        for loop in reversed(self.loops):
            if loop.name == value.name:
                given = loop.values if isinstance(loop, nodes.Sweep) else ()
                return [(one.value, one.span) for one in given if isinstance(one, nodes.Text)]
        known = self.scope.known.get(value.name)
        return [(known, value.span)] if isinstance(known, str) else []

    def _do(self, statement: nodes.Do) -> None:
        known = self.role(statement.role, statement.span)
        self.uses.append(RoleUse(statement, statement.role, self.source))
        if known is not None and statement.action not in known.actions:
            self.source.report(
                Span(statement.span.end - len(statement.action), statement.span.end),
                f"unknown action {statement.action!r}",
                "",
                f"{_a(known.name)} has none of this name. {did_you_mean(statement.action, known.actions)}",
            )

    def _connect(self, statement: nodes.Connect) -> None:
        names = [name for name, _ in statement.routes]
        for name, span in statement.routes:
            need = self.scope.needs.get(name)
            self.scope.used.add(name)
            routes = [n.name for n in self.scope.needs.values() if n.is_route]
            if need is None:
                hint = did_you_mean(name, routes) or f"Declare it below needs: {name} : route"
                self.source.report(span, f"'{name}' is not among the needs", "", hint)
            elif not need.is_route:
                what = "a signal" if need.is_signal else "a role"
                self.source.report(span, f"'{name}' is {what}, not a route", "", did_you_mean(name, routes))
            elif names.count(name) > 1 and span == statement.routes[names.index(name)][1]:
                self.source.report(span, f"'{name}' stands here twice", "", "Name each route once.")

    def _play(self, statement: nodes.Play) -> None:
        known = self.role(statement.role, Span(statement.span.end - len(statement.role), statement.span.end))
        stimuli = self.program.stimuli
        if statement.stimulus not in stimuli:
            remedy = did_you_mean(statement.stimulus, stimuli) or "Declare it at the left margin: stimulus ping"
            start = statement.span.start
            self.source.report(
                Span(start, start + len(statement.stimulus)), f"unknown stimulus {statement.stimulus!r}", "", remedy
            )
        if known is not None and not known.plays:
            self.source.report(statement.span, f"{_a(known.name)} plays no stimulus", "", "A function_generator does.")
        self.plays.append(PlayUse(statement, statement.role, self.source))
        for reading in statement.readings:
            kind = self.recorded(reading)
            if kind is None:
                self.broken.add(reading.name)
            else:
                self.bind_in_turn(reading.name, "read", kind, reading.span)
        if statement.readings:
            self.bind_in_turn(statement.repeats, "read", NUMBER, statement.span)
        self._marker(statement)
        if statement.again is not None:
            self.condition(statement.again, "again while level_of(rec.mic, ping.silence) > 62 dBSPL at most 3 times")

    def _marker(self, statement: nodes.Play) -> None:
        captured = [reading.source for reading in statement.readings]
        if statement.marker and statement.marker not in captured:
            remedy = f"It is looked for in one of these: {', '.join(captured)}."
            self.source.report(statement.span, f"{statement.marker} is not captured", "", remedy)
        known = self.program.stimuli.get(statement.stimulus)
        if statement.marker and known is not None and all(part.kind != "marker" for part in known.parts):
            self.source.report(statement.span, f"{known.name} has no marker", "", "Add to it: part marker")

    def _send(self, statement: nodes.Send) -> None:
        self.role(statement.role, statement.span)
        self.uses.append(RoleUse(statement, statement.role, self.source))
        self._text(statement.text, Span(statement.span.end - len(statement.text) - 2, statement.span.end), bare=True)

    def _read(self, statement: nodes.Read) -> None:
        for reading in statement.readings:
            kind = self.reading(reading)
            if kind is None:
                self.broken.add(reading.name)
                continue
            is_number = isinstance(kind, Quantity) and not kind.axes
            if not is_number and (statement.averaging > 1 or statement.settled is not None):
                self.source.report(reading.span, "not a number", str(kind), "Only numbers are averaged or settle.")
            if kind.axes:
                self._whole_curve(reading, kind)
                continue
            self.bind_in_turn(reading.name, "read", kind, reading.span)
            if statement.settled is not None and isinstance(kind, Quantity):
                self._settled(statement.settled, kind)

    def _whole_curve(self, reading: nodes.Reading, kind: Type) -> None:
        """A reading that gives a curve: within loops that of this turn, after them those of all turns."""
        feature = self._feature(reading)
        assert feature is not None
        for axis, dimension in feature.axes.items():
            self.foreign_axes[axis] = self.program.axes[axis] = Quantity((axis,), dimension)
        self.bind_in_turn(reading.name, "read", kind, reading.span)

    def _feature(self, reading: nodes.Reading) -> Feature | None:
        known = self.program.class_of(self.scope.needs.get(reading.role or ""))
        return known.readings.get(reading.source) if known is not None else None

    def _settled(self, expr: nodes.Expr, kind: Type) -> None:
        found = self.scalar(expr)
        if found is not None and not self.typer.is_difference(expr, found, kind):
            wanted = units.describe(units.difference(kind.dimension))
            self.source.report(expr.span, "wrong unit", str(found), f"Two readings in a row agree to within {wanted}.")

    def reading(self, reading: nodes.Reading) -> Type | None:
        """The type of one value of a read line."""
        if reading.query:
            self.role(reading.role or "", reading.span)
            self.uses.append(RoleUse(reading, reading.role or "", self.source))
            return reading.type
        if reading.role is not None:
            return self._role_reading(reading)
        need = self.signal(reading.source, reading.span)
        return need.type if need is not None else None

    def _role_reading(self, reading: nodes.Reading) -> Type | None:
        for name, value in reading.arguments:
            number = constants.number(value, self.scope.known)
            if name == "channel" and number is not None and (number < 0 or number % 1):
                self.source.report(value.span, "not a channel number", "", "Write, for example: channel = 101")
            if self.scalar(value) is not None and not self.names.keys().isdisjoint(constants.names_in(value)):
                self.source.report(
                    value.span,
                    "it must be known before the run",
                    "what is measured or swept here is not",
                    "Instruments are set up once for a line: use a number or a parameter.",
                )
        self.uses.append(RoleUse(reading, reading.role or "", self.source))
        known = self.role(reading.role or "", reading.span)
        if known is None:
            return None
        feature = known.readings.get(reading.source)
        if feature is None:
            self.source.report(
                Span(reading.span.end - len(reading.source), reading.span.end),
                f"unknown reading {reading.source!r}",
                "",
                f"{_a(known.name)} has none of this name. {did_you_mean(reading.source, known.readings)}",
            )
            return None
        return feature.type


def _quoted(words: tuple[str, ...]) -> str:
    return ", ".join(f'"{word}"' for word in words)


def _a(class_name: str) -> str:
    text = class_name.replace("_", " ")
    return ("An " if text[0] in "aeiou" else "A ") + text
