"""Readings that give whole curves: how they are answered and scaled, what a lying instrument makes of them, and that they
are stored as they were, also those that lie in the side file of a run."""

import math
import os
import struct
from array import array
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import events
from ibexite.analysis.curve import ArrayCurve, SampledCurve, Sampling, combine
from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.pool import Pool
from ibexite.errors import MistakeError, RecordsError
from ibexite.events import Judged, SideRef
from ibexite.instruments.link import Reply
from ibexite.instruments.profile import SHIPPED, load_profile
from ibexite.records.gateway import open_lookup
from ibexite.records.side_file import EvenPoints, SideFile, SideValues, read_side
from tests.conftest import Recorded
from tests.laboratory.stub_bench import MemoryLink
from tests.runs import kept_events, vetted

PROFILE = (SHIPPED / "scpi-oscilloscope.toml").read_text()
BLOCK = PROFILE[PROFILE.index("[readings.wave]") : PROFILE.index("[actions]")]
LIST = '[readings.wave]\nquery = "READ:ARR:VOLT? (@{channel})"\nunit = "mV"\n[readings.wave.axes.time]\npoints = "TIMES?"\nunit = "ms"\n\n'
SCALED = ('[readings.wave]\nquery = "READ:ARR:VOLT? (@{channel})"\nform = "block"\nnumbers = "int16"\nbytes = "little"\nfactor = "FACTOR?"\n'
          'offset = "-1"\n[readings.wave.axes.time]\nstart = "-2 ms"\nstep = "SENS:SWE:TINT?"\n\n')  # fmt: skip
BENCH = """[bench]
name = "scope"
[instruments.scope]
profile = "scope.toml"
address = "TCPIP::127.0.0.1::{port}::SOCKET"
[roles.scope]
instrument = "scope"
channel = 1
"""


class ScopeLink(MemoryLink):
    """Answers by the query, in characters or as a block."""

    answers: dict[str, bytes] = {}

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        query = self._asked.decode().split(" ")[0]
        return self.answers.get(query, b"1" if query == "*OPC?" else b"0,none")


def floats(*values: float) -> bytes:
    """A block of single precision."""
    return struct.pack(f">{len(values)}f", *values)


def read_once(folder: Path, monkeypatch: pytest.MonkeyPatch, profile: str, answers: dict[str, bytes]):
    """The curve that a bench reads, and what was bad."""
    (folder / "scope.toml").write_text(PROFILE.replace(BLOCK, profile))
    (folder / "bench.toml").write_text(BENCH.replace("{port}", str(20_000 + os.getpid() % 20_000)))
    monkeypatch.setattr(ScopeLink, "answers", answers)
    bench = Bench(read_bench(folder / "bench.toml"), Pool(ScopeLink.opening))
    bench.connect(["scope"])
    (curve,) = bench.read_line([bench.role_item("w", "scope", "wave", {})], together=False, averaging=1)()
    bad = [(b.reason.code, b.reason.text) for b in bench.bad]
    bench.close()
    return curve, bad


EVEN = {"SENS:SWE:OFFS:TIME?": b"1E-3", "SENS:SWE:TINT?": b"5E-4"}
NAN = math.nan


