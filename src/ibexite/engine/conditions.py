"""Under which conditions values were read: the settings that the bench had then, how the readings were set up, and the
parameters. They are told with a test, so that its values can be compared with others that were read likewise."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from ibexite import units
from ibexite.bench.interface import Key
from ibexite.conditions import span_said
from ibexite.engine.frame_base import FrameBase
from ibexite.instruments.profile import Profile
from ibexite.instruments.readings import Given
from ibexite.language import constants, nodes
from ibexite.untyped import Measured

CHANNEL = "channel"  # where something is measured belongs to the bench, not to its conditions


class ReadConditions:
    """Those of one read line, in all turns of the loops around it."""

    def __init__(
        self, frame: FrameBase, statement: nodes.Read, changing: Collection[Key] | None,
        behind: Mapping[str, frozenset[str]],
    ) -> None:  # fmt: skip
        """`changing` are the settings that may change while the line is carried out again and again, None for any;
        `behind` says of each name of the block from which readings it comes, once all of it has been compiled."""
        self._frame, self._statement, self._behind = frame, statement, behind
        self._changing = changing
        self._state = frame.runtime.bench.state
        self._begin: dict[Key, Measured] = {}
        self._spans: list[list[Measured]] = []  # key, least and greatest value of each that may change

    def renew(self) -> None:
        """As if nothing had been read."""
        self._begin, self._spans = {}, []

    def note(self) -> None:
        """The line has been carried out."""
        state = self._state
        if not self._begin:
            self._begin = dict(state)
            keys = self._begin if self._changing is None else self._changing
            self._spans = [[key, state.get(key), state.get(key)] for key in keys]
            return
        for span in self._spans:
            value = state.get(span[0])
            if value is None or value == span[1] or value == span[2]:
                continue
            if isinstance(value, str):
                span[1] = span[2] = _either(span[1], value)
            elif span[1] is None or value < span[1]:
                span[1] = value
            elif value > span[2]:
                span[2] = value

    def names(self) -> list[str]:
        """The readings of the line, and what is computed from them."""
        mine = [reading.name for reading in self._statement.readings]
        computed = [name for name, readings in self._behind.items() if readings & {*mine} and name not in mine]
        return [self._frame.prefix + name for name in (*mine, *computed)]

    def present(self) -> dict[str, str]:
        """What they are, in words; nothing as long as the line was not carried out."""
        return dict(self._each()) if self._begin else {}

    def _each(self) -> Iterator[tuple[str, str]]:
        spans = {key: (value, value) for key, value in sorted(self._begin.items())}
        spans |= {key: (low, high) for key, low, high in self._spans}
        for (role, setting), (low, high) in spans.items():
            if low is not None and self._counts(role, setting, spans):
                profile = self._profile(role)
                said = [profile.settings[setting].said(value, digits=12) for value in (low, high)]
                yield f"{role}.{setting}", span_said(*said)
        for reading in self._statement.readings:
            yield from self._set_up(reading)
        for name in sorted(parameters_of(self._frame)):
            yield name, _constant_said(self._frame, name)

    def _profile(self, role: str) -> Profile:
        file = self._frame.runtime.bench.file
        return file.instruments[file.roles[role].instrument].profile

    def _counts(self, role: str, setting: str, spans: Mapping[Key, tuple[Measured, Measured]]) -> bool:
        """Whether a setting is a condition: not where it protects, nor where its output was off all the time, nor the
        relays of routes."""
        if role not in self._frame.runtime.bench.file.roles:
            return False
        known = self._profile(role).instrument_class
        is_off = spans.get((role, known.switch)) in ((0.0, 0.0), (False, False))
        return setting not in known.protections and (setting == known.switch or not is_off)

    def _set_up(self, reading: nodes.Reading) -> Iterator[tuple[str, str]]:
        """How a reading is set up, but for the place where it is taken."""
        if reading.query:
            return
        bench, frame = self._frame.runtime.bench, self._frame
        if reading.role is None:
            signal = bench.file.signals[frame.played_by(reading.source)]
            role, source, given = signal.role, signal.reading, signal.arguments
        else:
            role, source = frame.played_by(reading.role), reading.source
            given = {name: _given(frame, value) for name, value in reading.arguments}
        arguments = self._profile(role).readings[source].feature.arguments
        for name, value in given.items():
            known = arguments.get(name)
            if name != CHANNEL:
                dimension = known.dimension if known is not None else None
                yield f"{frame.prefix}{reading.name}.{name}", _given_said(value, dimension)


def _given(frame: FrameBase, value: nodes.Expr) -> Given:
    known = constants.evaluate(value, frame.known)
    return known if isinstance(known, str) else float(known) if known is not None else ""


def _given_said(value: Given, dimension: units.Dimension | None) -> str:
    if isinstance(value, str):
        return value
    return units.format_value(value, dimension, digits=12) if dimension is not None else f"{value:.12g}"


def _constant_said(frame: FrameBase, name: str) -> str:
    kind = frame.scope.types.get(name)
    dimension, shown = (kind.dimension, kind.shown) if kind is not None else (units.PLAIN, None)
    return constants.written(frame.known[name], dimension, shown)


def parameters_of(frame: FrameBase) -> set[str]:
    """The parameters and constants on which what is measured in a block may depend: all but those of its limits."""
    used: set[str] = set()
    for statement in frame.body:
        used |= _names_in(statement)
    return used & set(frame.known)


def _names_in(part: object) -> set[str]:
    """The names in any part of a tree, without what checks demand."""
    if isinstance(part, nodes.Name):
        return {part.name}
    if isinstance(part, nodes.Check | str):
        return set()
    if isinstance(part, tuple):
        return set().union(*map(_names_in, part))
    return set().union(*(_names_in(getattr(part, name)) for name in getattr(part, "__match_args__", ())))


def _either(one: Measured, other: str) -> str:
    return " or ".join(sorted({*(str(one).split(" or ") if one is not None else ()), other}))
