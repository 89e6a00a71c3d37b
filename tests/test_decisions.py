"""Small decisions of checker, bench, engine and preview, one case each: what happens at a bound, in the other branch,
behind the end of a block."""

import math
import re
import socket
from decimal import Decimal

import pytest

from ibexite import events, units
from ibexite.bench import safety
from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.pool import Pool
from ibexite.bench.restoring import Standing
from ibexite.engine.preview import preview, timeline
from ibexite.errors import CeilingError, InstrumentError, MistakeError
from ibexite.instruments.link import Reply
from ibexite.instruments.profile import SHIPPED
from ibexite.language import points
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.values import NUMBER, declared
from tests.conftest import HEADER
from tests.laboratory import state
from tests.laboratory.stub_bench import ANSWERS, RESET, MemoryLink, memory_bench
from tests.runs import carried_out, lines, spoilt, vetted
from tests.test_asking_and_keeping import Prepared
from tests.test_trust import MEASURED


def mistakes(lines: str) -> list[str]:
    """The titles of what vetting finds in the lines of a test."""
    source = vetted(HEADER + 'test t "T"\n' + "".join(f"    {line}\n" for line in lines.split("\n")))
    return [finding.title for finding in source.findings if "never used" not in finding.title]


@pytest.mark.parametrize(("lines", "found"), [
    ("read v_in\ncheck v_in within 9 V +/- 0.5 V guarded by 0.4 V", []), ("read v_in\ncheck v_in within 9 V +/- 0.5 V guarded by 0.5 V", []),
    ("read v_in\ncheck v_in within 9 V +/- 0.5 V guarded by 0.6 V", ["the guard is wider than the tolerance"]),
    ("read v_in settled 5 mV\ncheck v_in >= 1 V", []), ("read v_in settled 5 mA\ncheck v_in >= 1 V", ["wrong unit"]),
    ('let a = lit\nask lit = yes_no "Lit?"\ncheck lit is yes', ["'lit' has no value yet"]), ("let a = b\nread v_in\nlet b = v_in\ncheck a + b >= 1 V", ["'b' has no value yet"]), ("let a = b\ncheck a >= 1 V", ["unknown name 'b'"]),
    ('call "p.py" gives wave in V over t timeout 1 s\nlet top = max(wave)\ncheck top >= 1 V', []),
    ('call "p.py" gives wave in V over t timeout 1 s\nlet at = crossing(wave, 1 V)\ncheck at >= 1', []),
    ('call "p.py" gives wave in V over t timeout 1 s\nplot wave against t\ncheck wave >= 1 V', []),
    ("wait reading x = v_in every 1 s until x > 5 A timeout 9 s", ["these cannot be compared"]), ("wait reading x = v_in every 1 s until x > 5 V timeout 9 s", []),
    ('sweep u over 1 V, 2 V\n    read word = query(supply, "ID?") as text', []), ('read word = query(supply, "ID?") as text\ncheck word == "A"', []),
    ("read v_in\nlet unsure = v_in / 100\ncheck v_in within 9 V +/- 0.5 V guarded by unsure", []),
    ("sweep u over 1 V, 2 V\n    read v_in\n    sweep w over 1, 2\n        read x = v_in\n    let y = x + 1 V\ncheck max(v_in) >= 1 V", []),
    ("sweep u from 5 V to 5 V in 1 points\n    read v_in\ncheck v_in >= u", []),
    ('ask mark = text "Mark?"\ncheck mark == 5 V', ["these cannot be compared"]), ('ask mark = text "Mark?"\ncheck mark == "A"', []),
    ("sweep u over 1 V, 10 V\n    read x = supply.current(channel = u)\ncheck max(x) >= 1 A", ["it must be known before the run"]),
    ('send "X" to nowhere', ["unexpected text"]), ('send nowhere "X"', ["'nowhere' is not among the needs"]),
    ("sweep n over 1, 2\n    search u from 9 V to 8 V resolution 0.5 V until now < 1 V\n        read now = v_in\ncheck max(u) >= 1 V", []),
    *((f"read v_in\nlet x = v_in / 1 V in ppm\ncheck {check}", found) for check, found in (
        ("x within 50 ppm +/- 10 ppm", ["ppm of what?"]), ("x within 50 ppm +/- 10 %", ["per cent of what?"]), ("x within 5 % +/- 10 ppm", ["ppm of what?"]),
        ("x within 5 % +/- 2 %", ["per cent of what?"]), ("x within 0.5 +/- 2 %", ["per cent of what?"]), ("v_in within 9 V +/- 100 ppm", []),
        ("v_in within 0 V +/- 2 %", ["per cent of nothing"]), ("v_in within 9 V +/- -2 %", ["a negative tolerance"]), ("v_in within 9 V +/- -1 V", ["a negative tolerance"]),
        ("abs(23 degC + x * 1 K) >= 0 K", ["this is a temperature (degC), which has no zero of its own"]), ("v_in between 8 V and 8 V", []),
        ("v_in between 10 V and 8 V", ["limits the wrong way round"]), ("x within 50 ppm +/- 0.001", []))),
    ("watch v_in between 6 V and 4 V every 1 s\n    wait 1 s", ["limits the wrong way round"]),
    ("sweep n over 1, 2, 3\n    read x = v_in\n    let t = 23 degC + x * 1 K / 1 V\ncheck rms(t) >= 0 K", ["this is a temperature (degC), which has no zero of its own"]),
    ("sweep n over 1, 2, 3\n    read x = v_in\nsweep k over 1, 2\n    read y = v_out\ncheck x - y >= 0 V", ["curves over different axes"]),
    ("repeat k 3 V times\n    wait 1 s", ["not a whole number"]), ("repeat k 2.5 times\n    wait 1 s", ["not a whole number"]), ("repeat k 0 times\n    wait 1 s", ["not a whole number"]), ("repeat k yes times\n    wait 1 s", ["not a whole number"]),
    ("repeat k 10000001 times\n    wait 1 s", ["too many turns"]), ("repeat k 10000000 times\n    wait 1 s", []), ("repeat k 1 times\n    wait 1 s", []),
    ("read v_in\nlet ph = 2 * v_in\nlet pm = abs(ph)\ncheck abs(pm) >= abs(ph)", []), ("read v_in\nlet x = abs(mV)\ncheck v_in >= 1 V", ["'mV' is a unit"]),
    ("read v_in\nlet x = abs(ph)\ncheck v_in >= 1 V", ["unknown name 'ph'"]),
    ('ask lit = yes_no "Lit?"\ncheck lit == on', []), ('ask lit = yes_no "Lit?"\ncheck lit == "A"', ["these cannot be compared"])])  # fmt: skip
