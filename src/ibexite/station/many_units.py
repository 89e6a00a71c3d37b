"""The runs of many units: which ones are meant, and which of them cannot be used together, each with the reason."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from ibexite.conditions import differences
from ibexite.errors import MistakeError
from ibexite.records.lookup import Lookup
from ibexite.records.many_runs import Chosen, chosen_runs, conditions_of
from ibexite.verdicts import Verdict


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
    for run in chosen:
        if run.serial in without:
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


def measured_alike(lookup: Lookup, units: Units, test: str, name: str) -> Units:
    """The units of which a value was measured under the conditions of most of them; the others are left out, with what
    was otherwise."""
    of_runs: dict[str, str] = {}
    has_name: dict[str, bool] = {}
    for run, names, conditions in conditions_of(lookup, units.ids, test):
        if names not in has_name:
            has_name[names] = name in json.loads(names)
        if has_name[names]:
            of_runs[run] = conditions
    if not of_runs:
        return units
    usual = Counter(of_runs.values()).most_common(1)[0][0]
    wanted = json.loads(usual)
    apart = {text: differences(wanted, json.loads(text)) for text in set(of_runs.values())}
    others = {run: apart[text] for run, text in of_runs.items() if apart[text]}
    left_out = [
        LeftOut(units.serials[run], f"measured otherwise: {'; '.join(told[:3])}") for run, told in others.items()
    ]
    return Units(units.product, [run for run in units.runs if run.id not in others], units.left_out + left_out)
