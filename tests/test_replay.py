"""Runs that are carried out once more against what was said in them. That every run of the tests of the engine can be, with
all its faults, is seen by `tests.runs.carried_out`."""

import gzip
import hashlib
import re
from pathlib import Path

import pytest

from ibexite.errors import NeverSaid
from ibexite.instruments.recorded import Recorded
from ibexite.instruments.user import CLOCK_SAID
from ibexite.station.replaying import replayed
from tests.conftest import HEADER, WEAK
from tests.test_run_control import RUN

TEXT = (
    HEADER
    + """test a "A"
    ask gap = number "Gap?" in mm
    sweep u from 7 V to 9 V step 1 V
        set supply.voltage = u
        wait 20 ms
        read v_in, v_out together
    check v_out >= 4 V
    call "pick.py" with gap = gap gives code in V timeout 1 s
    check code >= 2 V
test b "B"
    read v_out
    read i_in
    check v_out >= 4 V
"""
)
PROGRAM = '#!/usr/bin/env python3\nimport json, sys\nPATH = open("called", "a").write("x")\nprint(json.dumps({"code": json.load(sys.stdin)["gap"] * 1000}))\n'


@pytest.fixture
def recorded(ibexite, project: Path) -> Path:
    """A project in which a run was recorded."""
    (project / "t.ibx").write_text(TEXT)
    (project / "answers.toml").write_text('[answers]\n"Gap" = "2 mm"\n')
    (project / "pick.py").write_text(PROGRAM)
    (project / "pick.py").chmod(0o755)
    done = ibexite("run", "t.ibx", "--serial", WEAK, "--simulate", "--yes", "--readings", "answers.toml")
    assert done.returncode == 5, done.stdout + done.stderr
    return project


def line_of(text: str, part: str) -> int:
    return text[: text.index(part)].count("\n") + 1


@pytest.mark.parametrize(("old", "new", "code", "told"), [
    ("", "", 5, "as it was recorded, in all"),
    ("check v_out >= 4 V\n    call", "check v_out >= 40 V\n    call", 1, "verdict was 'pass', and is 'fail'"),
    ("    check code >= 2 V", "    let twice = 2 * code\n    check twice >= 4 V", 5, "otherwise than it was recorded (it was pass)"),
    ("wait 20 ms\n", "wait 20 s\n", 5, "otherwise than it was recorded"),
    ("    read i_in\n", "", 3, "HALTED at the end of b\n  psu is told 'STAT:QUES?', which was never said here: the record has dmm 'CONF"),
    ("to 9 V step", "to 10 V step", 3, "HALTED at next.ibx:{set supply.voltage = u}  set supply.voltage = u\n  psu is told 'SOUR1:VOLT 10', which was never said here"),
    ("        set supply.voltage = u\n", "", 3, "HALTED at next.ibx:{read v_in}  read v_in, v_out together\n  dmm is told 'CONF:VOLT:DC 100,(@101)', which was never said here: the record has psu 'SOUR1:VOLT 7'"),
    ("read i_in", "read rail_3v3", 3, "HALTED at next.ibx:{read rail}  read rail_3v3\n  dmm is told"),
    ('"Gap?"', '"Width?"', 3, "HALTED at next.ibx:{ask gap}  ask gap = number \"Width?\" in mm\n  the operator is told 'Width?', which was never said here: the record has 'Gap?'"),
    ("gap = gap", "gap = 2 * gap", 3, "HALTED at next.ibx:{call}  call \"pick.py\" with gap = 2 * gap gives code in V timeout 1 s\n  program pick.py is told '{\"gap\": 0.004}'"),
])  # fmt: skip
def test_what_was_said_then_is_said_again_and_nothing_else_is_ever_answered(recorded: Path, ibexite, old, new, code, told) -> None:
    text = TEXT.replace(old, new)
    assert text != TEXT or not old
    (recorded / "next.ibx").write_text(text)
    before = contents(recorded / "records")
    done = ibexite("replay", "last", *(("--sequence", "next.ibx") if old else ()))
    for part in ("set supply.voltage = u", "read v_in", "read rail", "ask gap", "call"):
        told = told.replace("{" + part + "}", str(line_of(text, part)) if part in text else "")
    assert done.returncode == code and told in done.stdout, done.stdout + done.stderr
    assert ("replayed with another sequence" in done.stdout) == (bool(old) and code != 3)  # its pass does not count
    assert contents(recorded / "records") == before  # nothing is recorded
    assert (recorded / "called").read_text() == "x"  # and nothing carried out


