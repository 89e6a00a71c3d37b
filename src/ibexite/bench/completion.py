"""Asks instruments whether all is carried out that was set, and in the same message what they have of it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from ibexite.bench.interface import Key
from ibexite.bench.questions import ask_at_once, asked_at_once
from ibexite.bench.state import BenchState
from ibexite.errors import InstrumentError
from ibexite.instruments.session import Message, Reconnected, Session
from ibexite.protocols.scpi import joined

Question = tuple[Message, Callable[[str], None]]


class Completion:
    """Of one bench; the questions are made once for the same settings."""

    def __init__(self, bench: BenchState) -> None:
        self._bench = bench
        self._questions: dict[tuple[Session, tuple[Key, ...]], Question] = {}

    def complete(self) -> None:
        """Returns when all settings that were sent have been carried out; all instruments are asked at once. In the
        same message each is asked what it has of the settings that were sent since (IEEE 488.2, 6.4.3: queries may be
        joined), so that one which was lost on the way does not go unnoticed.

        Raises:
            InstrumentError: an instrument has something else than it was set to.
        """
        unproven = [
            s for s in self._bench.sessions.values() if s.unproven or (s.profile.acknowledge and self._bench.touched[s])
        ]
        for session in unproven:
            if session.profile.complete.is_waited_for:
                self._complete_alone(session)
        asked = [s for s in unproven if s.profile.complete.is_asked_once]
        if not asked:
            return
        questions = [(session, *self._question(session)) for session in asked]
        try:
            ask_at_once(questions)
        except Reconnected:  # once more; what was not proved has been sent again
            for session in asked:
                session.settle_link()
            ask_at_once(questions)

    def _complete_alone(self, session: Session) -> None:
        """For one that is asked again and again, or only given time; then it is asked what it has."""
        bench = self._bench
        session.wait_until_complete()
        keys = [key for key in bench.touched[session] if not bench.is_switch(key) and bench.can_ask(key)]
        bench.touched[session].clear()
        for role, setting in keys:
            self._compare(session, role, setting, session.query(session.question(setting, bench.entries[role].channel)))

    def _question(self, session: Session) -> Question:
        """The question whether all is done, and what becomes of the answer."""
        bench = self._bench
        touched = tuple(bench.touched[session])
        bench.touched[session].clear()
        found = self._questions.get((session, touched))
        if found is None:
            # An output that goes off by itself is found, and told apart, at the test's end.
            is_compound = session.profile.is_compound
            keys = [key for key in touched if is_compound and not bench.is_switch(key) and bench.can_ask(key)]
            questions = [session.question(setting, bench.entries[role].channel) for role, setting in keys]
            message = session.message(joined([session.profile.complete.query, *questions]))
            asked = [(key, session.is_base(key[1])) for key in keys]
            found = self._questions[session, touched] = (message, partial(self._check, session, asked))
        return found

    def _check(self, session: Session, keys: list[tuple[Key, bool]], reply: str) -> None:
        first, *held = reply.split(";")
        if first != "1":
            session.check_complete(first)
        if len(held) != len(keys):
            raise InstrumentError(
                f"gave {len(held) + 1} answers to {len(keys) + 1} questions: {reply[:80]!r}", where=session.name,
                remedy=asked_at_once(session),
            )  # fmt: skip
        for (key, is_base), text in zip(keys, held, strict=True):
            believed = self._bench.state[key]
            if not (is_base and not isinstance(believed, str) and _tells(text, believed)):
                self._compare(session, *key, text)

    def _compare(self, session: Session, role: str, setting: str, reply: str) -> None:
        bench, commands = self._bench, session.profile.settings[setting]
        believed = bench.state[role, setting]
        held = session.held(setting, bench.entries[role].channel, reply)
        if commands.agrees(held, believed):
            return
        bench.state[role, setting] = held
        bench.mistrusted.add(role)
        shown = [commands.said(x, 4) for x in (believed, held)]
        raise InstrumentError(
            f"{setting} was set to {shown[0]}, but the instrument has {shown[1]}", where=role,
            remedy="Was the setting lost, is it limited, or did a protection trip?",
        )  # fmt: skip


def _tells(reply: str, value: float) -> bool:
    """Whether a reply tells this value for certain, seen quickly, for the loop over points. False: look closely."""
    try:
        return abs(float(reply) - value) <= 1e-6 * abs(value) and "_" not in reply
    except ValueError:
        return False
