"""Stimuli that are declared, vetted, played and captured on simulated instruments over real sockets: what comes back is what
the product makes of it, from wherever the record begins; and nothing that is wrong with it passes."""

import json
import re
from pathlib import Path

import numpy as np
import pytest

from ibexite.analysis.curve import SampledCurve, Sampling
from ibexite.bench import play
from ibexite.bench.file import read_bench
from ibexite.errors import InstrumentError
from ibexite.exports import formats as export_formats
from ibexite.records.gateway import open_lookup
from ibexite.simulate.products.fm2_transducer import DISTANCE, FAULTS, SHUNT, SOUND_SPEED, Fm2Transducer, fault_of
from ibexite.stimulus import Level, Marker, Silence, Stimulus
from tests.runs import kept_events, vetted

UNITS: dict[str, str] = {}
for number in range(1, 300):
    UNITS.setdefault(fault_of(f"FT{number:04}"), f"FT{number:04}")
QUIET, NOISY = "FT0102", "FT0112"  # good ones, in a hall that is quiet at once, or after a while
FOUND = {"": [], "loose": ["loose parts"], "reversed": ["polarity"], "cracked": ["distortion", "quality"], "weak": ["sensitivity at 40 kHz"]}
HEAD = """sequence "S"
    product "P"
    serial ".*"

needs
    generator        : function_generator
    adc              : digitizer
    mic              : signal in Pa
    v_drive          : signal in V
    i_drive          : signal in A

params
    strong = 2 V between 0.1 V and 3 V

stimulus ping "P"
    rate 192 kHz
PARTS

before unit
    set adc.full_scale = 5 V

test t "T"
"""
PARTS = """    part marker level 1 V
    part silence for 5 ms
    part stepped from 60 kHz to 30 kHz at 6 per octave for 12 cycles, at least 3 ms, level strong
    part rest = silence for 10 ms
    part chirp from 16 kHz to 64 kHz for 60 ms level 1 V
    part rest = silence for 20 ms"""
PLAY = "    play ping on generator capturing mic, v_drive, i_drive as rec\n"
CHECKS = """    let z = response(rec.v_drive, rec.i_drive, ping.stepped)
    let v = response(rec.v_drive, ping.chirp)
    let late = response(rec.mic, ping.stepped)
    check abs(z) >= 1 ohm
"""


def written(lines: str, parts: str = PARTS) -> str:
    return HEAD.replace("PARTS", parts) + lines


def run(ibexite, project: Path, lines: str = PLAY + CHECKS, *, parts: str = PARTS, bench=lambda text: text, serial: str = UNITS[""], more: tuple = ()):
    """One unit with a sequence of these lines; what was printed, and what is stored."""
    (project / "own.ibx").write_text(written(lines, parts))
    (project / "own.toml").write_text(bench((project / "acoustic.toml").read_text()))
    done = ibexite("run", "own.ibx", "--bench", "own.toml", "--simulate", "--yes", "--serial", serial, *more)
    if done.returncode == 2:
        return done, None
    lookup = open_lookup(project / "records")
    record = lookup.run(lookup.find("last"))
    lookup.close()
    return done, record


def curve(record, name: str) -> tuple[np.ndarray, np.ndarray]:
    """The points and values of a stored curve, complex ones put together."""
    grids = {column["name"]: grid for test in record.tests for grid in test.grids for column in grid.columns if column["origin"] != "sweep"}
    parts = [name] if name in grids else [f"{name}.re", f"{name}.im"]
    found = [grids[part].curve(part) for part in parts]
    values = found[0].values if len(found) == 1 else found[0].values + 1j * found[1].values
    return next(iter(found[0].axes.values())), values


def verdicts(record) -> list[str]:
    return [test.row["verdict"] for test in record.tests]


