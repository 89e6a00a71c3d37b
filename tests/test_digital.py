"""Buttons, lamps and levels as signals; the button of the bench; ceilings of either sign."""

import os
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from ibexite import events
from ibexite.bench.file import read_bench
from ibexite.cli import terminal_operator
from ibexite.cli.terminal_operator import TerminalOperator
from ibexite.engine.services import Question
from ibexite.errors import MistakeError, NoAnswerError
from ibexite.stop import Stop
from tests.runs import vetted
from tests.test_asking_and_keeping import Prepared

IO = """
[instruments.io]
profile = "scpi-digital-io"
address = "TCPIP::127.0.0.1::50260::SOCKET"
simulated = { identity = "Firnline,IO-16" }
[roles.out]
instrument = "io"
channel = 4
[signals.lamp]
read = "out.line"
[signals.dark]
read = "out.line"
inverted = true
[signals.start]
read = "out.line"
[signals.other]
read = "out.line"
with = { channel = 7 }
"""
HEAD = """sequence "Digital"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"
needs
    out                : digital_io
    lamp, dark, other  : signal yes_no
"""


def with_io(text: str) -> str:
    """The bench with digital lines; what is set on line 4 is read there."""
    return text.replace("[bench]", '[bench]\nbutton = "start"') + IO


def test_digital_signals_are_yes_and_no(perform: Callable) -> None:
    run = perform("""test t "T"
    set out.line = on
    read lamp, dark, other
    check lamp is yes
    check dark is no
    check other is no
    sweep n over 1, 2
        set out.line = n == 2
        read lit = lamp
    check lit is yes where n == 2
""", header=HEAD, change=with_io)  # fmt: skip
    assert run.ended == {"t": ("pass", "")} and run.columns("lit") == [0.0, 1.0]


class Looking(Prepared):
    """Looks at the button so many times; nobody presses anything else."""

    def press(self, question: Question, pressed: Callable[[], bool]) -> Any:
        self.heard += [pressed() for _ in range(5)]
        return "pressed" if any(self.heard) else "confirmed"


@pytest.mark.parametrize(("trouble", "seen"), [
    ("", [False] * 5),  # it hangs: pressed all the time
    ('query = "MEAS:DIG", how = "different", times = 2', [False, False, True, True, True]),
    ('query = "MEAS:DIG", how = "garbage", times = 3', [False] * 5),  # a bad reading is neither pressed nor released
])  # fmt: skip
def test_a_button_is_pressed_when_it_was_released_before(perform: Callable, trouble: str, seen: list[bool]) -> None:
    change = lambda text: with_io(text).replace('"Firnline,IO-16"', f'"Firnline,IO-16", trouble = [{{ {trouble} }}]' if trouble else '"Firnline,IO-16"')  # noqa: E731
    lines = 'test t "T"\n    set out.line = on\n    ask button "Press start."\n    check 1 >= 1\n'
    operator = Looking()
    run = perform(lines, header=HEAD, change=lambda text: change(text).replace('ask   = "SOUR', 'ask = "SOUR'), operator=operator)
    assert operator.heard == seen and run.verdict == "pass", run.ended
    assert [event.answer for event in run.of(events.Answered)] == ["pressed" if any(seen) else "confirmed"]


def test_the_terminal_waits_for_the_button_or_enter(monkeypatch: pytest.MonkeyPatch) -> None:
    question, operator = Question("button", "Press start."), TerminalOperator("tester", Stop())
    read, write = os.pipe()
    with os.fdopen(read) as stdin:
        monkeypatch.setattr(terminal_operator.sys, "stdin", stdin)
        looks = iter([False, False, True])
        assert operator.press(question, lambda: next(looks)) == "pressed"
        os.write(write, b"\n")
        assert operator.press(question, lambda: False) == "confirmed"
        os.close(write)
        with pytest.raises(NoAnswerError):
            operator.press(question, lambda: False)


