"""The bench file: read, checked, and turned into plain data. Nothing here talks to an instrument."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Collection, Iterator
from functools import cache, partial
from pathlib import Path

from ibexite import units
from ibexite.bench.calibration_entries import calibration_of
from ibexite.bench.channel_keys import channel_of
from ibexite.bench.entries import InstrumentEntry, RoleEntry, RouteEntry, SignalEntry
from ibexite.bench.route_entries import (
    at_position,
    positions_of,
    refuse_contradictions,
    relays_of,
    route_entry,
    with_relays,
)
from ibexite.bench.signal_entries import Around, refuse_circles, signal_entry
from ibexite.bench.simulated_entries import simulated_entry
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import frozen, replaced
from ibexite.instruments.address import PROGRAM, Address, Program, parse_address
from ibexite.instruments.link_keys import read_link_keys
from ibexite.instruments.profile import Profile, load_profile
from ibexite.plain_file import is_there
from ibexite.toml_reader import TomlTable, each, raise_all, read_toml
from ibexite.units import Dimension

HEARTBEAT = 10.0  # s


@frozen
class BenchFile:
    """A bench file that was read and found right."""

    path: Path
    sha256: str
    name: str
    safe_order: tuple[str, ...]
    instruments: dict[str, InstrumentEntry]
    roles: dict[str, RoleEntry]
    signals: dict[str, SignalEntry]
    product: str  # the simulated product, "" if there is none
    heartbeat: float = HEARTBEAT  # s; how long a run may give no sign of life until its guardian ends it
    routes: dict[str, RouteEntry] = {}  # never changed
    relays: dict[str, RoleEntry] = {}  # of all routes, by their names (matrix@101); never changed
    button: str = ""  # the signal of a button with which `ask button` may be answered
    positions: tuple[str, ...] = ()  # of the product
    position: str = ""  # that at which it is; "" with positions: nobody has said, and nothing may be run

    def moved_to(self, addresses: dict[str, str], *, is_private: bool = False) -> BenchFile:
        """The same bench with its instruments at other addresses (their simulated stand-ins). is_private: they are
        there for one run alone, so that nobody has to be kept away."""
        moved = {
            name: replaced(fact, address=addresses[name], is_private=is_private)
            for name, fact in self.instruments.items()
            if name in addresses
        }
        return replaced(self, instruments={**self.instruments, **moved})


def read_bench(path: str | Path) -> BenchFile:
    """Reads and checks a bench file. Where the product has several positions, one may stand behind the name of the file
    (line.toml@left); without one it is as at the first.

    Raises:
        MistakeError: with the path to the value that is wrong.
    """
    path, position = _file_and_position(Path(path))
    table = read_toml(path, what="bench file")
    positions = positions_of(table)
    if not positions:
        if position:
            table.fail("", f"it has no position {position!r}", "It has none at all: name the file alone.")
        return _read(path, table)
    if position and position not in positions:
        table.fail("positions", f"there is no position {position!r}", did_you_mean(position, positions))
    data, made, mistakes = table.data, {}, []
    for name, channels in positions.items():  # what is wrong at any of them is told
        try:
            made[name] = _read(path, table.replaced(at_position(data, channels)))
        except MistakeError as error:
            mistakes.append(error)
    raise_all(mistakes)
    return replaced(made[position or next(iter(made))], positions=tuple(positions), position=position)


def _file_and_position(path: Path) -> tuple[Path, str]:
    name, at, position = path.name.rpartition("@")
    return (path.with_name(name), position) if at and name and not is_there(path) else (path, "")


def _read(path: Path, table: TomlTable) -> BenchFile:
    table.table("positions")
    head = table.table("bench", needed=True)
    simulation = table.table("simulation")
    product = simulation.text("product", "")
    simulation.finish()
    mistakes: list[MistakeError] = []
    entries = table.tables("instruments")
    profile_of = cache(partial(load_profile, folder=path.parent))  # several instruments may have the same one
    instruments = each(entries, lambda entry, name: _instrument(entry, name, path.parent, profile_of), mistakes)
    broken = set(entries) - set(instruments)
    entries = _standing(table.tables("roles"), "instrument", broken)
    roles = each(entries, lambda entry, name: _role(entry, name, instruments), mistakes)
    names = list(table.table("signals"))
    entries = _standing(table.tables("signals"), "read", set(table.tables("roles")) - set(roles))
    around = Around(roles, instruments, path.parent, names)
    signals = each(entries, lambda entry, name: signal_entry(entry, name, around), mistakes)
    button = head.text("button", "")
    if button and button not in names:
        head.note("button", f"there is no signal {button!r}", did_you_mean(button, names))
    elif button in signals and not signals[button].is_yes_no:
        head.note("button", f"{button} is not a signal that is yes or no", "It answers questions: ask button.")
    refuse_circles(table, signals)
    _refuse_unknown_triggers(table, roles)
    _refuse_shared_addresses(table, instruments)
    order = head.texts("safe_order", [])
    entries = _standing(table.tables("routes"), "switch", set(table.tables("roles")) - set(roles))
    routes = each(entries, lambda entry, name: route_entry(entry, name, roles, instruments), mistakes)
    refuse_contradictions(table, routes, order)
    roles = with_relays(roles, routes)
    heartbeat = head.quantity("heartbeat", units.SECOND, HEARTBEAT)
    if not 1 <= heartbeat <= 600:
        head.note("heartbeat", "not between 1 s and 10 min", "So long a run may give no sign of life.")
    for name in order:
        if name not in table.table("roles"):
            head.note("safe_order", f"there is no role {name!r}", did_you_mean(name, roles))
    name = head.text("name")
    head.finish()
    try:
        table.finish()
    except MistakeError as error:
        mistakes.insert(0, error)
    raise_all(mistakes)
    return BenchFile(
        path,
        table.sha256,
        name,
        (*order, *_rest(roles, order)),
        instruments,
        roles,
        signals,
        product,
        heartbeat,
        routes,
        relays_of(routes, roles),
        button=button,
    )


def _rest(roles: dict[str, RoleEntry], order: list[str]) -> list[str]:
    """The roles that the safe order does not name, behind those that it names: the switches of routes last."""
    rest = [name for name in roles if name not in order]
    return sorted(rest, key=lambda name: bool(roles[name].relays))


def _standing(tables: dict[str, TomlTable], key: str, broken: Collection[str]) -> dict[str, TomlTable]:
    """Those that do not stand on something broken, an instrument or a role: that is told already."""
    return {name: entry for name, entry in tables.items() if entry.text(key, "").partition(".")[0] not in broken}


def _instrument(table: TomlTable, name: str, folder: Path, profile_of: Callable[[str], Profile]) -> InstrumentEntry:
    try:
        profile = profile_of(table.text("profile"))
    except MistakeError as error:
        if error.where:
            raise
        table.fail("profile", error.what, error.remedy)
    address = _address(table, folder)
    try:
        place = parse_address(address)
    except MistakeError as error:
        table.fail("address", error.what, error.remedy)
    link = read_link_keys(table.table("link"), place)
    if isinstance(place, Program):
        link["folder"] = str(folder.absolute())
    identity = table.text("identity", "")
    try:
        re.compile(identity)
    except re.error as error:
        table.fail("identity", f"not a regular expression: {error}", 'Write, for example, "Firnline,PS-.*".')
    if identity and not profile.identity.query:
        table.note("identity", f"profile {profile.name} cannot ask who it is", "Leave it out, or mend identity_query.")
    calibration = calibration_of(table)
    simulated = simulated_entry(table.table("simulated")) if "simulated" in table else None
    table.finish()
    return InstrumentEntry(name, profile, address, identity, calibration, simulated, link=link)


def _address(table: TomlTable, folder: Path) -> str:
    """The address, or the command line of the program that stands in its place. A program whose name has a slash is
    seen from the folder of the bench file."""
    if "program" not in table:
        return table.text("address")
    if "address" in table:
        table.fail("program", "there is an address as well", "An instrument is reached in one way.")
    command = table.texts("program", [])
    if not command or not command[0]:
        table.fail("program", "there is nothing to start", 'Write, for example: program = ["./gauge", "--port", "3"]')
    name = command[0]
    command[0] = str((folder / name).absolute()) if "/" in name else name
    return PROGRAM + shlex.join(command)


def _refuse_shared_addresses(table: TomlTable, instruments: dict[str, InstrumentEntry]) -> None:
    seen: dict[Address, str] = {}
    for name, fact in instruments.items():
        place = parse_address(fact.address)
        if place in seen:
            table.table("instruments").table(name).note(
                "address", f"{seen[place]} has the same address", "Two instruments cannot share one address."
            )
        seen[place] = name


def _role(table: TomlTable, name: str, instruments: dict[str, InstrumentEntry]) -> RoleEntry:
    instrument = table.text("instrument")
    if instrument not in instruments:
        table.fail("instrument", f"there is no instrument {instrument!r}", did_you_mean(instrument, instruments))
    profile = instruments[instrument].profile
    ceiling = table.table("ceiling")
    products = _products(ceiling, profile)
    most, least = _ceilings(ceiling, profile, products)
    role = RoleEntry(
        name,
        instrument,
        channel_of(table, profile, 1),
        most,
        _levels(table.table("protect"), profile),
        table.flag("raw", False),
        products,
        floor=least,
        no_longer=_no_longer(table.table("no_longer"), profile),
        triggered_by=_triggered_by(table, profile),
    )
    table.finish()
    return role


def _triggered_by(table: TomlTable, profile: Profile) -> str:
    """The role that begins its records. Whether there is one of that name is looked at when all roles are known."""
    name = table.text("triggered_by", "")
    if name and not profile.instrument_class.records:
        table.note("triggered_by", f"a {profile.instrument_class.name} records nothing", "A digitizer does.")
    return name


def _refuse_unknown_triggers(table: TomlTable, roles: dict[str, RoleEntry]) -> None:
    for name, role in roles.items():
        if role.triggered_by and role.triggered_by not in roles:
            entry = table.table("roles").table(name)
            known = did_you_mean(role.triggered_by, roles)
            entry.note("triggered_by", f"there is no role {role.triggered_by!r}", known)


def _no_longer(table: TomlTable, profile: Profile) -> dict[str, tuple[float, float]]:
    """How long settings may be beyond a level."""
    found = {}
    for key, dimension in _settings_in(table, profile):
        level, seconds = table.pair(key, dimension, units.SECOND, '["1 A", "10 s"]')
        found[key] = (abs(level), seconds)
    return found


def _products(ceiling: TomlTable, profile: Profile) -> dict[str, float]:
    """The ceilings of two settings multiplied, such as power."""
    products = profile.instrument_class.products
    known = {name: factors for name, factors in products.items() if all(f in profile.settings for f in factors)}
    return {name: ceiling.quantity(name, product_dimension(profile, name)) for name in known if name in ceiling}


def product_dimension(profile: Profile, name: str) -> Dimension:
    """What a product of two settings is."""
    first, second = (profile.settings[factor].feature.type.dimension
                     for factor in profile.instrument_class.products[name])  # fmt: skip
    return units.multiply(first, second)


def _levels(table: TomlTable, profile: Profile) -> dict[str, float]:
    return {key: table.quantity(key, dimension) for key, dimension in _settings_in(table, profile)}


def _ceilings(
    table: TomlTable, profile: Profile, besides: Collection[str]
) -> tuple[dict[str, float], dict[str, float]]:
    """The most and the least of each setting. One value holds for both signs; of what has none (temperatures, levels)
    it is the most."""
    most, least = {}, {}
    for key, dimension in _settings_in(table, profile, besides):
        if isinstance(table.value(key), list):
            least[key], most[key] = table.extent(key, dimension) or (0.0, 0.0)
            continue
        most[key] = table.quantity(key, dimension)
        if dimension.kind == "linear" and dimension != units.KELVIN:
            least[key] = -abs(most[key])
    return most, least


def _settings_in(table: TomlTable, profile: Profile, besides: Collection[str] = ()) -> Iterator[tuple[str, Dimension]]:
    """The settings that a table names, each with its dimension."""
    for key in table:
        if key in besides:
            continue
        setting = profile.settings.get(key)
        if setting is None or setting.feature.dimension is None:
            numeric = [k for k, s in profile.settings.items() if s.is_number]
            table.note(key, f"profile {profile.name} has no such setting", did_you_mean(key, [*numeric, *besides]))
            continue
        yield key, setting.feature.dimension
