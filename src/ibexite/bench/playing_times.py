"""How long is recorded around a stimulus, and what begins it; read by those who only tell of it as well."""

from __future__ import annotations

import math
from collections.abc import Mapping

from ibexite.bench.entries import RoleEntry
from ibexite.stimulus import Stimulus

TAIL = 0.05  # s behind the end of a stimulus
LEAD = 0.25  # s more, where nobody knows when it begins


def begins_by_trigger(roles: Mapping[str, RoleEntry], recorder: str, player: str) -> bool:
    """Whether a recorder is started by what is played: by a line between them, or because it is the same instrument."""
    entry = roles[recorder]
    return entry.triggered_by == player or entry.instrument == roles[player].instrument


def recorded_samples(stimulus: Stimulus, *, by_trigger: bool) -> int:
    """How many samples are recorded around a stimulus."""
    return math.ceil(((0.0 if by_trigger else LEAD) + stimulus.seconds + TAIL) * stimulus.rate)
