"""Addresses of instruments: VISA resource strings, parsed into one type for each kind of link.

Source: VPP-4.3, The VISA Library, 4.3.1 (address strings). Host, port and the like are the business of the links alone;
all others compare addresses, and ask where a stand-in on this machine is to be served.
"""

from __future__ import annotations

import ipaddress
import os
import re
import shlex
import socket
import sys
from collections.abc import Callable

from ibexite.errors import MistakeError, nearest
from ibexite.frozen import frozen


@frozen
class _OnNetwork:
    """What a host answers at."""

    host: str

    @property
    def is_on_this_machine(self) -> bool:
        """True for loopback addresses."""
        try:
            return ipaddress.ip_address(self.host).is_loopback
        except ValueError:
            return self.host.lower() == "localhost"

    def _number(self) -> str:
        """The host as a number; what cannot be resolved cannot be connected either, which says it better."""
        try:
            return str(socket.getaddrinfo(self.host, None, socket.AF_INET, socket.SOCK_STREAM)[0][4][0])
        except OSError:
            return self.host.lower()


@frozen
class RawSocket(_OnNetwork):
    """A TCP port that takes and gives lines."""

    word = "raw socket"

    port: int

    def place(self) -> str:
        """One text for all ways of writing this address."""
        return f"{self._number()}:{self.port}"


@frozen
class Hislip(_OnNetwork):
    """HiSLIP (IVI-6.1): a sub-address at a host."""

    word = "HiSLIP"

    sub_address: str = "hislip0"
    port: int = 4880

    def place(self) -> str:
        """One text for all ways of writing this address."""
        return f"{self._number()}:{self.port} {self.sub_address.lower()}"


@frozen
class Vxi11(_OnNetwork):
    """VXI-11: a device at a host, and where the port mapper of the host listens (111 by its standard)."""

    word = "VXI-11"

    device: str = "inst0"
    port_mapper: int = 111

    def place(self) -> str:
        """One text for all ways of writing this address."""
        port = "" if self.port_mapper == 111 else f":{self.port_mapper}"
        return f"{self._number()}{port} {self.device.lower()}"


@frozen
class _AtThisMachine:
    """What is plugged into this machine; a stand-in of it is served elsewhere."""

    @property
    def is_on_this_machine(self) -> bool:
        """False: nothing can be served at a plug."""
        return False


@frozen
class Serial(_AtThisMachine):
    """A serial port: its number, or the name that the system has for it."""

    word = "serial port"

    port: str

    def place(self) -> str:
        """One text for all ways of writing this address."""
        return f"serial {os.path.realpath(self.device)}"

    @property
    def device(self) -> str:
        """The name that the system has for it; ports that have a number are counted from one."""
        if not self.port.isdigit():
            return self.port
        return f"COM{self.port}" if sys.platform == "win32" else f"/dev/ttyS{int(self.port) - 1}"


@frozen
class Usbtmc(_AtThisMachine):
    """A USB test and measurement class device: vendor, product, serial number, interface; or its device file."""

    word = "USBTMC"

    vendor: int
    product: int
    serial: str
    interface: int = 0
    device: str = ""

    def place(self) -> str:
        """One text for all ways of writing this address."""
        if self.device:
            return f"usb {os.path.realpath(self.device)}"
        return f"usb {self.vendor:04x}:{self.product:04x} {self.serial} {self.interface}"


@frozen
class Program(_AtThisMachine):
    """A program that speaks lines on its standard input and output: what is typed to start it."""

    word = "program"

    command: tuple[str, ...]

    def place(self) -> str:
        """One text for all ways of writing this address."""
        return f"program {shlex.join(self.command)}"


Address = RawSocket | Hislip | Vxi11 | Serial | Usbtmc | Program
PROGRAM = "program "  # how the address of one begins


def _port(text: str) -> int:
    number = int(text)
    if not 0 < number < 65536:
        raise MistakeError(f"{number} is no port", remedy="A port is a number from 1 to 65535.")
    return number


def _lan(found: re.Match[str]) -> Address:
    """HiSLIP if the device is called so, else VXI-11 (VPP-4.3, table 4.3.1). The port of a port mapper, behind the host
    and one colon, is a form of our own: for a tunnel, and for stand-ins."""
    host, device = found[1].strip("[]"), found[3] or "inst0"
    name, comma, port = device.partition(",")
    if name.lower().startswith("hislip"):
        if found[2]:
            raise ValueError
        return Hislip(host, name, _port(port)) if comma else Hislip(host, name)
    return Vxi11(host, device, _port(found[2]) if found[2] else 111)


