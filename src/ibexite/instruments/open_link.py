"""Finds the kind of link that an address needs, and opens it."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.errors import MistakeError
from ibexite.instruments.address import Address, Hislip, Program, RawSocket, Serial, Vxi11, parse_address
from ibexite.instruments.failures import Failures
from ibexite.instruments.link import Link, LinkOptions


def _raw_socket(text: str, place: RawSocket, options: LinkOptions) -> Link:
    from ibexite.instruments.stream_link import StreamLink
    from ibexite.instruments.tcp_stream import TcpStream

    failures = Failures(options.name, text, options.timeout)
    return StreamLink(text, options, TcpStream(place.host, place.port, options, failures), failures)


def _hislip(text: str, place: Hislip, options: LinkOptions) -> Link:
    from ibexite.instruments.hislip_link import HislipLink

    return HislipLink(text, place, options)


def _vxi11(text: str, place: Vxi11, options: LinkOptions) -> Link:
    from ibexite.instruments.vxi11_link import Vxi11Link

    return Vxi11Link(text, place, options)


def _serial(text: str, place: Serial, options: LinkOptions) -> Link:
    from ibexite.instruments.serial_stream import SerialStream
    from ibexite.instruments.stream_link import StreamLink

    failures = Failures(options.name, text, options.timeout)
    return StreamLink(text, options, SerialStream(text, place, options, failures), failures)


def _program(text: str, place: Program, options: LinkOptions) -> Link:
    from ibexite.instruments.program_stream import ProgramStream
    from ibexite.instruments.stream_link import StreamLink

    failures = Failures(options.name, text, options.timeout)
    return StreamLink(text, options, ProgramStream(text, place, options, failures), failures)


MAKERS: dict[type, Callable[..., Link]] = {
    RawSocket: _raw_socket, Hislip: _hislip, Vxi11: _vxi11, Serial: _serial, Program: _program,
}  # fmt: skip


def reachable(text: str) -> Address:
    """The address, if there is a link for it. Raises MistakeError."""
    address = parse_address(text)
    if type(address) not in MAKERS:
        raise MistakeError(
            f"{text!r} is reached {address.kind}, which is not possible yet",
            remedy='If the instrument has a raw socket as well, write "TCPIP::192.0.2.10::5025::SOCKET".',
        )
    return address


def load() -> None:
    """Loads the modules of all links, for whoever cannot load them later."""
    from ibexite.instruments import (  # noqa: F401
        hislip_link,
        program_stream,
        serial_stream,
        stream_link,
        tcp_stream,
        vxi11_link,
    )


def open_link(text: str, options: LinkOptions) -> Link:
    """An open link to an address.

    Raises:
        MistakeError: there is no link for such an address.
        LinkError: nothing answers there.
    """
    address = reachable(text)
    link = MAKERS[type(address)](text, address, options)
    link.open()
    return link
