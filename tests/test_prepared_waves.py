"""WAV files in place of what instruments would record, for rehearsals: what is exported comes back as it was, and what does not
fit is told before anything begins."""

import json
import re
import wave
from pathlib import Path

import numpy as np
import pytest

from ibexite.wave_file import write_wave
from tests.test_play import CHECKS, PLAY, QUIET, curve, run, verdicts
from tests.test_recording import HEAD, curves, last

CHANNELS = ("mic", "v_drive", "i_drive")


def exported(ibexite, project: Path) -> tuple[object, list[str]]:
    """A run whose records were exported, and what to write for them into a file of readings."""
    _, record = run(ibexite, project, PLAY + CHECKS, serial=QUIET)
    ibexite("export", "last", "--to", "wav", "--out", "out")
    lines = {}
    for file in (project / "out").glob("*.wav"):  # those that begin at one time are channels of one file
        told = re.findall(r"rec\.(\w+) \(1 is ([^)]+)\)", file.read_bytes().decode("latin-1"))
        for number, (name, scale) in enumerate(told, 1):
            lines[name] = f'{name} = {{ file = {json.dumps(str(file))}, channel = {number}, full_scale = "{scale}" }}'
    return record, [lines[name] for name in CHANNELS]


def rehearsed(ibexite, project: Path, lines: list[str], serial: str, text: str = PLAY + CHECKS):
    (project / "rehearsal.toml").write_text("[readings]\n" + "\n".join(lines) + "\n")
    return run(ibexite, project, text, serial=serial, more=("--readings", "rehearsal.toml"))


def test_records_that_were_exported_are_heard_again_by_a_rehearsal(ibexite, project: Path) -> None:
    record, lines = exported(ibexite, project)
    done, again = rehearsed(ibexite, project, lines, "FT0010")  # another product: nothing of it is heard
    assert verdicts(again) == ["pass"], done.stdout + done.stderr
    for name in ("rec.mic", "rec.v_drive", "rec.i_drive"):
        (t, then), (u, now) = curve(record, name), curve(again, name)
        assert np.abs(now - then).max() <= 1e-6 * np.abs(then).max() and np.allclose(t, u, atol=1e-9)


def test_a_list_of_files_is_for_what_is_played_again(ibexite, project: Path) -> None:
    _, lines = exported(ibexite, project)
    rate, count = 192_000, 120_000
    write_wave(project / "loud.wav", np.random.default_rng(1).normal(0, 0.1, count), rate, "float")
    quiet = lines[0].partition(" = ")[2]
    lines[0] = f'mic = [{{ file = "loud.wav", full_scale = "200 Pa" }}, {{ file = "loud.wav", full_scale = "200 Pa" }}, {quiet}]'
    text = PLAY.rstrip("\n") + " again while peak(rec.mic) > 50 Pa at most 4 times\n    check rec.repeats == 2\n"
    done, record = rehearsed(ibexite, project, lines, QUIET, text)
    assert verdicts(record) == ["pass"], done.stdout + done.stderr


def test_a_dc_part_of_a_record_is_told_and_spoils_nothing(ibexite, project: Path) -> None:
    record, lines = exported(ibexite, project)
    _, then = curve(record, "rec.v_drive")
    write_wave(project / "raised.wav", (then + 1.0) / 8, 192_000, "float")
    lines[1] = 'v_drive = { file = "raised.wav", full_scale = "8 V" }'
    done, again = rehearsed(ibexite, project, lines, QUIET)
    assert verdicts(again) == ["pass"], done.stdout
    told = [remark for remark in again.row["remarks"] if "DC part" in remark["text"]]
    assert len(told) == 1 and re.search(r"rec\.v_drive has a DC part of 1 V, \d\d% of its swing", told[0]["text"]), told
    (_, z), (_, before) = curve(again, "z"), curve(record, "z")
    assert np.abs(z / before - 1).max() < 1e-3, "a fitted sine has no part in it"


def test_a_recording_takes_a_file_and_has_no_value_behind_its_end(ibexite, project: Path) -> None:
    ramp = np.arange(2_000) / 4_000
    write_wave(project / "ramp.wav", np.column_stack([np.zeros(2_000), ramp]), 50_000, "float")
    (project / "r.toml").write_text('[readings]\nv_in = { file = "ramp.wav", channel = 2, full_scale = "20 V" }\n')
    lines = "    record trace : v_in every 20 us\n        set supply.output = on\n        wait 50 ms\n    let part = cut(trace.v_in, 0 s, 39 ms)\n"
    (project / "own.ibx").write_text(HEAD + lines + "    check peak(part) within 9.75 V +/- 10 mV\n    check peak(trace.v_in) <= 12 V\n")
    done = ibexite("run", "own.ibx", "--bench", "inrush.toml", "--simulate", "--yes", "--serial", "FC00400", "--readings", "r.toml")
    assert done.returncode in (1, 3), done.stdout + done.stderr
    record = last(project)
    assert [row["verdict"] for row in record.tests[0].results] != ["pass", "pass"], done.stdout
    v = curves(record)["trace.v_in"].values
    assert v[:2_000] == pytest.approx(ramp * 20, rel=1e-6) and np.isnan(v[2_000:]).all() and len(v) > 2_400


GOOD = 'mic = { file = "a.wav", full_scale = "10 Pa" }'


@pytest.mark.parametrize(("line", "told"), [
    (GOOD, "a rate of 96 kHz, and ping has 192 kHz"),
    (GOOD.replace("a.wav", "short.wav"), "1,000 samples, and ping has"),
    (GOOD.replace("a.wav", "gone.wav"), "gone.wav"),
    (GOOD.replace("a.wav", "cut.wav"), "the file ends"),
    (GOOD.replace("a.wav", "rehearsal.toml"), "this is no WAV file"),
    (GOOD.replace(" }", ", channel = 2 }"), "no channel 2"),
    (GOOD.replace(" }", ", channel = 0 }"), "no channel 0"),
    (GOOD.replace("10 Pa", "10 V"), "full_scale says what 1 in the file means, in the unit of mic"),
    (GOOD.replace("10 Pa", "-1 Pa"), "full_scale says what 1 in the file means"),
    ('mic = { file = "a.wav" }', "full_scale says what 1 in the file means"),
    (GOOD.replace("full_scale", "scale"), "there is no 'scale' here"),
    ('mic = { channel = 1, full_scale = "1 Pa" }', "no file is named"),
    ('mic = "3 Pa"', "mic is a record, not one value"),
])  # fmt: skip
def test_what_does_not_fit_is_told_before_anything_begins(ibexite, project: Path, line: str, told: str) -> None:
    for name, rate, count in (("a.wav", 96_000, 96_000), ("short.wav", 192_000, 1_000)):
        with wave.open(str(project / name), "wb") as file:
            file.setnchannels(1), file.setsampwidth(2), file.setframerate(rate)
            file.writeframes(bytes(2 * count))
    (project / "cut.wav").write_bytes((project / "a.wav").read_bytes()[:-100])
    done, _ = rehearsed(ibexite, project, [line], QUIET)
    assert done.returncode == 2 and told in done.stdout + done.stderr, done.stdout + done.stderr
    lookup = project / "records"
    assert not lookup.exists() or not list(lookup.glob("journals/*.jsonl")), "nothing was begun"