def test_what_vetting_lets_through_and_what_not(lines: str, found: list[str]) -> None:
    assert mistakes(lines) == found


@pytest.fixture(autouse=True)
def impatient(monkeypatch) -> None:
    """What never goes off is given up soon."""
    monkeypatch.setattr(safety, "PATIENCE", 0.3)


def changed(project, name: str, *pairs: tuple[str, str]):
    """A change of the bench file after which it uses a profile with other lines."""
    text = (SHIPPED / f"{name}.toml").read_text()
    for old, new in pairs:
        assert old in text
        text = text.replace(old, new, 1)
    (project / "other.toml").write_text(text)
    return lambda bench: bench.replace(f'"{name}"', '"other.toml"')


def test_a_protection_that_reads_back_otherwise_lets_nothing_be_switched_on(perform, project) -> None:
    change = changed(project, "scpi-power-supply", ('ask   = "SOUR{channel}:VOLT:PROT?"', 'ask   = "SOUR{channel}:CURR?"'))
    run = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n', change=change)
    assert run.verdict == "error" and "over_voltage was set to 18 V but reads back 100 mV" in run.reason.text
    assert not any("OUTP1 ON" in line for line in run.traffic)


def test_after_an_interruption_no_late_reply_can_say_that_an_output_is_off(serve) -> None:
    bench = Bench(serve())
    bench.connect(["psu"])
    session = bench.sessions["psu"]
    session.ask(session.message("STAT:QUES?"))  # and somebody presses Ctrl-C
    assert [deed.problem for deed in bench.make_safe()] == [""]
    traffic = lines(bench.user.said)
    said = traffic.index("psu! connected anew after an interruption")
    known = f"psu< 0;{session.identity}"
    assert known in traffic[said:] and not any(line.startswith("psu< 0") for line in traffic[:said])
    bench.close()


@pytest.mark.parametrize(("over", "value", "is_refused"), [
    ("over 5 V, 25 V, 7 V", "u", True), ("over 5 V, 16 V, 7 V", "u", False), ("from 1 V to 19 V step 1 V", "u * (20 V - u) / 5 V", True),
    ("from 1 V to 19 V step 1 V", "u * (20 V - u) / 6 V", False)])  # fmt: skip
def test_a_ceiling_holds_at_each_point_of_a_sweep(project, over: str, value: str, is_refused: bool) -> None:
    text = f'test t "T"\n    sweep u {over}\n        set supply.voltage = {value}\n        read v_in\n    check v_in >= 1 V\n'
    source = vetted(HEADER + text, project)
    assert any(finding.title == "beyond the ceiling" for finding in source.findings) == is_refused


class Cut(MemoryLink):
    """Answers the first of several questions only."""

    def receive(self, reply=Reply.LINE) -> bytes:
        """The first answer."""
        return super().receive().split(b";")[0]


def test_each_of_the_answers_that_were_asked_for_together_must_come(tmp_path) -> None:
    bench = Bench(memory_bench(tmp_path), Pool(Cut.opening))
    bench.connect(["psu"])
    bench.set_line([("supply", "voltage"), ("supply", "current_limit")])(8.0, 1.0)
    with pytest.raises(InstrumentError, match="gave 1 answers to 3 questions: '1'") as found:
        bench.complete()
    assert "write compound = false into scpi-power-supply" in found.value.remedy
    bench.close()


def test_what_is_read_together_is_read_once_whoever_answers(perform) -> None:
    run = perform("""test t "T"
    read v_in, amps = supply.current together
    read u_in = v_in, u_out = v_out, more = supply.current together
    read w_in = v_in, w_out = v_out together
    check w_in - v_in within 0 V +/- 0.1 V
    check u_out - w_out within 0 V +/- 0.1 V
    check amps + more + 0 A * u_in / 1 V >= 1 mA
""")
    assert run.verdict == "pass", run.ended
    assert [run.traffic.count(line) for line in ("dmm> READ?", "psu> MEAS1:CURR?;:STAT:QUES?")] == [3, 2]


@pytest.mark.parametrize(("lines", "verdict"), [
    ("every 1 ms\n        wait 20 ms\n    set supply.voltage = 15 V\n    wait 40 ms", "pass"), ("every 100 s\n        set supply.voltage = 15 V\n        wait 40 ms", "fail")])  # fmt: skip
def test_a_watch_looks_once_more_when_its_block_ends_and_never_again(perform, lines: str, verdict: str) -> None:
    run = perform(f'test t "T"\n    watch v_in between 0 V and 10 V {lines}\n    read v_in\n    check v_in >= 14 V\n')
    assert run.verdict == verdict, run.ended


def test_a_load_that_starves_while_its_source_is_on_has_limited(perform) -> None:
    run = perform('test t "T"\n    set supply.voltage = 2 V\n    set load.current = 0.5 A\n    wait 40 ms\n    read v_in\n    check v_in >= 0 V\n')
    assert run.verdict == "fail" and {e.role for e in run.of(events.Limiting)} >= {"load"}


def test_limiting_while_setting_back_is_not_charged_to_the_next_test(perform) -> None:
    header = HEADER.replace("supply.current_limit = 1.3 A", "supply.current_limit = 200 mA")
    assert "200 mA" in header
    run = perform('test a "A"\n    set supply.current_limit = 1.3 A, load.current = 1 A\n    wait 20 ms\n    read v_in\n    check v_in >= 8 V\n'
                  'test b "B"\n    read v_in\n    check v_in >= 8 V\n', header=header)  # fmt: skip
    assert run.verdict == "pass", run.ended


