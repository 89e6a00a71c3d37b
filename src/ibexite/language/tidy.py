"""The canonical layout of a sequence: rewrites its text, keeps its comments, changes nothing that it means.

What it does: four spaces a level, one blank between words, no blanks at the ends, one empty line at most between lines
and one before each block at the left margin, columns of needs and of params aligned, comments of neighbouring lines
aligned, one newline at the end. What it leaves alone: the order of lines, texts in quotes, numbers, where a line is
continued. A second pass changes nothing; the parse trees before and after are compared before anything is returned.
"""

from __future__ import annotations

import re

from ibexite.language import words
from ibexite.language.layout import INDENT, Line, read_layout
from ibexite.language.source import Source

_TOKEN = re.compile(
    r'"[^"\n]*"|#.*|\d+(?:\.\d+)?(?:[eE][+-]?\d+)?(?: ?(?:[A-Za-z%]+(?:\^-?\d)?(?:[*/][A-Za-z]+(?:\^-?\d)?)*))?'
    r"(?![A-Za-z0-9_.])|[A-Za-z_]\w*|\+/-|->|>=|<=|==|!=|\S"
)
_LISTS = ("needs", "params", "constants", "inputs")
MOST_APART = 12  # columns by which a comment is moved at most to stand below another one


class NotTheSame(Exception):
    """The layout would change the meaning: a mistake of ours; nothing is rewritten."""


def tidy(source: Source) -> str:
    """The text of a source in the canonical layout.

    Raises:
        NotTheSame: the result would not mean the same (the source is then left as it is).
    """
    text = source.text
    lines = text.split("\n")
    depth = _depths(source)
    made: list[str] = []
    previous_depth = 0
    for number, raw in enumerate(lines):
        code, comment = _split(raw)
        if not code.strip():
            made.append("" if not comment else _comment_line(comment, lines, number, depth))
            continue
        level = depth.get(number, 0)
        if level >= 0:
            previous_depth = level
            made.append(" " * (INDENT * level) + _spaced(code) + _behind(comment))
        else:  # a continuation: kept where it was, relative to its statement
            indent = max(INDENT * (previous_depth + 1), len(raw) - len(raw.lstrip()))
            made.append(" " * indent + _spaced(code) + _behind(comment))
    result = _blank_lines(_aligned_comments(_aligned_lists(made)))
    if _meaning(Source(source.name, result)) != _meaning(Source(source.name, text)):
        raise NotTheSame
    return result


def _depths(source: Source) -> dict[int, int]:
    """The depth of each line that begins a statement; -1 for lines that go on."""
    scratch = Source(source.name, source.text)
    found: dict[int, int] = {}

    def walk(lines: list[Line], depth: int) -> None:
        for line in lines:
            first = scratch.line_of(line.start) - 1
            last = scratch.line_of(line.start + max(0, len(line.text.rstrip()) - 1)) - 1
            found.update(dict.fromkeys(range(first + 1, last + 1), -1))
            found[first] = depth
            walk(line.children, depth + 1)

    walk(read_layout(scratch), 0)
    return found


def _split(raw: str) -> tuple[str, str]:
    """Code and comment of a line."""
    in_text = False
    for i, char in enumerate(raw):
        if char == '"':
            in_text = not in_text
        elif char == "#" and not in_text:
            return raw[:i], raw[i:].rstrip()
    return raw, ""


def _behind(comment: str) -> str:
    return f"  {_comment(comment)}" if comment else ""


def _comment(comment: str) -> str:
    return comment if comment.startswith(("# ", "#!")) or comment == "#" else f"# {comment[1:]}"


def _comment_line(comment: str, lines: list[str], number: int, depth: dict[int, int]) -> str:
    """A line with a comment alone stands as deep as the line it is for: the next one."""
    for following in range(number + 1, len(lines)):
        if depth.get(following, -1) >= 0:
            return " " * (INDENT * depth[following]) + _comment(comment)
    return _comment(comment)


def _spaced(code: str) -> str:
    """The tokens of a line with the blanks that belong between them."""
    found = list(_TOKEN.finditer(code))
    tokens = [m[0] for m in found]
    made, is_unit = "", False  # is_unit: in a compound unit that stands by itself, as behind `in`
    for i, token in enumerate(tokens):
        before = tokens[i - 1] if i else ""
        is_unit = before == "in" or (is_unit and found[i - 1].end() == found[i].start() and token != ",")
        is_apart = i and not (is_unit and before != "in") and not _is_tight(before, token, tokens[:i])
        made += (" " if is_apart else "") + _number(token)
    return made


