"""What simulated instruments that drive something share: one quantity of the world, switched on and off."""

from __future__ import annotations

import random
from collections.abc import Callable

from ibexite.protocols import scpi
from ibexite.protocols.scpi import Command, ScpiError
from ibexite.simulate.device import ScpiDevice, one_parameter, response_number
from ibexite.simulate.world import World

# Bits of the questionable status register (SCPI-1999 volume 1, 20.3.1): the quantity is not what was set.
VOLTAGE_QUESTIONABLE, CURRENT_QUESTIONABLE = 1, 2


class Stimulus(ScpiDevice):
    """What supply and load share: bounded numeric settings, and a status that says when they limit."""

    latched = 0

    def __init__(self, identity: str, name: str) -> None:
        super().__init__(identity, name)
        self.words: dict[str, str] = {}
        self.numbers: dict[str, float] = {}

    def setting(
        self, notation: str, unit: str, low: float, high: float, get: Callable[[], float], put: Callable[[float], None]
    ) -> None:
        """Adds a numeric setting that can be queried."""

        def write(command: Command, suffix: int) -> None:
            only_channel(suffix)
            put(scpi.number(one_parameter(command), unit, low, high))

        def query(command: Command, suffix: int) -> str:
            only_channel(suffix)
            bounds = {"MIN": low, "MAX": high}
            return response_number(bounds[command.parameters[0].upper()[:3]] if command.parameters else get())

        self.on(notation, write, query)

    def switch(self, notation: str, get: Callable[[], bool], put: Callable[[bool], None]) -> None:
        """Adds an on/off setting that can be queried."""

        def write(command: Command, suffix: int) -> None:
            only_channel(suffix)
            put(scpi.boolean(one_parameter(command)))

        self.on(notation, write, lambda c, n: str(int(get())))

    def choice(
        self, notation: str, words: tuple[str, ...], name: str, changed: Callable[[str], None] = lambda word: None
    ) -> None:
        """Adds a setting that takes one of some words, in the notation of the standard; the first one at first."""
        self.words[name] = words[0]
        patterns = [(scpi.header_pattern(word), word) for word in words]

        def write(command: Command, suffix: int) -> None:
            only_channel(suffix)
            text = one_parameter(command).upper()
            found = next((word for pattern, word in patterns if pattern.fullmatch(text)), None)
            if found is None:
                raise ScpiError(-224, text[:40])
            self.words[name] = found
            changed(found)

        def query(command: Command, suffix: int) -> str:
            only_channel(suffix)
            return "".join(letter for letter in self.words[name] if not letter.islower())

        self.on(notation, write, query)

    def kept(self, notation: str, unit: str, low: float, high: float, name: str, first: float) -> None:
        """Adds a numeric setting that changes nothing but what is answered."""
        self.numbers[name] = first
        self.setting(notation, unit, low, high, lambda: self.numbers[name], lambda v: self.numbers.update({name: v}))

    def kept_switch(self, notation: str, name: str) -> None:
        """Adds an on/off setting that changes nothing but what is answered."""
        self.numbers[name] = 0.0
        self.switch(notation, lambda: bool(self.numbers[name]), lambda value: self.numbers.update({name: float(value)}))

    def measures(self, world: World, terminal: str, *, voltage_noise: float, current_noise: float) -> None:
        """Adds the measurement of voltage and current at its terminals; noise is RMS, in V and A."""
        for node, quantity, noise in (("VOLTage", "voltage", voltage_noise), ("CURRent", "current", current_noise)):
            name = f"{terminal}_{quantity}"

            def query(
                command: Command, suffix: int, name: str = name, noise: float = noise, quantity: str = quantity
            ) -> str:
                preset = self.presets.take(quantity)
                return response_number(world.value(name) + random.gauss(0, noise) if preset is None else preset)

            self.on(f"MEASure#[:SCALar]:{node}[:DC]", query=query)

        def power(command: Command, suffix: int) -> str:
            preset = self.presets.take("power")
            product = world.value(f"{terminal}_voltage") * world.value(f"{terminal}_current")
            return response_number(product if preset is None else preset)

        self.on("MEASure#[:SCALar]:POWer[:DC]", query=power)

    def limits(self, condition: Callable[[], int]) -> None:
        """Adds the questionable register: its condition, and its events, which are cleared when read."""

        def take_events(command: Command, suffix: int) -> str:
            events, self.latched = self.latched | condition(), 0
            return str(events)

        self.on("STATus:QUEStionable:CONDition", query=lambda c, n: str(condition()))
        self.on("STATus:QUEStionable[:EVENt]", query=take_events)


def only_channel(suffix: int) -> None:
    """Refuses another channel than 1. Raises ScpiError."""
    if suffix != 1:
        raise ScpiError(-113, f"channel {suffix}")
