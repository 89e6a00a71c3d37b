"""An instrument, a class and a product that nobody but their user knows: the guide as it stands, and what may go wrong."""

import json
import os
import signal
import subprocess
import threading
import time
from pathlib import Path

import pytest

from ibexite.bench.bench import Bench
from ibexite.bench.exercise import exercise
from ibexite.bench.file import BenchFile, read_bench
from ibexite.bench.guardian import Guardian
from ibexite.bench.hand import Hand
from ibexite.bench.pool import Pool
from ibexite.bench.restoring import Standing
from ibexite.classes import instrument_classes
from ibexite.errors import BenchError, CeilingError, InstrumentError, LinkError, MistakeError
from ibexite.instruments.profile import SHIPPED, load_profile
from ibexite.protocols.checksums import RULES
from ibexite.protocols.scpi import ScpiError
from ibexite.simulate.instruments.described import DescribedDevice
from ibexite.simulate.manual import Manual
from ibexite.simulate.products import DESCRIBED, make_product
from ibexite.simulate.server import BenchServer
from ibexite.simulate.world import World
from ibexite.station.manuals import manual_of
from ibexite.station.product_model import read_model
from ibexite.station.profile_template import profile_template
from ibexite.station.stand_ins import make_plan
from tests.conftest import IBEXITE
from tests.press import files_of_the_guide, press_folder
from tests.runs import lines


