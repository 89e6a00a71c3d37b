"""Bounds that settings have together: a range that depends on another setting, the ceiling of a product (voltage times
current), and what must be within its ceiling when an output goes on although no line has set it. They are looked at as
everything will be when the line has been sent, before its first byte."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NoReturn

from ibexite import units
from ibexite.bench.ceilings import beyond, is_beyond, product_of
from ibexite.bench.entries import RoleEntry
from ibexite.bench.file import product_dimension
from ibexite.bench.interface import Key
from ibexite.bench.state import BenchState
from ibexite.errors import CeilingError
from ibexite.instruments.profile import Profile
from ibexite.instruments.settings import Value

Check = Callable[[Sequence[Value]], None]


def joint_check(bench: BenchState, keys: Sequence[Key]) -> Check | None:
    """What looks at the values of a line, in the order of its keys; None where nothing depends on anything.

    It raises CeilingError: together they are beyond a bound, or nobody knows what the other one is. Nothing was sent.
    """
    roles = {name: bench.entries[name] for name, _ in keys}
    others = {key for role in roles.values() for key in _others(role, bench.profile(role.name), keys)}
    if not others:
        return None

    def check(values: Sequence[Value]) -> None:
        line = dict(zip(keys, values, strict=True))
        bench.learn_state([key for key in others if key not in line and key not in bench.state])
        for role in roles.values():
            after = {name: bench.state[role.name, name] for name in _known(bench, role)}
            mine = {setting: value for (name, setting), value in line.items() if name == role.name}
            after |= mine
            _look(role, bench.profile(role.name), after, set(mine))
            if mine.get(bench.profile(role.name).instrument_class.switch):
                _look_whole(role, bench.profile(role.name), after, set(mine))

    return check


def falling_first(bench: BenchState, keys: Sequence[Key], values: Sequence[Value]) -> tuple[int, ...]:
    """The order of a line in which no product of two settings goes beyond its old and its new value on the way: of the
    factors of one role those that fall come first, in the places that they have."""
    order = list(range(len(keys)))
    for role in {name for name, _ in keys}:
        profile, products = bench.profile(role), bench.entries[role].products
        factors = {f for name in products for f in profile.instrument_class.products[name]}
        places = [i for i, key in enumerate(keys) if key[0] == role and key[1] in factors]
        rising = sorted(places, key=lambda i: float(values[i]) > float(bench.state.get(keys[i], values[i])))
        for place, i in zip(places, rising, strict=True):
            order[place] = i
    return tuple(order)


def _known(bench: BenchState, role: RoleEntry) -> list[str]:
    return [setting for name, setting in bench.state if name == role.name]


def _others(role: RoleEntry, profile: Profile, keys: Sequence[Key]) -> Iterator[Key]:
    """The settings that must be known for the bounds of a role's settings in a line."""
    line = {setting for name, setting in keys if name == role.name}
    for name, commands in profile.settings.items():
        for when in commands.ranges:
            if name in line or when.other in line:
                yield from ((role.name, name), (role.name, when.other))
    for name, factors in profile.instrument_class.products.items():
        if name in role.products and not line.isdisjoint(factors):
            yield from ((role.name, factor) for factor in factors)
    if profile.instrument_class.switch in line:
        yield from ((role.name, name) for name in role.ceiling)


def _look(role: RoleEntry, profile: Profile, after: Mapping[str, Value], line: set[str]) -> None:
    for name, commands in profile.settings.items():
        if not any(name in line or when.other in line for when in commands.ranges) or name not in after:
            continue
        for when in commands.ranges:
            if when.other not in after:
                _refuse_unknown(role, name, when.other)
        low, high = commands.bounds(after)
        number = float(after[name])
        if not low <= number <= high:
            other = next(w for w in commands.ranges if w.holds(after[w.other])).other
            bound = high if number > high else low
            raise CeilingError(
                f"{role.name}.{name} = {commands.said(number)} is beyond {commands.said(bound)}, its range while "
                f"{other} is {profile.settings[other].said(after[other])}",
                where=role.name, remedy=f"Nothing was sent. See profile {profile.name}.",
            )  # fmt: skip
    for product, most in role.products.items():
        factors = profile.instrument_class.products[product]
        if line.isdisjoint(factors):
            continue
        size = product_of(profile, product, after)
        if size is None:
            _refuse_unknown(role, product, next(factor for factor in factors if factor not in after))
        elif is_beyond(size, most):
            dimension = product_dimension(profile, product)
            shown = [units.format_value(x, dimension, digits=6) for x in (size, most)]
            raise CeilingError(
                f"{' times '.join(f'{role.name}.{factor}' for factor in factors)} is {shown[0]}, beyond {shown[1]} "
                f"(the ceiling of {role.name}.{product})",
                where=role.name, remedy="Nothing was sent. Set both in one line where one goes up and one goes down.",
            )  # fmt: skip


def _look_whole(role: RoleEntry, profile: Profile, after: Mapping[str, Value], line: set[str]) -> None:
    """An output goes on: what its instrument came with counts as well. What stands in the line is looked at there."""
    for name in role.ceiling:
        if name not in after:
            _refuse_unknown(role, name, name)
    for found in beyond(role, profile, {name: value for name, value in after.items() if name not in line}):
        raise CeilingError(
            f"{role.name}.{found.name} is {found.value}, beyond its ceiling of {found.ceiling}",
            where=role.name, remedy=f"Nothing was sent. Set it before {profile.instrument_class.switch} goes on.",
        )  # fmt: skip


def _refuse_unknown(role: RoleEntry, name: str, other: str) -> NoReturn:
    raise CeilingError(
        f"whether {role.name}.{name} is within its bound depends on {other}, which nobody knows", where=role.name,
        remedy=f"Nothing was sent. Set {role.name}.{other} in the same line, or before.",
    )  # fmt: skip