@pytest.mark.parametrize(("is_on", "wanted_on", "settled"), [(1, 1, [0.025, 0.025]), (0, 0, [0, 0]), (1, 0, [0.025] * 3), (0, 1, [0.025] * 3)])
def test_setting_back_waits_for_what_is_on(tmp_path, is_on, wanted_on, settled) -> None:
    bench = Bench(memory_bench(tmp_path), Pool(MemoryLink.opening))
    bench.connect(["psu"])
    now = {("supply", "voltage"): 9.0, ("supply", "current_limit"): 0.1, ("supply", "output"): float(is_on)}
    bench.set_line(list(now))(*now.values())
    wanted = {("supply", "voltage"): 5.0, ("supply", "current_limit"): 1.3, ("supply", "output"): float(wanted_on)}
    waited: list[float] = []
    assert set(bench.restore(Standing(wanted, ()), waited.append)) == {key for key in wanted if wanted[key] != now[key]}
    assert waited == settled
    bench.close()


def test_protection_is_looked_at_again_whenever_all_is_proved(tmp_path) -> None:
    path = memory_bench(tmp_path).path
    path.write_text(path.read_text().replace('ceiling = { voltage = "17 V",', 'protect = { over_voltage = "18 V" }, ceiling = { voltage = "17 V",'))
    bench = Bench(read_bench(path), Pool(MemoryLink.opening))
    bench.connect(["psu"])
    bench.protect()
    assert bench.prove() == []
    bench.sessions["psu"].link.held["SOUR1:VOLT:PROT"] = "40"  # somebody at its panel
    assert [(found.kind, found.text) for found in bench.prove()] == [("lost", "supply.over_voltage was set to 18 V, but the instrument has 40 V")]
    bench.close()


LOW, HIGH = (5.0, 0.5, 8.0), (12.0, 1.0, 20.0)
DOWN, UP = ["SOUR1:VOLT 5", "SOUR1:CURR 0.5", "SOUR1:VOLT:PROT 8"], ["SOUR1:CURR 1", "SOUR1:VOLT:PROT 20", "SOUR1:VOLT 12"]


@pytest.mark.parametrize(("now", "wanted", "sent"), [
    ((*HIGH, 1), (*LOW, 1), DOWN),
    ((*LOW, 1), (*HIGH, 1), UP),
    ((*HIGH, 1), (*LOW, 0), ["OUTP1 OFF", *DOWN]),
    ((*LOW, 0), (*HIGH, 1), [*UP, "OUTP1 ON"]),
])  # fmt: skip
def test_what_is_set_back_is_set_in_an_order_in_which_nothing_trips(tmp_path, now, wanted, sent) -> None:
    keys = [("supply", name) for name in ("voltage", "current_limit", "over_voltage", "output")]
    bench = Bench(memory_bench(tmp_path), Pool(MemoryLink.opening))
    bench.connect(["psu"])
    bench.set_line(keys)(*now)
    MemoryLink.heard.clear()
    bench.restore(Standing(dict(zip(keys, wanted, strict=True)), ()), lambda seconds: None)
    assert [line for name, line in MemoryLink.heard if name == "psu" and "?" not in line] == sent
    bench.close()


def test_a_late_reply_is_not_believed_when_it_says_that_an_output_is_off(serve) -> None:
    bench = Bench(serve())
    bench.connect(["psu"])
    session, link = bench.sessions["psu"], bench.sessions["psu"].link
    session.send("OUTP1 ON")
    assert session.query("OUTP1?") == "1"
    late, receive, send = [b"0\n"], link._receive_bytes, link.send
    link._receive_bytes = lambda most: late.pop() if late else receive(most)
    link._poll = lambda ms: []  # it comes just after the look
    link.send = lambda data: send(data) if not late else None  # and the command was lost
    assert [deed.problem for deed in bench.make_safe()] == [""]
    assert session.query("OUTP1?") == "0" and not late
    bench.close()


def test_what_a_slow_instrument_carries_out_late_is_switched_off_once_more(serve) -> None:
    file = serve()
    bench = Bench(file)
    bench.connect(["psu"])
    session = bench.sessions["psu"]
    session.send("OUTP1 ON")
    session.link.is_waiting = True  # the link is given up before anything has proved that command

    waited = []

    def late(seconds: float) -> None:
        waited.append(seconds)
        port = int(file.instruments["psu"].address.split("::")[2])
        with socket.create_connection(("127.0.0.1", port)) as old:
            old.sendall(b"OUTP1 ON\n*OPC?\n")
            old.recv(10)

    bench.user.wait = late
    assert [deed.problem for deed in bench.make_safe()] == [""]
    assert waited == [0.3] and session.query("OUTP1?") == "0"
    bench.close()


@pytest.mark.parametrize(("condition", "seconds"), [
    ("2 == 2", 3.0), ("2 != 2", 50.0), ("2 == 1", 50.0), ("2 != 1", 3.0), ('"A" == "A"', 3.0), ('"A" != "A"', 50.0), ("yes == yes", 3.0), ("2 >= 2", 3.0), ("2 > 2", 50.0),
    ("2 < 2", 50.0), ("2 <= 2", 3.0), ("1 > 2 or 2 > 1", 3.0), ("1 > 2 and 2 > 1", 50.0), ("not 1 > 2", 3.0), ("not (1 > 2 or 2 > 1)", 50.0), ("2 > 1 and 3 > 2", 3.0),
])  # fmt: skip
def test_conditions_that_are_known_decide_before_the_run(condition: str, seconds: float) -> None:
    body = f"    if {condition}\n        wait 3 s\n    else\n        wait 50 s\n"
    (block,) = preview(vet(Source("t.ibx", 'sequence "S"\n    product "P"\n    serial "A"\ntest t "T"\n' + body)), None)
    assert block.seconds == seconds


def test_the_extent_of_what_was_judged_goes_either_way(perform) -> None:
    run = perform('test t "T"\n    sweep u over 9 V, 7 V, 8 V\n        read v_in\n        check v_in >= 1 V as "live"\n    check v_in >= 1 V as "whole"\n')
    assert [run.result(label).extent for label in ("live", "whole")] == [{"u": [7.0, 9.0]}] * 2
    assert [run.result(label).limits for label in ("live", "whole")] == [[], []]  # a level is kept once


def test_a_bad_reading_while_something_is_adjusted_is_not_charged_to_the_next(perform) -> None:
    run = perform('test t "T"\n    ask adjust v_in within 9 V +/- 5 % "Turn it."\n    read v_out\n    check v_out >= 4 V\n',
                  operator=Prepared(), change=spoilt("garbage", 1, 3))  # fmt: skip
    assert run.verdict == "pass" and run.of(events.Value)[-1].value is not None, run.ended
    assert all(not getattr(event, "bad", None) for event in run.of(events.Value))


