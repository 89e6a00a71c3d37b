"""The words of the language and how each line reads; messages, checker and reference are made from these."""

from __future__ import annotations

USAGE = {
    "set": "set role.setting = value, …",
    "read": "read signal, … · read name = role.reading(argument = value) [together] [averaging N]",
    "let": "let name = formula [in unit]",
    "check": 'check x >= limit · between a and b · within n +/- t [where condition] [as "label"]',
    "wait": "wait 200 ms",
    "sweep": "sweep name from a to b step s · in n points · in n log points [, then to c step s] · over a, b, c",
    "show": 'show "text with {names}"',
    "ask": 'ask confirm "what the operator has to do"',
    "plot": 'plot y, … against x [by z] [as "title"]',
}
VERBS = frozenset(USAGE)
TOP_USAGE = {
    "sequence": 'sequence "title"',
    "needs": "needs",
    "params": "params",
    "before": "before unit",
    "after": "after unit",
    "test": 'test name "title" [gate]',
}
HEADER_USAGE = {"product": 'product "name"', "revision": 'revision "C"', "serial": 'serial "FC[0-9]{5}"'}
NEED_USAGE = "role : instrument_class · signal_name, … : signal in unit"
PARAM_USAGE = 'name = value [of a, b] [between a and b] ["help"]'

# Neither verbs nor clause words nor values may be names, so that a line reads one way only.
RESERVED = (
    VERBS
    | frozenset(TOP_USAGE)
    | frozenset(
        [
            "unit",
            "lot",
            "gate",
            "together",
            "averaging",
            "where",
            "between",
            "within",
            "and",
            "or",
            "not",
            "as",
            "in",
            "to",
            "from",
            "step",
            "points",
            "log",
            "then",
            "over",
            "against",
            "by",
            "along",
            "on",
            "off",
            "yes",
            "no",
            "signal",
            "of",
            "every",
            "until",
            "for",
            "timeout",
            "guarded",
            "allowing",
            "if",
            "else",
            "repeat",
            "search",
            "watch",
            "record",
            "measure",
            "call",
            "send",
            "query",
            "do",
            "connect",
            "disconnect",
            "leave",
            "skip",
            "stop",
            "note",
            "attach",
            "tone",
            "group",
            "use",
            "measurement",
            "serial",
        ]
    )
)
