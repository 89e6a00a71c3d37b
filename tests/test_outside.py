"""Programs and Python functions of others: what goes well, and that whatever goes wrong is named and ends safely."""

import math
import os

import pytest

from ibexite import events
from tests.conftest import HEADER

CALL = (
    'test t "T"\n    read v_in\n    call "p.py" with a = 3 V, s = serial gives x in V, ok as yes_no timeout {time}\n    check x >= 1 V\n    check ok is yes\n'
)
GOOD_PROGRAM = 'import json, sys\ngiven = json.load(sys.stdin)\nprint(json.dumps({"x": given["a"] + len(given["s"]), "ok": True}))\n'


def test_a_program_gets_values_and_gives_some(perform) -> None:
    run = perform(CALL.format(time="10 s"), files={"p.py": GOOD_PROGRAM})
    assert run.verdict == "pass"
    called = run.of(events.Called)[0]
    assert (called.given, called.gave) == ({"a": 3.0, "s": "FC00400"}, {"x": 10.0, "ok": True})
    assert 0 < called.duration < 60


@pytest.mark.parametrize(("program", "what"), [
    ("import sys; sys.exit(3)", "p.py ended with exit code 3 instead of answering"),
    ("raise ValueError('no link')", "It said: ValueError: no link"),
    ("import time; time.sleep(60)", "p.py gave no answer within 0.8 s"),
    ("import os, time; os.close(1); time.sleep(60)", "p.py closed its output instead of answering"),
    ("print('x' * 5_000_000)", "p.py flooded its output"),
    ("while True: print('{}' * 1000)", "p.py"),
    ("print('fine')", "p.py answered 'fine', which is not a JSON object"),
    ("print('{\"x\": 1}')", "p.py gave no ok"), ("print('{\"x\": \"five\", \"ok\": true}')", "p.py gave 'five' for x, not a number"),
    ("print('{\"x\": 1, \"ok\": 1}')", "p.py gave 1 for ok, not true or false"),
    ("print('{\"x\": 1e400, \"ok\": true}')", "p.py gave x as inf, too large for a number"), ("print('{\"x\": 1' + '0' * 400 + ', \"ok\": true}')", "too large"),
    ("print('{\"x\": 1, \"ok\": true}', flush=True); import time; time.sleep(60)", "did not end"),
    ("print('{\"x\": 1, \"ok\": true}', flush=True); import os; os._exit(9)", "exit code 9")])  # fmt: skip
def test_a_program_that_goes_wrong_is_named_and_the_outputs_go_off(perform, program: str, what: str) -> None:
    run = perform(CALL.format(time="800 ms") + 'test u "U"\n    read v_out\n    check v_out >= 4 V\n', files={"p.py": program})
    verdict, reason = run.ended["t"]
    assert verdict == "error" and what in reason and "test.ibx:19" in reason, reason
    assert run.ended["u"][0] == "pass" and run.verdict == "error"
    assert not any(role["problem"] for role in run.of(events.MadeSafe)[0].roles)


FUNCTIONS = """import ibexite, math, time, os

@ibexite.function(returns="dB", timeout="1 s", drive="V", echo="V")
def loss(drive, echo):
    print("talkative")
    return 20 * math.log10(drive / echo)

@ibexite.function(returns="V", axis="A[]", wave="V[]")
def steepest(axis, wave):
    return max(abs(b - a) for a, b in zip(wave, wave[1:]))

@ibexite.function(returns="V", timeout="2 s", x="V")
def bad(x):
    BODY
"""
USE = HEADER.replace("needs\n", 'use python "maths.py"\n\nneeds\n', 1)
CURVE = """test t "T"
    sweep iload over 0 A, 100 mA, 200 mA
        set load.current = iload
        wait 12 ms
        read v_in, v_out
        let live = loss(v_in, v_out)
    let whole = loss(v_in, v_out)
    let jump = steepest(v_out)
    let apart = max(abs(live - whole))
    check apart <= 0.000001 dB
    check jump <= 100 mV
    check live between 4 dB and 6 dB
"""


def test_python_functions_take_values_and_curves(perform) -> None:
    run = perform(CURVE, header=USE, files={"maths.py": FUNCTIONS.replace("BODY", "return x")})
    assert run.verdict == "pass", run.ended


