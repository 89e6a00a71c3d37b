"""Readings of several parts: how a profile says that rows look, what an instrument that lies makes of them, and that they
come through a bench, a sequence, by hand, and from prepared readings."""

import json
import os
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.pool import Pool
from ibexite.compound import table_of
from ibexite.connections import wiring_of
from ibexite.errors import MistakeError
from ibexite.instruments.link import Reply
from ibexite.instruments.profile import load_profile
from ibexite.protocols.framing import Framer
from ibexite.protocols.layout import Layout, Row
from ibexite.protocols.speech import Speech
from ibexite.records.gateway import open_lookup
from ibexite.simulate.instruments.several_parts import reply_of
from ibexite.simulate.screen import screen
from tests.laboratory.stub_bench import MemoryLink

TESTER = """extends = "scpi-connection-tester"
[readings.wires]
query      = "LIST?"
form       = "list"
rows       = "|"
connection = "{first} to {second}: {value:mohm} mOhm"
diode      = "{first} > {second} at {value:V}"
resistor   = "{first}<R {value:kohm}>{second}"
capacitor  = "{first}<C {value:nF}>{second}"
alone      = "{first} open"
"""
BOX = """extends = "scpi-product"
[readings.counters]
query  = "LOG?"
form   = "list"
row    = "{counter} = {count:number} after {delay:us} {late:yes_no}"
on     = ["LATE"]
off    = ["IN TIME"]
invalid = ["NEVER"]
"""
BENCH = """[bench]
name = "Lead bench"
[instruments.tester]
profile = "tester.toml"
address = "TCPIP::{host}::5025::SOCKET"
[instruments.box]
profile = "box.toml"
address = "TCPIP::{host}::5026::SOCKET"
[instruments.scope]
profile = "scpi-oscilloscope"
address = "TCPIP::{host}::5027::SOCKET"
[roles]
tester = { instrument = "tester" }
box    = { instrument = "box" }
scope  = { instrument = "scope" }
""".replace("{host}", f"127.{2 + os.getpid() // 250 % 250}.{1 + os.getpid() % 250}.7")  # addresses are locked, and several tests run at once
WIRES = {"nets": [["J1.1", "J2.1"], ["J1.2", "J2.2"], ["J1.9"]], "resistance": [["J1.1", "J2.1", 0.25], ["J1.2", "J2.2", 0.5]],
         "forward_voltage": [["J1.3", "J2.4", 0.62]], "resistor": [["J1.4", "J1.5", 1.2e3]], "capacitor": [["J1.6", "J1.7", 1e-7]]}  # fmt: skip


@pytest.fixture
def bench_folder(tmp_path: Path) -> Path:
    for name, text in (("tester.toml", TESTER), ("box.toml", BOX), ("bench.toml", BENCH)):
        (tmp_path / name).write_text(text)
    return tmp_path


class PartsLink(MemoryLink):
    """Answers by the query."""

    answers: dict[str, bytes] = {}

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        return self.answers.get(self._asked.decode(), b"1" if self._asked == b"*OPC?" else b"0,none")


def read(folder: Path, monkeypatch: pytest.MonkeyPatch, role: str, reading: str, answer: bytes):
    """What a bench makes of an answer, and why it is bad."""
    query = {"wires": "LIST?", "counters": "LOG?", "screen": "HCOP:SDUM:DATA?"}[reading]
    monkeypatch.setattr(PartsLink, "answers", {query: answer})
    bench = Bench(read_bench(folder / "bench.toml"), Pool(PartsLink.opening))
    bench.connect([role])
    (value,) = bench.read_line([bench.role_item("x", role, reading, {})], together=False, averaging=1)()
    bad = [(b.reason.code, b.reason.text) for b in bench.bad]
    bench.close()
    return value, bad


@pytest.mark.parametrize(("role", "reading", "answer", "code"), [
    ("tester", "wires", b"J1.1 to J2.1: 250 mOhm|J1.9 open|J1.3 > J2.4 at 0.62|J1.4<R 1.2>J1.5|", ""), ("tester", "wires", b"", "empty"), ("tester", "wires", b"| |", "empty"),
    ("tester", "wires", b"J1.1 to J2.1: 250 mOhm|J1.2 to J2.2", "not_as_said"), ("tester", "wires", b"J1.1 to J2.1: x mOhm", "not_as_said"), ("tester", "wires", b"J1.1 to J2.1: 1 mOhm|J2.1 to J1.1: 2 mOhm", "not_as_said"),
    ("tester", "wires", b"J1.1 to J2.1: 1 mOhm|J1.1 open", "not_as_said"), ("tester", "wires", b"ERROR 7", "not_as_said"),
    ("box", "counters", b"crc = 3 after 12.5 LATE;frame = 0 after NEVER IN TIME", ""), ("box", "counters", b"crc = 3 after 12.5 PERHAPS", "not_as_said"), ("box", "counters", b"crc = three after 1 LATE", "not_as_said"),
    ("box", "counters", b"", "empty"), ("scope", "screen", b"GIF89a", "not_as_said"), ("scope", "screen", b"", "empty"), ("scope", "screen", screen(), "")])  # fmt: skip
