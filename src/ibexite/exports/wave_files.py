"""The waveforms of a run as WAV files: what was recorded together in one file, a channel each, as floats of 32 bits.

Many programs clip what is beyond 1. So 1 is a power of two of the base unit, by which no digit is lost, and which the
comment of the file tells."""

from __future__ import annotations

import io
import math
import re
from collections import Counter
from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

from ibexite.errors import RecordsError
from ibexite.exports.csv_tables import free_name
from ibexite.records.grids import Grid
from ibexite.records.stored_run import RunRecord
from ibexite.untyped import Fields, Measured

if TYPE_CHECKING:
    from collections.abc import Sequence

TIME = "time"
_NEAR = 1e-9  # relative: a rate of a whole number of Hz, up to the rounding of its step
_MOST = 2**32 - 4096  # bytes of samples that fit into a WAV file


class _Channel(NamedTuple):
    name: str
    unit: str
    values: Sequence[float]


class _Record(NamedTuple):
    """What has one time base: where it stands, its first time and step in s."""

    name: str
    place: str
    start: float
    step: float
    channels: list[_Channel]


def files_of(run: RunRecord) -> dict[str, bytes]:
    """The WAV files by their names without suffix: TEST_RECORD, with a number behind it for each turn of loops, and
    TEST_RECORD_SIGNAL… where the signals of a record begin at several times.

    Raises:
        RecordsError: the run has no waveforms that a WAV file can hold.
    """
    files: dict[str, bytes] = {}
    for record in _records(run):
        if not _why_not(record):
            files[free_name(re.sub(r"[^A-Za-z0-9_-]", "_", record.name), files)] = _written(record)
    if not files:
        raise RecordsError(
            "no waveforms for WAV files", where=run.row["id"],
            remedy="; ".join(left_out(run)) or "Numbers and curves of other axes go --to csv.",
        )  # fmt: skip
    return files


def left_out(run: RunRecord) -> list[str]:
    """What is a waveform and cannot be a WAV file, each with the reason."""
    return [f"{record.name}: {reason}" for record in _records(run) if (reason := _why_not(record))]


def full_scale(values: Measured) -> float:
    """The smallest power of two that is not below any sample. Holes do not count.

    >>> full_scale([0.3, -2.5])
    4.0
    """
    import numpy as np

    known = np.abs(np.asarray(values))[np.isfinite(values)]
    peak = float(known.max(initial=0.0))
    return 2.0 ** math.ceil(math.log2(peak)) if peak else 1.0


def _why_not(record: _Record) -> str:
    rate = 1 / record.step
    if abs(rate - round(rate)) > _NEAR * rate:
        return f"{rate:.9g} samples a second, and WAV files have whole numbers of Hz"
    if 4 * sum(len(channel.values) for channel in record.channels) > _MOST:
        return "more samples than a WAV file holds"
    return ""


def _records(run: RunRecord) -> Iterator[_Record]:
    """All waveforms; those of one time base that were recorded under one name (rec.mic, rec.drive) together."""
    for test in run.tests:
        found: dict[tuple[str, int, float, float, int], _Record] = {}
        for grid in test.grids:
            for number, (place, single) in enumerate(_singles(grid), 1):
                first = single.columns[0]
                for column, values in zip(single.columns[1:], single.data[1:], strict=True):
                    name = column["name"].rpartition(".")[0] or column["name"]
                    behind = f"_{number}" if place else ""
                    key = (name + behind, number, first["start"], first["step"], len(values))
                    record = found.setdefault(key, _Record(name + behind, place, first["start"], first["step"], []))
                    record.channels.append(_Channel(column["name"], column["unit"], values))
        several = Counter(record.name for record in found.values())
        for record in found.values():
            signals = "_".join(channel.name.rpartition(".")[2] for channel in record.channels)
            own = f"{record.name}_{signals}" if several[record.name] > 1 else record.name
            yield record._replace(name=f"{test.row['name']}_{own}")


def _singles(grid: Grid) -> Iterator[tuple[str, Grid]]:
    """The waveforms of a grid, turn by turn, with where they were taken in words."""
    if grid.turns:
        outer = [column for column in grid.columns if column["origin"] == "sweep"]
        for turn in grid.turns:
            if _is_waveform(turn.grid):
                yield (
                    ", ".join(f"{c['name']} = {_told(c, at)}" for c, at in zip(outer, turn.at, strict=False)),
                    turn.grid,
                )
    elif _is_waveform(grid):
        yield "", grid


def _told(column: Fields, at: float | str) -> str:
    return at if isinstance(at, str) else f"{at:.9g} {column['unit']}".rstrip()


def _is_waveform(grid: Grid) -> bool:
    return grid.axes == [TIME] and grid.columns[0]["step"] is not None and len(grid.data[0]) > 0


def _written(record: _Record) -> bytes:
    import numpy as np
    import soundfile

    scales = [full_scale(channel.values) for channel in record.channels]
    fractions = [np.asarray(c.values) / scale for c, scale in zip(record.channels, scales, strict=True)]
    samples: Measured = np.stack(fractions, axis=1).astype(np.float32)
    told = (
        f"{c.name} (1 is {scale!r} {c.unit}".rstrip() + ")" for c, scale in zip(record.channels, scales, strict=True)
    )
    comment = f"{', '.join(told)}; begins at {record.start!r} s" + (f"; {record.place}" if record.place else "")
    side = io.BytesIO()
    with soundfile.SoundFile(
        side, "w", round(1 / record.step), len(record.channels), format="WAV", subtype="FLOAT"
    ) as file:
        file.comment = comment
        file.write(samples)
    return side.getvalue()
