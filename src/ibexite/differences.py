"""What is otherwise in connections, tables and texts than in others that they should be like: a list that says what to
mend. Every difference has a kind (KINDS) and words."""

from __future__ import annotations

import difflib
import json
import math
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from itertools import combinations
from typing import NamedTuple

from ibexite import units
from ibexite.compound import TableColumn, table_of
from ibexite.connections import KINDS as MEASURED
from ibexite.connections import Wiring, wiring_of
from ibexite.holes import is_equal
from ibexite.units import Dimension

KINDS = {
    "missing": "is to be there and is not",
    "extra": "is there and is not to be",
    "swapped": "two pins are in each other's place",
    "reversed": "a diode is the other way round",
    "changed": "a value is beyond its tolerance, or a text is another one",
    "unmeasured": "nobody knows its value",
    "intermittent": "comes and goes from scan to scan",
}
PART_WORDS = {"forward_voltage": "diode", "resistor": "resistor", "capacitor": "capacitor"}


class Difference(NamedTuple):
    """One difference: its kind, and what it is, in words."""

    kind: str
    text: str


class Tolerance(NamedTuple):
    """How far values of a dimension may be apart, in base units; or, without one, which part of the wanted value."""

    amount: float
    dimension: Dimension | None = None


class NoToleranceError(ValueError):
    """Values were measured, and nothing says how far they may be apart."""


class NotKnownError(ValueError):
    """What a value was to be is not known itself."""


# --- connections -----------------------------------------------------------------------------------------------------


def of_connections(text: str, wanted: str, tolerances: tuple[Tolerance, ...] = ()) -> list[Difference]:
    """The differences of connections from those that they should be like.

    Raises:
        NoToleranceError: both have values that were measured, and there is no tolerance for them.
        NotKnownError: those that they should be like lack a value.

    >>> of_connections('[["A1","B2"],["A2","B1"]]', '[["A1","B1"],["A2","B2"]]')
    [Difference(kind='swapped', text='B1 and B2')]
    """
    one, two = wiring_of(text), wiring_of(wanted)
    swaps = swapped_pins(one.nets, two.nets)
    one = _renamed(one, swaps)
    found = [Difference("swapped", f"{first} and {second}") for first, second in swaps]
    found += _of_nets(one.nets, two.nets)
    for kind in MEASURED:
        found += _of_pairs(kind, one, two, tolerances)
    return found


Nets = tuple[tuple[str, ...], ...]


def swapped_pins(nets: Nets, wanted: Nets) -> list[tuple[str, str]]:
    """Pairs of pins that are in each other's place: with each pair exchanged, both are connected as they should be, and
    were not before."""
    found, expected = _partners(nets), _partners(wanted)
    wrong = sorted(pin for pin in expected if found.get(pin, frozenset()) != expected[pin])
    swaps: list[tuple[str, str]] = []
    taken: set[str] = set()
    for first, second in sorted(combinations(wrong, 2), key=lambda pair: (pair[1], pair[0]), reverse=True):
        if first in taken or second in taken or expected[first] - {second} == expected[second] - {first}:
            continue
        turned = {first: second, second: first}
        if all(_turned(found.get(other, frozenset()), turned) == expected[pin] for pin, other in turned.items()):
            swaps.append((first, second))
            taken |= {first, second} | expected[first] | expected[second]
    return sorted(swaps)


def _partners(nets: Nets) -> dict[str, frozenset[str]]:
    """With which others each pin is connected."""
    return {pin: frozenset(net) - {pin} for net in nets for pin in net}


def _turned(pins: frozenset[str], turned: Mapping[str, str]) -> frozenset[str]:
    return frozenset(turned.get(pin, pin) for pin in pins)


def _renamed(wiring: Wiring, swaps: list[tuple[str, str]]) -> Wiring:
    """The connections as they would be with the swapped pins in their places."""
    turned = {a: b for pair in swaps for a, b in (pair, pair[::-1])}
    nets = tuple(sorted(tuple(sorted(turned.get(pin, pin) for pin in net)) for net in wiring.nets))
    pairs = {
        kind: tuple((*MEASURED[kind].pair(turned.get(a, a), turned.get(b, b)), value) for a, b, value in mine)
        for kind, mine in wiring.pairs.items()
    }
    return Wiring(nets, pairs)


