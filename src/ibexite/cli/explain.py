"""Looks up the reference entry of a word: a verb, a declaration, a function, a unit or an instrument class."""

from __future__ import annotations

import re
from collections.abc import Iterator

from ibexite import units
from ibexite.classes import InstrumentClass, instrument_classes, lines_of_use
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.file_keys import Key, file_keys, places
from ibexite.functions import FUNCTIONS, Function
from ibexite.functions.worked import data, data_in, examples_of
from ibexite.language import reference, words

LONGEST_COLUMN = 26  # characters; what is longer pushes the help aside


def explain(word: str) -> str:
    """The entry of a word, as text.

    Raises:
        MistakeError: there is no such word; names the nearest ones.
    """
    found = list(_entries(word))
    if found:
        return "\n\n\n".join(found)
    try:
        return _unit_entry(units.parse_unit(word))
    except UnitError:
        known = [word for words_of_kind in all_words().values() for word in words_of_kind] + list(units.UNITS)
        raise MistakeError(
            f"there is nothing called {word!r}",
            remedy=did_you_mean(word, known) + " It explains verbs, functions, units and instrument classes.",
        ) from None


def _entries(word: str) -> Iterator[str]:
    """All that bears a name: a word of the language may be a class or a key of a file as well."""
    lines = {**reference.DECLARATIONS, **reference.VERBS}
    if word in lines:
        yield _line_entry(word, words.USAGE.get(word) or words.TOP_USAGE[word], lines[word])
    if word in FUNCTIONS:
        yield _function_entry(FUNCTIONS[word])
    if word in reference.CLAUSES:
        entry = reference.CLAUSES[word]
        yield "\n".join([f"{word}, a word within lines", "", entry.text, "", "Example:", f"    {entry.example}"])
    if word in instrument_classes():
        yield _class_entry(instrument_classes()[word])
    if word in file_keys():
        yield _key_entry(word, file_keys()[word])


def all_words() -> dict[str, list[str]]:
    """All words that can be explained, by kind."""
    return {
        "declarations": list(reference.DECLARATIONS),
        "verbs": list(reference.VERBS),
        "functions": list(FUNCTIONS),
        "words within lines": list(reference.CLAUSES),
        "keys of files": list(file_keys()),
        "instrument classes": list(instrument_classes()),
    }


def _forms(usage: tuple[str, ...]) -> list[str]:
    return [f"    {form}" for form in usage]


def _line_entry(word: str, usage: tuple[str, ...], entry: reference.Entry) -> str:
    return "\n".join([word, "", *_forms(usage), "", entry.text, "", "Example:", f"    {entry.example}"])


def _function_entry(function: Function) -> str:
    lines = [f"{function.name}, a function of formulas ({function.group})", "", f"    {function.usage}", "",
             function.help[0].upper() + function.help[1:] + "."]  # fmt: skip
    if function.flags:
        lines.append(f"Words that may follow: {', '.join(function.flags)}.")
    if function.fields:
        lines.append(f"Its parts: {', '.join(function.fields)}.")
    detail = function_docstring(function)
    worked = [f"    {formula}   is {found}" for formula, found in examples_of(function.name).items()]
    names = {n: text for formula in examples_of(function.name) for n, text in data_in(formula).items()}
    told = [f"    {name}: {text}" for name, text in names.items()]
    example = ["", "Example:", f"    {function.example}", "", "Worked:", *worked, *told]
    return "\n".join([*lines, *(["", detail] if detail else []), *example])


def function_docstring(function: Function) -> str:
    """Method and source of a function, from the docstring of the code that computes it."""
    import importlib

    module, _, name = function.target.partition(".")
    if module not in ("features", "shaping", "statistics"):
        return ""
    text = getattr(importlib.import_module(f"ibexite.analysis.{module}"), name).__doc__ or ""
    paragraphs = [re.sub(r"\s+", " ", p).strip() for p in text.split("\n\n")]
    return "\n".join(p for p in paragraphs if not p.startswith((">>>", "Args:", "Returns:", "Raises:")))


def _class_entry(known: InstrumentClass) -> str:
    lines = [f"{known.name}, an instrument class: {known.help}"]
    told = [len(f.told) for f in (*known.settings.values(), *known.readings.values())]
    width = max((length for length in told if length <= LONGEST_COLUMN), default=0)
    for title, features in (("settings", known.settings), ("readings", known.readings)):
        if features:
            lines += ["", title]
            lines += [f"    {f.name:<16} {f.told:<{width}} {f.help}" for f in features.values()]
    lines += ["", "actions", *(f"    {name:<16} {'':<{width}} {text}" for name, text in known.actions.items())]
    return "\n".join([*lines, "", "Example (x is the role):", *(f"    {line}" for line in lines_of_use(known))])