@pytest.mark.parametrize(("old", "new", "told"), [
    ('button = "start"', 'button = "strat"', "bench.button: there is no signal 'strat'\nDid you mean start?"),
    ('button = "start"', 'button = "v_in"', "bench.button: v_in is not a signal that is yes or no"),
    ("inverted = true", 'shunt = "1 ohm"', "signals.dark.shunt: is not a key that is known here"),
    ("inverted = true", "invertd = true", "Did you mean inverted?"),
    ('ceiling    = { current = "1.25 A" }', 'ceiling = { current = ["2 A", "1 A"] }', "ceiling.current: the first is not below the second"),
    ('ceiling    = { current = "1.25 A" }', 'ceiling = { current = ["1 V", "2 V"] }', "It takes a current (A)"),
])  # fmt: skip
def test_what_is_wrong_with_them_is_told(project: Path, old: str, new: str, told: str) -> None:
    path = project / "bench.toml"
    text = with_io(path.read_text())
    assert old in text
    path.write_text(text.replace(old, new))
    with pytest.raises(MistakeError) as caught:
        read_bench(path)
    assert told in str(caught.value)


OUT_OF_BOUNDS = [
    ('{ voltage = "17 V" }', "-18 V", "-17 V"),  # one value holds for both signs
    ('{ voltage = ["-3 V", "17 V"] }', "-4 V", "-3 V"),
    ('{ voltage = ["2 V", "17 V"] }', "1 V", "2 V"),
    ('{ voltage = ["2 V", "17 V"] }', "18 V", "17 V"),
]


@pytest.mark.parametrize(("ceiling", "value", "bound"), OUT_OF_BOUNDS)
def test_a_ceiling_holds_below_as_well(perform: Callable, project: Path, ceiling: str, value: str, bound: str) -> None:
    """When it is vetted; and, where the value is not known then, before the first byte."""
    profile = (project / "bipolar.toml").write_text('extends = "scpi-power-supply"\n[settings.voltage]\nrange = ["-36 V", "36 V"]\n')
    assert profile
    change = lambda text: text.replace('"scpi-power-supply"', '"bipolar.toml"').replace('{ voltage = "17 V", current_limit = "1.5 A" }', ceiling)  # noqa: E731
    lines = f'test t "T"\n    set supply.voltage = {value}, supply.output = on\n    read v_in\n    check v_in >= -99 V\n'
    head = HEAD.replace("    lamp, dark, other  : signal yes_no\n", "").replace(
        "out                : digital_io", "supply : power_supply\n    v_in : signal in V"
    )
    path = project / "bench.toml"
    path.write_text(change(path.read_text()))
    source = vetted(head + lines, project)
    (found,) = [f for f in source.findings if f.level == "mistake"]
    assert bound in source.render(found)
    later = lines.replace(f"voltage = {value}", f"voltage = v * {value}").replace('"T"\n', '"T"\n    read first = v_in\n    let v = 1 + 0 * (first / 1 V)\n')
    run = perform(later, header=head)
    assert run.verdicts == {"t": "error"} and f"beyond {bound}" in run.ended["t"][1]
    assert not any("SOUR1:VOLT " in line for line in run.traffic)


MOVES = """sequence "Moves"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"
needs
    arm : positioner
test t "T"
    sweep x over 0.2 m, 0.7 m
        set arm.position = x
        read there = arm.position
    check there within x +/- 1 mm
"""
ARM = """
[instruments.axis]
profile = "scpi-positioner"
address = "TCPIP::127.0.0.1::50261::SOCKET"
simulated = { identity = "Firnline,PX-1" }
[roles.arm]
instrument = "axis"
ceiling = { position = ["0.1 m", "0.8 m"] }
"""


def test_a_set_line_ends_when_a_positioner_is_there_and_it_is_halted_at_the_end(perform: Callable) -> None:
    run = perform(MOVES.partition("test t")[1] + MOVES.partition("test t")[2], header=MOVES.partition("test t")[0], change=lambda text: text + ARM)
    assert run.ended == {"t": ("pass", "")}, run.outcome
    assert run.traffic[-1].startswith("axis< ") and "axis> ABOR" in run.traffic[-5:]


def test_a_positioner_is_halted_where_it_is_when_a_run_ends_on_its_way(perform: Callable) -> None:
    stop = Stop()

    def hear(event: events.Event) -> None:
        if isinstance(event, events.TestStarted):
            threading.Timer(0.4, stop.request, ["enough"]).start()

    run = perform('test t "T"\n    set arm.position = 0.8 m\n    check 1 >= 1\n', header=MOVES.partition("test t")[0],
                  change=lambda text: text + ARM, journal=hear, stop=stop)  # fmt: skip
    assert run.outcome.verdict == "aborted"
    lines = [line for line in run.traffic if "*ESR" not in line and "axis>" in line]
    assert lines.index("axis> ABOR") > lines.index("axis> SOUR1:POS 0.8")
