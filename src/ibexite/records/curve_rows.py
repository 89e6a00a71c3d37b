"""Rows of the table of curves, from what events tell."""

from __future__ import annotations

import json
import math
import sys
from array import array
from collections.abc import Iterable

from ibexite import events
from ibexite.untyped import Fields
from ibexite.values import Quantity

Placed = events.TableStarted | events.Value | events.WholeCurve


def at_of(e: Placed) -> Fields:
    """Where the loops were in whose turn it came."""
    return {axis["name"]: value for axis, value in zip(e.outer, e.at, strict=True)}


def place_of(e: Placed) -> str:
    """The same as it is stored, with what is told of the loops; "" outside of any."""
    return json.dumps({"axes": e.outer, "at": at_of(e)}) if e.at else ""


def curve_row(meta: Fields, grid: int, position: int, given: events.Numbers) -> Fields:
    """A row of curves, from what was told of it and its values: numbers as they are, of texts their numbers in
    `labels`, a hole as NaN; or where they are."""
    texts: dict[str, float] = {}
    values, ref = array("d"), events.SideRef("", 0, 0)
    if isinstance(given, events.SideRef):
        ref = given
    else:
        values = given if isinstance(given, array) else array("d", (stored_number(value, texts) for value in given))
    if sys.byteorder == "big":
        values = array("d", values)
        values.byteswap()
    return {
        "name": meta["name"], "origin": meta["origin"], "unit": meta["unit"], "shown": meta["shown"],
        "kind": meta.get("kind", Quantity.stored), "grid": grid, "position": position,
        "length": ref.length or len(values), "labels": labels_text(texts), "n": "", "bound": "",
        "data": values.tobytes(), "start": None, "step": None, "side": ref.file,
        "side_begin": ref.begin, "side_channel": ref.channel, "place": meta.get("place", ""),
    }  # fmt: skip


def stored_number(value: float | str | None, texts: dict[str, float]) -> float:
    """A value as it is stored; a text is its number among the texts so far, of which there may be one more then."""
    if isinstance(value, str):
        return texts.setdefault(value, float(len(texts)))
    return math.nan if value is None else float(value)


def labels_text(labels: Iterable[str]) -> str:
    """Texts by their numbers, as they are stored."""
    return json.dumps(list(labels)) if labels else ""