def _of_nets(nets: Nets, wanted: Nets) -> Iterator[Difference]:
    """As few as it takes: for each net that is in parts a connection between the first pins of these."""
    for net, parts in _in_parts(wanted, nets):
        yield from (Difference("missing", _link(a, b, net)) for a, b in zip(parts, parts[1:], strict=False))
    for net, parts in _in_parts(nets, wanted):
        yield from (Difference("extra", _link(a, b, net)) for a, b in zip(parts, parts[1:], strict=False))


def _in_parts(nets: Nets, others: Nets) -> Iterator[tuple[tuple[str, ...], list[str]]]:
    """The nets that are in several parts among others, with the first pin of each part."""
    net_of = {pin: number for number, net in enumerate(others) for pin in net}
    for net in nets:
        parts = {net_of.get(pin, pin): pin for pin in reversed(net)}
        if len(parts) > 1:
            yield net, sorted(parts.values())


def _link(first: str, second: str, net: tuple[str, ...]) -> str:
    return f"{first} - {second}" + (f" (of the net {'+'.join(net)})" if 2 < len(net) <= 8 else "")


def _of_pairs(kind: str, one: Wiring, two: Wiring, tolerances: tuple[Tolerance, ...]) -> Iterator[Difference]:
    """What was measured of one kind: parts that are not there or too many, diodes the other way round, values."""
    found, wanted = _measured_of(one, kind), _measured_of(two, kind)
    is_part = kind in PART_WORDS
    word = PART_WORDS.get(kind, kind)
    for pair, value in wanted.items():
        name = f"{word} {MEASURED[kind].name(*pair)}"
        if pair in found:
            yield from _of_values(kind, name, found[pair], value, tolerances)
        elif MEASURED[kind].is_directed and pair[::-1] in found:
            yield Difference("reversed", name)
        elif is_part:
            yield Difference("missing", name)
        elif _are_joined(one.nets, pair) and not math.isnan(value):
            yield Difference("unmeasured", f"{name}, was {_said(kind, value)}")
    if is_part:
        for pair in found:
            if pair not in wanted and not (MEASURED[kind].is_directed and pair[::-1] in wanted):
                yield Difference("extra", f"{word} {MEASURED[kind].name(*pair)}, {_said(kind, found[pair])}")


def _measured_of(wiring: Wiring, kind: str) -> dict[tuple[str, str], float]:
    return {(a, b): value for a, b, value in wiring.pairs.get(kind, ())}


def _are_joined(nets: Nets, pair: tuple[str, str]) -> bool:
    return any(pair[0] in net and pair[1] in net for net in nets)


def _of_values(
    kind: str, name: str, value: float, wanted: float, tolerances: tuple[Tolerance, ...]
) -> Iterator[Difference]:
    if math.isnan(wanted):
        raise NotKnownError(name)
    if math.isnan(value):
        yield Difference("unmeasured", f"{name}, was {_said(kind, wanted)}")
        return
    room = room_for(wanted, units.parse_unit(MEASURED[kind].unit).dimension, tolerances)
    if room is None:
        raise NoToleranceError(f"{name}: {_said(kind, value)}, was {_said(kind, wanted)}")
    if abs(value - wanted) > room and not is_equal(abs(value - wanted), room):
        yield Difference("changed", f"{name}: {_said(kind, value)}, was {_said(kind, wanted)}")


def _said(kind: str, value: float) -> str:
    return units.format_value(value, units.parse_unit(MEASURED[kind].unit).dimension, digits=4)


def room_for(wanted: float, dimension: Dimension, tolerances: Iterable[Tolerance]) -> float | None:
    """How far a value may be from the wanted one: the larger of two tolerances that hold; None where none does."""
    rooms = [
        abs(wanted) * tolerance.amount if tolerance.dimension is None else tolerance.amount
        for tolerance in tolerances
        if tolerance.dimension in (None, dimension)
    ]
    return max(rooms, default=None)


