"""A picture of the set points of a sequence over the expected time, one strip for each setting. PNG or SVG."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

from matplotlib.figure import Figure

from ibexite import units
from ibexite.errors import RecordsError

WIDTH, STRIP = 11.0, 1.05  # inches
INK, LINE, RULE = "#2a2e33", "#1f5f8b", "#d9dde2"


class Moment(Protocol):
    """A setting at a time: s, role.setting, value in base units, unit to show it in."""

    @property
    def t(self) -> float: ...
    @property
    def setting(self) -> str: ...
    @property
    def value(self) -> float: ...
    @property
    def unit(self) -> str: ...


def draw_timeline(moments: Sequence[Moment], title: str, end: float, path: Path) -> None:
    """Writes the picture; its kind is that of the file name.

    Raises:
        RecordsError: it cannot be written, or no set point is known before the run.
    """
    settings = list(dict.fromkeys(m.setting for m in moments))
    if not settings:
        raise RecordsError("no set point is known before the run", where=str(path), remedy="There is nothing to draw.")
    scale, unit = (1 / 60, "min") if end > 300 else (1.0, "s")
    figure = Figure(figsize=(WIDTH, 0.9 + STRIP * len(settings)), dpi=110)
    strips = figure.subplots(len(settings), 1, sharex=True, squeeze=False)[:, 0]
    for strip, name in zip(strips, settings, strict=True):
        mine = [m for m in moments if m.setting == name]
        shown = units.parse_unit(mine[0].unit) if mine[0].unit else units.NO_UNIT
        values = [shown.from_base(m.value) for m in mine]
        strip.step(
            [m.t * scale for m in mine] + [end * scale], [*values, values[-1]], where="post", color=LINE, linewidth=1.3
        )
        is_switch = not mine[0].unit
        if is_switch:
            strip.set_yticks([0, 1], ["off", "on"])
            strip.set_ylim(-0.2, 1.2)
        label = f"{name}\nin {shown.symbol}" if shown.symbol else name
        strip.set_ylabel(label, rotation=0, ha="right", va="center", fontsize=9, color=INK)
        strip.grid(color=RULE, linewidth=0.6)
        strip.tick_params(labelsize=8, colors=INK)
        strip.margins(y=0.15, x=0.01)
        for side in ("top", "right"):
            strip.spines[side].set_visible(False)
    strips[-1].set_xlabel(f"expected time in {unit}", fontsize=9, color=INK)
    figure.suptitle(title, fontsize=10, color=INK, x=0.5, y=0.995, va="top")
    figure.align_ylabels(list(strips))
    figure.subplots_adjust(left=0.2, right=0.985, top=1 - 0.32 / (0.9 + STRIP * len(settings)),
                           bottom=0.48 / (0.9 + STRIP * len(settings)), hspace=0.25)  # fmt: skip
    save_picture(figure, path)


def save_picture(figure: Figure, path: Path) -> None:
    """Writes a picture of the kind that its name says. Raises RecordsError."""
    try:
        figure.savefig(path)
    except (OSError, ValueError) as error:
        raise RecordsError(
            f"the picture cannot be written ({error})", where=str(path), remedy="Name it .png or .svg."
        ) from None
