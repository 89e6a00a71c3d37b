"""The connected bench: sessions, prepared lines, protection, and the way to its safe state."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import partial
from math import inf, nan
from typing import NoReturn

from ibexite import units
from ibexite.bench.file import BenchFile, InstrumentFact, RoleFact
from ibexite.bench.lock import AddressLocks
from ibexite.bench.proof import Finding, ask_all, ask_at_once, in_one, prove
from ibexite.bench.read_line import TRIES, Item, ReadLine
from ibexite.bench.set_line import SetLine, Target, make_set_line
from ibexite.errors import IbexiteError, InstrumentError, LinkError
from ibexite.holes import Bad
from ibexite.instruments.link import Link, LinkOptions, open_link
from ibexite.instruments.profile import Profile
from ibexite.instruments.session import Message, Reconnected, Said, Session
from ibexite.protocols.scpi import INFINITY, joined, response_value
from ibexite.verdicts import BAD_READINGS, Reason

SINKS = ("electronic_load",)
SWITCHED_WITHIN = 0.5  # s; how long an output may take until it says that it is on or off
PATIENCE = 10.0  # s; how long it is tried to make a role safe that cannot be reached


@dataclass(frozen=True, slots=True)
class SafeDeed:
    """What became of one role on the way to the safe state; `problem` is "" when it is off and says so."""

    role: str
    problem: str


class Bench:
    """A bench whose instruments are being driven. `traffic` and `bad` are emptied by whoever records them."""

    def __init__(self, file: BenchFile, opening: Callable[[str, LinkOptions], Link] = open_link) -> None:
        """`opening` gives an open link to an address."""
        self.file, self._opening = file, opening
        self._heed: Callable[[], None] = lambda: None
        self.sessions: dict[str, Session] = {}
        self.state: dict[tuple[str, str], float] = {}  # what is believed of each setting
        self.mistrusted: set[str] = set()  # roles whose state was found to be another than believed
        self.limited: dict[str, None] = {}  # roles that limited, as found so far and not told yet
        self.is_ramping = False  # the first source was switched on and nothing was waited for since
        self.traffic: list[Said] = []
        self.bad: list[Bad] = []
        self.locks = AddressLocks()
        self._completions: dict[tuple[Session, tuple[tuple[str, str], ...]], tuple[Message, Callable[[str], None]]] = {}

    # --- connecting --------------------------------------------------------------------------------------------------

    def connect(
        self,
        instruments: Iterable[str],
        holder: str = "another run",
        *,
        heed: Callable[[], None] = lambda: None,
        now: Callable[[], float] = time.monotonic,
    ) -> None:
        """Connects the named instruments, compares identities, brings each into its known state, outputs off.

        Args:
            holder: who uses the bench, for the message to others who want it meanwhile.
            heed: is called while an instrument is waited for; what it raises ends the wait.
            now: tells the time in s, for the traffic.

        Raises:
            BenchError: one is in use by another run or does not answer, or another one answers in its place.
        """
        instruments, self._heed = list(instruments), heed
        self.locks.take([(name, self.file.instruments[name].address) for name in instruments], holder)
        for name in instruments:
            fact = self.file.instruments[name]
            session = self.sessions[name] = self._session(fact, now)
            session.identify(fact.identity)
        for session in self.sessions.values():
            session.start()
            session.after_recovery = partial(self._state_after_recovery, session)

    def _session(self, fact: InstrumentFact, now: Callable[[], float]) -> Session:
        profile = fact.profile
        options = LinkOptions(fact.name, profile.timeout, profile.terminator.encode("latin-1"), self._heed)
        return Session(fact.name, profile, self._opening(fact.address, options), self.traffic, now)

    def close(self) -> None:
        """Closes all links and gives the instruments back."""
        for session in self.sessions.values():
            session.link.close()
        self.locks.release()

    @property
    def is_simulated(self) -> bool:
        """True if any instrument is a simulated one."""
        return any(session.is_simulated for session in self.sessions.values())

    def roles(self) -> list[RoleFact]:
        """The roles whose instruments are connected."""
        return [role for role in self.file.roles.values() if role.instrument in self.sessions]

    def protect(self) -> None:
        """Writes the protection levels into the instruments and reads them back.

        Raises:
            InstrumentError: an instrument did not take a level.
        """
        for role in self.roles():
            session = self.sessions[role.instrument]
            for setting, value in role.protect.items():
                session.send(session.encoder(setting, role.channel)(value))
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
        send = make_set_line([self._target(role, setting) for role, setting in settings], self.state)
        switches = [(i, key) for i, key in enumerate(settings) if self.is_switch(key)]
        if not switches:
            return send
        sources = [(i, key[0]) for i, key in switches if self._is_source(key[0])]

        def send_and_look(*values: float) -> None:
            if any(not values[i] for i, _ in sources):
                self._note_limiting()  # what happens when a source goes off is the sequence's own doing
            was_without = self._is_without_source()
            send(*values)
            for i, key in switches:
                self._check_switched(key, bool(values[i]))
            if was_without and any(values[i] for i, _ in sources):
                self.is_ramping = True

        return send_and_look

    def is_switch(self, key: tuple[str, str]) -> bool:
        """True for a setting that is on or off."""
        return self._profile(key[0]).settings[key[1]].feature.dimension is None

    def _is_source(self, role: str) -> bool:
        """True for what supplies others: a load starves when it goes off."""
        profile = self._profile(role)
        return bool(profile.instrument_class.switch) and profile.instrument_class.name not in SINKS

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
            self._heed()
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
    ) -> ReadLine:
        """Makes a read line ready."""
        return ReadLine(items, together=together, averaging=averaging, bad=self.bad, tries=tries, settled=settled)

    # --- what is not in the loop over points -------------------------------------------------------------------------

    def verify(self, settings: list[tuple[str, str]], values: tuple[float, ...]) -> None:
        """Asks settings back and compares them with what was sent.

        Raises:
            InstrumentError: one reads back otherwise; see SettingCommands.room.
        """
        for (role_name, setting), value in zip(settings, values, strict=True):
            role = self.file.roles[role_name]
            session = self.sessions[role.instrument]
            held = session.ask_setting(setting, role.channel)
            if not abs(held - float(value)) <= session.profile.settings[setting].room(float(value)):
                raise InstrumentError(
                    f"{setting} was set to {float(value):g} but reads back {held:g}",
                    where=role_name,
                    remedy="Look at the instrument: a limit, a range, a lock of its front panel?",
                )

    def do(self, role_name: str, action: str) -> None:
        """Carries out an action of a role, then asks its settings back.

        Raises:
            InstrumentError: the profile has no such action, or it led beyond a ceiling.
        """
        role = self.file.roles[role_name]
        session = self.sessions[role.instrument]
        command = session.profile.actions.get(action)
        if command is None:
            raise InstrumentError(f"profile {session.profile.name} has no action {action!r}", where=role_name)
        session.send(command.replace("{channel}", str(role.channel)), may_repeat=False)
        session.forget()
        self.relearn(role_name)

    def raw_send(self, role_name: str, text: str) -> None:
        """Sends a raw command where the bench file allows it, then asks back what is known of the role.

        Raises:
            InstrumentError: raw commands are not allowed there, or it led beyond a ceiling.
        """
        session = self._raw_session(role_name)
        session.send(text, may_repeat=False)
        session.forget()
        self.relearn(role_name)

    def raw_query(
        self, name: str, role_name: str, text: str, unit: units.Unit | None, kind: str, tries: int
    ) -> float | str:
        """The reply to a raw query: a number in base units, a text, or 1.0 and 0.0 for yes and no; NaN for a bad
        one."""
        session = self._raw_session(role_name)
        changes = ";" in text  # more than one command: it may have set something
        reply = ""
        for _ in range(1 if changes else tries):
            reply = session.query(text, may_repeat=not changes).strip()
            if changes:
                session.forget()
                self.relearn(role_name)
            if kind == "text":
                return reply
            try:
                words = {"ON": 1.0, "OFF": 0.0, "YES": 1.0, "NO": 0.0} if kind == "yes_no" else {}
                number = words.get(reply.upper())
                number = response_value(reply) if number is None else number
            except ValueError:
                continue
            if abs(number) < 0.999 * INFINITY:
                return float(number != 0) if kind == "yes_no" else _in_base(number, unit)
        code = "not_a_number" if reply else "empty"
        self.bad.append(Bad(name, Reason(code, BAD_READINGS[code]), reply))
        return nan

    def _raw_session(self, role_name: str) -> Session:
        role = self.file.roles[role_name]
        if not role.allows_raw:
            raise InstrumentError(
                "raw commands are not allowed here",
                where=role_name,
                remedy="Write raw = true into the role of the bench.",
            )
        return self.sessions[role.instrument]

    def relearn(self, role_name: str) -> None:
        """Asks back all settings of a role whose state is known or which have a ceiling, and those of the roles on the
        same instrument.

        Raises:
            InstrumentError: one is beyond its ceiling; then its outputs have been switched off at once.
        """
        instrument = self.file.roles[role_name].instrument
        same = [role for role in self.roles() if role.instrument == instrument]
        names = {role.name for role in same}
        keys = [key for key in self.state if key[0] in names]
        keys += [(r.name, setting) for r in same for setting in r.ceiling if (r.name, setting) not in self.state]
        known = set(self.state)
        self.learn_state(keys)
        for key in keys:
            ceiling = self.file.roles[key[0]].ceiling.get(key[1], inf)
            value = self.state[key]
            if key not in known:
                del self.state[key]
            if not value <= ceiling * (1 + 1e-9):
                self._refuse_beyond(key, value, ceiling)

    def _refuse_beyond(self, key: tuple[str, str], value: float, ceiling: float) -> NoReturn:
        role = self.file.roles[key[0]]
        session = self.sessions[role.instrument]
        for setting, safe in session.profile.safe.items():
            session.send(session.encoder(setting, role.channel)(safe))
            self.state[key[0], setting] = float(safe)
        dimension = session.profile.settings[key[1]].feature.dimension or units.PLAIN
        shown = [units.format_value(x, dimension) for x in (value, ceiling)]
        raise InstrumentError(
            f"{key[0]}.{key[1]} was found at {shown[0]}, beyond its ceiling of {shown[1]}; it was switched off",
            where=key[0], remedy="Raw commands and actions must not lead beyond a ceiling either.",
        )  # fmt: skip

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
            for text, use in in_one(session, questions):
                use(session.query(text))
            if session.doubt:
                raise InstrumentError(session.doubt, where=session.name, remedy=_asked_at_once(session))

    def _learn(self, session: Session, role: RoleFact, setting: str, reply: str) -> None:
        self.state[role.name, setting] = session.held(setting, role.channel, reply)

    def believed(self, instrument: str) -> list[tuple[str, str]]:
        """The settings of an instrument whose state is believed to be known."""
        return [key for key in self.state if self.file.roles[key[0]].instrument == instrument]

    def prove(self) -> list[Finding]:
        """What is not as it was believed, of all instruments; see ibexite.bench.proof."""
        return prove(self)

    def take_doubts(self) -> list[tuple[str, str]]:
        """The instruments whose answers since the last proof may belong to other questions, and why."""
        found = [(session.name, session.doubt) for session in self.sessions.values() if session.doubt]
        for session in self.sessions.values():
            session.doubt = ""
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
        """Returns when all settings that were sent have been carried out; all instruments are asked at once. In the
        same message each is asked what it has of the settings that were sent since (IEEE 488.2, 6.4.3: queries may be
        joined), so that one which was lost on the way does not go unnoticed.

        Raises:
            InstrumentError: an instrument has something else than it was set to.
        """
        asked = [s for s in self.sessions.values() if s.unproven and s.profile.complete_query]
        if not asked:
            return
        questions = [(session, *self._completion(session)) for session in asked]
        try:
            ask_at_once(questions)
        except Reconnected:  # once more; what was not proved has been sent again
            for session in asked:
                session.settle_link()
            ask_at_once(questions)

    def _completion(self, session: Session) -> tuple[Message, Callable[[str], None]]:
        """The question whether all is done, and what becomes of the answer; made once for the same settings."""
        touched = tuple(session.touched)
        session.touched.clear()
        found = self._completions.get((session, touched))
        if found is None:
            # An output that goes off by itself is found, and told apart, at the test's end.
            keys = [key for key in touched if session.profile.is_compound and not self.is_switch(key)]
            questions = [session.question(setting, self.file.roles[role].channel) for role, setting in keys]
            message = session.message(joined([session.profile.complete_query, *questions]))
            asked = [(key, session.is_base(key[1])) for key in keys]
            found = self._completions[session, touched] = (message, partial(self._check_completion, session, asked))
        return found

    def _check_completion(self, session: Session, keys: list[tuple[tuple[str, str], bool]], reply: str) -> None:
        first, *held = reply.split(";")
        if first != "1":
            session.check_complete(first)
        if len(held) != len(keys):
            raise InstrumentError(
                f"gave {len(held) + 1} answers to {len(keys) + 1} questions: {reply[:80]!r}", where=session.name,
                remedy=_asked_at_once(session),
            )  # fmt: skip
        for (key, is_base), text in zip(keys, held, strict=True):
            if not (is_base and _tells(text, self.state[key])):
                self._compare(session, *key, text)

    def _compare(self, session: Session, role: str, setting: str, reply: str) -> None:
        commands = session.profile.settings[setting]
        believed = float(self.state[role, setting])
        held = session.held(setting, self.file.roles[role].channel, reply)
        if abs(held - believed) <= commands.room(believed):
            return
        self.state[role, setting] = held
        self.mistrusted.add(role)
        assert commands.feature.dimension is not None  # switches are asked back where they are switched
        shown = [units.format_value(x, commands.feature.dimension) for x in (believed, held)]
        raise InstrumentError(
            f"{setting} was set to {shown[0]}, but the instrument has {shown[1]}", where=role,
            remedy="Was the setting lost, is it limited, or did a protection trip?",
        )  # fmt: skip

    def restore(self, wanted: dict[tuple[str, str], float], settle: Callable[[float], None]) -> list[tuple[str, str]]:
        """Sets back what differs from `wanted`, so that no protection trips on the way: what goes off, levels that go
        down, protections and all other settings, levels that go up, what goes on. Returns what was changed.

        Args:
            settle: waits for so many seconds, after each of these steps (the longest settling of its instruments;
                where the output is off all the time there is nothing that settles).
        """
        changed = [k for k, v in wanted.items() if self.state.get(k) != v or k[0] in self.mistrusted]
        self.mistrusted.clear()
        ranks = {key: self._rank(key, wanted[key]) for key in changed}
        for rank in sorted(set(ranks.values())):
            keys = [key for key in changed if ranks[key] == rank]
            for key in keys:
                self.set_line([key])(wanted[key])
            settle(max(0.0 if self._stays_off(key[0], changed) else self._profile(key[0]).settling for key in keys))
        return changed

    def _stays_off(self, role: str, changed: list[tuple[str, str]]) -> bool:
        """Whether the output or input of a role is off, and not only since this moment."""
        switch = (role, self._profile(role).instrument_class.switch)
        return self.state.get(switch) == 0 and switch not in changed

    def _profile(self, role: str) -> Profile:
        return self.file.instruments[self.file.roles[role].instrument].profile

    def _rank(self, key: tuple[str, str], value: float) -> int:
        profile = self._profile(key[0])
        if self.is_switch(key):
            return 4 if value else 0
        if key[1] in profile.instrument_class.levels:
            return 1 if value < self.state.get(key, inf) else 3
        return 2

    def read_errors(self) -> list[str]:
        """What the error queues of all instruments hold."""
        first = self._of_each(lambda profile: profile.error_query)
        return [f"{s.name} reports {entry}" for s, reply in first.items() for entry in s.errors_after(reply)]

    def take_limiting(self) -> list[str]:
        """The roles whose instrument limited since last asked."""
        self._note_limiting()
        limiting = list(self.limited)
        self.limited.clear()
        return limiting

    def _note_limiting(self) -> None:
        """Notes which roles limited. A load that could not draw its current because the sequence itself had switched
        its source off has not limited."""
        replies = self._of_each(lambda profile: profile.limiting_query)
        limiting = {s.name for s, reply in replies.items() if s.says_yes(reply, "limiting_query")}
        is_starving = self.is_ramping or self._is_without_source()
        self.is_ramping = False
        for role in self.roles():
            if role.instrument in limiting and (self._is_source(role.name) or not is_starving):
                self.limited[role.name] = None

    def settled(self) -> None:
        """To be called behind a wait while it is ramping: loads that starved until then, while the first source came
        up, have not limited."""
        self._note_limiting()

    def _is_without_source(self) -> bool:
        """True while the sequence has every source switched off whose state is known."""
        states = [value for key, value in self.state.items() if self.is_switch(key) and self._is_source(key[0])]
        return bool(states) and not any(states)

    def _of_each(self, query: Callable[[Profile], str]) -> dict[Session, str]:
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

    # --- the safe state ----------------------------------------------------------------------------------------------

    def safe_roles(self) -> Iterator[tuple[RoleFact, Session]]:
        """The roles that have something to switch off and are connected, in the stated order."""
        for name in self.file.safe_order:
            role = self.file.roles[name]
            session = self.sessions.get(role.instrument)
            if session is not None and session.profile.safe:
                yield role, session

    def make_safe(self) -> list[SafeDeed]:
        """Switches everything off in the stated order, and asks each instrument whether it is off. Never raises.

        A role that cannot be reached does not keep the others waiting; it is tried again for PATIENCE. Where
        commands were left behind on a link that was given up, a slow instrument may carry them out after all: when it
        has had time for that it is switched off once more.
        """
        for session in self.sessions.values():
            session.give_up_state()
        roles = list(self.safe_roles())
        problems = {role.name: self._try_role_safe(role, session) for role, session in roles}
        deadline = time.monotonic() + PATIENCE
        while any(problems.values()) and time.monotonic() < deadline:
            time.sleep(0.1)
            for role, session in roles:
                if problems[role.name]:
                    problems[role.name] = self._try_role_safe(role, session, anew=True)
        late = [(role, session) for role, session in roles if session.has_left_behind and not problems[role.name]]
        if late:
            time.sleep(min(PATIENCE, max(2 * session.link.timeout for _, session in late)))
            for role, session in late:
                problems[role.name] = self._try_role_safe(role, session)
        return [SafeDeed(name, problem) for name, problem in problems.items()]

    def _try_role_safe(self, role: RoleFact, session: Session, *, anew: bool = False) -> str:
        try:
            return self._make_role_safe(role, session, anew=anew)
        except IbexiteError as error:
            return error.what
        except Exception as error:  # a mistake of ours must not keep the next role from going off
            return repr(error)

    def _make_role_safe(self, role: RoleFact, session: Session, *, anew: bool) -> str:
        if anew:
            session.link.is_waiting = True
        session.settle_link()
        for setting, value in session.profile.safe.items():
            session.link_send(session.encoder(setting, role.channel)(value))
            self.state[role.name, setting] = float(value)
        held = session.link_ask_settings(list(session.profile.safe), role.channel)
        for (setting, value), now in zip(session.profile.safe.items(), held, strict=True):
            if now != float(value):
                return f"{setting} did not go {'on' if value else 'off'}"
        return ""


def _tells(reply: str, value: float) -> bool:
    """Whether a reply tells this value for certain, seen quickly, for the loop over points. False: look closely."""
    try:
        return abs(float(reply) - value) <= 1e-6 * abs(value) and "_" not in reply
    except ValueError:
        return False


def _asked_at_once(session: Session) -> str:
    return f"Where it cannot be asked several at once, write compound = false into {session.profile.name}."


def _above(threshold: float | None) -> Callable[[float], float] | None:
    return None if threshold is None else lambda value: float(value > threshold)


def _shifted(unit: units.Unit) -> Callable[[float], float] | None:
    """The conversion of a reading in a unit with an offset (degC, dBW)."""
    # Rounded, so that -40 degC is the float nearest to 233.15 K, as it is in a limit.
    return None if not unit.offset else lambda value: round(value * float(unit.factor) + float(unit.offset), 12)


def _in_base(number: float, unit: units.Unit | None) -> float:
    if unit is None:
        return number
    value = number * float(unit.factor) + float(unit.offset)
    return round(value, 12) if unit.offset else value
