"""An instrument that writes and answers in words of its own all through: questions without a question mark, a decimal
comma, hexadecimal settings, replies of several lines. Its server stands here and knows nothing of profiles."""

import contextlib
import json
import re
import socket
import subprocess
import threading
import time
from pathlib import Path
from typing import BinaryIO

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import units
from ibexite.instruments.link import Lines, Reply
from ibexite.instruments.own_questions import own_reply
from ibexite.instruments.profile import load_profile
from ibexite.protocols.scpi import INFINITY, NOT_A_NUMBER
from ibexite.protocols.speech import Speech, Template
from tests.conftest import IBEXITE
from tests.press import press_folder
from tests.runs import kept_events

CLASS = """
help   = "fills a housing with air and tells what leaks"
switch = "valve"
levels = ["pressure"]
[settings]
valve    = { kind = "on_off", help = "lets the air in" }
pressure = { unit = "kPa", help = "pressure of the air" }
[readings]
leak   = { unit = "m^3/s", help = "what flows away" }
tight  = { kind = "yes_no", help = "its own judgement" }
decay  = { unit = "Pa", over = { time = "s" }, help = "pressure over time" }
answer = { unit = "Pa", over = { freq = "Hz" }, help = "pressure over the frequency at which it is shaken" }
events = { kind = "table", help = "what it has met" }
"""
PROFILE = """
class = "seal_tester"
identity_query = "WHO"
identity_reply = "SEAL {value}"
start          = ["STOP"]
error_query    = "FAULT"
no_error       = "none"
acknowledge    = ">"
complete       = { query = "STATE", yes = "idle", no = "busy", every = "10 ms" }
[speech]
on        = "open"
off       = "shut"
number    = "comma"
separator = ";"
[settings.valve]
write = "V={value}"
ask   = "V"
reply = "valve is {value}"
[settings.pressure]
write  = "PR={value}"
ask    = "PR"
reply  = "PR {value}"
number = "hex"
factor = "0.01"
range  = ["0 kPa", "500 kPa"]
[readings.leak]
query    = "LK"
reply    = "{value} m3/s"
accuracy = "3 % + 1e-10 m^3/s"
[readings.tight]
query = "TIGHT"
on    = "FINE"
off   = "NOT FINE"
[readings.decay]
query = "DEC"
reply = "P {value} {unit}"
axes.time = { start = "0 s", step = { query = "STEP", reply = "each {value} ms" }, unit = "ms" }
[readings.answer]
query    = "ANS"
overload = "too much"
axes.freq = { start = { query = "FROM" }, stop = { query = "TO" }, spacing = { query = "HOW", words = { linear = "even", logarithmic = "decades" } } }
[readings.events]
query     = "LOG"
last_line = "END"
row       = "{name}: {count:number} times, last {at:s} s"
[safe]
valve = false
[quirks]
compound         = false
terminator       = "\\r"
reply_terminator = "\\r\\n"
"""
BENCH = """[bench]
name = "seal bench"
[instruments.seal]
profile = "seal.toml"
address = "TCPIP::127.0.0.1::{port}::SOCKET"
identity = "unit 7"
[roles.tester]
instrument = "seal"
ceiling = {{ pressure = "300 kPa" }}
[signals.leakage]
read = "tester.leak"
"""
SEQUENCE = """sequence "Seal"
    product "Housing"
    serial "H[0-9]+"
needs
    tester : seal_tester
    leakage : signal in m^3/s
test seal "Holds its air"
    set tester.pressure = 250 kPa, tester.valve = on
    read leakage, ok = tester.tight, fall = tester.decay, met = tester.events
    check leakage <= 5e-9 m^3/s guarded by accuracy
    check ok is yes
    check max(fall along time) - min(fall along time) <= 60 Pa as "drop"
    let last = max(fall along time) - at(fall, time = 100 ms)
    check last within 5 Pa +/- 1 mPa
    read reply = tester.answer
    let third = at(reply, freq = 1 kHz)
    check third within 3 Pa +/- 1 uPa
after unit
    set tester.valve = off
"""