def contents(folder: Path) -> dict[str, str]:
    return {
        str(path): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in folder.rglob("*")
        if path.is_file() and path.suffix not in (".sqlite-shm", ".sqlite-wal")
    }


def test_a_replay_halts_where_it_is_told_to(recorded: Path, ibexite) -> None:
    number = str(line_of(TEXT, "check code >= 2 V"))
    done = ibexite("replay", "last", "--break", number, input="code * 2\nc\n")
    assert done.returncode == 5 and f"t.ibx:{number}  check code >= 2 V" in done.stdout and "halt>   4 V" in done.stdout, done.stdout
    for typed, why in (("s\n", "stopped at a halt"), ("", "the terminal was closed at a halt")):
        ended = ibexite("replay", "last", "--break", number, input=typed)
        assert ended.returncode == 4 and f"replay ended before its time: {why}" in ended.stdout and "never said" not in ended.stdout, ended.stdout
    assert "there is no test 'nowhere'" in ibexite("replay", "last", "--break", "nowhere").stderr


@pytest.mark.parametrize("arguments", [
    (*RUN, "--serial", WEAK), (*RUN, "--serial", WEAK, "--only", "rails", "--stop-on-fail"), ("run", "sensor_parts.ibx", "--serial", "FP0107", "--simulate", "--yes"),
    ("run", "characterise.ibx", "--serial", WEAK, "--simulate", "--yes", "--lot", "L7"), ("run", "service.ibx", "--serial", "FU0007", "--simulate", "--yes"), ("measure", "band_pass", "--bench", "analog.toml", "--simulate", "--role", "tap=v_filter", "--role", "reference=v_tone"), ("retest", "last", "--only", "efficiency", "--simulate", "--yes"),
], ids=lambda arguments: " ".join(arguments[:2] + arguments[-2:]))  # fmt: skip
def test_runs_of_every_kind_are_as_they_were(ibexite, project: Path, arguments) -> None:
    ibexite(*RUN, "--serial", WEAK)
    assert ibexite(*arguments).returncode in (0, 1, 5)
    found = replayed(project / "records", "last")
    assert found.comparison.is_same and found.stopped is None, (found.comparison.first, found.stopped)
    for curves in (project / "records" / "curves").glob("*.arrows"):  # values that are too many for the journal
        kept = curves.rename(curves.with_suffix(".away"))
        done = ibexite("replay", "last")
        assert done.returncode == 1 and f"cannot be compared: {curves}: the values of a curve" in done.stdout, done.stdout
        kept.rename(curves)
    for replies in (project / "records" / "replies").glob("*.bin"):
        replies.unlink()
        done = ibexite("replay", "last")
        assert done.returncode == 3 and "Traceback" not in done.stderr and replies.name in done.stdout + done.stderr, done.stdout + done.stderr


@pytest.mark.parametrize("lines", [4, 9, 14, 20])
def test_a_run_that_broke_off_is_replayed_as_far_as_it_came(recorded: Path, ibexite, lines: int) -> None:
    (kept,) = (recorded / "records" / "journals" / "stored").glob("*.gz")
    told = gzip.decompress(kept.read_bytes()).splitlines(keepends=True)
    assert lines < len(told)
    for path in (kept, recorded / "records" / "ibexite.sqlite"):
        path.unlink()
    (recorded / "records" / "journals" / kept.name.removesuffix(".gz")).write_bytes(b"".join(told[:lines]))
    done = ibexite("replay", "last")
    assert done.returncode == 3 and "HALTED at" in done.stdout and "the record has" in done.stdout, done.stdout + done.stderr
    assert "first difference" not in done.stdout or "comes after the end of the record" in done.stdout


def test_a_measurement_that_was_changed_since_is_carried_out_and_a_kept_file_is_found_from_anywhere(ibexite, project: Path) -> None:
    (project / "note.txt").write_text("as it was")
    sequence = project / "sensor_parts.ibx"
    sequence.write_text(sequence.read_text().replace("    check small_signal_gain\n", '    attach "note.txt"\n    check small_signal_gain\n'))
    ibexite("run", "sensor_parts.ibx", "--serial", "FP0107", "--simulate", "--yes", "--only", "amplifier")
    (project / "note.txt").write_text("another")
    found = replayed(project / "records", "last")
    assert found.comparison.is_same, found.comparison.first
    source = project / "measurements" / "one_db_point.py"
    source.write_text(source.read_text() + "\n# another one\n")
    again = replayed(project / "records", "last")
    assert [change.rpartition("/")[2] for change in again.changes] == ["one_db_point.py"] and again.stopped is None
    assert again.outcome is not None and again.outcome.verdict == "pass"