@pytest.fixture
def program(tmp_path: Path):
    """The installed program in the folder of the guide."""
    press_folder(tmp_path)

    def run(*arguments: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([*IBEXITE, *arguments], cwd=tmp_path, capture_output=True, text=True, timeout=120)

    return run


@pytest.fixture
def serve_press(tmp_path: Path):
    """The press as a stand-in in a thread, and its bench file moved there."""
    servers = []

    def start(link: str = "", bench: dict[str, str] | None = None, **changes: str) -> BenchFile:
        press_folder(tmp_path, **changes)
        for old, new in (bench or {}).items():
            (tmp_path / "bench.toml").write_text((tmp_path / "bench.toml").read_text().replace(old, new))
        if link:
            path = tmp_path / "bench.toml"
            path.write_text(path.read_text().replace("TCPIP::192.0.2.7::7001::SOCKET", link))
        file = read_bench(tmp_path / "bench.toml")
        server = BenchServer(make_plan(file, "T1", own_ports=True))
        thread = threading.Thread(target=server.serve, daemon=True)
        thread.start()
        servers.append((server, thread))
        return file.moved_to(server.addresses)

    yield start
    for server, thread in servers:
        server.stop()
        thread.join(5)


# --- the guide ---------------------------------------------------------------------------------------------------------


def test_the_guide_is_vetted_rehearsed_and_run(program, tmp_path: Path) -> None:
    for name in ("classes/probe_press.toml", "press.toml", "mended.toml", "bench.toml", "press.ibx", "ibexite.toml"):
        done = program("vet", name)
        assert done.returncode == 0 and "no mistakes" in done.stdout, done
    prepared = program("run", "press.ibx", "--serial", "T1", "--simulate", "--readings", "rehearsal.toml", "--no-report")
    assert prepared.returncode == 5 and "PASS (trial)" in prepared.stdout, prepared
    readings = tmp_path / "rehearsal.toml"
    readings.write_text("\n".join(line for line in readings.read_text().splitlines() if not line.startswith("v_tap")))
    verdicts = {}
    for serial in ("T1", "T2", "T13"):
        done = program("run", "press.ibx", "--serial", serial, "--simulate", "--readings", "rehearsal.toml", "--no-report")
        verdicts[serial] = done.returncode
    assert verdicts == {"T1": 5, "T2": 5, "T13": 1}, "that unit has an open trace"
    model = files_of_the_guide()["tap_board.toml"]
    assert "1.24 V" in model
    read = program("instruments", "read", "v_tap", "--simulate")
    assert read.returncode == 0, read


def test_the_press_is_set_and_switched_off_by_hand(program, tmp_path: Path) -> None:
    done = program("instruments", "list", "--simulate", "--format", "json")
    assert json.loads(done.stdout)[0]["identity"].startswith("PP-2,SIMULATED-press")


@pytest.mark.parametrize("end", [signal.SIGKILL, signal.SIGTERM])
def test_a_press_that_says_yes_and_no_is_let_go_whatever_happens_to_the_run(tmp_path: Path, end: signal.Signals) -> None:
    press_folder(tmp_path)
    text = (tmp_path / "press.ibx").read_text().replace("wait 20 ms", "wait 30 s")
    (tmp_path / "press.ibx").write_text(text)
    process = subprocess.Popen(
        [*IBEXITE, "run", "press.ibx", "--serial", "T1", "--simulate", "--real-time", "--no-report"], cwd=tmp_path,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    )  # fmt: skip
    deadline = time.monotonic() + 60
    journal = None
    while time.monotonic() < deadline and journal is None:
        found = [j for j in (tmp_path / "records" / "journals").glob("*.jsonl") if "SIDE R" in j.read_text() or "HOLD YES" in j.read_text()]
        journal = found[0] if found else None
        time.sleep(0.02)
    assert journal is not None, process.communicate()
    process.send_signal(end)
    out, _ = process.communicate(timeout=60)
    if end == signal.SIGTERM:
        assert "outputs off: press" in out and process.returncode == 4
        return
    while "MadeSafe" not in journal.read_text() and time.monotonic() < deadline:
        time.sleep(0.05)
    safe = [json.loads(line) for line in journal.read_text().splitlines() if '"MadeSafe"' in line]
    assert safe and safe[-1]["roles"] == [{"role": "press", "problem": ""}] and safe[-1]["by"] == "guardian"


# --- what an instrument may do wrong -----------------------------------------------------------------------------------


def test_a_command_that_is_not_acknowledged_is_an_error_that_names_it(serve_press) -> None:
    bench = Bench(serve_press(**{'write = "SIDE {value}"': 'write = "SIDDE {value}"'}))
    # The stand-in understands the profile; so the profile of the bench is given another word behind its back.
    bench.connect(["press"])
    session = bench.sessions["press"]
    with pytest.raises(InstrumentError, match=r"answered 'ERROR' to 'BANG 1'"):
        session.send("BANG 1")
    assert not session.unproven, "it is not sent again: it was refused"
    bench.set_line([("press", "force")])(0.1)
    assert session.ask_setting("force", 1) == pytest.approx(0.1)
    assert [deed.problem for deed in bench.make_safe()] == [""]
    bench.close()


def test_a_setting_of_words_is_sent_asked_back_and_proved(serve_press) -> None:
    bench = Bench(serve_press())
    bench.connect(["press"])
    with pytest.raises(CeilingError, match="no choice 'middle'; there is left, right"):
        bench.set_line([("press", "probe")])("middle")
    bench.set_line([("press", "probe"), ("press", "force")])("right", 0.4)
    bench.complete()
    assert bench.prove() == []
    bench.verify([("press", "probe")], ("right",))
    bench.sessions["press"].send("SIDE L")  # behind the back of the bench
    (found,) = bench.prove()
    assert found.text == "press.probe was set to right, but the instrument has left"
    bench.sessions["press"].send("SIDE L")
    bench.state["press", "probe"] = "right"
    with pytest.raises(InstrumentError, match="probe was set to right but reads back left"):
        bench.verify([("press", "probe")], ("right",))
    changed = bench.restore(Standing({("press", "probe"): "right"}, ()), lambda seconds: None)
    assert changed == [("press", "probe")] and bench.sessions["press"].ask_setting("probe", 1) == "right"
    bench.make_safe()
    bench.close()


@pytest.mark.parametrize(("old", "new", "told"), [
    ('press.probe = "left"', 'press.probe = "middle"', "10:23: there is no choice 'middle'|takes one of \"left\", \"right\""), ('over "left", "right"', 'over "left", "rihgt"', "there is no choice 'rihgt'"),
    ('press.probe = "left"', "press.probe = 5 mN", "not one of its words"), ("press.clamp = on", 'press.clamp = "on"', "not on or off"), ("press : probe_press", "press : probe_pres", "Did you mean probe_press?")])  # fmt: skip
def test_words_are_looked_at_before_the_run_also_those_of_a_sweep(program, tmp_path: Path, old: str, new: str, told: str) -> None:
    sequence = tmp_path / "press.ibx"
    assert old in sequence.read_text()
    sequence.write_text(sequence.read_text().replace(old, new, 1))
    done = program("vet", "press.ibx")
    assert done.returncode == 2, done
    for part in told.split("|"):
        assert part in done.stdout + done.stderr, done


def test_an_output_of_which_nothing_can_be_asked_is_told_off_and_an_identity_that_nobody_can_ask_is_refused(tmp_path: Path, serve_press) -> None:
    bench = Bench(serve_press(**{'ask   = "HOLD?"': 'ask   = "HOLD?"\ntold  = false'}))
    bench.connect(["press"])
    bench.set_line([("press", "clamp")])(True)
    assert bench.prove() == [] and [deed.problem for deed in bench.make_safe()] == [""]
    assert "HOLD?" not in " ".join(lines(bench.user.said)) and lines(bench.user.said)[-4:].count("press> HOLD NO") >= 1
    bench.close()
    press_folder(tmp_path, **{'identity_query = "A?"': 'identity_query = ""'})
    with pytest.raises(MistakeError, match="cannot ask who it is"):
        read_bench(tmp_path / "bench.toml")


def test_what_is_sent_with_few_digits_is_what_is_recorded(serve_press) -> None:
    bench = Bench(serve_press())
    bench.connect(["press"])
    bench.set_line([("press", "force")])(0.7)
    assert bench.state["press", "force"] == 0.7, "the ceiling itself is not beyond it"
    bench.set_line([("press", "force")])(0.1234567)
    assert bench.state["press", "force"] == pytest.approx(0.123, abs=1e-12)
    assert "press> PUSH 123" in lines(bench.user.said)
    bench.make_safe()
    bench.close()


def test_another_instrument_that_answers_is_found_by_its_own_question(tmp_path: Path, serve_press) -> None:
    file = serve_press(**{'"PRESS {value}"': '"PUNCH {value}"'})
    moved = {name: fact.address for name, fact in file.instruments.items()}
    press_folder(tmp_path)  # the profile as it was
    bench = Bench(read_bench(tmp_path / "bench.toml").moved_to(moved))
    with pytest.raises(InstrumentError, match="another instrument answers: 'PUNCH PP-2,SIMULATED-press"):
        bench.connect(["press"])
    assert list(bench.safe_roles()) == [], "nothing is sent to it"
    bench.close()


def test_what_cannot_say_who_it_is_counts_as_simulated_on_this_computer(serve_press, tmp_path: Path) -> None:
    file = serve_press(bench={'identity = "PP-2.*"\n': ""}, **{'identity_query = "A?"': 'identity_query = ""'})
    bench = Bench(file)
    bench.connect(["press"])
    assert bench.connected()["press"] == ("", True)
    assert bench.prove() == [] and [deed.problem for deed in bench.make_safe()] == [""]
    bench.close()


@pytest.mark.parametrize("rule", RULES)
def test_damaged_replies_are_found_by_their_checksum(serve_press, rule: str) -> None:
    bench = Bench(serve_press(**{'acknowledge    = "OK"': f'acknowledge = "OK"\nchecksum = "{rule}"'}))
    bench.connect(["press"])
    assert bench.sessions["press"].identity.startswith("PP-2,SIMULATED")
    bench.set_line([("press", "force"), ("press", "clamp")])(0.3, True)
    guardian = Guardian(os.open(os.devnull, os.O_WRONLY))
    bench.rescued_by(guardian, 0.0)
    link = bench.sessions["press"].link
    inner, exchange = link._link, link._link.exchange
    inner.exchange = lambda data, *rest: bytes(exchange(data, *rest)).replace(b"OK", b"OJ")  # type: ignore[method-assign]
    with pytest.raises(LinkError, match="a reply was damaged: its checksum is not that of the text"):
        bench.set_line([("press", "force")])(0.2)
    inner.exchange = exchange  # type: ignore[method-assign]
    assert [deed.problem for deed in bench.make_safe()] == [""]
    guardian.stand_back()
    assert guardian.dismiss()
    bench.close()


@pytest.mark.parametrize("link", ["TCPIP::192.0.2.7::hislip0::INSTR", "TCPIP::192.0.2.7::inst0::INSTR", "ASRL1::INSTR", "USB0::4660::1::A::INSTR"])
def test_the_press_speaks_over_every_kind_of_link(serve_press, link: str) -> None:
    bench = Bench(serve_press(link, **{"compound = false": 'compound = false\nterminator = "\\r"\nreply_terminator = "\\r\\n"'}))
    bench.connect(["press"])
    bench.set_line([("press", "probe"), ("press", "force"), ("press", "clamp")])("left", 0.42, True)
    bench.complete()
    assert bench.prove() == [] and bench.read_errors() == []
    assert [deed.problem for deed in bench.make_safe()] == [""]
    bench.close()


def test_polling_ends_with_an_error_where_it_never_says_that_it_is_done(serve_press) -> None:
    file = serve_press()
    profile = file.instruments["press"].profile
    bench = Bench(file)
    bench.connect(["press"])
    session = bench.sessions["press"]
    session.query = lambda text, **more: "YES"  # type: ignore[method-assign]
    object.__setattr__(profile.complete, "timeout", 0.05)
    with pytest.raises(InstrumentError, match=r"has not carried out its settings after 0.05 s"):
        session.wait_until_complete()
    session.query = lambda text, **more: "PERHAPS"  # type: ignore[method-assign]
    with pytest.raises(InstrumentError, match="answered 'PERHAPS' when asked whether its settings were carried out"):
        session.wait_until_complete()
    del session.query
    bench.make_safe()
    bench.close()


# --- stand-ins by the manual -------------------------------------------------------------------------------------------


def described(profile_name: str, folder: Path = SHIPPED) -> tuple[DescribedDevice, Manual]:
    """The stand-in that goes by a profile, wired to nothing."""
    manual = Manual(manual_of(load_profile(profile_name, folder)))
    return DescribedDevice("Firnline,X-1", "x", World(make_product("nothing", ""), lambda: 0.0), {}, manual), manual


NAMES = [*sorted(path.stem for path in SHIPPED.glob("*.toml")), "press.toml", *(f"template {name}" for name in instrument_classes())]


@pytest.mark.parametrize("name", NAMES)
def test_a_stand_in_understands_all_that_its_profile_says(name: str, tmp_path: Path) -> None:
    """Also the profiles that `new profile` makes, for each class."""
    press_folder(tmp_path)
    if name.startswith("template "):
        (tmp_path / "made.toml").write_text(profile_template(instrument_classes()[name.partition(" ")[2]]))
        name = "made.toml"
    device, manual = described(name, tmp_path)
    device.scan = [1]
    for message in manual.examples():
        device.receive(message)
        output = device.take_output()
        assert not device.own_errors, (message, device.own_errors)
        if manual.acknowledge or message.endswith("?"):
            assert output is not None, message
    profile = load_profile(name, tmp_path)
    for setting in profile.settings.values():  # what it answers is read back as what was sent
        wanted = [*setting.feature.choices] or [0.0, 1.0] if setting.feature.dimension is None else list(setting.extent or (0.0, 1.0))
        for value in wanted:
            device.receive(setting.encoder(1)(value))
            device.take_output()
            device.receive(setting.ask.replace("{channel}", "1"))
            assert setting.agrees(setting.held(device.take_output() or "", 1), value), (setting.feature.name, value)


def test_a_stand_in_refuses_what_the_profile_does_not_know_and_what_is_out_of_range(tmp_path: Path) -> None:
    press_folder(tmp_path)
    device, _ = described("press.toml", tmp_path)
    for message, answer in (("BANG", "ERROR"), ("PUSH 901", "ERROR"), ("PUSH much", "ERROR"), ("SIDE M", "ERROR"), ("PUSH 900", "OK")):
        device.receive(message)
        assert device.take_output() == answer, message
    errors = []
    for _ in range(5):
        device.receive("F?")
        errors.append(device.take_output())
    assert errors == ["Undefined header;BANG", "Data out of range;PUSH 901", "Illegal parameter value;PUSH much", "Illegal parameter value;SIDE M", "NONE"]
    device.report(ScpiError(-222))
    device.receive("F?")
    assert "Data out of range" in str(device.take_output())


# --- products ----------------------------------------------------------------------------------------------------------

SUPPLIED = """
[terminals]
battery = "power_supply"
output = "electronic_load"
[values]
set_point = "5.02 V +/- 0.25 %"
quiescent = "15.5 mA"
[faults.low]
units = ["B7"]
set_point = "4.1 V"
[quantities]
"output.voltage" = "min(set_point, battery.voltage - 0.31 V) - 32 mohm * output.current"
"battery.current" = "quiescent + choose(battery.voltage > 4 V, output.current * output.voltage / battery.voltage, 0 A)"
shunt = "100 mohm * battery.current"
[settling]
"output.voltage" = "1.2 ms"
"battery.current" = "2 ms"
"""


def made(tmp_path: Path, text: str = SUPPLIED, serial: str = "B1"):
    (tmp_path / "model.toml").write_text(text)
    now = [0.0]
    model = read_model(tmp_path / "model.toml")
    world = World(make_product(DESCRIBED, serial, model.data), lambda: now[0])
    return model, world, now


def test_a_model_is_what_its_formulas_say(tmp_path: Path) -> None:
    model, world, now = made(tmp_path)
    assert model.connectable("power_supply") == ("battery",) and "shunt" in model.connectable("multimeter")
    assert "output_voltage" in model.connectable("multimeter") and "battery_voltage" in model.connectable("multimeter")
    source, sink = world.stimulus("source", "battery"), world.stimulus("sink", "output")
    source.voltage, source.limit, source.is_on = 9.0, 3.0, True
    sink.current, sink.is_on = 0.5, True
    world.changed()
    set_point = world.product.values["set_point"]
    now[0] = 1.2e-3
    start, end = -0.31, set_point - 0.016
    assert world.value("output_voltage") == pytest.approx(end + (start - end) / 2.718281828, rel=1e-6), "it settles"
    now[0] = 1.0
    volts = set_point - 0.016
    amps = 0.0155 + 0.5 * volts / 9.0
    assert world.value("output_voltage") == pytest.approx(volts) and world.value("battery_current") == pytest.approx(amps)
    assert world.value("shunt") == pytest.approx(0.1 * amps) and not source.is_limiting
    source.limit = amps / 2
    world.changed()
    now[0] = 2.0
    assert source.is_limiting and world.value("battery_current") <= amps / 2
    assert world.value("battery_voltage") == pytest.approx(4.0, abs=1e-6), "above it the board takes more than the source gives"


def test_units_have_their_own_values_always_the_same(tmp_path: Path) -> None:
    points = [made(tmp_path, serial=serial)[1].product.values["set_point"] for serial in ("B1", "B1", "B2", "B7")]
    assert points[0] == points[1] != points[2] and points[3] == 4.1
    assert all(abs(point - 5.02) < 0.06 for point in points[:3])


@pytest.mark.parametrize(("old", "new", "told"), [
    ('"power_supply"', '"power_suply"', "terminals.battery: there is no class 'power_suply'|Did you mean power_supply?"),
    ("5.02 V +/- 0.25 %", "5.02 V +/- 2 A", "values.set_point: 2 A is a current (A)"), ("15.5 mA", "15.5 mAA", "values.quiescent: "),
    ("set_point = \"4.1 V\"", "set_piont = \"4.1 V\"", "faults.low.set_piont: is not one of the values|Did you mean set_point?"),
    ("battery.voltage - 0.31 V", "battery.voltage - 0.31 A", "output.voltage: a voltage (V) and a current (A)"),
    ("battery.voltage - 0.31 V", "batery.voltage - 0.31 V", "unknown name 'batery.voltage'|Did you mean battery.voltage?"),
    ("100 mohm * battery.current", "100 mohm *", "quantities.shunt: the line ends too early"),
    ("quiescent + choose", "shunt / 1 ohm + choose", "it needs itself, by way of others perhaps"),
    ('"battery.current" = "2 ms"', '"battery.curent" = "2 ms"', "is not one of the quantities|Did you mean battery.current?"),
    ("[settling]", "[setling]", "setling: is not a key that is known here|Did you mean settling?"),
    ("choose(battery.voltage > 4 V, ", "choose(battery.voltage, ", "battery.current: not a condition")])  # fmt: skip
def test_mistakes_in_a_model_are_told_with_their_line(tmp_path: Path, old: str, new: str, told: str) -> None:
    assert old in SUPPLIED
    with pytest.raises(MistakeError) as error:
        made(tmp_path, SUPPLIED.replace(old, new))
    for part in told.split("|"):
        assert part in str(error.value)
    assert "model.toml:" in str(error.value)


def test_a_product_in_python_is_run_in_the_simulated_bench_only(program, tmp_path: Path) -> None:
    (tmp_path / "board.py").write_text(
        "import os\nclass Product:\n    terminals, derived = {'settings': ('press',)}, {}\n    time_constants = {'press_voltage': 1e-3}\n"
        "    def __init__(self, serial):\n        open('ran', 'w').close()\n"
        "    def operating_point(self, stimuli):\n        return {'press_voltage': 0.3 if stimuli.settings['press'].get('clamp') else 0.0}\n"
    )
    bench = tmp_path / "bench.toml"
    bench.write_text(bench.read_text().replace('"tap_board.toml"', '"board.py"'))
    assert program("vet", "bench.toml").returncode == 0 and not (tmp_path / "ran").exists()
    readings = tmp_path / "rehearsal.toml"
    readings.write_text("\n".join(line for line in readings.read_text().splitlines() if not line.startswith("v_tap")))
    done = program("run", "press.ibx", "--serial", "T13", "--simulate", "--readings", "rehearsal.toml", "--no-report")
    assert done.returncode == 5, done
    with pytest.raises(MistakeError, match="there is no such file"):
        bench.write_text(bench.read_text().replace('"board.py"', '"bord.py"'))
        make_plan(read_bench(bench), "", own_ports=True)


# --- looking at it ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("words", "told", "not_told"), [
    (("press",), ("press, a role of press bench", "writes     HOLD {value}", "0 N to 900 mN, ceiling 700 mN; force of the probe", "V ([range]); voltage at the probe", "lifts both probes"), ()),
    (("press", "PUSH"), ("force",), ("clamp", "voltage")), (("press.toml",), ("profile press (the probe press of the line",), ()), (("probe_press", "probe"), ("left, right; which probe is down",), ("writes",)),
    (("power_supply", "ceiling"), ("voltage times current_limit",), ("slew",)), (("scpi-power-supply", "PROT"), ("over_voltage", "clear_protection"), ("slew",))])  # fmt: skip