class SealTester(threading.Thread):
    """The instrument, by its makers' half page."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        self.state = {"V": "shut", "PR": "0000"}
        self.heard: list[str] = []

    def run(self) -> None:
        while True:
            try:
                client, _ = self.listener.accept()
            except OSError:
                return
            with client, client.makefile("rwb") as stream, contextlib.suppress(OSError):
                self.talk(stream)

    def talk(self, stream: BinaryIO) -> None:
        text = b""
        while byte := stream.read(1):
            text += byte
            if byte == b"\r":
                self.heard.append(text.strip().decode())
                stream.write(self.reply(self.heard[-1]).encode() + b"\r\n")
                stream.flush()
                text = b""

    def reply(self, line: str) -> str:
        known = {
            "WHO": "SEAL unit 7", "FAULT": "none", "STATE": "idle", "STOP": ">", "V": f"valve is {self.state['V']}", "PR": f"PR {self.state['PR']}",
            "LK": "3,2E-9 m3/s", "TIGHT": "FINE", "DEC": "P 1,0;0,9975;0,995;0,9925 kPa", "STEP": "each 50,0 ms", "ANS": "1,0;2,0;3,0;too much",
            "FROM": "10,0", "TO": "10000,0", "HOW": "decades", "LOG": "fill: 12 times, last 3,4 s\r\nleak: 1 times, last 0,5 s\r\nEND",
        }  # fmt: skip
        head, equals, value = line.partition("=")
        if equals and head in self.state:
            self.state[head] = value
            return ">"
        return known.get(line, "?")


@pytest.fixture
def seal(tmp_path: Path):
    """The folder of a project with its bench, and the instrument."""
    tester = SealTester()
    (tmp_path / "classes").mkdir()
    for name, text in (("classes/seal_tester.toml", CLASS), ("seal.toml", PROFILE), ("bench.toml", BENCH.format(port=tester.port)),
                       ("seal.ibx", SEQUENCE), ("ibexite.toml", '[project]\nbench = "bench.toml"\n')):  # fmt: skip
        (tmp_path / name).write_text(text)
    tester.start()
    yield tester
    tester.listener.close()


@pytest.fixture
def program(tmp_path: Path):
    def run(*words: str, **more: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([*IBEXITE, *words], cwd=tmp_path, capture_output=True, text=True, timeout=120, **more)

    return run


def test_it_is_run_and_exercised(seal: SealTester, program) -> None:
    done = program("run", "seal.ibx", "--serial", "H1", "--no-report")
    assert done.returncode == 0, done
    assert "PR=61A8" in seal.heard and seal.state["V"] == "shut", "250 kPa in hundredths, and shut again"
    (test,) = json.loads(program("show", "last", "--format", "json").stdout)["tests"]
    results = {result["label"]: result for result in test["results"]}
    assert {name: result["verdict"] for name, result in results.items()} == dict.fromkeys(("leakage", "ok", "drop", "last", "third"), "pass")
    assert results["leakage"]["guard"] == pytest.approx(0.03 * 3.2e-9 + 1e-10), "the signal is a reading and no more: as exact as that"
    assert results["drop"]["value"] == pytest.approx(7.5)
    rows = json.loads(program("instruments", "verify", "tester", "--exercise", "--with-outputs", "--format", "json").stdout)
    assert {(row["name"], row["result"]) for row in rows if row["result"] != "ok"} == {("answer", "overload at 1 of 4 points")}


def test_it_is_asked_by_hand_in_its_own_words(seal: SealTester, program) -> None:
    for words, told in (("read tester.decay", "4 points over time"), ("read tester.events", "leak   1       0.5"), ("send seal LK", "3,2E-9 m3/s"),
                        ("send tester LOG", "leak: 1 times"), ("set tester.pressure = 20 kPa", "tester.pressure = 20 kPa"), ("explain tester.pressure", "PR={value}")):  # fmt: skip
        done = program("instruments", *words.split())
        assert done.returncode == 0 and told in done.stdout, done
    for text in ("V=open", "STOP", "LK 3"):
        refused = program("instruments", "send", "tester", text)
        assert refused.returncode == 2 and "raw commands are not allowed" in refused.stderr and text not in seal.heard
    talk = program("instruments", "talk", "tester", input="decay\nevents\nread tight\nsend LK\nquit\n")
    for told in ("tester.decay: 4 points over time", "fill   12", "tester.tight = yes", "3,2E-9 m3/s"):
        assert told in talk.stdout, talk


def test_its_stand_in_speaks_as_it_does_and_is_troubled_in_its_words(seal: SealTester, program, tmp_path: Path) -> None:
    assert json.loads(program("instruments", "read", "tester", "answer", "--simulate", "--format", "json").stdout)["value"]["axes"]["freq"][-1] > 1
    assert program("instruments", "read", "tester.decay", "--simulate").returncode == 0
    bench = tmp_path / "bench.toml"
    bench.write_text(bench.read_text() + '[instruments.seal.simulated]\nidentity = "unit 7"\ntrouble = [{ query = "LK", how = "overload", times = 9 }]\n')
    (tmp_path / "prepared.toml").write_text('[readings]\nleakage = "1e-9 m^3/s"\n')
    sequence = SEQUENCE[: SEQUENCE.index("    set tester.pressure")] + "    read leakage\n    check leakage <= 1.05e-9 m^3/s\n"
    (tmp_path / "seal.ibx").write_text(sequence)
    done = program("run", "seal.ibx", "--serial", "H1", "--simulate", "--readings", "prepared.toml", "--no-report")
    assert done.returncode == 3 and seal.heard == [], done  # the answer is not as it said it would be


def test_what_is_a_question_and_what_is_more(seal: SealTester, tmp_path: Path) -> None:
    profile = load_profile("seal.toml", tmp_path)
    asked = {text: own_reply(profile, text) for text in ("LK", "STEP", "HOW", "WHO", "FAULT", "STATE", " V ", "LOG", "V=open", "STOP", "LK?", "X", "PR=0001")}
    assert [text for text, reply in asked.items() if reply is not None] == ["LK", "STEP", "HOW", "WHO", "FAULT", "STATE", " V ", "LOG"]
    assert isinstance(asked["LOG"], Lines) and asked["LK"] is Reply.MESSAGE


def test_behind_a_question_no_command_goes_past_the_rule_of_raw_ones(tmp_path: Path, program) -> None:
    """What is filled into a question of the profile is one word: a channel, a number. More would be sent unseen."""
    press_folder(tmp_path)
    profile = load_profile("press.toml", tmp_path)
    fits = {
        text: own_reply(profile, text) is not None for text in ("U? 5", "U? AUTO", "U? 5;HOLD YES", "U? 5 HOLD YES", "U? 5\nHOLD YES", "U? 5,HOLD", "HOLD YES")
    }
    assert [text for text, is_own in fits.items() if is_own] == ["U? 5", "U? AUTO"]
    done = program("instruments", "send", "press", "U? 5;HOLD YES", "--simulate")
    assert done.returncode == 2 and "raw commands are not allowed" in done.stderr, done
    (tmp_path / "press.toml").write_text((tmp_path / "press.toml").read_text().replace('query = "SN?"', 'query = "M{channel}"'))
    assert [own_reply(load_profile("press.toml", tmp_path), text) is not None for text in ("M12", "MRST", "M1;HOLD YES")] == [True, False, False]


@pytest.mark.parametrize(("old", "new", "told"), [
    ('step = { query = "STEP", reply = "each {value} ms" }', 'step = "STEP"', 'step = { query = "STEP" }'), ('query = "STEP", reply', 'qery = "STEP", reply', "Did you mean query?"),
    ("linear = ", "liner = ", "Did you mean linear?"), ('query    = "ANS"', 'query    = "ANS"\nform = "block"', "is for lists"), ('separator = ";"', "", 'Write: separator = ";"')])  # fmt: skip
def test_what_is_wrong_with_it_is_told(seal: SealTester, program, tmp_path: Path, old: str, new: str, told: str) -> None:
    assert old in PROFILE
    (tmp_path / "seal.toml").write_text(PROFILE.replace(old, new))
    done = program("vet", "seal.toml")
    assert done.returncode == 2 and told in done.stderr, done


FORMS = {"decimal": (",", ";", " ", "|", ", "), "comma": (";", " ", "|")}
PA = units.parse_unit("Pa")
PIECES = ("{value}", "P {value} kPa", "{value} {unit}", "CH{channel}: {value}{unit};")


@given(
    st.sampled_from([(form, gap) for form, gaps in FORMS.items() for gap in gaps]), st.sampled_from(PIECES), st.booleans(),
    st.lists(st.one_of(st.floats(-1e6, 1e6).map(lambda x: round(x, 6)), st.sampled_from(["over", "none"])), min_size=1, max_size=20),
)  # fmt: skip
def test_a_list_is_read_as_it_was_written(how: tuple[str, str], around: str, has_each: bool, entries: list[float | str]) -> None:
    """Against a list that is written here by hand, with a unit behind each number or behind the last one."""
    form, gap = how
    if "{unit}" in around:
        entries = [entry for entry in entries if entry not in ("over", "none")] or [1.0]
    speech = Speech(number=form, separator=gap, reply=Template(around), overload=("over",), invalid=("none",))
    texts = [entry if isinstance(entry, str) else f"{entry:.6f}".replace(".", "," if form == "comma" else ".") for entry in entries]
    if "{unit}" in around and has_each and gap != " ":
        texts = [f"{text}kPa" for text in texts[:-1]] + texts[-1:]
    reply = around.replace("{value}", gap.join(texts)).replace("{unit}", "kPa").replace("{channel}", "3")
    factor = 1000.0 if "{unit}" in around else 1.0
    words = {"over": INFINITY, "none": NOT_A_NUMBER}
    wanted = [words[entry] if isinstance(entry, str) else entry * factor for entry in entries]
    assert speech.numbers_in(reply, PA) == pytest.approx(wanted, rel=1e-12)
    assert speech.numbers_in(around.replace("{value}", "").replace("{unit}", "kPa").replace("{channel}", "3"), PA) == []


# --- channels with words ------------------------------------------------------------------------------------------------

TWO = """sequence "Two outputs"
    product "Board"
    serial "B[0-9]+"