@pytest.mark.parametrize(("profile", "answers", "times", "values", "bad"), [
    (BLOCK, {"READ:ARR:VOLT?": floats(1, -2, 0.5)}, [1e-3, 1.5e-3, 2e-3], [1, -2, 0.5], []),
    (BLOCK, {"READ:ARR:VOLT?": floats(1, 9.9e37, math.inf, -9.9e37, 5)}, None, [1, NAN, NAN, NAN, 5], [("overload", "overload at 3 of 5 points")]),
    (BLOCK, {"READ:ARR:VOLT?": floats(1, 9.91e37, NAN)}, None, [1, NAN, NAN], [("not_a_number", "not a number at 2 of 3 points")]),
    (BLOCK, {"READ:ARR:VOLT?": floats(1, 2)[:-1]}, [0], [NAN], [("not_a_number", None)]),
    (BLOCK, {"READ:ARR:VOLT?": b""}, [0], [NAN], [("empty", "empty reply")]),
    (BLOCK, {"READ:ARR:VOLT?": floats(1, 2), "SENS:SWE:TINT?": b"0"}, [0], [NAN], [("not_a_number", None)]),
    (BLOCK, {"READ:ARR:VOLT?": floats(1, 2), "SENS:SWE:TINT?": b"9.91E37"}, [0], [NAN], [("not_a_number", None)]),
    (BLOCK, {"READ:ARR:VOLT?": floats(1, 2), "SENS:SWE:OFFS:TIME?": b"?!"}, [0], [NAN], [("not_a_number", None)]),
    (SCALED, {"READ:ARR:VOLT?": struct.pack("<3h", 100, -200, 0), "FACTOR?": b"0.01"}, [-2e-3, -1.5e-3, -1e-3], [0, -3, -1], []),
    (SCALED, {"READ:ARR:VOLT?": struct.pack("<3h", 1, 2, 3), "FACTOR?": b"1e300000"}, [0], [NAN], [("not_a_number", None)]),
    (LIST, {"READ:ARR:VOLT?": b"1,-2.5E3,9.9E37", "TIMES?": b"0,1,4"}, [0, 1e-3, 4e-3], [1e-3, -2.5, NAN], [("overload", "overload at 1 of 3 points")]),
    (LIST, {"READ:ARR:VOLT?": b"1,2", "TIMES?": b"0,1,4"}, [0], [NAN], [("count", "another number of values: 2 for 3 points")]),
    (LIST, {"READ:ARR:VOLT?": b"1,2,x", "TIMES?": b"0,1,4"}, [0], [NAN], [("not_a_number", None)]),
    (LIST, {"READ:ARR:VOLT?": b"1,2,3", "TIMES?": b"0,1,1"}, [0], [NAN], [("not_a_number", None)]),  # which of both is it?
    (LIST, {"READ:ARR:VOLT?": b"1,2,3", "TIMES?": b"0,1,9.91E37"}, [0], [NAN], [("not_a_number", None)]),
    (LIST, {"READ:ARR:VOLT?": b" ", "TIMES?": b"0"}, [0], [NAN], [("empty", "empty reply")])])  # fmt: skip
def test_what_a_reply_means(tmp_path, monkeypatch, profile: str, answers: dict, times: list | None, values: list, bad: list) -> None:  # fmt: skip
    curve, found = read_once(tmp_path, monkeypatch, profile, EVEN | answers)
    assert curve.values.tolist() == pytest.approx(values, nan_ok=True)
    if times is not None:
        assert curve.axes["time"].tolist() == pytest.approx(times)
    assert [code for code, _ in found] == [code for code, _ in bad]
    assert all(text in (None, told) for (_, text), (_, told) in zip(bad, found, strict=True)), found


@pytest.mark.parametrize(("wrong", "right", "message"), [
    ('form      = "block"', 'form = "lump"', "there is no form 'lump'"),
    ('numbers   = "float32"', 'numbers = "float31"', "there is no 'float31'"),
    ('numbers   = "float32"', 'numbers = "float32"\nbytes = "middle"', "there is no order 'middle'"),
    ("[readings.wave.axes.time]", "[readings.wave.axes.place]", "wave is over time"),
    ('step  = "SENS:SWE:TINT?"', 'step  = "3 V"', "3 V is a voltage (V)"),
    ('step  = "SENS:SWE:TINT?"', "", "step"),
    ('[readings.rms]\nquery = "MEAS:VOLT:RMS? (@{channel})"', '[readings.rms]\nquery = "X?"\nform = "block"', "is for curves")])  # fmt: skip
def test_a_mistake_in_a_profile_is_told(tmp_path: Path, wrong: str, right: str, message: str) -> None:
    assert wrong in PROFILE
    (tmp_path / "scope.toml").write_text(PROFILE.replace(wrong, right))
    with pytest.raises(MistakeError) as error:
        load_profile("scope.toml", tmp_path)
    assert message in str(error.value)


def test_no_signal_is_made_of_a_curve(tmp_path: Path) -> None:
    (tmp_path / "scope.toml").write_text(PROFILE)
    (tmp_path / "bench.toml").write_text(BENCH.replace("{port}", "1") + '[signals.v]\nread = "scope.wave"\n')
    with pytest.raises(MistakeError, match="wave gives whole curves"):
        read_bench(tmp_path / "bench.toml")