@pytest.mark.parametrize("fault", FOUND)
def test_each_fault_of_a_transducer_is_found_at_the_end_of_the_line(ibexite, project: Path, fault: str) -> None:
    done = ibexite("run", "echo.ibx", "--simulate", "--yes", "--serial", UNITS[fault])
    shown = json.loads(ibexite("show", "last", "--format", "json").stdout)
    failed = [check["label"] for test in shown["tests"] for check in test["results"] if check["verdict"] == "fail"]
    assert done.returncode == (1 if fault else 5) and set(FOUND[fault]) <= set(failed) and bool(failed) == bool(fault), done.stdout
    assert "outputs off: generator" in done.stdout
    again = ibexite("replay", "last")
    assert "as it was recorded, in all" in again.stdout, again.stdout
    assert " stays" in ibexite("rejudge", "last").stdout


def test_all_faults_of_the_transducer_are_tried() -> None:
    assert set(FOUND) == {"", *FAULTS} == set(UNITS)


def untriggered(text: str) -> str:
    """Nothing triggers the record."""
    return text.replace('triggered_by = "generator"', "")


@pytest.mark.parametrize("how", ["triggered", "by its marker"])
def test_a_product_comes_back_as_it_is_from_wherever_the_record_begins(ibexite, project: Path, how: str) -> None:
    lines = PLAY.replace("as rec", "as rec marker in v_drive") + CHECKS
    done, record = run(ibexite, project, lines, serial=QUIET, bench=untriggered if how != "triggered" else lambda text: text)
    assert verdicts(record) == ["pass"], done.stdout
    product = Fm2Transducer(QUIET)
    f, z = curve(record, "z")
    assert np.abs(z / product.impedance(f) - 1).max() < 0.01
    f, v = curve(record, "v")
    expected = product.impedance(f) / (product.impedance(f) + SHUNT)
    assert np.median(np.abs(v / expected - 1)) < (0.002 if how == "triggered" else 0.02)
    f, late = curve(record, "late")
    steps = np.argsort(f)
    turns = np.unwrap(np.angle(late[steps] * np.exp(2j * np.pi * f[steps] * (DISTANCE / SOUND_SPEED - 0.5e-3))))
    assert np.ptp(turns) < 6.5, "what is left of the phase is that of two resonances, the way of the sound is taken off"
    time, mic = curve(record, "rec.mic")
    assert time[0] == pytest.approx(-0.5e-3, abs=1e-9) or how != "triggered"
    assert np.sqrt(np.mean(mic[(time > 0.011) & (time < 0.014)] ** 2)) == pytest.approx(0.022, rel=0.3)


def test_one_instrument_plays_and_records_on_one_clock(ibexite, project: Path) -> None:
    def alone(text: str) -> str:
        return (
            text.replace("adc.record", "interface.record")
            .replace("channel = 1 }\nsens", "channel = 9 }\nsens")
            .replace("channel = 2", "channel = 1")
            .replace("channel = 9", "channel = 2")
        )

    text = (
        written(PLAY + CHECKS)
        .replace("function_generator", "audio_interface")
        .replace("generator", "interface")
        .replace("    adc              : digitizer\n", "")
        .replace("adc.", "interface.")
    )
    (project / "own.ibx").write_text(text)
    (project / "own.toml").write_text(alone((project / "acoustic.toml").read_text()))
    done = ibexite("run", "own.ibx", "--bench", "own.toml", "--simulate", "--yes", "--serial", QUIET)
    lookup = open_lookup(project / "records")
    record = lookup.run(lookup.find("last"))
    lookup.close()
    assert verdicts(record) == ["pass"], done.stdout + done.stderr
    f, z = curve(record, "z")
    assert np.abs(z / Fm2Transducer(QUIET).impedance(f) - 1).max() < 0.01 and "outputs off: interface" in done.stdout


@pytest.mark.parametrize(("bench", "told"), [
    (lambda text: untriggered(text).replace('1 = "microphone", ', ""), "the marker of ping is not found in rec.mic (the likeness is"),
    (lambda text: text.replace('wiring = { 1 = "drive" }', 'wiring = { 1 = "drive" }, trouble = [{ command = "TRIG", how = "lost" }]'), "adc")])  # fmt: skip
