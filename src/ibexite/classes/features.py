"""What a class promises, as plain data."""

from __future__ import annotations

from ibexite.frozen import frozen
from ibexite.units import Dimension
from ibexite.values import Quantity, Type, YesNo


@frozen
class Argument:
    """What a reading may be told, such as its range: a number with a unit, on or off, or one of some choices."""

    unit: str  # as it is written in the class; "on_off" or "" for what has none
    dimension: Dimension | None
    choices: tuple[str, ...] = ()


@frozen
class Feature:
    """One setting or reading of a class: what its values are, and a line of help. A setting with `choices` takes one of
    these words. `axes` are those of a reading that gives a curve, with what is measured along them."""

    name: str
    unit: str  # as people write it; "on_off", "yes_no", "choice" or the kind where it is no quantity
    type: Type
    help: str
    axes: dict[str, Dimension] = {}  # never changed
    choices: tuple[str, ...] = ()
    arguments: dict[str, Argument] = {}  # never changed
    awaited: bool = False  # a set line ends when the instrument says that it is there

    @property
    def dimension(self) -> Dimension | None:
        """What is measured or set; None for what is no quantity."""
        return self.type.dimension if isinstance(self.type, Quantity) else None

    @property
    def is_switch(self) -> bool:
        """True for what is on or off, yes or no."""
        return isinstance(self.type, YesNo)

    @property
    def is_single(self) -> bool:
        """True for a reading that gives one number, or yes or no."""
        return not self.axes and (self.is_switch or self.dimension is not None)

    @property
    def told(self) -> str:
        """Its unit for people, with the axes of a curve, or its choices."""
        if self.choices:
            return ", ".join(self.choices)
        over = f" over {', '.join(self.axes)}" if self.axes else ""
        is_complex = isinstance(self.type, Quantity) and self.type.is_complex
        return self.unit.replace("_", " or ") + over + (", complex" if is_complex else "")


# What an instrument that plays samples has: its settings, and the action that starts it.
PLAYER = ("wave", "interval", "continuous", "offset", "amplitude")
ARBITRARY, START = "arbitrary", "trigger"
# And one that records meanwhile: its settings, and the action with which it waits for its trigger.
RECORDER = ("interval", "samples", "trigger")
ARM = "arm"


@frozen
class InstrumentClass:
    """A class of instrument; `switch` is the setting that applies its `levels` to the product ("" if it has none).
    `products` are bounds for two settings multiplied, each with a name and a dimension of its own."""

    name: str
    help: str
    settings: dict[str, Feature]
    readings: dict[str, Feature]
    actions: dict[str, str]  # with a line of help each
    switch: str = ""
    levels: tuple[str, ...] = ()
    products: dict[str, tuple[str, str]] = {}  # never changed
    files: tuple[tuple[str, str], ...] = ()  # of one that does not ship: path and SHA-256 of what it was read from
    protections: tuple[str, ...] = ()  # settings at which a protection trips
    plays: bool = False  # whether it plays samples: see PLAYER
    records: str = ""  # the reading that gives what was recorded while something was played: see RECORDER


def lines_of_use(known: InstrumentClass) -> list[str]:
    """Lines of a sequence, x being the role: for the first setting of each kind, the first reading, the first action of
    its own."""
    lines, seen = [], set[str]()
    for feature in known.settings.values():
        kind = "choice" if feature.choices else "switch" if feature.is_switch else "number"
        if kind not in seen:
            unit = "" if feature.unit == "number" else f" {feature.unit}"
            value = {"choice": f'"{(feature.choices or ("",))[0]}"', "switch": "on", "number": f"1{unit}"}[kind]
            lines.append(f"set x.{feature.name} = {value}")
            seen.add(kind)
    lines += [f"read now = x.{name}" for name in list(known.readings)[:1]]
    own = [name for name in known.actions if name not in ("reset", "clear")]
    return lines + [f"do x.{name}" for name in own[:1]]
