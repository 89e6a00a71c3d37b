"""A curve drawn with characters, for the terminal. Data in, lines out."""

from __future__ import annotations

import math
from collections.abc import Sequence

from ibexite.untyped import Fields
from ibexite.wording import column_text, is_log_spaced

WIDTH, HEIGHT = 72, 14
# Each cell has two columns and four rows of dots (Unicode, block 2800: Braille patterns).
_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))


def draw_curve(x: Sequence[float], y: Sequence[float], x_meta: Fields, y_meta: Fields) -> list[str]:
    """The lines of a picture; x is drawn logarithmically where its points are spaced so. Holes are gaps."""
    points = sorted((a, b) for a, b in zip(x, y, strict=True) if math.isfinite(a) and math.isfinite(b))
    if len(points) < 2:
        return [f"{y_meta['name']}: too few points to draw"]
    is_log = is_log_spaced(x)
    xs = [math.log(a) if is_log else a for a, _ in points]
    ys = [b for _, b in points]
    low, high = min(ys), max(ys)
    if high - low < 1e-12 * max(abs(high), 1e-300):
        low, high = low - (abs(low) or 1.0) * 0.01, high + (abs(high) or 1.0) * 0.01
    cells = [[0] * WIDTH for _ in range(HEIGHT)]

    def put(a: float, b: float) -> None:
        column = round((a - xs[0]) / (xs[-1] - xs[0]) * (2 * WIDTH - 1)) if xs[-1] > xs[0] else 0
        row = round((high - b) / (high - low) * (4 * HEIGHT - 1))
        cells[row // 4][column // 2] |= _DOTS[row % 4][column % 2]

    for (a0, b0), (a1, b1) in zip(zip(xs, ys, strict=True), zip(xs[1:], ys[1:], strict=True), strict=False):
        steps = max(1, round(abs(a1 - a0) / ((xs[-1] - xs[0]) or 1.0) * 2 * WIDTH),
                    round(abs(b1 - b0) / (high - low) * 4 * HEIGHT))  # fmt: skip
        for i in range(steps + 1):
            put(a0 + (a1 - a0) * i / steps, b0 + (b1 - b0) * i / steps)
    return _framed(cells, (low, high), points, x_meta, y_meta, is_log)


def _framed(
    cells: list[list[int]], extent: tuple[float, float], points: list[tuple[float, float]], x_meta: Fields,
    y_meta: Fields, is_log: bool,
) -> list[str]:  # fmt: skip
    top = bottom = ""
    for digits in range(4, 16):  # as many as tell the ends apart
        top, bottom = column_text(extent[1], y_meta, digits), column_text(extent[0], y_meta, digits)
        if top != bottom:
            break
    margin = max(len(top), len(bottom))
    lines = [f"{y_meta['name']} against {x_meta['name']}" + (" (logarithmic)" if is_log else "")]
    for number, row in enumerate(cells):
        label = top if number == 0 else bottom if number == HEIGHT - 1 else ""
        lines.append(f"{label:>{margin}} │" + "".join(chr(0x2800 + bits) for bits in row))
    lines.append(" " * margin + " └" + "─" * WIDTH)
    left, right = column_text(points[0][0], x_meta, 4), column_text(points[-1][0], x_meta, 4)
    lines.append(" " * (margin + 2) + left + " " * max(1, WIDTH - len(left) - len(right)) + right)
    return lines
