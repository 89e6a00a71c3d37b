"""Approving masks and limit tables, and telling which of a project are."""

from __future__ import annotations

import datetime
import hashlib
import re
from collections.abc import Iterator
from pathlib import Path

from ibexite.companions.approvals import Approval, approve, objection
from ibexite.companions.files import MASK_ENDS, MASKS
from ibexite.companions.sheet import MAX_BYTES
from ibexite.errors import MistakeError
from ibexite.language.source import read_source
from ibexite.plain_file import is_file, is_folder, is_there, read_plain

_LIMITS_LINE = re.compile(r'^\s+limits\s+"([^"]+)"', re.MULTILINE)


def approve_file(project: Path, path: Path, by: str, reason: str, now: datetime.datetime) -> Approval:
    """Approves a mask or a limit table.

    Raises:
        MistakeError: it is neither, or something in it is wrong.
    """
    if not is_file(path):
        raise MistakeError("there is no such file", where=str(path), remedy="See ibexite limits list.")
    if path.resolve().parent == (project / MASKS).resolve():
        from ibexite.companions.masks import read_mask

        read_mask(path, path.stem)
    else:
        from ibexite.companions.limits import read_limits

        read_limits(path).check()
    return approve(project, path, by, now.isoformat(timespec="seconds"), reason)


def standings(project: Path) -> Iterator[tuple[Path, str]]:
    """The masks of a project and the limit tables that its sequences name, and whether each is approved, in words.

    Raises:
        MistakeError: one of them, a sequence or approvals.toml cannot be read.
    """
    folder = project / MASKS
    found = [path for path in sorted(folder.iterdir()) if path.suffix in MASK_ENDS] if is_folder(folder) else []
    for sequence in sorted(project.glob("*.ibx")):
        for name in _LIMITS_LINE.findall(read_source(sequence).text):
            path = sequence.parent / name
            found += [path] if is_there(path) and path not in found else []
    for path in found:
        digest = hashlib.sha256(read_plain(path, what="mask or limit table", most=MAX_BYTES)).hexdigest()
        is_mask = path.parent == folder
        said = objection(project, path, digest, is_needed=is_mask) or (
            "approved" if not objection(project, path, digest) else "each row says who approved it"
        )
        yield path, said
