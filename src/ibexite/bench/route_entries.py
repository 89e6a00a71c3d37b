"""Reads the routes and the positions of a bench file."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from ibexite import units
from ibexite.bench.channel_keys import check_channel
from ibexite.bench.entries import InstrumentEntry, RoleEntry, RouteEntry
from ibexite.errors import did_you_mean
from ibexite.frozen import replaced
from ibexite.instruments.profile import Profile
from ibexite.toml_reader import TomlTable
from ibexite.untyped import Fields

RELAY = "closed"  # the setting of a switch that closes a relay
MOST_SETTLING = 60.0  # s


def route_entry(
    table: TomlTable, name: str, roles: Mapping[str, RoleEntry], instruments: Mapping[str, InstrumentEntry]
) -> RouteEntry:
    """One route. Raises MistakeError: all that is wrong with it."""
    switch = table.text("switch")
    if switch not in roles:
        table.fail("switch", f"there is no role {switch!r}", did_you_mean(switch, roles))
    profile = instruments[roles[switch].instrument].profile
    relay = profile.settings.get(RELAY)
    if relay is None or not relay.is_switch or "{channel}" not in relay.write:
        table.fail("switch", f"profile {profile.name} has no setting {RELAY!r} for a channel that is on or off",
                   "A route needs an instrument of class switch.")  # fmt: skip
    channels = table.integers("close")
    if not channels or min(channels) < 0 or len(set(channels)) != len(channels):
        table.note("close", "not some different channels", "Write, for example: close = [101, 102]")
    for channel in channels:
        check_channel(table, "close", profile, channel)
    settling = table.quantity("settling", units.SECOND, profile.settling)
    if not 0 <= settling <= MOST_SETTLING:
        table.note("settling", f"not between 0 s and {MOST_SETTLING:g} s", "So long is waited behind each switching.")
    rated = table.integer("rated", 0)
    if rated < 0:
        table.note("rated", f"{rated} is less than 0", "How often a relay of it may close; leave it out if unknown.")
    route = RouteEntry(
        name, switch, tuple(channels), tuple(table.texts("never_with", [])), table.text("one_of", ""), settling,
        _off(table, roles, instruments), rated,
    )  # fmt: skip
    table.finish()
    return route


def _off(
    table: TomlTable, roles: Mapping[str, RoleEntry], instruments: Mapping[str, InstrumentEntry]
) -> tuple[str, ...]:
    """The roles whose output must be off while the route is switched."""
    names = table.texts("only_while_off", [])
    for name in names:
        role = roles.get(name)
        if role is None:
            table.note("only_while_off", f"there is no role {name!r}", did_you_mean(name, roles))
        elif not _switch_of(instruments[role.instrument].profile):
            table.note("only_while_off", f"{name} has no output that is on or off", "It takes sources and loads.")
    return tuple(names)


def _switch_of(profile: Profile) -> str:
    switch = profile.instrument_class.switch
    return switch if switch in profile.settings else ""


def refuse_contradictions(table: TomlTable, routes: Mapping[str, RouteEntry], order: Collection[str]) -> None:
    """Routes that cannot be connected without breaking what they say themselves; and a safe order that would switch
    one while it may not be."""
    entries = table.table("routes")
    for name, route in routes.items():
        entry = entries.table(name)
        for other in route.never_with:
            if other not in entries:
                entry.note("never_with", f"there is no route {other!r}", did_you_mean(other, entries))
            elif other == name:
                entry.note("never_with", "it is never with itself", "Name other routes.")
        if route.one_of and sum(other.one_of == route.one_of for other in routes.values()) < 2:
            entry.note("one_of", f"no other route is one of {route.one_of!r}", "Write it into the others.")
        closed = set(route.relays)
        for one, other in excluded(routes):
            if closed >= {*routes[one].relays, *routes[other].relays}:
                told = other if one == name else one if other == name else f"{one} and {other}"
                what = f"it closes all relays of {told}, which must not be" + (" with it" if name in (one, other) else
                                                                             " together")  # fmt: skip
                entry.note("close", what, "Mend close, or never_with and one_of.")
        for role in route.only_while_off:
            if route.switch in order and (role not in order or [*order].index(role) > [*order].index(route.switch)):
                table.table("bench").note(
                    "safe_order", f"{name} may only be switched while {role} is off, and {route.switch} comes first",
                    f"Write {role} before {route.switch}.",
                )  # fmt: skip


def excluded(routes: Mapping[str, RouteEntry]) -> Iterator[tuple[str, str]]:
    """The pairs of routes that must not be connected together, each once."""
    names = list(routes)
    for i, one in enumerate(names):
        for other in names[i + 1 :]:
            a, b = routes[one], routes[other]
            if other in a.never_with or one in b.never_with or (a.one_of and a.one_of == b.one_of):
                yield one, other


def relays_of(routes: Mapping[str, RouteEntry], roles: Mapping[str, RoleEntry]) -> dict[str, RoleEntry]:
    """Each relay of the routes as something that is set by itself, by its name (matrix@101)."""
    return {
        relay: RoleEntry(relay, roles[route.switch].instrument, channel, {}, {})
        for route in routes.values()
        for relay, channel in zip(route.relays, route.channels, strict=True)
    }


def with_relays(roles: Mapping[str, RoleEntry], routes: Mapping[str, RouteEntry]) -> dict[str, RoleEntry]:
    """The roles, the switches among them with the relays that routes have of them."""
    found: dict[str, dict[int, None]] = {}
    for route in routes.values():
        found.setdefault(route.switch, {}).update(dict.fromkeys(route.channels))
    return {name: replaced(role, relays=tuple(found.get(name, ()))) for name, role in roles.items()}


# --- positions -------------------------------------------------------------------------------------------------------


def positions_of(table: TomlTable) -> dict[str, dict[str, int | list[int]]]:
    """What each position of the product means: channels by the names of roles, signals and routes."""
    found = table.tables("positions")
    kinds = {kind: set(table.table(kind)) for kind in ("roles", "signals", "routes")}
    names = {name for entry in found.values() for name in entry}
    for entry in found.values():
        for name in entry:
            _check_position(entry, name, kinds)
        for name in sorted(names - set(entry)):
            entry.note("", f"it says nothing of {name}, as another position does", "Write its channel at each of them.")
        entry.finish()
    return {position: {name: entry.value(name) for name in entry} for position, entry in found.items()}


def _check_position(entry: TomlTable, name: str, kinds: Mapping[str, set[str]]) -> None:
    of = [kind for kind, names in kinds.items() if name in names]
    if not of:
        known = set().union(*kinds.values())
        entry.note(name, "there is no role, signal or route of this name", did_you_mean(name, known))
    elif len(of) > 1:
        entry.note(name, f"it is the name of several: {', '.join(of)}", "Give one of them another name.")
    elif of == ["routes"]:
        entry.integers(name)
    else:
        entry.integer(name)


def at_position(data: Fields, channels: Mapping[str, int | list[int]]) -> Fields:
    """The data of a bench file as they are at a position."""
    changed = {kind: dict(data.get(kind, {})) for kind in ("roles", "signals", "routes")}
    for name, value in channels.items():
        if name in changed["routes"]:
            changed["routes"][name] = {**changed["routes"][name], "close": value}
        elif name in changed["roles"]:
            changed["roles"][name] = {**changed["roles"][name], "channel": value}
        else:
            entry = changed["signals"][name]
            changed["signals"][name] = {**entry, "with": {**entry.get("with", {}), "channel": value}}
    return {**data, **{kind: entries for kind, entries in changed.items() if entries}}