@pytest.mark.parametrize(("how", "turns"), [("", 8.0), (" by halving", 6.0)])
def test_the_turns_of_a_search_are_estimated(how: str, turns: float) -> None:
    body = f"    search u from 0 V to 1 V resolution 125 mV{how} until u > 0.3 V\n        wait 1 s\n"
    (block,) = preview(vet(Source("t.ibx", 'sequence "S"\n    product "P"\n    serial "A"\ntest t "T"\n' + body)), None)
    assert block.seconds == turns and "9 values" in block.steps[0].text


def test_rows_to_come_are_known_for_turns_that_are_counted(perform) -> None:
    run = perform('test t "T"\n    repeat k 3 times\n        sweep u over 7 V, 8 V\n            read v_in\n    check v_in >= 1 V\n')
    assert [(e.name, e.rows) for e in run.of(events.SweepStarted)] == [("k", len(run.of(events.Row)))]


def test_a_test_needs_the_one_of_its_own_corner(perform) -> None:
    run = perform("""group heat "Heat" over u = 8 V, 10 V
    test a "A"
        set supply.voltage = u
        wait 20 ms
        read v_in
        check v_in <= 9 V
    test b "B" needs pass of a
        read v_out
        check v_out >= 4 V
""")
    assert [verdict for verdict, _ in run.ended.values()] == ["pass", "pass", "fail", "skipped"]


def test_a_figure_of_two_columns_is_drawn_over_the_column(perform) -> None:
    run = perform('test t "T"\n    sweep u over 7 V, 8 V\n        sweep a over 0 A, 0.1 A\n            set supply.voltage = u, load.current = a\n'
                  "            wait 12 ms\n            read v_in, v_out\n    plot v_out against v_in\n    check v_in >= 1 V\n")  # fmt: skip
    assert [(figure.ys, figure.x) for figure in run.of(events.Figure)] == [(["v_out"], "v_in")]


def test_a_temperature_is_read_in_its_own_unit_and_kept_in_kelvin(ibexite, project) -> None:
    (project / "warm.ibx").write_text('sequence "Warm"\n    product "FM-2 sensor parts"\n    serial "FP[0-9]{4}"\nneeds\n    chamber : temperature_chamber\n'
                                      'test t "T"\n    read air = chamber.temperature\n    check air within 23 degC +/- 2 K\n')  # fmt: skip
    done = ibexite("run", "warm.ibx", "--bench", "analog.toml", "--serial", "FP0107", "--simulate", "--no-report")
    assert done.returncode == 5, done.stdout


@pytest.mark.parametrize(("change", "where"), [
    (('ask   = "INP?"', 'ask   = "CURR:PROT?"'), "test.ibx:17: input did not go off"),
    (('query = "MEAS:CURR?"', 'query = "MEAS:CURR:NONE?"'), "eload at TCPIP")])  # fmt: skip
def test_an_error_says_where_it_happened(perform, project, change: tuple[str, str], where: str) -> None:
    header = HEADER.replace("    set load.current = 0 A, load.input = on\n", "")
    lines = "    set load.input = off\n" if "INP" in change[0] else ""
    run = perform(f'test t "T"\n{lines}    read amps = load.current\n    check amps >= 0 A\n', header=header,
                  change=changed(project, "scpi-electronic-load", change))  # fmt: skip
    assert run.ended["t"][1].startswith(where), run.ended


@pytest.mark.parametrize(("reply", "value"), [("1.5", 1.5), ("9.9E37", math.nan), ("-9.91E37", math.nan), ("1_5", math.nan), ("", math.nan)])
def test_a_reply_is_a_number_of_the_standard_or_bad(memory, monkeypatch, reply: str, value: float) -> None:
    monkeypatch.setitem(RESET, "HOW:MUCH", reply)
    monkeypatch.setitem(ANSWERS, "101", reply.encode())
    bench = memory()
    raw = bench.raw_query("x", "supply", "HOW:MUCH?", declared(units.parse_unit("V")), 1)
    plain = bench.raw_query("plain", "supply", "HOW:MUCH?", NUMBER, 1)
    assert plain == pytest.approx(value, nan_ok=True)
    (signal,) = bench.read_line([bench.signal_item("y", "v_ok")], together=False, averaging=1, tries=1)()
    assert [raw, signal] == [pytest.approx(value, nan_ok=True)] * 2
    bad = [(bad.name, bad.reason.text, bad.raw) for bad in bench.bad if bad.name == "x"]
    assert bad == ([("x", "not a number" if reply else "empty reply", reply)] if value != value else [])


class Hesitant(MemoryLink):
    """Says that an output is on only when it was asked three times."""

    asked = 0

    def _answer(self, query: str) -> bytes:
        Hesitant.asked += query == "OUTP1?"
        return b"0" if query == "OUTP1?" and Hesitant.asked < 3 else super()._answer(query)


def test_a_switch_may_take_a_moment(memory) -> None:
    bench = memory(Hesitant)
    bench.set_line([("supply", "output")])(1.0)
    assert Hesitant.asked == 3


class Falling(MemoryLink):
    """A signal that settles after a while."""

    values = iter((b"5", b"4", b"3.5", b"3.4", b"3.4"))

    def _answer(self, query: str) -> bytes:
        return next(Falling.values) if query == "READ?" else super()._answer(query)


def test_a_role_whose_switch_does_not_switch_is_mistrusted(memory, monkeypatch) -> None:
    monkeypatch.setattr(MemoryLink, "_answer", lambda self, query, known=MemoryLink._answer: b"0" if query == "OUTP1?" else known(self, query))
    bench = memory()
    with pytest.raises(InstrumentError, match="output did not go on"):
        bench.set_line([("supply", "output")])(1.0)
    assert bench.mistrusted == {"supply"}


@pytest.mark.parametrize(("values", "settled", "value", "read"), [
    (["5", "4.5"], (0.5, False), 4.5, 2), (["5", "4.5", "4.25"], (0.25, False), 4.25, 3), (["5", "4", "5"], (0.25, True), 4, 2),
    (["0", "0"], (0.1, True), 0, 2), (["9.9E37", "5", "5"], (0.1, False), 5, 3), (["5", "4"] * 80, (0.5, False), math.nan, 101)])  # fmt: skip
