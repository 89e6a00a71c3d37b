"""A product by its model (ibexite.station.product_model): values of the unit, and code for what can be measured."""

from __future__ import annotations

import importlib
import random
from collections.abc import Callable, Mapping
from functools import partial
from typing import TYPE_CHECKING, Any

from ibexite.analysis.single_values import ARITHMETIC
from ibexite.holes import decide
from ibexite.simulate.nature import ROOM, drawn
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.simulate.world import Source, Stimuli

STEPS = 100  # in which the voltage of a source that limits is looked for
NO_LEVEL = -200.0  # dBm, of a source that is off
Look = Callable[[str], float]


class DescribedProduct:
    """One unit. A quantity with a time constant approaches its value; the others follow at once from all that is."""

    def __init__(self, model: Fields, serial: str) -> None:
        self._model = model
        self.values = _values_of(model, serial)
        self._code = {name: compile(code, f"<{name}>", "eval") for name, code in model["formulas"].items()}
        self._bound = ARITHMETIC | {"logic": decide, **_functions(model["used"])}
        self._applied: dict[str, Any] = {}
        self._names = {name: name.replace(".", "_") for name in self._code}
        self.time_constants = {self._names[name]: seconds for name, seconds in model["settling"].items()}

    @property
    def things(self) -> tuple[str, ...]:
        """What a tester of connections is wired to."""
        return tuple(self._model["connections"])

    def parts(self, name: str, reading: str, time: float) -> object:
        """The connections that a tester finds."""
        told = self._model["connections"].get(name)
        if told is None or reading != "wires":
            return None
        names = {_variable(key): value for key, value in (*self.values.items(), *self._applied.items())}
        names |= {_variable(key): value for key, value in self._evaluated({}).items()}
        found: dict[str, Any] = {"nets": told["alone"]} if told["alone"] else {}
        for kind, pairs in told.items():
            if kind != "alone" and pairs:
                found[kind] = [[a, b, float(eval(code, {**self._bound, **names}))] for a, b, code in pairs]
        return found or {"nets": []}

    @property
    def terminals(self) -> Mapping[str, tuple[str, ...]]:
        """The terminals of each kind of stimulus."""
        kinds: dict[str, tuple[str, ...]] = {}
        for name, kind in self._model["terminals"].items():
            kind = kind.partition(" ")[0]
            kinds[kind] = (*kinds.get(kind, ()), name)
        return kinds

    @property
    def derived(self) -> Mapping[str, Callable[[Look], float]]:
        """What follows at once from what settles and from what is applied."""
        at_once = [name for name in self._code if self._names[name] not in self.time_constants]
        applied = [name for name, value in self._model["defaults"].items() if not isinstance(value, str)]
        return {name.replace(".", "_"): partial(self._now, name) for name in (*at_once, *applied)}

    def _now(self, name: str, value: Look) -> float:
        known = {one: value(two) for one, two in self._names.items() if two in self.time_constants}
        return float(self._applied[name] if name in self._applied else self._evaluated(known, name)[name])

    def operating_point(self, stimuli: Stimuli) -> dict[str, float]:
        """The settled values; a source whose current would be above its limit gives less voltage."""
        self._applied = _applied(self._model, stimuli)
        point = self._evaluated({})
        for terminal, source in stimuli.source.items():
            if f"{terminal}.current" in point:
                point = self._limited(terminal, source, point)
        for terminal, sink in stimuli.sink.items():
            voltage = point.get(f"{terminal}.voltage")
            sink.is_starved = bool(sink.is_on and sink.current > 0 and voltage is not None and voltage <= 0)
        return {self._names[name]: point[name] for name in self._code if self._names[name] in self.time_constants}

    def _limited(self, terminal: str, source: Source, point: dict[str, float]) -> dict[str, float]:
        key, current = f"{terminal}.voltage", f"{terminal}.current"
        source.is_limiting = bool(source.is_on and point[current] > source.limit)
        if not source.is_limiting:
            return point
        low, high = 0.0, source.voltage  # the lowest voltage at which it takes more than the source gives
        for step in range(1, STEPS + 1):
            if self._current_at(source.voltage * step / STEPS, key, current) > source.limit:
                low, high = source.voltage * (step - 1) / STEPS, source.voltage * step / STEPS
                break
        for _ in range(40):
            middle = (low + high) / 2
            low, high = (low, middle) if self._current_at(middle, key, current) > source.limit else (middle, high)
        self._applied[key] = low
        return self._evaluated({})

    def _current_at(self, voltage: float, key: str, current: str) -> float:
        self._applied[key] = voltage
        return self._evaluated({}, current)[current]

    def _evaluated(self, known: Mapping[str, float], last: str = "") -> dict[str, float]:
        """The quantities, in their order; those that are known stay as they are."""
        names: dict[str, Any] = {_variable(key): value for key, value in (*self.values.items(), *self._applied.items())}
        found: dict[str, float] = {}
        for name, code in self._code.items():
            found[name] = known[name] if name in known else float(eval(code, {**self._bound, **names}))
            names[_variable(name)] = found[name]
            if name == last:
                break
        return found


def _variable(name: str) -> str:
    return "v_" + name.replace(".", "_DOT_")


def _values_of(model: Fields, serial: str) -> dict[str, float]:
    """The values of a unit: spread by its serial number, and those of its fault."""
    spread = random.Random(f"{model['name']} {serial}")
    values = {name: nominal + spread.gauss(0, 1) * model["spread"][name] for name, nominal in model["values"].items()}
    faults = model["faults"]
    named = next((name for name, fault in faults.items() if serial in fault["units"]), "")
    fault = named or drawn(f"{model['name']} fault {serial}", {name: fault["share"] for name, fault in faults.items()})
    return values | (faults[fault]["values"] if fault else {})


def _functions(used: Mapping[str, str]) -> dict[str, Callable[..., Any]]:
    found = {}
    for name, target in used.items():
        module, _, function = target.partition(".")
        found[name] = getattr(importlib.import_module(f"ibexite.analysis.{module}"), function)
    return found


def _applied(model: Fields, stimuli: Stimuli) -> dict[str, Any]:
    """What is applied to each terminal, as formulas have it: nothing while it is switched off."""
    found: dict[str, Any] = dict(model["defaults"])
    for name, kind in model["terminals"].items():
        match kind.partition(" ")[0]:
            case "source":
                source = stimuli.source[name]
                found |= {f"{name}.voltage": source.voltage if source.is_on else 0.0,
                          f"{name}.current_limit": source.limit, f"{name}.output": source.is_on}  # fmt: skip
            case "sink":
                sink = stimuli.sink[name]
                found |= {f"{name}.current": sink.current if sink.is_on else 0.0, f"{name}.input": sink.is_on}
            case "tone":
                tone = stimuli.tone[name]
                found |= {f"{name}.frequency": tone.frequency, f"{name}.output": tone.is_on,
                          f"{name}.amplitude": tone.amplitude if tone.is_on else 0.0,
                          f"{name}.offset": tone.offset if tone.is_on else 0.0}  # fmt: skip
            case "carrier":
                carrier = stimuli.carrier[name]
                found |= {f"{name}.frequency": carrier.frequency, f"{name}.output": carrier.is_on,
                          f"{name}.level": carrier.level if carrier.is_on else NO_LEVEL}  # fmt: skip
            case "climate":
                climate = stimuli.climate[name]
                found |= {f"{name}.temperature": climate.temperature if climate.is_on else ROOM,
                          f"{name}.output": climate.is_on}  # fmt: skip
            case _:
                found |= {f"{name}.{setting}": value for setting, value in stimuli.settings[name].items()}
    return found
