"""Which sources and loads were at a limit, so that their set points were not true. What is read is cleared by that.

It is asked with each reading line: in the message of a source's own last reading where that takes several questions in
one, else behind the line. What was read while something limited is read again, and is bad if it still does.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from math import nan

from ibexite.bench.query import Item
from ibexite.bench.questions import ask_all
from ibexite.bench.read_line import ReadLine
from ibexite.bench.state import BenchState
from ibexite.errors import LinkError
from ibexite.holes import Bad
from ibexite.instruments.session import Reconnected, Session
from ibexite.instruments.times import MOST_PAUSE
from ibexite.untyped import Measured
from ibexite.verdicts import BAD_READINGS, Reason

SINKS = ("electronic_load",)
WITH_EACH_READING = "reading"  # or once a test


class Question:
    """Whether an instrument, or one output of it, limited since it was asked last; its answer is what it has heard."""

    def __init__(self, session: Session, text: str, roles: list[str]) -> None:
        self.session, self.text, self.roles = session, text, roles
        self.is_yes = False

    def hear(self, reply: str) -> None:
        """Takes a reply. Raises InstrumentError: it says neither yes nor no."""
        status = self.session.profile.limiting
        assert status is not None
        self.is_yes = self.session.says_yes(status, reply, "limiting") or self.is_yes


class Limiting:
    """Of one bench. A load that could not draw its current because the sequence itself had switched its source off has
    not limited."""

    def __init__(self, bench: BenchState) -> None:
        self._bench = bench
        self._found: dict[str, None] = {}  # roles, as found so far and not told yet

    def take(self) -> list[str]:
        """The roles whose instrument limited since last asked."""
        self.note()
        limiting = list(self._found)
        self._found.clear()
        return limiting

    def note(self) -> None:
        """Notes which roles limited."""
        questions = self._questions()
        _ask(questions)
        self._heard(questions)
        self._bench.is_ramping = False

    def _questions(self) -> list[Question]:
        """One for each query: what answers for a whole instrument answers for all roles on it."""
        found: dict[tuple[Session, str], list[str]] = {}
        for role in self._bench.roles():
            session = self._bench.sessions[role.instrument]
            if session.profile.limiting is not None:
                found.setdefault((session, session.profile.limiting.at(role.channel)), []).append(role.name)
        return [Question(session, text, roles) for (session, text), roles in found.items()]

    def _heard(self, questions: Collection[Question]) -> list[str]:
        """Notes what questions have heard since last looked at; the roles that it speaks of."""
        bench = self._bench
        limiting: dict[str, None] = {}
        for question in questions:
            if question.is_yes:
                question.is_yes = False
                limiting |= dict.fromkeys(question.roles)
        told = [bench.entries[role].instrument for role in limiting]
        if told:
            bench.user.pass_on(bench.sessions, limiting=told)
        by_others = bench.user.take_limiting()
        limiting |= {role.name: None for role in bench.roles() if role.instrument in by_others}
        is_starving = bench.is_ramping or self.is_without_source()
        found = [role for role in limiting if self.is_source(role) or not is_starving]
        self._found |= dict.fromkeys(found)
        return found

    def is_source(self, role: str) -> bool:
        """True for what supplies others: a load starves when it goes off."""
        profile = self._bench.profile(role)
        return bool(profile.instrument_class.switch) and profile.instrument_class.name not in SINKS

    def is_without_source(self) -> bool:
        """True while the sequence has every source switched off whose state is known."""
        bench = self._bench
        states = [value for key, value in bench.state.items() if bench.is_switch(key) and self.is_source(key[0])]
        return bool(states) and not any(states)

    # --- with readings -----------------------------------------------------------------------------------------------

    def sessions(self) -> list[Session]:
        """The instruments that are asked with each reading line."""
        return list(dict.fromkeys(question.session for question in self._with_readings()))

    def _with_readings(self) -> list[Question]:
        return [q for q in self._questions() if q.session.profile.limiting_read == WITH_EACH_READING]

    def looking(
        self, taking: Callable[[], list[Measured]], line: ReadLine, bad: list[Bad], tries: int
    ) -> Callable[[], list[Measured]]:
        """A read line whose readings are taken again, and are bad at last, where a source limited; the line itself
        where none can say so, or it is expected.

        Args:
            taking: carries out `line`.
            bad: takes what may not be used.
            tries: of the line, in all.
        """
        questions = self._with_readings()
        if not questions or self._bench.expects_limiting:
            return taking
        behind = [self._switches_of(question) for question in questions if not _joined(line, question)]
        items, session = line.items, line.items[0].session
        tries = tries if all(item.commands.may_repeat for item in line.whole) else 1

        def take() -> list[Measured]:
            known, pause, left = len(bad), session.profile.waits.repeating, tries
            values = taking()
            while (limiting := self._just_now(questions, behind)) and not self._bench.expects_limiting:
                left -= 1
                if not left:
                    return _spoilt(items, values, bad, limiting)
                del bad[known:]
                session.user.heed()
                session.user.wait(pause)
                pause = min(2 * pause, MOST_PAUSE)
                values = taking()
            return values

        return take

    def _just_now(self, questions: list[Question], behind: list[Switched]) -> list[str]:
        """Asks those that were not joined to a reading and may limit: not what is switched off, and was asked since.
        The roles that limited."""
        bench = self._bench
        if behind:
            state, sessions = bench.state, bench.sessions
            on = [q for q, name, keys in behind if name in sessions and any(state.get(key, 1.0) for key in keys)]
            if on:
                _ask(on)
        for question in questions:
            if question.is_yes:
                return self._heard(questions)
        return self._heard(questions) if bench.user.is_told_of_limiting else []

    def _switches_of(self, question: Question) -> Switched:
        """A question, its instrument, and the switches of its roles."""
        profile = self._bench.profile
        keys = [(role, profile(role).instrument_class.switch) for role in question.roles]
        return question, question.session.name, keys


Switched = tuple[Question, str, list[tuple[str, str]]]


def _ask(questions: list[Question]) -> None:
    """Asks all instruments before any is waited for, and none twice: the answer is cleared by being read."""
    plans: dict[Session, list[tuple[str, Callable[[str], None]]]] = {}
    for question in questions:
        plans.setdefault(question.session, []).append((question.text, question.hear))
    try:
        ask_all(plans)
    except Reconnected as error:
        raise LinkError(error.what, where=error.where, remedy=error.remedy) from None


def _spoilt(items: list[Item], values: list[Measured], bad: list[Bad], roles: list[str]) -> list[Measured]:
    """Holes in the place of all values, told as bad where they were not yet."""
    reason = Reason("limiting", f"{BAD_READINGS['limiting']} ({', '.join(roles)})")
    for i, item in enumerate(items):
        value = values[i]
        if item.commands.curve is not None:
            from ibexite.bench.read_curve import nothing

            values[i] = nothing(item.commands.curve)
        elif value == value:
            values[i] = nan
        else:
            continue
        bad.append(Bad(item.name, reason, value if isinstance(value, str) else _shown(value)))
    return values


def _shown(value: Measured) -> str:
    return f"{value:.9g}" if isinstance(value, float) else ""


def _joined(line: ReadLine, question: Question) -> bool:
    """Joins a question to the last query of its instrument in a line, if there is one that takes it."""
    query = line.last_query(question.session)
    if query is None or query.has_reply_to_itself or not question.session.profile.is_compound:
        return False
    status = question.session.profile.limiting
    assert status is not None
    query.carry(question.text, question.hear, status.answer(is_so=False))
    return True
