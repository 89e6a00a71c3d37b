"""Connections, the value of a harness test: nets of pins, the resistance between connected pins, diodes with their
direction and forward voltage, parts between nets. A run holds them as one text (JSON) in a fixed form, as compound.py
has it: a list of nets, or an object where there is more.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterable
from typing import Any

from ibexite import units
from ibexite.compound import Form, count_said, fixed_text
from ibexite.frozen import frozen
from ibexite.untyped import Fields

MOST_PINS = 20_000
MOST_PAIRS = 200_000


@frozen
class Kind:
    """A kind of what is measured between two pins: which axis it has as a curve, its unit, what stands between its pins
    in the names of its points, and whether their order counts."""

    axis: str
    unit: str
    between: str
    is_directed: bool
    help: str

    def pair(self, first: str, second: str) -> tuple[str, str]:
        """The two pins in their order."""
        return (first, second) if self.is_directed or first <= second else (second, first)

    def name(self, first: str, second: str) -> str:
        """What a pair of pins is called on the axis."""
        return f"{first}{self.between}{second}"


KINDS = {
    "resistance": Kind("connection", "ohm", "-", False, "resistance between two pins that are connected"),
    "forward_voltage": Kind("diode", "V", ">", True, "forward voltage of a diode, from its anode to its cathode"),
    "resistor": Kind("part", "ohm", "-", False, "resistor between two nets"),
    "capacitor": Kind("part", "F", "-", False, "capacitor between two nets"),
}
# What an entry of a tester's answer is called, and which of these it tells.
ENTRIES = {"connection": "resistance", "diode": "forward_voltage", "resistor": "resistor", "capacitor": "capacitor"}
NETS = "nets"
CONTACT = "contact"  # the axis of what is told of pairs of pins over several scans
AXES = (*dict.fromkeys(kind.axis for kind in KINDS.values()), CONTACT)  # all of them are of texts
Pair = tuple[str, str, float]  # two pins, and the value in base units, NaN where it is not known


@frozen
class Wiring:
    """Connections, taken apart: nets in order, each with its pins in order, and the pairs of each kind in order."""

    nets: tuple[tuple[str, ...], ...]
    pairs: dict[str, tuple[Pair, ...]]


def connections_text(answer: object) -> str:
    """The text of connections, from nets (lists of pins; a net of one pin says that this one is connected to none) or
    from an object: nets, and lists of [pin, pin, value] by the names of KINDS, in base units. Pins between which there
    is a resistance are connected, and need not be in a net as well; a pin that a net names alone is connected to none.

    >>> connections_text([["J2.1", "J1.1"], ["J1.2"]])
    '[["J1.1","J2.1"],["J1.2"]]'
    >>> connections_text({"resistance": [["J2.1", "J1.1", 0.25]]})
    '{"nets":[["J1.1","J2.1"]],"resistance":[["J1.1","J2.1",0.25]]}'
    """
    given = {NETS: answer} if isinstance(answer, list) else answer
    if not isinstance(given, dict) or not given or not given.keys() <= {NETS, *KINDS}:
        raise ValueError(f'not connections: lists of pins, [["J1.1", "J2.1"]], or an object with {NETS}, {_kinds()}')
    nets = _given_nets(given.get(NETS, []))
    pairs = {kind: _given_pairs(kind, given[kind]) for kind in KINDS if kind in given}
    nets = _together(nets, pairs)
    if not any(pairs.values()):
        return fixed_text(nets)
    return fixed_text({NETS: nets, **{kind: found for kind, found in pairs.items() if found}})


def _kinds() -> str:
    return ", ".join(KINDS)


def _given_nets(nets: object) -> list[list[str]]:
    if not isinstance(nets, list) or not all(isinstance(net, list) and net for net in nets):
        raise ValueError('not connections: lists of pins, [["J1.1", "J2.1"], ["J1.2"]]')
    pins = [pin for net in nets for pin in net]
    if not all(isinstance(pin, str) and pin for pin in pins):
        raise ValueError("connections with a pin that is no name")
    if len(pins) > MOST_PINS:
        raise ValueError(f"connections of more than {MOST_PINS:,} pins")
    if len(set(pins)) < len(pins):
        raise ValueError(f"connections with {max(pins, key=pins.count)} twice; a pin belongs to one net")
    return nets


def _given_pairs(kind: str, entries: object) -> list[list[Any]]:
    """Pairs in their order. Raises ValueError: they are no such thing, or one comes twice."""
    example = f'[["J1.1", "J2.1", 0.25]] in {KINDS[kind].unit}'
    if not isinstance(entries, list) or len(entries) > MOST_PAIRS:
        raise ValueError(f"connections whose {kind} is no list such as {example}")
    found: dict[tuple[str, str], float | None] = {}
    for entry in entries:
        match entry:
            case [str(first), str(second), int() | float() | None as value] if (
                first and second and first != second and not isinstance(value, bool)
            ):
                pair = KINDS[kind].pair(first, second)
            case _:
                raise ValueError(f"connections whose {kind} has {str(entry):.60}, which is not as in {example}")
        if pair in found:
            raise ValueError(f"connections with two values of {kind} for {KINDS[kind].name(*pair)}")
        if value is not None and math.isinf(value):
            raise ValueError(f"connections with a number for {KINDS[kind].name(*pair)} that is too large")
        found[pair] = None if value is None or value != value else float(value)
    return sorted([*pair, value] for pair, value in found.items())


def _together(nets: list[list[str]], pairs: dict[str, list[list[Any]]]) -> list[list[str]]:
    """The nets in their order, with all pins that are named, joined by the resistances. Two nets that are given stay
    two."""
    net_of = {pin: number for number, net in enumerate(nets) for pin in net}
    resistances = [(first, second) for first, second, _ in pairs.get("resistance", [])]
    for first, second in resistances:
        if first in net_of and second in net_of and net_of[first] != net_of[second]:
            raise ValueError(f"connections with a resistance between {first} and {second}, which are in two nets")
    found = list(joined([*((net[0], pin) for net in nets for pin in net), *resistances]))
    known = {pin for net in found for pin in net}
    others = {pin for entries in pairs.values() for first, second, _ in entries for pin in (first, second)}
    found += [{pin} for pin in others - known]
    if sum(map(len, found)) > MOST_PINS:
        raise ValueError(f"connections of more than {MOST_PINS:,} pins")
    if len({net_of[pin] for pin in net_of}) > len([net for net in found if not net_of.keys().isdisjoint(net)]):
        raise ValueError("connections whose resistances join two nets")
    return sorted(sorted(net) for net in found)


def joined(pairs: Iterable[tuple[str, str]]) -> Iterable[set[str]]:
    """The nets that pairs of connected pins make."""
    net_of: dict[str, set[str]] = {}
    for first, second in pairs:
        one, other = net_of.setdefault(first, {first}), net_of.setdefault(second, {second})
        if one is not other:
            one |= other
            net_of.update(dict.fromkeys(other, one))
    return {id(net): net for net in net_of.values()}.values()


def wiring_of(text: str) -> Wiring:
    """Connections from their text."""
    found: Any = json.loads(text)
    given: Fields = found if isinstance(found, dict) else {NETS: found}
    pairs = {
        kind: tuple((first, second, math.nan if value is None else value) for first, second, value in given[kind])
        for kind in KINDS
        if kind in given
    }
    return Wiring(tuple(map(tuple, given[NETS])), pairs)


def values_of(text: str, kind: str) -> tuple[list[str], list[float]]:
    """What was measured of a kind: the names of the pairs, and the values in base units (NaN for a hole)."""
    pairs = wiring_of(text).pairs.get(kind, ())
    return [KINDS[kind].name(first, second) for first, second, _ in pairs], [value for _, _, value in pairs]


# --- in words --------------------------------------------------------------------------------------------------------


def _said(text: str) -> str:
    """How many nets and pins, diodes and parts."""
    wiring = wiring_of(text)
    parts = [f"{count_said(len(wiring.nets), 'net')} of {count_said(sum(map(len, wiring.nets)), 'pin')}"]
    for kind, word in (("forward_voltage", "diode"), ("resistor", "resistor"), ("capacitor", "capacitor")):
        if wiring.pairs.get(kind):
            parts.append(count_said(len(wiring.pairs[kind]), word))
    return ", ".join(parts)


def _rows(text: str) -> tuple[list[str], list[list[str]]]:
    """The nets, a row each; then what was measured."""
    wiring = wiring_of(text)
    nets = [[str(number), " ".join(net)] for number, net in enumerate(wiring.nets, 1)]
    if not wiring.pairs:
        return ["net", "pins"], nets
    measured = [[kind, KINDS[kind].name(a, b), _value(kind, value)] for kind, a, b, value in _measured(wiring)]
    return ["net", "pins", "value"], [*([*net, ""] for net in nets), *measured]


def _measured(wiring: Wiring) -> Iterable[tuple[str, str, str, float]]:
    return ((kind, *pair) for kind, pairs in wiring.pairs.items() for pair in pairs)


def _value(kind: str, value: float) -> str:
    return "-" if value != value else units.format_value(value, units.parse_unit(KINDS[kind].unit).dimension)


def _unrounded(text: str) -> list[list[str]]:
    """For other programs: a line a pin, with the number of its net; then a line a value, in base units."""
    wiring = wiring_of(text)
    pins = [[str(number), pin] for number, net in enumerate(wiring.nets, 1) for pin in net]
    if not wiring.pairs:
        return [["net", "pin"], *pins]
    measured = [
        [f"{kind} [{KINDS[kind].unit}]", a, b, "" if value != value else repr(value)]
        for kind, a, b, value in _measured(wiring)
    ]
    return [["net", "pin", "other pin", "value"], *([net, pin, "", ""] for net, pin in pins), *measured]


def _differ(text: str, other: str) -> str:
    """The first of others' nets, diodes and parts that connections do not have so, and what is there; "" if they are
    the same. What was measured does not count: no two measurements are alike."""
    one, two = wiring_of(text), wiring_of(other)
    found = "" if _shared(one) == _shared(two) else _nets_differ(set(one.nets), set(two.nets))
    for kind in ("forward_voltage", "resistor", "capacitor"):
        mine, wanted = ({pair[:2] for pair in side.pairs.get(kind, ())} for side in (one, two))
        found = found or _pairs_differ(kind, mine, wanted)
    return found or _nets_differ(set(one.nets), set(two.nets))


def _shared(wiring: Wiring) -> set[tuple[str, ...]]:
    """The nets of several pins; a pin may be alone in one because only a diode or a part of it is told."""
    return {net for net in wiring.nets if len(net) > 1}


def _nets_differ(nets: set[tuple[str, ...]], wanted: set[tuple[str, ...]]) -> str:
    lacking = sorted(wanted - nets)
    for net in lacking:
        found = sorted(one for one in nets if set(one) & set(net))
        more = f", and {count_said(len(lacking) - 1, 'more net')}" if len(lacking) > 1 else ""
        return f"{'+'.join(net)} expected, found {' '.join(map('+'.join, found)) or 'none of its pins'}{more}"
    extra = sorted(nets - wanted)
    return f"{'+'.join(extra[0])} not expected" if extra else ""


def _pairs_differ(kind: str, pairs: set[tuple[str, str]], wanted: set[tuple[str, str]]) -> str:
    word = KINDS[kind].axis if KINDS[kind].axis != "part" else kind
    for first, second in sorted(wanted - pairs):
        found = "found the other way round" if (second, first) in pairs else "found none"
        return f"{word} {KINDS[kind].name(first, second)} expected, {found}"
    extra = sorted(pairs - wanted)
    return f"{word} {KINDS[kind].name(*extra[0])} not expected" if extra else ""


CONNECTIONS = Form(connections_text, _said, _rows, _unrounded, _differ, lambda text: False)