def test_what_cannot_be_placed_or_is_never_triggered_is_an_error(ibexite, project: Path, bench, told: str) -> None:
    done, record = run(ibexite, project, bench=bench)
    assert done.returncode == 3 and verdicts(record) == ["error"] and told in done.stdout, done.stdout + done.stderr
    assert "outputs off: generator" in done.stdout


def test_a_record_that_is_too_loud_for_its_range_is_bad_and_nothing_passes(ibexite, project: Path) -> None:
    lines = "    set adc.full_scale = 1 V\n" + PLAY + "    check peak(rec.v_drive) <= 9 V\n    check abs(response(rec.v_drive, ping.stepped)) >= 0\n"
    done, record = run(ibexite, project, lines)
    assert done.returncode == 3 and verdicts(record) == ["error"], done.stdout
    assert "clipped: overload" in done.stdout + ibexite("show", "last").stdout


@pytest.mark.parametrize(("serial", "repeats"), [(QUIET, 0), (NOISY, 1)])
def test_it_is_played_again_while_the_hall_is_too_loud(ibexite, project: Path, serial: str, repeats: int) -> None:
    lines = PLAY.replace("as rec", "as rec again while level_of(rec.mic, ping.silence) > 66 dBSPL at most 3 times") + "    check rec.repeats <= 3\n"
    _, record = run(ibexite, project, lines, serial=serial)
    found = {c["name"]: g for t in record.tests for g in t.grids for c in g.columns}
    assert list(found["rec.repeats"].column("rec.repeats")) == [repeats] and verdicts(record) == ["pass"]
    assert "replay: as it was recorded" in ibexite("replay", "last").stdout


def test_what_was_played_is_off_before_and_behind_and_not_changed_by_turns(ibexite, project: Path) -> None:
    lines = (
        "    sweep k over 1, 2\n        play ping on generator capturing v_drive as rec\n        let level = rms(rec.v_drive)\n    check max(level) <= 3 V\n"
    )
    done, record = run(ibexite, project, lines, more=("--with", "strong=1 V"))
    assert verdicts(record) == ["pass"], done.stdout
    said = [str(what[2]) for event in kept_events(project) for what in (event.get("io") or [[]])[0]]
    order = [part for text in said for part in re.findall(r"OUTP1 (?:ON|OFF)|TRAC:DATA|(?<=,)#\([\d,]+ bytes, SHA-256 [0-9a-f]{16}\)|TRIG$", text)]
    once = ["TRAC:DATA", *[part for part in order if part.startswith("#(")][:1], "OUTP1 ON", "TRIG", "OUTP1 OFF"]
    assert order[order.index("TRAC:DATA") :][: 2 * len(once)] == 2 * once
    both = [(what[0], what[1], str(what[2])) for event in kept_events(project) for what in (event.get("io") or [[]])[0]]
    armed = both.index(("adc", ">", "INIT"))
    assert "<" in [said[1] for said in both[armed : both.index(("awg", ">", "TRIG"))]], "it is started when the other one has said that it waits"
    level = next(g for t in record.tests for g in t.grids for c in g.columns if c["name"] == "level")
    assert len(set(np.round(list(level.column("level")), 6))) == 1


