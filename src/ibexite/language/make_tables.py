"""Makes the tables of the parser from the grammar: `python -m ibexite.language.make_tables`. Needs Lark, which runs of
the program do not.

A conflict in the grammar is an error here (a test has Lark look for it in its strict mode).
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import lark
from lark.parsers.lalr_analysis import Shift

from ibexite.language.grammar import FOLDER, TABLES, digest, grammar_text, packed
from ibexite.language.parser import Rule, Tables, Terminal

STARTS = ["top_line", "header_line", "need_line", "param_line", "section_line", "output_line",
          "stimulus_line", "deed_line"]  # fmt: skip
OPTIONS: dict[str, Any] = {"parser": "lalr", "lexer": "contextual", "start": STARTS, "maybe_placeholders": True}


def made_tables() -> Tables:
    """The tables of the grammar."""
    parser = lark.Lark(grammar_text(), **OPTIONS)
    table = parser.parser.parser._parse_table
    order = _in_order(table)
    numbers = {state: number for number, state in enumerate(order)}
    rules: list[Any] = []
    states = []
    for state in order:
        made = {}
        for name, (action, target) in sorted(table.states[state].items(), key=lambda item: item[0]):
            if action is Shift:
                made[name] = numbers[target]
                continue
            if target not in rules:
                rules.append(target)
            made[name] = ~rules.index(target)
        states.append(made)
    starts = {start: (numbers[table.start_states[start]], numbers[table.end_states[start]]) for start in STARTS}
    return Tables(states, starts, list(map(_rule, rules)), _terminals(parser), frozenset(parser.lexer_conf.ignore))


def _in_order(table: Any) -> list[Any]:
    """The states in an order that does not change from one making to the next: as they are reached."""
    order = [table.start_states[start] for start in STARTS]
    for state in order:  # which grows meanwhile
        for _, (action, target) in sorted(table.states[state].items(), key=lambda item: item[0]):
            if action is Shift and target not in order:
                order.append(target)
    return order


def _rule(rule: Any) -> Rule:
    options, size = rule.options, len(rule.expansion)
    ones = "".join(str(int(is_empty)) for is_empty in options.empty_indices)
    empty = [len(part) for part in ones.split("0")] if ones else [0] * (size + 1)
    parts, before = [], 0
    for place, symbol in enumerate(rule.expansion):
        before += empty[place]
        if options.keep_all_tokens or not (symbol.is_term and symbol.filter_out):
            parts.append((place, not symbol.is_term and symbol.name.startswith("_"), before))
            before = 0
    is_single = bool(options.expand1 and not rule.alias)
    return Rule(
        str(rule.origin.name), size, str(rule.alias or rule.origin.name), tuple(parts), before + empty[size], is_single
    )


def _terminals(parser: Any) -> list[Terminal]:
    """The terminals in the order in which Lark tries them."""
    order = sorted(parser.terminals, key=lambda t: (-t.priority, -t.pattern.max_width, -len(t.pattern.value), t.name))
    texts = [t for t in order if t.pattern.type == "str"]
    made = []
    for terminal in order:
        if terminal.pattern.type == "str":
            made.append(Terminal(terminal.name, terminal.pattern.value, "", {}))
            continue
        pattern = terminal.pattern.to_regexp()
        words = {
            text.pattern.value: text.name
            for text in texts
            if text.priority == terminal.priority and _is_whole(pattern, text.pattern.value)
        }
        made.append(Terminal(terminal.name, "", pattern, words))
    return made


def _is_whole(pattern: str, text: str) -> bool:
    found = re.match(pattern, text)
    return found is not None and found[0] == text


if __name__ == "__main__":
    Path(FOLDER / TABLES).write_bytes(packed(digest(), made_tables()))
