"""What a bench file offers, in the form in which the language vets against it."""

from __future__ import annotations

from math import inf

from ibexite.bench.entries import RoleEntry
from ibexite.bench.file import BenchFile, product_dimension
from ibexite.bench.route_entries import excluded
from ibexite.instruments.profile import Profile
from ibexite.language.facts import BenchFacts, ReadingFacts, RoleFacts, SettingBound
from ibexite.language.product_flow import ProductBound
from ibexite.language.route_flow import RouteFacts
from ibexite.values import YES_NO, Quantity, Type


def bench_facts(file: BenchFile) -> BenchFacts:
    """The facts of a bench for vetting."""
    name = str(file.path)
    roles = {role.name: _role(role, file.instruments[role.instrument].profile, name) for role in file.roles.values()}
    signals: dict[str, Type] = {
        s.name: YES_NO if s.is_yes_no else Quantity((), s.dimension) for s in file.signals.values()
    }
    accurate = [s.name for s in file.signals.values() if s.accuracy is not None]
    in_range = []
    for role in file.roles.values():
        for one, commands in file.instruments[role.instrument].profile.readings.items():
            if commands.accuracy is not None:
                accurate.append(f"{role.name}.{one}")
                in_range += [f"{role.name}.{one}"] * bool(commands.accuracy.of_range)
    records = frozenset(signal.name for signal in file.signals.values() if signal.is_record)
    return BenchFacts(name, roles, signals, _routes(file), frozenset(accurate), frozenset(in_range), records)


def _routes(file: BenchFile) -> dict[str, RouteFacts]:
    pairs = [*excluded(file.routes)]
    made = {}
    for name, route in file.routes.items():
        others = frozenset(other for pair in pairs if name in pair for other in pair if other != name)
        way = frozenset(other for other in others if route.one_of and file.routes[other].one_of == route.one_of)
        switches = [
            (role, file.instruments[file.roles[role].instrument].profile.instrument_class.switch)
            for role in route.only_while_off
        ]
        made[name] = RouteFacts(others, way, tuple(switches))
    return made


def _role(role: RoleEntry, profile: Profile, file: str) -> RoleFacts:
    bounds = {}
    for key, setting in profile.settings.items():
        found = []
        if key in role.ceiling:
            origin = f"{file}: roles.{role.name}.ceiling.{key}"
            found.append(SettingBound(role.floor.get(key, -inf), role.ceiling[key], "ceiling", origin))
        if setting.extent is not None:
            found.append(SettingBound(*setting.extent, "range", f"profile {profile.name}: settings.{key}.range"))
        bounds[key] = tuple(found)
    return RoleFacts(
        profile.instrument_class.name,
        bounds,
        frozenset(profile.settings),
        {
            key: ReadingFacts(
                {name: text.argument for name, text in reading.arguments.items()}, tuple(reading.needed())
            )
            for key, reading in profile.readings.items()
        },
        frozenset(profile.actions),
        role.allows_raw,
        profile.name,
        {key: setting.sent for key, setting in profile.settings.items() if setting.is_rounded},
        tuple(
            ProductBound(
                key,
                profile.instrument_class.products[key],
                most,
                product_dimension(profile, key),
                f"{file}: roles.{role.name}.ceiling.{key}",
            )
            for key, most in role.products.items()
        ),
    )
