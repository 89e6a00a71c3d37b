"""Finds the kind of link that an address needs, and opens it."""

from __future__ import annotations

from ibexite.errors import MistakeError
from ibexite.instruments.address import Address, Hislip, RawSocket, Serial, Usbtmc, Vxi11, parse_address
from ibexite.instruments.link import Link, LinkOptions
from ibexite.instruments.socket_link import SocketLink

_KINDS = {Hislip: "HiSLIP", Vxi11: "VXI-11", Serial: "a serial port", Usbtmc: "USBTMC"}


def reachable(text: str) -> Address:
    """The address, if there is a link for it. Raises MistakeError."""
    address = parse_address(text)
    if not isinstance(address, RawSocket):
        raise MistakeError(
            f"{text!r} is {_KINDS[type(address)]}, which cannot be reached yet",
            remedy='If the instrument has a raw socket as well, write "TCPIP::192.0.2.10::5025::SOCKET".',
        )
    return address


def open_link(text: str, options: LinkOptions) -> Link:
    """An open link to an address.

    Raises:
        MistakeError: there is no link for such an address.
        LinkError: nothing answers there.
    """
    address = reachable(text)
    assert isinstance(address, RawSocket)
    link = SocketLink(text, address, options)
    link.open()
    return link