WAVES = """sequence "Waves"
    product "FM-2 sensor parts"
    serial  "FC[0-9]{5}"

needs
    generator : function_generator
    scope     : oscilloscope
    v_tone    : signal in V

before unit
    set generator.frequency = 40 kHz, generator.amplitude = 2 V, generator.output = on
    set scope.full_scale = 5 V, scope.record_time = 100 us
    wait 10 ms

test t "T"
"""


def waves(perform, project: Path, lines: str, trouble: str = "") -> Recorded:
    """Lines on the analog bench, whose scope may be made to lie."""
    bench = (project / "analog.toml").read_text()
    if trouble:
        here = 'identity = "Firnline,OS-4C"\n'
        assert here in bench
        bench = bench.replace(here, f'{here}trouble = [{{ query = "READ:ARR", how = "{trouble}", times = 99 }}]\n')
    return perform(lines, header=WAVES, change=lambda text: bench)


def test_a_record_is_the_wave_that_is_applied(perform, project: Path) -> None:
    run = waves(perform, project, "    read v_tone, w_in = scope.wave(channel = 1) together\n    let power = mean(w_in * w_in)\n"
                "    check w_in between -2.05 V and 2.05 V\n    check power within 2 V^2 +/- 3 %\n    check v_tone >= 1 V\n    plot w_in against time\n")  # fmt: skip
    assert run.tests["t"] == "pass", [r.reason for r in run.of(Judged)]
    (curve, *_) = run.of(events.WholeCurve)
    time = np.arange(2_000) * 5e-8
    assert curve.sampling == (0.0, 5e-8) and curve.axes == [{"name": "time", "unit": "s", "shown": "", "origin": "sweep"}]
    assert np.abs(np.array(curve.v) - 2 * np.sin(2 * np.pi * 40e3 * time)).max() < 0.05
    assert 8000 in [len(text) for event in run.events for name, _, text in getattr(event, "io", ((), ()))[0] if name == "scope"]  # what it said is kept


@pytest.mark.parametrize("trouble", ["garbage", "cut", "empty", "overload", "nan", "silent", "close", "late"])
def test_whatever_the_scope_answers_instead_nothing_passes(perform, project: Path, trouble: str) -> None:
    run = waves(perform, project, "    read w_in = scope.wave(channel = 1)\n    let top = max(w_in)\n    check w_in >= -9 V\n    check top <= 9 V\n", trouble)
    assert run.tests["t"] == "error" and run.is_safe, run.outcome


LOOP = """    set scope.full_scale = 2500 mV
    sweep level over 1 V, 2 V, 3 V
        set generator.amplitude = level
        wait 10 ms
        read w_out = scope.wave(channel = 1)
        if level < 2 V
            read first = scope.wave(channel = 1)
        let peak = max(w_out)
        check w_out <= 7 V as "below"
"""


def test_within_loops_each_turn_has_its_curve(perform, project: Path) -> None:
    run = waves(perform, project, LOOP + "    check peak between 0.9 V and 2.1 V where level < 3 V allowing 999 bad\n")
    below, peak = run.of(Judged)
    assert (below.judged, peak.verdict) == (6_000, "pass"), peak
    assert (below.verdict, below.bad > 100) == ("fail", True)  # at 3 V it is overloaded, which is a fact about the unit
    curves = run.of(events.WholeCurve)
    assert [(c.name, c.at) for c in curves] == [("w_out", (1.0,)), ("first", (1.0,)), ("w_out", (2.0,)), ("w_out", (3.0,))]


@pytest.mark.parametrize(("lines", "message"), [
    ("sweep level over 1 V, 2 V\n        read x = scope.wave(channel = 1)\n    check max(x along time) >= 0 A", "wrong unit"),
    ("sweep time over 1 s, 2 s\n        read x = v_tone\n    sweep time2 over 1, 2\n        sweep time over 1 s, 2 s\n            read y = v_tone\n        let z = y * 2\n    check z >= 0 A", "wrong unit"),
    ("sweep time over 1 s, 2 s\n        read x = scope.wave(channel = 1)\n        check x >= 0 V", "two axes are called time"),
    ("read x = scope.wave(channel = 1) averaging 3\n    check x >= 0 V", "not a number"),
    ("wait reading x = scope.wave(channel = 1) every 1 s until max(x) > 1 V timeout 9 s", "a curve in a wait"),
    ("read x = scope.wave(channel = 1)\n    check x >= 0 A", "wrong unit")])  # fmt: skip
