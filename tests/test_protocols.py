"""SCPI without sockets: syntax, number formats, the standard errors of a simulated instrument; lines from bytes."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.protocols import scpi
from ibexite.protocols.framing import Framer, NoBlock, block_content, definite_block
from ibexite.protocols.scpi import Command, ScpiError
from ibexite.simulate.instruments.meter import SimulatedMeter
from ibexite.simulate.instruments.supply import SimulatedSupply
from ibexite.simulate.products.fm2_control_board import Fm2ControlBoard
from ibexite.simulate.world import Source, World


@pytest.mark.parametrize(("header", "fits"), [
    ("VOLT", True), ("VOLTAGE", True), ("SOUR:VOLT", True), ("SOURCE2:VOLTAGE:LEV", True), ("SOUR1:VOLT:LEVEL", True),
    ("VOLTA", False), ("SOURVOLT", False), ("SOUR:VOLT:LEVE", False), ("OUTP", False)])  # fmt: skip
def test_headers_have_a_long_and_a_short_form(header: str, fits: bool) -> None:
    assert bool(scpi.header_pattern("[SOURce#]:VOLTage[:LEVel]").fullmatch(header)) is fits


def test_a_header_after_a_semicolon_continues_the_path() -> None:
    assert scpi.parse_message("SOUR:VOLT 5;CURR 1;*OPC?;:OUTP ON") == (
        Command("SOUR:VOLT", False, ("5",)), Command("SOUR:CURR", False, ("1",)), Command("*OPC", True, ()),
        Command("OUTP", False, ("ON",)))  # fmt: skip
    assert scpi.parse_message('DISP "a;b,c",(@101,102)')[0].parameters == ('"a;b,c"', "(@101,102)")


def supply() -> SimulatedSupply:
    return SimulatedSupply("Firnline,PS-36", "psu", World(Fm2ControlBoard("FC00400"), lambda: 0.0), "battery")


def say(device, *messages: str) -> str:
    """The last reply to some messages; replies before it are read."""
    reply = ""
    for message in messages:
        device.receive(message)
        reply = device.take_output() or ""
    return reply


@pytest.mark.parametrize(("messages", "reply"), [
    (["*IDN?"], "Firnline,PS-36,SIMULATED-psu,0.1.0"),
    (["volt 9.5 V", "source1:voltage:level?"], "+9.5000000E+00"),
    (["VOLT 500 mV;CURR 0.25", "VOLT?;CURR?"], "+5.0000000E-01;+2.5000000E-01"),
    (["VOLT MAX", "VOLT?"], "+3.6000000E+01"), (["VOLT? MIN"], "+0.0000000E+00"),
    (["OUTP ON", "OUTP?"], "1"), (["OUTPUT:STATE 0", "OUTP?"], "0"), (["*OPC?"], "1"), (["*OPC", "*ESR?"], "1"),
    (["SYST:ERR?"], '0,"No error"'),
    (["VOLT 99", "SYST:ERR?"], '-222,"Data out of range;99"'),
    (["VOLT five", "SYST:ERR?"], '-104,"Data type error;five"'), (["VOLT 5 A", "SYST:ERR?"], '-131,"Invalid suffix;A"'),
    (["VOLT", "SYST:ERR?"], '-109,"Missing parameter"'), (["VOLT 1,2", "SYST:ERR?"], '-108,"Parameter not allowed"'),
    (["VOLTS 5", "SYST:ERR?"], '-113,"Undefined header;VOLTS"'), (["5 VOLT", "SYST:ERR?"], '-102,"Syntax error;5 VOLT"'),
    (["OUTP MAYBE", "SYST:ERR?"], '-141,"Invalid character data;MAYBE"'),
    (["VOLT 99", "VOLT 98", "SYST:ERR?", "SYST:ERR?", "SYST:ERR?"], '0,"No error"'),
    (["VOLT 99", "*CLS", "SYST:ERR?"], '0,"No error"'), (["VOLT 99", "*ESR?"], "16"), (["VOLTS 1", "*ESR?"], "32"),
    (["VOLT 7", "VOLT 99", "VOLT?"], "+7.0000000E+00"), (["VOLT 7;OUTP ON", "*RST", "VOLT?;OUTP?"], "+0.0000000E+00;0"),
    (["VOLT 99"] * 30 + ["SYST:ERR?"] * 20, '-350,"Queue overflow"')])  # fmt: skip
def test_instruments_answer_as_the_standard_says(messages: list[str], reply: str) -> None:
    assert say(supply(), *messages) == reply


def test_a_query_before_the_last_reply_was_read_is_interrupted() -> None:
    device = supply()
    device.receive("VOLT?")
    device.receive("CURR?")
    assert device.take_output() == "+1.0000000E-01"
    assert say(device, "SYST:ERR?") == '-410,"Query INTERRUPTED"'


def test_a_meter_scans_its_channels_and_tells_overload() -> None:
    world = World(Fm2ControlBoard("FC00400"), lambda: 0.0)
    meter = SimulatedMeter("Firnline,DM-65S", "dmm", world, {101: "battery_voltage", 103: "output_voltage"})
    world.stimuli.source["battery"] = Source(9.0, 1.0, True)
    world.changed()
    world.clock = lambda: 10.0
    values = say(meter, "CONF:VOLT:DC 100,(@101)", "CONF:VOLT:DC 1,(@103)", "ROUT:SCAN (@101,103)", "READ?").split(",")
    assert float(values[0]) == pytest.approx(9.0, abs=2e-3)
    assert float(values[1]) == scpi.INFINITY  # 5 V in the range of 1 V
    assert say(meter, "ROUT:SCAN (@107)", "SYST:ERR?").startswith("-224")


@pytest.mark.parametrize("text", ["(101)", "(@)", "(@1:x)", "@101", "(@101,)"])
def test_wrong_channel_lists_are_refused(text: str) -> None:
    with pytest.raises(ScpiError):
        scpi.channel_list(text)


@given(st.text(max_size=60))
def test_any_message_ends_in_an_entry_of_the_error_queue_or_none(message: str) -> None:
    device = supply()
    device.receive(message)
    device.take_output()
    assert say(device, "SYST:ERR?")


PART = st.sampled_from([b"1", b"-2.5E3", b'"#1 x"', b"#", b"#0"]) | st.binary(max_size=20).map(definite_block)
MESSAGE = st.lists(PART, max_size=4).map(b",".join)


def whole(stream: bytes, data, take) -> tuple[list[bytes], bytes]:
    """What a framer gives for bytes that arrive in any pieces, and what is left."""
    framer, found = Framer(b"\n"), []
    while stream:
        size = data.draw(st.integers(1, len(stream)))
        framer.feed(stream[:size])
        stream = stream[size:]
        while (line := take(framer)) is not None:
            found.append(line)
    return found, framer.pending


@given(st.lists(st.binary(max_size=20).filter(lambda b: b"\n" not in b), max_size=8), st.data())
def test_lines_come_out_whole_however_the_bytes_arrive(lines: list[bytes], data) -> None:
    assert whole(b"".join(line + b"\n" for line in lines) + b"rest", data, Framer.next_line) == (lines, b"rest")


@given(st.lists(MESSAGE, max_size=5), st.data())
def test_messages_come_out_whole_whatever_is_in_their_blocks(messages: list[bytes], data) -> None:
    assert whole(b"".join(message + b"\n" for message in messages) + b"rest", data, Framer.next_message) == (messages, b"rest")


@given(st.binary(max_size=40))
def test_a_block_gives_back_what_it_was_made_of(content: bytes) -> None:
    assert block_content(definite_block(content)) == content
    for spoilt in (definite_block(content)[1:], definite_block(content) + b"x", b"#0" + content, b"#"):
        with pytest.raises(NoBlock):
            block_content(spoilt)
