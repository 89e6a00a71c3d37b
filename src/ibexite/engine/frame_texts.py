"""What a block tells people: texts with values filled in, questions, files, tones, figures."""

from __future__ import annotations

from collections.abc import Callable

from ibexite import events
from ibexite.engine.frame_gaps import Gaps
from ibexite.language import constants, nodes
from ibexite.untyped import Measured


class Texts(Gaps):
    """The operator and the report."""

    def text(self, statement: nodes.Show) -> tuple[Callable[..., None], list[str]]:
        """Shows a text, or puts it into the report."""
        runtime = self.runtime

        def tell(*values: Measured) -> None:
            shown = self.filled(statement.text, values)

            def show() -> None:
                if statement.how == "show":
                    runtime.operator.show(shown)
                runtime.emit(events.Shown(runtime.now(), shown, self.block, statement.how))

            if runtime.held_back is not None and statement.how == "show":
                runtime.held_back.append(show)  # until everything is off
            else:
                show()

        return tell, self.gap_names(statement.text)

    def teaching(self, statement: nodes.Teach) -> Callable[[], None]:
        """Tells what of this unit is to become a reference; whoever keeps the records makes it one."""
        runtime, block = self.runtime, self.block

        def tell() -> None:
            runtime.mark_trial("taught", f"the unit is taught as the reference {statement.reference}")
            names = [name if "." in name and name not in self.names else f"{block}.{self.prefix}{name}"
                     for name, _ in statement.names]  # fmt: skip
            runtime.emit(events.Taught(runtime.now(), block, names, statement.reference))

        return tell

    def tone(self, statement: nodes.Tone) -> Callable[[], None]:
        """A tone."""
        runtime = self.runtime

        def sound() -> None:
            runtime.operator.tone(statement.kind)
            runtime.emit(events.Tone(runtime.now(), statement.kind))

        return sound

    def plot(self, statement: nodes.Plot) -> Callable[[], None]:
        """Tells of a figure."""
        runtime, block, names = self.runtime, self.block, [self.prefix + y for y in statement.ys]
        x, binding = statement.x, self.names.get(statement.x)
        if binding is not None and binding.type.axes not in ((), (x,)):
            own = binding.type.axes
            x = own[0] if x.endswith(f".{own[0]}") else self.prefix + x
        spans = self._judged_parts(statement) if x == "time" else []
        return lambda: runtime.emit(
            events.Figure(runtime.now(), block, names, x, statement.by or "", statement.title or "", spans)
        )

    def _judged_parts(self, statement: nodes.Plot) -> list[tuple[str, float, float]]:
        """The parts of the stimulus that are judged, in s, where what was recorded of it is drawn, or what was made of
        that."""
        formulas = {one.name: one.value for one in nodes.walk(self.body) if isinstance(one, nodes.Let)}
        seen: set[str] = set()
        todo = list(statement.ys)
        while todo:
            name = todo.pop()
            if name not in seen:
                seen.add(name)
                todo += constants.names_in(formulas[name]) if name in formulas else []
        plays = [p for p in nodes.walk(self.body) if isinstance(p, nodes.Play) and {r.name for r in p.readings} & seen]
        stimuli = {play.stimulus: self.program.stimuli[play.stimulus] for play in plays}
        return [
            (placed.part.name, placed.begin / one.rate, (placed.begin + placed.count) / one.rate)
            for one in stimuli.values() if one is not None for placed in one.placed if placed.part.is_judged
        ]  # fmt: skip
