"""The control board of the FM-2 snow-depth gauge: battery input, switching regulator to 5 V, linear rail of 3.3 V.

A physical model, not a table: the losses of the regulator are those of its parts, and the input current follows from
the power balance. The serial number gives each unit its own small spread; some numbers are faulty, always alike.
"""

from __future__ import annotations

import random
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ibexite.simulate.nature import drawn
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.simulate.world import Source, Stimuli

SHUNT_IN, SHUNT_OUT = 0.10012, 0.04987  # ohm; the current shunts of the fixture
LOWEST_INPUT = 4.0  # V; below it the regulator stays off
FAULTS = {
    "short": 0.05,  # a cracked capacitor across the battery input
    "weak_inductor": 0.08,  # shorted turns: the losses rise with the load
    "low_rail": 0.06,  # a wrong resistor: the 3.3 V rail is too low
}


@dataclass(frozen=True, slots=True)
class _Parts:
    """The parts of one unit, in base SI units."""

    set_point: float  # V
    output_resistance: float  # ohm
    drop_out: float  # V at no load
    switch_resistance: float  # ohm
    diode: float  # V
    gate_charge: float  # A drawn from the input whenever it switches
    quiescent: float  # A drawn by the logic
    rail: float  # V
    leak: float  # S across the battery input
    input_capacitor: float  # F


def fault_of(serial: str) -> str:
    """The fault of a unit by its serial number, "" for a good one."""
    return drawn(f"fault {serial}", FAULTS)


def _parts_of(serial: str) -> _Parts:
    fault = fault_of(serial)
    spread = random.Random(f"FM-2 {serial}")
    weak = fault == "weak_inductor"
    return _Parts(
        set_point=5.02 * spread.gauss(1, 0.0025),
        output_resistance=0.031 * spread.gauss(1, 0.08),
        drop_out=0.22 * spread.gauss(1, 0.05),
        switch_resistance=(0.9 if weak else 0.29) * spread.gauss(1, 0.06),
        diode=0.21 * spread.gauss(1, 0.03),
        gate_charge=0.0042 * spread.gauss(1, 0.05),
        quiescent=0.0155 * spread.gauss(1, 0.04),
        rail=(3.171 if fault == "low_rail" else 3.302) * spread.gauss(1, 0.003),
        leak=1 / 1.63 if fault == "short" else 2e-6,
        input_capacitor=213e-6 * spread.gauss(1, 0.06),
    )


class Fm2ControlBoard:
    """One unit in the fixture. Terminals: battery (source), output (sink)."""

    terminals: Mapping[str, tuple[str, ...]] = {"source": ("battery",), "sink": ("output",)}
    derived: Fields = {}
    time_constants = {
        "battery_voltage": 2.1e-3,
        "battery_current": 2.4e-3,
        "battery_shunt": 2.4e-3,
        "output_voltage": 1.2e-3,
        "output_current": 1.1e-3,
        "output_shunt": 1.1e-3,
        "rail_3v3": 0.9e-3,
    }
    charging: Mapping[str, tuple[str, float]]

    def __init__(self, serial: str) -> None:
        self.parts = _parts_of(serial)
        farads = self.parts.input_capacitor
        self.charging = {
            "battery_current": ("battery_voltage", farads), "battery_shunt": ("battery_voltage", farads * SHUNT_IN),
        }  # fmt: skip

    def operating_point(self, stimuli: Stimuli) -> dict[str, float]:
        """Settled voltages in V; the shunts are read as the voltage across them."""
        source, sink = stimuli.source["battery"], stimuli.sink["output"]
        wanted = sink.current if sink.is_on else 0.0
        voltage = self._input_voltage(source, wanted)
        output, drawn = self._output(voltage, wanted)
        sink.is_starved = sink.is_on and drawn < wanted * 0.999
        current = self._input_current(voltage, wanted)
        rail = max(0.0, min(self.parts.rail, output - 0.15))
        return {
            "battery_voltage": voltage,
            "battery_current": current,
            "battery_shunt": current * SHUNT_IN,
            "output_voltage": output,
            "output_current": drawn,
            "output_shunt": drawn * SHUNT_OUT,
            "rail_3v3": rail,
        }

    def _input_voltage(self, source: Source, wanted: float) -> float:
        """The voltage that the source holds: its set point, or less where its current limit is reached."""
        source.is_limiting = False
        if not source.is_on:
            return 0.0
        if self._input_current(source.voltage, wanted) <= source.limit:
            return source.voltage
        source.is_limiting = True
        low, high = 0.0, source.voltage  # the lowest voltage at which the board takes all the source gives
        for step in range(1, 201):
            if self._input_current(source.voltage * step / 200, wanted) > source.limit:
                low, high = source.voltage * (step - 1) / 200, source.voltage * step / 200
                break
        for _ in range(50):
            middle = (low + high) / 2
            low, high = (low, middle) if self._input_current(middle, wanted) > source.limit else (middle, high)
        return low

    def _output(self, voltage: float, wanted: float) -> tuple[float, float]:
        """Output voltage in V and the current in A that really flows."""
        parts = self.parts
        if voltage < LOWEST_INPUT:
            return 0.0, 0.0
        regulated = parts.set_point - parts.output_resistance * wanted
        passed = voltage - parts.drop_out - parts.switch_resistance * wanted
        output = min(regulated, passed)
        return (output, wanted) if output > 0.5 else (0.0, 0.0)

    def _input_current(self, voltage: float, wanted: float) -> float:
        parts = self.parts
        leak = voltage * parts.leak
        if voltage < LOWEST_INPUT:
            return leak
        output, drawn = self._output(voltage, wanted)
        duty = min(1.0, output / voltage)
        loss = (
            parts.switch_resistance * drawn**2 * duty
            + parts.diode * drawn * (1 - duty)
            + parts.gate_charge * voltage * voltage / 9.0
            + 0.012 * drawn * voltage / 9.0
        )
        return leak + parts.quiescent + (output * drawn + loss) / voltage
