"""The screen of a stand-in, as a picture: a PNG (ISO/IEC 15948) of a trace on a grid."""

from __future__ import annotations

import math
import struct
import zlib
from collections.abc import Sequence

WIDTH, HEIGHT = 320, 240
DARK, GRID, TRACE = 0x10, 0x48, 0xE0  # grey levels
DIVISIONS = 10, 8


def screen(trace: Sequence[float] = ()) -> bytes:
    """A picture of a trace.

    Args:
        trace: values from -1 (bottom) to 1 (top), from left to right; a flat line without any.
    """
    rows = [bytearray([DARK]) * WIDTH for _ in range(HEIGHT)]
    for i in range(1, DIVISIONS[0]):
        for row in rows:
            row[i * WIDTH // DIVISIONS[0]] = GRID
    for i in range(1, DIVISIONS[1]):
        rows[i * HEIGHT // DIVISIONS[1]][:] = bytes([GRID]) * WIDTH
    values = list(trace) or [0.0]
    last = None
    for x in range(WIDTH):
        value = values[x * len(values) // WIDTH]
        y = HEIGHT // 2 if not math.isfinite(value) else round((1 - max(-1.0, min(1.0, value))) / 2 * (HEIGHT - 1))
        low, high = sorted((y, last if last is not None else y))
        for at in range(low, high + 1):
            rows[at][x] = TRACE
        last = y
    return _png(rows)


def _png(rows: Sequence[bytes | bytearray]) -> bytes:
    """Grey, eight bits a point, no filter."""
    head = struct.pack(">IIBBBBB", len(rows[0]), len(rows), 8, 0, 0, 0, 0)
    data = zlib.compress(b"".join(b"\0" + bytes(row) for row in rows))
    return b"\x89PNG\r\n\x1a\n" + _chunk(b"IHDR", head) + _chunk(b"IDAT", data) + _chunk(b"IEND", b"")


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