def intermittent(scans: Mapping[str, int]) -> list[Difference]:
    """The contacts that some of several scans have and others have not; `scans` says how often each was found."""
    counts: Counter[tuple[str, str]] = Counter()
    for text, times in scans.items():
        for pair in (pair for net in wiring_of(text).nets for pair in combinations(net, 2)):
            counts[pair] += times
    whole = sum(scans.values())
    return [
        Difference("intermittent", f"{a} - {b}, connected in {count} of {whole} scans")
        for (a, b), count in sorted(counts.items())
        if count < whole
    ]


# --- tables and texts ------------------------------------------------------------------------------------------------


def of_tables(text: str, wanted: str, tolerances: tuple[Tolerance, ...] = ()) -> list[Difference]:
    """The differences of a table from another, cell by cell; numbers are compared within the tolerance of their unit,
    or exactly where there is none."""
    mine, its = ({column.name: column for column in table_of(t)} for t in (text, wanted))
    found = [Difference("missing", f"column {name}") for name in its if name not in mine]
    found += [Difference("extra", f"column {name}") for name in mine if name not in its]
    rows, wanted_rows = len(next(iter(mine.values())).cells), len(next(iter(its.values())).cells)
    key = next(iter(its.values()))
    for row in range(max(rows, wanted_rows)):
        if row >= rows:
            found.append(Difference("missing", f"row {row + 1}, {key.said(row)}"))
        elif row >= wanted_rows:
            found.append(Difference("extra", f"row {row + 1}, {next(iter(mine.values())).said(row)}"))
        else:
            both = ((mine[name], its[name]) for name in its if name in mine)
            found += [
                Difference("changed", f"row {row + 1}, {a.head}: {a.said(row)}, was {b.said(row)}")
                for a, b in both
                if not _is_same_cell(a, b, row, tolerances)
            ]
    return found


def _is_same_cell(mine: TableColumn, its: TableColumn, row: int, tolerances: tuple[Tolerance, ...]) -> bool:
    a, b = mine.cells[row], its.cells[row]
    if type(a) is not type(b) or mine.unit != its.unit:
        return False
    if isinstance(a, str | bool) or isinstance(b, str | bool):
        return a == b
    if math.isnan(a) or math.isnan(b):
        return math.isnan(a) and math.isnan(b)
    dimension = units.parse_unit(its.unit).dimension if its.unit else units.PLAIN
    room = room_for(b, dimension, tolerances) or 0.0
    return abs(a - b) <= room or is_equal(a, b) or is_equal(abs(a - b), room)


def of_texts(text: str, wanted: str) -> list[Difference]:
    """The differences of a text from another, line by line.

    >>> of_texts("boot 2.1\\nready", "boot 2.0\\nready")
    [Difference(kind='changed', text='line 1: "boot 2.1", was "boot 2.0"')]
    """
    mine, its = text.splitlines(), wanted.splitlines()
    found: list[Difference] = []
    for what, i1, i2, j1, j2 in difflib.SequenceMatcher(None, its, mine, autojunk=False).get_opcodes():
        if what == "equal":
            continue
        pairs = zip(its[i1:i2], mine[j1:j2], strict=False)
        found += [
            Difference("changed", f"line {j1 + n}: {json.dumps(b, ensure_ascii=False)}, was "
                       f"{json.dumps(a, ensure_ascii=False)}") for n, (a, b) in enumerate(pairs, 1)
        ]  # fmt: skip
        both = min(i2 - i1, j2 - j1)
        found += [Difference("missing", f"line {j1 + both + 1}: {json.dumps(line, ensure_ascii=False)}")
                  for line in its[i1 + both : i2]]  # fmt: skip
        found += [Difference("extra", f"line {j1 + n}: {json.dumps(line, ensure_ascii=False)}")
                  for n, line in enumerate(mine[j1 + both : j2], both + 1)]  # fmt: skip
    if not found and text != wanted:
        found.append(Difference("changed", "the ends of its lines"))
    return found
