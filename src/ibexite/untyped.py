"""What the types of Python do not tell, under names that say what it is. Elsewhere `Any` stands only for what others
make: functions of any form, modules without types."""

from __future__ import annotations

from typing import Any

Fields = dict[str, Any]
"""The fields of something by their names, as JSON, TOML or SQL bring them: an event, a row of the store, a message.
Which there are, and of which kind, is told by events.py and records/description.py, or looked at where they come in."""

Bindings = dict[str, Any]
"""The names that generated code uses, with what they stand for: functions, numbers, parts of the frame."""

Measured = Any
"""A value of a sequence: a number, yes or no, a text, a curve of these, or a hole. Which one, and with which unit and
axes, the checker knows (ibexite.values); compiled code and the functions of formulas take it as it comes."""
