"""What an instrument of a class applies to the product, and what it measures of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ibexite.simulate.nature import UNWIRED
from ibexite.simulate.plan import STIMULUS, SWITCH
from ibexite.simulate.world import World

# Which settings of a class are which parts of what is applied to a terminal.
RELAY = "closed"  # the setting of a switch that closes the relay of a channel
_PARTS = {
    "source": {"voltage": "voltage", "current_limit": "limit", "output": "is_on"},
    "sink": {"current": "current", "input": "is_on"},
    "tone": {"frequency": "frequency", "amplitude": "amplitude", "offset": "offset", "output": "is_on"},
    "carrier": {"frequency": "frequency", "level": "level", "output": "is_on"},
    "climate": {"temperature": "temperature", "output": "is_on"},
}


class Applied:
    """Of one instrument: its settings go to the terminals that its channels are wired to, its readings come from there.

    Args:
        wiring: terminals of the product, or quantities that are measured, by channel.
        value: gives the present value of a setting of a channel; None where there is no such setting.
        switch: the setting that connects its terminals, "" where it has none.
        name: that of the instrument: the relays of two switches are others.
    """

    def __init__(
        self, class_name: str, world: World, wiring: dict[int, str], value: Callable[[str, int], float | str | None],
        switch: str, name: str = "",
    ) -> None:  # fmt: skip
        self._world, self._wiring, self._value, self._switch, self._name = world, wiring, value, switch, name
        self._kind, self._class_name = STIMULUS.get(class_name, ""), class_name
        self._touched: set[tuple[str, int]] = set()
        for channel in wiring if class_name == SWITCH else ():
            self.changed(RELAY, channel)

    def _stimulus(self, channel: int) -> Any:
        terminal = self._wiring.get(channel)
        if not self._kind or terminal is None or terminal.startswith(UNWIRED):
            return None
        return self._world.stimulus(self._kind, terminal)

    def changed(self, name: str, channel: int) -> None:
        """A setting was set."""
        self._touched.add((name, channel))
        if self._class_name == SWITCH and name == RELAY and channel in self._wiring:
            is_closed = bool(self._value(name, channel))
            self._world.wire_relay(self._wiring[channel], (self._name, channel), is_closed=is_closed)
        everything = self._world.stimuli.settings.get(self._wiring.get(channel, ""))
        value = self._value(name, channel)
        if everything is not None and value is not None:
            everything[name] = value
            self._world.changed()
        part = _PARTS.get(self._kind, {}).get(name)
        stimulus = self._stimulus(channel)
        if part is None or stimulus is None:
            return
        setattr(stimulus, part, bool(value) if part == "is_on" else value)
        self._world.changed()

    def play(self, samples: Sequence[float] | None, value: Callable[[str, int], float | str | None]) -> None:
        """Plays samples once, if it is on and set to do so."""
        stimulus = self._stimulus(1)
        if self._kind != "tone" or stimulus is None or samples is None or not stimulus.is_on:
            return
        interval = value("interval", 1)
        if value("wave", 1) == "arbitrary" and not value("continuous", 1) and isinstance(interval, float):
            stimulus.samples, stimulus.interval, stimulus.started = samples, interval, self._world.clock()

    def reset(self) -> None:
        """All settings are as at first."""
        for name, channel in sorted(self._touched):
            self.changed(name, channel)
        self._touched.clear()

    def measured(self, name: str, channel: int, idle: float = 0.0, nothing: float = 0.0) -> float:
        """The present value of a reading: of the terminal or quantity that its channel is wired to, else of the setting
        of the same name while that is switched on, else `idle`; `nothing` behind an open relay."""
        target = self._wiring.get(channel)
        if target is not None and not target.startswith(UNWIRED):
            if self._world.is_cut(target):
                return nothing
            known = self._world.quantities()
            for quantity in (f"{target}_{name}", target):
                if quantity in known:
                    return self._world.value(quantity)
        return self._alone(name, channel, idle)

    def _alone(self, name: str, channel: int, idle: float) -> float:
        value = self._value(name, channel)
        is_on = not self._switch or bool(self._value(self._switch, channel))
        return float(value) if is_on and value is not None and not isinstance(value, str) else idle
