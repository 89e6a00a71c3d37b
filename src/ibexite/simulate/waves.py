"""WAV files that a stand-in gives in place of what it would sample."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from ibexite.simulate.device import Presets


class PreparedWaves:
    """Those of one instrument. A record takes the next one of its channel; a stream takes one at its begin, and behind
    the end of that there is no number."""

    def __init__(self) -> None:
        self._presets = Presets({})
        self._streamed: dict[int, Any] = {}

    def begin(self, presets: Presets) -> None:
        """A stream begins."""
        self._presets, self._streamed = presets, {}

    def streamed(self, channel: int, first: int, count: int) -> Any:
        """Samples of a stream in base units, shape (count,); None where nothing was prepared."""
        import numpy as np

        if channel not in self._streamed:
            self._streamed[channel] = samples_of(self._presets, channel)
        whole = self._streamed[channel]
        if whole is None:
            return None
        found = np.full(count, np.nan)
        there = whole[first : first + count]
        found[: len(there)] = there
        return found


def recorded(presets: Presets, channel: int, count: int) -> Any:
    """The next record of a channel in base units, shape (count,), with nothing behind its end; None where none was
    prepared."""
    import numpy as np

    whole = samples_of(presets, channel)
    if whole is None:
        return None
    found = np.zeros(count)
    found[: len(whole)] = whole[:count]
    return found


def samples_of(presets: Presets, channel: int) -> Any:
    """All samples of the next file of a channel, in base units, shape (n,); None where none was prepared."""
    told = presets.take_any(f"record:{channel}")
    if not isinstance(told, str):
        return None
    from ibexite.wave_file import read_wave

    wave = json.loads(told)
    values = read_wave(Path(wave["wave"])).values[:, wave["channel"] - 1]
    return values * wave["scale"] + wave["offset"]
