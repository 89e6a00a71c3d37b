"""Who has approved which file of a project: masks, limit tables, references. They are kept in approvals.toml with the
hash of what was approved, so that a file that was edited since is told from it."""

from __future__ import annotations

import hashlib
from pathlib import Path

from ibexite.errors import MistakeError
from ibexite.file_lock import append_whole
from ibexite.frozen import frozen
from ibexite.plain_file import cannot_write, is_there
from ibexite.toml_reader import quoted, read_toml

FILE_NAME = "approvals.toml"
_HEAD = "# Who has approved which file of this project, as it was then: ibexite limits approve, golden approve.\n"


@frozen
class Approval:
    """An approval of a file as it was."""

    file: str  # its path from the folder of the project
    sha256: str
    by: str
    when: str  # wall time, ISO 8601
    reason: str


def read_approvals(project: Path) -> list[Approval]:
    """All approvals of a project, in the order in which they were given. Raises MistakeError."""
    path = project / FILE_NAME
    if not is_there(path):
        return []
    table = read_toml(path, what="file of approvals")
    found = []
    for entry in table.list_of_tables("approved"):
        texts = [entry.text(key) for key in ("file", "sha256", "by", "when", "reason")]
        entry.finish()
        found.append(Approval(*texts))
    table.finish()
    return found


def approve(project: Path, path: Path, by: str, when: str, reason: str) -> Approval:
    """Adds the approval of a file.

    Raises:
        MistakeError: it lies outside of the project, nobody is named, approvals.toml is wrong or cannot be
            written.
    """
    if not by.strip() or not reason.strip():
        what = "nobody is named" if not by.strip() else "there is no reason"
        raise MistakeError(what, where="approve", remedy='Write: --by "NAME" --reason "WHY"')
    read_approvals(project)  # what is wrong with it is told before it is written
    name = _from_project(project, path)
    made = Approval(name, hashlib.sha256(path.read_bytes()).hexdigest(), by.strip(), when, reason.strip())
    keys = ("file", "sha256", "by", "when", "reason")
    text = "\n[[approved]]\n" + "".join(f"{key} = {quoted(getattr(made, key))}\n" for key in keys)
    try:
        append_whole(project / FILE_NAME, text, head=_HEAD)
    except OSError as error:
        raise cannot_write(project / FILE_NAME, error) from None
    return made


def _from_project(project: Path, path: Path) -> str:
    try:
        return path.resolve().relative_to(project.resolve()).as_posix()
    except ValueError:
        raise MistakeError(
            "it does not lie in the project", where=str(path), remedy=f"Files in {project} can be approved."
        ) from None


def objection(project: Path, path: Path, sha256: str, *, is_needed: bool = True) -> str:
    """Why a file does not count as approved, in words; "" if the last approval of it is of what it is now.

    Args:
        sha256: of the file as it is used.
        is_needed: False if a file that nobody has ever approved has no objection.

    Raises:
        MistakeError: approvals.toml is wrong.
    """
    name = _from_project(project, path)
    mine = [approval for approval in read_approvals(project) if approval.file == name]
    if not mine:
        return "nobody has approved it" if is_needed else ""
    last = mine[-1]
    return "" if last.sha256 == sha256 else f"edited since {last.by} approved it on {last.when[:10]}"
