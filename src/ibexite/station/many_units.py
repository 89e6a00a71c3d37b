"""The runs of many units: which ones are meant, and which of them cannot be used together, each with the reason."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from ibexite.conditions import differences, together
from ibexite.errors import MistakeError
from ibexite.records.lookup import Lookup
from ibexite.records.many_runs import Chosen, chosen_runs, conditions_of
from ibexite.verdicts import Verdict

LEAST_UNITS = 3  # that say anything of others


class LeftOut(NamedTuple):
    """A unit or run that is not used, and why."""

    serial: str
    why: str


@dataclass(frozen=True)
class Units:
    """One run of each of many units of one product."""

    product: str
    runs: list[Chosen]
    left_out: list[LeftOut]
    remarks: list[str] = field(default_factory=list)  # on what they have not in common

    @property
    def ids(self) -> list[str]:
        """The runs."""
        return [run.id for run in self.runs]

    @cached_property
    def serials(self) -> dict[str, str]:
        """The serial number of each run."""
        return {run.id: run.serial for run in self.runs}


def conditions_from(texts: Iterable[str], lot: str) -> list[tuple[str, str]]:
    """The conditions of --where KEY=VALUE and --lot. Raises MistakeError: one of another form."""
    found = [("lot", lot)] if lot else []
    for text in texts:
        key, equals, value = text.partition("=")
        if not equals or not value.strip():
            raise MistakeError(f"--where {text!r} is not KEY=VALUE", remedy="Write, for example: --where verdict=pass")
        found.append((key.strip(), value.strip()))
    return found


def units_of(
    lookup: Lookup, words: Sequence[str], conditions: list[tuple[str, str]], without: Sequence[str] = ()
) -> Units:
    """The latest run of each unit that is meant, of one product.

    Args:
        words: runs by id, serial number or `last`; none: all that meet the conditions.
        without: serial numbers to leave out.

    Raises:
        MistakeError: there are none, or they are of several products.
    """
    if not words and not conditions:
        raise MistakeError("which runs?", remedy="Name runs, or write --lot LOT or --where KEY=VALUE.")
    named = {lookup.find(word) for word in words}
    chosen = [run for run in chosen_runs(lookup, conditions) if not named or run.id in named]
    left_out: list[LeftOut] = []
    latest: dict[str, Chosen] = {}
    has_real_ones = not all(run.is_simulated for run in chosen)
    for run in chosen:
        if run.serial in without:
            continue
        if run.is_simulated and has_real_ones:
            left_out.append(LeftOut(run.serial, f"run {run.id} was simulated, others were not"))
            continue
        if run.verdict == Verdict.ABORTED or run.broken_off:
            left_out.append(LeftOut(run.serial, f"run {run.id} was broken off halfway"))
            continue
        if run.serial in latest:
            left_out.append(LeftOut(run.serial, f"run {latest[run.serial].id}: a later one counts"))
        latest[run.serial] = run
    left_out += [LeftOut(serial, "left out on demand") for serial in without if any(r.serial == serial for r in chosen)]
    products = Counter(run.product for run in latest.values())
    if not products:
        told = f"; {len(left_out)} runs cannot be used" if left_out else ""
        raise MistakeError(f"there are no such runs{told}", remedy="See ibexite runs.")
    if len(products) > 1:
        raise MistakeError(
            f"these are units of {len(products)} products: {', '.join(sorted(products))}",
            remedy=f"Add, for example: --where product={products.most_common(1)[0][0]!r}",
        )
    sequences = sorted({run.sequence for run in chosen if run.serial not in without})
    if len(sequences) > 1:
        raise MistakeError(
            f"these are runs of {len(sequences)} sequences: {'; '.join(sequences)}",
            remedy=f"Add, for example: --where {f'sequence={sequences[0]}'!r}",
        )
    return Units(next(iter(products)), list(latest.values()), left_out)


def measured_alike(lookup: Lookup, units: Units, wanted: Mapping[str, Collection[str]]) -> Units:
    """The units whose values were measured under the conditions of most of them; the others are left out, with what
    was otherwise. A value of which no LEAST_UNITS units were measured alike (its conditions follow from the unit, say)
    leaves none out; a remark tells it.

    Args:
        wanted: names of values by test.
    """
    left_out: dict[str, str] = {}
    remarks = []
    for test, names in wanted.items():
        for name, found in _conditions_by_run(lookup, units, test, names).items():
            apart = _apart(found)
            if len(found) - len(apart) >= LEAST_UNITS:
                left_out |= {run: f"{test}.{name} {told}" for run, told in apart.items() if run not in left_out}
            elif apart:
                told = next(iter(apart.values()))
                remarks.append(f"of {test}.{name} no {LEAST_UNITS} units were measured alike ({told}); all are taken")
    others = [LeftOut(units.serials[run], f"measured otherwise: {told}") for run, told in left_out.items()]
    kept = [run for run in units.runs if run.id not in left_out]
    return Units(units.product, kept, units.left_out + others, units.remarks + remarks)


def _conditions_by_run(
    lookup: Lookup, units: Units, test: str, names: Collection[str]
) -> dict[str, dict[str, tuple[str, ...]]]:
    """Of each value the conditions in each run, in JSON: one text for each line that read something for it."""
    found: dict[str, dict[str, tuple[str, ...]]] = {}
    known: dict[str, list[str]] = {}
    for run, line, conditions in conditions_of(lookup, units.ids, test):
        if line not in known:
            known[line] = [name for name in json.loads(line) if name in names]
        for name in known[line]:
            of_runs = found.setdefault(name, {})
            of_runs[run] = (*of_runs.get(run, ()), conditions)
    return {name: {run: of_runs[run] for run in units.ids if run in of_runs} for name, of_runs in found.items()}


def _apart(of_runs: Mapping[str, tuple[str, ...]]) -> dict[str, str]:
    """The runs whose conditions are not those of most, with what is otherwise."""
    kinds = Counter(of_runs.values())
    usual = _together(kinds.most_common(1)[0][0])
    told = {kind: "; ".join(differences(usual, _together(kind))[:3]) for kind in kinds}
    return {run: told[kind] for run, kind in of_runs.items() if told[kind]}


def _together(kind: tuple[str, ...]) -> dict[str, str]:
    return together(map(json.loads, kind))
