"""Readings by hand that are no single number: texts, yes and no, curves, tables, connections, pictures. As plain data,
so that whoever holds the instrument can hand them on."""

from __future__ import annotations

import base64
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.bench.bench import Bench
from ibexite.errors import MistakeError
from ibexite.untyped import Fields, Measured
from ibexite.values import Compound, Quantity, Type, YesNo

if TYPE_CHECKING:
    from ibexite.analysis.curve import Curve


def is_whole(kind: Type) -> bool:
    """Whether readings of a type are more, or something else, than one number."""
    return not isinstance(kind, Quantity) or bool(kind.axes)


def whole_reading_of(bench: Bench, line: Callable[[], list[Measured]]) -> tuple[object, str]:
    """One reading as plain data, and why it is bad, or some of it; None where there is nothing. Raises BenchError."""
    (value,) = line()
    reason = "; ".join(dict.fromkeys(bad.reason.text for bad in bench.bad))
    bench.bad.clear()
    return as_plain_data(value), reason


def as_plain_data(value: Measured) -> object:
    """A value for JSON: of a curve axes, values and perhaps imaginary parts; the bytes of a picture in base64."""
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    if hasattr(value, "axes"):
        return _curve(value)
    return None if isinstance(value, float) and value != value else value


def _curve(curve: Curve) -> Fields:
    axes = {name: points.tolist() for name, points in curve.axes.items()}
    flat = curve.values.ravel()
    if flat.dtype.kind != "c":
        return {"axes": axes, "values": _numbers(flat.tolist())}
    return {"axes": axes, "values": _numbers(flat.real.tolist()), "imaginary": _numbers(flat.imag.tolist())}


def _numbers(values: list[float]) -> list[float | None]:
    return [None if value != value else value for value in values]


def in_words(kind: Type, data: object) -> list[str]:
    """What was read, in lines; of a table or connections all of it."""
    if isinstance(kind, Compound):
        heads, rows = kind.form.rows(str(data))
        widths = [max(map(len, column)) for column in zip(heads, *rows, strict=True)]
        return [kind.said(data), *("  " + _aligned(row, widths) for row in (heads, *rows))]
    if isinstance(kind, YesNo):
        return [kind.said(bool(data))]
    return [str(data)]


def _aligned(cells: list[str], widths: list[int]) -> str:
    return "   ".join(cell.ljust(width) for cell, width in zip(cells, widths, strict=True)).rstrip()


def keep_picture(name: str, data: str, folder: Path) -> Path:
    """Writes a picture into a folder, under the name of its reading; nothing that is there is written over.

    Raises:
        MistakeError: it cannot be written.
    """
    picture = base64.b64decode(data)
    ending = "png" if picture.startswith(b"\x89PNG") else "jpeg"
    for number in range(1, 10_000):
        path = folder / (f"{name}.{ending}" if number == 1 else f"{name}_{number}.{ending}")
        try:
            with path.open("xb") as file:
                file.write(picture)
        except FileExistsError:
            continue
        except OSError as error:
            raise MistakeError(f"the picture cannot be written ({error.strerror})", where=str(path)) from None
        return path
    raise MistakeError(f"there are too many pictures called {name}", where=str(folder), remedy="Move them away.")