def test_what_settled_means_and_what_never_does_is_bad(memory, monkeypatch, values, settled, value, read) -> None:
    rest = [value.encode() for value in values]
    monkeypatch.setattr(Falling, "values", iter(rest))
    bench = memory(Falling)
    line = bench.read_line([bench.signal_item("y", "v_ok")], together=False, averaging=1, tries=1, settled=settled)
    assert line() == [pytest.approx(value, nan_ok=True)] and len(list(Falling.values)) == len(rest) - read
    assert [bad.reason.text for bad in bench.bad] == (["did not settle in 100 readings"] if value != value else [])


def test_a_condition_on_a_bad_reading_leaves_the_check_undecided(perform) -> None:
    run = perform('test t "T"\n    sweep n over 1, 2, 3\n        read v_out, v_in\n        check v_in <= 20 V where v_out >= 1 V\n',
                  change=spoilt("garbage", 3, 3))  # fmt: skip
    assert run.verdict == "error" and run.of(events.Judged)[0].bad == 1


def test_of_equal_margins_the_first_point_is_told(perform) -> None:
    run = perform("""test t "T"
    sweep j over 1, 2
        sweep n over 1, 2, 3
            let k = 5 V + 0 V * n * j
        check k >= 4 V
    read v_in
    check v_in >= 1 V
""")
    assert run.result("k").at == {"j": 1.0, "n": 1.0}


def test_the_default_of_a_parameter_is_made_of_what_is_above() -> None:
    source = vetted(HEADER.replace("needs\n", "params\n    low = 2 V\n    a = nowhere + 1 V\n    b = low + 1 V\n\nneeds\n", 1))
    assert "unknown name 'nowhere'" in [finding.title for finding in source.findings]


@pytest.mark.parametrize("head", ['group more "More" if 5 V\n    test t "T"\n', 'group more "More"\n    test t "T" if 5 V\n'])
def test_conditions_of_tests_and_groups_are_looked_at(head: str) -> None:
    source = vetted(HEADER + head + "        read v_in\n        check v_in >= 1 V\n")
    assert [finding.title for finding in source.findings if "never used" not in finding.title] == ["not a condition"]


def test_a_shared_file_is_vetted_by_itself_and_with_whoever_uses_it(ibexite, project) -> None:
    (project / "mine.ibx").write_text("constants\n    a = 5 V\n    b = a + 3 A\n")
    done = ibexite("vet", "mine.ibx")
    assert done.returncode == 2 and "mine.ibx:3" in done.stdout + done.stderr
    (project / "user.ibx").write_text(HEADER.replace("needs\n", 'use "mine.ibx"\n\nneeds\n') + 'test t "T"\n    read v_in\n    check v_in >= a\n')
    used = ibexite("vet", "user.ibx")
    assert used.returncode == 2 and "mine.ibx:3" in used.stdout + used.stderr


def test_a_sweep_has_as_many_points_as_may_be_and_no_more() -> None:
    with pytest.raises(MistakeError, match="points"):
        points.by_step(Decimal(0), Decimal(points.MAX_POINTS), Decimal(1))
    for made in (points.linear, points.logarithmic):
        with pytest.raises(MistakeError, match="points are too many"):
            made(Decimal(1), Decimal(2), points.MAX_POINTS + 1)
    with pytest.raises(MistakeError, match="points are too many"):
        points.per_ratio(Decimal(1), Decimal(10), Decimal(points.MAX_POINTS), 10)


def test_set_points_in_a_measurement_are_those_of_the_roles_that_play_it(perform, project) -> None:
    file = read_bench(project / "bench.toml")
    text = 'test t "T"\n    measure loading(sink = load, output = v_out) as it\n    plot it.volts against it.amps\n    check it.volts >= 4 V\n'
    header = MEASURED.replace(" refine where volts near its limit at most 7 points", "") + HEADER
    run = perform(text, header=header)
    assert [(figure.ys, figure.x) for figure in run.of(events.Figure)] == [(["it.volts"], "amps")]
    source = Source("t.ibx", header + text)
    found = {moment.setting for moment in timeline(vet(source), file)}
    assert "load.current" in found and "sink.current" not in found
    given = timeline(vet(Source("t.ibx", header + text.replace("sink = load", "sink = load, most = 77 mA"))), file)
    assert max(moment.value for moment in given if moment.setting == "load.current") == 0.077
    shown = timeline(vet(Source("t.ibx", HEADER + 'test t "T"\n    set supply.voltage = 8000 mV, load.current = 0.2 A\n')), file)
    assert [(moment.value, moment.unit) for moment in shown[-2:]] == [(8.0, "mV"), (0.2, "A")]


def test_a_line_may_read_a_signal_and_ask_a_raw_query(perform, project) -> None:
    run = perform('test t "T"\n    read word = query(supply, "*IDN?") as text, v_in\n    check word matches "Firnline.*"\n    check v_in within 9 V +/- 0.1 V\n',
                  change=lambda text: text.replace('[roles.supply]', '[roles.supply]\nraw = true'))  # fmt: skip
    assert run.verdict == "pass", run.ended


class Inrush(MemoryLink):
    """A supply that is at its limit for a moment when its output goes on."""

    is_latched = False

    def send(self, data: bytes) -> None:
        super().send(data)
        Inrush.is_latched |= b"OUTP1 ON" in data

    ask = send

    def _answer(self, query: str) -> bytes:
        if query == "STAT:QUES?" and self.name == "psu" and Inrush.is_latched:
            Inrush.is_latched = False
            return b"1"
        return super()._answer(query)


def test_what_limits_while_an_output_is_switched_back_on_is_not_charged_to_the_next_test(tmp_path) -> None:
    text = state.HEAD.format(prot=16, volts=9, load="off", output="on") + (
        'test a "A"\n    set supply.output = off\n    read x = v_ok\n    check x >= 1 V\ntest b "B"\n    read x = v_ok\n    check x >= 1 V\n'
    )
    assert carried_out(vet(Source("t.ibx", text)), memory_bench(tmp_path), opening=Inrush.opening).tests == {"a": "pass", "b": "pass"}


