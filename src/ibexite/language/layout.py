"""Lines and blocks: indentation, comments, continuation. The output is a tree of logical lines.

What always holds: the text of a logical line is as long as the stretch of source it came from (comments and line ends
are blanked, not cut), so an offset within it plus its start is an offset in the source.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from ibexite.language.source import Source, Span
from ibexite.language.words import VERBS

INDENT = 4
MAX_DEPTH = 16
_FIRST_WORD = re.compile(r"\s*([A-Za-z_]\w*)")


@dataclass(slots=True)
class Line:
    """A logical line and the block below it."""

    start: int
    text: str
    depth: int
    is_broken: bool = False  # what is wrong with it was reported; it is not parsed
    children: list[Line] = field(default_factory=list)

    @property
    def span(self) -> Span:
        """Where the line stands, without trailing blanks."""
        return Span(self.start, self.start + len(self.text.rstrip()))

    @property
    def first_word(self) -> str:
        """The word a line begins with, "" if it begins with anything else."""
        match = _FIRST_WORD.match(self.text)
        return match[1] if match else ""


def read_layout(source: Source) -> list[Line]:
    """The top lines of a source with their blocks. Mistakes of layout are reported, and reading goes on."""
    root = Line(0, "", -1)
    open_blocks = [root]
    for line in _join(source, _physical_lines(source)):
        parent = open_blocks[-1]
        if line.depth > parent.depth + 1:
            _report_depth(source, line, parent)
            line.depth = parent.depth + 1
        while open_blocks[-1].depth >= line.depth:
            open_blocks.pop()
        if line.depth > MAX_DEPTH:
            source.report(line.span, "nested too deeply", "", f"Blocks may be nested {MAX_DEPTH} deep.")
            continue
        open_blocks[-1].children.append(line)
        open_blocks.append(line)
    return root.children


def _report_depth(source: Source, line: Line, parent: Line) -> None:
    wanted = (parent.depth + 1) * INDENT
    source.report(
        Span(line.start, line.start + 1),
        "indented too far",
        remedy=f"This line has {line.depth * INDENT} spaces before it; here at most {wanted} fit.",
    )


def _physical_lines(source: Source) -> list[Line]:
    """Lines with something on them, comments blanked; depth holds the number of spaces before the text."""
    lines = []
    offset = 0
    for raw in source.text.split("\n"):
        text, is_broken = _without_comment(source, raw, offset)
        stripped = text.lstrip(" ")
        if "\t" in text:
            _report_tab(source, text, offset)
            text = text.replace("\t", " ")
            stripped = text.lstrip(" ")
        if stripped.strip():
            indent = len(text) - len(stripped)
            spaces = indent if "\t" not in raw else len(raw[:indent].expandtabs(INDENT))
            lines.append(Line(offset + indent, stripped, spaces, is_broken=is_broken))
        offset += len(raw) + 1
    return lines


def _report_tab(source: Source, text: str, offset: int) -> None:
    at = offset + text.index("\t")
    source.report(
        Span(at, at + 1), "a tab", remedy="Indent with four spaces; set your editor to write spaces for tabs."
    )


def _without_comment(source: Source, raw: str, offset: int) -> tuple[str, bool]:
    """The line with its comment blanked; true if a text in it has no end (which is reported)."""
    opened = -1
    for i, char in enumerate(raw):
        if char == '"':
            opened = i if opened < 0 else -1
        elif char == "#" and opened < 0:
            return raw[:i] + " " * (len(raw) - i), False
    if opened < 0:
        return raw, False
    span = Span(offset + opened, offset + len(raw))
    source.report(span, "text without its end", remedy='A text stands between two " on one line.')
    return raw[:opened] + " " * (len(raw) - opened), True


def _join(source: Source, lines: list[Line]) -> list[Line]:
    """Joins continued lines; then the depth of each is checked and counted in steps of four spaces."""
    joined: list[Line] = []
    for line in lines:
        if joined and _goes_on(source, joined[-1], line):
            before = joined[-1]
            gap = line.start - (before.start + len(before.text))
            before.text += " " * gap + line.text
            continue
        joined.append(line)
    for line in joined:
        opened = _open_bracket(line.text)
        if opened >= 0:
            at = line.start + opened
            source.report(Span(at, at + 1), "a bracket that is never closed", remedy="Close it with ).")
            line.is_broken = True
        if line.depth % INDENT:
            source.report(
                Span(line.start, line.start + 1),
                "uneven indentation",
                remedy=f"This line has {line.depth} spaces before it; blocks are indented by four.",
            )
        line.depth = (line.depth + INDENT // 2) // INDENT
    return joined


def _goes_on(source: Source, before: Line, line: Line) -> bool:
    begins_with_verb = line.first_word in VERBS
    if _open_bracket(before.text) >= 0:
        return not begins_with_verb
    if not before.text.rstrip().endswith(","):
        return False
    if line.depth > before.depth and not begins_with_verb:
        return True
    end = before.start + len(before.text.rstrip())
    source.report(
        Span(end - 1, end),
        "a comma at the end of the line",
        remedy="Remove it, or indent the line that goes on deeper than the statement.",
    )
    before.text = before.text.rstrip()[:-1]
    return False


def _open_bracket(text: str) -> int:
    """The offset of the outermost bracket that is still open at the end; -1 if there is none."""
    opened: list[int] = []
    in_text = False
    for i, char in enumerate(text):
        if char == '"':
            in_text = not in_text
        elif in_text:
            continue
        elif char == "(":
            opened.append(i)
        elif char == ")" and opened:
            opened.pop()
    return opened[0] if opened else -1