def test_curves_are_vetted(lines: str, message: str) -> None:

    source = vetted(WAVES + "    " + lines + "\n")
    assert message in [f.title for f in source.findings], [source.render(f) for f in source.findings]


def test_curves_are_stored_as_they_were(ibexite, project: Path) -> None:
    settings = project / "ibexite.toml"
    settings.write_text(settings.read_text().replace('"sensor_parts.ibx" =', '"w.ibx" = "analog.toml"\n"sensor_parts.ibx" ='))
    (project / "w.ibx").write_text(WAVES + LOOP + "    let last = level * 2\n    check last >= 0 V\n")
    ran = ibexite("run", "w.ibx", "--simulate", "--serial", "FC00401")
    assert ran.returncode == 1, ran.stdout + ran.stderr
    shown = ibexite("show", "last").stdout
    assert "w_out over level, time, 6000 rows" in shown and "first over level, time, 2000 rows" in shown
    exported = ibexite("export", "last", "--to", "csv", "--out", "out").stdout
    tables = {path.read_text().partition("\n")[0]: path.read_text().splitlines() for path in (project / "out").glob("t_*.csv")}
    table = tables["level [V],time [s],w_out [V]"]
    assert len(table) == 6_001 and table[1].startswith("1.0,0.0,"), exported
    lookup = open_lookup(project / "records")
    (whole,) = (g for g in lookup.run(lookup.find("last")).parts[0].grids if g.has("w_out"))
    grids = [turn.grid for turn in whole.turns]
    lookup.close()
    told = [entry["v"] for entry in kept_events(project) if entry["e"] == "WholeCurve" and entry["name"] == "w_out"]
    for grid, ref in zip(grids, told, strict=True):
        curve = grid.curve("w_out")
        assert isinstance(curve, SampledCurve) and curve.sampling == Sampling("time", 0.0, 5e-8)
        assert array("d", curve.values).tobytes() == read_side(project / "records", SideRef(**ref)).tobytes()
    (side,) = (project / "records" / "curves").iterdir()
    side.rename(side.with_suffix(".elsewhere"))
    assert ibexite("show", "last").returncode == 0, "all else is there"
    lost = ibexite("export", "last", "--to", "csv", "--out", "out2")
    assert lost.returncode == 3 and "the values of a curve cannot be read" in lost.stderr and "Traceback" not in lost.stderr


def test_a_side_file_that_was_never_ended_has_all_that_is_referred_to(tmp_path: Path) -> None:
    path = tmp_path / "curves" / "run.arrows"
    side, series = SideFile(path), [np.arange(n) * 1.5 for n in (5, events.LONG, 1)]
    series[0][2] = math.nan
    refs = [side.put(numbers) for numbers in series]  # and never closed, as by a kill
    whole = path.read_bytes()
    for ref, numbers in zip(refs, series, strict=True):
        assert read_side(tmp_path, ref).tobytes() == numbers.tobytes()
        assert list(SideValues(tmp_path, ref)[1:3]) == pytest.approx(numbers[1:3].tolist(), nan_ok=True)
    for cut in (1, 60, len(whole) // 2):  # what a power cut may leave: told, never other numbers
        path.write_bytes(whole[:-cut])
        with pytest.raises(RecordsError, match="the values of a curve cannot be read"):
            read_side(tmp_path, refs[-1])
    side.close()


POINTS = st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=6)


@given(POINTS, st.floats(-1e3, 1e3), st.floats(1e-6, 10))
def test_an_evenly_sampled_curve_computes_as_one_of_points(values: list[float], start: float, step: float) -> None:
    even = SampledCurve(Sampling("time", start, step), np.array(values))
    plain = ArrayCurve(even.axes, even.values)
    assert [*EvenPoints(start, step, len(values))] == pytest.approx(plain.axes["time"].tolist())
    for a, b in ((even + 1.5, plain + 1.5), (even * even, plain * plain), (-even, -plain), (even - plain, plain - plain)):
        assert a.values.tolist() == b.values.tolist() and a.axes["time"].tolist() == b.axes["time"].tolist()
    other = SampledCurve(Sampling("time", start + step, step), np.array(values))
    assert (even / even).sampling == even.sampling and (even + plain).sampling is None
    with pytest.raises(Exception, match="different points on the axis time"):
        combine(np.add, even, other)