@pytest.mark.parametrize(
    ("given", "found"),
    [
        ("most = 100 mA, output = v_out", []),
        ("output = 5 V", ["what is 'output' here?"]),
        ("most = 5 V, output = v_out", ["wrong unit"]),
        ("most = 400 mA, output = v_out", ["most is out of its bounds"]),
        ("much = 1 A, output = v_out", ["loading takes no 'much'"]),
    ],
)
def test_inputs_of_a_measurement_are_looked_at(given: str, found: list[str]) -> None:
    text = MEASURED.replace(" refine where volts near its limit at most 7 points", "") + HEADER
    source = vetted(text + f'test t "T"\n    measure loading(sink = load, {given}) as it\n    check it.volts >= 4 V\n')
    assert [finding.title for finding in source.findings if "never used" not in finding.title] == found


def test_each_output_of_a_measurement_must_get_a_value() -> None:
    lines = 'measurement two "Two"\n    needs\n        tap : signal in V\n    outputs\n        kept in V\n        lost in V\n    read kept = tap\n\n'
    source = vetted(lines + HEADER + 'test t "T"\n    measure two(tap = v_in) as it\n    check it.kept >= 1 V\n')
    assert [finding.title for finding in source.findings if finding.level == "mistake"] == ["'lost' never gets a value"]


def test_how_long_a_branch_takes_is_not_known_where_the_run_decides() -> None:
    lines = "    read v_in\n    if v_in > 5 V\n        wait 5 s\n    check v_in >= 1 V\n"
    assert [b.is_exact for b in preview(vet(Source("t.ibx", HEADER + 'test t "T"\n' + lines)), None)] == [True, False]


def test_limits_from_a_table_that_is_not_here_are_not_missed() -> None:
    header = HEADER.replace("\n\nneeds", '\n    limits   "limits.csv"\n\nneeds', 1)
    assert header != HEADER
    for text, missing in ((header, 0), (HEADER, 1)):
        source = vetted(text + 'test t "T"\n    read v_in\n    check v_in\n')
        assert [f.title for f in source.findings].count("a check without limits") == missing


def test_a_timeline_knows_the_corners() -> None:
    lines = 'group g "G" over u = 8 V, 7 V\n    test t "T"\n        set supply.voltage = u\n        read v_in\n        check v_in >= 1 V\n'
    moments = timeline(vet(Source("t.ibx", HEADER + lines)), None)
    assert [moment.value for moment in moments if moment.setting == "supply.voltage"][-2:] == [8.0, 7.0]


def test_the_first_corner_says_what_the_others_are() -> None:
    lines = 'group g "G" over u = 8 V, 5 A\n    test t "T"\n        set supply.voltage = u\n        read v_in\n        check v_in >= 1 V\n'
    source = vetted(HEADER + lines)
    assert [(f.title, source.text[f.span.start : f.span.end], f.remedy) for f in source.findings if f.title == "wrong unit"] == [
        ("wrong unit", "5 A", "The first corner is a voltage (V).")
    ]


@pytest.mark.parametrize("link", [MemoryLink, Cut])
def test_what_is_believed_is_asked_in_one_message_and_each_answer_is_wanted(memory, link) -> None:
    bench = memory(MemoryLink)
    bench.learn_state([("supply", "voltage"), ("supply", "output")])
    bench.sessions["psu"].link.__class__ = link
    bench.take_said()
    found = bench.prove()
    assert [line for line in lines(bench.user.said) if line.startswith("psu> ")][0] == (
        "psu> SOUR1:VOLT:PROT:TRIP?;:SOUR1:CURR:PROT:TRIP?;:OUTP1?;:SOUR1:VOLT?;*IDN?"
    )
    told = [("doubt", "psu gave 1 answers to 5 questions: '0'")] if link is Cut else []
    assert [(finding.kind, finding.text) for finding in found] == told


def test_a_setting_that_another_one_has_changed_after_a_restart_is_an_error(serve) -> None:
    bench = Bench(serve())
    bench.connect(["psu"])
    bench.set_line([("supply", "voltage")])(8.0)
    bench.complete()
    session = bench.sessions["psu"]
    session.link.send(b"*RST\n")
    session.link._stream.socket.shutdown(socket.SHUT_RDWR)
    with pytest.raises(InstrumentError, match="its state is another one after the link was opened anew: voltage was set to 8 V, it has 0 V"):
        session.query("SOUR1:CURR?")
    bench.close()


def test_settled_is_heard_where_it_is_written(tmp_path, monkeypatch) -> None:
    monkeypatch.setattr(Falling, "values", iter((b"5", b"4", b"3.5", b"3.4", b"3.4")))
    text = state.HEAD.format(prot=16, volts=9, load="off", output="on") + 'test a "A"\n    read x = v_ok settled 0.2 V\n    check x >= 1 V\n'
    seen: list[events.Event] = []
    carried_out(vet(Source("t.ibx", text)), memory_bench(tmp_path), seen.append, opening=Falling.opening)
    assert [event.value for event in seen if isinstance(event, events.Value)] == [3.4]


def test_steps_in_a_branch_stand_deeper_than_it() -> None:
    lines = "    if 1 > 2\n        wait 3 s\n    else if 2 > 1\n        repeat k 2 times\n            wait 5 s\n    else\n        wait 1 s\n"
    (block,) = preview(vet(Source("t.ibx", 'sequence "S"\n    product "P"\n    serial "A"\ntest t "T"\n' + lines)), None)
    assert block.is_exact
    assert [(step.depth, step.text) for step in block.steps] == [
        (0, "if 1 > 2   never here"), (0, "else if 2 > 1"), (1, "repeat k 2 times"), (2, "wait 5 s"), (0, "else   never here")]  # fmt: skip


@pytest.mark.parametrize(
    "lines", ["watch v_in <= 2 V every 1 s\n        wait 1 ms", "watch v_in >= 2 V every 1 s\n        set supply.output = off\n        wait 30 ms"]
)
def test_a_watch_that_trips_at_its_first_or_last_look_is_told_as_a_check(perform, lines: str) -> None:
    run = perform(f'test t "T"\n    read v_out\n    check v_out >= 1 V\n    {lines}\n')
    result = run.result("watch v_in")
    assert (result.verdict, result.failed, run.ended["t"][0]) == ("fail", 1, "fail")
    assert 0 <= result.at["watched"] <= result.t, "from its beginning"
    assert result.criterion == lines.split("\n")[0]


