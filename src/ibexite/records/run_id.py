"""Run ids: unique over stations, sorted by time, short enough to be typed."""

from __future__ import annotations

import datetime
import secrets

_LETTERS = "0123456789abcdefghjkmnpqrstvwxyz"  # without i, l, o, u


def new_run_id(now: datetime.datetime) -> str:
    """A new id such as 20261123-071502-4k9fq2: UTC date and time, then 30 random bits."""
    tail = "".join(secrets.choice(_LETTERS) for _ in range(6))
    return f"{now.astimezone(datetime.UTC):%Y%m%d-%H%M%S}-{tail}"
