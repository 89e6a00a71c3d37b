"""WAV files: samples from -1 to 1 of full scale, in 16, 24 or 32 bits, or as floats of 32. A library reads and writes
them (libsndfile); here is what else can be wrong with a file."""

from __future__ import annotations

import hashlib
import io
from pathlib import Path
from typing import Any

from ibexite.errors import MistakeError
from ibexite.frozen import frozen
from ibexite.plain_file import read_plain, written_whole

MOST_BYTES = 2_000_000_000
FORMS = {"16": "PCM_16", "24": "PCM_24", "32": "PCM_32", "float": "FLOAT"}


@frozen
class WaveFile:
    """A WAV file. `values` are its samples, shape (samples, channels), 1 being full scale."""

    path: str
    sha256: str
    rate: float  # Hz
    values: Any

    @property
    def samples(self) -> int:
        """Of each channel."""
        return len(self.values)

    @property
    def channels(self) -> int:
        """How many there are."""
        return int(self.values.shape[1])


def read_wave(path: Path) -> WaveFile:
    """Reads a WAV file whole.

    Raises:
        MistakeError: it is not there, no WAV file, or ends before what its head says.
    """
    import soundfile

    data = read_plain(path, what="WAV file", most=MOST_BYTES)
    where, remedy = str(path), "Write it anew: 16, 24 or 32 bits, or floats of 32."
    if data[:4] not in (b"RIFF", b"RF64") or data[8:12] != b"WAVE":
        raise MistakeError("this is no WAV file", where=where, remedy=remedy)
    missing = _missing(data)
    if missing:
        raise MistakeError(f"the file ends {missing:,} bytes too early", where=where, remedy="Copy or record it again.")
    try:
        with soundfile.SoundFile(io.BytesIO(data)) as file:
            rate, values = float(file.samplerate), file.read(dtype="float64", always_2d=True)
    except (soundfile.LibsndfileError, RuntimeError) as error:
        raise MistakeError(f"the WAV file cannot be read ({error!s:.120})", where=where, remedy=remedy) from None
    if not len(values):
        raise MistakeError("the WAV file has no samples", where=where, remedy=remedy)
    return WaveFile(where, hashlib.sha256(data).hexdigest(), rate, values)


def _missing(data: bytes) -> int:
    """How many bytes the data of a RIFF file lack, by the sizes that its chunks tell (a file of 4 GB or more, whose
    sizes do not fit, is taken as it is)."""
    at = 12
    while at + 8 <= len(data):
        size = int.from_bytes(data[at + 4 : at + 8], "little")
        if data[at : at + 4] == b"data":
            return max(0, at + 8 + size - len(data)) if size != 0xFFFFFFFF else 0
        at += 8 + size + size % 2
    return 1


def write_wave(path: Path, values: Any, rate: float, form: str) -> None:
    """Writes samples, shape (n,) or (n, channels), 1 being full scale, whole or not at all.

    Args:
        rate: in Hz, a whole number.
        form: a key of FORMS.

    Raises:
        MistakeError: a sample is beyond full scale, or the rate no whole number.
        OSError: it cannot be written.
    """
    import numpy as np
    import soundfile

    if rate != round(rate):
        raise MistakeError(f"a rate of {rate:g} Hz", where=str(path), remedy="WAV files have whole numbers of Hz.")
    if form != "float" and float(np.abs(values).max(initial=0.0)) > 1.0:
        raise MistakeError("samples beyond full scale", where=str(path), remedy="Write floats, or lower the level.")
    with written_whole(path) as side:
        soundfile.write(side, values, round(rate), format="WAV", subtype=FORMS[form])