# (unit of the argument, unit of the result, what is written, what the function does, the result in base units)
IN_DECLARED_UNITS = [
    ("mV", "mV", "1.5 V", "x + 1", 1.501), ("kV", "V", "1.5 V", "x", 0.0015), ("degC", "degC", "25 degC", "2 * x", 323.15),
    ("degC", "K", "25 degC", "x", 25.0), ("K", "K", "25 K", "x + 1", 26.0), ("mW", "dBm", "10 mW", "10 * math.log10(x)", 10.0),
    ("dBm", "mW", "10 dBm", "10 ** (x / 10)", 0.01), ("dBW", "dBm", "10 dBm", "x", -20.0), ("W", "dBW", "10 mW", "10 * math.log10(x)", 10.0),
    ("", "%", "0.5", "100 * x", 0.5), ("%", "", "2 %", "x", 2.0), ("ppm", "ppm", "20 ppm", "x + 1", 21e-6), ("dB", "dB", "6 dB", "-x", -6.0),
    ("MHz", "", "2.5 GHz", "x", 2500.0), ("", "us", "4", "x", 4e-6), ("deg", "rad", "90 deg", "x", 90.0), ("rad", "deg", "90 deg", "180 * x / math.pi", math.pi / 2),
]  # fmt: skip


def test_numbers_go_to_a_function_and_come_back_in_the_declared_units(perform) -> None:
    functions, lines = "import ibexite, math\n", 'test t "T"\n'
    for i, (taken, given, written, does, _) in enumerate(IN_DECLARED_UNITS):
        functions += f'@ibexite.function(returns="{given}", x="{taken}")\ndef f{i}(x):\n    return {does}\n'
        lines += f"    let value{i} = f{i}({written})\n"
    run = perform(lines + "    check value9 >= 0\n", header=USE, files={"maths.py": functions})
    found = {event.name: event.value for event in run.of(events.Value)}
    for i, case in enumerate(IN_DECLARED_UNITS):
        assert found[f"value{i}"] == pytest.approx(case[-1], rel=1e-12), case


@pytest.mark.parametrize(("body", "what"), [
    ("return x / 0", "bad of maths.py failed: ZeroDivisionError: float division by zero, line 14"), ("time.sleep(60)", "no answer within 2 s"),
    ("os._exit(7)", "ended with exit code 7"), ('return "much"', "bad gave 'much' for its result, not a number"),
    ('return "x" * 4_000_000', "flooded its output"), ("return [x]", "bad gave [")])  # fmt: skip
def test_a_function_that_goes_wrong_is_named(perform, body: str, what: str) -> None:
    text = 'test t "T"\n    read v_in\n    let y = bad(v_in)\n    check y >= 1 V\n'
    run = perform(text, header=USE, files={"maths.py": FUNCTIONS.replace("BODY", body)})
    verdict, reason = run.ended["t"]
    assert verdict == "error" and what in reason, reason


def test_a_python_file_that_cannot_be_loaded_is_named(perform) -> None:
    text = 'test t "T"\n    read v_in\n    let y = bad(v_in)\n    check y >= 1 V\n'
    run = perform(text, header=USE, files={"maths.py": FUNCTIONS.replace("BODY", "return x") + "\nimport no_such_module\n"})
    assert "maths.py cannot be loaded: ModuleNotFoundError" in run.ended["t"][1]


MEASUREMENT = """import ibexite

@ibexite.measurement("Load", needs={"sink": "electronic_load", "tap": "V"}, inputs={"most": "200 mA"},
                     outputs={"amps": "A", "held": "V over amps", "least": "V"}, timeout="2 s")
def loaded(bench, most):
    amps = [most * i / 4 for i in range(5)]
    held = []
    for current in amps:
        bench.set(sink__current=current)
        bench.wait(0.012)
        held.append(bench.read("tap"))
    bench.note("measured in Python")
    BODY
"""
LOADED = """test t "T"
    measure loaded(sink = load, tap = v_out, most = 300 mA) as run
    check run.held between 4.5 V and 5.5 V where run.amps >= 100 mA
    check run.least >= 4.5 V
test u "U"
    read now = load.current
    check now <= 10 mA
"""