needs
    left, right : power_supply
before unit
    set left.voltage = 3 V, right.voltage = 5 V, left.output = on, right.output = on
test t "T"
    wait 20 ms
    read u = right.voltage
    check u >= 0 V
    {more}
after unit
    set left.output = off, right.output = off
"""


@pytest.fixture
def two(tmp_path: Path, program):
    """A supply whose outputs are called A and B, and what was said to it in a run."""
    (tmp_path / "two.toml").write_text('extends = "scpi-power-supply"\nchannels = ["A", "B"]\n')
    (tmp_path / "bench.toml").write_text(
        '[bench]\nname = "two"\n[instruments.psu]\nprofile = "two.toml"\naddress = "TCPIP::192.0.2.1::1::SOCKET"\n'
        '[roles.left]\ninstrument = "psu"\nceiling = { voltage = "4 V" }\n[roles.right]\ninstrument = "psu"\nchannel = 2\nceiling = { voltage = "6 V" }\n'
    )
    (tmp_path / "ibexite.toml").write_text('[project]\nbench = "bench.toml"\n')

    def run(more: str, *options: str) -> tuple[subprocess.CompletedProcess[str], list[str]]:
        (tmp_path / "two.ibx").write_text(TWO.format(more=more))
        done = program("run", "two.ibx", "--serial", "B1", "--simulate", "--no-report", *options)
        return done, re.findall(r'"[<>]", ?"([^"]*)"', json.dumps(kept_events(tmp_path)))

    return run


def test_channels_are_called_as_the_instrument_calls_them(two, program, tmp_path: Path) -> None:
    done, said = two('note "x"')
    assert done.returncode == 5, done
    for text in ("SOURA:VOLT 3", "SOURB:VOLT 5", "OUTPB ON", "OUTPB OFF", "OUTPA OFF"):
        assert any(text in one for one in said), (text, said)
    assert not [one for one in said if re.search("SOUR[12]|OUTP[12]|MEAS[12]", one)]
    assert "SOURB:VOLT?" in program("instruments", "explain", "right", "voltage").stdout
    (tmp_path / "two.toml").write_text((tmp_path / "two.toml").read_text() + '[readings.current]\nquery = "MEAS{channel}:CURR? (@{channel})"\n')
    profile = load_profile("two.toml", tmp_path)
    assert [text for text in ("MEASB:CURR? (@B)", "MEASA:CURR?", "B:CURR? (@A", "MEASC:CURR? (@C)") if own_reply(profile, text)] == ["MEASB:CURR? (@B)"]
    assert program("instruments", "set", "right", "voltage", "5.5", "V", "--simulate").returncode == 0
    beyond = program("instruments", "set", "left", "voltage", "5.5", "V", "--simulate")
    assert beyond.returncode == 3 and "beyond" in beyond.stderr, "A has the ceiling of A"


def test_a_channel_that_it_has_not_is_told_before_anything_is_sent(two, program, tmp_path: Path) -> None:
    done, said = two("read x = right.voltage(channel = 3)")
    assert done.returncode == 3 and "profile two has no channel 3" in done.stdout + done.stderr, done
    bench = tmp_path / "bench.toml"
    bench.write_text(bench.read_text().replace("channel = 2", "channel = 3"))
    done = program("vet", "bench.toml")
    assert done.returncode == 2 and "profile two has no channel 3" in done.stderr and "2 (B)" in done.stderr
    bench.write_text(bench.read_text().replace("channel = 3", "channel = -1"))
    assert "-1 is no number of a channel" in program("vet", "bench.toml").stderr
    for channels, told in (
        ('["A", "a"]', "not some different words"),
        ('["A", ""]', "not some different words"),
        ('{ x = "A" }', "no number of a channel"),
        ("3", "channels"),
    ):
        (tmp_path / "two.toml").write_text(f'extends = "scpi-power-supply"\nchannels = {channels}\n')
        done = program("vet", "two.toml")
        assert done.returncode == 2 and told in done.stderr, done


def test_a_run_that_is_killed_leaves_no_output_of_them_on(two, tmp_path: Path) -> None:
    two('note "x"')
    (tmp_path / "two.ibx").write_text(TWO.format(more="wait 60 s"))
    before = set((tmp_path / "records").rglob("*.jsonl"))
    process = subprocess.Popen([*IBEXITE, "run", "two.ibx", "--serial", "B2", "--simulate", "--real-time", "--no-report"], cwd=tmp_path, stdout=subprocess.PIPE)
    deadline, journal = time.monotonic() + 60, None
    while journal is None and time.monotonic() < deadline:
        journal = next(
            (path for path in set((tmp_path / "records").rglob("*.jsonl")) - before if "OUTPB ON" in path.read_text() and "MEASB" in path.read_text()), None
        )
        time.sleep(0.02)
    assert journal is not None
    process.kill()
    process.communicate()
    while "MadeSafe" not in journal.read_text() and time.monotonic() < deadline:
        time.sleep(0.05)
    safe = [json.loads(line) for line in journal.read_text().splitlines() if '"MadeSafe"' in line]
    assert {role["role"]: role["problem"] for role in safe[-1]["roles"]} == {"left": "", "right": ""} and safe[-1]["by"] == "guardian"


# --- a console ----------------------------------------------------------------------------------------------------------

CONSOLE = """class = "product"
identity_query = "ver"
identity_reply = "fw {value}"
start          = ["test off"]
error_query    = ""
acknowledge    = ""
complete       = { delay = "1 ms" }
[settings.test_mode]
write = "test {value}"
ask   = "test"
on    = "on"
off   = "off"
[settings.register]
write  = "wr {channel} {value}"
ask    = "rd {channel}"
number = "hex"
width  = 4
range  = ["0", "65535"]
reply  = "reg {channel} = {value}"
[readings.version]
query = "ver"
reply = "fw {value}"
[readings.counters]
query = "stat"
rows  = "\\r\\n"
row   = "{counter}: {count:number}"
[safe]
test_mode = false
[quirks]
compound         = false
reply_terminator = "> "
greeting         = "> "
"""
ASKED = """sequence "Console"
    product "Gauge"
    serial "G[0-9]+"
