"""SCPI and IEEE 488.2 program messages, without I/O: headers, parameters, number formats, standard errors.

Sources: SCPI-1999 volume 1 (syntax and style, 6.2 headers; 7 parameters) and volume 2 (21.8 error numbers);
IEEE Std 488.2-1992 (7.6 program data, 8.7 response data).
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from ibexite.frozen import frozen

NOT_A_NUMBER = 9.91e37  # SCPI-1999 volume 1, 7.2.1.5
INFINITY = 9.9e37  # 7.2.1.4; also what a meter answers when it is overloaded

STANDARD_ERRORS = {
    0: "No error", -102: "Syntax error", -104: "Data type error", -108: "Parameter not allowed",
    -109: "Missing parameter", -113: "Undefined header", -131: "Invalid suffix", -138: "Suffix not allowed",
    -141: "Invalid character data", -221: "Settings conflict", -222: "Data out of range",
    -224: "Illegal parameter value", -230: "Data corrupt or stale", -350: "Queue overflow", -410: "Query INTERRUPTED",
}  # fmt: skip

_MULTIPLIERS = {
    "EX": 1e18,
    "PE": 1e15,
    "T": 1e12,
    "G": 1e9,
    "MA": 1e6,
    "K": 1e3,
    "M": 1e-3,
    "U": 1e-6,
    "N": 1e-9,
    "P": 1e-12,
    "F": 1e-15,
    "A": 1e-18,
    "": 1.0,
}
DECIMAL = r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?"
_NUMBER = re.compile(rf"({DECIMAL})\s*([A-Za-z]*)$")
_NON_DECIMAL = re.compile(r"[ \t]*#(?:[Hh]([0-9A-Fa-f]{1,16})|[Qq]([0-7]{1,21})|[Bb]([01]{1,64}))[ \t\r]*")
_BASES = {"H": 16, "Q": 8, "B": 2}
_RESPONSE = re.compile(rf"[ \t]*({DECIMAL})[ \t\r]*")


class ScpiError(Exception):
    """The other side sent something that SCPI forbids; `number` is the standard error number."""

    def __init__(self, number: int, detail: str = "") -> None:
        super().__init__(number, detail)
        self.number = number
        self.detail = detail

    def queue_entry(self) -> str:
        """The text that SYSTem:ERRor? answers."""
        text = STANDARD_ERRORS[self.number]
        return f'{self.number},"{text}{";" + self.detail if self.detail else ""}"'


@frozen
class Command:
    """One command of a program message: its whole header in upper case, query or not, parameters as text."""

    header: str
    is_query: bool
    parameters: tuple[str, ...]


def split_outside(text: str, separator: str) -> list[str]:
    """Splits where the separator is neither quoted nor in brackets."""
    parts, start, depth, quote = [], 0, 0, ""
    for i, char in enumerate(text):
        if quote:
            quote = "" if char == quote else quote
        elif char in "\"'":
            quote = char
        elif char == "(":
            depth += 1
        elif char == ")":
            depth -= 1
        elif char == separator and depth == 0:
            parts.append(text[start:i])
            start = i + 1
    return [*parts, text[start:]]


@lru_cache(maxsize=4096)
def parse_message(message: str) -> tuple[Command, ...]:
    """The commands of a program message. A header after `;` continues the path of the one before (6.2.4).

    Raises:
        ScpiError: -102, the message is not a program message.
    """
    commands = []
    path = ""
    for unit in split_outside(message, ";"):
        unit = unit.strip()
        if not unit:
            continue
        match = re.match(r"(\*[A-Za-z]+|:?[A-Za-z][\w:]*)(\?)?(?:\s+(.*))?$", unit, re.DOTALL)
        if match is None:
            raise ScpiError(-102, unit[:40])
        header = match[1].upper()
        if header.startswith(":"):
            header = header[1:]
        elif path and not header.startswith("*"):
            header = path + header
        if not header.startswith("*"):
            path = header[: header.rfind(":") + 1]
        parameters = tuple(p.strip() for p in split_outside(match[3], ",")) if match[3] else ()
        commands.append(Command(header, bool(match[2]), parameters))
    return tuple(commands)


def header_pattern(notation: str) -> re.Pattern[str]:
    """A pattern for a header as the standard writes it: [SOURce#]:VOLTage[:LEVel].

    Upper case is the short form, brackets are optional nodes, # is a numeric suffix (group 1).

    >>> bool(header_pattern("[SOURce#]:VOLTage[:LEVel]").fullmatch("SOUR2:VOLT"))
    True
    """
    out, i = "", 0
    for match in re.finditer(r"(\[)?(:?)([A-Za-z*]+)(#?)(\])?", notation):
        optional = bool(match[1])
        word = match[3]
        short = "".join(c for c in word if not c.islower())
        node = re.escape(short) if short == word else f"(?:{re.escape(word.upper())}|{short})"
        if match[4]:
            node += r"(\d*)"
        if i == 0:
            out += f"(?:{node}(?::|$))?" if optional else node
            i = 2 if optional else 1  # after an optional first node the colon is a part of it
            continue
        colon = "" if i == 2 and match[2] else ":"
        out += f"(?:{colon}{node})?" if optional else f"{colon}{node}"
        i = 1
    return re.compile(out)


def number(text: str, unit: str, low: float, high: float) -> float:
    """A numeric parameter with an optional suffix in the default unit (V, A, OHM, S …), or MINimum, MAXimum.

    Raises:
        ScpiError: -104 not a number, -131 wrong suffix, -222 out of range.
    """
    word = text.upper()
    if word in ("MIN", "MINIMUM"):
        return low
    if word in ("MAX", "MAXIMUM"):
        return high
    match = _NUMBER.match(text)
    if match is None:
        raise ScpiError(-104, text[:40])
    value = float(match[1]) * _multiplier(match[2].upper(), unit.upper())
    if not low <= value <= high:
        raise ScpiError(-222, text[:40])
    return value


def _multiplier(suffix: str, unit: str) -> float:
    if not suffix:
        return 1.0
    if suffix.endswith(unit) and suffix[: -len(unit)] in _MULTIPLIERS:
        return _MULTIPLIERS[suffix[: -len(unit)]]
    raise ScpiError(-131, suffix)


def joined(questions: Iterable[str]) -> str:
    """Several questions as one message (IEEE 488.2, 6.4.3); headers begin at the root again.

    >>> joined(["SOUR1:VOLT?", ":OUTP1?", "*IDN?"])
    'SOUR1:VOLT?;:OUTP1?;*IDN?'
    """
    first, *more = questions
    return first + "".join((";" if q.startswith("*") else ";:") + q.removeprefix(":") for q in more)


def asks_and_changes(message: str) -> tuple[bool, bool]:
    """Whether a reply comes to a message, and whether there is more in it than questions. Also of one that is no SCPI.

    >>> asks_and_changes("MEAS:VOLT? 10,(@101)"), asks_and_changes('OUTP ON;OUTP?'), asks_and_changes('DISP "on?"')
    ((True, False), (True, True), (False, True))
    """
    heads = [unit.split()[0] for unit in split_outside(message, ";") if unit.strip()]
    questions = [head.endswith("?") for head in heads]
    return any(questions), not all(questions)


def response_value(text: str) -> float:
    """The number of a reply: NR1, NR2, NR3, hexadecimal, octal or binary (IEEE 488.2, 8.7.2 to 8.7.7), and nothing that
    Python alone takes for one.

    >>> response_value("+1.5E+01"), response_value("#HFF"), response_value("#Q17"), response_value("#B101")
    (15.0, 255.0, 15.0, 5.0)

    Raises:
        ValueError: anything else, such as NAN, INF, 1e400, 1_0.5, 0x10 or an empty reply.
    """
    match = _RESPONSE.fullmatch(text)
    if match is None:
        whole = _NON_DECIMAL.fullmatch(text)
        if whole is None:
            raise ValueError(f"not a number: {text[:60]!r}")
        digits = next(group for group in whole.groups() if group)
        return float(int(digits, _BASES[whole[0].strip()[1].upper()]))
    value = float(match[1])
    if value in (float("inf"), float("-inf")):  # more than any number, such as 1e400
        raise ValueError(f"not a number: {text[:60]!r}")
    return value


def response_text(text: str) -> str:
    """The text of a reply: what is between quotes, where all of it is one string (IEEE 488.2, 8.7.8); else as it is.

    >>> response_text('"FM-2 ""B"" "'), response_text("7,8"), response_text('"a","b"')
    ('FM-2 "B" ', '7,8', '"a","b"')
    """
    if re.fullmatch(r'"(?:[^"]|"")*"', text):
        return text[1:-1].replace('""', '"')
    return text


def boolean(text: str) -> bool:
    """ON, OFF, 1 or 0.

    Raises:
        ScpiError: -141, anything else.
    """
    word = text.upper()
    if word not in ("ON", "OFF", "1", "0"):
        raise ScpiError(-141, text[:40])
    return word in ("ON", "1")


def channel_list(text: str) -> list[int]:
    """The channels of a list such as (@101,103:105), in its order (SCPI-1999 volume 1, 8.3.2).

    >>> channel_list("(@101,103:105)")
    [101, 103, 104, 105]

    Raises:
        ScpiError: -102, not a channel list.
    """
    match = re.fullmatch(r"\(\s*@\s*([\d:,\s]+)\)", text.strip())
    if match is None:
        raise ScpiError(-102, text[:40])
    channels: list[int] = []
    for part in match[1].split(","):
        first, _, last = part.strip().partition(":")
        if not first.isdigit() or (last and not last.isdigit()):
            raise ScpiError(-102, text[:40])
        channels.extend(range(int(first), int(last or first) + 1))
    return channels