def _number(token: str) -> str:
    """A number and its unit, one blank between them; per cent too."""
    match = re.fullmatch(r"(\d+(?:\.\d+)?(?:[eE][+-]?\d+)?) ?([A-Za-z%][^ ]*)", token)
    return f"{match[1]} {match[2]}" if match and match[2] not in words.RESERVED else token


def _is_tight(before: str, token: str, earlier: list[str]) -> bool:
    """True if no blank stands between two tokens."""
    if token in (",", ")", ".") or before in ("(", "."):
        return True
    if token == "(":
        return (
            before not in ("+", "-", "*", "/", "=", ",", "(", "^")
            and (before == "golden" or before not in words.RESERVED)  # a verb, and a value in formulas
            and bool(re.match(r"[a-z_]", before))
        )
    if token == "^" or before == "^":
        return True
    if before == "-":  # a sign, not a difference
        behind = earlier[-2] if len(earlier) > 1 else ""
        return not behind or behind in words.RESERVED or behind in (
            "=", "(", ",", "+", "-", "*", "/", "<", ">", ">=", "<=", "==", "!=", "+/-", "->",
        )  # fmt: skip
    return False


def _aligned_lists(lines: list[str]) -> list[str]:
    """The head, and the lists of needs and params, in columns."""
    made = list(lines)
    start = 0
    while start < len(made):
        first = made[start].split(" ")[0] if not made[start].startswith(" ") else made[start].strip()
        if first not in (*_LISTS, "sequence"):
            start += 1
            continue
        indent = len(made[start]) - len(made[start].lstrip()) + INDENT
        end = start + 1
        while end < len(made) and (not made[end].strip() or made[end].startswith(" " * indent)):
            end += 1
        rows = [i for i in range(start + 1, end) if _split(made[i])[0].strip()]
        if first == "sequence":
            _align(made, rows, r" (?=\S)", " ")
        else:
            _align(made, rows, r"\s*[:=]\s?", " : " if first == "needs" else " = ")
            _align(made, rows, r'\s+(?="[^"]*"$)', "  ")
        start = end
    return made


def _align(lines: list[str], rows: list[int], split: str, joint: str) -> None:
    """Splits the code of some lines in two and puts the second halves below one another."""
    halves = {}
    for i in rows:
        code, comment = _split(lines[i])
        indent = code[: len(code) - len(code.lstrip())]
        parts = re.split(split, code.strip(), maxsplit=1)
        if len(parts) == 2 and parts[0] and parts[1]:
            halves[i] = (indent + parts[0], parts[1], comment)
    width = max((len(head) for head, _, _ in halves.values()), default=0)
    for i, (head, rest, comment) in halves.items():
        lines[i] = f"{head:<{width}}{joint}{rest}" + (f"  {comment}" if comment else "")


def _aligned_comments(lines: list[str]) -> list[str]:
    """Comments behind lines that follow one another begin in the same column, where they are not far apart."""
    made = list(lines)
    start = 0
    while start < len(made):
        end = start
        while end < len(made) and _split(made[end])[0].strip() and _split(made[end])[1]:
            end += 1
        widths = [len(_split(made[i])[0].rstrip()) for i in range(start, end)]
        if widths and max(widths) - min(widths) <= MOST_APART:
            for i in range(start, end):
                code, comment = _split(made[i])
                made[i] = f"{code.rstrip():<{max(widths)}}  {comment}"
        start = max(end, start + 1)
    return made


def _blank_lines(lines: list[str]) -> str:
    """One empty line at most, and one before each block at the left margin (before its comment, if it has one)."""
    made: list[str] = []
    for i, line in enumerate(lines):
        if not line.strip():
            if made and made[-1]:
                made.append("")
            continue
        begins = not line.startswith(" ") and made and made[-1] and not made[-1].startswith("#")
        follows_use = line.startswith("use ") and made and made[-1].startswith("use ")
        if begins and not follows_use and (not line.startswith("#") or _heads_a_block(lines, i)):
            made.append("")
        made.append(line.rstrip())
    while made and not made[-1]:
        made.pop()
    while made and not made[0]:
        made.pop(0)
    return "\n".join(made) + "\n"


def _heads_a_block(lines: list[str], number: int) -> bool:
    following = next((line for line in lines[number + 1 :] if not line.startswith("#")), "")
    return bool(following) and not following.startswith(" ")


def _meaning(source: Source) -> list[object]:
    """The lines as trees of their tokens, comments and blanks left out, and the comments in their order."""
    comments = [_comment(c) for c in (_split(raw)[1] for raw in source.text.split("\n")) if c]
    scratch = Source(source.name, source.text)

    def tree(lines: list[Line]) -> list[object]:
        return [
            ("".join(_number(m[0]) + "\0" for m in _TOKEN.finditer(line.text)), tree(line.children)) for line in lines
        ]

    return [tree(read_layout(scratch)), comments]
