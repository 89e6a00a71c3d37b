"""Sets a bench back to a state that it had, in an order in which nothing is applied on the way that was not before, no
protection trips, and no relay moves under power that must not:

1. outputs and inputs that go off, and those that must be off while a relay moves;
2. relays that open;
3. levels that go down;
4. ranges and all other settings, protections that are raised among them;
5. relays that close;
6. levels that go up;
7. protections that are lowered;
8. outputs and inputs that go on.
"""

from __future__ import annotations

from collections.abc import Callable
from math import inf
from typing import NamedTuple

from ibexite.bench.interface import Key
from ibexite.bench.route_entries import RELAY
from ibexite.bench.state import BenchState
from ibexite.instruments.settings import Value


class Standing(NamedTuple):
    """What was believed of a bench at a moment: its settings, and the routes that were connected."""

    state: dict[Key, Value]
    connected: tuple[str, ...]


def restore(
    bench: BenchState, wanted: dict[Key, Value], settle: Callable[[float], None], send: Callable[[Key, Value], None]
) -> list[Key]:
    """Sets back what differs from `wanted`, in the order that is told above. Returns what was changed.

    Args:
        settle: waits for so many seconds, after each of these steps (the longest settling of its instruments; where the
            output is off all the time there is nothing that settles).
        send: sends a setting.
    """
    changed = [k for k, v in wanted.items() if bench.state.get(k) != v or k[0] in bench.mistrusted]
    powering = [key for key in _powering(bench, changed) if bench.state.get(key)]
    going_on = [key for key in powering if wanted.get(key) and key not in changed]
    bench.mistrusted.clear()
    steps: dict[int, dict[Key, Value]] = {1: dict.fromkeys(powering, 0.0)} if powering else {}
    for key in changed:
        steps.setdefault(_step(bench, key, wanted[key]), {})[key] = wanted[key]
    for key in going_on:
        steps.setdefault(8, {})[key] = wanted[key]
    for _, deeds in sorted(steps.items()):
        for key, value in deeds.items():
            send(key, value)
        settle(max(_settling(bench, key, changed) for key in deeds))
    return changed


def _powering(bench: BenchState, changed: list[Key]) -> list[Key]:
    """The switches that must be off while the relays among the changes move."""
    moving = {name for name, setting in changed if setting == RELAY and name in bench.file.relays}
    routes = [route for route in bench.file.routes.values() if moving & set(route.relays)]
    roles = dict.fromkeys(role for route in routes for role in route.only_while_off)
    return [(role, bench.profile(role).instrument_class.switch) for role in roles]


def _settling(bench: BenchState, key: Key, changed: list[Key]) -> float:
    if key[0] in bench.file.relays:
        return max(route.settling for route in bench.file.routes.values() if key[0] in route.relays)
    return 0.0 if _stays_off(bench, key[0], changed) else bench.profile(key[0]).settling


def _stays_off(bench: BenchState, role: str, changed: list[Key]) -> bool:
    """Whether the output or input of a role is off, and not only since this moment."""
    switch = (role, bench.profile(role).instrument_class.switch)
    return bench.state.get(switch) == 0 and switch not in changed


def _step(bench: BenchState, key: Key, value: Value) -> int:
    known = bench.profile(key[0]).instrument_class
    if key[0] in bench.file.relays:
        return 5 if value else 2
    if bench.is_switch(key):
        return 8 if value else 1
    is_lower = not isinstance(value, str) and value < float(bench.state.get(key, inf))
    if key[1] in known.levels:
        return 3 if is_lower else 6
    return 7 if key[1] in known.protections and is_lower else 4