@pytest.mark.parametrize(("body", "what"), [
    ('return {"amps": amps, "held": held, "least": min(held)}', ""), ('return {"amps": amps, "held": held}', "loaded gave no least"),
    ('return {"amps": amps, "held": held[1:], "least": 1.0}', "in another shape than its axes (5,)"),
    ('return {"amps": [], "held": held, "least": 1.0}', "no points for the axis amps"), ('raise ValueError("no probe")', "loaded failed: ValueError: no probe"),
    ('return {"amps": [0, None, 1, 2, 3], "held": held, "least": 1.0}', "a point of the axis amps that is no number"),
    ("bench.set(sink__current=10**400)", "asked for something that cannot be understood"), ("bench.set(sink__current=float('inf'))", "load.current"),
    ("bench.set(sink__current=9.0)", "load.current = 9 A is beyond 1.25 A"), ('bench.read("nothing")', "loaded has no role 'nothing'"),
    ("import time; time.sleep(30)", "gave no answer within 2 s"), ("return None", "loaded gave None")])  # fmt: skip
def test_a_measurement_in_python_goes_through_the_ceilings(perform, body: str, what: str) -> None:
    run = perform(LOADED, header=USE, files={"maths.py": MEASUREMENT.replace("BODY", body)})
    verdict, reason = run.ended["t"]
    assert (verdict == "pass") == (not what) and what in reason, reason
    axes = [[(axis["name"], axis["unit"]) for axis in judged.axes] for judged in run.of(events.Judged) if "held" in judged.label]
    assert axes == ([[("amps", "A")]] if not what else axes)
    called = [(event.test, event.given, event.gave["least"] > 4.5) for event in run.of(events.Called)]
    assert called == ([("t", {"most": 0.3}, True)] if not what else []), "what it was given and gave is recorded"
    curves = [event.gave["held"] for event in run.of(events.Called)]
    assert all(list(c["axes"]) == ["amps"] and len(c["axes"]["amps"]) == len(c["values"]) == 5 and min(c["values"]) > 4 for c in curves)
    assert run.ended["u"][0] in ("pass", "skipped"), "the load was not set back"
    assert not any("CURR 9" in line for line in run.traffic)
    tables: dict[int, list[float]] = {}
    for row in run.of(events.Row):
        tables.setdefault(row.table, []).append(row.x[0])
    assert all(xs == [float(i) for i in range(1, len(xs) + 1)] for xs in tables.values()) and (tables or what)
    assert any(e.text == "measured in Python" for e in run.of(events.Shown))


LASTING = """import json, os, pathlib, sys, time
json.loads(sys.stdin.readline())
pathlib.Path("pid").write_text(str(os.getpid()))
print(json.dumps({"result": {"volts": 5.0}}), flush=True)
time.sleep(60)
"""


def test_a_program_that_measured_does_not_outlive_its_measurement(ibexite, project) -> None:
    folder = project / "measurements"
    (folder / "lasting.py").write_text(LASTING)
    (folder / "lasting.measurement.toml").write_text('[measurement]\ntitle = "Lasting"\nprogram = "lasting.py"\n[needs]\ntap = "V"\n[outputs]\nvolts = "V"\n')
    lines = 'test t "T"\n    measure lasting(tap = v_out) as it\n    check it.volts >= 4 V\n'
    (project / "lasting.ibx").write_text(HEADER + lines)
    done = ibexite("run", "lasting.ibx", "--bench", "bench.toml", "--serial", "FC00400", "--simulate", "--no-report")
    assert done.returncode == 5, done.stdout + done.stderr
    with pytest.raises(ProcessLookupError):
        os.kill(int((folder / "pid").read_text()), 0)


@pytest.mark.parametrize("theirs", ["0", "3"])
def test_a_program_has_the_variables_that_its_user_has(ibexite, project, monkeypatch, theirs: str) -> None:
    """Not those with which this one keeps NumPy to one thread."""
    if theirs == "0":
        monkeypatch.delenv("OPENBLAS_NUM_THREADS", raising=False)
    else:
        monkeypatch.setenv("OPENBLAS_NUM_THREADS", theirs)
    (project / "p.py").write_text('import os\nprint(\'{"x": %s}\' % os.environ.get("OPENBLAS_NUM_THREADS", 0))\n')
    lines = f'test t "T"\n    call "p.py" gives x in V timeout 20 s\n    check x == {theirs} V\n'
    (project / "threads.ibx").write_text(HEADER + lines)
    done = ibexite("run", "threads.ibx", "--bench", "bench.toml", "--serial", "FC00400", "--simulate")
    assert done.returncode == 5, done.stdout + done.stderr
