"""How long is recorded around a stimulus; read by those who only tell of it as well."""

from __future__ import annotations

TAIL = 0.05  # s behind the end of a stimulus
LEAD = 0.25  # s more, where nobody knows when it begins
