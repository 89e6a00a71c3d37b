"""Questions to several instruments at once, each in one message where it takes several in one (IEEE 488.2, 6.4.3)."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.errors import IbexiteError
from ibexite.instruments.session import Message, Reconnected, Session
from ibexite.protocols.scpi import joined

Use = Callable[[str], None]  # takes the reply to a query


def in_one(session: Session, asked: list[tuple[str, Use]]) -> list[tuple[str, Use]]:
    """Questions as one, if the instrument takes several in one message. Only the last answer may hold a semicolon."""
    if not session.profile.is_compound or len(asked) < 2:
        return asked

    def use(reply: str) -> None:
        replies = reply.split(";", len(asked) - 1)
        if len(replies) != len(asked):
            take_doubt(session, f"gave {len(replies)} answers to {len(asked)} questions: {reply[:60]!r}")
            return
        for (_, take), one in zip(asked, replies, strict=True):
            take(one)

    return [(joined(text for text, _ in asked), use)]


def ask_all(plans: dict[Session, list[tuple[str, Use]]]) -> None:
    """Asks the questions of each session in their order, all sessions at a time. Raises Reconnected."""
    for number in range(max(map(len, plans.values()), default=0)):
        turn = [(session, plan[number]) for session, plan in plans.items() if number < len(plan)]
        ask_at_once([(session, session.message(text), use) for session, (text, use) in turn])


def ask_at_once(questions: list[tuple[Session, Message, Use]]) -> None:
    """One question for each session; all are asked before any is waited for. Every reply is taken, whatever becomes of
    the others: one that stays behind would be held against an instrument that did nothing wrong.

    Raises:
        BenchError: the first that was found wrong. Reconnected: nothing else was.
    """
    for session, message, _ in questions:
        session.ask(message)
    errors: list[IbexiteError] = []
    for session, message, use in questions:
        try:
            use(session.answer(message))
        except IbexiteError as error:
            errors.append(error)
    if errors:
        raise next((error for error in errors if not isinstance(error, Reconnected)), errors[0])


def take_doubt(session: Session, what: str) -> None:
    """Nobody knows any more which of its answers belong to which questions."""
    session.doubt(what)
    session.link.is_waiting = True  # so that the next look opens the link anew


def asked_at_once(session: Session) -> str:
    """What to do where an instrument does not answer several questions in one message."""
    return f"Where it cannot be asked several at once, write compound = false into {session.profile.name}."
