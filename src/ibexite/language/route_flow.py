"""Looks, before a run, at routes along the lines of a sequence: two that exclude one another must not be connected
together, and none may be switched while something is on that must be off.

Only what is sure is a mistake: what stands in a branch or a loop may not be carried out, and a name may stand for
anything. Before each relay moves it is looked at once more, as everything is then (ibexite.bench.routes).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from ibexite.frozen import frozen
from ibexite.language import nodes
from ibexite.language.program import Program
from ibexite.language.source import Source


@frozen
class RouteFacts:
    """A route of the bench: the routes that exclude it, those that make way for it, and the switches (role, setting)
    that must be off while it is switched."""

    excluded: frozenset[str]
    make_way: frozenset[str]
    powers: tuple[tuple[str, str], ...]


@dataclass(slots=True)
class _Sure:
    """What is sure at a line: routes that are connected, switches (role, setting) that are on."""

    connected: set[str] = field(default_factory=set)
    on: set[tuple[str, str]] = field(default_factory=set)

    def copy(self) -> _Sure:
        return _Sure(set(self.connected), set(self.on))

    def meet(self, other: _Sure) -> None:
        """Only what is sure on both ways."""
        self.connected &= other.connected
        self.on &= other.on


def look_at_routes(program: Program, routes: Mapping[str, RouteFacts]) -> None:
    """Reports the lines that switch a route while it surely may not be."""
    sequence, walk = program.sequence, _Walk(program, routes)
    began = _Sure()
    for body in (sequence.before_lot, sequence.before_unit):
        walk.body(body, began, program.source, {})
    before = began
    for test in sequence.tests:
        sure = before.copy() if test.keeps_state else began.copy()
        walk.body(test.body, sure, program.source, {})
        before = sure
    # Where it comes to `after unit` nobody knows how far the tests came.


class _Walk:
    def __init__(self, program: Program, routes: Mapping[str, RouteFacts]) -> None:
        self._program, self._routes = program, routes

    def body(self, body: tuple[nodes.Statement, ...], sure: _Sure, source: Source, players: Mapping[str, str]) -> None:
        """Goes through lines; `players` says what plays the roles and routes of a measurement."""
        for statement in body:
            match statement:
                case nodes.Set():
                    self._set(statement, sure, players)
                case nodes.Connect():
                    self._connect(statement, sure, source, players)
                case nodes.Measure():
                    self._measure(statement, sure, players)
                case _:
                    self._blocks(statement, sure, source, players)

    def _blocks(self, statement: nodes.Statement, sure: _Sure, source: Source, players: Mapping[str, str]) -> None:
        """The blocks of a line: each may be carried out, or not; what stood before one turn of a loop may be gone in
        the next."""
        before = sure.copy()
        for inner in nodes.inner_bodies(statement):
            way = before.copy()
            self.body(inner, way, source, players)
            sure.meet(way)

    def _set(self, statement: nodes.Set, sure: _Sure, players: Mapping[str, str]) -> None:
        for assignment in statement.assignments:
            key = (players.get(assignment.role, assignment.role), assignment.setting)
            if isinstance(assignment.value, nodes.Word) and assignment.value.is_true:
                sure.on.add(key)
            else:
                sure.on.discard(key)

    def _measure(self, statement: nodes.Measure, sure: _Sure, players: Mapping[str, str]) -> None:
        use = self._program.measures.get(statement)
        if use is None or use.measurement.node is None or use.measurement.scope is None:
            sure.connected, sure.on = set(), set()  # nobody knows what it does
            return
        inner = {need: players.get(player, player) for need, player in use.roles.items()}
        self.body(use.measurement.node.body, sure, use.measurement.scope.source, inner)

    def _connect(self, statement: nodes.Connect, sure: _Sure, source: Source, players: Mapping[str, str]) -> None:
        names = {players.get(name, name): span for name, span in statement.routes}
        for name, span in names.items():
            facts = self._routes.get(name)
            if facts is None:
                continue
            on = [key for key in facts.powers if key in sure.on]
            if on and (name in sure.connected) != statement.is_on:
                source.report(span, f"{name} is switched while {on[0][0]} is on", "",
                              f"The bench has that off then. Write before it: set {'.'.join(on[0])} = off")  # fmt: skip
            with_it = facts.excluded & (set(names) | (sure.connected - facts.make_way)) if statement.is_on else set()
            if with_it:
                other = min(with_it)
                hint = "Connect one of the two." if other in names else f"Write before it: disconnect {other}"
                source.report(span, f"{name} must not be connected together with {other}", "", hint)
                break
        if statement.is_on:
            making_way = {way for name in names if name in self._routes for way in self._routes[name].make_way}
            sure.connected = (sure.connected - making_way) | set(names)
        else:
            sure.connected -= set(names)
