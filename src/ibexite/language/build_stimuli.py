"""From lines to the tree of a stimulus."""

from __future__ import annotations

from typing import Any

from ibexite.frozen import replaced
from ibexite.language import nodes, words
from ibexite.language.build_deeds import DeedBuilder
from ibexite.language.build_expr import string
from ibexite.language.layout import Line
from ibexite.language.parser import Tree
from ibexite.untyped import Fields

# What each kind of part must say, and what it may say besides; "time" is `for` with a time, "cycles" that with cycles.
_DEMANDS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "marker": ((), ("time", "level")), "noise": (("time", "level"), ()), "silence": (("time",), ()),
    "stepped": (("cycles", "level"), ("at_least",)), "chirp": (("time", "level"), ()), "tones": (("time", "level"), ()),
    "burst": (("cycles", "every", "level"), ("times",)), "file": ((), ("level",)),
}  # fmt: skip
_CLAUSES = {
    "for_time": "time", "for_cycles": "cycles", "at_least": "at_least", "every": "every", "times": "times",
    "level": "level", "peak": "level", "unjudged": "unjudged",
}  # fmt: skip
_WRITTEN = {
    "time": "for 20 ms", "cycles": "for 12 cycles", "at_least": "at least 4 ms", "every": "every 20 ms",
    "times": "6 times", "level": "level 2 V",
}  # fmt: skip


class StimulusBuilder(DeedBuilder):
    """Builds declared stimuli."""

    def stimulus(self, line: Line, tree: Tree) -> nodes.Stimulus:
        """The stimulus of a line with what stands below it."""
        name, title = tree.children
        before = len(self.source.findings)
        self._new_name(name)
        span, shown = self._span(name), string(title) if title else str(name)
        rate: nodes.Expr | None = None
        parts: list[nodes.StimulusPart] = []
        shaping: nodes.Shaping | None = None
        for child in line.children:
            inner = self.parse(child, "stimulus_line", words.STIMULUS_USAGE)
            self.no_block(child)
            if inner is None:
                continue
            if inner.data == "rate":
                if rate is not None:
                    self.source.report(child.span, "two rates", "", "A stimulus has one.")
                rate = self.expr(inner.children[0])
            elif inner.data == "shaped":
                if shaping is not None:
                    self.source.report(child.span, "shaped twice", "", "One curve shapes the whole of it.")
                shaping = self._shaping(child, inner)
            else:
                parts.append(self._part(child, inner))
        is_whole = len(self.source.findings) == before
        if rate is None and is_whole:
            self.source.report(span, "no rate", "", "Below it write, for example: rate 192 kHz")
        if not parts and is_whole:
            self.source.report(span, "no part", "", "Below it write, for example: part silence for 20 ms")
        is_broken = len(self.source.findings) > before
        return nodes.Stimulus(
            span, str(name), shown, rate or nodes.Name(span, nodes.REPORTED), tuple(parts), shaping, is_broken
        )

    def _shaping(self, line: Line, tree: Tree) -> nodes.Shaping:
        inverse, curve, at, older = tree.children
        return nodes.Shaping(
            line.span, self.expr(curve), inverse is not None, self.expr(at) if at is not None else None,
            self.expr(older.children[0]) if older is not None else None,
        )  # fmt: skip

    def _part(self, line: Line, tree: Tree) -> nodes.StimulusPart:
        kind = str(tree.data)
        name, *rest = tree.children
        if name is not None:
            self._new_name(name.children[0])
        clauses = [child for child in rest if isinstance(child, Tree) and child.data in _CLAUSES]
        own = [child for child in rest if not (isinstance(child, Tree) and child.data in _CLAUSES)]
        part = nodes.StimulusPart(line.span, kind, str(name.children[0]) if name is not None else kind)
        return replaced(part, **self._own(kind, own), **self._said(line, kind, clauses))

    def _own(self, kind: str, own: list[Any]) -> Fields:
        if kind in ("marker", "noise", "chirp"):
            low, high = own
            return {"low": self.expr(low) if low else None, "high": self.expr(high) if high else None}
        if kind == "stepped":
            return {"segments": tuple(self._segment(tree) for tree in own)}
        if kind == "tones":
            pairs = [tree.children for tree in own]
            return {"tones": tuple((self.expr(tone), self.expr(share) if share else None) for tone, share in pairs)}
        if kind == "burst":
            return {"frequency": self.expr(own[0])}
        if kind == "file":
            file, channel = own
            return {"file": string(file), "channel": self._count(channel, "channel") if channel is not None else 1}
        return {}

    def _said(self, line: Line, kind: str, clauses: list[Tree]) -> Fields:
        """What the clauses say; reports those that are missing, come twice or do not belong there."""
        found: Fields = {"is_judged": kind not in ("marker", "silence")}
        must, may = _DEMANDS[kind]
        said: set[str] = set()
        for clause in clauses:
            what = _CLAUSES[str(clause.data)]
            if what in said:
                self.source.report(line.span, f"'{str(clause.data).replace('_', ' ')}' twice", "", "Say it once.")
            said.add(what)
            if what == "unjudged":
                found["is_judged"] = False
            elif what not in (*must, *may):
                hints = " ".join(_WRITTEN[each] for each in (*must, *may))
                self.source.report(self._span(clause), f"not for {kind}", "", f"It takes: {hints} unjudged")
            elif what == "times":
                found["times"] = self._count(clause.children[0], "times")
            else:
                found[what] = self.expr(clause.children[0])
                found["is_peak"] = found.get("is_peak", False) or clause.data == "peak"
        for what in must:
            if what not in said:
                lacking = f"{kind} without '{what.replace('_', ' ')}'"
                self.source.report(line.span, lacking, "", f"Add: {_WRITTEN[what]}")
        return found
