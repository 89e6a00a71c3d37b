"""Calibration of a signal against known values: gain and offset fitted by least squares, written into the bench file,
whose comments and layout stay as they are."""

from __future__ import annotations

import datetime
import math
import os
import tempfile
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

from ibexite import units
from ibexite.bench.conversions import Chain, Step
from ibexite.bench.entries import SignalEntry
from ibexite.bench.file import BenchFile, read_bench
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import frozen
from ibexite.units import Dimension, parse_quantity, plain_number

FITS = ("both", "gain", "offset")


class Point(NamedTuple):
    """A known value and what was read then, in base units."""

    known: float
    read: float


@frozen
class Fit:
    """What a reading is to be changed by, reading * gain + offset, where the gain and offset of the bench file stand in
    the chain; and for each point what will be read there."""

    gain: float
    offset: float
    points: tuple[Point, ...]
    fitted: tuple[float, ...]  # in base units of the signal

    @property
    def residuals(self) -> tuple[float, ...]:
        """What will be read, less what is known."""
        return tuple(value - point.known for value, point in zip(self.fitted, self.points, strict=True))

    @property
    def worst(self) -> float:
        """The largest residual, without its sign."""
        return max(map(abs, self.residuals))


def calibratable(file: BenchFile, name: str) -> SignalEntry:
    """The signal of this name. Raises MistakeError: there is none, or gain and offset would not mend it."""
    signal = file.signals.get(name)
    if signal is None:
        raise MistakeError(f"there is no signal {name!r}", remedy=did_you_mean(name, file.signals))
    what = ""
    if signal.is_yes_no:
        what = "is yes or no"
    elif signal.junction is not None:
        what = "is a thermocouple; calibrate its cold junction, and its voltage as a signal of its own"
    elif signal.correction is not None:
        what = f"is corrected by {signal.correction.file}; measure that anew"
    if what:
        raise MistakeError(f"{name} {what}", remedy="Gain and offset are fitted for numbers.")
    if file.positions and name in _moved_by_positions(file.path):
        raise MistakeError(
            f"{name} is another channel at each position, with one gain for all",
            remedy="Make a signal of its own for each channel.",
        )
    return signal


def refuse_reference(file: BenchFile, signal: SignalEntry, reference: str) -> None:
    """Raises MistakeError: a signal cannot tell what the values of another one are."""
    known = file.signals.get(reference)
    if known is None:
        raise MistakeError(f"there is no signal {reference!r}", remedy=did_you_mean(reference, file.signals))
    if known is signal or known.is_yes_no or known.dimension != signal.dimension:
        raise MistakeError(f"{reference} tells no known values of {signal.name}",
                           remedy="It is another signal of the same kind.")  # fmt: skip


def fitted(file: BenchFile, signal: SignalEntry, points: Sequence[Point], what: str = "both") -> Fit:
    """Fits gain and offset by ordinary least squares (JCGM 100:2008, H.3), the readings being the independent values.

    Args:
        points: what was known and read; both of the signal, in base units.
        what: both, gain or offset; of levels and temperatures the offset alone.

    Raises:
        MistakeError: too few points, or they lie so that nothing can be fitted.
    """
    tail = _behind_gain(signal.chain)
    x, y = [_before(tail, point.read) for point in points], [_before(tail, point.known) for point in points]
    if any(map(math.isnan, (*x, *y))):
        raise MistakeError(f"a value is beyond what {signal.name} is defined for", remedy="Leave that point out.")
    what = what if is_scaled(file, signal) else "offset"
    different, needed = len({point.known for point in points}), 2 if what == "both" else 1
    if different < needed:
        raise MistakeError(
            f"{different} known value{'s' * (different != 1)} of {signal.name}, where it takes {needed}",
            remedy="Nothing was changed. More than that show how well they fit.",
        )
    gain, offset = _line(x, y, what)
    if not (math.isfinite(gain) and gain > 0 and math.isfinite(offset)):
        raise MistakeError(
            f"the readings of {signal.name} do not follow what is known", remedy="Is it the right channel? "
            "Nothing was changed.",
        )  # fmt: skip
    made = []
    for value in x:
        value = gain * value + offset
        for step in tail:
            value = step.forward(value)
        made.append(value)
    return Fit(gain, offset, tuple(points), tuple(made))


def _line(x: list[float], y: list[float], what: str) -> tuple[float, float]:
    """Gain and offset; from differences to the means, so that a large offset costs no digits."""
    if what == "gain":
        square = math.fsum(a * a for a in x)
        return (math.fsum(a * b for a, b in zip(x, y, strict=True)) / square if square else math.nan), 0.0
    mean_x, mean_y = math.fsum(x) / len(x), math.fsum(y) / len(y)
    if what == "offset":
        return 1.0, mean_y - mean_x
    square = math.fsum((a - mean_x) ** 2 for a in x)
    if not square:
        return math.nan, math.nan
    gain = math.fsum((a - mean_x) * (b - mean_y) for a, b in zip(x, y, strict=True)) / square
    return gain, mean_y - gain * mean_x


def is_near(fit: Fit) -> bool:
    """Whether a calibration changes no more than ageing and tolerances do: anything else is another channel, a cable
    that is off, or a gain that was not yet known."""
    return 0.8 <= fit.gain <= 1.25


