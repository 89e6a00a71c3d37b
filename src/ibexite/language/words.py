"""The words of the language and how each line reads; messages, checker and reference are made from these."""

from __future__ import annotations

import re

_WORD = re.compile(r"[a-z_]+")

# How each line reads: its forms, and behind "…" the clauses that may follow any of them.
USAGE: dict[str, tuple[str, ...]] = {
    "set": ("set role.setting = value, …", "… [verified]"),
    "read": (
        "read signal, …",
        "read name = role.reading(argument = value)",
        'read name = query(role, "TEXT?") in unit',
        "… [together] [averaging N] [tries N] [settled T]",
    ),
    "do": ("do role.action",),
    "play": (
        "play stimulus on role",
        "play stimulus on role capturing signal, … as name",
        "… [marker in signal] [again while condition at most N times]",
    ),
    "record": ("record name : signal, … every t",),
    "connect": ("connect route, …",),
    "disconnect": ("disconnect route, …",),
    "let": ("let name = formula [in unit]",),
    "check": (
        "check x >= limit",
        "check x between a and b",
        "check x within n +/- t",
        "check x == n",
        "check x is yes",
        'check x matches "regex"',
        'check x inside mask("name")',
        'check x same as golden("name") [+/- t …]',
        "check x",
        "… [where condition] [aligned by t [along axis]] [guarded by t [or undecided]] [not older than t] "
        '[allowing N bad] [as "label"]',
    ),
    "wait": ("wait 200 ms", "wait reading signal, … every t until condition [for N readings] timeout t"),
    "watch": ("watch signal between a and b every t [allowing N bad in a row] [else stop]",),
    "sweep": (
        "sweep name from a to b step s",
        "sweep name from a to b in n points",
        "sweep name from a to b in n log points",
        "sweep name from a to b at n per decade",
        "sweep name from a to b at n per octave",
        "sweep name over a, b, c",
        'sweep name over file "values.csv"',
        "… [, then to c step s] [refine where y bends at most n points]",
    ),
    "repeat": (
        "repeat name n times [every t]",
        "repeat name for t [every t]",
        "repeat name until condition [every t] timeout t",
    ),
    "search": ("search name from a to b [step s] resolution r [by halving] until condition",),
    "leave": ('leave "why"',),
    "if": ("if condition",),
    "else": ("else", "else if condition"),
    "measure": ("measure name(input = value, role = role) as name",),
    "call": ('call "program" [with a = 1] [gives x in V, ok as yes_no] timeout 10 s',),
    "send": ('send role "TEXT"',),
    "expect": ("expect limiting",),
    "show": ('show "text with {names}"',),
    "note": ('note "text for the report"',),
    "attach": ('attach "file.png"',),
    "golden": ('golden save name, … as "reference"',),
    "tone": ("tone good", "tone bad"),
    "ask": (
        'ask confirm "text"',
        'ask button "text"',
        'ask name = yes_no "text"',
        'ask name = choice "text" of "a", "b"',
        'ask name = text "text" [matches "regex"]',
        'ask name = number "text" in unit [between a and b]',
        'ask adjust signal within n +/- t "text"',
        '… [picture "file.png"]',
    ),
    "plot": ('plot y, … against x [by z] [as "title"]',),
    "skip": ('skip "why"',),
    "stop": ('stop "why"',),
}
VERBS = frozenset(USAGE)
BLOCKS = frozenset(["record", "watch", "sweep", "repeat", "search", "if", "else"])
TOP_USAGE: dict[str, tuple[str, ...]] = {
    "sequence": ('sequence "title"',),
    "use": ('use "shared.ibx"', 'use python "functions.py"'),
    "needs": ("needs",),
    "params": ("params",),
    "constants": ("constants",),
    "before": ("before unit", "before lot"),
    "after": ("after unit", "after lot"),
    "test": (
        'test name "title"',
        "… [gate] [off] [tags a, b] [if condition] [needs pass of name] [keeps state]",
    ),
    "group": ('group name "title" [over temp = 0 degC, 40 degC]', "… [off] [tags a, b] [if condition]"),
    "measurement": ('measurement name "title"',),
    "stimulus": ('stimulus name "title"',),
}
STIMULUS_USAGE: dict[str, tuple[str, ...]] = {
    "rate": ("rate 192 kHz",),
    "part": (
        "part marker [from a to b] [for t] [level x]",
        "part noise from a to b for t level x",
        "part silence for t",
        "part stepped from a to b at n per octave for n cycles [at least t] level x",
        "part chirp from a to b for t level x",
        "part tones f [share n], f [share n], … for t level x",
        "part burst f for n cycles every t [n times] level x",
        'part file "steps.wav" [channel n] [level x]',
        "… [unjudged]; level is RMS, peak x the highest peak; part name = … gives it a name",
    ),
    "shaped": ('shaped by [inverse of] golden("source.response") [at f] [not older than t]',),
}
HEADER_USAGE: dict[str, tuple[str, ...]] = {
    "product": ('product "name"',),
    "revision": ('revision "C"',),
    "serial": ('serial "FC[0-9]{5}"',),
    "limits": ('limits "limits.csv"',),
    "tags": ("tags a, b",),
}
SECTION_USAGE: dict[str, tuple[str, ...]] = {"needs": ("needs",), "inputs": ("inputs",), "outputs": ("outputs",)}
NEED_USAGE = (
    "role : instrument_class",
    "signal_name, … : signal in unit",
    "signal_name, … : signal yes_no",
    "route_name, … : route",
)
PARAM_USAGE = ('name = value [of a, b] [between a and b] ["help"]',)
OUTPUT_USAGE = (
    "name in unit [over axis]",
    "name as yes_no",
    "name as text",
    "name as number",
    "name as table",
    "name as connections",
    "name as picture",
)


def whole_usage(usage: tuple[str, ...]) -> str:
    """All forms of a line with their clauses, in one text."""
    forms = [form for form in usage if not form.startswith("… ")]
    clauses = [form.removeprefix("… ") for form in usage if form.startswith("… ")]
    return " · ".join(forms) + "".join(" " + clause for clause in clauses)


def usage_for(usage: tuple[str, ...], text: str) -> str:
    """The forms of a line that are most like what was written, with the clauses that fit."""
    written = set(_WORD.findall(text))
    forms = [form for form in usage if not form.startswith("… ")]
    alike = {form: len(written & set(_WORD.findall(form))) for form in forms}
    best = max(alike.values())
    shown = [form for form in forms if alike[form] == best]
    clauses = tuple(form for form in usage if form.startswith("… "))
    more = f" · … (all forms: ibexite explain {forms[0].split()[0]})" if len(shown) > 3 else ""
    return whole_usage((*shown[:3], *clauses)) + more


_CLAUSES = (
    "unit lot gate together averaging tries settled where between within and or not as in to from step points log "
    "then over "
    "against by along on off yes no signal of every until for readings timeout guarded allowing matches is refine "
    "inside aligned same older than risk undecided uncertain resolution verified picture tags with gives pass keeps "
    "inputs outputs reading python"
)

# Neither verbs nor clause words nor values may be names, so that a line reads one way only.
RESERVED = (
    VERBS | frozenset(TOP_USAGE) | frozenset(HEADER_USAGE) - {"revision", "product"}
    | frozenset(_CLAUSES.split())
    | {"query"}
)  # fmt: skip
