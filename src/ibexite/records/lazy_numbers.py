"""Series of numbers that are made or read when they are looked at."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, overload


class LazyNumbers(Sequence[float]):
    """A series of which a subclass says how long it is (`__len__`) and what stands at a place (`at`)."""

    def at(self, place: int) -> float:
        """The number at a place that there is."""
        raise NotImplementedError

    @overload
    def __getitem__(self, place: int) -> float: ...
    @overload
    def __getitem__(self, place: slice) -> Sequence[float]: ...
    def __getitem__(self, place: int | slice) -> float | Sequence[float]:
        if isinstance(place, slice):
            return [self.at(i) for i in range(len(self))[place]]
        return self.at(range(len(self))[place])  # which raises IndexError

    def array(self) -> Any:
        """All of them as a NumPy array, shape (n,)."""
        raise NotImplementedError

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Any:
        found = self.array()
        return found if dtype is None else found.astype(dtype)