def test_what_there_is_can_be_looked_at_and_searched(program, words: tuple[str, ...], told: tuple[str, ...], not_told: tuple[str, ...]) -> None:
    done = program("instruments", "explain", *words)
    assert done.returncode == 0, done
    for part in told:
        assert part in done.stdout, done.stdout
    assert not any(part in done.stdout for part in not_told), done.stdout
    data = json.loads(program("instruments", "explain", *words, "--format", "json").stdout)
    assert data["lines"] and {"kind", "name", "takes", "help", "commands"} == data["lines"][0].keys()


@pytest.mark.parametrize(
    ("words", "told"), [(("pres",), "Did you mean press?"), (("press", "forse"), "Did you mean force?"), (("none.toml",), "there is no such profile")]
)
def test_what_there_is_not_is_told_with_the_nearest(program, words: tuple[str, ...], told: str) -> None:
    done = program("instruments", "explain", *words)
    assert done.returncode == 2 and told in done.stderr


def test_a_new_profile_of_ones_own_class_is_rehearsed_as_it_stands(program, tmp_path: Path) -> None:
    made = program("new", "profile", "mine", "--class", "probe_press")
    assert made.returncode == 0 and program("vet", "mine.toml").returncode == 0
    assert program("new", "profile", "mine", "--class", "probe_press").returncode == 2, "nothing is overwritten"
    assert "Did you mean probe_press?" in program("new", "profile", "other", "--class", "probe_pres").stderr
    bench = tmp_path / "bench.toml"
    bench.write_text(bench.read_text().replace('"press.toml"', '"mine.toml"'))
    done = program("run", "press.ibx", "--serial", "T1", "--simulate", "--readings", "rehearsal.toml", "--no-report")
    assert done.returncode == 5, done