@pytest.mark.parametrize(("question", "value"), [
    ("    ask lit = yes_no \"Lit?\"\n    check lit is yes\n", 5), ("    ask gap = number \"Gap?\" in mm\n    check gap >= 1 mm\n", 3)])  # fmt: skip
def test_answers_that_were_kept_in_words_alone_are_taken_only_where_they_tell_the_value(ibexite, project: Path, question: str, value: int) -> None:
    (project / "t.ibx").write_text(HEADER + 'test a "A"\n' + question)
    (project / "answers.toml").write_text('[answers]\n"Gap" = "2 mm"\n"Lit" = true\n')
    assert ibexite("run", "t.ibx", "--serial", WEAK, "--simulate", "--yes", "--readings", "answers.toml").returncode == 5
    (kept,) = (project / "records" / "journals" / "stored").glob("*.gz")
    kept.write_bytes(gzip.compress(re.sub(rb',"value":[^,}]*}', b"}", gzip.decompress(kept.read_bytes()))))
    done = ibexite("replay", "last")
    assert done.returncode == value and ("its answer in words alone" in done.stdout) == (value == 3), done.stdout


def test_what_an_older_version_wrote_has_times_in_part_and_what_is_gone_is_named(recorded: Path, ibexite) -> None:
    (kept,) = (recorded / "records" / "journals" / "stored").glob("*.gz")
    without = gzip.decompress(kept.read_bytes()).replace(b'["","@",""]', b'["","?",""]')
    kept.write_bytes(gzip.compress(without))
    done = ibexite("replay", "last")
    assert done.returncode == 5 and "made by an older version" in done.stdout, done.stdout + done.stderr
    kept.write_bytes(gzip.compress(without.replace(b'"e":"Row","t":', b'"e":"Row","z":')))
    assert "an entry is damaged" in ibexite("replay", "last").stderr
    kept.unlink()
    gone = ibexite("replay", "last")
    assert gone.returncode == 2 and "its journal is not there" in gone.stderr


SAID = [("psu", ">", "VOLT 7"), ("dmm", ">", "READ?"), ("dmm", "<", "7.1"), ("dmm", ">", "TEMP?"), ("dmm", "<", "20"), ("psu", ">", "VOLT 8;*OPC?"), ("psu", "<", "1"),
        ("dmm", ">", "READ?"), ("dmm", "<", "8.1")]  # fmt: skip


@pytest.mark.parametrize(("asked", "answers"), [
    (["psu VOLT 7", "dmm READ?", "dmm TEMP?", "psu VOLT 8;*OPC?", "dmm READ?"], ["7.1", "20", "1", "8.1"]),
    (["psu VOLT 7", "dmm TEMP?", "dmm READ?", "psu VOLT 8;*OPC?", "dmm READ?"], ["20", "7.1", "1", "8.1"]),
    (["psu VOLT 7", "psu VOLT 8;*OPC?", "dmm READ?"], ["1", "8.1"]),
    (["psu VOLT 7", "dmm READ?", "dmm READ?"], ["7.1", "never"]), (["dmm READ?"], ["never"]), (["psu VOLT 8;*OPC?"], ["never"]), (["psu VOLT 7", "psu VOLT 7"], ["never"]),
    (["psu VOLT 7", "psu VOLT 8;*OPC?", "dmm TEMP?"], ["1", "never"]), (["psu VOLT 7", "psu READ?"], ["never"]),
])  # fmt: skip
def test_a_question_is_answered_only_in_the_state_in_which_it_was_asked(asked: list[str], answers: list[str]) -> None:
    said = Recorded((what, float(number)) for number, what in enumerate(SAID))
    found = []
    for message in asked:
        name, _, text = message.partition(" ")
        try:
            _, replies = said.find(name, text)
        except NeverSaid:
            found.append("never")
            break
        found += [said.take(place)[2] for place in replies]
    assert found == answers


def test_times_are_those_of_then_and_never_go_back() -> None:
    said = Recorded([(("psu", ">", "A?"), 1.0), (CLOCK_SAID, 2.0), (("psu", "<", "1"), 3.0), (CLOCK_SAID, 4.0)])
    assert [said.stamp(), said.now(), said.stamp(), said.now(), said.now()] == [1.0, 2.0, 3.0, 4.0, 4.0]
    late = Recorded([(CLOCK_SAID, 1.0), (CLOCK_SAID, 2.0), (CLOCK_SAID, 9.0)])
    assert late.now() == 1.0
    late.wait(5.0)  # longer than then
    assert [late.now(), late.now()] == [6.0, 9.0]
