"""Asks instruments whether all is carried out that was set, and in the same message what they have of it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from ibexite import units
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
        asked = [s for s in self._bench.sessions.values() if s.unproven and s.profile.complete_query]
        if not asked:
            return
        questions = [(session, *self._question(session)) for session in asked]
        try:
            ask_at_once(questions)
        except Reconnected:  # once more; what was not proved has been sent again
            for session in asked:
                session.settle_link()
            ask_at_once(questions)

    def _question(self, session: Session) -> Question:
        """The question whether all is done, and what becomes of the answer."""
        bench = self._bench
        touched = tuple(bench.touched[session])
        bench.touched[session].clear()
        found = self._questions.get((session, touched))
        if found is None:
            # An output that goes off by itself is found, and told apart, at the test's end.
            keys = [key for key in touched if session.profile.is_compound and not bench.is_switch(key)]
            questions = [session.question(setting, bench.file.roles[role].channel) for role, setting in keys]
            message = session.message(joined([session.profile.complete_query, *questions]))
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
            if not (is_base and _tells(text, self._bench.state[key])):
                self._compare(session, *key, text)

    def _compare(self, session: Session, role: str, setting: str, reply: str) -> None:
        bench, commands = self._bench, session.profile.settings[setting]
        believed = float(bench.state[role, setting])
        held = session.held(setting, bench.file.roles[role].channel, reply)
        if abs(held - believed) <= commands.room(believed):
            return
        bench.state[role, setting] = held
        bench.mistrusted.add(role)
        assert commands.feature.dimension is not None  # switches are asked back where they are switched
        shown = [units.format_value(x, commands.feature.dimension) for x in (believed, held)]
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
