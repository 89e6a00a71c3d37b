"""How often relays were closed by hand: lines of a file beside the store, for no run speaks of them."""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping
from pathlib import Path

FILE = "relays_by_hand.jsonl"
Closings = dict[tuple[str, int], int]
"""How often relays have closed, by identity of their switch and channel."""


def note_closings(records: Path, closings: Mapping[tuple[str, int], int]) -> None:
    """Adds a line for each relay that has closed. Raises OSError: it cannot be written."""
    if not closings:
        return
    records.mkdir(parents=True, exist_ok=True)
    at = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    lines = [
        json.dumps({"at": at, "identity": identity, "channel": channel, "closed": times})
        for (identity, channel), times in closings.items()
    ]
    with (records / FILE).open("a", encoding="utf-8") as file:
        file.write("".join(line + "\n" for line in lines))


def noted_closings(records: Path) -> Closings:
    """All of them together. A line that was torn by a crash is passed over: it is one closing of very many."""
    found: Closings = {}
    try:
        lines = (records / FILE).read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return found
    for line in lines:
        try:
            entry = json.loads(line)
            key = (str(entry["identity"]), int(entry["channel"]))
            found[key] = found.get(key, 0) + int(entry["closed"])
        except (ValueError, KeyError, TypeError):
            continue
    return found
