"""The instrument classes: a contract of settings and readings with units, read from classes.toml.

Sequences are vetted against a class, profiles promise to fulfil it, the simulated instruments stand in for it.
"""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path

from ibexite.frozen import frozen
from ibexite.units import Dimension, parse_unit
from ibexite.untyped import Fields
from ibexite.values import YES_NO, Quantity, Type, Waveform


@frozen
class Feature:
    """One setting, reading or action of a class. dimension is None for on/off and yes/no; `axes` are those of a reading
    that gives a curve, with what is measured along them."""

    name: str
    unit: str
    dimension: Dimension | None
    help: str
    axes: dict[str, Dimension]

    @property
    def told(self) -> str:
        """Its unit for people, with the axes of a curve."""
        return f"{self.unit} over {', '.join(self.axes)}" if self.axes else self.unit

    @property
    def type(self) -> Type:
        """The type of its values."""
        if self.dimension is None:
            return YES_NO
        axes = tuple(self.axes)
        return (Waveform if axes == Waveform.AXES else Quantity)(axes, self.dimension)


@frozen
class InstrumentClass:
    """A class of instrument; `switch` is the setting that applies its `levels` to the product ("" if it has none)."""

    name: str
    help: str
    settings: dict[str, Feature]
    readings: dict[str, Feature]
    actions: dict[str, str]  # with a line of help each
    switch: str
    levels: tuple[str, ...]


_COMMON_ACTIONS = {
    "reset": "back into its known state, outputs off (IEEE 488.2 *RST)",
    "clear": "clears its error queue and status (IEEE 488.2 *CLS)",
}


def _feature(name: str, entry: Fields) -> Feature:
    unit = entry["unit"]
    dimension = None if unit in ("on_off", "yes_no") else parse_unit(unit).dimension
    axes = {axis: parse_unit(text).dimension for axis, text in entry.get("over", {}).items()}
    return Feature(name, unit, dimension, entry["help"], axes)


@cache
def instrument_classes() -> dict[str, InstrumentClass]:
    """All classes by name."""
    data = tomllib.loads(Path(__file__).with_name("classes.toml").read_text("utf-8"))
    return {
        name: InstrumentClass(
            name,
            entry["help"],
            {key: _feature(key, value) for key, value in entry["settings"].items()},
            {key: _feature(key, value) for key, value in entry["readings"].items()},
            {**_COMMON_ACTIONS, **entry.get("actions", {})},
            entry.get("switch", ""),
            tuple(entry.get("levels", ())),
        )
        for name, entry in data.items()
    }
