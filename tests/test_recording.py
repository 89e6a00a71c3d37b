"""Signals that are recorded while lines run, on simulated instruments over real sockets: what is in the file is what the product
did, what is missing is known, and nothing of it passes that nobody has seen."""

import itertools
import json
import resource
import signal
import subprocess
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ibexite.bench.bench import Bench
from ibexite.errors import RecordsError
from ibexite.events import SideRef, StreamChannel
from ibexite.records import thinned as thinning
from ibexite.records.gateway import open_lookup
from ibexite.records.grids import Grid
from ibexite.records.side_file import EvenPoints
from ibexite.records.stream_file import Recorded, RecordingFiles, StreamValues, length_of
from ibexite.simulate.products.fm2_control_board import Fm2ControlBoard
from tests.conftest import IBEXITE
from tests.runs import vetted

BOARD = "FC00400"
TAU = Fm2ControlBoard.time_constants["battery_voltage"]
HEAD = """sequence "S"
    product "P"
    serial ".*"

needs
    supply : power_supply
    adc    : digitizer
    v_in   : signal in V
    i_in   : signal in A

before unit
    set adc.full_scale = 20 V
    set supply.voltage = 12 V, supply.current_limit = 1.4 A

test t "T"
"""
RECORD = """    record trace : i_in, v_in every 20 us
        wait 20 ms
        set supply.output = on
        wait 80 ms
"""
CHECK = "    check max(trace.v_in) <= 12.5 V\n"


def run(ibexite, project: Path, lines: str, *, bench: Callable[[str], str] = lambda text: text, more: tuple = (), head: str = HEAD):
    """One unit with a sequence of these lines on the fast bench; what was printed, and what is stored."""
    (project / "own.ibx").write_text(head + lines)
    (project / "own.toml").write_text(bench((project / "inrush.toml").read_text()))
    done = ibexite("run", "own.ibx", "--bench", "own.toml", "--simulate", "--yes", "--no-report", "--serial", BOARD, *more)
    return done, None if done.returncode == 2 else last(project)


def last(project: Path):
    """The last run that is stored."""
    lookup = open_lookup(project / "records")
    record = lookup.run(lookup.find("last"))
    lookup.close()
    return record


def curves(record) -> dict:
    """The curves of a run by their names, the last of each name."""
    return {c["name"]: grid.curve(c["name"]) for test in record.tests for grid in test.grids for c in grid.columns if c["origin"] != "sweep" and grid.axes}


def bad(record) -> list[tuple[str, str]]:
    """What was bad: names, and codes of the reasons."""
    return [(row["name"], row["reason_code"]) for test in record.tests for row in test.bad_readings]


def verdict(record) -> str:
    return record.tests[0].row["verdict"]


def trouble(**given: object) -> Callable[[str], str]:
    """A bench on which something goes wrong with the digitizer."""
    told = ", ".join(f"{key} = {json.dumps(value)}" for key, value in given.items())
    return lambda text: text.replace('2 = "battery_voltage" }', f'2 = "battery_voltage" }}, trouble = [{{ {told} }}]', 1)


# --- what is recorded is what the product did -------------------------------------------------------------------------


def test_what_is_streamed_is_what_the_product_did_sample_by_sample(ibexite, project: Path) -> None:
    done, record = run(ibexite, project, RECORD + CHECK + "    check peak(trace.i_in) <= 1.5 A\n")
    assert verdict(record) == "pass" and "outputs off: supply" in done.stdout, done.stdout + done.stderr
    found = curves(record)
    time_, v = found["trace.v_in"].axes["time"], found["trace.v_in"].values
    assert time_[0] == 0 and np.allclose(np.diff(time_), 20e-6) and not np.isnan(v).any() and len(v) * 20e-6 >= 0.1
    begin = np.flatnonzero(v > 0.01)[0] - 1
    rising = v[begin:]
    late = -TAU * np.log(1 - rising[1] / 12)  # by which the first sample lies behind the switching
    expected = 12 * (1 - np.exp(-(late + 20e-6 * np.arange(len(rising) - 1)) / TAU))
    assert np.abs(rising[1:] - expected).max() < 1e-3 and (v[:begin] == 0).all()
    i, farads = found["trace.i_in"].values, Fm2ControlBoard(BOARD).parts.input_capacitor
    assert i.max() == pytest.approx(farads * 12 / TAU, rel=0.05)
    assert np.trapezoid(i[begin:], dx=20e-6) - i[-1] * len(rising) * 20e-6 == pytest.approx(farads * 12, rel=0.05)
    assert "as it was recorded, in all" in ibexite("replay", "last").stdout
    assert "pass stays" in ibexite("rejudge", "last").stdout
    exported = ibexite("export", "last", "--to", "csv").stdout
    assert exported.count(".csv") >= 3