def test_what_a_reply_means(bench_folder: Path, monkeypatch, role: str, reading: str, answer: bytes, code: str) -> None:
    value, bad = read(bench_folder, monkeypatch, role, reading, answer)
    assert [found for found, _ in bad] == ([code] if code else []) and (value != value) == bool(code), bad
    if code or reading == "screen":
        return
    if reading == "wires":
        wiring = wiring_of(value)
        assert wiring.nets == (("J1.1", "J2.1"), ("J1.3",), ("J1.4",), ("J1.5",), ("J1.9",), ("J2.4",))
        assert wiring.pairs == {"resistance": (("J1.1", "J2.1", 0.25),), "forward_voltage": (("J1.3", "J2.4", 0.62),), "resistor": (("J1.4", "J1.5", 1200.0),)}
    else:
        columns = {column.head: column.cells for column in table_of(value)}
        assert columns["counter"] == ("crc", "frame") and columns["late"] == (True, False) and columns["count"] == (3.0, 0.0)
        assert columns["delay in us"][0] == pytest.approx(12.5e-6) and columns["delay in us"][1] != columns["delay in us"][1]


@pytest.mark.parametrize(("wrong", "right", "told"), [
    ('connection = "{first} to {second}: {value:mohm} mOhm"', 'connection = "{first} to {other}"', "names first, other"), ("{value:mohm} mOhm", "{value:mV} mV", "has a value in 'mV'"),
    ("{value:mohm} mOhm", "{value} mOhm", "has a value in 'text'"), ("{first} to {second}:", "{first}{second}:", "nothing between {first} and {second}"), ("{value:mohm}", "{value:furlong}", "furlong"),
    ("{first} to {second}:", "{first} to {first}:", "{first} stands in it twice"), ('alone      = "{first} open"', 'alone = "open"', "has no gap"), ("{first} > {second}", "{first:number} > {second}", "a pin that is no text"),
    ('rows       = "|"', 'row = "{a}"', "row: is for tables"), ('form       = "list"', 'form = "lump"', "there is no form 'lump'")])  # fmt: skip
def test_a_mistake_in_a_profile_is_told(bench_folder: Path, wrong: str, right: str, told: str) -> None:
    assert wrong in TESTER
    (bench_folder / "tester.toml").write_text(TESTER.replace(wrong, right))
    with pytest.raises(MistakeError, match=re.escape(told)):
        load_profile("tester.toml", bench_folder)


def test_what_is_for_others_is_refused(bench_folder: Path) -> None:
    version = 'extends = "scpi-product"\n[readings.version]\nquery = "V?"\n'
    for number, (text, told) in enumerate((
        (version + 'rows = ";"\n', "is for tables and connections"), (version + 'row = "{a}"\n', "is for tables"), (version + 'alone = "{first}"\n', "is for connections"),
        ('class = "product"\n[readings.counters]\nquery = "L?"\n', "row: is missing"))):  # fmt: skip
        (bench_folder / f"box{number}.toml").write_text(text)
        with pytest.raises(MistakeError, match=told):
            load_profile(f"box{number}.toml", bench_folder)


CELL = st.text(st.characters(codec="ascii", categories=["L", "N"]), min_size=1, max_size=4)
ROWS = {"a": "A {x},{n:number}", "b": "{x}<{n:mV}>{y}", "c": "C({x})"}


