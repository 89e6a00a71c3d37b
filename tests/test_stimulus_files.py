"""Stimuli and files: WAV in all its forms, beside Python's own reader and a program of others; stimuli that play one; what
a measured source is made flat by."""

import json
import math
import re
import shutil
import subprocess
import wave
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.errors import MistakeError
from ibexite.language.shaping import gain_of
from ibexite.reference import Axis, Origin, Reference, ReferenceValue
from ibexite.units import DECIBEL, HERTZ, PASCAL, PLAIN, VOLT, VOLTAGE_LEVEL, divide
from ibexite.values import Quantity
from ibexite.wave_file import read_wave, write_wave
from tests.test_play import CHECKS, PARTS, PLAY, QUIET, curve, run, verdicts

BITS = {"16": 16, "24": 24, "32": 32}
WAVES = np.stack([np.sin(np.arange(4800) / 7), 0.25 * np.cos(np.arange(4800) / 31)], axis=1)


@pytest.mark.parametrize("form", [*BITS, "float"])
def test_samples_come_back_as_they_were_written(tmp_path: Path, form: str) -> None:
    path = tmp_path / "x.wav"
    write_wave(path, WAVES, 48e3, form)
    found = read_wave(path)
    assert (found.rate, found.samples, found.channels) == (48e3, 4800, 2)
    assert np.abs(found.values - WAVES).max() <= (1e-7 if form == "float" else 2.0 ** -(BITS[form] - 1))
    if form != "float":  # Python's own reader knows no floats
        with wave.open(str(path)) as file:
            assert (file.getframerate(), file.getnchannels(), file.getsampwidth(), file.getnframes()) == (48000, 2, BITS[form] // 8, 4800)
            data = np.frombuffer(file.readframes(4800), np.uint8).reshape(-1, BITS[form] // 8)
        numbers = sum(data[:, i].astype(np.int64) << (8 * i) for i in range(BITS[form] // 8))
        numbers = np.where(numbers >= 1 << (BITS[form] - 1), numbers - (1 << BITS[form]), numbers)
        assert np.abs(numbers.reshape(-1, 2) / (1 << (BITS[form] - 1)) - WAVES).max() <= 2.0 ** -(BITS[form] - 2)


@pytest.mark.peers
@pytest.mark.skipif(shutil.which("sox") is None, reason="sox is not here; .ci/run installs it")
@pytest.mark.parametrize("form", [*BITS, "float"])
def test_a_program_of_others_reads_and_writes_the_same(tmp_path: Path, form: str) -> None:
    ours, theirs = tmp_path / "ours.wav", tmp_path / "theirs.wav"
    write_wave(ours, WAVES, 48e3, form)
    subprocess.run(["sox", "-D", ours, "-b", "32", "-e", "floating-point", theirs], check=True, timeout=60)
    assert np.abs(read_wave(theirs).values - read_wave(ours).values).max() < 1e-7
    told = subprocess.run(["sox", "--info", "-r", ours], check=True, timeout=60, capture_output=True, text=True).stdout
    assert told.strip() == "48000"


@given(st.integers(0, 4800 * 4 + 60))
def test_a_file_that_was_cut_is_refused_wherever_it_was_cut(tmp_path_factory: pytest.TempPathFactory, keep: int) -> None:
    path = tmp_path_factory.mktemp("cut") / "x.wav"
    write_wave(path, WAVES, 48e3, "16")
    data = path.read_bytes()
    assert len(data) > keep or read_wave(path).samples == 4800
    path.write_bytes(data[:keep])
    if keep < len(data):
        with pytest.raises(MistakeError, match="too early|no WAV file|cannot be read|no samples"):
            read_wave(path)


@pytest.mark.parametrize(("make", "told"), [
    (lambda path: path.write_text("RIFF no wave"), "no WAV file"), (lambda path: path.mkdir(), "a folder"), (lambda path: None, "no such WAV file"),
    (lambda path: path.write_bytes(b"RIFF\x24\0\0\0WAVEfmt " + bytes(20) + b"data\0\0\0\0"), "WAV file")])  # fmt: skip
def test_what_is_no_such_file_says_so(tmp_path: Path, make, told: str) -> None:
    make(tmp_path / "x.wav")
    with pytest.raises(MistakeError, match=told):
        read_wave(tmp_path / "x.wav")
    with pytest.raises(MistakeError, match="beyond full scale"):
        write_wave(tmp_path / "y.wav", 2 * WAVES, 48e3, "16")
    with pytest.raises(MistakeError, match="whole numbers"):
        write_wave(tmp_path / "y.wav", WAVES, 48e3 + 0.5, "16")
    assert not (tmp_path / "y.wav").exists()


def test_a_stimulus_is_written_and_played_from_that_file_as_before(ibexite, project: Path) -> None:
    run(ibexite, project, PLAY + CHECKS, serial=QUIET)
    told = ibexite("preview", "own.ibx", "--bench", "own.toml", "--wav", "x.wav").stdout
    peak = float(told.split("full scale is ")[1].split(" V")[0])
    whole = read_wave(project / "x_ping.wav")
    assert whole.rate == 192e3
    for bits, coding, error in (("16", "Signed Integer", 2**-15), ("32", "Signed Integer", 2**-22), ("float", "Floating Point", 2**-22)):
        done = ibexite("preview", "own.ibx", "--bench", "own.toml", "--wav", "y.wav", "--bits", bits, "--format", "json")
        assert json.loads(done.stdout) and "full scale is" in done.stderr, "what is read by programs holds nothing else"
        assert np.abs(read_wave(project / "y_ping.wav").values - whole.values).max() <= error
        if shutil.which("sox"):
            told_by_other = subprocess.run(["sox", "--i", "y_ping.wav"], cwd=project, capture_output=True, text=True, check=True).stdout
            assert f"{'32' if bits == 'float' else bits}-bit {coding} PCM" in told_by_other
    first = curve(run(ibexite, project, PLAY + "    check peak(rec.v_drive) >= 1 V\n", serial=QUIET)[1], "rec.v_drive")[1]
    _, record = run(ibexite, project, PLAY + "    check peak(rec.v_drive) >= 1 V\n", serial=QUIET, parts=f'    part file "x_ping.wav" peak {peak} V')
    assert verdicts(record) == ["pass"] and np.abs(curve(record, "rec.v_drive")[1] - first).max() < 2e-4  # their noise
    done, _ = run(ibexite, project, PLAY + CHECKS, parts=f'    part file "x_ping.wav" channel 2 peak {peak} V')
    assert "no channel 2" in done.stderr + done.stdout
    done, _ = run(ibexite, project, PLAY + CHECKS, parts='    part file "x_ping.wav"\n    part silence for 1 ms'.replace("x_ping", "gone"))
    assert "there is no such WAV file" in done.stderr + done.stdout


def test_a_stimulus_may_come_from_a_shared_file(ibexite, project: Path) -> None:
    here, _ = run(ibexite, project, PLAY + CHECKS, parts=PARTS.replace("level strong", "level 2 V"), serial=QUIET)
    text = (project / "own.ibx").read_text()
    begin, end = text.index("stimulus ping"), text.index("before unit")
    (project / "pings.ibx").write_text(text[begin:end])
    (project / "own.ibx").write_text((text[:begin] + text[end:]).replace("needs\n", 'use "pings.ibx"\n\nneeds\n', 1))
    told = ibexite("preview", "own.ibx", "--bench", "own.toml").stdout
    done = ibexite("run", "own.ibx", "--bench", "own.toml", "--simulate", "--yes", "--serial", QUIET)
    assert done.returncode == here.returncode == 5 and "stimulus ping   P" in told, done.stdout + done.stderr
    (project / "pings.ibx").write_text(text[begin:end].replace("level 2 V", "level 3 V"))
    refused = ibexite("run", "own.ibx", "--bench", "own.toml", "--simulate", "--yes", "--serial", QUIET)
    assert refused.returncode == 2 and "beyond 4 V (the ceiling of generator.amplitude)" in refused.stderr


def test_a_source_is_made_flat_by_its_own_response_and_not_by_an_old_one(ibexite, project: Path) -> None:
    sound = (
        PLAY
        + "    let sound = response(rec.mic, ping.stepped)\n    let size = db_amplitude(sound / 1 Pa/V)\n    check polarity(rec.mic, ping.stepped) is yes\n"
    )
    parts = PARTS.replace("from 60 kHz to 30 kHz at 6 per octave", "from 64 kHz to 16 kHz at 9 per octave").replace("level strong", "level 0.2 V")
    _, plain = run(ibexite, project, sound, parts=parts, serial=QUIET)
    assert ibexite("golden", "save", "last", "t.sound", "--as", "hall").returncode == 0
    shaped = (
        parts.replace("level 1 V", "level 0.08 V").replace("level 0.2 V", "level 0.08 V")
        + '\n    shaped by inverse of golden("hall.sound") at 40 kHz not older than 1 h'
    )
    done, flat = run(ibexite, project, sound, parts=shaped, serial=QUIET)
    assert flat is not None, done.stderr
    assert verdicts(plain) == verdicts(flat) == ["pass"], done.stdout
    spread = [float(np.std(np.sort(curve(record, "size")[1])[2:-2])) for record in (plain, flat)]  # some points lie in noise
    assert spread[0] > 5 and spread[1] < 0.7, "made even, and its polarity is told all the same"
    told = ibexite("preview", "own.ibx", "--bench", "acoustic.toml").stdout
    assert re.search(r"shaped by hall, measured 20\S+ \S+, from 16 kHz to 64 kHz$", told, re.MULTILINE), told
    assert re.search(r"steps, 64 kHz to 16 kHz, .* 80 mV RMS; shaped [\d.]+ m?V RMS in all$", told, re.MULTILINE), told
    wider = shaped.replace("from 64 kHz to 16 kHz", "from 70 kHz to 16 kHz")
    run(ibexite, project, sound, parts=wider, serial=QUIET)
    assert "beyond that stepped as at its ends" in ibexite("preview", "own.ibx", "--bench", "acoustic.toml").stdout
    again = wider.replace("\n    shaped", "\n    part stepped from 40 kHz to 20 kHz at 6 per octave for 12 cycles, at least 3 ms, level 0.08 V\n    shaped")
    (project / "own.ibx").write_text((project / "own.ibx").read_text().replace(wider, again))
    assert "beyond that stepped as at its ends" in ibexite("preview", "own.ibx", "--bench", "acoustic.toml").stdout, "though its second part is not"
    done, old = run(ibexite, project, sound, parts=shaped.replace("1 h", "1 ms"), serial=QUIET)
    assert verdicts(old) == ["error"] and "old, it may be" in done.stdout and "nobody has approved it" in done.stdout


def reference(values: tuple, dimension=PLAIN, points: tuple = (1e3, 2e3, 4e3), *, axis=HERTZ, sampling=None) -> tuple[Reference, ReferenceValue]:
    value = ReferenceValue("h", "t", Quantity(("freq",), dimension), (Axis("freq", Quantity(("freq",), axis), points, sampling),), values, {})
    origin = Origin("r", "u", "2026-11-01T00:00:00+00:00", "pass", (), False, {})
    return Reference("ref", "ref.toml", "", "P", "", origin, {"h": value}), value


@pytest.mark.parametrize(("values", "dimension", "options", "expected"), [
    ((1.0, 2.0, 4.0), PLAIN, {}, (1.0, 2.0, 4.0)), ((1.0, 2j, -4.0), PLAIN, {"is_inverse": True}, (1.0, 0.5, 0.25)), ((0.0, 6.0205999, 20.0), DECIBEL, {}, (1.0, 2.0, 10.0)),
    ((3.0, 6.0, 12.0), divide(PASCAL, VOLT), {"is_inverse": True, "at": 2e3}, (2.0, 1.0, 0.5)), ((1.0, 3.0, 3.0), PLAIN, {"at": 1e3 * math.sqrt(2)}, (0.5, 1.5, 1.5)),
    ((-20.0, 0.0, 0.0), VOLTAGE_LEVEL, {"at": 4e3}, (0.1, 1.0, 1.0))])  # fmt: skip
def test_a_gain_is_the_size_of_a_curve_or_its_inverse_taken_as_one_at_a_frequency(values, dimension, options, expected) -> None:
    found = gain_of(*reference(values, dimension), **{"is_inverse": False, "at": None, "most_age": 0.0, **options})
    assert found.factors == pytest.approx(expected) and found.frequencies == (1e3, 2e3, 4e3)


@pytest.mark.parametrize(("made", "at", "told"), [
    (reference((1.0, 2.0, 3.0), VOLT), None, "say at which frequency"), (reference((1.0, None, 3.0)), None, "holes"), (reference((1.0, 0.0, 3.0)), None, "zeros"),
    (reference((1.0, 2.0, 3.0)), 9e3, "no value at 9000 Hz"), (reference((1.0, 2.0, 3.0), axis=VOLT), None, "no curve over a frequency"), (reference((1.0,), points=(1e3,)), None, "fewer than two")])  # fmt: skip
def test_what_cannot_shape_says_why(made, at, told: str) -> None:
    with pytest.raises(ValueError, match=told):
        gain_of(*made, is_inverse=False, at=at, most_age=0.0)
