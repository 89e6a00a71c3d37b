"""From lines to statements, verb by verb."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from ibexite.decision_rules import GUARDED, RISK, SIMPLE, UNDECIDED
from ibexite.errors import did_you_mean
from ibexite.language import nodes, words
from ibexite.language.build_expr import ExprBuilder, string
from ibexite.language.grammar import parse_line
from ibexite.language.layout import Line
from ibexite.language.parser import Token, Tree
from ibexite.language.source import Span
from ibexite.untyped import Fields
from ibexite.values import NUMBER, TEXT, YES_NO, declared

_SPACINGS = {
    "by_step": "step", "in_points": "points", "in_log_points": "log", "per_decade": "decade", "per_octave": "octave",
}  # fmt: skip


# The clauses of a check line in their order, with how they are written; and those that are one of several forms.
_CHECK_CLAUSES = {
    "where": "where", "aligned": "aligned by", "guarded": "guarded by", "not_older": "not older than",
    "allowing": "allowing", "label": "as",
}  # fmt: skip
_RULE_CLAUSES = {
    "guarded": GUARDED, "guarded_or_undecided": UNDECIDED, "guarded_for_a_risk": RISK, "uncertain": SIMPLE,
}  # fmt: skip


class DeedBuilder(ExprBuilder):
    """Builds the lines of a block."""

    def parse(self, line: Line, start: str, usage: dict[str, tuple[str, ...]]) -> Tree | None:
        """The parse tree of a line; None after reporting what is wrong with it."""
        self.offset = line.start
        if line.is_broken:
            return None
        word = line.first_word
        if word not in usage:
            kind = "verb" if start == "deed_line" else "word"
            end = line.start + (len(word) or 1)
            shown = word or line.text.strip()[:1]
            self.source.report(Span(line.start, end), f"unknown {kind} {shown!r}", "", self._why_not(word, usage))
            return None
        return parse_line(self.source, line.text, line.start, start, usage[word])

    def _why_not(self, word: str, usage: dict[str, tuple[str, ...]]) -> str:
        for where, table in (
            ("inside a test or before/after unit", words.USAGE),
            ("at the left margin", words.TOP_USAGE),
            ("below the sequence line", words.HEADER_USAGE),
            ("inside a measurement", words.SECTION_USAGE),
            ("below a stimulus line", words.STIMULUS_USAGE),
        ):
            if word in table and table is not usage:
                return f"A '{word}' line stands {where}."
        return did_you_mean(word, usage)

    def no_block(self, line: Line) -> None:
        """Reports lines below a line that has none."""
        if line.children:
            self.source.report(
                line.children[0].span,
                "unexpected indentation",
                "",
                f"A '{line.first_word}' line has no block below it.",
            )

    def block(self, line: Line) -> tuple[nodes.Statement, ...]:
        """The statements below a line; it must have some."""
        if not line.children:
            self.source.report(line.span, "an empty block", "", "Indent the lines that belong to it by four spaces.")
        return self.statements(line.children)

    def statements(self, lines: list[Line]) -> tuple[nodes.Statement, ...]:
        """The statements of lines."""
        built: list[nodes.Statement] = []
        for line in lines:
            tree = self.parse(line, "deed_line", words.USAGE)
            if line.first_word not in words.BLOCKS:
                self.no_block(line)
            if tree is None:
                if line.first_word in words.BLOCKS:
                    self.block(line)
                continue
            if tree.data in ("else", "else_if"):
                self._else(line, tree, built)
                continue
            statement: Callable[[Line, Tree], nodes.Statement | None] = getattr(self, f"_{tree.data}")
            offset = self.offset
            made = statement(line, tree)
            self.offset = offset
            if made is not None:
                built.append(made)
        return tuple(built)

    # --- what touches hardware ---------------------------------------------------------------------------------------

    def _set(self, line: Line, tree: Tree) -> nodes.Set:
        assignments = []
        is_verified = False
        for child in tree.children:
            if child is None or child.data == "verified":
                is_verified |= child is not None
                continue
            role, setting, value = child.children
            span = Span(self._span(role).start, self._span(setting).end)
            assignments.append(nodes.Assignment(span, str(role), str(setting), self.expr(value)))
        return nodes.Set(line.span, tuple(assignments), is_verified)

    def _read(self, line: Line, tree: Tree) -> nodes.Read:
        readings = [self._reading(child) for child in tree.children if child.data.startswith("read_")]
        clauses: dict[str, Tree] = {}
        for clause in (c for c in tree.children if not c.data.startswith("read_")):
            if clause.data in clauses:
                self.source.report(
                    line.span, f"two '{clause.data}' clauses", "", words.whole_usage(words.USAGE["read"])
                )
            clauses[str(clause.data)] = clause
        counts = {
            key: self._count(clauses[key].children[0], key) if key in clauses else default
            for key, default in (("averaging", 1), ("tries", 3))
        }
        settled = self.expr(clauses["settled"].children[0]) if "settled" in clauses else None
        return nodes.Read(
            line.span, tuple(readings), "together" in clauses, counts["averaging"], counts["tries"], settled
        )

    def _reading(self, tree: Tree) -> nodes.Reading:
        name = tree.children[0]
        span = self._span(name)
        self._new_name(name)
        if tree.data == "read_signal":
            return nodes.Reading(span, str(name), str(name))
        if tree.data == "read_renamed":
            return nodes.Reading(self._span(tree.children[1]), str(name), str(tree.children[1]))
        if tree.data in ("read_query", "read_query_kind"):
            _, role, text, what = tree.children
            kind = declared(self._unit(what) if tree.data == "read_query" else str(what))
            return nodes.Reading(self._span(role), str(name), "", str(role), (), string(text), kind)
        _, role, reading, *arguments = tree.children
        place = Span(self._span(role).start, self._span(reading).end)
        named = self._named(a for a in arguments if a is not None)
        return nodes.Reading(place, str(name), str(reading), str(role), named)

    def _named(self, arguments: Iterable[Tree]) -> tuple[tuple[str, nodes.Expr], ...]:
        named = []
        for argument in arguments:
            if argument.data != "named_argument":
                self.source.report(
                    self._span(argument), "an argument without a name", "", "Write it as (channel = 103)."
                )
                continue
            named.append((str(argument.children[0]), self.expr(argument.children[1])))
        return tuple(named)

    def _do(self, line: Line, tree: Tree) -> nodes.Do:
        role, action = tree.children
        return nodes.Do(Span(self._span(role).start, self._span(action).end), str(role), str(action))

    def _play(self, line: Line, tree: Tree) -> nodes.Play:
        stimulus, role, capturing = tree.children
        span = Span(self._span(stimulus).start, self._span(role).end)
        if capturing is None:
            return nodes.Play(span, str(stimulus), str(role))
        *signals, name, marker, again = capturing.children
        self._new_name(name)
        readings = tuple(nodes.Reading(self._span(signal), f"{name}.{signal}", str(signal)) for signal in signals)
        condition, times = again.children if again is not None else (None, None)
        return nodes.Play(
            span, str(stimulus), str(role), str(name), readings,
            str(marker.children[0]) if marker is not None else "",
            self.expr(condition) if condition is not None else None,
            self._count(times, "at most") if times is not None else 0,
        )  # fmt: skip

    def _record(self, line: Line, tree: Tree) -> nodes.Record:
        name, *signals, every = tree.children
        self._new_name(name)
        readings = tuple(nodes.Reading(self._span(signal), f"{name}.{signal}", str(signal)) for signal in signals)
        return nodes.Record(self._span(name), str(name), readings, self.expr(every), self.block(line))

    def _connect(self, line: Line, tree: Tree) -> nodes.Connect:
        routes = tuple((str(name), self._span(name)) for name in tree.children)
        return nodes.Connect(line.span, routes, tree.data == "connect")

    _disconnect = _connect

    def _send(self, line: Line, tree: Tree) -> nodes.Send:
        role, text = tree.children
        return nodes.Send(Span(self._span(role).start, self._span(text).end), str(role), string(text))

    # --- computing and judging ---------------------------------------------------------------------------------------

    def _let(self, line: Line, tree: Tree) -> nodes.Let:
        name, value, shown = tree.children
        self._new_name(name)
        return nodes.Let(self._span(name), str(name), self.expr(value), self._unit(shown) if shown else None)

    def _check(self, line: Line, tree: Tree) -> nodes.Check:
        value, demand, *clauses = tree.children
        if demand is not None and demand.data in (*_CHECK_CLAUSES, *_RULE_CLAUSES):
            clauses, demand = [demand, *clauses], None
        found = self._check_clauses(line, clauses)
        criterion = self.criterion(demand) if demand is not None else None
        return nodes.Check(
            line.span, self.expr(value), criterion, found.get("where"), found.get("label"), found.get("guarded"),
            found.get("allowing", 0), tuple(found[name] for name in ("aligned", "along") if name in found),
            found.get("not_older"), found.get("rule", GUARDED), found.get("risk"),
        )  # fmt: skip

    def _check_clauses(self, line: Line, clauses: list[Tree]) -> Fields:
        """What the clauses of a check line say; that limits may be moved along an axis is a clause of its own."""
        found: Fields = {}
        order, last = list(_CHECK_CLAUSES), -1
        for clause in clauses:
            name = "guarded" if clause.data in _RULE_CLAUSES else str(clause.data)
            place = order.index(name)
            if name == "aligned" and clause.children[1] is not None:
                name = "along"
            if name in found:
                self.source.report(
                    self._span(clause), f"two '{_CHECK_CLAUSES.get(name, 'aligned by')}' clauses", "",
                    words.usage_for(words.USAGE["check"], line.text),
                )  # fmt: skip
            elif place < last:
                told = ", ".join(_CHECK_CLAUSES.values())
                self.source.report(self._span(clause), "clauses out of order", "", f"Their order is: {told}.")
            last = max(last, place)
            found[name] = self._check_clause(clause)
            if name == "guarded":
                found["rule"] = _RULE_CLAUSES[str(clause.data)]
                found["risk"] = self.expr(clause.children[1]) if len(clause.children) > 1 else None
        return found

    def _check_clause(self, clause: Tree) -> object:
        first = clause.children[0]
        match clause.data:
            case "label":
                return string(first)
            case "allowing":
                return self._count(first, "allowing", least=0)
            case "aligned":
                along = clause.children[1]
                return nodes.Aligned(self._span(clause), self.expr(first), str(along) if along is not None else None)
        return self.expr(first)

    def _plot(self, line: Line, tree: Tree) -> nodes.Plot:
        *curves, by, title = tree.children
        *ys, x = (".".join(str(part) for part in curve.children if part is not None) for curve in curves)
        return nodes.Plot(line.span, tuple(ys), x, str(by) if by else None, string(title) if title else None)

    # --- time and loops ----------------------------------------------------------------------------------------------

    def _wait(self, line: Line, tree: Tree) -> nodes.Wait:
        return nodes.Wait(line.span, self.expr(tree.children[0]))

    def _wait_reading(self, line: Line, tree: Tree) -> nodes.WaitReading:
        readings = [c for c in tree.children if isinstance(c, Tree) and str(c.data).startswith("read_")]
        every, until, count, timeout = tree.children[len(readings) :]
        read = nodes.Read(line.span, tuple(self._reading(r) for r in readings), len(readings) > 1, 1)
        number = self._count(count.children[0], "for … readings") if count else 1
        return nodes.WaitReading(line.span, read, self.expr(every), self.expr(until), number, self.expr(timeout))

    def _watch(self, line: Line, tree: Tree) -> nodes.Watch:
        signal, criterion, every, allowing, stops = tree.children
        made = self.criterion(criterion), self.expr(every)
        allowed = self._count(allowing.children[0], "allowing", least=0) if allowing is not None else 0
        return nodes.Watch(self._span(signal), str(signal), *made, stops is not None, self.block(line), allowed)

    def _sweep_over(self, line: Line, tree: Tree) -> nodes.Sweep:
        name, *values = tree.children
        return self._sweep(line, name, tuple(self.expr(v) for v in values), ())

    def _sweep_file(self, line: Line, tree: Tree) -> nodes.Sweep:
        name, file = tree.children
        return self._sweep(line, name, (), (), string(file))

    def _sweep_from(self, line: Line, tree: Tree) -> nodes.Sweep:
        name, *segments, refine = tree.children
        made = None
        if refine is not None:
            column, how, most = refine.children
            made = nodes.Refine(
                self._span(refine),
                str(column),
                "bends" if how.data == "bends" else "limit",
                self._count(most, "at most"),
            )
        return self._sweep(line, name, (), tuple(self._segment(s) for s in segments), "", made)

    def _sweep(
        self,
        line: Line,
        name: Token,
        values: tuple[nodes.Expr, ...],
        segments: tuple[nodes.Segment, ...],
        file: str = "",
        refine: nodes.Refine | None = None,
    ) -> nodes.Sweep:
        self._new_name(name)
        return nodes.Sweep(self._span(name), str(name), values, segments, self.block(line), file, refine)

    def _segment(self, tree: Tree) -> nodes.Segment:
        start, end, spacing = tree.children
        kind = _SPACINGS[spacing.data]
        amount = self.expr(spacing.children[0])
        return nodes.Segment(self._span(tree), self.expr(start) if start else None, self.expr(end), kind, amount)

    def _repeat_times(self, line: Line, tree: Tree) -> nodes.Repeat:
        name, amount, every = tree.children
        return self._repeat(line, "times", name, amount, every, None)

    def _repeat_for(self, line: Line, tree: Tree) -> nodes.Repeat:
        name, amount, every = tree.children
        return self._repeat(line, "for", name, amount, every, None)

    def _repeat_until(self, line: Line, tree: Tree) -> nodes.Repeat:
        name, condition, every, timeout = tree.children
        return self._repeat(line, "until", name, condition, every, timeout)

    def _repeat(
        self, line: Line, kind: str, name: Token, amount: Tree, every: Tree | None, timeout: Tree | None
    ) -> nodes.Repeat:
        self._new_name(name)
        made = [self.expr(e) if e is not None else None for e in (amount, every, timeout)]
        assert made[0] is not None
        return nodes.Repeat(self._span(name), str(name), kind, made[0], made[1], made[2], self.block(line))

    def _search(self, line: Line, tree: Tree) -> nodes.Search:
        name, start, end, step, resolution, halving, until = tree.children
        self._new_name(name)
        made = [self.expr(e) if e is not None else None for e in (start, end, step, resolution, until)]
        assert made[0] and made[1] and made[3] and made[4]
        return nodes.Search(self._span(name), str(name), made[0], made[1], made[2], made[3],
                            halving is not None, made[4],
                            self.block(line))  # fmt: skip

    def _leave(self, line: Line, tree: Tree) -> nodes.Leave:
        return nodes.Leave(line.span, string(tree.children[0]))

    def _skip(self, line: Line, tree: Tree) -> nodes.Skip:
        return nodes.Skip(line.span, string(tree.children[0]))

    def _stop(self, line: Line, tree: Tree) -> nodes.Stop:
        return nodes.Stop(line.span, string(tree.children[0]))

    def _if(self, line: Line, tree: Tree) -> nodes.If:
        condition = self.expr(tree.children[0])
        return nodes.If(line.span, ((condition, self.block(line)),), ())

    def _else(self, line: Line, tree: Tree, built: list[nodes.Statement]) -> None:
        condition = self.expr(tree.children[0]) if tree.data == "else_if" else None
        body = self.block(line)
        before = built[-1] if built else None
        if not isinstance(before, nodes.If) or before.otherwise:
            self.source.report(line.span, "'else' without 'if'", "", "It stands right below the block of an 'if'.")
        elif condition is not None:
            built[-1] = nodes.If(before.span, (*before.branches, (condition, body)), ())
        else:
            built[-1] = nodes.If(before.span, before.branches, body)

    # --- measurements and programs -----------------------------------------------------------------------------------

    def _measure(self, line: Line, tree: Tree) -> nodes.Measure:
        measurement, *arguments, name = tree.children
        self._new_name(name)
        named = self._named(a for a in arguments if a is not None)
        return nodes.Measure(self._span(measurement), str(measurement), named, str(name))

    def _call_program(self, line: Line, tree: Tree) -> nodes.CallExecutable:
        program, *parts, timeout = tree.children
        parts = [part for part in parts if part is not None]
        named = self._named(part for part in parts if part.data == "named_argument")
        gives = tuple(self.typed(part) for part in parts if part.data != "named_argument")
        return nodes.CallExecutable(self._span(program), string(program), named, gives, self.expr(timeout))

    def typed(self, tree: Tree) -> nodes.Typed:
        """A result with its type."""
        name, kind, *axes = tree.children
        self._new_name(name)
        made = self._unit(kind) if tree.data == "typed_unit" else str(kind)
        return nodes.Typed(self._span(name), str(name), declared(made, tuple(str(axis) for axis in axes if axis)))

    # --- the operator and the report ---------------------------------------------------------------------------------

    def _show(self, line: Line, tree: Tree) -> nodes.Show:
        return nodes.Show(self._span(tree.children[0]), string(tree.children[0]))

    def _note(self, line: Line, tree: Tree) -> nodes.Show:
        return nodes.Show(self._span(tree.children[0]), string(tree.children[0]), "note")

    def _teach(self, line: Line, tree: Tree) -> nodes.Teach:
        *curves, name = tree.children
        names = tuple((".".join(str(part) for part in curve.children if part is not None), self._span(curve))
                      for curve in curves)  # fmt: skip
        return nodes.Teach(self._span(name), names, string(name))

    def _attach(self, line: Line, tree: Tree) -> nodes.Attach:
        return nodes.Attach(self._span(tree.children[0]), string(tree.children[0]))

    def _tone(self, line: Line, tree: Tree) -> nodes.Tone:
        return nodes.Tone(line.span, str(tree.children[0]))

    def _expect(self, line: Line, tree: Tree) -> nodes.Expect:
        return nodes.Expect(line.span)

    def _ask_confirm(self, line: Line, tree: Tree) -> nodes.Ask:
        return self._ask(tree, "confirm", tree.children[0])

    def _ask_button(self, line: Line, tree: Tree) -> nodes.Ask:
        return self._ask(tree, "button", tree.children[0])

    def _ask_yes_no(self, line: Line, tree: Tree) -> nodes.Ask:
        name, text, _ = tree.children
        return self._ask(tree, "yes_no", text, name, type=YES_NO)

    def _ask_choice(self, line: Line, tree: Tree) -> nodes.Ask:
        name, text, *choices, _ = tree.children
        return self._ask(tree, "choice", text, name, type=TEXT, choices=tuple(string(c) for c in choices))

    def _ask_text(self, line: Line, tree: Tree) -> nodes.Ask:
        name, text, pattern, _ = tree.children
        return self._ask(tree, "text", text, name, type=TEXT, pattern=string(pattern) if pattern else "")

    def _ask_number(self, line: Line, tree: Tree) -> nodes.Ask:
        name, text, unit, bounds, _ = tree.children
        made = tuple(self.expr(b) for b in bounds.children) if bounds else None
        return self._ask(tree, "number", text, name, type=declared(self._unit(unit)) if unit else NUMBER, bounds=made)

    def _ask_adjust(self, line: Line, tree: Tree) -> nodes.Ask:
        signal, criterion, text, _ = tree.children
        made = self.criterion(criterion)
        picture = tree.children[-1]
        return nodes.Ask(self._span(signal), "adjust", string(text), str(signal), criterion=made,
                         picture=string(picture.children[0]) if picture else "")  # fmt: skip

    def _ask(self, tree: Tree, kind: str, text: Token, name: Token | None = None, **more: Any) -> nodes.Ask:
        if name is not None:
            self._new_name(name)
        picture = tree.children[-1]
        shown = string(picture.children[0]) if picture is not None else ""
        return nodes.Ask(self._span(text), kind, string(text), str(name or ""), picture=shown, **more)