@given(st.lists(st.tuples(st.sampled_from("abc"), CELL, CELL, st.floats(-1e6, 1e6) | st.none()), max_size=5), st.booleans())
def test_what_a_stand_in_writes_a_bench_reads(rows: list, is_comma: bool) -> None:
    speech = Speech(number="comma" if is_comma else "decimal", separator=";", invalid=("LOST",))
    layout = Layout(False, "|", {kind: Row(text.replace(",", ";") if is_comma else text) for kind, text in ROWS.items()})
    given_rows = [(kind, {"x": x} if kind == "c" else {"x": x, "n": n} if kind == "a" else {"x": x, "y": y, "n": n}) for kind, x, y, n in rows]
    found = layout.read(layout.written(given_rows, speech), speech)
    assert [kind for kind, _ in found] == [kind for kind, _ in given_rows]
    for (_, cells), (_, wanted) in zip(found, given_rows, strict=True):
        assert {name: cell for name, cell in cells.items() if name != "n"} == {name: cell for name, cell in wanted.items() if name != "n"}
        if "n" in wanted:
            assert cells["n"] == (None if wanted["n"] is None else pytest.approx(wanted["n"], rel=1e-12, abs=1e-12))


@pytest.mark.parametrize(("rows", "text", "found"), [
    ({"connection": "{first},{second},{value:ohm}", "resistor": "R,{first},{second},{value:ohm}"}, "R,J1.4,J1.5,120", ["resistor"]),
    ({"connection": "{first},{second},{value:ohm}", "resistor": "R,{first},{second},{value:ohm}"}, "J1.1,J2.1,0.2", ["connection"]),
    ({"connection": "{first},{second}", "resistor": "{first},{second},{value:ohm}"}, '"A,1",B', ["connection"]),
    ({"connection": "{first},{second}", "alone": "{first}"}, "J1.1,J2.1", "may be"), ({"connection": "{first}-{second}", "alone": "OPEN {first}"}, "OPEN J1.1", ["alone"]),
    ({"connection": "{first}-{second}", "alone": "OPEN {first}"}, "J1.1", "is not as")])  # fmt: skip
def test_an_entry_is_of_one_kind_or_it_is_bad(rows: dict[str, str], text: str, found: list[str] | str) -> None:
    layout = Layout(False, ";", {kind: Row(row) for kind, row in rows.items()})
    if isinstance(found, list):
        assert [kind for kind, _ in layout.read(text, Speech())] == found
    else:
        with pytest.raises(ValueError, match=found):
            layout.read(text, Speech())


def test_what_is_above_the_threshold_of_a_tester_is_not_connected(bench_folder: Path) -> None:
    layout = load_profile("tester.toml", bench_folder).readings["wires"].layout
    assert layout is not None
    for threshold, connected in ((0.0, 2), (0.3, 1), (0.1, 0)):
        text = reply_of("connections", layout, Speech(), WIRES, threshold=threshold)
        assert text.count(" to ") == connected and text.count(" open") == 7 + (2 - connected) * 2, text
        assert "J1.3 > J2.4 at 0.62" in text and "J1.4<R 1.2>J1.5" in text and "J1.6<C 100>J1.7" in text


SEQUENCE = """sequence "Lead"
    product "FM-2 sensor lead"
    serial  "LD[0-9]{5}"

needs
    tester : connection_tester
    box    : product
    scope  : oscilloscope

test lead "Lead"
    read wires = tester.wires
    read counters = box.counters, screen = scope.screen
    check wires.resistance <= 0.4 ohm
    check wires.forward_voltage between 0.5 V and 0.7 V
    repeat scan 3 times
        read now = tester.wires
        check now == wires as "same"
    check intermittent(now along scan) == 0 as "contacts"
    check counters == counters as "counters"
    note "{wires}, {counters}, {screen}"
"""
PREPARED = {"tester.wires": [{"resistance": [["J1.1", "J2.1", 0.25], ["J1.2", "J2.2", 0.5]], "forward_voltage": [["J1.3", "J2.4", 0.62]]}] * 3
            + [{"nets": [["J1.2"]], "resistance": [["J1.1", "J2.1", 0.25]]}], "box.counters": {"counter": ["crc"], "delay in us": [7], "late": [True], "count": [2]}}  # fmt: skip