OTHER_FORM = """extends = "scpi-digitizer"
[stream]
configure = []
begin   = "INIT:CONT ON,(@{channels})"
end     = "INIT:CONT OFF"
query   = "FETC:ARR:VOLT:NEXT? (@{channels})"
first   = "SENS:SWE:OFFS:POIN?"
numbers = "int16"
bytes   = "big"
factor  = "0.001"
order   = "samples"
holds   = 2000000
"""


@pytest.mark.parametrize(("numbers", "offset", "stored"), [("int16", "0", "i2"), ("uint16", "-32.768", "u2"), ("int32", "0", "i4")])
def test_whole_numbers_sample_by_sample_in_another_order_of_bytes_are_the_same(ibexite, project: Path, numbers: str, offset: str, stored: str) -> None:
    (project / "other.toml").write_text(OTHER_FORM.replace('"int16"', f'"{numbers}"\noffset  = "{offset}"'))
    _, record = run(ibexite, project, RECORD + CHECK, bench=lambda text: text.replace('"scpi-digitizer"', '"other.toml"'))
    v = curves(record)["trace.v_in"].values
    assert verdict(record) == "pass" and v.max() == pytest.approx(12, abs=1e-3) and np.allclose(v * 1e3, np.round(v * 1e3))
    assert Recorded(next((project / "records/streams").glob("*"))).channels[0].numbers == stored


def test_each_turn_of_a_loop_has_its_recording_and_all_of_them_their_curve(ibexite, project: Path) -> None:
    lines = """    sweep level from 6 V to 12 V step 3 V
        set supply.voltage = level
        record trace : v_in every 100 us
            set supply.output = on
            wait 40 ms
        let top = max(trace.v_in)
        set supply.output = off
        wait 30 ms
    check top within level +/- 10 mV
    check peak(trace.v_in) <= 12.1 V
    let sizes = max(envelope(trace.v_in) along time)
    check sizes >= 5.9 V
"""
    done, record = run(ibexite, project, lines)
    assert verdict(record) == "pass", done.stdout + done.stderr
    files = sorted((project / "records/streams").glob("*"))
    assert [file.stem.rpartition("_")[2] for file in files] == ["1", "2", "3"]
    tops = [Recorded(file).values("trace.v_in", 0, length_of(project / "records", file.name)).max() for file in files]
    assert tops == pytest.approx([6, 9, 12], abs=1e-3)
    assert "as it was recorded, in all" in ibexite("replay", "last").stdout and "pass stays" in ibexite("rejudge", "last").stdout


# --- what is missing, and instruments that lie --------------------------------------------------------------------------

NEXT, NUMBER = "FETC:ARR:VOLT:NEXT? (@1,2)", "SENS:SWE:OFFS:POIN?"


def test_samples_that_were_lost_are_known_and_nothing_passes_over_them(ibexite, project: Path) -> None:
    lines = RECORD + "    check peak(trace.v_in) <= 12.5 V\n" + CHECK.replace("check", "let top =").replace(" <= 12.5 V", "")
    done, record = run(ibexite, project, lines, bench=trouble(query=NEXT, how="before", message=NEXT, nth=2))
    assert verdict(record) != "pass" and done.returncode in (1, 3), done.stdout
    v = curves(record)["trace.v_in"].values
    lost = np.flatnonzero(np.isnan(v))
    assert len(lost) and (np.diff(lost) == 1).all() and {("trace.v_in", "dropout"), ("trace.i_in", "dropout")} <= set(bad(record))
    assert len(v) * 20e-6 >= 0.1, "the times behind the gap are true"
    assert "as it was recorded, in all" in ibexite("replay", "last").stdout
    (project / "own.ibx").write_text(HEAD + RECORD + f"    let part = cut(trace.v_in, 0 s, {(lost[0] - 1) * 20e-6:.6f} s)\n    check peak(part) <= 12.5 V\n")
    assert "pass" in ibexite("rejudge", "last", "--sequence", "own.ibx").stdout


