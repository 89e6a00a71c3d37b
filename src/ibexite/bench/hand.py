"""Instruments in the hand of a person, without a sequence: set, ask, send, and at the end switched off again.

What always holds: nothing is reset; what was on before stays as it is until it is switched from here; everything else
that is on at the end goes off. Before anything may be switched on, a guardian watches. Ceilings are looked at before
each setting, before an output goes on, and after each raw command while one is on.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator, Sequence
from math import inf

from ibexite import units
from ibexite.bench.bench import Bench
from ibexite.bench.ceilings import Beyond, beyond, refuse_beyond, with_ceiling
from ibexite.bench.entries import RoleEntry, RouteEntry
from ibexite.bench.file import BenchFile
from ibexite.bench.guardian import Guardian
from ibexite.bench.interface import SafeDeed
from ibexite.bench.pool import Pool
from ibexite.bench.route_entries import RELAY
from ibexite.errors import BenchError, CeilingError, IbexiteError, MistakeError, TooLongError, UnitError, did_you_mean
from ibexite.instruments.link import Data, Reply
from ibexite.instruments.own_questions import own_reply
from ibexite.instruments.session import Session
from ibexite.instruments.settings import SettingCommands, Value
from ibexite.protocols.scpi import asks_and_changes

HOLDER = "somebody by hand"
_SWITCH_WORDS = {"on": 1.0, "off": 0.0}


class Hand:
    """The instruments of one bench file, connected when they are first reached. `told` is emptied by whoever shows it.

    Args:
        pool: one that does not start its instruments.
        guard: starts a guardian; called before the first thing that may switch something on.
    """

    def __init__(self, file: BenchFile, pool: Pool, guard: Callable[[], Guardian]) -> None:
        self.file, self.bench, self.told = file, Bench(file, pool), list[str]()
        self.bench.expects_limiting = True  # whoever stands before it sees it
        self.has_reported = False  # the last deed made an instrument report an error
        self._guard = guard
        self._guardian: Guardian | None = None
        self._watched: object = None
        self._changed_at = -inf  # monotonic s
        self._known_on: set[str] = set()  # roles that were on when last looked at
        self._began = time.monotonic()

    def take_told(self) -> list[str]:
        """What was to be told since last asked."""
        told, self.told = self.told, []
        return told

    def beat(self) -> None:
        """Whoever holds the instruments is alive. What was beyond a level for too long is switched off, and told."""
        if self._guardian is not None:
            self._guardian.beat()
        try:
            self.bench.time_limits.look()
        except TooLongError as error:
            self.told.append(error.what)

    # --- reaching ----------------------------------------------------------------------------------------------------

    def role(self, name: str) -> RoleEntry:
        """A role of the bench. Raises MistakeError."""
        role = self.file.roles.get(name)
        if role is None:
            raise MistakeError(f"there is no role {name!r}", remedy=did_you_mean(name, self.file.roles))
        return role

    def _setting(self, role_name: str, setting: str) -> tuple[RoleEntry, SettingCommands]:
        role = self.role(role_name)
        settings = self.file.instruments[role.instrument].profile.settings
        if setting not in settings:
            raise MistakeError(f"{role_name} has no setting {setting!r}", remedy=did_you_mean(setting, settings))
        return role, settings[setting]

    def reach(self, instrument: str) -> Session:
        """The session of an instrument, connected as it is. What is on already, and what waits in its error queue, is
        told.

        Raises:
            BenchError: it is in use, does not answer, or is another one.
        """
        if instrument in self.bench.sessions:
            return self.bench.sessions[instrument]
        try:
            self.bench.connect([instrument], HOLDER, heed=self.beat)
            session = self.bench.sessions[instrument]
            self.told += [f"{instrument} had in its error queue: {entry}" for entry in self._errors(session)]
            found_on = [role.name for role in self._roles_at(instrument) if self.is_on(role)]
        except BaseException:
            self.bench.leave(instrument)
            raise
        self._known_on |= set(found_on)
        for name in found_on:
            self.bench.left_alone.add(name)
            self.told.append(f"{name} is on already; it is left as it is until it is switched from here")
        return session

    def _roles_at(self, instrument: str) -> list[RoleEntry]:
        return [role for role in self.file.roles.values() if role.instrument == instrument]

    def is_on(self, role: RoleEntry) -> bool:
        """Whether anything of a role that the safe state has off is on; asked just now. Raises BenchError."""
        session, state = self.bench.sessions[role.instrument], self.bench.state
        return any(
            (session.ask_setting(setting, channel) if session.can_ask(setting)
             else state.get((role.name, setting), float(off))) != float(off)
            for channel in role.safe_channels for setting, off in session.profile.safe.items()
        )  # fmt: skip

    def on(self) -> list[str]:
        """The roles that are on, and go off at the end. One that does not say counts as on."""
        found = []
        for role in self.bench.roles():
            if role.name in self.bench.left_alone:
                continue
            try:
                if self.is_on(role):
                    found.append(role.name)
            except BenchError:
                found.append(role.name)
        return found

    # --- deeds -------------------------------------------------------------------------------------------------------

    def set(self, role_name: str, setting: str, text: str) -> None:
        """Sets a setting of a role, from a text with a unit or on/off, and asks it back.

        Raises:
            MistakeError: there is no such thing, or it is no such value. CeilingError: beyond; nothing was sent.
            BenchError: it was not taken, or an output is on beyond a ceiling and was switched off.
        """
        role, commands = self._setting(role_name, setting)
        value = value_of(f"{role_name}.{setting}", commands, text)
        session = self.reach(role.instrument)
        key = (role_name, setting)
        safe = session.profile.safe.get(setting)
        with self._telling_errors(session):
            if safe is not None and value != float(safe):
                self._look_at_ceilings(role)
                self.bench.protect([role_name])
            if safe is not None:
                self.bench.left_alone.discard(role_name)
            with contextlib.suppress(*[BenchError] * (value == safe)):  # to switch off needs nobody's leave
                self._watch()
            self.bench.set_line([key])(value)
            if not self.bench.is_switch(key) and session.can_ask(setting):
                self.bench.verify([key], (self.bench.state[key],))
            self.tell_setting(role_name, setting)
            self._look_at_what_is_on(session, role_name if safe is not None else "")

    def do(self, role_name: str, action: str) -> None:
        """Carries out an action of a role. Raises MistakeError: it has none of that name; BenchError."""
        role = self.role(role_name)
        actions = self.file.instruments[role.instrument].profile.actions
        if action not in actions:
            raise MistakeError(f"{role_name} has no action {action!r}", remedy=did_you_mean(action, actions))
        session = self.reach(role.instrument)
        with self._telling_errors(session):
            self._watch()
            self.bench.do(role_name, action)
            self.told.append(f"{role_name}: {action} is done")
            self._look_at_what_is_on(session)

    def connect(self, names: Sequence[str]) -> None:
        """Connects routes, by the rules of the bench file; what makes way for them is told as well.

        Raises:
            MistakeError: there is no such route. RouteError: one may not be connected now; nothing was switched.
            BenchError: a relay did not switch.
        """
        self._switch_routes(names, is_on=True)

    def disconnect(self, names: Sequence[str]) -> None:
        """Disconnects routes. Raises as `connect`."""
        self._switch_routes(names, is_on=False)

    def _switch_routes(self, names: Sequence[str], *, is_on: bool) -> None:
        routes = [self._route(name) for name in names]
        for route in routes:
            for role in (route.switch, *route.only_while_off):
                self.reach(self.file.roles[role].instrument)
        bench, switches = self.bench, dict.fromkeys(route.switch for route in routes)
        sessions = {bench.sessions[self.file.roles[switch].instrument]: None for switch in switches}
        at = {session.name for session in sessions}
        with contextlib.ExitStack() as stack:
            for session in sessions:
                stack.enter_context(self._telling_errors(session))
            bench.learn_state((name, RELAY) for name, entry in self.file.relays.items() if entry.instrument in at)
            if is_on:
                bench.left_alone -= set(switches)
            with contextlib.suppress(*[BenchError] * (not is_on)):  # to open needs nobody's leave
                self._watch()
            before = set(bench.routes.connected)
            (bench.connect_routes if is_on else bench.disconnect_routes)(names, time.sleep)
            self.told += [f"{name} is disconnected" for name in sorted(before - set(bench.routes.connected))]
            self.told += [f"{name} is connected" if is_on else f"{name} is open" for name in names
                          if is_on or name not in before]  # fmt: skip
            for switch in switches:
                self._look_at_what_is_on(bench.sessions[self.file.roles[switch].instrument], switch)

    def take_closings(self) -> dict[tuple[str, int], int]:
        """How often relays have closed since last asked, by identity of their switch and channel."""
        closings = self.bench.take_closings()
        return {(self.bench.sessions[name].identity, channel): times for (name, channel), times in closings.items()}

    def _route(self, name: str) -> RouteEntry:
        route = self.file.routes.get(name)
        if route is None:
            raise MistakeError(f"there is no route {name!r}", remedy=did_you_mean(name, self.file.routes))
        return route

    def send(self, instrument: str, text: str) -> Data | None:
        """Sends a text as it is; the reply, None where there comes none. What is more than questions is sent only where
        the bench file allows raw commands, and it is known how the instrument is switched off.

        Raises:
            MistakeError: it is not allowed. BenchError: as `set`; no reply came.
        """
        own = own_reply(self.file.instruments[instrument].profile, text)
        asks, changes = asks_and_changes(text) if own is None else (True, False)
        if "\n" in text or not text.strip() or not text.isascii():
            raise MistakeError(f"{text!r} is no line of plain characters")
        if changes:
            self._check_raw(instrument)
        session = self.reach(instrument)
        with self._telling_errors(session):
            if changes:
                self._watch()
            if asks:
                reply = session.query_whole(text, own or Reply.MESSAGE)
            else:
                reply = None
                session.send(text, may_repeat=False)
            if changes:
                session.forget()
                self.bench.learn_state(self.bench.believed(instrument))
                self._look_at_what_is_on(session)
        return reply

    def settle(self) -> None:
        """Waits until what was changed last is true: a reading is about to be taken."""
        settling = max((session.profile.settling for session in self.bench.sessions.values()), default=0.0)
        time.sleep(max(0.0, self._changed_at + settling - time.monotonic()))

    def tell_setting(self, role_name: str, setting: str) -> None:
        """Asks a setting back and tells it. Raises MistakeError, BenchError."""
        role, commands = self._setting(role_name, setting)
        held = self.reach(role.instrument).ask_setting(setting, role.channel)
        self.told.append(f"{role_name}.{setting} = {shown(commands, held)}")

    # --- safety ------------------------------------------------------------------------------------------------------

    def _watch(self) -> None:
        """A guardian watches all that is connected: before, nothing may go on. Raises BenchError: it does not."""
        watched = (set(self.bench.sessions), set(self.bench.left_alone))
        if self._guardian is None:
            self._guardian = self._guard()
        elif watched == self._watched:
            self._guardian.look()
            return
        self.bench.rescued_by(self._guardian, self._began)
        self._watched = watched

    def _look_at_ceilings(self, role: RoleEntry) -> None:
        """Before it goes on: what it is set to must not be beyond a ceiling. Raises CeilingError."""
        for found in self._beyond(role):
            raise CeilingError(
                f"{role.name}.{found.name} is at {found.value}, beyond its ceiling of {found.ceiling}",
                remedy="Nothing was switched on. Set it first.",
            )

    def _beyond(self, role: RoleEntry) -> list[Beyond]:
        session, profile = self.bench.sessions[role.instrument], self.bench.profile(role.name)
        asked = {setting: self._now(session, role, setting) for setting in with_ceiling(role, profile)}
        return list(beyond(role, profile, {name: value for name, value in asked.items() if value is not None}))

    def _now(self, session: Session, role: RoleEntry, setting: str) -> Value | None:
        """What a setting is just now; what was set last where it cannot be asked, None where nobody knows."""
        if session.can_ask(setting):
            return session.ask_setting(setting, role.channel)
        return self.bench.state.get((role.name, setting))

    def _look_at_what_is_on(self, session: Session, switched: str = "") -> None:
        """After something may have changed: which roles of an instrument are on, none beyond a ceiling. `switched` is a
        role that was switched just now."""
        for role in self._roles_at(session.name):
            if not self.is_on(role):
                self.bench.left_alone.discard(role.name)
                if role.name in self._known_on - {switched}:
                    self.told.append(f"{role.name} is off now{self._why_off(role, session)}")
                self._known_on.discard(role.name)
                continue
            self._known_on.add(role.name)
            for found in self._beyond(role):
                self.bench.left_alone.discard(role.name)
                refuse_beyond(self.bench, role, found)

    def _why_off(self, role: RoleEntry, session: Session) -> str:
        asked = [(status, session.query(status.at(role.channel))) for status in session.profile.tripped]
        tripped = any(session.says_yes(status, reply, "tripped") for status, reply in asked)
        return ": a protection has tripped" if tripped else ""

    def _check_raw(self, instrument: str) -> None:
        fact, roles = self.file.instruments[instrument], self._roles_at(instrument)
        if fact.profile.path.name == "" or not roles:
            raise MistakeError(
                "more than questions is sent only where it is known how an instrument is switched off",
                where=instrument, remedy="Name what it is: --profile NAME; or give it a role in the bench file.",
            )  # fmt: skip
        for role in roles:
            if not role.allows_raw:
                raise MistakeError(
                    "raw commands are not allowed here; questions are", where=role.name,
                    remedy=f"Write raw = true into [roles.{role.name}] of the bench, or set settings by their names.",
                )  # fmt: skip

    def is_watched(self) -> bool:
        """False if there was a guardian, and it is there no more: then nothing may stay on."""
        try:
            if self._guardian is not None:
                self._guardian.look()
        except BenchError:
            return False
        return True

    def after_interruption(self) -> None:
        """A deed was broken off in its middle: no reply of it may be taken for another one."""
        for session in self.bench.sessions.values():
            with contextlib.suppress(IbexiteError):  # the next deed will say so
                session.settle_link()

    def switch_off(self) -> list[SafeDeed]:
        """Switches off what was switched on from here. Never raises."""
        if self._guardian is None:
            return []
        after_recovery = self.bench.user.after_recovery
        deeds = self.bench.make_safe()
        self.bench.user.after_recovery = after_recovery  # it goes on
        return deeds

    def end(self) -> list[SafeDeed]:
        """Switches off what was switched on from here, and lets all instruments go. What could not be switched off is
        left to the guardian, which goes on trying. Never raises."""
        deeds: list[SafeDeed] = []
        if self._guardian is not None:
            self._guardian.stand_back()
            deeds = self.bench.make_safe()
            self._guardian.dismiss(deed.role for deed in deeds if deed.problem)
            self._guardian = None
        self.bench.close()
        return deeds

    # --- errors ------------------------------------------------------------------------------------------------------

    def _errors(self, session: Session) -> list[str]:
        query = session.profile.errors.query
        return session.errors_after(session.query(query, may_repeat=False)) if query else []

    @contextlib.contextmanager
    def _telling_errors(self, session: Session) -> Iterator[None]:
        """Within it a deed; behind it what the instrument has in its error queue is told, also if the deed failed."""
        self.has_reported = False
        try:
            yield
        except IbexiteError:
            self._changed_at = time.monotonic()
            with contextlib.suppress(IbexiteError):
                self._tell_errors(session)
            raise
        self._changed_at = time.monotonic()
        self._tell_errors(session)

    def tell_errors(self) -> None:
        """Tells what all that are connected have in their error queues."""
        for session in self.bench.sessions.values():
            self._tell_errors(session)

    def _tell_errors(self, session: Session) -> None:
        entries = self._errors(session)
        self.has_reported |= bool(entries)
        self.told += [f"{session.name} reports {entry}" for entry in entries]


def value_of(name: str, commands: SettingCommands, text: str) -> Value:
    """A value for a setting: in base units, or the word of a choice. Raises MistakeError."""
    dimension, choices = commands.feature.dimension, commands.feature.choices
    if choices:
        if text not in choices:
            raise MistakeError(f"{name} has no choice {text!r}", remedy=did_you_mean(text, choices))
        return text
    if dimension is None:
        if text.lower() not in _SWITCH_WORDS:
            raise MistakeError(f"{name} is on or off, not {text!r}")
        return _SWITCH_WORDS[text.lower()]
    try:
        quantity = units.parse_quantity(text)
    except UnitError as error:
        raise MistakeError(error.what, where=name, remedy=error.remedy) from None
    if quantity.dimension != dimension:
        raise MistakeError(f"{text} is {units.describe(quantity.dimension)}", where=name,
                           remedy=f"It is {units.describe(dimension)}.")  # fmt: skip
    value = float(quantity)
    if not -inf < value < inf:
        raise MistakeError(f"{text} is no number", where=name)
    return value


def shown(commands: SettingCommands, value: Value) -> str:
    """A value of a setting for people."""
    return commands.said(value)
