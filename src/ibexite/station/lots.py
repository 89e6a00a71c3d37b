"""What has changed since a lot began: its units were then not tested alike."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from ibexite.verdicts import Reason

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.language.program import Program
    from ibexite.records.store import Store


def changed_since_begin(store: Store, lot: str, program: Program, bench: BenchFile) -> tuple[Reason, ...]:
    """Why a run in a lot is a trial: what is otherwise than in the first run of the same sequence in that lot."""
    if not lot:
        return ()
    first = store.first_of_lot(lot, program.sequence.title)
    if first is None:
        return ()
    from ibexite.station.merging import changes_since

    row = first | {"files": json.loads(first["files"]), "params": []}
    return tuple(
        Reason("lot", f"changed since lot {lot} began (run {first['id']}): {change}")
        for change in changes_since(row, program, bench, of_unit=False)
    )