@pytest.mark.parametrize(("given", "told"), [
    ({"query": NEXT, "how": "garbage", "nth": 2}, "the recording broke off"),
    ({"query": NEXT, "how": "cut", "nth": 2}, "the recording broke off"),
    ({"query": NEXT, "how": "close", "nth": 2}, "the recording broke off"),
    ({"query": NUMBER, "how": "word"}, "answered 'ERROR' when asked which sample was the first of a block"),
    ({"query": NUMBER, "how": "huge"}, "when asked which sample was the first of a block"),
    ({"query": NEXT, "how": "repeated", "nth": 2}, "the recording broke off"),
    ({"query": "SENS:SWE:TINT?", "how": "before", "message": "SENS:SWE:TINT 25E-6", "nth": 3}, "takes a sample every 2.5e-05 s, not every 2e-05 s"),
    ({"command": "INIT:CONT ON", "how": "lost"}, "it gave samples of 0 s"),
    ({"query": NEXT, "how": "before", "message": "INIT:CONT ON,(@1,2)", "nth": 2}, "twice"),  # it has begun anew
])  # fmt: skip
def test_a_stream_that_breaks_or_lies_ends_in_an_error_and_keeps_what_came(ibexite, project: Path, given: dict, told: str) -> None:
    lines = RECORD.replace("wait 80 ms", "wait 800 ms") + CHECK
    done, record = run(ibexite, project, lines, bench=trouble(**given))
    assert done.returncode == 3 and verdict(record) == "error" and told in done.stdout, done.stdout + done.stderr
    assert "outputs off: supply" in done.stdout
    for file in (project / "records/streams").glob("*"):
        stored = curves(record).get("trace.v_in")
        assert length_of(project / "records", file.name) == (0 if stored is None else len(stored.values))
    replayed = ibexite("replay", "last")
    assert "as it was recorded, in all" in replayed.stdout, replayed.stdout


def test_an_instrument_that_goes_on_sampling_does_not_keep_the_run(ibexite, project: Path) -> None:
    done, record = run(ibexite, project, RECORD + CHECK, bench=trouble(command="INIT:CONT OFF", how="lost"))
    assert verdict(record) == "pass" and len(curves(record)["trace.v_in"].values) * 20e-6 < 2, done.stdout


MEASUREMENT = """measurement rush_of "Inrush at a voltage"
    inputs
        volts = 12 V between 1 V and 15 V
    needs
        supply : power_supply
        v_in   : signal in V
        i_in   : signal in A
    outputs
        top in V
    set supply.voltage = volts
    record trace : v_in, i_in every 50 us
        set supply.output = on
        wait 50 ms
    set supply.output = off
    wait 30 ms
    let top = max(trace.v_in)
"""


def test_a_measurement_records_in_each_turn_and_at_the_desk(ibexite, project: Path) -> None:
    (project / "measurements/rush_of.ibx").write_text(MEASUREMENT)
    lines = """    sweep level from 6 V to 12 V step 3 V
        measure rush_of(volts = level) as rush
        let top = rush.top
    check top within level +/- 10 mV
"""
    done, record = run(ibexite, project, lines)
    assert verdict(record) == "pass" and curves(record)["rush.trace.v_in"].values.shape[0] == 3, done.stdout
    assert "as it was recorded, in all" in ibexite("replay", "last").stdout and "pass stays" in ibexite("rejudge", "last").stdout
    desk = ibexite("measure", "rush_of", "--bench", "inrush.toml", "--simulate")
    assert "bad: trace.v_in: overload" in desk.stdout, "nobody has set the range there"


def test_what_is_beyond_the_range_is_told_at_its_time_and_the_other_signal_is_as_good_as_before(ibexite, project: Path) -> None:
    lines = "    set adc.full_scale = 5 V\n" + RECORD + "    check peak(trace.i_in) <= 1.5 A\n" + CHECK
    done, record = run(ibexite, project, lines)
    results = {row["label"]: row["verdict"] for row in record.tests[0].results}
    assert [*results.values()] == ["pass", "fail"] and bad(record) == [("trace.v_in", "overload")], done.stdout
    v = curves(record)["trace.v_in"].values
    assert np.nanmax(v) <= 5 and np.isnan(v[-100:]).all()


# --- polled -----------------------------------------------------------------------------------------------------------

