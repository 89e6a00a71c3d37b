"""The connected bench as one unit sees it: prepared lines, protection, and what is believed of each setting."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, nullcontext
from functools import partial
from math import inf
from typing import TYPE_CHECKING, Any

from ibexite import units
from ibexite.bench import deeds
from ibexite.bench.completion import Completion, asked_at_once
from ibexite.bench.file import BenchFile, RoleEntry
from ibexite.bench.interface import TRIES, Connected, Discrepancy, Key, SafeDeed
from ibexite.bench.limiting import Limiting
from ibexite.bench.pool import Pool
from ibexite.bench.proof import ask_all, in_one, prove
from ibexite.bench.query import Item
from ibexite.bench.read_line import ReadLine
from ibexite.bench.restoring import restore
from ibexite.bench.safety import make_safe
from ibexite.bench.set_line import SetLine, Target, make_set_line
from ibexite.errors import InstrumentError, LinkError
from ibexite.holes import Bad
from ibexite.instruments.profile import Profile
from ibexite.instruments.session import Reconnected, Session, User, What
from ibexite.values import Type
from ibexite.verdicts import BAD_READINGS, Reason

if TYPE_CHECKING:
    from ibexite.bench.guardian import Guardian

_NOTHING = nullcontext()
SWITCHED_WITHIN = 0.5  # s; how long an output may take until it says that it is on or off


class Bench:
    """The view of one unit of the instruments in a pool: its roles, what is believed of them, its safe order. `bad`
    is emptied by whoever records it."""

    def __init__(self, file: BenchFile, pool: Pool | None = None) -> None:
        self.file, self.pool = file, pool or Pool()
        self.sessions: dict[str, Session] = {}
        self.state: dict[Key, float] = {}  # what is believed of each setting
        self.touched: dict[Session, dict[Key, None]] = {}  # what was sent to each and not asked back since
        self.mistrusted: set[str] = set()  # roles whose state was found to be another than believed
        self.is_ramping = False  # the first source was switched on and nothing was waited for since
        self.bad: list[Bad] = []
        self.user = User(after_recovery=self._state_after_recovery)
        self._completion, self._limiting = Completion(self), Limiting(self)
        self._is_sharing = False

    def holding(self, sessions: Iterable[Session] | None = None) -> AbstractContextManager[None]:
        """Within it what is shared with other units, of these sessions or of all, belongs to this one."""
        if not self._is_sharing:
            return _NOTHING
        return self.pool.holding(self.sessions.values() if sessions is None else sessions, self.user)

    # --- connecting --------------------------------------------------------------------------------------------------

    def connect(
        self,
        instruments: Iterable[str],
        holder: str = "another run",
        *,
        heed: Callable[[], None] = lambda: None,
        now: Callable[[], float] = time.monotonic,
    ) -> None:
        """Takes the named instruments from the pool, which connects them, outputs off.

        Args:
            holder: who uses the bench, for the message to others who want it meanwhile.
            heed: is called while an instrument is waited for; what it raises ends the wait.
            now: tells the time in s, for the traffic.

        Raises:
            BenchError: one is in use by another run or does not answer, or another one answers in its place.
        """
        self.user.heed, self.user.now = heed, now
        facts = [self.file.instruments[name] for name in instruments]
        self.pool.take(facts, holder, self.user, self.sessions)
        self.touched = {session: {} for session in self.sessions.values()}
        self._is_sharing = self.pool.shares(self.sessions.values())

    def connected(self) -> dict[str, Connected]:
        """The instruments that have answered, by name."""
        return {name: Connected(session.identity, session.is_simulated) for name, session in self.sessions.items()}

    def listen(self, wrap: Callable[[str, Callable[..., Any]], Callable[..., Any]]) -> None:
        """Puts what `wrap` makes of it, by the name of the instrument, in the place of each way to talk to one."""
        for name, session in self.sessions.items():
            for method in ("exchange_once", "answer", "send"):
                setattr(session, method, wrap(name, getattr(session, method)))

    def rescued_by(self, guardian: Guardian, began: float) -> None:
        """Lets a guardian watch it: outputs may go on from now on. `began`: monotonic time in s at which the run began.

        Raises:
            BenchError: the guardian does not answer.
        """
        guardian.watch(self, began)

    def close(self) -> None:
        """Gives the instruments back."""
        self.pool.give_back(self.user)

    def take_said(self) -> tuple[list[What], list[float]] | None:
        """What was said on links since last asked, and when; None if nothing was."""
        return self.user.take_said() if self.user.said else None

    def roles(self) -> list[RoleEntry]:
        """The roles whose instruments are connected."""
        return [role for role in self.file.roles.values() if role.instrument in self.sessions]

    def profile(self, role: str) -> Profile:
        """The profile of the instrument behind a role."""
        return self.file.instruments[self.file.roles[role].instrument].profile

    def protect(self) -> None:
        """Writes the protection levels into the instruments and reads them back.

        Raises:
            InstrumentError: an instrument did not take a level.
        """
        with self.holding():
            for role in self.roles():
                session = self.sessions[role.instrument]
                for setting, value in role.protect.items():
                    session.send(session.profile.settings[setting].encoder(role.channel)(value))
                    held = session.ask_setting(setting, role.channel)
                    if not abs(held - value) <= session.profile.settings[setting].room(value):
                        raise InstrumentError(
                            f"{setting} was set to {value:g} but reads back {held:g}",
                            where=role.name,
                            remedy="Check protect in the bench file against the instrument's range.",
                        )

    # --- prepared lines ----------------------------------------------------------------------------------------------

    def set_line(self, settings: list[tuple[str, str]]) -> SetLine:
        """Makes a set line ready, from (role, setting) in its order. Switches are read back when they were switched."""
        targets = [self._target(role, setting) for role, setting in settings]
        send = make_set_line(targets, self.state, self.touched)
        switches = [(i, key) for i, key in enumerate(settings) if self.is_switch(key)]
        if switches:
            send = self._looking(send, switches)
        return self._held(send, [target.session for target in targets])

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

        def send_and_look(*values: float) -> None:
            if any(not values[i] for i, _ in sources):
                self._limiting.note()  # what happens when a source goes off is the sequence's own doing
            was_without = self._limiting.is_without_source()
            send(*values)
            for i, key in switches:
                self._check_switched(key, bool(values[i]))
            if was_without and any(values[i] for i, _ in sources):
                self.is_ramping = True

        return send_and_look

    def is_switch(self, key: tuple[str, str]) -> bool:
        """True for a setting that is on or off."""
        return self.profile(key[0]).settings[key[1]].feature.dimension is None

    def _check_switched(self, key: tuple[str, str], wanted: bool) -> None:
        """Asks a switch back; an instrument may take a moment until it says so.

        Raises:
            InstrumentError: it did not switch.
        """
        role = self.file.roles[key[0]]
        session = self.sessions[role.instrument]
        deadline = time.monotonic() + max(SWITCHED_WITHIN, 2 * session.profile.settling)
        while bool(session.ask_setting(key[1], role.channel)) != wanted:
            if time.monotonic() > deadline:
                self.mistrusted.add(key[0])
                raise InstrumentError(
                    f"{key[1]} did not go {'on' if wanted else 'off'}", where=key[0],
                    remedy="Look at the instrument: has a protection tripped, is its front panel locked?",
                )  # fmt: skip
            self.user.heed()
            time.sleep(SWITCHED_WITHIN / 10)

    def _target(self, role_name: str, setting: str) -> Target:
        role = self.file.roles[role_name]
        session = self.sessions[role.instrument]
        commands = session.profile.settings[setting]
        low, high, origin = -inf, inf, ""
        if commands.extent:
            low, high = commands.extent
            origin = f"the range of {session.profile.name}"
        if setting in role.ceiling and role.ceiling[setting] < high:
            high, origin = role.ceiling[setting], f"the ceiling of {role_name}.{setting}"
        rounded = commands.sent if commands.is_rounded else None
        return Target(role_name, setting, role.channel, session, low, high, commands.feature.dimension, origin,
                      f"the range of {session.profile.name}", rounded)  # fmt: skip

    def signal_item(self, name: str, signal_name: str) -> Item:
        """One value of a read line, from a signal."""
        signal = self.file.signals[signal_name]
        session = self.sessions[self.file.roles[signal.role].instrument]
        return Item(
            name,
            session,
            session.profile.readings[signal.reading],
            signal.channel,
            signal.arguments,
            signal.scale * float(session.profile.readings[signal.reading].unit.factor),
            signal.dimension,
            signal.believe,
            signal.thermistor.temperature
            if signal.thermistor
            else _above(signal.threshold) or _shifted(session.profile.readings[signal.reading].unit),
        )

    def role_item(self, name: str, role_name: str, reading: str, arguments: dict[str, float]) -> Item:
        """One value of a read line, from a reading of a role."""
        role = self.file.roles[role_name]
        session = self.sessions[role.instrument]
        commands = session.profile.readings[reading]
        channel = arguments.pop("channel", role.channel)
        if channel < 0 or channel % 1:
            raise InstrumentError(f"{channel:g} is not a channel number", where=role_name)
        dimension = commands.feature.dimension or units.PLAIN
        unit = commands.unit
        return Item(
            name, session, commands, int(channel), arguments, float(unit.factor), dimension, None, _shifted(unit)
        )

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
        return self._held(line, [item.session for item in items])

    # --- what is not in the loop over points -------------------------------------------------------------------------

    def verify(self, settings: list[tuple[str, str]], values: tuple[float, ...]) -> None:
        """Asks settings back and compares them with what was sent.

        Raises:
            InstrumentError: one reads back otherwise; see SettingCommands.room.
        """
        for (role_name, setting), value in zip(settings, values, strict=True):
            role = self.file.roles[role_name]
            session = self.sessions[role.instrument]
            with self.holding([session]):
                held = session.ask_setting(setting, role.channel)
            if not abs(held - float(value)) <= session.profile.settings[setting].room(float(value)):
                raise InstrumentError(
                    f"{setting} was set to {float(value):g} but reads back {held:g}",
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

    def learn_state(self, settings: Iterable[tuple[str, str]]) -> None:
        """Asks the instruments for the present values of these settings."""
        asked: dict[Session, list[tuple[str, Callable[[str], None]]]] = {}
        for role_name, setting in settings:
            role = self.file.roles[role_name]
            session = self.sessions[role.instrument]
            question = session.question(setting, role.channel)
            asked.setdefault(session, []).append((question, partial(self._learn, session, role, setting)))
        for session, questions in asked.items():
            with self.holding([session]):
                for text, use in in_one(session, questions):
                    use(session.query(text))
            if session.name in self.user.doubts:
                doubt = self.user.doubts[session.name]
                raise InstrumentError(doubt, where=session.name, remedy=asked_at_once(session))

    def _learn(self, session: Session, role: RoleEntry, setting: str, reply: str) -> None:
        self.state[role.name, setting] = session.held(setting, role.channel, reply)

    def believed(self, instrument: str) -> list[Key]:
        """The settings of an instrument whose state is believed to be known."""
        return [key for key in self.state if self.file.roles[key[0]].instrument == instrument]

    def prove(self) -> list[Discrepancy]:
        """What is not as it was believed, of all instruments; see ibexite.bench.proof."""
        with self.holding():
            return prove(self)

    def take_doubts(self) -> list[tuple[str, str]]:
        """The instruments whose answers since the last proof may belong to other questions, and why."""
        found = list(self.user.doubts.items())
        self.user.doubts.clear()
        return found

    def _state_after_recovery(self, session: Session) -> None:
        """After a link was opened anew: the instrument must have the state that it had.

        Raises:
            InstrumentError: it has not; it was restarted, perhaps.
        """
        for role_name, setting in self.believed(session.name):
            commands = session.profile.settings[setting]
            believed = float(self.state[role_name, setting])
            question = session.question(setting, self.file.roles[role_name].channel)
            reply = session.exchange_as_it_is(session.message(question))
            held = session.held(setting, self.file.roles[role_name].channel, reply)
            if not abs(held - believed) <= (0.0 if commands.feature.dimension is None else commands.room(believed)):
                self.state[role_name, setting] = held
                self.mistrusted.add(role_name)
                raise InstrumentError(
                    f"its state is another one after the link was opened anew: {setting} was set to {believed:g}, "
                    f"it has {held:g}",
                    where=role_name, remedy="Was it restarted? What was measured in between is in doubt.",
                )  # fmt: skip

    def complete(self) -> None:
        """Returns when all settings that were sent have been carried out; see ibexite.bench.completion.

        Raises:
            InstrumentError: an instrument has something else than it was set to.
        """
        with self.holding():
            self._completion.complete()

    def restore(self, wanted: dict[Key, float], settle: Callable[[float], None]) -> list[Key]:
        """Sets back what differs from `wanted`; see ibexite.bench.restoring."""
        return restore(self, wanted, settle)

    def read_errors(self) -> list[str]:
        """What the error queues of all instruments hold."""
        with self.holding():
            first = self.ask_of_each(lambda profile: profile.error_query)
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

    def ask_of_each(self, query: Callable[[Profile], str]) -> dict[Session, str]:
        """The replies of all instruments to a query that clears what it reads: all are asked before any is waited for,
        and none is asked twice."""
        sessions = [s for s in self.sessions.values() if query(s.profile)]
        replies: dict[Session, str] = {}
        plans: dict[Session, list[tuple[str, Callable[[str], None]]]] = {
            s: [(query(s.profile), partial(replies.__setitem__, s))] for s in sessions
        }
        try:
            ask_all(plans)
        except Reconnected as error:
            raise LinkError(error.what, where=error.where, remedy=error.remedy) from None
        return replies

    # --- the end -----------------------------------------------------------------------------------------------------

    def settle_links(self) -> None:
        """After an interruption: makes sure that no reply is still on its way."""
        with self.holding():
            for session in self.sessions.values():
                session.settle_link()

    def safe_roles(self) -> Iterator[tuple[RoleEntry, Session]]:
        """The roles that have something to switch off and are connected, in the stated order."""
        for name in self.file.safe_order:
            role = self.file.roles[name]
            session = self.sessions.get(role.instrument)
            if session is not None and session.profile.safe:
                yield role, session

    def make_safe(self) -> list[SafeDeed]:
        """Switches everything off in the stated order; see ibexite.bench.safety. Never raises."""
        return make_safe(self)


def _above(threshold: float | None) -> Callable[[float], float] | None:
    return None if threshold is None else lambda value: float(value > threshold)


def _shifted(unit: units.Unit) -> Callable[[float], float] | None:
    """The conversion of a reading in a unit with an offset (degC, dBW)."""
    # Rounded, so that -40 degC is the float nearest to 233.15 K, as it is in a limit.
    return None if not unit.offset else lambda value: round(value * float(unit.factor) + float(unit.offset), 12)
