"""The code that is made of a sequence, compared with generated_code.txt: a change of it is to be read, not to slip in.
Without the file the test writes it anew."""

from pathlib import Path

import pytest

from ibexite.engine.compile import SHOW_CODE

GOLDEN = Path(__file__).with_name("generated_code.txt")
TESTS = """test branches "Two loops of one name; f_1__x in a text is no function"
    read v_in
    if v_in > 5 V
        sweep u over 6 V, 7 V
            set supply.voltage = u
            read a = v_out
    else
        sweep u over 8 V, 9 V
            set supply.voltage = u
            read a = v_out
    check v_in between 4 V and 12 V
test loops "Loops, holes and what is judged in them"
    sweep vin from 7 V to 9 V step 1 V
        sweep amps over 0.1 A, 0.2 A
            set load.current = amps
            read v_out, i_out together averaging 2
            let power = v_out * i_out
            check v_out >= 4 V where amps >= 0.2 A
            if v_out < 1 V
                leave "dead"
    let most = max(power along amps)
    check most <= 2 W allowing 1 bad
    check v_out >= line(7 V -> 4 V, 9 V -> 4.5 V along vin)
test ends "Repeats, searches, watches"
    repeat n 2 times every 10 ms
        read v_out
    search low from 9 V to 7 V resolution 0.5 V until v_low < 4 V
        set supply.voltage = low
        read v_low = v_out
    watch v_in <= 17 V every 100 ms else stop
        wait 20 ms
    check low <= 9 V
"""


def test_generated_code_is_as_it_was_read(perform, monkeypatch: pytest.MonkeyPatch, capsys) -> None:
    assert perform(TESTS).outcome.verdict in ("pass", "fail")
    assert "def block" not in capsys.readouterr().err
    monkeypatch.setenv(SHOW_CODE, "1")
    assert perform(TESTS, is_repeatable=False).outcome.verdict in ("pass", "fail")
    text = capsys.readouterr().err
    if not GOLDEN.exists():
        GOLDEN.write_text(text)
        pytest.fail(f"{GOLDEN.name} was written anew: read it")
    assert text == GOLDEN.read_text(), f"remove {GOLDEN.name}, run the test, read the difference"