def toml(value: object) -> str:
    """A value of prepared readings, in TOML."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f'"{key}" = {toml(one)}' for key, one in value.items()) + " }"
    return "[" + ", ".join(map(toml, value)) + "]" if isinstance(value, list) else json.dumps(value)


def test_a_sequence_reads_them_and_they_are_kept(ibexite, bench_folder: Path, project: Path) -> None:
    for name in ("tester.toml", "box.toml"):
        (project / name).write_text((bench_folder / name).read_text())
    (project / "lead.toml").write_text(BENCH)
    (project / "lead.ibx").write_text(SEQUENCE)
    (project / "ready.toml").write_text("[readings]\n" + "\n".join(f'"{name}" = {toml(value)}' for name, value in PREPARED.items()))
    run = ("run", "lead.ibx", "--bench", "lead.toml", "--simulate", "--readings", "ready.toml", "--serial", "LD00001")
    done = ibexite(*run)
    assert done.returncode == 1, done.stdout + done.stderr
    shown = ibexite("show", "last").stdout
    for part in (
        "fail   wires.resistance",
        "0.5000 ohm",
        "connection = J1.2-J2.2",
        "pass   wires.forward_voltage",
        "1 of 3 failed",
        "contact = J1.2-J2.2",
        "pass   counters",
    ):
        assert part in shown, (part, shown)
    lookup = open_lookup(project / "records")
    record = lookup.run(lookup.find("last"))
    (picture,) = [text for name, _, text in record.tests[0].single_words() if name == "screen"]
    assert Path(json.loads(picture)["path"]).read_bytes().startswith(b"\x89PNG") and record.files[0]["name"] == "screen.png"
    remark = record.row["remarks"]
    lookup.close()
    assert "4 nets of 6 pins, 1 diode, 1 row of counter, count, delay, late, screen.png" in str(remark), remark
    (project / "ready.toml").write_text('[readings]\n"tester.wires" = { wire = [] }')
    refused = ibexite(*run)
    assert refused.returncode == 2 and "tester.wires: it is not connections" in refused.stderr, refused.stderr


def test_by_hand_all_of_it_is_shown(ibexite, bench_folder: Path, project: Path) -> None:
    for name in ("tester.toml", "box.toml", "bench.toml"):
        (project / name).write_text((bench_folder / name).read_text())

    def by_hand(*words: str) -> str:
        done = ibexite("instruments", "read", *words, "--bench", "bench.toml", "--simulate")
        assert done.returncode == 0, done.stderr
        return str(done.stdout)

    assert "tester.wires = 2 nets of 3 pins" in by_hand("tester", "wires") and "1-2    100 mohm" in by_hand("tester", "wires")
    assert "box.counters = 1 row of counter, count, delay, late" in by_hand("box", "counters")
    assert json.loads(by_hand("box", "ready", "--format", "json"))["value"] == 0.0 and "box.ready = no" in by_hand("box", "ready")
    for name in ("screen.png", "screen_2.png"):
        assert f"scope.screen: {name}, " in by_hand("scope", "screen") and (project / name).read_bytes().startswith(b"\x89PNG")
    assert "2000 points over time" in by_hand("scope", "wave") and len(json.loads(by_hand("scope", "wave", "--format", "json"))["value"]["values"]) == 2_000


LINED = """extends = "scpi-product"
[readings.counters]
query     = "LOG?"
form      = "list"
last_line = "OK"
row       = "{counter} {count:number}"
[readings.message]
query = "MSG?"
lines = 3
reply = "state: {value}\\n{any}\\n{any}"
[readings.errors]
query = "ERRS? {channel}"
lines = 2
reply = "{any}: {value}"
[quirks]
reply_terminator = "\\r\\n"
"""


def test_replies_of_several_lines_are_one_over_every_link(ibexite, project: Path) -> None:
    """Simulated on real links: what the stand-in sends is taken to its last line, and what comes next is no rest of it."""
    (project / "lined.toml").write_text(LINED)
    for number, address in enumerate(
        ("TCPIP::127.0.0.1::5025::SOCKET", "TCPIP::127.0.0.1::hislip0::INSTR", "TCPIP::127.0.0.1::inst0::INSTR", "ASRL/dev/ttyS7::INSTR")
    ):
        (project / f"b{number}.toml").write_text(
            f'[bench]\nname = "B"\n[instruments.box]\nprofile = "lined.toml"\naddress = "{address}"\n[roles.box]\ninstrument = "box"\n'
        )
        (project / "lined.ibx").write_text("""sequence "Lined"
    product "FM-2 sensor lead"
    serial  "LD[0-9]{5}"

needs
    box : product

test lined "Lined"
    repeat n 3 times
        read said = box.message, all = box.counters, e = box.errors, v = box.version
        check said matches "ready [0-9]+" as "said"
    check e == 7 as "errors"
    check count(e) == 3 as "all of them"
    read last = box.counters
    check last == last as "table"