# --- exercised ----------------------------------------------------------------------------------------------------------


def exercised(program, *more: str) -> tuple[int, dict[tuple[str, str, str], str]]:
    done = program("instruments", "verify", "press", "--exercise", "--simulate", "--format", "json", *more)
    return done.returncode, {(row["kind"], row["name"], row["value"]): row["result"] for row in json.loads(done.stdout)}


def test_everything_of_a_profile_is_gone_through(program, tmp_path: Path) -> None:
    code, found = exercised(program)
    assert code == 0 and set(found.values()) == {"ok", "left out"}
    assert {(kind, name) for kind, name, _ in found} == {("setting", "clamp"), ("setting", "force"), ("setting", "probe"), ("reading", "voltage"), ("reading", "seated"),
                                                         ("reading", "serial"), ("action", "home")}  # fmt: skip
    assert found["setting", "clamp", ""] == "left out" and ("setting", "force", "700 mN") in found, "the ceiling, not the end of the range"
    assert (tmp_path / "exercise_press.csv").read_text().count("\n") == len(found) + 1
    code, found = exercised(program, "--with-outputs", "--out", "mine.csv")
    assert code == 0 and found["setting", "clamp", "on"] == found["setting", "clamp", "off"] == "ok" and (tmp_path / "mine.csv").exists()


