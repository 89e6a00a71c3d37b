"""A `set` line made ready: bounds, commands and sessions are looked up once, before the run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ibexite import units
from ibexite.errors import CeilingError
from ibexite.instruments.session import Session
from ibexite.units import Dimension


@dataclass(slots=True)
class Target:
    """One setting of one role: where it goes and within what bounds (in base units)."""

    role: str
    setting: str
    channel: int
    session: Session
    encode: Callable[[float], str]
    low: float
    high: float
    dimension: Dimension | None
    origin: str

    def refusal(self, value: float) -> CeilingError:
        """The error for a value that is out of bounds."""
        what = f"{self.role}.{self.setting}"
        if self.dimension is None or value != value:
            return CeilingError(
                f"{what} cannot be set: the value is not a number", remedy="A reading it depends on is bad."
            )
        shown = units.format_value(value, self.dimension, digits=9)
        limit = units.format_value(self.high if value > self.high else self.low, self.dimension)
        return CeilingError(f"{what} = {shown} is beyond {limit} ({self.origin})", remedy="Nothing was sent.")


class SetLine:
    """Sends the settings of one line. All bounds are looked at before its first byte."""

    def __init__(self, targets: list[Target], state: dict[tuple[str, str], float]) -> None:
        self._targets = targets
        self._state = state
        self._keys = [(t.role, t.setting) for t in targets]
        # Settings of one instrument that follow one another go out in one piece.
        self._groups: list[tuple[Session, list[int]]] = []
        for i, target in enumerate(targets):
            if not self._groups or self._groups[-1][0] is not target.session:
                self._groups.append((target.session, []))
            self._groups[-1][1].append(i)

    def __call__(self, *values: float) -> None:
        """Sends values in base units (True and False for on/off), in the order of the line.

        Raises:
            CeilingError: a value is beyond a ceiling or range, or not a number; nothing was sent.
            LinkError: the connection failed.
        """
        targets = self._targets
        for target, value in zip(targets, values, strict=True):
            if not target.low <= value <= target.high:
                raise target.refusal(value)
        for session, members in self._groups:
            end = session.profile.terminator
            session.send(end.join([targets[i].encode(values[i]) for i in members]))
        for key, value in zip(self._keys, values, strict=True):
            self._state[key] = value