needs
    gauge : product
test t "T"
    set gauge.test_mode = on
    set gauge.register = 4096
    read v = gauge.version
    note "{v}"
    check v matches ".+"
after unit
    set gauge.test_mode = off
"""


class Console(SealTester):
    """The console of a product: a banner when it is connected, a prompt behind everything, nothing else behind a command."""

    banner = b"FM-2 console\r\n> "

    def talk(self, stream: BinaryIO) -> None:
        state = {"test": "off", "1": "0000"}
        stream.write(self.banner)
        stream.flush()
        while line := stream.readline().decode().strip():
            self.heard.append(line)
            word, *rest = line.split()
            if word == "wr" or rest in (["on"], ["off"]):
                state[rest[0] if word == "wr" else "test"] = rest[-1]
                reply = ""
            else:
                known = {"ver": "fw 3.1.4", "test": state["test"], "rd": f"reg 1 = 0x{state['1']}", "stat": "crc: 3\r\nlost: 0"}
                reply = known.get(word, "what?") + "\r\n"
            stream.write(reply.encode() + b"> ")
            stream.flush()


@pytest.fixture
def console(tmp_path: Path):
    gauge = Console()
    (tmp_path / "fm2.toml").write_text(CONSOLE)
    (tmp_path / "bench.toml").write_text(
        f'[bench]\nname = "console"\n[instruments.gauge]\nprofile = "fm2.toml"\naddress = "TCPIP::127.0.0.1::{gauge.port}::SOCKET"\n[roles.gauge]\ninstrument = "gauge"\n'
    )
    (tmp_path / "console.ibx").write_text(ASKED)
    (tmp_path / "ibexite.toml").write_text('[project]\nbench = "bench.toml"\n')
    gauge.start()
    yield gauge
    gauge.listener.close()


def test_a_console_with_a_prompt_is_talked_to(console: Console, program) -> None:
    done = program("run", "console.ibx", "--serial", "G1", "--no-report")
    assert done.returncode == 0 and "3.1.4" in done.stdout, done
    assert "wr 1 1000" in console.heard and "test off" in console.heard[-4:], console.heard
    rows = json.loads(program("instruments", "verify", "gauge", "--exercise", "--with-outputs", "--format", "json").stdout)
    assert {row["result"] for row in rows} == {"ok"} and ("counters", "2 rows of counter, count") in {(row["name"], row["value"]) for row in rows}


@pytest.mark.parametrize(
    ("banner", "told"), [(b"hello\r\n", "did not greet with '> '"), (b"", "did not greet with '> '"), (b"a > b", "did not greet with '> '")]
)
def test_a_console_that_does_not_greet_as_was_said_is_not_used(console: Console, program, tmp_path: Path, banner: bytes, told: str) -> None:
    console.banner = banner
    (tmp_path / "fm2.toml").write_text(CONSOLE + 'timeout = "300 ms"\n')
    done = program("run", "console.ibx", "--serial", "G1", "--no-report")
    assert done.returncode == 3 and told.replace("'> '", "b'> '") in done.stdout + done.stderr and console.heard == [], done


@pytest.mark.parametrize("how", ["close", "reset", "cut"])
def test_a_console_greets_again_when_its_link_is_opened_anew(console: Console, program, tmp_path: Path, how: str) -> None:
    bench = tmp_path / "bench.toml"
    bench.write_text(bench.read_text() + f'[instruments.gauge.simulated]\nidentity = "3.1.4"\ntrouble = [{{ query = "ver", how = "{how}", nth = 2 }}]\n')
    done = program("run", "console.ibx", "--serial", "G1", "--simulate", "--no-report")
    assert done.returncode == 5 and console.heard == [], done
