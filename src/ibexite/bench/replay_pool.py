"""Instruments that say what they said in a run."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from ibexite.bench.entries import InstrumentEntry
from ibexite.bench.lock import AddressLocks
from ibexite.bench.pool import Pool, options_for
from ibexite.instruments.link import Link
from ibexite.instruments.recorded import Recorded, Whole
from ibexite.instruments.replayed_link import ReplayedLink


class ReplayPool(Pool):
    """Instruments that say what they said then."""

    def __init__(self, recorded: Recorded, whole: Whole) -> None:
        super().__init__()
        self.locks = NoLocks()
        self._recorded, self._whole = recorded, whole

    def _opened(self, fact: InstrumentEntry, heed: Callable[[], None]) -> Link:
        link = ReplayedLink(fact.address, options_for(fact, heed), self._recorded, self._whole)
        link.open()
        return link


class NoLocks(AddressLocks):
    """Nobody is kept away: nothing is connected."""

    def take(self, addresses: Iterable[tuple[str, str]], holder: str) -> None:
        """Nothing is taken."""

    def release(self, name: str) -> None:
        """Nothing was."""
