"""From lines to the tree of a file: which line may stand where at the left margin, and what belongs below it."""

from __future__ import annotations

from ibexite.language import nodes, words
from ibexite.language.build_expr import string
from ibexite.language.build_stimuli import StimulusBuilder
from ibexite.language.grammar import parse_line
from ibexite.language.layout import Line, read_layout
from ibexite.language.parser import Tree
from ibexite.language.source import Source, Span
from ibexite.untyped import Fields
from ibexite.values import declared

_ONCE = (
    "sequence", "needs", "params", "constants", "before_lot", "before_unit", "after_unit", "after_lot",
)  # fmt: skip


def build_sequence(source: Source) -> nodes.Sequence:
    """The tree of a source; what cannot be understood is reported to the source and left out."""
    return _Builder(source).sequence(read_layout(source), is_shared=False)


def build_shared(source: Source) -> nodes.Sequence:
    """The tree of a shared file: uses, constants, stimuli and measurements, no sequence line and no tests."""
    return _Builder(source).sequence(read_layout(source), is_shared=True)


class _Builder(StimulusBuilder):
    def __init__(self, source: Source) -> None:
        super().__init__(source)
        nowhere = Span(0, 1)
        self.parts: Fields = {
            "title": "", "product": "", "revision": "", "serial": "", "serial_span": nowhere, "limits": "",
            "limits_span": nowhere, "tags": (), "uses": [], "needs": (), "params": (), "constants": (),
            "stimuli": [], "measurements": [],
            "before_lot": (), "before_unit": (), "parts": [], "after_unit": (), "after_lot": (),
        }  # fmt: skip

    def sequence(self, lines: list[Line], *, is_shared: bool) -> nodes.Sequence:
        seen: dict[str, Line] = {}
        for line in lines:
            tree = self.parse(line, "top_line", words.TOP_USAGE)
            if tree is None:
                continue
            kind = str(tree.data)
            if is_shared and kind not in ("use_file", "use_python", "constants", "stimulus", "measurement"):
                self.source.report(
                    line.span, f"'{line.first_word}' in a shared file", "",
                    "A file that others use has only use, constants, stimulus and measurement lines.",
                )  # fmt: skip
                continue
            if kind in seen and kind in _ONCE:
                first = self.source.line_of(seen[kind].start)
                self.source.report(line.span, "written twice", "", f"There is one on line {first} already.")
                continue
            seen[kind] = line
            getattr(self, f"_top_{kind}")(line, tree)
        if not is_shared:
            self._whole(seen)
        made: Fields = {key: tuple(value) if isinstance(value, list) else value for key, value in self.parts.items()}
        return nodes.Sequence(**made)

    def _whole(self, seen: dict[str, Line]) -> None:
        if "sequence" not in seen:
            self.source.report(
                Span(0, 1), "no sequence line", remedy='A file begins with a line such as: sequence "FM-2 final test"'
            )
        if not self.parts["parts"] and not self.source.has_mistakes:
            self.source.report(Span(0, 1), "no test", remedy='A sequence has at least one: test name "title"')

    # --- at the left margin ------------------------------------------------------------------------------------------

    def _top_sequence(self, line: Line, tree: Tree) -> None:
        self.parts["title"] = string(tree.children[0])
        for child in line.children:
            inner = self.parse(child, "header_line", words.HEADER_USAGE)
            self.no_block(child)
            if inner is None:
                continue
            if inner.data == "tags":
                self.parts["tags"] = tuple(map(str, inner.children))
                continue
            if inner.data in ("serial", "limits"):
                self.parts[f"{inner.data}_span"] = self._span(inner.children[0])
            self.parts[str(inner.data)] = string(inner.children[0])

    def _top_use_file(self, line: Line, tree: Tree) -> None:
        self.no_block(line)
        self.parts["uses"].append(nodes.Use(self._span(tree.children[0]), string(tree.children[0]), False))

    def _top_use_python(self, line: Line, tree: Tree) -> None:
        self.no_block(line)
        self.parts["uses"].append(nodes.Use(self._span(tree.children[0]), string(tree.children[0]), True))

    def _top_needs(self, line: Line, tree: Tree) -> None:
        self.parts["needs"] = self._needs(line)

    def _top_params(self, line: Line, tree: Tree) -> None:
        self.parts["params"] = self._params(line)

    def _top_constants(self, line: Line, tree: Tree) -> None:
        self.parts["constants"] = self._params(line)

    def _top_stimulus(self, line: Line, tree: Tree) -> None:
        self.parts["stimuli"].append(self.stimulus(line, tree))

    def _top_before_lot(self, line: Line, tree: Tree) -> None:
        self.parts[str(tree.data)] = self.block(line)

    _top_before_unit = _top_after_unit = _top_after_lot = _top_before_lot

    def _top_test(self, line: Line, tree: Tree) -> None:
        self.parts["parts"].append(self._test(line, tree))

    def _test(self, line: Line, tree: Tree) -> nodes.Test:
        name, title, *clauses = tree.children
        self._new_name(name)
        found = self._clauses(line, clauses)
        span, shown = self._span(name), string(title) if title else str(name)
        body = self.block(line)
        return nodes.Test(span, str(name), shown, found.get("gate", False), body, found.get("switched_off", False),
                          found.get("tags", ()), found.get("condition"), tuple(found.get("needs_pass", ())),
                          found.get("keeps_state", False))  # fmt: skip

    def _clauses(self, line: Line, clauses: list[Tree]) -> Fields:
        found: Fields = {}
        for clause in clauses:
            kind = str(clause.data)
            if kind in found and kind != "needs_pass":
                self.source.report(
                    line.span, f"two '{kind.replace('_', ' ')}' clauses", "", words.whole_usage(words.TOP_USAGE["test"])
                )
            if kind == "tags":
                found[kind] = tuple(map(str, clause.children))
            elif kind == "condition":
                found[kind] = self.expr(clause.children[0])
            elif kind == "needs_pass":
                found.setdefault(kind, []).append((str(clause.children[0]), self._span(clause.children[0])))
            else:
                found[kind] = True
        return found

    def _top_group(self, line: Line, tree: Tree) -> None:
        name, title, corner, *rest = tree.children
        values = [child for child in rest if child is not None and child.data not in _CLAUSES]
        clauses = [child for child in rest if child is not None and child.data in _CLAUSES]
        self._new_name(name)
        if corner is not None:
            self._new_name(corner)
        found = self._clauses(line, clauses)
        for clause in ("gate", "needs_pass", "keeps_state"):
            if clause in found:
                self.source.report(line.span, f"'{clause.replace('_', ' ')}' belongs to a test, not to a group")
        corners = tuple(self.expr(v) for v in values)
        span = self._span(name)
        tests = []
        for child in line.children:
            inner = self.parse(child, "top_line", words.TOP_USAGE)
            if inner is None:
                continue
            if inner.data != "test":
                self.source.report(child.span, "not a test", "", "A group holds tests and nothing else.")
                continue
            tests.append(self._test(child, inner))
        if not line.children:
            self.source.report(line.span, "an empty group", "", "Indent its tests by four spaces.")
        self.parts["parts"].append(
            nodes.Group(span, str(name), string(title) if title else str(name), str(corner or ""), corners,
                        tuple(tests),
                        found.get("switched_off", False), found.get("tags", ()), found.get("condition"))
        )  # fmt: skip

    def _top_measurement(self, line: Line, tree: Tree) -> None:
        name, title = tree.children
        self._new_name(name)
        span, shown = self._span(name), string(title) if title else str(name)
        sections: dict[str, Line] = {}
        lines = list(line.children)
        while lines and lines[0].first_word in words.SECTION_USAGE:
            section = lines.pop(0)
            inner = self.parse(section, "section_line", words.SECTION_USAGE)
            if inner is not None:
                sections[str(inner.data)] = section
        if not lines:
            self.source.report(line.span, "an empty measurement", "", "After needs, inputs and outputs come its lines.")
        needs = self._needs(sections["needs"]) if "needs" in sections else ()
        inputs = self._params(sections["inputs"]) if "inputs" in sections else ()
        outputs = self._outputs(sections["outputs"]) if "outputs" in sections else ()
        body = self.statements(lines)
        self.parts["measurements"].append(nodes.Measurement(span, str(name), shown, needs, inputs, outputs, body))

    # --- lists below a line ------------------------------------------------------------------------------------------

    def _needs(self, line: Line) -> tuple[nodes.Need, ...]:
        return tuple(need for child in line.children for need in self._need(child))

    def _need(self, line: Line) -> list[nodes.Need]:
        self.offset = line.start
        tree = parse_line(self.source, line.text, line.start, "need_line", words.NEED_USAGE)
        self.no_block(line)
        if tree is None:
            return []
        *names, what = tree.children
        if tree.data == "need_role" and str(what) == "signal":
            self.source.report(self._span(what), "a signal without a unit", "", "Write: name : signal in V")
            return []
        class_name = str(what) if tree.data == "need_role" else None
        kind = None
        if class_name is None:
            kind = declared(self._unit(what) if tree.data == "need_signal" else str(what))
        for name in names:
            self._new_name(name)
        return [nodes.Need(self._span(name), str(name), class_name, kind) for name in names]

    def _params(self, line: Line) -> tuple[nodes.Param, ...]:
        return tuple(p for child in line.children if (p := self._param(child)))

    def _param(self, line: Line) -> nodes.Param | None:
        self.offset = line.start
        tree = parse_line(self.source, line.text, line.start, "param_line", words.PARAM_USAGE)
        self.no_block(line)
        if tree is None:
            return None
        name, default, extent, text = tree.children
        self._new_name(name)
        values = tuple(self.expr(child) for child in extent.children) if extent else ()
        is_choice = extent is not None and extent.data == "choices"
        bounds = (values[0], values[1]) if values and not is_choice else None
        choices = values if is_choice else ()
        shown = string(text) if text else ""
        return nodes.Param(self._span(name), str(name), self.expr(default), choices, bounds, shown)

    def _outputs(self, line: Line) -> tuple[nodes.Typed, ...]:
        found = []
        for child in line.children:
            self.offset = child.start
            tree = parse_line(self.source, child.text, child.start, "output_line", words.OUTPUT_USAGE)
            self.no_block(child)
            if tree is not None:
                found.append(self.typed(tree.children[0]))
        return tuple(found)


_CLAUSES = frozenset(["gate", "switched_off", "tags", "condition", "needs_pass", "keeps_state"])