SLOW = '#!/usr/bin/env python3\nimport sys, time\nsys.stdin.readline()\ntime.sleep(0.9)\nprint("{}")\n'
POLLED = """    record soak : v_out, v_in every 100 ms
        wait 1 s
LINES    check min(soak.v_out) >= 4.8 V
"""


@pytest.mark.parametrize(("lines", "is_late"), [("", False), ('        call "slow.py" timeout 5 s\n', True)])
def test_meters_are_polled_and_a_poll_that_came_too_late_is_known(ibexite, project: Path, lines: str, is_late: bool) -> None:
    head = (project / "fm2_final.ibx").read_text().split("\ntest ")[0].split("\ngroup ")[0]
    (project / "slow.py").write_text(SLOW)
    (project / "slow.py").chmod(0o755)
    (project / "own.ibx").write_text(head + '\n\ntest t "T"\n' + POLLED.replace("LINES", lines))
    done = ibexite("run", "own.ibx", "--simulate", "--yes", "--no-report", "--serial", BOARD)
    record = last(project)
    mine = next(test for test in record.tests if test.row["name"] == "t")
    found = curves(record)["soak.v_out"]
    times, v = found.axes["time"], found.values
    assert len(times) == len(curves(record)["soak.v_in"].values) >= 11 and (np.diff(times) > 0).all(), done.stdout + done.stderr
    assert mine.row["verdict"] == ("error" if is_late else "pass"), done.stdout + done.stderr
    assert np.isnan(v).any() == is_late and {row["reason_code"] for row in mine.bad_readings} == ({"late"} if is_late else set())
    good = times[~np.isnan(v)]
    assert np.diff(good).max() > 0.5 if is_late else np.diff(good).max() < 0.3
    assert "as it was recorded, in all" in ibexite("replay", "last").stdout and "stays" in ibexite("rejudge", "last").stdout


# --- however it ends --------------------------------------------------------------------------------------------------


def begun(project: Path, wait: str = "30 s") -> tuple[subprocess.Popen, Path]:
    """A run that records in real time, and its file when that holds something."""
    (project / "own.ibx").write_text(HEAD + RECORD.replace("wait 80 ms", f"wait {wait}") + CHECK)
    process = subprocess.Popen([*IBEXITE, "run", "own.ibx", "--bench", "inrush.toml", "--simulate", "--real-time", "--yes", "--no-report", "--serial", BOARD],
                               cwd=project, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)  # fmt: skip
    while not (found := list((project / "records/streams").glob("*"))) or found[0].stat().st_size < 100_000:
        assert process.poll() is None, process.stdout and process.stdout.read()
        time.sleep(0.02)
    return process, found[0]


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT])
def test_a_run_that_is_killed_or_ended_keeps_what_was_recorded(ibexite, project: Path, how: signal.Signals) -> None:
    process, file = begun(project)
    before = length_of(project / "records", file.name)
    process.send_signal(how)
    printed, _ = process.communicate(timeout=60)
    shown = ibexite("show", "last").stdout
    record = last(project)
    kept = curves(record)["trace.v_in"]
    assert before <= len(kept.values) == length_of(project / "records", file.name) and not np.isnan(kept.values).any()
    assert kept.sampling.step == 20e-6 and kept.values[-1] == pytest.approx(12, abs=0.1), printed
    assert record.row["verdict"] == "aborted" and (how != signal.SIGKILL or "broken off" in shown), shown
    if how == signal.SIGINT:
        assert "outputs off: supply" in printed
    replayed = ibexite("replay", "last").stdout
    assert "RecordingEnded" not in replayed and "otherwise" not in replayed, replayed


def test_a_disk_that_is_full_ends_the_recording_and_what_came_before_is_kept(project: Path) -> None:
    """No file may become larger than 300 kB: more than the journal needs."""
    (project / "own.ibx").write_text(HEAD + RECORD.replace("wait 80 ms", "wait 2 s") + CHECK)

    def limited() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (300_000, 300_000))

    command = [*IBEXITE, "run", "own.ibx", "--bench", "inrush.toml", "--simulate", "--yes", "--no-report", "--serial", BOARD]
    done = subprocess.run(command, cwd=project, capture_output=True, text=True, timeout=60, check=False, preexec_fn=limited)
    record = last(project)
    kept = curves(record)["trace.v_in"].values
    assert done.returncode == 3 and "the recording cannot be written (File too large)" in done.stdout, done.stdout + done.stderr
    assert "outputs off: supply" in done.stdout and 0 < len(kept) * 8 <= 300_000 and not np.isnan(kept).any()


