"""The connected bench: sessions, prepared lines, protection, and the way to its safe state."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from math import inf, nan

from ibexite import units
from ibexite.bench.file import BenchFile, InstrumentFact, RoleFact
from ibexite.bench.read_line import TRIES, Bad, Item, ReadLine
from ibexite.bench.set_line import SetLine, Target, make_set_line
from ibexite.errors import IbexiteError, InstrumentError
from ibexite.instruments.link import SocketLink
from ibexite.instruments.session import Session
from ibexite.protocols.scpi import INFINITY


@dataclass(frozen=True, slots=True)
class SafeDeed:
    """What became of one role on the way to the safe state; `problem` is "" when it is off and says so."""

    role: str
    problem: str


class Bench:
    """A bench whose instruments are being driven. `traffic` and `bad` are emptied by whoever records them."""

    def __init__(self, file: BenchFile) -> None:
        self.file = file
        self.sessions: dict[str, Session] = {}
        self.state: dict[tuple[str, str], float] = {}
        self.traffic: list[str] = []
        self.bad: list[Bad] = []

    # --- connecting --------------------------------------------------------------------------------------------------

    def connect(self, instruments: Iterable[str]) -> None:
        """Connects the named instruments, compares identities, brings each into its known state, outputs off.

        Raises:
            BenchError: one does not answer, or another one answers in its place.
        """
        for name in instruments:
            fact = self.file.instruments[name]
            session = self._session(fact)
            session.link.open()
            self.sessions[name] = session
            session.identify(fact.identity)
        for session in self.sessions.values():
            session.start()

    def _session(self, fact: InstrumentFact) -> Session:
        profile = fact.profile
        link = SocketLink(
            fact.address, name=fact.name, timeout=profile.timeout, terminator=profile.terminator.encode("latin-1")
        )
        return Session(fact.name, profile, link, self.traffic)

    def close(self) -> None:
        """Closes all links."""
        for session in self.sessions.values():
            session.link.close()

    @property
    def is_simulated(self) -> bool:
        """True if any instrument is a simulated one."""
        return any(session.is_simulated for session in self.sessions.values())

    def _roles(self) -> list[RoleFact]:
        return [role for role in self.file.roles.values() if role.instrument in self.sessions]

    def protect(self) -> None:
        """Writes the protection levels into the instruments and reads them back.

        Raises:
            InstrumentError: an instrument did not take a level.
        """
        for role in self._roles():
            session = self.sessions[role.instrument]
            for setting, value in role.protect.items():
                session.send(session.encoder(setting, role.channel)(value))
                held = session.ask_setting(setting, role.channel)
                if abs(held - value) > 1e-3 * abs(value) + 1e-9:
                    raise InstrumentError(
                        f"{setting} was set to {value:g} but reads back {held:g}",
                        where=role.name,
                        remedy="Check protect in the bench file against the instrument's range.",
                    )

    # --- prepared lines ----------------------------------------------------------------------------------------------

    def set_line(self, settings: list[tuple[str, str]]) -> SetLine:
        """Makes a set line ready, from (role, setting) in its order."""
        return make_set_line([self._target(role, setting) for role, setting in settings], self.state)

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
        return Target(
            role_name,
            setting,
            role.channel,
            session,
            low,
            high,
            commands.feature.dimension,
            origin,
        )

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
        channel = int(arguments.pop("channel", role.channel))
        dimension = commands.feature.dimension or units.PLAIN
        unit = commands.unit
        return Item(name, session, commands, channel, arguments, float(unit.factor), dimension, None, _shifted(unit))

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
            InstrumentError: one reads back otherwise, by more than 0.1 % and a ten-thousandth of its range.
        """
        for (role_name, setting), value in zip(settings, values, strict=True):
            role = self.file.roles[role_name]
            session = self.sessions[role.instrument]
            held = session.ask_setting(setting, role.channel)
            extent = session.profile.settings[setting].extent
            room = 1e-3 * abs(float(value)) + (1e-4 * (extent[1] - extent[0]) if extent else 1e-9)
            if abs(held - float(value)) > room:
                raise InstrumentError(
                    f"{setting} was set to {float(value):g} but reads back {held:g}",
                    where=role_name,
                    remedy="Look at the instrument: a limit, a range, a lock of its front panel?",
                )

    def do(self, role_name: str, action: str) -> None:
        """Carries out an action of a role, then asks its settings back.

        Raises:
            InstrumentError: the profile has no such action.
        """
        role = self.file.roles[role_name]
        session = self.sessions[role.instrument]
        command = session.profile.actions.get(action)
        if command is None:
            raise InstrumentError(f"profile {session.profile.name} has no action {action!r}", where=role_name)
        session.send(command.replace("{channel}", str(role.channel)))
        session.forget()
        self.relearn(role_name)

    def raw_send(self, role_name: str, text: str) -> None:
        """Sends a raw command where the bench file allows it, then asks back what is known of the role."""
        self._raw_session(role_name).send(text)
        self._raw_session(role_name).forget()
        self.relearn(role_name)

    def raw_query(
        self, name: str, role_name: str, text: str, unit: units.Unit | None, kind: str, tries: int
    ) -> float | str:
        """The reply to a raw query: a number in base units, a text, or 1.0 and 0.0 for yes and no; NaN for a bad
        one."""
        session = self._raw_session(role_name)
        reply = ""
        for _ in range(tries):
            reply = session.query(text).strip()
            if kind == "text":
                return reply
            try:
                number = {"ON": 1.0, "OFF": 0.0, "YES": 1.0, "NO": 0.0}.get(reply.upper())
                number = float(reply) if number is None else number
            except ValueError:
                continue
            if abs(number) < 0.999 * INFINITY:
                return float(number != 0) if kind == "yes_no" else _in_base(number, unit)
        self.bad.append(Bad(name, "not a number" if reply else "empty reply", reply))
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
        """Asks back all settings of a role whose state is known, and of the roles on the same instrument."""
        instrument = self.file.roles[role_name].instrument
        same = {role.name for role in self._roles() if role.instrument == instrument}
        self.learn_state([key for key in self.state if key[0] in same])

    # --- state -------------------------------------------------------------------------------------------------------

    def learn_state(self, settings: Iterable[tuple[str, str]]) -> None:
        """Asks the instruments for the present values of these settings."""
        for role_name, setting in settings:
            role = self.file.roles[role_name]
            self.state[role_name, setting] = self.sessions[role.instrument].ask_setting(setting, role.channel)

    def complete(self) -> None:
        """Returns when all settings that were sent have been carried out; all instruments are asked at once."""
        asked = [s for s in self.sessions.values() if s.is_unproven and s.profile.complete_query]
        for session in asked:
            session.ask(session.message(session.profile.complete_query))
        for session in asked:
            session.answer(session.message(session.profile.complete_query))

    def restore(self, wanted: dict[tuple[str, str], float]) -> float:
        """Sets back what differs from `wanted`: first what goes off, then levels, then what goes on.

        Returns:
            Seconds until the changed settings are true (the longest settling of the instruments concerned).
        """
        changed = [key for key, value in wanted.items() if self.state.get(key) != value]
        settling = 0.0
        for key in sorted(changed, key=lambda k: self._rank(k, wanted[k])):
            self.set_line([key])(wanted[key])
            settling = max(settling, self.sessions[self.file.roles[key[0]].instrument].profile.settling)
        return settling

    def _rank(self, key: tuple[str, str], value: float) -> int:
        role = self.file.roles[key[0]]
        feature = self.sessions[role.instrument].profile.settings[key[1]].feature
        return 1 if feature.dimension is not None else 2 if value else 0

    def read_errors(self) -> list[str]:
        """What the error queues of all instruments hold."""
        sessions = [s for s in self.sessions.values() if s.profile.error_query]
        for session in sessions:  # all are asked before any is waited for
            session.ask(session.message(session.profile.error_query))
        return [f"{session.name} reports {entry}" for session in sessions for entry in session.answer_errors()]

    def take_limiting(self) -> list[str]:
        """The roles whose instrument limited since last asked."""
        sessions = [s for s in self.sessions.values() if s.profile.limiting_query]
        for session in sessions:  # all are asked before any is waited for
            session.ask(session.message(session.profile.limiting_query))
        limiting = {session.name for session in sessions if session.answer_limiting()}
        return [role.name for role in self._roles() if role.instrument in limiting]

    def safe_roles(self) -> Iterator[tuple[RoleFact, Session]]:
        """The roles that have something to switch off and are connected, in the stated order."""
        for name in self.file.safe_order:
            role = self.file.roles[name]
            session = self.sessions.get(role.instrument)
            if session is not None and session.profile.safe:
                yield role, session

    def make_safe(self) -> list[SafeDeed]:
        """Switches everything off in the stated order, and asks each instrument whether it is off. Never raises."""
        deeds = []
        for role, session in self.safe_roles():
            problem = ""
            for _ in range(2):  # once more after a broken link
                try:
                    problem = self._make_role_safe(role, session)
                    break
                except IbexiteError as error:
                    problem = error.what
                except Exception as error:  # a mistake of ours must not keep the next role from going off
                    problem = repr(error)
            deeds.append(SafeDeed(role.name, problem))
        return deeds

    def _make_role_safe(self, role: RoleFact, session: Session) -> str:
        session.settle_link()
        for setting, value in session.profile.safe.items():
            session.send(session.encoder(setting, role.channel)(value))
            self.state[role.name, setting] = float(value)
            if session.ask_setting(setting, role.channel) != float(value):
                return f"{setting} did not go {'on' if value else 'off'}"
        return ""


def _above(threshold: float | None) -> Callable[[float], float] | None:
    return None if threshold is None else lambda value: float(value > threshold)


def _shifted(unit: units.Unit) -> Callable[[float], float] | None:
    """The conversion of a reading in a unit with an offset (degC)."""
    return None if not unit.offset else lambda value: value * float(unit.factor) + float(unit.offset)


def _in_base(number: float, unit: units.Unit | None) -> float:
    return number if unit is None else number * float(unit.factor) + float(unit.offset)