@pytest.mark.parametrize(("lines", "verdict"), [
    ("if a > 100 V\n        sweep n over 1, 2\n            read x = v_ok\n    let best = max(x)\n    check best >= 1 V\n    check a >= 1 V", "error"),
    ("if a > 100 V\n        sweep n over 1, 2\n            read x = v_ok\n    check x >= 1 V where n == 2", "error"),
    ("sweep k over 1, 2\n        if k == 2\n            sweep n over 1, 2\n                read x = v_ok\n        let best = max(x along n)\n    check best >= 1 V", "pass"),
    ("if a > 1 V\n        sweep n over 1, 2\n            read x = v_ok\n    else\n        sweep n over 1, 2\n            read x = v_ok\n    let best = max(x)\n    check best >= 1 V", "pass"),
])  # fmt: skip
def test_a_curve_whose_loop_was_not_run_was_never_measured(rehearse, lines: str, verdict: str) -> None:
    run = rehearse(f"    read a = v_ok\n    {lines}\n")
    assert run.tests["a"] == verdict and "internal" not in str(run.outcome)


NETWORK = {"CALC2:DATA?": b"", "SENS:FREQ:STAR?": b"1E6", "SENS:FREQ:STOP?": b"100E6", "SENS:SWE:SPAC?": b"LIN"}


def doubles(*values: float) -> bytes:
    """A block of double precision."""
    return struct.pack(f">{len(values)}d", *values)


@pytest.mark.parametrize(("answers", "freq", "values", "code"), [
    ({"CALC2:DATA?": doubles(1, 0, 0.5, -0.5, 0, 2)}, [1e6, 50.5e6, 100e6], [1, 0.5 - 0.5j, 2j], ""), ({"CALC2:DATA?": doubles(1, 0, 0.5, -0.5, 0, 2), "SENS:SWE:SPAC?": b"LOG"}, [1e6, 1e7, 1e8], [1, 0.5 - 0.5j, 2j], ""),
    ({"CALC2:DATA?": doubles(1, 0, 9.9e37, 0, 0, 2)}, [1e6, 50.5e6, 100e6], [1, NAN, 2j], "overload"), ({"CALC2:DATA?": doubles(1, 0, 0.5, 9.91e37, 0, 2)}, [1e6, 50.5e6, 100e6], [1, NAN, 2j], "not_a_number"),
    ({"CALC2:DATA?": doubles(1, 0, 0.5)}, [0], [NAN], "count"), ({"CALC2:DATA?": doubles(1, 0)}, [0], [NAN], "count"), ({"CALC2:DATA?": doubles(1, 0, 2, 0), "SENS:SWE:SPAC?": b"SQUARE"}, [0], [NAN], "not_a_number"),
    ({"CALC2:DATA?": doubles(1, 0, 2, 0), "SENS:SWE:SPAC?": b"LOG", "SENS:FREQ:STAR?": b"0"}, [0], [NAN], "not_a_number"), ({"CALC2:DATA?": doubles(1, 0, 2, 0), "SENS:FREQ:STOP?": b"1E6"}, [0], [NAN], "count")])  # fmt: skip
def test_complex_points_between_two_ends(tmp_path: Path, monkeypatch, answers: dict, freq: list, values: list, code: str) -> None:
    """How the points lie is asked for with each curve: the sequence may have changed it."""
    text = BENCH.replace("{port}", str(20_000 + os.getpid() % 20_000)).replace('"scope.toml"', '"scpi-network-analyser"')
    (tmp_path / "bench.toml").write_text(text)
    monkeypatch.setattr(ScopeLink, "answers", NETWORK | answers)
    bench = Bench(read_bench(tmp_path / "bench.toml"), Pool(ScopeLink.opening))
    bench.connect(["scope"])
    (curve,) = bench.read_line([bench.role_item("s", "scope", "s21", {})], together=False, averaging=1)()
    bench.close()
    assert curve.axes["freq"].tolist() == pytest.approx(freq)
    for found, wanted in zip(curve.values.tolist(), values, strict=True):
        assert found == pytest.approx(wanted) or (wanted != wanted and found != found)
    assert [bad.reason.code for bad in bench.bad] == ([code] if code else [])
