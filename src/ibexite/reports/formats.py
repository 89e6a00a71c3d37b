"""The formats of a report: by the suffix of its file. A further one is a module with `render(report) -> str`, and its
line here."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import NamedTuple

from ibexite.errors import MistakeError, RecordsError
from ibexite.plain_file import written_whole
from ibexite.records.stored_run import RunRecord


class ReportFormat(NamedTuple):
    """A format: the suffixes of its files, the module that renders it, and what it is for."""

    suffixes: tuple[str, ...]
    module: str
    help: str


FORMATS: dict[str, ReportFormat] = {
    "html": ReportFormat((".html", ".htm"), "ibexite.reports.html", "one self-contained page with figures"),
    "text": ReportFormat((".txt",), "ibexite.reports.text", "plain lines, for mail and print"),
}
SUFFIX = FORMATS["html"].suffixes[0]  # of a report that nobody named


def format_of(path: Path) -> ReportFormat:
    """The format of a file by its suffix.

    Raises:
        MistakeError: there is none.
    """
    for known in FORMATS.values():
        if path.suffix.lower() in known.suffixes:
            return known
    endings = " or ".join(known.suffixes[0] for known in FORMATS.values())
    raise MistakeError(
        f"{str(path)!r} is no name for a report", where="--out", remedy=f"Let it end in {endings}."
    )  # fmt: skip


def write_report(run: RunRecord, path: Path) -> None:
    """Writes the report in the format of its suffix; no half report is ever left.

    Raises:
        MistakeError: a suffix of no format.
        RecordsError: the file cannot be written.
    """
    from ibexite.reports.gathering import gather

    text = import_module(format_of(path).module).render(gather(run))
    try:
        with written_whole(path) as side:
            side.write_text(text, encoding="utf-8")
    except OSError as error:
        raise RecordsError(
            f"the report cannot be written ({error.strerror})",
            where=str(path),
            remedy="The run is stored; write it with: ibexite report RUN --out FILE",
        ) from None
