"""Readings by hand in the terminal: one value, or many with what they come to."""

from __future__ import annotations

import json
import math
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from ibexite import units
from ibexite.cli.terminal_curve import draw_curve
from ibexite.station.by_hand import Asked, Spread
from ibexite.station.whole_readings import in_words, keep_picture
from ibexite.values import Picture

Take = Callable[[], tuple[float, str]]
"""Takes a reading: its value, and why it is bad where it is NaN."""


def read_and_show(asked: Asked, take: Take, times: int | None, pause: float, output: str) -> None:
    """Reads so many times (None: until Ctrl-C), `pause` s apart, and shows each; at the end what they come to."""
    spread = Spread()
    at: list[float] = []
    values: list[float] = []
    began = time.monotonic()
    try:
        while times is None or len(values) < times:
            wait = began + len(values) * pause - time.monotonic()
            if wait > 0:
                time.sleep(wait)
            at.append(time.monotonic() - began if at else 0.0)
            value, reason = take()
            values.append(value)
            spread.take(value)
            if output == "text":
                _show_value(asked, at[-1], value, reason, spread if times != 1 else None)
    except KeyboardInterrupt:  # that is how an endless one ends
        pass
    if output == "json":
        told = [None if math.isnan(value) else value for value in values]
        click.echo(json.dumps({"name": asked.name, "t": at[: len(told)], "values": told}))
    elif times != 1:
        _show_all(asked, at, values, spread)


def read_and_show_whole(
    asked: Asked, take: Callable[[], tuple[Any, str]], times: int | None, pause: float, output: str
) -> None:
    """The same for what is no single number; a picture is written into the present folder."""
    done = 0
    while times is None or done < times:
        if done:
            time.sleep(pause)
        value, reason = take()
        done += 1
        if output == "json":
            click.echo(json.dumps({"name": asked.name, "value": value, "bad": reason}))
        else:
            click.echo("\n".join(whole_lines(asked, value, reason)))


def whole_lines(asked: Asked, value: Any, reason: str) -> list[str]:
    """What is shown of a reading that is no single number; a picture is written into the present folder."""
    is_curve = isinstance(value, dict)
    if value is None or (reason and not (is_curve and any(number is not None for number in value["values"]))):
        return [f"{asked.name} is bad: {reason}"]
    if is_curve:
        return _curve_lines(asked, value, reason)
    if isinstance(asked.kind, Picture):
        path = keep_picture(asked.name.rpartition(".")[2], value, Path.cwd())
        return [f"{asked.name}: {path.name}, {path.stat().st_size:,} bytes"]
    first, *more = in_words(asked.kind, value)
    return [f"{asked.name} = {first}", *more]


def _curve_lines(asked: Asked, curve: dict[str, Any], reason: str) -> list[str]:
    """How many points of what; one over a single axis is drawn, of a complex one its real part."""
    told = " x ".join(str(len(points)) for points in curve["axes"].values())
    first = f"{asked.name}: {told} points over {', '.join(curve['axes'])}" + (f", bad: {reason}" if reason else "")
    if len(curve["axes"]) != 1:
        return [first]
    ((axis, points),) = curve["axes"].items()
    part = " (real part)" if "imaginary" in curve else ""
    y = {"name": asked.name + part, "unit": units.symbol_of(asked.dimension), "shown": ""}
    values = [math.nan if value is None else value for value in curve["values"]]
    drawn = draw_curve(points, values, {"name": axis, "unit": _unit_of_axis(asked, axis), "shown": ""}, y)
    return [first, *(f"  {line}" for line in drawn)]


def _unit_of_axis(asked: Asked, axis: str) -> str:
    return units.symbol_of(asked.axes[axis]) if axis in asked.axes else ""


def value_text(asked: Asked, value: float, reason: str) -> str:
    """A reading for people."""
    return f"bad: {reason}" if math.isnan(value) else units.format_value(value, asked.dimension)


def _text(asked: Asked, value: float) -> str:
    return "-" if math.isnan(value) else units.format_value(value, asked.dimension)


def _spread_text(asked: Asked, deviation: float) -> str:
    return "-" if math.isnan(deviation) else units.format_value(deviation, units.difference(asked.dimension), digits=3)


def _show_value(asked: Asked, at: float, value: float, reason: str, spread: Spread | None) -> None:
    text = value_text(asked, value, reason)
    if spread is None:
        click.echo(f"{asked.name} = {text}")
        return
    mean = _text(asked, spread.mean) if spread.count else "-"
    click.echo(f"{at:9.2f} s   {text:<16} mean {mean:<16} deviation {_spread_text(asked, spread.deviation)}")


def _show_all(asked: Asked, at: list[float], values: list[float], spread: Spread) -> None:
    if spread.count:
        click.echo(
            f"\n{asked.name}: {spread.count} readings, mean {_text(asked, spread.mean)}, deviation "
            f"{_spread_text(asked, spread.deviation)}, least {_text(asked, spread.least)}, greatest "
            f"{_text(asked, spread.greatest)}" + (f", {spread.bad} bad" if spread.bad else "")
        )
    if spread.count > 2:
        value = {"name": asked.name, "unit": units.symbol_of(asked.dimension), "shown": ""}
        for line in draw_curve(at[: len(values)], values, {"name": "t", "unit": "s", "shown": ""}, value):
            click.echo("  " + line)
