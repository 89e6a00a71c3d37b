"""Ceilings compared with what an instrument has, after whatever may have changed it: raw text, actions, its panel."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple, NoReturn

from ibexite import units
from ibexite.bench.entries import RoleEntry
from ibexite.bench.file import product_dimension
from ibexite.bench.state import BenchState
from ibexite.errors import InstrumentError
from ibexite.instruments.profile import Profile
from ibexite.instruments.settings import Value


class Beyond(NamedTuple):
    """What is beyond a ceiling: a setting, or the product of two; both as people read them."""

    name: str
    value: str
    ceiling: str


def with_ceiling(role: RoleEntry, profile: Profile) -> list[str]:
    """The settings that must be known to compare a role with its ceilings."""
    factors = [factor for name in role.products for factor in profile.instrument_class.products[name]]
    return list(dict.fromkeys([*role.ceiling, *factors]))


def beyond(role: RoleEntry, profile: Profile, values: Mapping[str, Value]) -> Iterator[Beyond]:
    """Everything of a role that is beyond a ceiling; what is not known is passed over."""
    for name, ceiling in role.ceiling.items():
        if name not in values:
            continue
        now, floor, commands = values[name], role.floor.get(name), profile.settings[name]
        if is_beyond(now, ceiling):
            yield Beyond(name, commands.said(now, 4), commands.said(ceiling, 4))
        elif floor is not None and is_beyond(-float(now), -floor):
            yield Beyond(name, commands.said(now, 4), commands.said(floor, 4))
    for name, ceiling in role.products.items():
        value = product_of(profile, name, values)
        if value is not None and is_beyond(value, ceiling):
            dimension = product_dimension(profile, name)
            yield Beyond(name, units.format_value(value, dimension), units.format_value(ceiling, dimension))


def is_beyond(value: Value, ceiling: float) -> bool:
    """Whether a value that an instrument tells is beyond a ceiling, which may be negative (levels). The last digits of
    an answer are not.

    >>> is_beyond(17.00000001, 17.0), is_beyond(17.1, 17.0), is_beyond(-20.0, -20.0), is_beyond(float("nan"), 1.0)
    (False, True, False, True)
    """
    return isinstance(value, str) or not value <= ceiling + 1e-9 * abs(ceiling)


def product_of(profile: Profile, name: str, values: Mapping[str, Value]) -> float | None:
    """The size of a product in base units; None if one of its settings is not known."""
    known = [float(values[factor]) for factor in profile.instrument_class.products[name] if factor in values]
    return abs(known[0] * known[1]) if len(known) == 2 else None


def refuse_beyond(bench: BenchState, role: RoleEntry, found: Beyond) -> NoReturn:
    """Switches a role off that was found beyond a ceiling, and raises InstrumentError."""
    session = bench.sessions[role.instrument]
    for setting, safe in session.profile.safe.items():
        session.send(session.profile.settings[setting].encoder(role.channel)(safe))
        bench.state[role.name, setting] = float(safe)
    raise InstrumentError(
        f"{role.name}.{found.name} was found at {found.value}, beyond its ceiling of {found.ceiling}; "
        "it was switched off",
        where=role.name, remedy="Raw commands and actions must not lead beyond a ceiling either.",
    )  # fmt: skip
