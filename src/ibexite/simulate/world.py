"""The physical world behind the simulated instruments: what is applied to the terminals of one product.

Each change gives a new operating point; the quantities approach it exponentially, each with its own time constant,
so that a reading taken too early is wrong, as on a real bench.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Protocol

from ibexite.simulate.nature import ROOM, UNWIRED
from ibexite.simulate.past import Course, values_at


@dataclass(slots=True)
class Source:
    """What a power supply applies to a terminal."""

    voltage: float = 0.0
    limit: float = 0.0
    is_on: bool = False
    is_limiting: bool = False


@dataclass(slots=True)
class Sink:
    """What an electronic load draws from a terminal: `current` in that mode; in the others as much as makes the
    voltage, the resistance or the power so."""

    current: float = 0.0
    is_on: bool = False
    is_starved: bool = False
    mode: str = "current"
    voltage: float = 60.0
    resistance: float = 10e3
    power: float = 0.0

    MOST: ClassVar[float] = 4.5  # A

    def excess(self, voltage: float, current: float) -> float:
        """By how much a current is too large for what it holds, in any unit; it rises with the current."""
        if self.mode == "resistance":
            return current * self.resistance - voltage
        return current * voltage - self.power if self.mode == "power" else self.voltage - voltage


@dataclass(slots=True)
class Tone:
    """What a function generator applies: a sine (Hz, V (half of peak to peak), V), or samples as shares of the
    amplitude, which are played once from `started` on, in s of the clock; None before that."""

    frequency: float = 1e3
    amplitude: float = 0.0
    offset: float = 0.0
    is_on: bool = False
    samples: Any = None
    interval: float = 1e-6  # s
    started: float | None = None


@dataclass(slots=True)
class Carrier:
    """The sine that a signal generator applies: Hz, dBm."""

    frequency: float = 1e6
    level: float = -120.0
    is_on: bool = False


@dataclass(slots=True)
class Climate:
    """What a temperature chamber does to the air around the product, in K."""

    temperature: float = 296.15
    is_on: bool = False


KINDS: dict[str, type] = {
    "source": Source, "sink": Sink, "tone": Tone, "carrier": Carrier, "climate": Climate, "settings": dict,
}  # fmt: skip


@dataclass(slots=True)
class Stimuli:
    """All that is applied, by kind and terminal."""

    source: dict[str, Source] = field(default_factory=dict)
    sink: dict[str, Sink] = field(default_factory=dict)
    tone: dict[str, Tone] = field(default_factory=dict)
    carrier: dict[str, Carrier] = field(default_factory=dict)
    climate: dict[str, Climate] = field(default_factory=dict)
    settings: dict[str, dict[str, float | str]] = field(default_factory=dict)  # of any other instrument, by their names


class Product(Protocol):
    """A product model: terminals to which stimuli are applied, and quantities that can be measured.

    A source or sink terminal x has the quantities x_voltage and x_current. It may also have:

    things: names of what else instruments are wired to.
    parts(name, reading, time): a text, or what has several parts, of a terminal or thing; None where it has none.
    curve(name, reading, axes, stimuli, time): values at all points of the axes (base units), the last running first.
    charging: of currents that fill capacitors as well the voltage across them, and the size in F.
    record(name, stimuli, begin, step, count): an array of what is sampled from a time of the clock on, in s.
    triggers(name, stimuli): whether what an instrument is wired to triggers it from outside.
    """

    @property
    def terminals(self) -> Mapping[str, tuple[str, ...]]:
        """The terminals of each kind of stimulus."""

    time_constants: dict[str, float]  # of each quantity that settles, in s

    def operating_point(self, stimuli: Stimuli) -> dict[str, float]:
        """The settled value of each quantity, in base SI units; marks sources that limit and sinks that starve."""

    @property
    def derived(self) -> Mapping[str, Callable[[Callable[[str], float]], float]]:
        """Quantities that follow at once from those that settle: functions that are given a look-up of their values."""


MOST_PAST = 2_000  # changes that are remembered, for whoever asks later what was then


class World:
    """One product with what is connected to it."""

    def __init__(self, product: Product, clock: Callable[[], float]) -> None:
        self.product = product
        self.clock = clock
        self.stimuli = Stimuli()
        for kind, terminals in product.terminals.items():
            getattr(self.stimuli, kind).update({terminal: KINDS[kind]() for terminal in terminals})
        self._relays: dict[str, dict[tuple[str, int], bool]] = {}  # closed or open, by what they connect
        self._alone: dict[str, Callable[[], float]] = {}
        self._since = clock()
        first = product.operating_point(self.stimuli)
        self._from = dict(first)
        self._target = first
        self._past: deque[Course] = deque(maxlen=MOST_PAST)

    @property
    def _present(self) -> Course:
        return Course(self._since, self._from, self._target)

    def connect(self, kind: str, terminal: str) -> None:
        """Adds a terminal that the product does not have: an instrument that is connected to nothing."""
        stimulus = KINDS[kind]()
        getattr(self.stimuli, kind)[terminal] = stimulus
        self._alone |= {
            f"{terminal}_voltage": lambda: stimulus.voltage if getattr(stimulus, "is_on", False) else 0.0,
            f"{terminal}_current": lambda: 0.0,
            f"{terminal}_temperature": lambda: stimulus.temperature if stimulus.is_on else ROOM,
        }

    def stimulus(self, kind: str, terminal: str) -> Any:
        """What is applied to a terminal."""
        return getattr(self.stimuli, kind)[terminal]

    def changed(self) -> None:
        """To be called after a stimulus was changed: from now on the quantities move to the new point."""
        now = self.clock()
        self._past.append(self._present)
        self._from = {name: self.value(name) for name in self._target}
        self._since = now
        self._target = self._operating_point()

    def wire_relay(self, name: str, relay: tuple[str, int], *, is_closed: bool) -> None:
        """A relay lies between an instrument and a terminal or a quantity: of several to the same one will do."""
        self._relays.setdefault(name, {})[relay] = is_closed
        self.changed()

    def is_cut(self, name: str) -> bool:
        """Whether what stands for a name is behind an open relay."""
        return name in self._relays and not any(self._relays[name].values())

    def _operating_point(self) -> dict[str, float]:
        """That of the product, as what is behind open relays were off."""
        cut = [s for kind in ("source", "sink", "tone", "carrier", "climate")
               for name, s in getattr(self.stimuli, kind).items() if self.is_cut(name) and s.is_on]  # fmt: skip
        for stimulus in cut:
            stimulus.is_on = False
        try:
            return self._with_modes()
        finally:
            for stimulus in cut:
                stimulus.is_on = True

    def _with_modes(self) -> dict[str, float]:
        """That of the product, with each load drawing as much as its mode wants."""
        point = self.product.operating_point(self.stimuli)
        for terminal, sink in self.stimuli.sink.items():
            if sink.is_on and sink.mode != "current" and f"{terminal}_voltage" in point:
                point = self._held(sink, terminal)
        return point

    def _held(self, sink: Sink, terminal: str) -> dict[str, float]:
        wanted, (low, high) = sink.current, (0.0, sink.MOST)
        for _ in range(40):
            sink.current = (low + high) / 2
            point = self.product.operating_point(self.stimuli)
            is_too_much = sink.excess(point[f"{terminal}_voltage"], sink.current) > 0
            low, high = (low, sink.current) if is_too_much else (sink.current, high)
        sink.current = wanted
        return point

    def settled(self, name: str) -> float:
        """The value that a quantity moves to; 0 for one that the product does not have."""
        return self._target.get(name, 0.0)

    def value(self, name: str) -> float:
        """The present value of a quantity, in base SI units."""
        if name.startswith(UNWIRED) or self.is_cut(name):
            return 0.0
        if name in self._alone:
            return self._alone[name]()
        if name not in self._target:
            return self.product.derived[name](self.value)
        target = self._target[name]
        elapsed = self.clock() - self._since
        return target + (self._from[name] - target) * math.exp(-elapsed / self.product.time_constants[name])

    def parts(self, name: str, reading: str) -> object:
        """What has several parts, such as the `wires` that a tester of connections reads of a thing of the product, as
        programs give them; None where the product has no such thing."""
        made = getattr(self.product, "parts", None)
        if made is None or name.startswith(UNWIRED) or self.is_cut(name):
            return None
        return made(name, reading, self.clock())

    def curve(self, name: str, reading: str, axes: Mapping[str, Sequence[float]]) -> Sequence[complex] | None:
        """A curve that an instrument reads of a thing of the product, at the points of its axes in base units, the last
        axis running first; None where the product has no such thing."""
        made = getattr(self.product, "curve", None)
        if made is None or name.startswith(UNWIRED) or self.is_cut(name):
            return None
        found: Sequence[complex] | None = made(name, reading, axes, self.stimuli, self.clock())
        return found

    def record(self, name: str, begin: float, step: float, count: int) -> Any:
        """What an instrument samples of a thing of the product, evenly from a time of the clock on, in s: an array of
        shape (count,); None where the product has no such thing."""
        if name.startswith(UNWIRED) or self.is_cut(name):
            return None
        made = getattr(self.product, "record", None)
        found = None if made is None else made(name, self.stimuli, begin, step, count)
        if found is None and (name in self._target or name in self.product.derived):
            found = values_at(self.product, [*self._past, self._present], name, begin, step, count)
        return found

    def played_since(self) -> float | None:
        """When the last wave of samples was started, in s of the clock; None if none was."""
        starts = [tone.started for tone in self.stimuli.tone.values() if tone.started is not None]
        return max(starts, default=None)

    def triggers(self, name: str) -> bool:
        """Whether the product, or what is applied to it, triggers an instrument that is wired to a thing of it; one
        that is wired to nothing, or to a product that knows of no triggers, always is."""
        made = getattr(self.product, "triggers", None)
        if self.is_cut(name):
            return False
        return made is None or name.startswith(UNWIRED) or bool(made(name, self.stimuli))

    def quantities(self) -> tuple[str, ...]:
        """All that can be measured."""
        return (*self.product.time_constants, *self.product.derived)
