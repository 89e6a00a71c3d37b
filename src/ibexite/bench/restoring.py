"""Sets a bench back to a state that it had, in an order in which no protection trips on the way."""

from __future__ import annotations

from collections.abc import Callable
from math import inf

from ibexite.bench.interface import Key
from ibexite.bench.state import BenchState
from ibexite.instruments.settings import Value


def restore(
    bench: BenchState, wanted: dict[Key, Value], settle: Callable[[float], None], send: Callable[[Key, Value], None]
) -> list[Key]:
    """Sets back what differs from `wanted`: what goes off, levels that go down, protections and all other settings,
    levels that go up, what goes on. Returns what was changed.

    Args:
        settle: waits for so many seconds, after each of these steps (the longest settling of its instruments; where the
            output is off all the time there is nothing that settles).
        send: sends a setting.
    """
    changed = [k for k, v in wanted.items() if bench.state.get(k) != v or k[0] in bench.mistrusted]
    bench.mistrusted.clear()
    ranks = {key: _rank(bench, key, wanted[key]) for key in changed}
    for rank in sorted(set(ranks.values())):
        keys = [key for key in changed if ranks[key] == rank]
        for key in keys:
            send(key, wanted[key])
        settle(max(0.0 if _stays_off(bench, key[0], changed) else bench.profile(key[0]).settling for key in keys))
    return changed


def _stays_off(bench: BenchState, role: str, changed: list[Key]) -> bool:
    """Whether the output or input of a role is off, and not only since this moment."""
    switch = (role, bench.profile(role).instrument_class.switch)
    return bench.state.get(switch) == 0 and switch not in changed


def _rank(bench: BenchState, key: Key, value: Value) -> int:
    if bench.is_switch(key):
        return 4 if value else 0
    if key[1] in bench.profile(key[0]).instrument_class.levels:
        return 1 if float(value) < float(bench.state.get(key, inf)) else 3
    return 2
