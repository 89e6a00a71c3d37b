"""What lines take from files of the project: the lines of masks."""

from __future__ import annotations

from ibexite.language.program import Program
from ibexite.untyped import Measured


class ProjectFiles:
    """The values of a program that lie in files, by kind (mask_low, mask_high; limits of a mask: low, high) and name;
    each made when it is first asked for."""

    def __init__(self, program: Program) -> None:
        self._program = program
        self._made: dict[tuple[str, str], Measured] = {}

    def __call__(self, kind: str, name: str) -> Measured:
        """The value."""
        key = (kind, name)
        if key not in self._made:
            self._made[key] = self._make(kind, name)
        return self._made[key]

    def _make(self, kind: str, name: str) -> Measured:
        from ibexite.analysis.masks import limit_of, line_of

        mask = self._program.masks[name]
        return line_of(mask, kind.removeprefix("mask_")) if kind.startswith("mask_") else limit_of(mask, kind)