def test_the_roles_of_a_lost_setting_are_set_back_whole(memory) -> None:
    bench = memory()
    wanted = {("supply", "voltage"): 8.0, ("supply", "current_limit"): 1.0}
    bench.set_line(list(wanted))(*wanted.values())
    bench.complete()
    bench.set_line([("supply", "voltage")])(9.0)
    bench.sessions["psu"].link.held["SOUR1:VOLT"] = "3"
    with pytest.raises(InstrumentError, match="voltage was set to 9 V, but the instrument has 3 V"):
        bench.complete()
    assert bench.restore(Standing(wanted, ()), lambda seconds: None) == list(wanted), "who knows what else it has lost"
    assert bench.restore(Standing(wanted, ()), lambda seconds: None) == []


class Starving(MemoryLink):
    """A load that notes when it does not get its current: 1 A is too much for the supply, and so is all without it."""

    is_latched = False

    def send(self, data: bytes) -> None:
        super().send(data)
        Starving.is_latched |= b"OUTP1 O" in data or (self.name == "eload" and b"CURR 1" in data)

    ask = send

    def _answer(self, query: str) -> bytes:
        if query == "STAT:QUES?" and self.name == "eload" and Starving.is_latched:
            Starving.is_latched = False
            return b"1"
        return super()._answer(query)


@pytest.mark.parametrize(("lines", "verdict"), [
    ("set supply.output = off", "pass"), ("set supply.output = off\nset supply.output = on", "pass"), ("set load.current = 1 A", "fail"),
    ("set supply.output = off\nwait 1 s\nset supply.output = on\nwait 1 s", "pass"), ("set load.current = 1 A\nset supply.output = off", "fail"),
    ("set supply.output = off\nset supply.output = on\nwait 1 s\nset load.current = 1 A", "fail"), ("set supply.output = off\nset load.current = 1 A", "pass"),
    ("set load.current = 1 A\nset supply.output = off\nset supply.output = on\nwait 1 s", "fail")])  # fmt: skip
def test_a_load_that_starves_only_because_its_source_is_off_has_not_limited(rehearse, monkeypatch, lines, verdict) -> None:
    monkeypatch.setattr(Starving, "is_latched", False)
    lines = "    set load.input = on\n" + "".join(f"    {line}\n" for line in lines.split("\n"))
    run = rehearse(lines + "    read x = v_ok\n    check x >= 1 V\n", link=Starving)
    assert run.tests == {"a": verdict}


def test_texts_and_yes_or_no_are_filled_into_raw_messages(perform) -> None:
    lines = ('test t "T"\n    ask word = text "Word?"\n    ask lit = yes_no "Lit?"\n    ask hot = yes_no "Hot?"\n    let u = 7 V\n'
             '    send supply "OUTP{word} {hot}"\n    send supply "OUTP1 {lit}"\n    send supply "SOUR1:VOLT {u:V}"\n    wait 20 ms\n'
             '    read v_in\n    check v_in >= 1 V\n')  # fmt: skip
    run = perform(lines, operator=Prepared("1", True, False), change=lambda text: text.replace("[roles.supply]", "[roles.supply]\nraw = true"))
    sent = [line for line in run.traffic if line.startswith("psu>")]
    assert all(f"psu> {line}" in sent for line in ("OUTP1 0", "OUTP1 1", "SOUR1:VOLT 7")) and run.verdict == "pass"


@pytest.mark.parametrize("held", ["#!?", "1_0", "", "NAN", "-10"])
def test_a_setting_that_reads_back_as_no_number_is_not_complete(memory, held: str) -> None:
    bench = memory()
    bench.set_line([("supply", "voltage")])(10.0)
    bench.sessions["psu"].link.held["SOUR1:VOLT"] = held
    with pytest.raises(InstrumentError):
        bench.complete()


def test_a_picture_must_be_there_and_a_switch_is_set_by_yes_or_no(ibexite, project) -> None:
    params = "params\n    lit = yes\n\n"
    lines = 'test t "T"\n    ask confirm "Seat it." picture "no.png"\n    read v_in\n    if lit\n        check v_in >= 1 V\n'
    (project / "seat.ibx").write_text(HEADER.replace("before unit", params + "before unit", 1) + lines)
    told = ibexite("vet", "seat.ibx")
    assert told.returncode == 2 and "there is no picture 'no.png'" in told.stdout + told.stderr
    (project / "no.png").write_bytes(b"")
    for given, code in (("yes", 0), ("off", 0), ("maybe", 2)):
        told = ibexite("vet", "seat.ibx", "--with", f"lit={given}")
        assert (told.returncode, "neither yes nor no" in told.stderr) == (code, bool(code)), told.stdout + told.stderr


def test_of_a_measurement_in_the_language_only_what_its_lines_set_is_asked(perform) -> None:
    header = MEASURED.replace(" refine where volts near its limit at most 7 points", "") + HEADER
    lines = 'test t "T"\n    measure loading(sink = load, output = v_out) as it\n    check it.volts >= 4 V\n'
    run = perform(lines, header=header)
    assert next(line for line in run.traffic if line.startswith("eload> CURR?")) == "eload> CURR?;:INP?"


@pytest.mark.parametrize("turns", ["repeat k until k >= 4 - n timeout 1 s", "search k from 1 to 4 resolution 1 until k >= n",
                                   "sweep k from 1 to 5 step 1 refine where x bends at most 7 points"])  # fmt: skip
def test_turns_that_differ_from_pass_to_pass_keep_their_places(perform, turns: str) -> None:
    run = perform(f'test t "T"\n    sweep n over 1, 2, 3\n        {turns}\n            let x = 1 V * n + 1 V * (k - n)^2 * (n - 1)\n            read v_in\n'
                  "            let y = 1 V * n\n    let best = max(y along k)\n    let least = min(y along k)\n    check best == 1 V * n\n    check least == 1 V * n\n")  # fmt: skip
    assert run.verdict == "pass", run.ended
    assert [run.result(label).judged for label in ("best", "least")] == [3, 3]


@pytest.mark.parametrize(("use", "title"), [
    ("let y = max(it.volts)\n    check min(y) >= 4 V", ""), ("let y = it.amps\n    check max(y) >= 0 A", "along which axis?"),
    ("show \"{it.name}\"", ""), ("wait 1 ms\n    check max(it.volts along amps) >= 4 V", ""), ("wait 1 ms\n    check it.volts >= 4 A", "wrong unit")])  # fmt: skip
