"""Messages out of a stream of bytes, without I/O: feed what arrived, take what is complete.

A line ends with its terminator. A message does as well, but the definite length blocks in it may hold anything, also
what looks like the terminator (IEEE Std 488.2-1992, 8.7.9: `#`, one digit n, n digits of the length, the bytes).

What always holds: bytes are looked at once; more than MOST_BYTES without an end are refused, so that a peer which
floods its output cannot fill the memory.
"""

from __future__ import annotations

import re

MOST_BYTES = 16_000_000
_BLOCK = re.compile(rb"#([1-9])")
_BEFORE_BLOCK = b",;"  # what a block stands behind if it is not the first of several response data (8.4)


class TooLong(Exception):
    """The peer sent more than MOST_BYTES without ending the message."""


class NoBlock(ValueError):
    """A reply that is no definite length block."""


class Framer:
    """Collects received bytes and gives back what is whole, without its terminator."""

    def __init__(self, terminator: bytes = b"\n") -> None:
        self.terminator = terminator
        self._data = bytearray()
        self._searched = 0

    def feed(self, data: bytes) -> None:
        """Adds received bytes. Raises TooLong."""
        self._data += data
        if len(self._data) > MOST_BYTES:
            raise TooLong

    def next_line(self) -> bytes | None:
        """The next complete line, None when more bytes are needed."""
        return self._up_to(self._data.find(self.terminator, self._searched))

    def next_lines(self, count: int, last: bytes) -> bytes | None:
        """The next `count` lines, or those up to one that says `last` (if that is given), which is left out; None when
        more bytes are needed. Between them their terminators stay."""
        place, lines = 0, 0
        while (end := self._data.find(self.terminator, place)) >= 0:
            lines += 1
            if last and self._data[place:end].strip() == last:
                found = bytes(self._data[: max(0, place - len(self.terminator))])
                del self._data[: end + len(self.terminator)]
                return found
            place = end + len(self.terminator)
            if not last and lines == count:
                return self._up_to(end)
        return None

    def next_message(self) -> bytes | None:
        """The next complete message, None when more bytes are needed."""
        place = self._searched
        while True:
            end = self._data.find(self.terminator, place)
            block = self._next_block(place, end if end >= 0 else len(self._data))
            if block is None:
                return self._up_to(end)
            place = block
            if place > len(self._data):  # within the block, or its length is not there yet
                return None
            self._searched = place

    def _next_block(self, start: int, end: int) -> int | None:
        """Where the first block that begins between two places ends; a place behind all bytes while that is not known;
        None if there is no block."""
        for found in _BLOCK.finditer(self._data, start, end):
            at = found.start()
            if at and self._data[at - 1] not in _BEFORE_BLOCK:
                continue
            first = at + 2 + int(found[1])
            digits = bytes(self._data[at + 2 : first])
            if not (digits + b"0").isdigit():
                continue  # no block after all
            return first + int(digits) if len(digits) == int(found[1]) else len(self._data) + 1
        return None

    def _up_to(self, end: int) -> bytes | None:
        if end < 0:
            # What has come of a terminator, or of the begin of a block, is looked at again.
            self._searched = max(self._searched, len(self._data) - max(len(self.terminator), 2) + 1)
            return None
        found = bytes(self._data[:end])
        del self._data[: end + len(self.terminator)]
        self._searched = 0
        return found

    @property
    def pending(self) -> bytes:
        """What has arrived of something that is not complete, or was not taken."""
        return bytes(self._data)


LONG = 1 << 16  # bytes from which a block is received in place


class BlockInPlace:
    """A long definite length block, of which the bytes are received where they are to stay.

    Args:
        begin: what has come of it, with its length; see `is_long_block`.
    """

    def __init__(self, begin: bytes, terminator: bytes) -> None:
        start = 2 + int(begin[1:2])
        self.length = int(begin[2:start])
        if self.length > MOST_BYTES:
            raise TooLong
        self._terminator = terminator
        # Its terminator is read with it; where the protocol tells the end it may be missing.
        self._content = bytearray(self.length + len(terminator))
        self._filled = 0
        with self.room(len(begin) - start) as room:
            room[:] = begin[start:]

    @property
    def missing(self) -> int:
        """How many bytes are still to come, with its terminator."""
        return len(self._content) - self._filled

    def room(self, count: int) -> memoryview:
        """Where the next bytes go. Raises NoBlock: they are more than it says."""
        if count > self.missing:
            raise NoBlock(f"a block of another length than it says: more than {self.length} bytes")
        self._filled += count
        return memoryview(self._content)[self._filled - count : self._filled]

    def content(self) -> bytearray:
        """Its bytes, when all are there; all that `room` has given must be released. Raises NoBlock: it is not as long
        as it says."""
        end = self._content[self.length : self._filled]
        if self._filled < self.length or end not in (b"", self._terminator):
            raise NoBlock(f"a block of another length than it says: {self.length} bytes, then {bytes(end)!r}")
        del self._content[self.length :]
        return self._content


def is_long_block(data: bytes) -> bool:
    """Whether data begins as a definite length block of LONG bytes or more.

    >>> is_long_block(b"#6100000ab"), is_long_block(b"#15ab")
    (True, False)
    """
    digits = data[1:2]
    if data[:1] != b"#" or not digits.isdigit() or len(data) < 2 + int(digits):
        return False
    length = data[2 : 2 + int(digits)]
    return length.isdigit() and int(length) >= LONG


def block_content(message: bytes) -> bytes:
    """The bytes of a message that is one definite length block.

    >>> block_content(b"#15ab\\ncd")
    b'ab\\ncd'

    Raises:
        NoBlock: it is none, or not as long as it says.
    """
    digits = message[1:2]
    if message[:1] != b"#" or not digits.isdigit() or digits == b"0":
        raise NoBlock(f"no definite length block: {message[:20]!r}")
    start = 2 + int(digits)
    length = message[2:start]
    if not length.isdigit() or len(message) - start != int(length):
        raise NoBlock(f"a block of another length than it says: {message[:start]!r}, {len(message) - start} bytes")
    return message[start:]


def definite_block(content: bytes) -> bytes:
    """The definite length block of some bytes.

    >>> definite_block(b"ab\\ncd")
    b'#15ab\\ncd'
    """
    length = str(len(content)).encode()
    return b"#" + str(len(length)).encode() + length + content
