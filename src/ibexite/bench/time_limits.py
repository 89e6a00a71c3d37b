"""How long a setting may stay beyond a level (`no_longer` of a role): a load that takes 5 A for a second, not for a
minute. When the time is over everything is switched off, and the run ends. The time counts while the output is on."""

from __future__ import annotations

from math import inf

from ibexite import units
from ibexite.bench.interface import Key
from ibexite.bench.safety import switch_off
from ibexite.bench.state import BenchState
from ibexite.errors import TooLongError


class TimeLimits:
    """Of one bench; `due` is when the next time is over, in s on the clock of whoever uses it."""

    def __init__(self, bench: BenchState) -> None:
        self._bench = bench
        self._since: dict[Key, float] = {}
        self.due = inf

    def note(self, roles: list[str]) -> None:
        """To be called when settings of these roles were sent: a time begins, or it is over."""
        bench = self._bench
        for role in roles:
            switch = bench.state.get((role, bench.profile(role).instrument_class.switch))
            for setting, (level, _) in bench.entries[role].no_longer.items():
                value = bench.state.get((role, setting))
                if switch == 0 or value is None or isinstance(value, str) or abs(value) <= level:
                    self._since.pop((role, setting), None)
                else:
                    self._since.setdefault((role, setting), bench.user.now())
        ends = [since + bench.entries[role].no_longer[setting][1] for (role, setting), since in self._since.items()]
        self.due = min(ends, default=inf)

    def look(self) -> None:
        """Whether a time is over.

        Raises:
            TooLongError: it is; everything was switched off.
        """
        bench = self._bench
        if bench.user.now() < self.due:
            return
        self.note(list({role for role, _ in self._since}))
        if bench.user.now() < self.due:  # what was switched off on another way does not count
            return
        role, setting = min(self._since, key=lambda key: self._since[key] + bench.entries[key[0]].no_longer[key[1]][1])
        level, seconds = bench.entries[role].no_longer[setting]
        self._since.clear()
        self.due = inf
        problems = "; ".join(f"{deed.role}: {deed.problem}" for deed in switch_off(bench) if deed.problem)
        told = f"NOT all is off: {problems}" if problems else "All outputs were switched off"
        dimension = bench.profile(role).settings[setting].feature.dimension or units.PLAIN
        raise TooLongError(
            f"{role}.{setting} was beyond {units.format_value(level, dimension)} for {seconds:g} s. {told}", where=role,
            remedy=f"Set it lower in time, or look at no_longer of [roles.{role}].",
        )  # fmt: skip
