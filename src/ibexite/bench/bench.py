"""The connected bench as one unit sees it: prepared lines, protection, and what is believed of each setting."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from math import inf
from typing import Any

from ibexite import units
from ibexite.bench import deeds
from ibexite.bench.completion import Completion
from ibexite.bench.dependent import HIDDEN, cold_junction, corrected
from ibexite.bench.entries import SignalEntry
from ibexite.bench.error_queue import looking
from ibexite.bench.file import BenchFile
from ibexite.bench.interface import TRIES, Connected, Discrepancy, GuardianLike, Key, SafeDeed
from ibexite.bench.joint_bounds import Check, falling_first, joint_check
from ibexite.bench.limiting import Limiting
from ibexite.bench.pool import Pool
from ibexite.bench.proof import prove
from ibexite.bench.query import Damage, Dependent, Item
from ibexite.bench.read_line import ReadLine, allowing_line
from ibexite.bench.restoring import restore
from ibexite.bench.safety import make_safe, switch_off
from ibexite.bench.set_line import SetLine, Target, make_set_line
from ibexite.bench.state import BenchState
from ibexite.errors import DamageError, InstrumentError
from ibexite.holes import Bad
from ibexite.instruments.readings import Given
from ibexite.instruments.session import Session
from ibexite.instruments.settings import Value
from ibexite.instruments.user import What
from ibexite.units import Dimension
from ibexite.values import Type
from ibexite.verdicts import BAD_READINGS, Reason

SWITCHED_WITHIN = 0.5  # s; how long an output may take until it says that it is on or off


class Bench(BenchState):
    """The view of one unit of the instruments in a pool: its roles, what is believed of them, its safe order. `bad`
    is emptied by whoever records it."""

    def __init__(self, file: BenchFile, pool: Pool | None = None) -> None:
        super().__init__(file, pool or Pool())
        self._completion, self._limiting = Completion(self), Limiting(self)

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

    def take_said(self) -> tuple[list[What], list[float]] | None:
        """What was said on links since last asked, and when; None if nothing was."""
        return self.user.take_said() if self.user.said else None

    def protect(self, only: Iterable[str] = ()) -> None:
        """Writes the protection levels of all roles, or of some of them, into the instruments and reads them back.

        Raises:
            InstrumentError: an instrument did not take a level.
        """
        with self.holding():
            for role in self.roles():
                session = self.sessions[role.instrument]
                for setting, value in role.protect.items() if not only or role.name in only else ():
                    session.send(session.profile.settings[setting].encoder(role.channel)(value))
                    held, commands = session.ask_setting(setting, role.channel), session.profile.settings[setting]
                    if not commands.agrees(held, value):
                        raise InstrumentError(
                            f"{setting} was set to {commands.said(value)} but reads back {commands.said(held)}",
                            where=role.name,
                            remedy="Check protect in the bench file against the instrument's range.",
                        )

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
        return self._held(send, [target.session for target in targets])

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

    def _check_switched(self, key: tuple[str, str], wanted: bool) -> None:
        """Asks a switch back; an instrument may take a moment until it says so.

        Raises:
            InstrumentError: it did not switch.
        """
        role = self.file.roles[key[0]]
        session = self.sessions[role.instrument]
        deadline = time.monotonic() + max(SWITCHED_WITHIN, 2 * session.profile.settling)
        while session.can_ask(key[1]) and bool(session.ask_setting(key[1], role.channel)) != wanted:
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
                      f"the range of {session.profile.name}", commands.feature.choices, rounded)  # fmt: skip

    def signal_item(self, name: str, signal_name: str) -> Item:
        """One value of a read line, from a signal."""
        signal = self.file.signals[signal_name]
        session = self.sessions[self.file.roles[signal.role].instrument]
        commands = session.profile.readings[signal.reading]
        factor, shift = float(commands.unit.factor), float(commands.unit.offset)
        scale, convert = factor, None
        if signal.chain.is_linear and not signal.chain.offset and not shift and signal.threshold is None:
            scale = factor * signal.chain.scale
        else:
            convert = _converting(signal, factor, shift)
        item = Item(
            name, session, commands, signal.channel, dict(signal.arguments), scale, signal.dimension, signal.believe,
            convert, _damage(signal),
        )  # fmt: skip
        if signal.junction is not None:
            other = self.signal_item(HIDDEN + name, signal.junction.signal)
            self._stands_on(item, Dependent([other], cold_junction(signal.junction), *_bounds(signal)))
        if signal.correction is not None:
            is_level = signal.dimension.kind in ("level", "db")
            apply = corrected(signal.correction, self, is_level)
            self._stands_on(item, Dependent([], apply, *_bounds(signal)))
        return item

    @staticmethod
    def _stands_on(item: Item, after: Dependent) -> None:
        """What is made of an item when others are there; only that must be believable."""
        item.after, item.believe, item.damage = after, None, None
        item.__post_init__()

    def role_item(self, name: str, role_name: str, reading: str, arguments: dict[str, Given]) -> Item:
        """One value of a read line, from a reading of a role."""
        role = self.file.roles[role_name]
        session = self.sessions[role.instrument]
        commands = session.profile.readings[reading]
        channel = arguments.pop("channel", role.channel)
        if isinstance(channel, str) or channel < 0 or channel % 1:
            raise InstrumentError(f"{channel} is not a channel number", where=role_name)
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
        sessions = [item.session for item in line.whole]
        names = ", ".join(item.name for item in items)
        taking = looking(allowing_line(line, line.whole), sessions, f"read {names}")
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

    def restore(self, wanted: dict[Key, Value], settle: Callable[[float], None]) -> list[Key]:
        """Sets back what differs from `wanted`; see ibexite.bench.restoring."""
        return restore(self, wanted, settle, lambda key, value: self.set_line([key])(value))

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


def _damage(signal: SignalEntry) -> Damage | None:
    if signal.damage is None:
        return None
    has_two_signs = signal.dimension.kind == "linear" and signal.dimension != units.KELVIN
    return Damage(signal.name, -signal.damage if has_two_signs else -inf, signal.damage, signal.dimension)


def _bounds(signal: SignalEntry) -> tuple[tuple[float, float] | None, Dimension, Damage | None]:
    return signal.believe, signal.dimension, _damage(signal)


def _converting(signal: SignalEntry, factor: float, shift: float) -> Callable[[float], float]:
    """The value of a signal from the number that its meter answers, in the meter's unit."""
    convert, threshold = signal.chain.compiled(), signal.threshold
    if not signal.chain.steps:
        # Rounded, so that -40 degC is the float nearest to 233.15 K, as it is in a limit.
        convert = (lambda x: round(x, 12)) if shift else (lambda x: x)
    if threshold is not None:
        return lambda number: float(convert(number * factor + shift) > threshold)
    if factor == 1.0 and not shift:
        return convert
    return lambda number: convert(number * factor + shift)


def _shifted(unit: units.Unit) -> Callable[[float], float] | None:
    """The conversion of a reading in a unit with an offset (degC, dBW)."""
    # Rounded, so that -40 degC is the float nearest to 233.15 K, as it is in a limit.
    return None if not unit.offset else lambda value: round(value * float(unit.factor) + float(unit.offset), 12)
