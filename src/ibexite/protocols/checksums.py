"""Checksums behind messages, by named rules: of all bytes of a message before its terminator, as hexadecimal digits.

Sources: Ross N. Williams, A painless guide to CRC error detection algorithms (1993), for the parameters of a CRC; the
names and check values are those of its catalogue of algorithms (of the text 123456789).
"""

from __future__ import annotations

from collections.abc import Callable

from ibexite.frozen import frozen


@frozen
class Rule:
    """A rule: how many hexadecimal digits it gives, how it is computed, and in words."""

    digits: int
    of: Callable[[bytes], int]
    help: str

    def text(self, message: bytes) -> bytes:
        """The digits that belong behind a message.

        >>> RULES["crc-16-ccitt"].text(b"123456789")
        b'29B1'
        """
        return f"{self.of(message):0{self.digits}X}".encode()


def _xor(message: bytes) -> int:
    value = 0
    for byte in message:
        value ^= byte
    return value


def _crc_high_first(polynomial: int, start: int, bits: int) -> Callable[[bytes], int]:
    top, mask = 1 << (bits - 1), (1 << bits) - 1

    def crc(message: bytes) -> int:
        value = start
        for byte in message:
            value ^= byte << (bits - 8)
            for _ in range(8):
                value = ((value << 1) ^ polynomial if value & top else value << 1) & mask
        return value

    return crc


def _crc_low_first(polynomial: int, start: int) -> Callable[[bytes], int]:
    def crc(message: bytes) -> int:
        value = start
        for byte in message:
            value ^= byte
            for _ in range(8):
                value = (value >> 1) ^ polynomial if value & 1 else value >> 1
        return value

    return crc


RULES = {
    "sum-8": Rule(2, lambda message: sum(message) & 0xFF, "the sum of all bytes, its last 8 bits"),
    "sum-8-complement": Rule(2, lambda message: -sum(message) & 0xFF, "what makes the sum of all bytes 0 in 8 bits"),
    "sum-16": Rule(4, lambda message: sum(message) & 0xFFFF, "the sum of all bytes, its last 16 bits"),
    "xor-8": Rule(2, _xor, "the exclusive or of all bytes"),
    "crc-8": Rule(2, _crc_high_first(0x07, 0x00, 8), "x^8 + x^2 + x + 1, begun with 0"),
    "crc-16-ccitt": Rule(4, _crc_high_first(0x1021, 0xFFFF, 16), "x^16 + x^12 + x^5 + 1, begun with FFFF"),
    "crc-16-arc": Rule(4, _crc_low_first(0xA001, 0x0000), "x^16 + x^15 + x^2 + 1, low bits first, begun with 0"),
}


def summed(rule: Rule, data: bytes, end: bytes) -> bytes:
    """Messages with their terminators, each with its checksum."""
    return b"".join(part + rule.text(part) + end for part in data.split(end) if part)


def checked(rule: Rule, line: bytes) -> bytes:
    """A line without its checksum. Raises ValueError: it is too short, or the checksum is another one."""
    message, told = line[: -rule.digits], line[-rule.digits :]
    if len(line) <= rule.digits or rule.text(message) != told.upper():
        raise ValueError(f"its checksum is not that of the text: {line[:60]!r}")
    return message