def test_records_go_into_wav_files_with_every_digit_and_what_cannot_is_told(ibexite, project: Path) -> None:
    import soundfile

    lines = "    sweep k over 1, 2\n        play ping on generator capturing v_drive, i_drive, mic as rec\n    play ping on generator capturing i_drive as one\n    check rms(one.i_drive) >= 0 A\n"
    ran, record = run(ibexite, project, lines)
    assert record is not None, ran.stderr
    done = ibexite("export", "last", "--to", "wav", "--out", "waves")
    assert done.returncode == 0 and not done.stderr, done.stderr
    files = {path.stem: path for path in (project / "waves").glob("*.wav")}
    assert sorted(files) == ["t_one", "t_rec_1_mic", "t_rec_1_v_drive_i_drive", "t_rec_2_mic", "t_rec_2_v_drive_i_drive"]
    stored = {
        c["name"]: (g, [t.grid.column(c["name"]) for t in g.turns] or [g.column(c["name"])])
        for t in record.tests
        for g in t.grids
        for c in g.columns
        if "." in c["name"]
    }
    seen = 0
    for stem, path in files.items():
        with soundfile.SoundFile(path) as file:
            found, comment = file.read(always_2d=True), file.comment
        assert file.samplerate == 192_000 and ("k = 2" in comment) == ("_2_" in stem)
        for channel, (name, scale) in enumerate(re.findall(r"([\w.]+) \(1 is ([\d.e-]+) (?:V|A|Pa)\)", comment)):
            values = np.asarray(stored[name][1]["_2_" in stem])
            assert np.array_equal(found[:, channel] * float(scale), values.astype(np.float32)) and 0.5 < abs(found[:, channel]).max() <= 1, stem
            seen += 1
    assert seen == 7
    stored["one.i_drive"][0].columns[0]["step"] *= 1.00001
    assert sorted(export_formats.export(record, "wav", project / "again")) == sorted(project / "again" / f"{stem}.wav" for stem in files if stem != "t_one")
    assert [told.partition(",")[0] for told in export_formats.left_out(record, "wav")] == ["t_one: 191998.08 samples a second"]
    (project / "waves.ibx").write_text(HEAD.replace("PARTS", PARTS) + "    check 2 V >= 1 V\n")
    assert ibexite("run", "waves.ibx", "--bench", "acoustic.toml", "--simulate", "--yes", "--serial", UNITS[""]).returncode == 5
    none = ibexite("export", "last", "--to", "wav", "--out", "none")
    assert none.returncode == 3 and "no waveforms for WAV files" in none.stderr and not (project / "none").exists()


@pytest.mark.parametrize(("change", "told"), [
    (lambda text: text.replace('amplitude = "4 V"', 'amplitude = "2.5 V"'), "ping has a peak of 2.828 V|beyond 2.5 V (the ceiling of generator.amplitude)"),
    (lambda text: text.replace("adc.record", "adc.wave"), "wave gives whole curves"),
    (lambda text: text.replace('delay       = "0.5 ms"', 'delay = "5 s"'), "not between 0 s and 1 s"),
    (lambda text: text.replace('triggered_by = "generator"', 'triggered_by = "horn"'), "there is no role 'horn'")])  # fmt: skip
def test_what_a_bench_cannot_do_is_told_before_anything_is_on(ibexite, project: Path, change, told: str) -> None:
    done, record = run(ibexite, project, bench=change)
    assert done.returncode == 2 and record is None
    for part in told.split("|"):
        assert part in done.stdout + done.stderr, done.stdout + done.stderr


def test_records_and_parts_are_asked_at_a_halt_as_in_a_line(ibexite, project: Path) -> None:
    """The same formulas give the same numbers, and one that cannot be understood does not end the run."""
    asked = ["max(abs(response(rec.v_drive, rec.i_drive, ping.stepped)))", "peak(rec.v_drive)", "level_of(rec.mic, ping.silence) in dBSPL"]
    lines = "".join(f"    let a{k} = {formula}\n" for k, formula in enumerate(asked)) + "    check a1 <= 9 V\n"
    (project / "own.ibx").write_text(written(PLAY + lines))
    typed = "\n".join(["next", *asked, 'peak(mask_low("echo"))', "thd(rec.mic, ping)", "continue", ""])
    told = ibexite("run", "own.ibx", "--bench", "acoustic.toml", "--simulate", "--yes", "--serial", UNITS[""], "--break", "t", input=typed).stdout
    shown = [line.partition("halt>")[2].split() for line in told.splitlines() if "halt>" in line]
    lookup = open_lookup(project / "records")
    record = lookup.run(lookup.find("last"))
    lookup.close()
    values = {c["name"]: g.column(c["name"])[0] for t in record.tests for g in t.grids for c in g.columns if c["name"] in ("a0", "a1", "a2")}
    for k, factor in enumerate((1e3, 1, 1)):
        number = next(words for words in shown if words and words[-1] == ("kohm", "V", "dBSPL")[k])[0]
        assert float(number) * factor == pytest.approx(float(values[f"a{k}"]), rel=1e-4)
    assert "no line of this sequence takes" in told and "which part is meant?" in told and "PASS (trial)" in told


