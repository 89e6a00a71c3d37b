"""Finds the kind of link that an address needs, and opens it."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.frozen import replaced
from ibexite.instruments.address import Hislip, Program, RawSocket, Serial, Usbtmc, Vxi11, parse_address
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
    options = replaced(options, greeting=b"")  # a port is opened beside it: it knows nothing of that
    return StreamLink(text, options, SerialStream(text, place, options, failures), failures)


def _program(text: str, place: Program, options: LinkOptions) -> Link:
    from ibexite.instruments.program_stream import ProgramStream
    from ibexite.instruments.stream_link import StreamLink

    failures = Failures(options.name, text, options.timeout)
    return StreamLink(text, options, ProgramStream(text, place, options, failures), failures)


def _usbtmc(text: str, place: Usbtmc, options: LinkOptions) -> Link:
    from ibexite.instruments.usbtmc_link import UsbtmcLink

    return UsbtmcLink(text, place, options)


MAKERS: dict[type, Callable[..., Link]] = {
    RawSocket: _raw_socket, Hislip: _hislip, Vxi11: _vxi11, Serial: _serial, Usbtmc: _usbtmc,
    Program: _program,
}  # fmt: skip


def load() -> None:
    """Loads the modules of all links, for whoever cannot load them later."""
    from ibexite.instruments import (  # noqa: F401
        hislip_link,
        program_stream,
        serial_stream,
        stream_link,
        tcp_stream,
        usbtmc_link,
        vxi11_link,
    )


def open_link(text: str, options: LinkOptions) -> Link:
    """An open link to an address.

    Raises:
        MistakeError: it is no address.
        LinkError: nothing answers there.
    """
    address = parse_address(text)
    link = MAKERS[type(address)](text, address, options)
    link.open()
    return link
