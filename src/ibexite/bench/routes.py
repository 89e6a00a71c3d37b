"""Connects and disconnects routes: what must not be together is looked at before the first relay moves, relays open
before others close, and each is asked whether it did.

A relay that several connected routes share stays closed until the last of them is disconnected.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from ibexite.bench.interface import Key
from ibexite.bench.route_entries import RELAY, excluded
from ibexite.bench.set_line import SetLine
from ibexite.bench.state import BenchState
from ibexite.errors import RouteError

Settle = Callable[[float], None]


class Routes:
    """The routes of one bench. `connected` are those that the sequence has connected.

    Args:
        set_line: makes a line of settings ready.
    """

    def __init__(self, bench: BenchState, set_line: Callable[[list[Key]], SetLine]) -> None:
        self._bench, self._set_line = bench, set_line
        self._all = bench.file.routes
        self._excluded = tuple(excluded(self._all))
        self.connected: dict[str, None] = {}

    # --- deeds -------------------------------------------------------------------------------------------------------

    def connect(self, names: Sequence[str], settle: Settle) -> None:
        """Connects routes. What must make way (one_of) is opened first.

        Raises:
            RouteError: one may not be connected now; nothing was switched.
            InstrumentError: a relay did not switch.
        """
        self._prune()
        groups = {self._all[name].one_of for name in names} - {""}
        leaving = [name for name in self.connected if self._all[name].one_of in groups and name not in names]
        staying = [name for name in self.connected if name not in leaving]
        after = dict.fromkeys([*staying, *names])
        opening, _ = self._moves([*leaving, *names], after)
        self._refuse_together({*self._closed(), *self._relays(after)} - set(opening), names)
        self._switch([*leaving, *names], after, settle)

    def disconnect(self, names: Sequence[str], settle: Settle) -> None:
        """Disconnects routes; of one that is not connected it makes sure that it is open.

        Raises:
            RouteError: one may not be switched now; nothing was.
            InstrumentError: a relay did not switch.
        """
        self._prune()
        self._switch(names, {name: None for name in self.connected if name not in names}, settle)

    def open_all(self, names: Iterable[str], settle: Settle) -> None:
        """Opens whatever is found closed at the beginning, of some routes. Raises as `disconnect`."""
        self._switch([name for name in names if self._is_reached(name)], {}, settle)

    def _switch(self, names: Sequence[str], after: dict[str, None], settle: Settle) -> None:
        opening, closing = self._moves(names, after)
        moved = {*opening, *closing}
        touched = [name for name in self._all if moved & set(self._all[name].relays) and name in (*names, *after)]
        self.refuse_under_power(touched)
        # What is closed may be found open in between: until all is done only that counts as connected which stays so.
        self.connected = {name: None for name in self.connected if name in after and name not in touched}
        for relays, value in ((opening, 0.0), (closing, 1.0)):
            if relays:
                self._set_line([(relay, RELAY) for relay in relays])(*[value] * len(relays))
                settle(max(self._all[name].settling for name in touched))
        self.connected = dict(after)

    def _moves(self, names: Iterable[str], after: Iterable[str]) -> tuple[list[str], list[str]]:
        """The relays of some routes that must open, and those that must close, for others to be connected."""
        wanted, mine = self._relays(after), self._relays(names)
        opening = [relay for relay in mine if relay not in wanted and self._is_closed(relay) is not False]
        return opening, [relay for relay in wanted if relay in mine and self._is_closed(relay) is not True]

    # --- what may not be ---------------------------------------------------------------------------------------------

    def _refuse_together(self, closed: set[str], wanted: Sequence[str]) -> None:
        """No two routes may have all their relays closed that exclude one another, whatever has closed them."""
        for pair in self._excluded:
            if all(closed >= set(self._all[name].relays) for name in pair):
                one, other = pair if pair[0] in wanted else pair[::-1]
                hint = "Connect one of the two." if other in wanted else f"Write before it: disconnect {other}"
                raise RouteError(
                    f"{one} must not be connected together with {other}", where=", ".join(wanted),
                    remedy=f"Nothing was switched. {hint}",
                )  # fmt: skip

    def refuse_under_power(self, names: Iterable[str]) -> None:
        """Raises RouteError: an output is on that must be off while one of these routes is switched."""
        for name in names:
            for role in self._all[name].only_while_off:
                if self._is_on(role):
                    raise RouteError(
                        f"{name} may only be switched while {role} is off, and it is on", where=name,
                        remedy=f"Nothing was switched. Switch {role} off first.",
                    )  # fmt: skip

    def _is_on(self, role: str) -> bool:
        """Asked just now; one that cannot say so is on unless it was switched off. What nobody can reach is on."""
        bench, entry = self._bench, self._bench.entries[role]
        session = bench.sessions.get(entry.instrument)
        if session is None:
            return True
        switch = session.profile.instrument_class.switch
        if not session.can_ask(switch):
            return bool(bench.state.get((role, switch), False))
        with bench.holding([session]):
            return bool(session.ask_setting(switch, entry.channel))

    # --- what is -----------------------------------------------------------------------------------------------------

    def _relays(self, names: Iterable[str]) -> dict[str, None]:
        return {relay: None for name in names for relay in self._all[name].relays}

    def _closed(self) -> list[str]:
        return [relay for relay in self._bench.file.relays if self._is_closed(relay)]

    def _is_closed(self, relay: str) -> bool | None:
        """None: nobody knows."""
        held = self._bench.state.get((relay, RELAY))
        return None if held is None else bool(held)

    def _is_reached(self, name: str) -> bool:
        return self._bench.entries[self._all[name].relays[0]].instrument in self._bench.sessions

    def _prune(self) -> None:
        """A route of which something else has opened a relay is not connected any more."""
        self.connected = {n: None for n in self.connected if all(map(self._is_closed, self._all[n].relays))}