def test_what_was_measured_inside_a_loop_is_over_it_afterwards(use: str, title: str) -> None:
    text = (
        MEASURED.replace(" refine where volts near its limit at most 7 points", "")
        .replace("        amps  in A\n", "        amps  in A\n        name as text\n")
        .replace("    sweep amps", '    read name = query(sink, "*IDN?") as text\n    sweep amps')
        + HEADER
    )
    lines = f"    sweep k over 1, 2\n        measure loading(sink = load, output = v_out) as it\n        {use}\n"
    source = vetted(text + 'test t "T"\n' + lines)
    assert [f.title for f in source.findings if f.level == "mistake"] == ([title] if title else [])


@pytest.mark.parametrize(("check", "points"), [
    ("x >= 2.2 V", [2.5]), ("x <= 3.2 V", [3.5]), ("x between 2.2 V and 9 V", [2.5]), ("x within 5 V +/- 2.8 V", [2.5]), ("x within 4 V +/- 45 %", [2.5]),
    ("2 * x <= 3.2 V", None), ("max(x) >= 2.2 V", None), ("x <= x + 1 V", None)])  # fmt: skip
def test_a_sweep_is_refined_near_limits_on_the_column_itself(rehearse, check: str, points: list[float] | None) -> None:
    run = rehearse("    sweep u from 1 V to 5 V step 1 V refine where x near its limit at most 6 points\n"
                          f"        let x = u\n    check {check}\n")  # fmt: skip
    rows = [row.x[0] for row in run.of(events.Row)]
    assert rows == ([1, 2, 3, 4, 5, *points] if points else []), run.reason.text
    assert points or "there is no known limit for x" in run.reason.text + str(run.of(events.TestEnded))


BIG = "    read x = v_ok\n    let big = x * 1e300 * 1e300\n"


@pytest.mark.parametrize(("lines", "verdict"), [
    ("check x <= big", "error"), ("check x between 1 V and big", "error"), ("check x >= 0 V - big", "error"), ("check x within 5 V +/- big", "error"),
    ("check big >= 1 V", "error"), ("check x <= x * 1e300 * 1e300", "error"), ("check x within 5 V +/- 2 * x * 1e300 * 1e300", "error"),
    ("check x within 5 V +/- 1 V guarded by 4.9 V - x", "error"), ("sweep u from 1 V to 2 V step x * 1e300\n        read z = v_ok\n    check x >= 1 V", "error"),
    ("check x >= 1 V where x < big", "error"), ("if x < big\n        let y = x\n    check x >= 1 V", "error"), ("if x < x * 1e300 * 1e300\n        let y = x\n    check x >= 1 V", "error"),
    ("watch v_ok <= big every 1 ms\n        wait 3 ms\n    check x >= 1 V", "error"), ("check x >= 1e300 V * 1e300", "error"),
    ("let none = 1 V^2 / (x * 1e300 * 1e300)\n    check none <= 1 V", "error"), ("set load.current = 1 A * (1 V / (x * 1e300 * 1e300))\n    check x >= 1 V", "error"),
    ("check x <= 1e300 V", "pass"), ("sweep u over 1 V, x\n        set supply.voltage = u\n    check x >= 1 V", "pass"),
    ("sweep n over 1, 2\n        let z = x * 1e300 * 10^(4 * n)\n    check -max(z) <= 9 V", "error"), ("let fine = x * 1e300 / 1e300\n    check fine == 5 V", "pass"),
    ("sweep n over 1, 2\n        let z = x * 1e300 * 10^(4 * n)\n    let top = max(z)\n    check top >= 1 V allowing 1 bad", "pass")])  # fmt: skip
def test_what_is_too_large_for_a_number_is_none(rehearse, lines: str, verdict: str) -> None:
    run = rehearse(BIG + f"    {lines}\n")
    assert run.tests == {"a": verdict} and "internal" not in run.reason.text


@pytest.mark.parametrize("time", ["1 s * (x / (x - x))", "0 s - 1 s * (x / 1 V)"])
@pytest.mark.parametrize("lines", [
    "wait {}", "wait reading y = v_ok every {} until y > 90 V timeout 5 s", "wait reading y = v_ok every 1 s until y > 90 V timeout {}",
    "repeat k 3 times every {}\n        read z = v_ok", "repeat k for {} every 1 s\n        read z = v_ok",
    "repeat k until x > 90 V every 1 s timeout {}\n        read z = v_ok", "watch v_ok <= 20 V every {}\n        wait 1 s"])  # fmt: skip
def test_a_time_that_is_none_is_an_error_and_never_endless(rehearse, lines: str, time: str) -> None:
    run = rehearse(f"    read x = v_ok\n    {lines.format(time)}\n    check x >= 1 V\n")
    assert run.tests == {"a": "error"}


@pytest.mark.parametrize("lines", [
    "wait {}", "wait reading y = v_ok every {} until y > 4 V for 2 readings timeout {} * 9", "repeat k 2 times every {}\n        read z = v_ok",
    "repeat k for {} every {}\n        read z = v_ok", "watch v_ok <= 20 V every {}\n        wait 1 s"])  # fmt: skip
def test_a_time_may_depend_on_what_was_measured(rehearse, lines: str) -> None:
    lines = lines.replace("{}", "0.2 s * (x / 1 V)")
    run = rehearse(f"    read x = v_ok\n    {lines}\n    check x >= 1 V\n")
    (end,) = run.of(events.TestEnded)
    assert (run.verdict, end.verdict) == ("pass", "pass") and 0.99 < end.duration < 1.1


def test_a_guard_never_widens_the_limits_and_a_refusal_says_whose_bound_it_is(rehearse, memory) -> None:
    lines = "    sweep n over 1, 2\n        read x = v_ok\n    let width = 0 V - min(x) / 5\n    check x within 5 V +/- 1 V guarded by width\n"
    assert rehearse(lines).tests == {"a": "error"}
    with pytest.raises(points.StepDoesNotFit, match="the step does not fit") as found:
        points.by_step(Decimal(1), Decimal(5), Decimal("1e10"))
    assert found.value.remedy == "It would lead to 1 or 1e+10 (base units)."
    bench = memory()
    for value, origin in ((-1.0, "the range of scpi-power-supply"), (17.5, "the ceiling of supply.voltage")):
        with pytest.raises(CeilingError, match=re.escape(origin)):
            bench.set_line([("supply", "voltage")])(value)
