"""What may change anything on an instrument: actions and raw commands. Afterwards its settings are asked back, and none
may be beyond a ceiling."""

from __future__ import annotations

from math import nan

from ibexite.bench import protection
from ibexite.bench.ceilings import beyond, refuse_beyond, with_ceiling
from ibexite.bench.error_queue import AT_ONCE, are_read, look_for_errors
from ibexite.bench.state import BenchState
from ibexite.errors import InstrumentError
from ibexite.instruments.session import Session
from ibexite.protocols.scpi import INFINITY, response_text, response_value
from ibexite.values import Quantity, Text, Type, YesNo


def do(bench: BenchState, role_name: str, action: str) -> None:
    """Carries out an action of a role, then asks its settings back; protection that it took away is written again.

    Raises:
        InstrumentError: the profile has no such action, or it led beyond a ceiling.
    """
    role = bench.file.roles[role_name]
    session = bench.sessions[role.instrument]
    command = session.profile.actions.get(action)
    if command is None:
        raise InstrumentError(f"profile {session.profile.name} has no action {action!r}", where=role_name)
    text, before = session.profile.speech.at(command, role.channel), protection.levels(bench, role.instrument)
    with session.allowing(session.profile.waits.acting):
        session.send(text, may_repeat=False)
        session.wait_until_complete()  # an action may take long, and has a time-out of its own
        session.forget()
        relearn(bench, role_name)
        protection.keep(bench, before)
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
    names = {entry.name for entry in bench.entries.values() if entry.instrument == instrument}
    known = [key for key in bench.state if key[0] in names]
    limited = [(role.name, setting) for role in same for setting in with_ceiling(role, bench.profile(role.name))]
    bench.learn_state(dict.fromkeys([*known, *limited]))
    for role in same:
        values = {setting: value for (name, setting), value in bench.state.items() if name == role.name}
        for found in beyond(role, bench.profile(role.name), values):
            refuse_beyond(bench, role, found)
    for key in limited:  # what was not known is not kept: nobody has set it
        if key not in known:
            bench.state.pop(key, None)


def _in_base(number: float, kind: Type) -> float:
    if not isinstance(kind, Quantity):
        return number
    unit = kind.written
    value = number * float(unit.factor) + float(unit.offset)
    return round(value, 12) if unit.offset else value
