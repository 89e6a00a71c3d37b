"""The way of a bench to its safe state: everything off in the stated order, and asked whether it is."""

from __future__ import annotations

import time
from collections.abc import Mapping

from ibexite.bench.entries import RoleEntry
from ibexite.bench.interface import SafeDeed
from ibexite.bench.state import BenchState
from ibexite.errors import IbexiteError
from ibexite.instruments.session import Session

PATIENCE = 10.0  # s; how long it is tried to make a role safe that cannot be reached


def make_safe(bench: BenchState) -> list[SafeDeed]:
    """Switches everything off in the stated order, and asks each instrument whether it is off. Never raises.

    A role that cannot be reached does not keep the others waiting; it is tried again for PATIENCE. Where commands were
    left behind on a link that was given up, a slow instrument may carry them out after all: when it has had time for
    that it is switched off once more.
    """
    bench.user.after_recovery = lambda session: None
    for session in bench.sessions.values():
        with bench.holding([session]):
            session.give_up_state()
        bench.touched.get(session, {}).clear()
    roles = list(bench.safe_roles())
    problems: dict[str, str] = {}
    for role, session in roles:
        problems[role.name] = _under_power(bench, role, problems) or _try(bench, role, session)
    deadline = bench.user.now() + PATIENCE
    while any(problems.values()) and bench.user.now() < deadline:
        _wait(bench, 0.1)
        for role, session in roles:
            if problems[role.name]:
                held = _under_power(bench, role, problems)
                problems[role.name] = held or _try(bench, role, session, anew=True)
    late = [(role, session) for role, session in roles if session.has_left_behind and not problems[role.name]]
    if late:
        _wait(bench, min(PATIENCE, max(2 * session.link.timeout for _, session in late)))
        for role, session in late:
            problems[role.name] = _try(bench, role, session)
    return [SafeDeed(name, problem) for name, problem in problems.items()]


def _wait(bench: BenchState, seconds: float) -> None:
    """Waits in the time of the run; where that cannot be told any more (a simulated world has ended), in that of the
    world."""
    try:
        bench.user.wait(seconds)
    except IbexiteError:
        time.sleep(seconds)


def switch_off(bench: BenchState) -> list[SafeDeed]:
    """Switches everything off at once, in the stated order, within a run that goes on to its end. Never raises."""
    problems: dict[str, str] = {}
    for role, session in bench.safe_roles():
        problems[role.name] = _under_power(bench, role, problems) or _try(bench, role, session)
    return [SafeDeed(name, problem) for name, problem in problems.items()]


def powers(bench: BenchState, role: RoleEntry) -> tuple[str, ...]:
    """The roles that must be off before the relays of a switch may open."""
    routes = [route for route in bench.file.routes.values() if route.switch == role.name]
    return tuple(dict.fromkeys(name for route in routes for name in route.only_while_off))


def _under_power(bench: BenchState, role: RoleEntry, problems: Mapping[str, str]) -> str:
    """Why the relays of a switch may not be opened: what must be off before is not."""
    on = [name for name in powers(bench, role) if problems.get(name)]
    return f"it was left as it is: {', '.join(on)} must be off before" if on else ""


def _try(bench: BenchState, role: RoleEntry, session: Session, *, anew: bool = False) -> str:
    try:
        with bench.holding([session]):
            return _make_role_safe(bench, role, session, anew=anew)
    except IbexiteError as error:
        return error.what
    except Exception as error:  # a mistake of ours must not keep the next role from going off
        return repr(error)


def _make_role_safe(bench: BenchState, role: RoleEntry, session: Session, *, anew: bool) -> str:
    if anew:
        session.link.is_waiting = True
    session.settle_link()
    safe = session.profile.safe
    for text in session.profile.safe_actions:
        session.link_send(session.profile.speech.at(text, role.channel))
    for channel in role.safe_channels:
        name = f"{role.name}@{channel}" if role.relays else role.name
        for setting, value in safe.items():
            session.link_send(session.profile.settings[setting].encoder(channel)(value))
            bench.state[name, setting] = float(value)
    asked = [setting for setting in safe if session.can_ask(setting)]  # of others it is only told
    for channel in role.safe_channels:
        held = session.link_ask_settings(asked, channel)
        for setting, now in zip(asked, held, strict=True):
            if now != float(safe[setting]):
                told = f" (channel {channel})" if role.relays else ""
                return f"{setting}{told} did not go {'on' if safe[setting] else 'off'}"
    return ""
