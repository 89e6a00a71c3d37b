"""Makes the TextMate grammar for editors from the tables of the language: `python -m
ibexite.cli.make_editor_grammar`."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from ibexite.functions import FUNCTIONS, IN_WAIT
from ibexite.language import words

UNIT = r"(?:dBuV|dBSPL|dBFS|dB[mWVuc]?|degC|deg|ppm|%|[A-Za-z]+(?:\^-?\d)?(?:[*/][A-Za-z]+(?:\^-?\d)?)*)"

NUMBER = rf"(?<![\w.])\d+(?:\.\d+)?(?:[eE][+-]?\d+)?(?: ?{UNIT})?(?![\w.])"


def editor_grammar() -> str:
    """The grammar as JSON."""
    clauses = sorted(words.RESERVED - words.VERBS - set(words.TOP_USAGE) - {"on", "off", "yes", "no"})
    functions = sorted([*FUNCTIONS, *IN_WAIT])
    top = sorted(words.TOP_USAGE)
    grammar = {
        "name": "Ibexite sequence",
        "scopeName": "source.ibexite",
        "fileTypes": ["ibx"],
        "patterns": [
            {"match": r"#.*$", "name": "comment.line.number-sign.ibexite"},
            {
                "begin": '"', "end": '"|$', "name": "string.quoted.double.ibexite",
                "patterns": [{"match": r"\{[^{}]*\}", "name": "variable.other.filled.ibexite"}],
            },
            {"match": rf"^(?:{'|'.join(top)})\b", "name": "keyword.control.declaration.ibexite"},
            {"match": rf"^\s+(?:{'|'.join(sorted(words.VERBS))})\b", "name": "keyword.control.verb.ibexite"},
            {"match": NUMBER, "name": "constant.numeric.ibexite"},
            {"match": r"\b(?:on|off|yes|no)\b", "name": "constant.language.ibexite"},
            {"match": rf"\b(?:{'|'.join(functions)})(?=\s*\()", "name": "support.function.ibexite"},
            {"match": rf"\b(?:{'|'.join(clauses)})\b", "name": "keyword.other.clause.ibexite"},
            {"match": r"\+/-|->|[<>=!]=|[-+*/^<>=]", "name": "keyword.operator.ibexite"},
        ],
    }  # fmt: skip
    return json.dumps(grammar, indent=2) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(editor_grammar(), encoding="utf-8")