def _usb(found: re.Match[str]) -> Address:
    return Usbtmc(int(found[1], 0), int(found[2], 0), found[3], int(found[4] or 0))


_HOST, _ID = r"(\[[0-9A-Fa-f:.]+\]|[^:\s]+)", r"(0[xX][0-9A-Fa-f]{1,4}|\d{1,5})"
_FORMS: tuple[tuple[str, Callable[[re.Match[str]], Address]], ...] = (
    (rf"TCPIP\d*::{_HOST}::(\d+)::SOCKET", lambda found: RawSocket(found[1].strip("[]"), _port(found[2]))),
    (rf"TCPIP\d*::{_HOST}(?::(\d+))?(?:::(?!INSTR$)([^:\s]+?))?(?:::INSTR)?", _lan),
    (r"ASRL(\d+|/[^:\s]+|COM\d+)(?:::INSTR)?", lambda found: Serial(found[1])),
    (r"USB\d*::(/[^:\s]+)(?:::INSTR)?", lambda found: Usbtmc(0, 0, "", 0, found[1])),
    (rf"USB\d*::{_ID}::{_ID}::([^:\s]+?)(?:::(\d+))?(?:::INSTR)?", _usb),
)


def parse_address(text: str) -> Address:
    """The address that a VISA resource string means.

    >>> parse_address("TCPIP::192.0.2.10::5025::SOCKET")
    RawSocket(host='192.0.2.10', port=5025)
    >>> parse_address("TCPIP0::192.0.2.10::hislip0::INSTR")
    Hislip(host='192.0.2.10', sub_address='hislip0', port=4880)

    Raises:
        MistakeError: it means none.
    """
    if text.startswith(PROGRAM):
        try:
            command = tuple(shlex.split(text.removeprefix(PROGRAM)))
        except ValueError as error:
            raise MistakeError(f"{text!r} is no command line: {error}") from None
        if command:
            return Program(command)
    for pattern, make in _FORMS:
        found = re.fullmatch(pattern, text, re.IGNORECASE)
        if found is not None:
            try:
                return make(found)
            except ValueError:
                break
    raise MistakeError(f"{text!r} is not an address that can be reached", remedy=_near(text) or f"There is: {FORMS}.")


FORMS = (
    "TCPIP::192.0.2.10::5025::SOCKET (raw socket), TCPIP::192.0.2.10::hislip0::INSTR (HiSLIP), "
    "TCPIP::192.0.2.10::inst0::INSTR (VXI-11), ASRL/dev/ttyUSB0::INSTR (serial port), "
    "USB::0x1234::0x5678::SERIAL::INSTR (USBTMC)"
)
_WORDS = ("TCPIP", "ASRL", "USB", "SOCKET", "INSTR")
_MENDED: tuple[tuple[str, str], ...] = (  # what people write, and what they mean
    (r"([\w.-]+|\[[0-9A-Fa-f:]+\]):(\d+)", r"TCPIP::\1::\2::SOCKET"),
    (r"(COM\d+|/dev/tty\w+|/tmp/\S+)", r"ASRL\1::INSTR"),
    (r"(/dev/usbtmc\d+)", r"USB::\1::INSTR"),
    (r"GPIB(\d*)::(\d+)(?:::INSTR)?", r"TCPIP::192.0.2.10::gpib\1,\2::INSTR"),
    (r"(\d+\.\d+\.\d+\.\d+)", r"TCPIP::\1::inst0::INSTR"),
)


def _near(text: str) -> str:
    """What was meant, as a question; "" if nobody can guess it."""
    parts = re.split("::?", text) if "::" not in text else text.split("::")
    candidates = ["::".join(part if "." in part or "," in part else _spelt(part) for part in parts)]
    for pattern, mended in _MENDED:
        candidates += [re.sub(pattern, mended, text, flags=re.IGNORECASE)] * bool(re.fullmatch(pattern, text, re.I))
    for candidate in candidates:
        if candidate != text and any(re.fullmatch(pattern, candidate, re.IGNORECASE) for pattern, _ in _FORMS):
            behind = "It is reached through a gateway: " if text.upper().startswith("GPIB") else ""
            return f'{behind}Did you mean "{candidate}"?'
    return ""


def _spelt(word: str) -> str:
    number = re.search(r"\d*$", word)
    near = nearest(word.upper().rstrip("0123456789"), _WORDS)
    return near + (number[0] if number else "") if near else word
