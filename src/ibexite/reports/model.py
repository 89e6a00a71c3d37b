"""The model of a report: everything that its formats show, as plain data. Nothing of it is drawn or laid out."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from ibexite.untyped import Fields
from ibexite.wording import JudgedText

if TYPE_CHECKING:
    import numpy as np


@dataclass(frozen=True, slots=True, eq=False)
class CurveLine:
    """A curve of a figure, in the units of its panel. `shade` is its place in its family, from 0 to 1, `dash` which of
    several names it belongs to; without `label` it is not in the legend."""

    label: str
    xs: np.ndarray
    ys: np.ndarray
    shade: float
    dash: int


@dataclass(frozen=True, slots=True, eq=False)
class LimitLine:
    """A limit where it was judged; `text` says what it is, once for those that are alike."""

    text: str
    xs: np.ndarray
    ys: np.ndarray
    is_upper: bool


@dataclass(frozen=True, slots=True, eq=False)
class Marks:
    """Points that failed."""

    label: str
    xs: np.ndarray
    ys: np.ndarray


@dataclass(frozen=True, slots=True)
class Panel:
    """What is drawn against one y axis."""

    label: str
    curves: list[CurveLine]
    limits: list[LimitLine]
    failing: list[Marks]
    is_log: bool = False


class Span(NamedTuple):
    """A stretch of x that is marked, and its name."""

    label: str
    begin: float
    end: float


LINES, PAIR, POLAR = "lines", "pair", "polar"


@dataclass(frozen=True, slots=True)
class FigureSpec:
    """A picture: one panel, or two over the same x with an axis on either side (`form` is lines) or one above the other
    (pair); or around a circle (polar), where `radians` is what 1 of x is. `x_words` are the points of an axis of texts,
    which stand side by side."""

    x_label: str
    x_words: tuple[str, ...]
    is_log: bool
    legend_title: str
    panels: tuple[Panel, ...]
    form: str = LINES
    radians: float = 1.0
    spans: tuple[Span, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class MapSpec:
    """A picture of values over two axes: xs, shape (m,), ys, shape (n,), both rising, values, shape (m, n)."""

    x_label: str
    y_label: str
    label: str
    xs: np.ndarray
    ys: np.ndarray
    values: np.ndarray
    is_log_x: bool
    is_log_y: bool


@dataclass(frozen=True, slots=True)
class ReportFigure:
    """A figure of a test; curves of more than two units take several pictures."""

    title: str
    pictures: list[FigureSpec | MapSpec]


@dataclass(frozen=True, slots=True)
class ResultLine:
    """One judged value, in words."""

    label: str
    text: JudgedText
    place: str
    points: str
    verdict: str
    reason: str  # why, where the numbers do not say it
    rule: str  # the decision rule, and where the limits come from
    criterion: str
    differences: list[tuple[str, str]]  # kind and words of each


@dataclass(frozen=True, slots=True)
class DataTable:
    """The rows of a sweep, as texts; `left_out` is how many more there are."""

    title: str
    names: list[str]
    rows: list[list[str]]
    left_out: int


@dataclass(frozen=True, slots=True)
class Photo:
    """A picture that a test has as a value: PNG or JPEG, as it was kept; no bytes where the file is gone."""

    title: str
    media: str
    data: bytes


@dataclass(frozen=True, slots=True)
class TestPart:
    """One test of the report."""

    row: Fields
    results: list[ResultLine]
    values: list[tuple[str, str]]
    figures: list[ReportFigure]
    bad_readings: list[tuple[str, str, str, str]]
    holes: list[tuple[str, str]]  # columns with points that were never measured, and how many
    tables: list[DataTable]
    photos: list[Photo]
    attempts: list[str] = field(default_factory=list)  # of a test that was carried out more than once, in words

    @property
    def worst(self) -> ResultLine | None:
        """The result nearest to its limits, or beyond."""
        return self.results[0] if self.results else None


@dataclass(frozen=True, slots=True)
class Report:
    """Everything that a report shows."""

    run: Fields
    verdict_text: str
    verdict_class: str
    started: str
    duration: str
    tests: list[TestPart]
    failures: list[tuple[str, ResultLine]]
    broken: list[tuple[str, str]]  # tests that failed or broke for a reason beside their checks
    not_run: list[tuple[str, str]]
    trial_reasons: list[str]
    trial_remedies: list[str]
    software: str
    files: list[Fields]
