"""Which sources and loads were at a limit, so that their set points were not true. What is read is cleared by that."""

from __future__ import annotations

from ibexite.bench.state import BenchState
from ibexite.instruments.session import Session

SINKS = ("electronic_load",)


def _says_yes(session: Session, reply: str) -> bool:
    assert session.profile.limiting is not None
    return session.says_yes(session.profile.limiting, reply, "limiting")


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
        bench = self._bench
        replies = bench.ask_of_each(lambda profile: profile.limiting.query if profile.limiting is not None else "")
        limiting = {s.name for s, reply in replies.items() if _says_yes(s, reply)}
        bench.user.pass_on(bench.sessions, limiting=limiting)
        limiting |= bench.user.take_limiting()
        is_starving = bench.is_ramping or self.is_without_source()
        bench.is_ramping = False
        for role in bench.roles():
            if role.instrument in limiting and (self.is_source(role.name) or not is_starving):
                self._found[role.name] = None

    def is_source(self, role: str) -> bool:
        """True for what supplies others: a load starves when it goes off."""
        profile = self._bench.profile(role)
        return bool(profile.instrument_class.switch) and profile.instrument_class.name not in SINKS

    def is_without_source(self) -> bool:
        """True while the sequence has every source switched off whose state is known."""
        bench = self._bench
        states = [value for key, value in bench.state.items() if bench.is_switch(key) and self.is_source(key[0])]
        return bool(states) and not any(states)