def test_what_a_recorder_cannot_take_is_told_before_anything_is_on(ibexite, project: Path) -> None:
    small = 'extends = "scpi-digitizer"\n[settings.samples]\nrange = ["16", "30000"]\n[settings.interval]\nrange = ["10 us", "1 s"]\n'
    (project / "small.toml").write_text(small)
    done, record = run(ibexite, project, bench=lambda text: text.replace('"scpi-digitizer"', '"small.toml"'))
    assert done.returncode == 2 and record is None
    count = int(re.search(r"([\d,]+) samples are recorded of ping", done.stderr)[1].replace(",", ""))  # type: ignore[index]
    played = int(re.search(r"\(([\d,]+) samples\)", ibexite("preview", "own.ibx", "--bench", "acoustic.toml").stdout)[1].replace(",", ""))  # type: ignore[index]
    assert abs(count - 0.05 * 192_000 - played) <= 1 and "samples of adc: 16 to 30,000." in done.stderr
    assert "adc is to record 192000 samples a second" in done.stderr and "interval of adc: 1e-05 s to 1 s." in done.stderr
    done, record = run(ibexite, project, parts=PARTS.replace("    part marker level 1 V\n", ""), bench=untriggered)
    assert done.returncode == 2 and record is None and "nobody knows when ping begins in the records of adc" in done.stderr


@pytest.mark.parametrize(("lines", "told"), [
    ("    play pong on generator capturing mic as rec\n    check peak(rec.mic) <= 1 Pa\n", "unknown stimulus 'pong'|Did you mean ping?"),
    ("    play ping on adc\n", "A digitizer plays no stimulus"), ("    play ping on generator capturing mic as rec marker in v_drive\n", "v_drive is not captured"),
    (PLAY + "    let h1 = response(rec.mic, ping)\n", "which part is meant?|Name one: ping.stepped, ping.chirp."),
    (PLAY + "    let h1 = response(rec.mic, ping.tones)\n", "'ping' has no part 'tones'"), (PLAY + "    let h1 = residual(rec.mic, ping.chirp).rms\n", "which part is meant?"),
    (PLAY + "    let h1 = response(rec.mic, 3)\n", "not a stimulus"), (PLAY + "    let h1 = thd(mic, ping.stepped)\n", "'mic' has no value yet"),
    (PLAY + "    let n = rms(rec.mic) + rms(rec.v_drive)\n", "cannot be added"), (PLAY + "    check polarity(rec.mic, ping.stepped) >= 1\n", "these limits|not a number"),
    (PLAY + "    check peak(rec.mic) <= 1 Pa guarded by accuracy\n", "made of what was recorded, of which nobody says how exact it is"),
    ("    read mic\n", None), (PLAY + "    let h1 = impulse(rec.mic)\n", "not a response"), (PLAY + "    let h1 = jitter(rec.mic, 2 us)\n", "'jitter' is called otherwise")])  # fmt: skip
def test_mistakes_of_play_lines_and_functions_are_told_where_they_are(lines: str, told: str | None, project: Path) -> None:
    text = written(lines)
    source = vetted(text)
    found = "\n".join(source.render(finding) for finding in source.sorted_findings()).lower()
    assert (not source.has_mistakes) if told is None else any(part.lower() in found for part in told.split("|")), found


@pytest.mark.parametrize(("parts", "told"), [
    ("    part noise from 4 kHz to 97 kHz for 100 ms level 1 V", "it goes up to 97000 Hz, half the rate is 96000 Hz"), ("    part chirp from 4 kHz to 7 kHz for 100 ms", "chirp without 'level'"),
    ("    part stepped from 4 kHz to 7 kHz step 2 kHz for 12 cycles level 1 V", "It would lead to"), ("    part stepped from 4 kHz to 8 kHz at 3 per octave for 2 cycles level 1 V", "takes 4 cycles or more"),
    ("    part silence for 20 V", "Here belongs a time (s)"), ("    part silence for 20 ms level 1 V", "not for silence"), ("    part tones 1 kHz, 2 kHz for 0 s level 1 V", "not above zero"),
    ("    part burst 1 kHz for 2.5 cycles every 20 ms level 1 V", "not a whole number of cycles"), ("    part marker", "nothing says its band"), ("    part noise from 4 kHz to 9 kHz for strong level 1 V", "wrong unit"),
    ('    part file "none.wav"', ""), ("    part silence for 1 s\n    rate 1 kHz", "two rates"), ("    part silence for 1 s unjudged unjudged", "'unjudged' twice")])  # fmt: skip
