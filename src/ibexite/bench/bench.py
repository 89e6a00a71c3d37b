"""The connected bench as one unit sees it: prepared lines, protection, and what is believed of each setting."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from math import inf
from typing import Any

from ibexite.bench import deeds
from ibexite.bench.completion import Completion
from ibexite.bench.error_queue import looking
from ibexite.bench.file import BenchFile
from ibexite.bench.interface import TRIES, Connected, Discrepancy, GuardianLike, Key, SafeDeed, StreamLike
from ibexite.bench.items import role_item, signal_item
from ibexite.bench.joint_bounds import Check, falling_first, joint_check
from ibexite.bench.limiting import Limiting
from ibexite.bench.pool import Pool
from ibexite.bench.proof import prove
from ibexite.bench.protection import protect
from ibexite.bench.query import Item
from ibexite.bench.read_line import ReadLine, allowing_line
from ibexite.bench.restoring import Standing, restore
from ibexite.bench.route_entries import RELAY
from ibexite.bench.routes import Routes
from ibexite.bench.safety import make_safe, switch_off
from ibexite.bench.set_line import SetLine, Target, make_set_line
from ibexite.bench.state import BenchState
from ibexite.bench.time_limits import TimeLimits
from ibexite.errors import DamageError, InstrumentError
from ibexite.holes import Bad
from ibexite.instruments.readings import Given
from ibexite.instruments.session import Session
from ibexite.instruments.settings import Value
from ibexite.instruments.user import MUCH, What
from ibexite.stimulus import Stimulus
from ibexite.values import Type
from ibexite.verdicts import BAD_READINGS, Reason

SWITCHED_WITHIN = 0.5  # s; how long an output may take until it says that it is on or off


class Bench(BenchState):
    """The view of one unit of the instruments in a pool: its roles, what is believed of them, its safe order. `bad`
    is emptied by whoever records it."""

    def __init__(self, file: BenchFile, pool: Pool | None = None) -> None:
        super().__init__(file, pool or Pool())
        self._completion, self._limiting = Completion(self), Limiting(self)
        self.time_limits = TimeLimits(self)
        self.routes = Routes(self, self.set_line)
        self.closings: dict[tuple[str, int], int] = {}  # of relays, since last asked: how often each has closed

    # --- connecting --------------------------------------------------------------------------------------------------

    def connect(
        self,
        instruments: Iterable[str],
        holder: str = "another run",
        *,
        heed: Callable[[], None] = lambda: None,
        now: Callable[[], float] = time.monotonic,
        wait: Callable[[float], None] = time.sleep,
        stamp: Callable[[], float] | None = None,
    ) -> None:
        """Takes the named instruments from the pool, which connects them, outputs off.

        Args:
            holder: who uses the bench, for the message to others who want it meanwhile.
            heed: is called while an instrument is waited for; what it raises ends the wait.
            now: tells the time in s.
            wait: waits so many seconds of that time, while an instrument carries something out.
            stamp: tells the time for what is said on links; without it `now` does.

        Raises:
            BenchError: one is in use by another run or does not answer, or another one answers in its place.
        """
        self.user.heed, self.user.now, self.user.wait, self.user.stamp = heed, now, wait, stamp or now
        facts = [self.file.instruments[name] for name in instruments]
        self.pool.take(facts, holder, self.user, self.sessions)
        self.touched |= {session: {} for session in self.sessions.values() if session not in self.touched}
        self._is_sharing = self.pool.shares(self.sessions.values())

    def connected(self) -> dict[str, Connected]:
        """The instruments that have answered, by name."""
        return {name: Connected(session.identity, session.is_simulated) for name, session in self.sessions.items()}

    def listen(self, wrap: Callable[[str, Callable[..., Any]], Callable[..., Any]]) -> None:
        """Puts what `wrap` makes of it, by the name of the instrument, in the place of each way to talk to one."""
        for name, session in self.sessions.items():
            for method in ("exchange_once", "answer", "send"):
                setattr(session, method, wrap(name, getattr(session, method)))

    def rescued_by(self, guardian: GuardianLike, began: float) -> None:
        """Lets a guardian watch it: outputs may go on from now on. `began`: monotonic time in s at which the run began.

        Raises:
            BenchError: the guardian does not answer.
        """
        guardian.watch(self, began)

    def close(self) -> None:
        """Gives the instruments back."""
        self.pool.give_back(self.user)

    def leave(self, instrument: str) -> None:
        """Gives one instrument back."""
        session = self.sessions.pop(instrument, None)
        if session is not None:
            self.touched.pop(session, None)
            self.pool.give_back(self.user, [instrument])

    @property
    def has_messages(self) -> bool:
        """Something was said since last asked, other than by the clock."""
        return self.user.has_messages

    @property
    def has_much_to_tell(self) -> bool:
        """So much was said that it should not be kept any longer."""
        return len(self.user.said) > MUCH

    def take_said(self) -> tuple[list[What], list[float]] | None:
        """What was said on links since last asked, and when; None if nothing was."""
        return self.user.take_said() if self.user.said else None

    def tell(self, instrument: str, direction: str, text: str | bytes) -> None:
        """Something is told in the order of what is said on links."""
        self.user.tell(instrument, direction, text)

    def tell_time(self, seconds: float) -> None:
        """What the clock of the run said, in the order of what is said on links."""
        self.user.tell_time(seconds)

    def protect(self, only: Iterable[str] = ()) -> None:
        """Writes the protection levels of all roles, or of some of them; see ibexite.bench.protection.

        Raises:
            InstrumentError: an instrument did not take a level.
        """
        with self.holding():
            protect(self, [role for role in self.roles() if not only or role.name in only])

    # --- prepared lines ----------------------------------------------------------------------------------------------

    def set_line(self, settings: list[tuple[str, str]]) -> SetLine:
        """Makes a set line ready, from (role, setting) in its order. Switches are read back when they were switched."""
        targets = [self._target(role, setting) for role, setting in settings]
        send = make_set_line(targets, self.state, self.touched)
        check = joint_check(self, settings)
        if check is not None:
            send = self._with_joint_bounds(settings, targets, check)
        switches = [(i, key) for i, key in enumerate(settings) if self.is_switch(key)]
        if switches:
            send = self._looking(send, switches)
        awaited = {t.session: None for t in targets if t.session.profile.settings[t.setting].feature.awaited}
        if awaited:
            send = self._awaiting(send, list(awaited))
        if self.has_time_limits:
            send = self._timed(send, list(dict.fromkeys(role for role, _ in settings)))
        return self._held(send, [target.session for target in targets])

    def _timed(self, send: SetLine, roles: list[str]) -> SetLine:
        """A set line that begins and ends times of its roles."""

        def send_and_note(*values: Value) -> None:
            self.time_limits.look()
            try:
                send(*values)
            finally:
                self.time_limits.note(roles)

        return send_and_note

    def _with_joint_bounds(self, keys: list[Key], targets: list[Target], check: Check) -> SetLine:
        """A set line that looks at bounds of two settings together, and has what falls go before what rises."""
        made: dict[tuple[int, ...], SetLine] = {}

        def look_and_send(*values: Value) -> None:
            check(values)
            order = falling_first(self, keys, values)
            if order not in made:
                made[order] = make_set_line([targets[i] for i in order], self.state, self.touched)
            made[order](*(values[i] for i in order))

        return look_and_send

    def _awaiting(self, send: SetLine, sessions: list[Session]) -> SetLine:
        """A set line that ends when instruments say that they are where they were set to."""

        def send_and_wait(*values: Value) -> None:
            send(*values)
            for session in sessions:
                with session.allowing(session.profile.waits.acting):
                    session.wait_until_complete()

        return send_and_wait

    def _held(self, deed: Callable[..., Any], sessions: list[Session]) -> Callable[..., Any]:
        """A deed that holds the sessions which it shares with other units; the deed itself where it shares none."""
        if not self.pool.shares(sessions):
            return deed

        def held(*given: Any) -> Any:
            with self.pool.holding(sessions, self.user):
                return deed(*given)

        return held

    def _looking(self, send: SetLine, switches: list[tuple[int, Key]]) -> SetLine:
        """A set line that looks what becomes of its switches."""
        sources = [(i, key[0]) for i, key in switches if self._limiting.is_source(key[0])]
        relays = [(i, key) for i, key in switches if key[0] in self.file.relays]

        def send_and_look(*values: float) -> None:
            for i, key in relays:
                if values[i] and not self.state.get(key):
                    entry = self.file.relays[key[0]]
                    place = (entry.instrument, entry.channel)
                    self.closings[place] = self.closings.get(place, 0) + 1
            if any(not values[i] for i, _ in sources):
                self._limiting.note()  # what happens when a source goes off is the sequence's own doing
            was_without = self._limiting.is_without_source()
            send(*values)
            for i, key in switches:
                self._check_switched(key, bool(values[i]))
            if was_without and any(values[i] for i, _ in sources):
                self.is_ramping = True

        return send_and_look

    def _check_switched(self, key: tuple[str, str], wanted: bool) -> None:
        """Asks a switch back; an instrument may take a moment until it says so.

        Raises:
            InstrumentError: it did not switch.
        """
        role = self.entries[key[0]]
        session = self.sessions[role.instrument]
        deadline = self.user.now() + max(SWITCHED_WITHIN, 2 * session.profile.settling)
        while session.can_ask(key[1]) and bool(session.ask_setting(key[1], role.channel)) != wanted:
            if self.user.now() > deadline:
                self.mistrusted.add(key[0])
                done = f"{key[1]} did not go {'on' if wanted else 'off'}"
                if key[0] in self.file.relays:
                    done = f"the relay did not {'close' if wanted else 'open'}"
                raise InstrumentError(
                    done, where=key[0],
                    remedy="Look at the instrument: has a protection tripped, is its front panel locked?",
                )  # fmt: skip
            self.user.heed()
            self.user.wait(SWITCHED_WITHIN / 10)

    def _target(self, role_name: str, setting: str) -> Target:
        role = self.entries[role_name]
        session = self.sessions[role.instrument]
        commands = session.profile.settings[setting]
        low, high = commands.extent or (-inf, inf)
        range_, ceiling = f"the range of {session.profile.name}", f"the ceiling of {role_name}.{setting}"
        of_low, of_high = range_, range_
        if role.ceiling.get(setting, inf) < high:
            high, of_high = role.ceiling[setting], ceiling
        if role.floor.get(setting, -inf) > low:
            low, of_low = role.floor[setting], ceiling
        rounded = commands.sent if commands.is_rounded else None
        return Target(role_name, setting, role.channel, session, low, high, commands.feature.dimension, of_high,
                      of_low, commands.feature.choices, rounded)  # fmt: skip

    def signal_item(self, name: str, signal_name: str) -> Item:
        """One value of a read line, from a signal."""
        return signal_item(self, name, signal_name)

    def role_item(self, name: str, role_name: str, reading: str, arguments: dict[str, Given]) -> Item:
        """One value of a read line, from a reading of a role."""
        return role_item(self, name, role_name, reading, arguments)

    def read_line(
        self,
        items: list[Item],
        *,
        together: bool,
        averaging: int,
        tries: int = TRIES,
        settled: tuple[float, bool] | None = None,
    ) -> Callable[[], list[float]]:
        """Makes a read line ready."""
        line = ReadLine(items, together=together, averaging=averaging, bad=self.bad, tries=tries, settled=settled)
        sessions = [*(item.session for item in line.whole), *self._limiting.sessions()]
        names = ", ".join(item.name for item in items)
        taking = looking(allowing_line(line, line.whole), [item.session for item in line.whole], f"read {names}")
        taking = self._limiting.looking(taking, line, self.bad, tries)
        if any(item.damage is not None or item.after is not None for item in items):
            taking = self._switching_off(taking)
        return self._held(taking, sessions)

    def _switching_off(self, taking: Callable[[], list[float]]) -> Callable[[], list[float]]:
        """A read line that switches all off when a signal is beyond its damage level."""

        def take() -> list[float]:
            try:
                return taking()
            except DamageError as error:
                problems = "; ".join(f"{d.role}: {d.problem}" for d in switch_off(self) if d.problem)
                told = f"NOT all is off: {problems}" if problems else "All outputs were switched off"
                raise DamageError(f"{error.what}. {told}", where=error.where) from None

        return take

    def play_line(
        self, role: str, stimulus: Stimulus, samples: Any, signals: list[tuple[str, str]], marker: str
    ) -> Callable[[], list[Any]]:
        """Makes a play line ready; see ibexite.bench.play."""
        from ibexite.bench.play import play_line

        line = play_line(self, self, role, stimulus, samples, signals, marker)
        roles = [role, *(self.file.signals[signal].role for _, signal in signals)]
        return self._held(line, [self.sessions[self.entries[name].instrument] for name in roles])

    def stream(self, signals: Sequence[str]) -> StreamLike:
        """Makes ready what an instrument streams of some signals; see ibexite.bench.stream."""
        from ibexite.bench.stream import Stream

        return Stream(self, self, [self.file.signals[name] for name in signals])

    # --- what is not in the loop over points -------------------------------------------------------------------------

    def verify(self, settings: list[tuple[str, str]], values: tuple[Value, ...]) -> None:
        """Asks settings back and compares them with what was sent.

        Raises:
            InstrumentError: one reads back otherwise; see SettingCommands.room.
        """
        for (role_name, setting), value in zip(settings, values, strict=True):
            role = self.file.roles[role_name]
            session = self.sessions[role.instrument]
            commands = session.profile.settings[setting]
            if not commands.can_be_asked:
                raise InstrumentError(
                    f"{setting} cannot be read back", where=role_name,
                    remedy=f"Profile {session.profile.name} has no query for it; set it without verified.",
                )  # fmt: skip
            with self.holding([session]):
                held = session.ask_setting(setting, role.channel)
            if not commands.agrees(held, value):
                raise InstrumentError(
                    f"{setting} was set to {commands.said(value)} but reads back {commands.said(held)}",
                    where=role_name,
                    remedy="Look at the instrument: a limit, a range, a lock of its front panel?",
                )

    def do(self, role_name: str, action: str) -> None:
        """Carries out an action of a role, then asks its settings back; see ibexite.bench.deeds."""
        with self.holding():
            deeds.do(self, role_name, action)

    def raw_send(self, role_name: str, text: str) -> None:
        """Sends a raw command where the bench file allows it; see ibexite.bench.deeds."""
        with self.holding():
            deeds.raw_send(self, role_name, text)

    def raw_query(self, name: str, role_name: str, text: str, kind: Type, tries: int) -> float | str:
        """The reply to a raw query: a number in base units, a text, 1.0 or 0.0 for yes and no; NaN for a bad one."""
        with self.holding():
            value, code, reply = deeds.raw_query(self, role_name, text, kind, tries)
        if code:
            self.bad.append(Bad(name, Reason(code, BAD_READINGS[code]), reply))
        return value

    # --- state -------------------------------------------------------------------------------------------------------

    def prove(self) -> list[Discrepancy]:
        """What is not as it was believed, of all instruments; see ibexite.bench.proof."""
        with self.holding():
            return prove(self)

    def complete(self) -> None:
        """Returns when all settings that were sent have been carried out; see ibexite.bench.completion.

        Raises:
            InstrumentError: an instrument has something else than it was set to.
        """
        with self.holding():
            self._completion.complete()

    def standing(self) -> Standing:
        """What it believes just now of all settings and routes, to be set back to that later."""
        return Standing(dict(self.state), tuple(self.routes.connected))

    def restore(self, wanted: Standing, settle: Callable[[float], None]) -> list[Key]:
        """Sets back what differs from `wanted`; see ibexite.bench.restoring."""
        changed = restore(self, wanted.state, settle, lambda key, value: self.set_line([key])(value))
        self.routes.connected = dict.fromkeys(wanted.connected)
        return changed

    # --- routes ------------------------------------------------------------------------------------------------------

    def connect_routes(self, names: Sequence[str], settle: Callable[[float], None]) -> None:
        """Connects routes; see ibexite.bench.routes."""
        with self.holding():
            self.routes.connect(names, settle)

    def disconnect_routes(self, names: Sequence[str], settle: Callable[[float], None]) -> None:
        """Disconnects routes; see ibexite.bench.routes."""
        with self.holding():
            self.routes.disconnect(names, settle)

    def open_routes(self, settle: Callable[[float], None]) -> None:
        """Opens all routes whose switches are connected: the state in which a run begins."""
        with self.holding():
            self.learn_state((name, RELAY) for name, entry in self.file.relays.items()
                             if entry.instrument in self.sessions)  # fmt: skip
            self.routes.open_all(self.file.routes, settle)

    def take_closings(self) -> dict[tuple[str, int], int]:
        """How often each relay has closed since last asked, by instrument and channel."""
        taken, self.closings = self.closings, {}
        return taken

    def read_errors(self) -> list[str]:
        """What the error queues of all instruments hold."""
        with self.holding():
            first = self.ask_of_each(lambda p: "" if p.errors.read == "never" else p.errors.query)
            found = {s.name: [f"{s.name} reports {e}" for e in s.errors_after(reply)] for s, reply in first.items()}
            self.user.pass_on(self.sessions, errors=found)
        return self.user.take_errors() + [error for errors in found.values() for error in errors]

    def take_limiting(self) -> list[str]:
        """The roles whose instrument limited since last asked; see ibexite.bench.limiting."""
        with self.holding():
            return self._limiting.take()

    def settled(self) -> None:
        """To be called behind a wait while it is ramping: loads that starved until then, while the first source came
        up, have not limited."""
        with self.holding():
            self._limiting.note()

    # --- the end -----------------------------------------------------------------------------------------------------

    def settle_links(self) -> None:
        """After an interruption: makes sure that no reply is still on its way."""
        with self.holding():
            for session in self.sessions.values():
                session.settle_link()

    def make_safe(self) -> list[SafeDeed]:
        """Switches everything off in the stated order; see ibexite.bench.safety. Never raises."""
        return make_safe(self)