""")
        (project / "ready.toml").write_text(
            '[readings]\n"box.message" = ["ready 1", "ready 2"]\n"box.errors" = "7"\n"box.counters" = { counter = ["crc", "frame"], count = [3, 4] }\n'
        )
        done = ibexite("run", "lined.ibx", "--bench", f"b{number}.toml", "--simulate", "--readings", "ready.toml", "--serial", "LD00001")
        shown = ibexite("show", "last").stdout
        assert done.returncode == 5 and "2 rows of counter, count" in shown, (address, done.stdout, done.stderr, shown)


@pytest.mark.parametrize(("sent", "count", "last", "found", "left"), [
    (b"a\nb\nc\n", 3, b"", b"a\nb\nc", b""), (b"a\nb\n", 3, b"", None, b"a\nb\n"), (b"a\nb\nc\nd\n", 3, b"", b"a\nb\nc", b"d\n"), (b"a\nOK\n", 1, b"OK", b"a", b""),
    (b"OK\n", 1, b"OK", b"", b""), (b"a\n OK \nb", 1, b"OK", b"a", b"b"), (b"a\nNOT OK\n", 1, b"OK", None, b"a\nNOT OK\n"), (b"\n\n", 2, b"", b"\n", b"")])  # fmt: skip
@pytest.mark.parametrize("size", [1, 2, 100])
def test_lines_are_taken_whatever_pieces_they_come_in(sent: bytes, count: int, last: bytes, found: bytes | None, left: bytes, size: int) -> None:
    framer, got = Framer(b"\n"), None
    for begin in range(0, len(sent), size):
        framer.feed(sent[begin : begin + size])
        got = got if got is not None else framer.next_lines(count, last)
    assert (got, framer.pending) == (found, left)


MODEL = """[values]
wire    = "0.2 ohm +/- 5 %"
contact = "30 mohm"
[faults.broken]
units   = ["LD00002"]
contact = "10 Mohm"
[connections.lead]
resistance      = [["J1.1", "J2.1", "wire"], ["J1.2", "J2.2", "wire + contact"]]
forward_voltage = [["J1.3", "J2.3", "0.6 V"]]
alone           = ["J1.4"]
"""
THRESHOLD = '[settings.threshold]\nwrite = "THR {value}"\nask = "THR?"\nrange = ["1 ohm", "1 Mohm"]\n'
LEAD = (
    SEQUENCE[: SEQUENCE.index("    box ")]
    + """
before unit
    set tester.threshold = 20 ohm, tester.output = on

test lead "Lead"
    read wires = tester.wires
    check wires.resistance between 0.1 ohm and 0.4 ohm
    check count(wires.resistance) == 2 as "two wires"
"""
)


@pytest.mark.parametrize(("serial", "code", "told"), [("LD00001", 5, "7 of"), ("LD00002", 1, "two wires fail: 1 against")])
def test_a_model_in_text_says_how_a_lead_is_wired(ibexite, project: Path, serial: str, code: int, told: str) -> None:
    (project / "tester.toml").write_text(TESTER + THRESHOLD)
    only = (
        BENCH[: BENCH.index("[instruments.box]")]
        + '[roles.tester]\ninstrument = "tester"\n[instruments.tester.simulated]\nidentity = "A,B"\nwiring = { 1 = "lead" }\n'
    )
    (project / "lead.toml").write_text(only + '[simulation]\nproduct = "model.toml"\n')
    (project / "model.toml").write_text(MODEL)
    (project / "lead.ibx").write_text(LEAD)
    done = ibexite("run", "lead.ibx", "--bench", "lead.toml", "--simulate", "--serial", serial)
    assert done.returncode == code and ("two wires fail" not in told or told in done.stdout), done.stdout + done.stderr


@pytest.mark.parametrize(("wrong", "right", "told"), [
    ('"wire"]', '"wire * 1 A"]', "It is a resistance (ohm)"), ('"wire"]', '"wyre"]', "unknown name 'wyre'"), ('["J1.1", "J2.1", "wire"]', '["J1.1", "wire"]', "not pairs of pins"),
    ("forward_voltage", "forward_current", "Did you mean forward_voltage")])  # fmt: skip
def test_a_mistake_in_such_a_model_is_told(ibexite, project: Path, wrong: str, right: str, told: str) -> None:
    (project / "model.toml").write_text(MODEL.replace(wrong, right))
    done = ibexite("vet", "model.toml")
    assert done.returncode == 2 and told.lower() in (done.stdout + done.stderr).lower(), done.stdout + done.stderr
    as_data = ibexite("vet", "model.toml", "--format", "json")
    (mistake,) = json.loads(as_data.stdout)
    assert as_data.returncode == 2 and told.lower() in json.dumps(mistake).lower() and mistake["mark"].startswith("connections.lead") and mistake["line"] >= 8
    (project / "model.toml").write_text(MODEL)
    assert ibexite("vet", "model.toml", "--format", "json").stdout == "[]\n"