def test_mistakes_of_stimuli_are_told_where_they_are(parts: str, told: str) -> None:
    source = vetted(written(PLAY + CHECKS + "    check late >= 1 Pa/V where freq >= 1 kHz\n    plot v against freq\n", parts))
    found = [source.render(finding) for finding in source.sorted_findings() if finding.level == "mistake"]
    assert len(found) == bool(told) and told in "".join(found), "one mistake is one message\n" + "\n".join(found)


# --- what comes back, without instruments


class Deeds:
    """A bench that carries out nothing and gives what it is told to."""

    def __init__(self, curves: list) -> None:
        self.curves, self.said = curves, []

    def set_line(self, keys):
        return lambda *values: self.said.append((keys, values))

    def read_line(self, items, *, together: bool, averaging: int):
        return lambda: self.curves

    def do(self, role: str, action: str) -> None:
        self.said.append((role, action))


def line_of(project: Path, curves: list, *, is_triggered: bool = False) -> tuple[play.PlayLine, Stimulus, np.ndarray]:
    from ibexite.analysis.signals import stimuli
    from ibexite.bench.state import BenchState

    text = (project / "acoustic.toml").read_text()
    (project / "own.toml").write_text(text if is_triggered else untriggered(text))
    file = read_bench(project / "own.toml")
    bench = BenchState(file, None)
    stimulus = Stimulus("ping", "", 192e3, (Marker("marker", False, 10e3, 60e3, 10e-3, Level(1.0)), Silence("quiet", False, 5e-3)))
    samples = stimuli.samples(stimulus)
    captured = [play.Captured("rec.v", file.signals["v_drive"])]
    return play.PlayLine(bench, Deeds(curves), "generator", stimulus, samples, captured, "", [object()]), stimulus, samples


def placed(project: Path, values: np.ndarray, *, is_triggered: bool = False, step: float = 1 / 192e3):
    line, _, _ = line_of(project, [], is_triggered=is_triggered)
    found = line._placed([SampledCurve(Sampling("time", 0.0, step), values)])
    return found[0], line._bench.bad


def test_a_record_is_placed_between_samples_and_a_wrong_one_is_bad(project: Path) -> None:
    _, _, samples = line_of(project, [])
    noise = np.random.default_rng(1)
    late = np.concatenate([np.zeros(5000), samples, np.zeros(3000)]) + noise.normal(0, 1e-3, 8000 + len(samples))
    found, bad = placed(project, late)
    assert found.sampling.start == pytest.approx(-5000 / 192e3, abs=1e-8) and not bad
    clipped, bad = placed(project, np.clip(late, -0.8, 0.8))
    assert [b.reason.code for b in bad] == ["clipped"] and np.isnan(clipped.values).all()
    holed, bad = placed(project, np.where((np.arange(len(late)) // 300) == 20, 0.0, late))
    assert [b.reason.code for b in bad] == ["dropout"] and np.isnan(holed.values).all()
    assert "it stands still from 0.03125 s to 0.03281 s of the record" in bad[0].reason.text
    slow, bad = placed(project, late, is_triggered=True, step=1 / 96e3)
    assert [b.reason.code for b in bad] == ["rate"] and np.isnan(slow.values).all()
    for values, why in (
        (noise.normal(0, 1, 9000), "the likeness is"),
        (np.concatenate([samples, np.zeros(500), samples]), "two places are as like"),
        (np.zeros(9000), "the likeness is 0%"),
    ):
        with pytest.raises(InstrumentError, match=re.escape(why)):
            placed(project, values)
