"""Journals in the form that an older version wrote: left over from a run that broke off, stored by the next command."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import partial

from ibexite.untyped import Fields
from ibexite.verdicts import OLDER, Verdict


def into_present_form(first: Fields) -> Callable[[Fields], Fields]:
    """What brings the entries of a journal into the present form, given its first one."""
    steps: list[Callable[[Fields], Fields]]
    steps = [step for form, step in ((1, _from_form_1), (2, _from_form_2)) if first.get("form", 1) <= form]
    return partial(_through, steps) if steps else as_it_is


def _through(steps: list[Callable[[Fields], Fields]], entry: Fields) -> Fields:
    for step in steps:
        entry = step(entry)
    return entry


def as_it_is(entry: Fields) -> Fields:
    """Of a journal in the present form."""
    return entry


def _from_form_1(entry: Fields) -> Fields:
    """Reasons were texts, a skip had a code of its own, and all of a judged value stood side by side."""
    entry = dict(entry)
    if entry["e"] in ("TestEnded", "RunEnded", "Judged"):
        code = entry.pop("skip", "") if entry["verdict"] == Verdict.SKIPPED else OLDER
        entry["reason"] = {"code": code if entry["reason"] else "", "text": entry["reason"]}
    if entry["e"] == "TestEnded":
        entry.setdefault("has_failed", entry["verdict"] == Verdict.FAIL)
    if "bad" in entry and isinstance(entry["bad"], list):
        entry["bad"] = [
            {"name": name, "reason": {"code": OLDER, "text": why}, "raw": raw} for name, why, raw in entry["bad"]
        ]
    if "io" in entry:
        entry["io"] = [list(map(_said_from_form_1, entry["io"])), [entry["t"]] * len(entry["io"])]
    return _judged_from_form_1(entry) if entry["e"] == "Judged" else entry


def _from_form_2(entry: Fields) -> Fields:
    """Curves that were computed had an event of their own, without what only others have."""
    if entry["e"] != "Computed":
        return entry
    rest: Fields = {"origin": "let", "sampling": None, "never": [], "outer": [], "at": [], "bad": [], "io": [[], []]}
    return {**rest, **entry, "e": "WholeCurve"}


def _said_from_form_1(line: str) -> list[str]:
    """What was said on a link was one text: "psu> VOLT 7"."""
    found = re.match(r"([^<>!]*)([<>!]) (.*)", line, re.DOTALL)
    return list(found.groups()) if found is not None else ["", "!", line]


def _judged_from_form_1(entry: Fields) -> Fields:
    entry["criterion"] = entry.pop("text")

    def part(**keys: str) -> Fields:
        return {name: entry[key] for name, key in keys.items() if key in entry}

    def same(*names: str) -> Fields:
        return part(**{name: name for name in names})

    return {
        **same("e", "t", "test", "axes", "verdict", "reason"),
        "subject": same("line", "label", "criterion", "subject", "unit", "shown", "kind"),
        "worst": same("value", "low", "high", "margin", "at", "said"),
        "limits": {**same("demand", "guard", "rule", "origin"), **part(each="limits")},
        "points": same("judged", "failed", "bad", "failing", "extent", "n"),
    }