def is_scaled(file: BenchFile, signal: SignalEntry) -> bool:
    """Whether there may be a gain: levels and temperatures have an offset alone."""
    dimension = _gain_dimension(file, signal)
    return dimension.kind == "linear" and dimension != units.CELSIUS


def _gain_dimension(file: BenchFile, signal: SignalEntry) -> Dimension:
    """The dimension of a value where gain and offset stand in the chain."""
    tail = _behind_gain(signal.chain)
    steps = signal.chain.steps[: len(signal.chain.steps) - len(tail)]
    if steps:
        return steps[-1].dimension
    profile = file.instruments[file.roles[signal.role].instrument].profile
    return profile.readings[signal.reading].feature.dimension or units.PLAIN


def _behind_gain(chain: Chain) -> tuple[Step, ...]:
    """The steps behind gain and offset: all that are no plain factor or offset stand there."""
    first = next((i for i, step in enumerate(chain.steps) if step.scale is None), len(chain.steps))
    return chain.steps[first:]


def _before(tail: tuple[Step, ...], value: float) -> float:
    for step in reversed(tail):
        value = step.backward(value)
    return value


def _moved_by_positions(path: Path) -> set[str]:
    data = tomllib.loads(path.read_text(encoding="utf-8"))
    return {name for moved in data.get("positions", {}).values() for name in moved}


# --- the file ---------------------------------------------------------------------------------------------------------


class Calibrated(NamedTuple):
    """What is written of a calibration, and when it is due."""

    on: datetime.date
    due: datetime.date
    certificate: str = ""


def rewritten(file: BenchFile, text: str, name: str, fit: Fit, calibrated: Calibrated) -> str:
    """The text of a bench file with the gain, offset and calibration of a signal in it; all else stays as it is.

    Raises:
        MistakeError: the file would not say what was meant; nothing is written then.
    """
    import tomlkit

    signal = file.signals[name]
    document = tomlkit.parse(text)
    entry: Any = document["signals"][name]
    dimension = _gain_dimension(file, signal)
    if is_scaled(file, signal):
        entry["gain"] = _scaled(entry.get("gain", "1"), fit.gain)
    old = parse_quantity(entry["offset"]) if "offset" in entry else None
    offset = (float(old) if old is not None else 0.0) * fit.gain + fit.offset
    entry["offset"] = _quantity(offset, units.difference(dimension))
    parts = {"due": calibrated.due.isoformat(), "date": calibrated.on.isoformat()}
    if calibrated.certificate:
        parts["certificate"] = tomlkit.string(calibrated.certificate).as_string()
    parts["points"] = str(len(fit.points))
    parts["residual"] = f'"{_quantity(fit.worst, units.difference(signal.dimension), 3)}"'
    entry["calibration"] = tomlkit.value(f"{{ {', '.join(f'{key} = {text}' for key, text in parts.items())} }}")
    made = tomlkit.dumps(document)
    _look_through(text, made, name)
    return made


def written_in(text: str, name: str, key: str) -> str:
    """What stands under a key of a signal, as it is written; "" where it is not there."""
    import tomlkit

    entry: Any = tomlkit.parse(text)["signals"]
    item = entry[name].get(key)
    return item.as_string().strip() if item is not None else ""


def _scaled(written: str, gain: float) -> str:
    amount = parse_quantity(written)
    number = plain_number(float(amount) * gain / float(amount.unit.factor), 9)
    return f"{number} {amount.unit.symbol}".strip()


def _quantity(value: float, dimension: Dimension, digits: int = 9) -> str:
    text = units.format_value(value, dimension, digits=digits)
    assert parse_quantity(text).dimension == dimension
    return text


def _look_through(before: str, after: str, name: str) -> None:
    """Nothing but the three keys of one signal may be another."""
    old, new = tomllib.loads(before), tomllib.loads(after)
    for data in (old, new):
        for key in ("gain", "offset", "calibration"):
            data["signals"][name].pop(key, None)
    if old != new:
        raise MistakeError("the file could not be changed in this place alone", remedy="Write gain and offset by hand.")


def replace_file(path: Path, before: str, after: str) -> None:
    """Writes a bench file anew, all of it or nothing, with the permissions that it has.

    Raises:
        MistakeError: it was changed meanwhile, would not be a bench file, or cannot be written.
    """
    path = path.resolve()
    try:
        if _text(path) != before:
            raise MistakeError("it was changed meanwhile", where=str(path), remedy="Nothing was written.")
        handle, name = tempfile.mkstemp(".toml", f".{path.stem}-", path.parent)
        try:
            with os.fdopen(handle, "w", encoding="utf-8", newline="") as new:
                new.write(after)
                new.flush()
                os.fsync(new.fileno())
            Path(name).chmod(path.stat().st_mode & 0o7777)
            read_bench(name)
            Path(name).replace(path)
        except BaseException:
            Path(name).unlink()
            raise
    except OSError as error:
        raise MistakeError(f"cannot be written: {error.strerror}", where=str(path)) from None


def _text(path: Path) -> str:
    with path.open(encoding="utf-8", newline="") as file:
        return file.read()


def text_of(file: BenchFile) -> str:
    """The text of a bench file as it is, its line ends as well."""
    return _text(file.path.resolve())