def test_a_recording_is_begun_and_ended_by_others_while_lines_run(serve, project: Path) -> None:
    """As a remote client will: from its own thread, at any time."""
    (project / "bench.toml").write_text((project / "inrush.toml").read_text())
    bench, files = Bench(serve(BOARD)), RecordingFiles(project / "records", "by_hand")
    bench.connect(["psu", "adc"])
    stream = bench.stream(["i_in", "v_in"])
    supply, counts, failures = bench.set_line([("supply", "voltage")]), [], []

    def client() -> None:
        for number in (1, 2):
            forms = stream.begin(20e-6)
            _, kept = files.begin(number, [StreamChannel(name, *form) for name, form in zip("ab", forms, strict=True)])
            stream.run(kept.write)
            while kept.count < 5_000 and not stream.failure:
                time.sleep(0.01)
            failures.append(stream.end().failure)
            kept.close()
            counts.append(kept.count)

    thread = threading.Thread(target=client, daemon=True)
    thread.start()
    for turn in itertools.count():
        supply(5 + turn % 5)
        time.sleep(0.002)  # the stand-ins run in this process too
        if not thread.is_alive():
            break
    thread.join()
    bench.close()
    assert failures == ["", ""] and min(counts) >= 5_000


# --- mistakes ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("lines", "told"), [
    (RECORD.replace("20 us", "20 mV"), "takes a time, such as 20 us"),
    (RECORD.replace("20 us", "0 us"), "'every' takes a time above 0"),
    (RECORD.replace("v_in", "i_in"), "i_in stands here twice"),
    (RECORD.replace("v_in", "v_ni"), "unknown signal 'v_ni'"),
    (RECORD.replace("wait 80 ms", "check max(trace.v_in) <= 1 V"), "trace"),
    (RECORD.replace("20 us", "0.4 us"), "It takes a sample every 1 us to 1 s"),
    (RECORD.replace("wait 20 ms", "set adc.full_scale = 10 V"), "adc is recording"),
    (RECORD.replace("wait 20 ms", "read w = adc.wave(channel = 1)"), "adc is recording"),
    (RECORD + CHECK.replace("\n", " guarded by accuracy\n"), "made of what was recorded, of which nobody says how exact it is"),
])  # fmt: skip
def test_mistakes_of_recordings_are_told_before_power_is_on(ibexite, project: Path, lines: str, told: str) -> None:
    (project / "own.ibx").write_text(HEAD + lines)
    done = ibexite("vet", "own.ibx", "--bench", "inrush.toml")
    assert done.returncode == 2 and told in done.stdout + done.stderr, done.stdout + done.stderr


def test_meters_are_not_asked_to_answer_quicker_than_they_can(ibexite, project: Path) -> None:
    head = (project / "fm2_final.ibx").read_text().split("\ntest ")[0].split("\ngroup ")[0]
    (project / "own.ibx").write_text(head + '\n\ntest t "T"\n' + POLLED.replace("LINES", "").replace("100 ms", "90 ms"))
    (project / "slow.toml").write_text('extends = "scpi-scanning-multimeter"\n[quirks]\nanswer_time = "50 ms"\n')
    (project / "bench.toml").write_text((project / "bench.toml").read_text().replace('"scpi-scanning-multimeter"', '"slow.toml"'))
    done = ibexite("vet", "own.ibx")
    assert done.returncode == 2 and "dmm cannot be polled so often" in done.stdout + done.stderr


def test_the_language_reads_as_it_is_written() -> None:
    assert not vetted(HEAD + RECORD + CHECK).findings


# --- the file ---------------------------------------------------------------------------------------------------------

BATCHES = st.lists(st.tuples(st.integers(0, 3), st.lists(st.integers(-32_768, 32_767), min_size=1, max_size=5)), min_size=1, max_size=6)


def written(folder: Path, batches: list) -> tuple[Path, dict[int, float]]:
    """A recording of such gaps and samples, and what each sample is to be."""
    folder.mkdir(exist_ok=True)
    for old in folder.glob("streams/*"):
        old.unlink()
    _, kept = RecordingFiles(folder, "r").begin(1, [StreamChannel("a", "i2", 0.5, 3.0, 32_767.0), StreamChannel("b", "f8")])
    expected: dict[int, float] = {}
    for gap, numbers in batches:
        first = kept.count + gap
        kept.write(first, [np.array(numbers, "i2"), np.array(numbers, float)])
        expected |= {first + i: float("nan") if abs(n) >= 32_767 else n * 0.5 + 3.0 for i, n in enumerate(numbers)}
    kept.close()
    return kept.path, expected


