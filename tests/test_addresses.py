"""Addresses of instruments: every form of a VISA resource string, and what is none."""

import re

import pytest

from ibexite.errors import MistakeError
from ibexite.instruments.address import Address, Hislip, Program, RawSocket, Serial, Usbtmc, Vxi11, parse_address


@pytest.mark.parametrize(("text", "address"), [
    ("TCPIP::192.0.2.10::5025::SOCKET", RawSocket("192.0.2.10", 5025)), ("tcpip0::psu.lab::5025::socket", RawSocket("psu.lab", 5025)),
    ("TCPIP::[2001:db8::1]::5025::SOCKET", RawSocket("2001:db8::1", 5025)), ("TCPIP0::192.0.2.10::hislip0::INSTR", Hislip("192.0.2.10")),
    ("TCPIP::192.0.2.10::hislip1,4881", Hislip("192.0.2.10", "hislip1", 4881)), ("TCPIP::192.0.2.10::INSTR", Vxi11("192.0.2.10")),
    ("TCPIP::192.0.2.10", Vxi11("192.0.2.10")), ("TCPIP::192.0.2.10::gpib0,5::INSTR", Vxi11("192.0.2.10", "gpib0,5")),
    ("TCPIP::127.0.0.1:40111::inst0::INSTR", Vxi11("127.0.0.1", "inst0", 40111)), ("USB::/dev/usbtmc0::INSTR", Usbtmc(0, 0, "", 0, "/dev/usbtmc0")),
    ("ASRLCOM3::INSTR", Serial("COM3")), ("program ./gauge --port 3", Program(("./gauge", "--port", "3"))), ("ASRL3::INSTR", Serial("3")), ("ASRL/dev/ttyUSB0::INSTR", Serial("/dev/ttyUSB0")),
    ("USB0::0x0957::0x0588::CN1234::INSTR", Usbtmc(0x957, 0x588, "CN1234")), ("USB::2391::1416::CN1234::2::INSTR", Usbtmc(2391, 1416, "CN1234", 2))])  # fmt: skip
def test_each_form_is_an_address_of_its_kind(text: str, address: Address) -> None:
    assert parse_address(text) == address


@pytest.mark.parametrize("text", [
    "", "192.0.2.1:5025", "GPIB0::5::INSTR", "TCPIP::::5025::SOCKET",
    "TCPIP::a b::5025::SOCKET", "USB::0x12345::1::S", "ASRL::INSTR"])  # fmt: skip
def test_what_is_none_is_refused(text: str) -> None:
    with pytest.raises(MistakeError, match="is not an address"):
        parse_address(text)


@pytest.mark.parametrize(("text", "meant"), [
    ("TCPIP::192.0.2.1::5025::SOKET", "TCPIP::192.0.2.1::5025::SOCKET"), ("TCIP0::192.0.2.1::hislip0::INST", "TCPIP0::192.0.2.1::hislip0::INSTR"),
    ("TCPIP:192.0.2.1:5025:SOCKET", "TCPIP::192.0.2.1::5025::SOCKET"), ("192.0.2.1:5025", "TCPIP::192.0.2.1::5025::SOCKET"), ("192.0.2.1", "TCPIP::192.0.2.1::inst0::INSTR"),
    ("COM3", "ASRLCOM3::INSTR"), ("/dev/ttyUSB0", "ASRL/dev/ttyUSB0::INSTR"), ("/dev/usbtmc0", "USB::/dev/usbtmc0::INSTR"), ("GPIB0::5::INSTR", "TCPIP::192.0.2.10::gpib0,5::INSTR"),
])  # fmt: skip
def test_what_was_meant_is_guessed(text: str, meant: str) -> None:
    with pytest.raises(MistakeError, match=f'Did you mean "{re.escape(meant)}"'):
        parse_address(text)
    parse_address(meant)


@pytest.mark.parametrize("text", ["TCPIP::x::0::SOCKET", "TCPIP::x::70000::SOCKET", "TCPIP::x::hislip0,0", "TCPIP::x:70000::inst0::INSTR"])
def test_a_port_that_is_none_is_named(text: str) -> None:
    with pytest.raises(MistakeError, match="is no port"):
        parse_address(text)


def test_ways_of_writing_one_address_are_one_place() -> None:
    for one, other in (("localhost::5025::SOCKET", "127.0.0.1::5025::SOCKET"), ("LOCALHOST::hislip0", "127.0.0.1::HISLIP0::INSTR")):
        assert parse_address(f"TCPIP::{one}").place() == parse_address(f"TCPIP0::{other}").place()
    assert parse_address("TCPIP::192.0.2.1::1::SOCKET").place() != parse_address("TCPIP::192.0.2.1::2::SOCKET").place()
    here = [parse_address(f"TCPIP::{host}::5025::SOCKET").is_on_this_machine for host in ("localhost", "127.1.2.3", "[::1]", "192.0.2.1")]
    assert here == [True, True, True, False] and not parse_address("ASRL1").is_on_this_machine
