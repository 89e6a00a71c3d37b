"""What one unit believes of the instruments that it shares with others or has for itself, and how it asks them; the
common ground of all that a bench does."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, nullcontext
from functools import partial

from ibexite.bench.entries import RoleEntry
from ibexite.bench.file import BenchFile
from ibexite.bench.interface import Key
from ibexite.bench.pool import Pool
from ibexite.bench.questions import ask_all, asked_at_once, in_one
from ibexite.errors import InstrumentError, LinkError
from ibexite.holes import Bad
from ibexite.instruments.profile import Profile
from ibexite.instruments.session import Reconnected, Session
from ibexite.instruments.settings import Value
from ibexite.instruments.user import User

_NOTHING = nullcontext()


class BenchState:
    """The roles of one unit, the sessions behind them, and what is believed of each setting. `bad` is emptied by
    whoever records it."""

    def __init__(self, file: BenchFile, pool: Pool) -> None:
        self.file, self.pool = file, pool
        self.entries = {**file.roles, **file.relays}  # whatever has settings of its own
        self.sessions: dict[str, Session] = {}
        self.state: dict[Key, Value] = {}  # what is believed of each setting
        self.touched: dict[Session, dict[Key, None]] = {}  # what was sent to each and not asked back since
        self.mistrusted: set[str] = set()  # roles whose state was found to be another than believed
        self.left_alone: set[str] = set()  # roles that others have switched on: they are not made safe from here
        self.is_ramping = False  # the first source was switched on and nothing was waited for since
        self.at_axes: dict[str, float] = {}  # where sweeps are, while a line is read that is corrected by it
        self.expects_limiting = False  # what is read while a source limits may be used
        self.bad: list[Bad] = []
        self.offsets: dict[str, tuple[float, float]] = {}  # of the last records DC parts, and their share of the swing
        self.user = User(after_recovery=self._state_after_recovery)
        self._is_sharing = False
        self.has_time_limits = any(role.no_longer for role in file.roles.values())

    def holding(self, sessions: Iterable[Session] | None = None) -> AbstractContextManager[None]:
        """Within it what is shared with other units, of these sessions or of all, belongs to this one."""
        if not self._is_sharing:
            return _NOTHING
        return self.pool.holding(self.sessions.values() if sessions is None else sessions, self.user)

    def roles(self) -> list[RoleEntry]:
        """The roles whose instruments are connected."""
        return [role for role in self.file.roles.values() if role.instrument in self.sessions]

    def profile(self, role: str) -> Profile:
        """The profile of the instrument behind a role."""
        return self.file.instruments[self.entries[role].instrument].profile

    def is_switch(self, key: tuple[str, str]) -> bool:
        """True for a setting that is on or off."""
        return self.profile(key[0]).settings[key[1]].is_switch

    def can_ask(self, key: Key) -> bool:
        """Whether a setting can be asked back."""
        return self.profile(key[0]).settings[key[1]].can_be_asked

    def believed(self, instrument: str) -> list[Key]:
        """The settings of an instrument whose state is believed to be known, and can be asked."""
        return [key for key in self.state if self.entries[key[0]].instrument == instrument and self.can_ask(key)]

    def safe_roles(self) -> Iterator[tuple[RoleEntry, Session]]:
        """The roles that have something to switch off and are connected, in the stated order. To what has not said that
        it is the instrument of the bench file nothing is sent: nothing was switched on there."""
        for name in self.file.safe_order:
            if name in self.left_alone:
                continue
            role = self.file.roles[name]
            session = self.sessions.get(role.instrument)
            if session is not None and session.profile.has_safe_state and session.is_known:
                yield role, session

    # --- asking ------------------------------------------------------------------------------------------------------

    def learn_state(self, settings: Iterable[tuple[str, str]]) -> None:
        """Asks the instruments for the present values of these settings; those that cannot be asked stay unknown."""
        asked: dict[Session, list[tuple[str, Callable[[str], None]]]] = {}
        for role_name, setting in settings:
            role = self.entries[role_name]
            session = self.sessions[role.instrument]
            if not session.can_ask(setting):
                continue
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
            believed = self.state[role_name, setting]
            question = session.question(setting, self.entries[role_name].channel)
            reply = session.exchange_as_it_is(session.message(question))
            held = session.held(setting, self.entries[role_name].channel, reply)
            if not commands.agrees(held, believed):
                self.state[role_name, setting] = held
                self.mistrusted.add(role_name)
                raise InstrumentError(
                    f"its state is another one after the link was opened anew: {setting} was set to "
                    f"{commands.said(believed)}, it has {commands.said(held)}",
                    where=role_name, remedy="Was it restarted? What was measured in between is in doubt.",
                )  # fmt: skip