def _key_entry(word: str, key: Key) -> str:
    where = "; ".join(places()[place] for place in key.places)
    lines = [f"{word}, a key ({where})", "", key.text[0].upper() + key.text[1:] + ".", "", "Example:"]
    return "\n".join([*lines, *(f"    {line}" for line in key.example.splitlines())])


def _unit_entry(unit: units.Unit) -> str:
    what = units.describe(unit.dimension)
    base = units.base_symbol(unit.dimension)
    factor = units.plain_number(float(unit.factor), 12)
    held = (
        f"1 {unit.symbol} is {factor} {base}".rstrip()
        if not unit.offset
        else f"0 {unit.symbol} is {unit.offset} {base}"
    )
    same = [s for s, u in units.UNITS.items() if u.dimension == unit.dimension and s != unit.symbol][:12]
    lines = [
        f"{unit.symbol}, a unit: {what}",
        "",
        held + " (the form in which values are kept).",
        # fmt: skip
        f"Of the same kind: {', '.join(same)}." if same else "",
        "",
        "Example:",
        f"    let x = 3 {unit.symbol}",
    ]
    return "\n".join(line for i, line in enumerate(lines) if line or i != 3)


def _function_row(function: Function) -> str:
    worked = "; ".join(f"`{formula}` is {found}" for formula, found in examples_of(function.name).items())
    return f"| `{function.usage}` | {function.help} | `{function.example}` | {worked} |"


def reference_page() -> str:
    """docs/reference.md: everything that can be explained, on one page."""
    from ibexite.instruments.link_keys import KEYS as LINK_KEYS
    from ibexite.simulate.troubles import WAYS

    parts = [
        "# Reference of the sequence language\n",
        "Made from the tables of the program by `make tables`; `ibexite explain WORD` shows the same. How the language "
        "hangs together is told in [language.md](language.md).\n",
    ]
    for title, entries in (("Declarations", reference.DECLARATIONS), ("Verbs", reference.VERBS)):
        parts.append(f"## {title}\n")
        for word, entry in entries.items():
            usage = words.USAGE.get(word) or words.TOP_USAGE[word]
            forms = "\n".join(usage)
            parts.append(f"### {word}\n\n```text\n{forms}\n```\n\n{entry.text}\n\n```\n{entry.example}\n```\n")
    parts.append("## Words within lines\n\n| word | | example |\n|---|---|---|")
    parts += [f"| `{word}` | {entry.text} | `{entry.example}` |" for word, entry in reference.CLAUSES.items()]
    parts.append("\n## Keys of bench files, profiles, classes and product models\n")
    for place, told in places().items():
        parts.append(f"### {told[0].upper() + told[1:]}\n\n| key | | example |\n|---|---|---|")
        for word, key in file_keys().items():
            if place in key.places:
                example = key.example.replace("\n", "; ") if place == key.places[0] else ""
                parts.append(f"| `{word}` | {key.text} | {f'`{example}`' if example else ''} |")
        parts.append("")
    parts.append("## Keys of links\n\n| link | key | |\n|---|---|---|")
    for link, keys in LINK_KEYS.items():
        parts += [f"| {link.word} | `{key}` | {text} |" for key, (text, _) in keys.items()]
    parts.append("\n## Functions\n")
    parts.append("Worked examples were carried out, over these data:\n\n| name | |\n|---|---|")
    parts += [f"| `{name}` | {text} |" for name, text in data().items()]
    parts.append("")
    for group in dict.fromkeys(f.group for f in FUNCTIONS.values()):
        parts.append(f"### {group.capitalize()}\n\n| function | | example | worked |\n|---|---|---|---|")
        parts += [_function_row(function) for function in FUNCTIONS.values() if function.group == group]
        parts.append("")
    parts.append("## Instrument classes\n")
    for known in instrument_classes().values():
        parts.append(f"### {known.name}\n\n{known.help[0].upper() + known.help[1:]}.\n\n| | unit | |\n|---|---|---|")
        for kind, features in (("setting", known.settings), ("reading", known.readings)):
            parts += [f"| {kind} `{f.name}` | {f.told} | {f.help} |" for f in features.values()]
        parts += [f"| action `{name}` | | {text} |" for name, text in known.actions.items()]
        parts.append("")
    parts.append(
        "## Troubles of simulated instruments\n\n| `how` | what becomes of the message or its reply |\n|---|---|"
    )
    parts += [f"| `{how}` | {text} |" for how, (text, _) in WAYS.items()]
    parts.append("")
    return "\n".join(parts)


if __name__ == "__main__":
    import sys
    from pathlib import Path

    Path(sys.argv[1]).write_text(reference_page(), encoding="utf-8")
