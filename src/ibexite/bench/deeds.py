"""What may change anything on an instrument: actions and raw commands. Afterwards its settings are asked back, and none
may be beyond a ceiling."""

from __future__ import annotations

from math import inf, nan
from typing import NoReturn

from ibexite.bench.error_queue import AT_ONCE, are_read, look_for_errors
from ibexite.bench.state import BenchState
from ibexite.errors import InstrumentError
from ibexite.instruments.session import Session
from ibexite.instruments.settings import Value
from ibexite.protocols.scpi import INFINITY, response_text, response_value
from ibexite.values import Quantity, Text, Type, YesNo


def do(bench: BenchState, role_name: str, action: str) -> None:
    """Carries out an action of a role, then asks its settings back.

    Raises:
        InstrumentError: the profile has no such action, or it led beyond a ceiling.
    """
    role = bench.file.roles[role_name]
    session = bench.sessions[role.instrument]
    command = session.profile.actions.get(action)
    if command is None:
        raise InstrumentError(f"profile {session.profile.name} has no action {action!r}", where=role_name)
    text = command.replace("{channel}", str(role.channel))
    with session.allowing(session.profile.waits.acting):
        session.send(text, may_repeat=False)
        session.wait_until_complete()  # an action may take long, and has a time-out of its own
        session.forget()
        relearn(bench, role_name)
    if are_read(session, *AT_ONCE):
        look_for_errors(session, text)


def raw_send(bench: BenchState, role_name: str, text: str) -> None:
    """Sends a raw command where the bench file allows it, then asks back what is known of the role.

    Raises:
        InstrumentError: raw commands are not allowed there, or it led beyond a ceiling.
    """
    session = _raw_session(bench, role_name)
    session.send(text, may_repeat=False)
    session.forget()
    relearn(bench, role_name)
    if are_read(session, *AT_ONCE):
        look_for_errors(session, text)


def raw_query(bench: BenchState, role_name: str, text: str, kind: Type, tries: int) -> tuple[float | str, str, str]:
    """The reply to a raw query: a number in base units, a text, or 1.0 and 0.0 for yes and no; NaN for a bad one, with
    the code of why and what was answered."""
    session = _raw_session(bench, role_name)
    changes = ";" in text  # more than one command: it may have set something
    reply = ""
    for _ in range(1 if changes else tries):
        reply = session.query(text, may_repeat=not changes).strip()
        if changes:
            session.forget()
            relearn(bench, role_name)
        if are_read(session, *AT_ONCE):
            look_for_errors(session, text)
        if isinstance(kind, Text):
            return response_text(reply), "", reply
        try:
            words = {"ON": 1.0, "OFF": 0.0, "YES": 1.0, "NO": 0.0} if isinstance(kind, YesNo) else {}
            number = words.get(reply.upper())
            number = response_value(reply) if number is None else number
        except ValueError:
            continue
        if abs(number) < 0.999 * INFINITY:
            return float(number != 0) if isinstance(kind, YesNo) else _in_base(number, kind), "", reply
    return nan, "not_a_number" if reply else "empty", reply


def _raw_session(bench: BenchState, role_name: str) -> Session:
    role = bench.file.roles[role_name]
    if not role.allows_raw:
        raise InstrumentError(
            "raw commands are not allowed here",
            where=role_name,
            remedy="Write raw = true into the role of the bench.",
        )
    return bench.sessions[role.instrument]


def relearn(bench: BenchState, role_name: str) -> None:
    """Asks back all settings of a role whose state is known or which have a ceiling, and those of the roles on the
    same instrument.

    Raises:
        InstrumentError: one is beyond its ceiling; then its outputs have been switched off at once.
    """
    instrument = bench.file.roles[role_name].instrument
    same = [role for role in bench.roles() if role.instrument == instrument]
    names = {role.name for role in same}
    keys = [key for key in bench.state if key[0] in names]
    keys += [(r.name, setting) for r in same for setting in r.ceiling if (r.name, setting) not in bench.state]
    known = set(bench.state)
    bench.learn_state(keys)
    for key in keys:
        ceiling = bench.file.roles[key[0]].ceiling.get(key[1], inf)
        if key not in bench.state:  # it cannot be asked
            continue
        value = bench.state[key]
        if key not in known:
            del bench.state[key]
        if not isinstance(value, str) and is_beyond(value, ceiling):
            refuse_beyond(bench, key, value, ceiling)


def is_beyond(value: Value, ceiling: float) -> bool:
    """Whether a value that an instrument tells is beyond a ceiling, which may be negative (levels). The last digits of
    an answer are not.

    >>> is_beyond(17.00000001, 17.0), is_beyond(17.1, 17.0), is_beyond(-20.0, -20.0), is_beyond(nan, 1.0)
    (False, True, False, True)
    """
    return isinstance(value, str) or not value <= ceiling + 1e-9 * abs(ceiling)


def refuse_beyond(bench: BenchState, key: tuple[str, str], value: Value, ceiling: float) -> NoReturn:
    """Switches a role off that was found beyond a ceiling, and raises InstrumentError."""
    role = bench.file.roles[key[0]]
    session = bench.sessions[role.instrument]
    for setting, safe in session.profile.safe.items():
        session.send(session.profile.settings[setting].encoder(role.channel)(safe))
        bench.state[key[0], setting] = float(safe)
    commands = session.profile.settings[key[1]]
    shown = [commands.said(x, 4) for x in (value, ceiling)]
    raise InstrumentError(
        f"{key[0]}.{key[1]} was found at {shown[0]}, beyond its ceiling of {shown[1]}; it was switched off",
        where=key[0], remedy="Raw commands and actions must not lead beyond a ceiling either.",
    )  # fmt: skip


def _in_base(number: float, kind: Type) -> float:
    if not isinstance(kind, Quantity):
        return number
    unit = kind.written
    value = number * float(unit.factor) + float(unit.offset)
    return round(value, 12) if unit.offset else value
