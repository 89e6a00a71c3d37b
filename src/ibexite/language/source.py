"""A source text with positions, and the findings made in it. How a finding looks is decided here and nowhere else."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass, field
from pathlib import Path

from ibexite.errors import MistakeError
from ibexite.frozen import frozen
from ibexite.plain_file import read_plain

MAX_BYTES = 1_000_000
MOST_SHOWN = 200  # characters of a line that are shown with a finding


@frozen
class Span:
    """A stretch of the source, as offsets from its start; `end` is the first offset behind it."""

    start: int
    end: int


@frozen
class Finding:
    """A finding at a place: what it is in a few words, and what to do. level: mistake, warning or note."""

    span: Span
    title: str
    mark: str = ""  # said beside the caret line
    remedy: str = ""
    level: str = "mistake"


@dataclass(slots=True)
class Source:
    """One file of the language: its name, its text, and what was found wrong in it."""

    name: str
    text: str
    findings: list[Finding] = field(default_factory=list)
    _starts: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._starts = [0] + [i + 1 for i, char in enumerate(self.text) if char == "\n"]

    def line_of(self, offset: int) -> int:
        """The line number, from 1, of an offset."""
        return bisect_right(self._starts, offset)

    def position(self, offset: int) -> tuple[int, int]:
        """Line and column, both from 1."""
        line = self.line_of(offset)
        return line, offset - self._starts[line - 1] + 1

    def line_text(self, line: int) -> str:
        """The text of a line, without its end."""
        start = self._starts[line - 1]
        end = self._starts[line] - 1 if line < len(self._starts) else len(self.text)
        return self.text[start:end].rstrip("\r")

    def report(self, span: Span, title: str, mark: str = "", remedy: str = "", *, level: str = "mistake") -> None:
        """Notes a finding; the same one twice counts once."""
        finding = Finding(span, title, mark, remedy, level)
        if not any(f.span == span and f.title == title for f in self.findings):
            self.findings.append(finding)

    @property
    def has_mistakes(self) -> bool:
        """True if any finding is more than a warning."""
        return any(f.level == "mistake" for f in self.findings)

    def sorted_findings(self) -> list[Finding]:
        """The findings in the order of the file."""
        return sorted(self.findings, key=lambda f: (f.span.start, f.title))

    def render(self, finding: Finding) -> str:
        """The text of a finding: place and title, the line with a caret mark, the remedy."""
        line, column = self.position(finding.span.start)
        text = self.line_text(line)
        width = max(1, min(finding.span.end - finding.span.start, len(text) - column + 1))
        text, place, width = _cut_out(text, column, width)
        number = f"{line:5d} | "
        label = "" if finding.level == "mistake" else f"{finding.level}: "
        mark = " " * (len(number) - 2) + "| " + " " * (place - 1) + "^" * width
        parts = [
            f"{self.name}:{line}:{column}: {label}{finding.title}",
            number + text,
            f"{mark} {finding.mark}".rstrip(),
            finding.remedy,
        ]
        return "\n".join(part for part in parts if part)

    def as_data(self, finding: Finding) -> dict[str, object]:
        """The finding for editors and programs (JSON)."""
        line, column = self.position(finding.span.start)
        end_line, end_column = self.position(finding.span.end)
        return {
            "file": self.name,
            "line": line,
            "column": column,
            "end_line": end_line,
            "end_column": end_column,
            "severity": finding.level,
            "title": finding.title,
            "mark": finding.mark,
            "remedy": finding.remedy,
        }


def _cut_out(text: str, column: int, width: int) -> tuple[str, int, int]:
    """Of a very long line the part around a mark; with it where the mark stands there, and how long it is."""
    if len(text) <= MOST_SHOWN:
        return text, column, width
    begin = max(0, min(column - 1 - MOST_SHOWN // 4, len(text) - MOST_SHOWN))
    part = text[begin : begin + MOST_SHOWN]
    part = ("…" + part[1:] if begin else part) + ("…" if begin + MOST_SHOWN < len(text) else "")
    place = column - begin
    return part, place, min(width, MOST_SHOWN - place + 1)


def read_source(path: str | Path) -> Source:
    """Reads a sequence file.

    Raises:
        MistakeError: the file is missing, a folder, over 1 MB, not UTF-8, binary or empty.
    """
    name = str(path)
    data = read_plain(Path(path), what="sequence", most=MAX_BYTES)
    return Source(name, decode_text(data, name))


def decode_text(data: bytes, name: str) -> str:
    """UTF-8 text without byte-order mark; refuses what is empty, binary, or in another encoding."""
    if b"\0" in data:
        raise MistakeError("this is a binary file, not text", where=name, remedy="A sequence is plain UTF-8 text.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise MistakeError(
            f"line {line} is not UTF-8 text (byte {data[error.start]:#04x})",
            where=name,
            remedy="Save the file as UTF-8.",
        ) from None
    if not text.strip():
        raise MistakeError(
            "the file is empty", where=name, remedy='A sequence begins with a line such as: sequence "FM-2 final test"'
        )
    return text.replace("\r\n", "\n")
