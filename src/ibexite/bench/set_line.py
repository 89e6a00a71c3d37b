"""A `set` line made ready: bounds, commands and sessions are looked up once, before the run."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from ibexite import units
from ibexite.bench.error_queue import are_read, look_for_errors
from ibexite.bench.interface import Key
from ibexite.errors import CeilingError
from ibexite.instruments.session import Session
from ibexite.instruments.settings import Value
from ibexite.units import Dimension
from ibexite.untyped import Bindings

SetLine = Callable[..., None]
TEXTS_KEPT = 1024  # of each setting in a line


@dataclass(frozen=True, slots=True)
class Target:
    """One setting of one role: where it goes and within what bounds (in base units)."""

    role: str
    setting: str
    channel: int
    session: Session
    low: float
    high: float
    dimension: Dimension | None  # None for on/off
    origin: str
    origin_of_low: str = ""
    choices: tuple[str, ...] = ()
    rounded: Callable[[float], float] | None = None  # to the digits that its profile sends, if fewer than all

    def refusal(self, value: Value) -> CeilingError:
        """The error for a value that is out of bounds."""
        what = f"{self.role}.{self.setting}"
        if self.choices:
            known = ", ".join(self.choices)
            return CeilingError(f"{what} has no choice {value!r}; there is {known}", remedy="Nothing was sent.")
        assert not isinstance(value, str)
        if self.dimension is None or value != value:
            return CeilingError(f"{what} cannot be set: the value is not a number", remedy="Nothing was sent.")
        shown = units.format_value(value, self.dimension, digits=15)
        is_above = value > self.high
        limit = units.format_value(self.high if is_above else self.low, self.dimension)
        origin = self.origin if is_above else self.origin_of_low
        return CeilingError(f"{what} = {shown} is beyond {limit} ({origin})", remedy="Nothing was sent.")


def make_set_line(
    targets: list[Target], state: dict[Key, Value], touched: Mapping[Session, dict[Key, None]]
) -> SetLine:
    """A function that sends values (base units; True and False for on/off) to the targets, in the order of the line.

    All bounds are looked at before the first byte; settings of one instrument that follow one another go out in one
    piece; `state` keeps what was set, from the moment before it is sent: a link that breaks while sending is brought
    back to that; `touched` keeps what each instrument has not been asked for since. The function is generated, for it
    is called at every point of a sweep.

    It raises CeilingError (a value beyond a ceiling or range, or not a number: nothing was sent), LinkError, and
    InstrumentError where its error queue is read as often as that.
    """
    names = [f"value_{i}" for i in range(len(targets))]
    bound: Bindings = {"state": state}
    lines = [f"def set_line({', '.join(names)}):"]
    for i, (name, target) in enumerate(zip(names, targets, strict=True)):
        bound |= {f"target_{i}": target, f"low_{i}": target.low, f"high_{i}": target.high}
        bound[f"words_{i}"] = target.choices
        is_in = f"{name} in words_{i}" if target.choices else f"low_{i} <= {name} <= high_{i}"
        lines.append(f"    if not {is_in}: raise target_{i}.refusal({name})")
    for i, (name, target) in enumerate(zip(names, targets, strict=True)):
        if target.rounded is not None:
            bound[f"rounded_{i}"] = target.rounded
            lines.append(f"    {name} = rounded_{i}({name})")
            lines.append(f"    if not low_{i} <= {name} <= high_{i}: raise target_{i}.refusal({name})")
    for i, target in enumerate(targets):
        bound[f"key_{i}"] = (target.role, target.setting)
        # The values of an inner loop come again and again.
        bound[f"encode_{i}"] = lru_cache(TEXTS_KEPT)(_encoder(target))
        bound[f"send_{i}"], bound[f"touched_{i}"] = target.session.send, touched[target.session]
    bound["look_for_errors"] = look_for_errors
    lines += [f"    text_{i} = encode_{i}({name})" for i, name in enumerate(names)]
    order = _ordered(targets)
    for group in _groups(targets, order):
        texts = [f"text_{i}" for i in group]
        session = targets[group[0]].session
        end = session.profile.terminator
        lines += [f"    state[key_{i}] = {names[i]}; touched_{i}[key_{i}] = None" for i in group]
        lines.append(f"    send_{group[0]}({f' + {end!r} + '.join(texts)})")
        if are_read(session, "setting") or (are_read(session, "line") and _is_last(targets, order, group[-1])):
            said = " + '; ' + ".join(texts)
            lines.append(f"    look_for_errors(target_{group[0]}.session, {said})")
    exec("\n".join(lines), bound)
    made: SetLine = bound["set_line"]
    return made


def _encoder(target: Target) -> Callable[[Value], str]:
    """What makes the command of a target; it raises CeilingError for what cannot be written as the profile says."""
    encode = target.session.profile.settings[target.setting].encoder(target.channel)

    def encoded(value: Value) -> str:
        try:
            return encode(value)
        except ValueError as error:
            what = f"{target.role}.{target.setting} cannot be sent: {error}"
            raise CeilingError(what, remedy="Nothing was sent.") from None

    return encoded


def _ordered(targets: list[Target]) -> list[int]:
    """The places of the targets in the order in which they are sent: as written, but what must come before another one
    (as its profile says) is brought forward. Nothing is put off: an output goes on behind all that stands before it."""
    placed: list[int] = []

    def place(i: int, waiting: tuple[int, ...]) -> None:
        before = targets[i].session.profile.settings[targets[i].setting].after
        for j, other in enumerate(targets):
            if other.role == targets[i].role and other.setting in before and j not in (*placed, *waiting):
                place(j, (*waiting, j))
        placed.append(i)

    for i in range(len(targets)):
        if i not in placed:
            place(i, (i,))
    return placed


def _is_last(targets: list[Target], order: list[int], place: int) -> bool:
    """Whether no more is sent to that instrument in the line."""
    return all(targets[i].session is not targets[place].session for i in order[order.index(place) + 1 :])


def _groups(targets: list[Target], order: list[int]) -> list[list[int]]:
    """The places of the targets, those of one instrument that follow one another together; each by itself where errors
    are looked for after each."""
    groups: list[list[int]] = []
    for i in order:
        session = targets[i].session
        if not groups or targets[groups[-1][-1]].session is not session or are_read(session, "setting"):
            groups.append([])
        groups[-1].append(i)
    return groups