@pytest.mark.parametrize(("old", "new", "name", "told"), [
    ('write = "SIDE {value}"', 'write = "SIDE{value}"', "probe", "answered 'ERROR' to 'SIDE"), ('ask      = "PUSH?"', 'ask      = "SIDE?"', "force", "answered 'L' to SIDE?"),
    ('query = "BOARD?"', 'query = "BORD?"', "seated", "not a number"), ('query = "SN?"', 'query = "HOLD?"\nreply = "X {value}"', "serial", "not as its profile says"),
    ('home = "LIFT"', 'home = "LIFTT"', "home", "answered 'ERROR' to 'LIFTT'")])  # fmt: skip
def test_what_does_not_behave_is_told(tmp_path: Path, serve_press, old: str, new: str, name: str, told: str) -> None:
    """The stand-in goes by the right profile, the bench by one with a slip."""
    moved = {key: fact.address for key, fact in serve_press().instruments.items()}
    profile = (tmp_path / "press.toml").read_text()
    assert old in profile
    change = profile.replace(old, new)
    if "reply" in new:
        change = change.replace('reply = "X {value}"\nreply = "{value}"', 'reply = "X {value}"')
    (tmp_path / "press.toml").write_text(change)
    hand = Hand(read_bench(tmp_path / "bench.toml").moved_to(moved), Pool(starts=False), lambda: Guardian(os.open(os.devnull, os.O_WRONLY)))
    outcomes = list(exercise(hand, "press", with_outputs=True))
    wrong = {outcome.name: outcome.problem for outcome in outcomes if outcome.problem}
    assert told in wrong[name] and (set(wrong) == {name} or name == "force"), wrong  # nobody knows whether that one is beyond its ceiling
    assert [deed.problem for deed in hand.end()] == [""]


def test_what_is_on_is_not_exercised(program, tmp_path: Path) -> None:
    file = read_bench(tmp_path / "bench.toml")
    server = BenchServer(make_plan(file, "T1", own_ports=True))
    thread = threading.Thread(target=server.serve, daemon=True)
    thread.start()
    hand = Hand(file.moved_to(server.addresses), Pool(starts=False), lambda: Guardian(os.open(os.devnull, os.O_WRONLY)))
    hand.set("press", "clamp", "on")
    with pytest.raises(BenchError, match="it is on, and its range would reach the product"):
        list(exercise(hand, "press"))
    assert [deed.problem for deed in hand.end()] == [""]
    server.stop()
    thread.join(5)
