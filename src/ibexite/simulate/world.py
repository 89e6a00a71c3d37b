"""The physical world behind the simulated instruments: sources and loads at the terminals of one product.

Each change gives a new operating point; the quantities approach it exponentially, each with its own time constant,
so that a reading taken too early is wrong, as on a real bench.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol


@dataclass(slots=True)
class Source:
    """What a power supply applies to a terminal."""

    voltage: float = 0.0
    limit: float = 0.0
    is_on: bool = False
    is_limiting: bool = False


@dataclass(slots=True)
class Sink:
    """What an electronic load draws from a terminal."""

    current: float = 0.0
    is_on: bool = False
    is_starved: bool = False


class Product(Protocol):
    """A product model: terminals that are fed and loaded, and quantities that can be measured."""

    @property
    def source_terminals(self) -> tuple[str, ...]:
        """Where power supplies are connected."""

    @property
    def sink_terminals(self) -> tuple[str, ...]:
        """Where loads are connected."""

    # A terminal x has the quantities x_voltage and x_current.
    time_constants: dict[str, float]  # of each measurable quantity, in s

    def operating_point(self, sources: dict[str, Source], sinks: dict[str, Sink]) -> dict[str, float]:
        """The settled value of each quantity, in base SI units; marks sources that limit and sinks that starve."""


class World:
    """One product with what is connected to it."""

    def __init__(self, product: Product, clock: Callable[[], float]) -> None:
        self.product = product
        self.clock = clock
        self.sources = {terminal: Source() for terminal in product.source_terminals}
        self.sinks = {terminal: Sink() for terminal in product.sink_terminals}
        self._since = clock()
        self._from = dict.fromkeys(product.time_constants, 0.0)
        self._target = dict(self._from)
        self._target.update(product.operating_point(self.sources, self.sinks))

    def changed(self) -> None:
        """To be called after a source or sink was changed: from now on the quantities move to the new point."""
        now = self.clock()
        self._from = {name: self.value(name) for name in self._target}
        self._since = now
        self._target = self.product.operating_point(self.sources, self.sinks)

    def value(self, name: str) -> float:
        """The present value of a quantity, in base SI units."""
        target = self._target[name]
        elapsed = self.clock() - self._since
        return target + (self._from[name] - target) * math.exp(-elapsed / self.product.time_constants[name])
