"""What the simulated world and its products go by."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping

UNWIRED = "unwired"  # a channel that is connected to nothing: it reads 0
# What a level is where there is nothing: noise. In base units, by the unit in which it is told.
NO_LEVEL = {"dBm": -120.0, "dBW": -120.0, "dBV": -140.0, "dBu": -140.0, "dBuV": -140.0, "dBSPL": 0.0, "dBFS": -140.0}
ROOM = 296.15  # K; the air where nothing heats or cools it


def drawn(name: str, shares: Mapping[str, float]) -> str:
    """One of the keys (faults) for a name, each for its share of all names; "" for the rest. Always the same one."""
    place = int.from_bytes(hashlib.sha256(name.encode()).digest()[:4], "big") / 2**32
    for key, share in shares.items():
        if place < share:
            return key
        place -= share
    return ""