@given(batches=BATCHES, data=st.data())
def test_a_recording_reads_back_as_it_was_written_any_part_of_it_and_however_it_was_cut(tmp_path_factory, batches, data) -> None:
    folder = tmp_path_factory.getbasetemp() / "cut"
    path, expected = written(folder, batches)
    count = max(expected) + 1
    begin = data.draw(st.integers(0, count))
    end = data.draw(st.integers(begin, count))
    naive = np.array([expected.get(i, float("nan")) for i in range(count)])
    np.testing.assert_array_equal(Recorded(path).values("a", begin, end), naive[begin:end])
    values = StreamValues(folder, SideRef(path.name, 0, count, "a"))
    np.testing.assert_array_equal([*values], naive)
    np.testing.assert_array_equal([values[i] for i in range(count)], naive)
    content = path.read_bytes()
    path.write_bytes(content[: data.draw(st.integers(0, len(content)))])  # a writer that was killed, or a disk that lost the rest
    try:
        found = Recorded(path)
    except RecordsError:
        return
    assert found.count <= count
    np.testing.assert_array_equal(found.values("a", 0, found.count), naive[: found.count])
    with pytest.raises(RecordsError, match="samples, not"):
        found.values("a", 0, found.count + 1)


def test_a_recording_that_is_gone_or_has_other_channels_is_named(tmp_path: Path) -> None:
    path, _ = written(tmp_path, [(0, [1, 2])])
    with pytest.raises(RecordsError, match="has no channel c"):
        Recorded(path).values("c", 0, 1)
    path.write_bytes(b"nothing of the kind")
    with pytest.raises(RecordsError, match="cannot be read"):
        Recorded(path)
    path.unlink()
    with pytest.raises(RecordsError, match="cannot be read"):
        length_of(tmp_path, path.name)


@given(count=st.sampled_from([thinning.FROM, 412_337]), holes=st.sets(st.integers(0, 412_336), max_size=4), seed=st.integers(0, 9))
@settings(max_examples=6)
def test_a_long_curve_is_drawn_with_its_extremes_and_its_holes(tmp_path_factory, count: int, holes: set[int], seed: int) -> None:
    values = np.random.default_rng(seed).normal(size=count)
    values[[hole for hole in holes if hole < count]] = np.nan
    folder = tmp_path_factory.getbasetemp() / "long"
    for old in folder.glob("streams/*"):
        old.unlink()
    _, kept = RecordingFiles(folder, "r").begin(1, [StreamChannel("a", "f8")])
    for begin in range(0, count, 50_000):
        kept.write(begin, [values[begin : begin + 50_000]])
    kept.close()
    columns = [{"name": "time", "origin": "sweep", "labels": [], "length": count, "place": {}}, {"name": "a", "origin": "read", "labels": [], "length": count}]
    grid = Grid(columns, [EvenPoints(0.5, 1e-3, count), StreamValues(folder, SideRef(kept.path.name, 0, count, "a"))])
    failing = [[0.5 + 1e-3 * row] for row in (7, 8, 123_456)]
    results = [{"subject": "a", "axes": [{"name": "time"}], "failing": failing}, {"subject": "b", "axes": [{"name": "time"}], "failing": [[0.509]]}]
    drawn = thinning.thinned(grid, [*results, {"subject": "a", "axes": [], "failing": []}])
    assert {point for (point,) in failing} <= set(drawn.data[0])
    time_, found = (np.array(column) for column in drawn.data)
    rows = np.round((time_ - 0.5) / 1e-3).astype(int)
    np.testing.assert_array_equal(found, values[rows])
    assert (np.diff(rows) > 0).all() and (rows[0], rows[-1]) == (0, count - 1) and len(rows) < 20_000
    assert np.nanmax(found) == np.nanmax(values) and np.nanmin(found) == np.nanmin(values)
    assert drawn.columns[1]["holes"] == np.isnan(values).sum() and np.isnan(found).any() == np.isnan(values).any()
    short = Grid(columns, [values[:10], values[:10]])
    assert thinning.thinned(short) is short
