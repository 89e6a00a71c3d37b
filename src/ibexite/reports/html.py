"""The report as one self-contained HTML page."""

from __future__ import annotations

import base64
from functools import cache

import jinja2
import numpy as np

from ibexite.reports.drawing import draw
from ibexite.reports.model import CurveLine, FigureSpec, Panel, Report


def render(report: Report) -> str:
    """The HTML text."""
    return _template().render(data=report, run=report.run)


def warm_up() -> None:
    """Does once what the first report would have to wait for: the template, fonts, the first figure."""
    line = CurveLine("", np.arange(2.0), np.arange(2.0), 0.0, 0)
    draw(FigureSpec("x", (), False, "", (Panel("y", [line], [], []),)))
    _template()


@cache
def _template() -> jinja2.Template:
    loader = jinja2.PackageLoader("ibexite.reports", "templates")
    environment = jinja2.Environment(
        loader=loader, autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["aligned"] = _aligned
    environment.filters["drawn"] = draw
    environment.filters["base64"] = lambda data: base64.b64encode(data).decode()
    return environment.get_template("report.html")


def _aligned(number: str) -> tuple[str, str]:
    """A number in two parts, so that a column lines up on the decimal point."""
    whole, point, fraction = number.partition(".")
    return whole, point + fraction
