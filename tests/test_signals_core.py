"""What is computed of waveforms, compared with closed forms, published tables, filters of others, and itself under changes
that must not matter."""

import math

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scipy import signal

from ibexite.analysis import waves
from ibexite.analysis.curve import SampledCurve, Sampling, no_point
from ibexite.analysis.signals import (
    bands,
    by_part,
    delays,
    edges,
    fast_fourier,
    noises,
    quality,
    sine_fit,
    spectra,
    stepped,
    stimuli,
    tones,
    transfer,
    weighting,
    whole,
    windows,
)  # fmt: skip
from ibexite.analysis.signals.records import Record
from ibexite.analysis.stacking import stacked
from ibexite.engine.formula import never_over
from ibexite.errors import SequenceError
from ibexite.stimulus import (
    Burst,
    Chirp,
    Gain,
    Level,
    Marker,
    Noise,
    Recorded,
    Silence,
    Stepped,
    Stimulus,
    Tones,
)  # fmt: skip

RATE = 192e3
NAN = math.nan
PARTS = (
    Marker("marker", False, 9e3, 64e3, 10e-3, Level(2.0)), Noise("warm", False, 4e3, 70e3, 0.1, Level(0.2)), Silence("quiet", False, 0.02),
    Stepped("stepped", True, tuple(np.geomspace(64e3, 28e3, 22)), 12, 4e-3, Level(2.0)),
    Stepped("stepped", True, tuple(np.geomspace(24e3, 9e3, 8)), 6, 4e-3, Level(2.0)), Silence("gap", False, 0.01),
    Chirp("chirp", True, 9e3, 64e3, 0.12, Level(1.0)), Silence("gap", False, 0.01),
    Noise("noise", True, 9e3, 64e3, 0.3, Level(0.5)), Silence("gap", False, 0.01),
    Tones("tones", True, (11e3, 17e3, 29e3), (1.0, 1.0, 1.0), 0.1, Level(0.5)),
    Burst("burst", True, 40e3, 8, 0.02, 3, Level(3.0, is_peak=True)), Silence("gap", False, 0.01))  # fmt: skip
PING = Stimulus("ping", "all parts", RATE, PARTS)
SAMPLES = stimuli.samples(PING)
FILTERS = {
    "band": signal.butter(2, [20e3, 50e3], "bandpass", fs=RATE), "low": signal.butter(3, 30e3, fs=RATE),
    "resonance": signal.iirpeak(40e3, 20, fs=RATE), "wire": ([1.0], [1.0]), "late": ([0.0] * 40 + [0.5], [1.0])}  # fmt: skip


def sine(frequency: float, amplitude: float = 1.0, phase: float = 0.0, *, rate: float = 48e3, seconds: float = 0.2):
    t = np.arange(round(rate * seconds)) / rate
    return amplitude * np.sin(2 * math.pi * frequency * t + phase)


def played(name: str) -> np.ndarray:
    placed = next(p for p in PING.placed if p.part.name == name)
    return SAMPLES[placed.begin : placed.begin + placed.count]


def record_through(name: str, *, noise: float = 0.0, start: float = -500 / RATE, sign: float = 1.0) -> Record:
    """What comes back through a filter, recorded from before the stimulus to behind it."""
    b, a = FILTERS[name]
    back = signal.lfilter(b, a, np.concatenate([np.zeros(500), SAMPLES, np.zeros(3000)]))
    return Record(sign * back + np.random.default_rng(7).normal(0, noise, len(back)) if noise else sign * back, RATE, start)


# --- stimuli


def test_parts_stand_one_behind_another_to_the_sample() -> None:
    begins = [(p.part.name, p.begin, p.count) for p in PING.placed[:4]]
    assert begins == [("marker", 0, 1920), ("warm", 1920, 19200), ("quiet", 21120, 3840), ("stepped", 24960, PING.placed[3].count)]
    assert PING.count == len(SAMPLES) == sum(p.count for p in PING.placed) and PING.seconds == PING.count / RATE


@pytest.mark.parametrize(("name", "rms", "peak"), [
    ("stepped", 2.0, 2 * math.sqrt(2)), ("chirp", None, math.sqrt(2)), ("burst", None, 3.0), ("quiet", 0.0, 0.0), ("marker", None, 2 * math.sqrt(2))])  # fmt: skip
def test_levels_are_rms_or_peak_as_they_say(name: str, rms: float | None, peak: float) -> None:
    assert np.abs(played(name)).max() == pytest.approx(peak, rel=3e-3)
    if rms is not None:
        assert np.sqrt(np.mean(played(name) ** 2)) == pytest.approx(rms, rel=1e-4)


def test_rms_of_noise_and_tones_holds_between_their_fades() -> None:
    for name, wanted in (("noise", 0.5), ("tones", 0.5), ("warm", 0.2)):
        wave = played(name)
        inner = wave[len(wave) // 40 : -len(wave) // 40]
        assert np.sqrt(np.mean(inner**2)) == pytest.approx(wanted, rel=0.02), name
    assert whole.crest(played("tones")) < 2.3  # three tones with one phase have 2.45


def test_each_step_has_whole_cycles_and_begins_at_its_zero() -> None:
    part = PARTS[4]
    begin = 0.0
    for at, frequency, cycles in part.steps:
        assert at == pytest.approx(begin) and cycles == max(6, math.ceil(4e-3 * frequency))
        begin += cycles / frequency
    wave, t = stimuli.of_part(PING.placed[4], RATE, {}), np.arange(PING.placed[4].count) / RATE
    at, frequency, cycles = part.steps[3]
    mine = (t >= at) & (t < at + cycles / frequency)
    assert wave[mine] == pytest.approx(2 * math.sqrt(2) * np.sin(2 * math.pi * frequency * (t[mine] - at)), abs=1e-9)


def test_nothing_clicks() -> None:
    """Between two samples nothing jumps further than the steepest tone does."""
    steepest = 2 * math.sqrt(2) * 2 * math.sin(math.pi * 64e3 / RATE)
    assert np.abs(np.diff(SAMPLES)).max() <= max(steepest, 6 * math.sin(math.pi * 40e3 / RATE)) * 1.001
    for placed in PING.placed:
        wave = SAMPLES[placed.begin : placed.begin + placed.count]
        assert abs(wave[0]) < 0.2 * max(np.abs(wave).max(), 1e-9) or placed.part.kind == "silence", placed.part.name


def test_a_chirp_passes_its_ends_where_its_fades_end() -> None:
    part, wave = PARTS[6], stimuli.of_part(PING.placed[6], RATE, {})
    phase = np.unwrap(np.angle(signal.hilbert(wave)))
    frequency = np.gradient(phase) * RATE / (2 * math.pi)
    for share, wanted in ((0.04, 9e3), (0.5, math.sqrt(9e3 * 64e3)), (0.96, 64e3)):
        assert frequency[round(share * len(wave))] == pytest.approx(wanted, rel=0.01)
    assert part.played_band == pytest.approx((8264.2, 69698.0), rel=1e-4)


def test_noise_is_flat_in_its_band_and_nothing_beside_and_always_the_same() -> None:
    found = spectra.power_density(played("noise"), RATE, resolution=200.0)
    inside = (found.frequencies > 9.6e3) & (found.frequencies < 63e3)
    assert found.values[inside].max() / found.values[inside].min() < 10 and found.values[inside].mean() * 55e3 == pytest.approx(0.25, rel=0.03)
    assert found.values[(found.frequencies > 1e3) & (found.frequencies < 8e3) | (found.frequencies > 66e3)].max() < 1e-6 * found.values[inside].mean()
    assert np.array_equal(SAMPLES, stimuli.samples(PING))


@pytest.mark.parametrize(("part", "why"), [
    (Noise("n", True, 4e3, 97e3, 0.1, Level(1)), "half the rate"), (Chirp("c", True, 9e3, 90e3, 0.1, Level(1)), "half the rate"),
    (Chirp("c", True, 9e3, 9e3, 0.1, Level(1)), "one frequency"), (Stepped("s", True, (1e3, 1e3), 6, 0.0, Level(1)), "twice"),
    (Stepped("s", True, (1e3, 2e3), 3, 0.0, Level(1)), "4 cycles"), (Tones("t", True, (1e3, 1.001e3), (1, 1), 0.1, Level(1)), "apart"),
    (Burst("b", True, 1e3, 30, 0.02, 3, Level(1)), "longer than the time"), (Burst("b", True, 1e3, 0, 0.02, 3, Level(1)), "no cycles"), (Silence("q", False, 1e-9), "shorter"),
    (Marker("m", False, 9e3, 10e3, 5e-3, Level(1)), "20 or more"), (Noise("n", True, 9e3, 4e3, 0.1, Level(1)), "two ends"),
    (Recorded("f", True, "a.wav", "", 1, 100, 48e3, None), "made for 48000 Hz")])  # fmt: skip
def test_what_cannot_be_played_says_why(part, why: str) -> None:
    assert why in part.trouble(RATE)
    with pytest.raises(ValueError, match=why):
        stimuli.samples(Stimulus("x", "", RATE, (part,)), {"a.wav": np.ones(100)})


def test_a_file_is_played_as_it_is_or_at_a_level() -> None:
    wave = np.sin(np.arange(1000) / 7) * 0.3
    for level, scale in ((None, 1.0), (Level(2.0), 2 / np.sqrt(np.mean(wave**2))), (Level(2.0, is_peak=True), 2 / np.abs(wave).max())):
        made = stimuli.samples(Stimulus("x", "", RATE, (Recorded("f", True, "a", "", 1, 1000, RATE, level),)), {"a": wave})
        assert made == pytest.approx(scale * wave)


def test_a_gain_shapes_each_tone_by_its_factor() -> None:
    gain = Gain("flat", (10e3, 20e3, 40e3), (1.0, 4.0, 2.0))
    shaped = Stimulus("x", "", RATE, (Tones("t", True, (10e3, 40e3), (1.0, 1.0), 0.1, Level(1.0)),), gain)
    fitted = sine_fit.fit(stimuli.samples(shaped)[4000:-4000], RATE, np.array([10e3, 40e3])).phasors
    plain = sine_fit.fit(stimuli.unshaped(shaped)[4000:-4000], RATE, np.array([10e3, 40e3])).phasors
    assert np.abs(fitted / plain) == pytest.approx([1.0, 2.0], rel=1e-3) and np.angle(fitted / plain) == pytest.approx([0, 0], abs=1e-3)


# --- spectra


@given(st.integers(8, 400), st.sampled_from(["rectangle", "hann"]), st.integers(0, 10**6))
def test_powers_of_a_spectrum_are_those_of_the_samples(count: int, shape: str, seed: int) -> None:
    """Parseval, for odd and even lengths."""
    y = np.random.default_rng(seed).normal(size=count)
    found = spectra.amplitude_spectrum(y, 1.0, shape=shape)
    used = windows.window(shape, count)
    weighted = y * used.values
    assert np.sum(found.values**2) == pytest.approx(np.mean(weighted**2) / used.gain**2)
    density = spectra.power_density(y, 100.0, shape=shape)
    assert density.values.sum() * density.frequencies[1] == pytest.approx(np.mean(((y - y.mean()) * used.values) ** 2) / np.mean(used.values**2))


def test_densities_are_those_of_another_implementation() -> None:
    y = np.random.default_rng(2).normal(size=20_000)
    f, wanted = signal.welch(y, 1e4, window="hann", nperseg=1000, noverlap=500, detrend="constant")
    found = spectra.power_density(y, 1e4, resolution=10.0)
    assert found.frequencies == pytest.approx(f) and found.values == pytest.approx(wanted)


@pytest.mark.parametrize(
    ("name", "bandwidth", "scallop"), [("rectangle", 1.0, 3.92), ("hann", 1.5, 1.42), ("blackman_harris", 2.0044, 0.83), ("flat_top", 3.8112, 0.0044)]
)
def test_windows_are_the_published_ones(name: str, bandwidth: float, scallop: float) -> None:
    """Noise bandwidth in lines, and the loss in dB of a tone between two lines (Harris 1978, table 1; Heinzel 2002)."""
    used = windows.window(name, 4096)
    half = abs(np.sum(used.values * np.exp(1j * np.pi * np.arange(4096) / 4096))) / 4096 / used.gain
    assert used.noise_bandwidth == pytest.approx(bandwidth, abs=1e-3) and -20 * math.log10(half) == pytest.approx(scallop, abs=0.01)


@given(st.floats(100, 20e3), st.floats(-3, 3), st.floats(1e-6, 1e3))
def test_the_peak_between_two_lines_is_found_at_any_level(frequency: float, phase: float, amplitude: float) -> None:
    found = spectra.peak(sine(frequency, amplitude, phase), 48e3)
    assert found.frequency == pytest.approx(frequency, abs=0.2) and found.rms == pytest.approx(amplitude / math.sqrt(2), rel=2e-3)


@given(st.integers(2, 60), st.floats(0, 0.4), st.floats(1e-3, 0.1), st.integers(1, 50), st.integers(0, 1000))
def test_a_zoom_is_the_sum_that_defines_it(count: int, first: float, step: float, lines: int, seed: int) -> None:
    y = np.random.default_rng(seed).normal(size=count)
    naive = [np.sum(y * np.exp(-2j * np.pi * (first + k * step) * np.arange(count))) for k in range(lines)]
    assert fast_fourier.zoomed(y, 1.0, first, step, lines) == pytest.approx(np.array(naive), abs=1e-9)


def test_a_zoom_shows_a_tone_between_the_lines_of_the_whole() -> None:
    found = spectra.zoom(sine(1234.56, 2.0), 48e3, 1200.0, 1270.0, 0.02)
    assert found.frequencies[np.argmax(found.values)] == pytest.approx(1234.56, abs=0.03) and found.values.max() == pytest.approx(math.sqrt(2), rel=1e-4)


# --- weightings and bands


# IEC 61672-1:2013, table 3: nominal frequency, A, C (dB); ITU-R BS.468-4, table 1 (dB).
IEC_61672 = [(10, -70.4, -14.3), (20, -50.5, -6.2), (31.5, -39.4, -3.0), (63, -26.2, -0.8), (125, -16.1, -0.2), (250, -8.6, 0.0), (500, -3.2, 0.0),
             (1000, 0.0, 0.0), (2000, 1.2, -0.2), (4000, 1.0, -0.8), (8000, -1.1, -3.0), (12500, -4.3, -6.2), (16000, -6.6, -8.5), (20000, -9.3, -11.2)]  # fmt: skip
BS_468 = [(31.5, -29.9), (63, -23.9), (100, -19.8), (200, -13.8), (400, -7.8), (800, -1.9), (1000, 0.0), (2000, 5.6), (3150, 9.0), (4000, 10.5), (5000, 11.7),
          (6300, 12.2), (7100, 12.0), (8000, 11.4), (9000, 10.1), (10000, 8.1), (12500, 0.0), (14000, -5.3), (16000, -11.7), (20000, -22.2), (31500, -42.7)]  # fmt: skip


def test_weightings_are_those_of_the_published_tables() -> None:
    nominal = np.array([row[0] for row in IEC_61672])
    exact = 1000 * 10 ** (np.round(10 * np.log10(nominal / 1000)) / 10)
    for name, column in (("a", 1), ("c", 2)):
        assert np.round(20 * np.log10(weighting.weight(exact, name)), 1) + 0.0 == pytest.approx([row[column] for row in IEC_61672], abs=0.051)
    f = np.array([row[0] for row in BS_468])
    assert 20 * np.log10(weighting.weight(f, "bs468")) == pytest.approx([row[1] for row in BS_468], abs=0.06)
    assert weighting.weight(np.array([0.0, 1e3]), "a").tolist() == [0.0, 1.0] and weighting.weight(f, "z").tolist() == [1.0] * len(f)


# IEC 61260-1:2014, Annex A: third-octave midbands around 1 kHz, exact to five digits, with their edges.
def test_bands_have_the_published_middles_and_edges() -> None:
    middles = bands.midbands(20.0, 23e3, 3)
    assert middles[:4] == pytest.approx([25.119, 31.623, 39.811, 50.119], rel=1e-4) and 1000.0 in middles.round(9)
    low, high = bands.edges(np.array([1000.0]), 3)
    assert (low[0], high[0]) == pytest.approx((891.25, 1122.0), rel=1e-4)
    assert bands.midbands(20.0, 23e3, 1) == pytest.approx([31.623, 63.096, 125.89, 251.19, 501.19, 1000.0, 1995.3, 3981.1, 7943.3, 15849], rel=1e-4)
    assert bands.midbands(500.0, 2500.0, 2) == pytest.approx(1000 * 10 ** (0.3 * np.array([-0.75, -0.25, 0.25, 0.75])), rel=1e-9)


@given(st.integers(0, 10**6), st.sampled_from([1, 3, 12]))
@settings(max_examples=30)
def test_the_powers_of_bands_add_up(seed: int, per_octave: int) -> None:
    y = np.random.default_rng(seed).normal(size=9600)
    middles, values = bands.band_values(y, 48e3, per_octave=per_octave, low=1000.0, high=20e3)
    low, high = bands.edges(middles, per_octave)
    found = spectra.amplitude_spectrum(y - y.mean(), 48e3, shape="rectangle")
    naive = [
        sum(v**2 * max(0.0, min(f + 2.5, b) - max(f - 2.5, a)) / 5 for f, v in zip(found.frequencies, found.values, strict=True))
        for a, b in ((low[0], high[-1]),)
    ]
    assert np.sum(values**2) == pytest.approx(naive[0])


def test_a_band_that_is_narrower_than_the_lines_has_no_value() -> None:
    _, values = bands.band_values(np.random.default_rng(1).normal(size=480), 48e3, per_octave=3, low=100.0, high=20e3)
    assert np.isnan(values[0]) and not np.isnan(values[-1])
    with pytest.raises(ValueError, match="no band"):
        bands.band_values(np.ones(100), 48e3, per_octave=1, low=900.0, high=1100.0)
    with pytest.raises(ValueError, match="half the rate"):
        bands.band_values(np.ones(100), 2e3, per_octave=3, low=800.0, high=1.3e3)


# --- tones


@given(st.floats(0, 6.28), st.floats(900, 1100), st.floats(1e-3, 1e3), st.floats(-2, 2))
@settings(max_examples=40)
def test_known_harmonics_are_found_at_any_phase_level_and_offset(phase: float, frequency: float, scale: float, offset: float) -> None:
    wave = sine(frequency, 1.0, phase) + sine(2 * frequency, 0.01, 1.0) + sine(3 * frequency, 0.02, 2.0) + sine(7 * frequency, 1e-5)
    found = tones.harmonics(scale * (wave + offset), 48e3)
    assert found[:3] * math.sqrt(2) / scale == pytest.approx([1.0, 0.01, 0.02], rel=1e-5) and found[6] * math.sqrt(2) / scale == pytest.approx(1e-5, rel=1e-2)
    assert tones.thd(scale * wave, 48e3) == pytest.approx(math.hypot(0.01, 0.02), rel=1e-4)
    assert tones.thd_n(scale * wave, 48e3) == pytest.approx(math.hypot(0.01, 0.02) / math.hypot(1, 0.01, 0.02), rel=1e-3)


def test_harmonics_at_minus_100_db_are_found_in_data_of_24_bits() -> None:
    wave = sine(1000.37) + sine(2000.74, 1e-5, 1.0) + sine(3001.11, 1e-5, 2.0)
    found = tones.harmonics(np.round(wave * 0.9 * 2**23) / 2**23, 48e3)
    assert 20 * np.log10(found[1:3] / found[0]) == pytest.approx([-100, -100], abs=0.01) and (20 * np.log10(found[3:] / found[0]) < -150).all()


@pytest.mark.parametrize("bits", [6, 8, 10, 12, 16])
def test_a_quantised_sine_has_the_published_sinad(bits: int) -> None:
    """6.02 N + 1.76 dB for a sine of full scale (IEEE Std 1241-2010, 9.1)."""
    wave = (np.floor(sine(997.123, 1 - 2.0**-bits, seconds=1.0) * 2 ** (bits - 1)) + 0.5) / 2 ** (bits - 1)
    assert tones.sinad(wave, 48e3) == pytest.approx(6.0206 * bits + 1.7609, abs=0.2) and tones.enob(wave, 48e3, 1.0) == pytest.approx(bits, abs=0.04)


def test_noise_spurs_hum_and_range_of_known_mixtures() -> None:
    noise = np.random.default_rng(3).normal(0, 1e-3, 48_000)
    wave = sine(1e3, seconds=1.0) + sine(2e3, 0.01, seconds=1.0) + noise
    assert tones.snr(wave, 48e3) == pytest.approx(20 * math.log10(1 / math.sqrt(2) / 1e-3), abs=0.1)
    assert tones.sfdr(wave, 48e3) == pytest.approx(40.0, abs=0.05)
    assert tones.hum(sine(50, 0.3, seconds=1.0) + sine(150, 0.4, seconds=1.0) + wave, 48e3, 50.0) == pytest.approx(0.5 / math.sqrt(2), rel=1e-2)
    faint = sine(997.0, 1e-3, seconds=1.0) + np.random.default_rng(4).normal(0, 1e-5, 48_000)
    plain, weighted = (tones.dynamic_range(faint, 48e3, 1.0, weighting=w) for w in ("z", "a"))
    assert plain == pytest.approx(20 * math.log10(1 / math.sqrt(2) / 1e-5), abs=0.1) and 1.5 < weighted - plain < 3.5  # white noise loses about 2 dB by A
    assert tones.noise_density(np.random.default_rng(5).normal(0, 1.0, 48_000), 48e3) == pytest.approx(1 / math.sqrt(24e3), rel=0.01)


def test_intermodulation_of_polynomials_is_that_of_the_textbook() -> None:
    low, high = sine(60.0, 0.8, seconds=1.0), sine(7e3, 0.2, seconds=1.0)
    both = low + high
    bent = both + 0.01 * both**2 + 0.02 * both**3
    a1, a2 = 0.8, 0.2  # products of (low + high)^2: a1 a2 on each sideband; of ^3: 3/4 a1^2 a2 on those of third order
    assert tones.modulation_distortion(bent, 48e3, 60.0, 7e3) == pytest.approx(2 * 0.01 * a1 * a2 / (a2 + 0.02 * (0.75 * a2**3 + 1.5 * a1**2 * a2)), rel=1e-4)
    assert tones.modulation_distortion(bent, 48e3, 60.0, 7e3, order=3) == pytest.approx(
        2 * 0.02 * 0.75 * a1**2 * a2 / (a2 + 0.02 * (0.75 * a2**3 + 1.5 * a1**2 * a2)), rel=1e-4
    )
    two = sine(5e3, seconds=1.0) + sine(6e3, seconds=1.0)
    assert tones.difference_distortion(two + 0.01 * two**3, 48e3, 5e3, 6e3, order=3) == pytest.approx(0.0075 / (1 + 0.0225), rel=1e-4)


@pytest.mark.parametrize(("call", "why"), [
    (lambda: tones.thd(np.zeros(4800), 48e3), "no tone"), (lambda: tones.thd(sine(1e3), 48e3, 5e3), "no tone near 5000 Hz"), (lambda: tones.thd(sine(15e3), 48e3), "second harmonic"),
    (lambda: tones.thd(sine(10.0, seconds=0.1), 48e3), "fewer than two cycles"), (lambda: tones.hum(sine(1e3, seconds=0.05), 48e3, 50.0), "four cycles"),
    (lambda: tones.modulation_distortion(sine(1e3), 48e3, 9e3, 8e3, order=3), "out of reach"), (lambda: spectra.peak(sine(1e3), 48e3, low=30e3), "no line"),
    (lambda: weighting.weight(np.ones(1), "q"), "no weighting"), (lambda: windows.window("square", 8), "no window"), (lambda: spectra.power_density(np.ones(9), 1.0, resolution=0.01), "too few")])  # fmt: skip
def test_what_makes_no_sense_says_why(call, why: str) -> None:
    with pytest.raises(ValueError, match=why):
        call()


# --- edges and delays


def test_edges_of_a_known_pulse() -> None:
    t = np.arange(20_000) / 1e6
    pulse = np.interp(t, [0, 1e-3, 1.1e-3, 5e-3, 5.2e-3, 10e-3], [0, 0, 2, 2, 0, 0], period=10e-3)
    assert edges.rise_time(pulse, 1e6) == pytest.approx(80e-6, rel=1e-3) and edges.fall_time(pulse, 1e6) == pytest.approx(160e-6, rel=1e-3)
    assert edges.rise_time(pulse, 1e6, low=0.2, high=0.8) == pytest.approx(60e-6, rel=1e-3)
    assert edges.period(pulse, 1e6) == pytest.approx(10e-3, rel=1e-6) and edges.duty(pulse, 1e6) == pytest.approx((5.1 - 1.05) / 10, rel=1e-3)
    assert edges.overshoot(pulse, 1e6) == 0.0 and edges.states(pulse) == pytest.approx((0, 2), abs=1e-9)


@pytest.mark.parametrize("damping", [0.2, 0.4, 0.6])
def test_a_second_order_step_overshoots_and_settles_as_its_formula_says(damping: float) -> None:
    t = np.arange(-500, 60_000) / 1e3
    w = math.sqrt(1 - damping**2)
    step = np.where(t < 0, 0, 1 - np.exp(-damping * t) * (np.cos(w * t) + damping / w * np.sin(w * t)))
    assert edges.overshoot(step, 1e3) == pytest.approx(math.exp(-math.pi * damping / w), rel=5e-3)
    outside = np.flatnonzero(np.abs(step - 1) > 0.02)[-1]
    middle = np.flatnonzero(step >= 0.5)[0]
    assert edges.settling_time(step, 1e3, 0.02) == pytest.approx((outside - middle) / 1e3, abs=5e-3)


@pytest.mark.parametrize("rms", [0.0, 2e-8, 1e-7])
def test_a_known_jitter_is_measured(rms: float) -> None:
    rng = np.random.default_rng(5)
    instants = 1e-5 * np.arange(400) + rng.normal(0, rms, 400) if rms else 1e-5 * np.arange(400)
    t = np.arange(int(4e-3 * 50e6)) / 50e6
    wave = np.clip((t[:, None] - instants[None, :]) / 1e-6 + 0.5, 0, 1).sum(axis=1) - np.clip((t[:, None] - instants[None, :] - 5e-6) / 1e-6 + 0.5, 0, 1).sum(
        axis=1
    )
    found = edges.jitter(wave, 50e6)
    assert found == pytest.approx(np.std(instants - 1e-5 * np.arange(400)), rel=0.03, abs=1e-12)
    assert edges.jitter(wave, 50e6, of="period") == pytest.approx(np.std(np.diff(instants)), rel=0.03, abs=1e-12)
    assert edges.jitter(wave, 50e6, of="cycle") == pytest.approx(np.sqrt(np.mean(np.diff(instants, 2) ** 2)), rel=0.03, abs=1e-12)


def test_narrow_pulses_are_found_and_holes_are_not_looked_over() -> None:
    wave = np.repeat([0.0, 1.0, 0.0, 1.0, 0.0, 1.0], [50, 50, 3, 50, 4, 50])
    assert edges.glitches(wave, 10.0, 1.0) == edges.Glitches(2, pytest.approx(9.95), pytest.approx(0.3))
    assert edges.glitches(wave, 10.0, 0.2).number == 0
    with pytest.raises(ValueError, match="holes"):
        edges.frequency(np.array([0.0, NAN, 1.0]), 1.0)
    with pytest.raises(ValueError, match="does not change"):
        edges.frequency(np.ones(10), 1.0)


@given(st.floats(-200, 200), st.sampled_from([1.0, -1.0]), st.floats(1e-3, 1e3))
@settings(max_examples=40)
def test_a_delay_is_found_to_a_fiftieth_of_a_sample(shift: float, sign: float, scale: float) -> None:
    rng = np.random.default_rng(1)
    spectrum = np.fft.rfft(rng.normal(size=4096)) * (np.fft.rfftfreq(4096) < 0.3)
    wave = np.fft.irfft(spectrum) * np.hanning(4096)
    late = np.fft.irfft(np.fft.rfft(wave, 8192) * np.exp(-2j * np.pi * np.fft.rfftfreq(8192) * (shift + 1000)), 8192)
    found = delays.delay(sign * scale * late + rng.normal(0, 1e-3 * scale, 8192), wave, 1.0) - 1000
    assert found == pytest.approx(shift, abs=0.02)


@pytest.mark.parametrize(("noise", "within"), [(0.0, 1e-6), (0.02, 0.005), (0.5, 0.02)])
def test_the_marker_is_found_between_samples_whatever_else_is_played(noise: float, within: float) -> None:
    size, shift = 1 << 17, 3171.37
    late = np.fft.irfft(np.fft.rfft(SAMPLES[:100_000], size) * np.exp(-2j * np.pi * np.fft.rfftfreq(size) * shift), size)
    found = delays.found_in(-late + np.random.default_rng(2).normal(0, noise, size), played("marker"), RATE)
    assert found.delay * RATE == pytest.approx(shift, abs=within) and found.likeness < -0.9 and found.rival < 0.4
    nothing = delays.found_in(np.random.default_rng(3).normal(size=size), played("marker"), RATE)
    assert abs(nothing.likeness) < 0.2


# --- responses


@pytest.mark.parametrize("name", FILTERS)
@pytest.mark.parametrize(("kind", "within"), [("stepped", 1e-9), ("chirp", 1e-3), ("tones", 1e-9), ("noise", 0.02)])
def test_a_known_filter_comes_back_from_each_kind_of_part(name: str, kind: str, within: float) -> None:
    found = by_part.response(record_through(name), PING.only(kind))
    _, wanted = signal.freqz(*FILTERS[name], found.frequencies, fs=RATE)
    worst = np.abs(found.values / wanted - 1).max() if name != "resonance" else np.abs(found.values - wanted).max()
    assert worst < (within if name != "resonance" or kind not in ("stepped",) else 0.02)


def test_stepped_sines_with_60_db_of_noise_are_within_a_hundredth_of_a_db() -> None:
    found = by_part.response(record_through("wire", noise=2e-3), PING.only("stepped"))
    assert np.abs(20 * np.log10(np.abs(found.values))).max() < 0.01 and np.degrees(np.abs(np.angle(found.values))).max() < 0.05


@pytest.mark.parametrize("kind", ["stepped", "chirp", "tones", "noise"])
def test_a_record_over_another_is_the_filter_between_them_at_any_level_and_time(kind: str) -> None:
    source, output = record_through("low"), record_through("low", sign=-3.0)
    found = by_part.response_between(output, source, PING.only(kind))
    assert np.abs(found.values + 3).max() < 1e-6
    late = Record(source.values, RATE, source.start + 1e-4)  # only where parts are told apart by their settled half
    if kind in ("stepped", "chirp"):
        moved = by_part.response(late, PING.only(kind)).values / by_part.response(source, PING.only(kind)).values
        f = by_part.response(source, PING.only(kind)).frequencies
        assert np.abs(moved * np.exp(2j * np.pi * f * 1e-4) - 1).max() < 0.06


@pytest.mark.parametrize("kind", ["stepped", "chirp", "tones", "noise"])
def test_a_record_may_have_another_rate_than_the_stimulus(kind: str) -> None:
    up = signal.resample(np.concatenate([SAMPLES, np.zeros(PING.count)]), 2 * PING.count * 5 // 4)
    found = by_part.response(Record(up, RATE * 5 / 4, 0.0), PING.only(kind))
    assert np.abs(found.values - 1).max() < (0.02 if kind != "tones" else 1e-3)


@pytest.mark.parametrize("kind", ["stepped", "chirp"])
def test_harmonics_of_a_polynomial_are_those_of_its_formula(kind: str) -> None:
    part = (
        Stepped("p", True, tuple(np.geomspace(5e3, 12e3, 9)), 12, 4e-3, Level(1.0, True))
        if kind == "stepped"
        else Chirp("p", True, 5e3, 12e3, 0.2, Level(1.0, True))
    )
    tested = Stimulus("x", "", RATE, (part, Silence("s", False, 0.01)))
    wave = stimuli.samples(tested)
    record = Record(wave + 0.05 * wave**2 + 0.03 * wave**3, RATE, 0.0)
    found = by_part.harmonics(record, tested, orders=4)
    inner = slice(2, -2)
    for order, wanted in ((1, 1 + 0.75 * 0.03), (2, 0.025), (3, 0.0075)):
        assert found.orders[inner, order - 1] == pytest.approx(np.full(len(found.orders[inner]), wanted), rel=4e-3)
    assert by_part.distortion(record, tested).values[inner] == pytest.approx(math.hypot(0.025, 0.0075) / 1.0225, rel=5e-3)
    assert by_part.one_order(record, tested, 3).values[inner] == pytest.approx(0.0075 / 1.0225, rel=3e-3)


def test_an_order_beyond_half_the_rate_is_a_hole() -> None:
    found = by_part.distortion(record_through("wire"), PING.only("stepped"))
    assert np.isnan(found.values[found.frequencies > 49e3]).all() and not np.isnan(found.values[found.frequencies < 40e3]).any()


@pytest.mark.parametrize("name", ["band", "low", "resonance", "wire"])
@pytest.mark.parametrize("sign", [1.0, -1.0])
@pytest.mark.parametrize("late", [0.0, 7e-6])
def test_polarity_is_told_through_filters_and_delays(name: str, sign: float, late: float) -> None:
    record = record_through(name, sign=sign, noise=1e-4)
    assert by_part.polarity(Record(record.values, RATE, record.start + late), PING.only("stepped")) == sign


def test_polarity_is_not_guessed() -> None:
    f = np.geomspace(5e3, 40e3, 50)
    assert math.isnan(transfer.polarity(f, np.exp(1j * np.random.default_rng(1).uniform(-3, 3, 50))))
    assert math.isnan(transfer.polarity(f, 1j * np.ones(50)))
    with pytest.raises(ValueError, match="two octaves"):
        transfer.polarity(np.geomspace(30e3, 40e3, 50), np.ones(50))


def test_coherence_falls_with_noise_and_is_one_without() -> None:
    clean, noisy = record_through("wire"), record_through("wire", noise=0.5)
    assert by_part.coherence(clean, clean, PING.only("noise")).values.min() > 0.999999
    assert 0.3 < np.median(by_part.coherence(noisy, clean, PING.only("noise")).values) < 0.9
    rng = np.random.default_rng(2)
    source = rng.normal(size=200_000)
    found = noises.estimates(source + rng.normal(size=200_000), source, 1.0, resolution=1e-3)
    assert np.mean(found.coherence) == pytest.approx(0.5, abs=0.02) and np.mean(np.abs(found.h2)) == pytest.approx(2.0, rel=0.05)


def test_a_gate_takes_an_echo_away_and_leaves_what_comes_first() -> None:
    f = np.arange(500, 3000) * 20.0
    direct = 1 / (1 + 1j * f / 30e3)
    echo = direct * (1 + 0.5 * np.exp(-2j * np.pi * f * 5e-3))
    found = transfer.gated(f, echo, -2e-3, 3e-3)
    assert np.abs(found / direct - 1)[200:-200].max() < 0.01 and np.abs(echo / direct - 1).max() > 0.45
    with pytest.raises(ValueError, match="evenly"):
        transfer.gated(np.geomspace(1e3, 2e3, 20), np.ones(20), -1e-3, 1e-3)
    with pytest.raises(ValueError, match="at most"):
        transfer.gated(f, echo, -0.1, 0.1)


def test_group_delay_and_minimum_phase_are_those_of_known_filters() -> None:
    f = np.geomspace(1e3, 60e3, 300)
    _, h = signal.freqz(*FILTERS["low"], f, fs=RATE)
    _, wanted = signal.group_delay(FILTERS["low"], f, fs=RATE)
    assert transfer.group_delay(f, h)[2:-2] == pytest.approx(wanted[2:-2] / RATE, rel=2e-2, abs=2e-8)
    analog = 1 / (1 + 1j * f / 5e3) ** 2
    assert np.degrees(np.abs(np.angle(transfer.minimum_phase(f, np.abs(analog)) / analog)))[40:-90].max() < 4


# --- faults and flaws


def test_a_loose_part_is_found_where_it_rattles_and_nothing_in_a_good_one() -> None:
    good = record_through("band", noise=1e-3)
    clean = by_part.residual(good, PING.only("stepped"))
    rattling = good.values.copy()
    placed = PING.placed[4]
    at, frequency, cycles = placed.part.steps[2]
    begin = round((placed.begin / RATE + at + 0.7 * cycles / frequency - good.start) * RATE)
    rattling[begin : begin + 12] += 0.3 * np.array([1, -1, 1, -1, 1, -1, 1, -1, 1, -1, 1, -1])
    found = by_part.residual(Record(rattling, RATE, good.start), PING.only("stepped"))
    assert clean.bursts.sum() == 0 and np.isnan(clean.first).all()
    assert found.bursts.sum() == found.bursts[22 + 2] == 1 and found.crest[24] > 1.4 * clean.crest[24]
    assert found.first[24] == pytest.approx(begin / RATE + good.start, abs=2e-4)
    again = rattling.copy()
    again[begin + 60 : begin + 72] += rattling[begin : begin + 12] - good.values[begin : begin + 12]  # within one step
    times = by_part.burst_times(Record(again, RATE, good.start), PING.only("stepped"))
    assert times == pytest.approx([begin / RATE + good.start, (begin + 60) / RATE + good.start], abs=2e-4)
    assert by_part.residual(Record(again, RATE, good.start), PING.only("stepped")).bursts.sum() == 2
    assert by_part.burst_times(good, PING.only("stepped")).size == 0
    wave = by_part.residual_wave(Record(rattling, RATE, good.start), PING.only("stepped"))
    assert abs(int(np.argmax(np.abs(wave))) - begin) < 14 and np.abs(wave).max() == pytest.approx(0.3, rel=0.2)


@pytest.mark.parametrize("level", [0.0, 1e-6, 1.0])
def test_a_record_in_which_nothing_is_heard_says_nothing_good(level: float) -> None:
    """No cable, or a dead microphone: no loose part is missed for it, no polarity is right by chance."""
    whole = record_through("band")
    deaf = Record(level * np.random.default_rng(3).normal(0, 1, len(whole.values)), RATE, whole.start)
    found = by_part.residual(deaf, PING.only("stepped"))
    assert np.isnan(found.bursts[found.bursts == 0]).all() and np.isnan(found.bursts).mean() > 0.9
    times = by_part.burst_times(deaf, PING.only("stepped"))
    assert np.isnan(times).sum() == np.isnan(found.bursts).sum() and (~np.isnan(times)).sum() == np.nansum(found.bursts)
    assert math.isnan(by_part.polarity(deaf, PING.only("stepped")))


@pytest.mark.parametrize(("name", "good"), [
    ("settling_time", (0.4,)), ("glitches", (1e-3,)), ("cut", (0.01, 0.02)), ("density", (200.0,)), ("zoom", (1e3, 2e3, 50.0)), ("band_rms", (1e3, 5e3)), ("octaves", (3.0, 1e3, 1e4)),
    ("thd", (3056.0,)), ("enob", (1.0,)), ("harmonics", (5.0, 3056.0)), ("modulation_distortion", (3056.0, 9167.0)), ("hum", (3056.0,)), ("dynamic_range", (1.0,)), ("self_noise", (1.0,))])  # fmt: skip
def test_a_bad_argument_gives_no_value(name: str, good: tuple) -> None:
    """Nothing is compared with what is not known: no glitch narrower than that, no hum at that frequency, would be found."""
    rng = np.random.default_rng(1)
    wave = SampledCurve(Sampling("time", 0.0, 1 / RATE), np.sign(np.sin(np.arange(9600) / 10)) + rng.normal(0, 1e-3, 9600))
    if name == "settling_time":
        wave = SampledCurve(wave.sampling, np.tanh((np.arange(9600) - 5000) / 20))
    field = {"field": "number"} if name == "glitches" else {}
    known = getattr(waves, name)(wave, "time", *good, **field)
    assert np.isfinite(known if isinstance(known, float) else known.values).any()
    for k in range(len(good)):
        for bad in (NAN, math.inf):
            try:
                found = getattr(waves, name)(wave, "time", *good[:k], bad, *good[k + 1 :], **field)
            except SequenceError as error:
                assert "has no value" in error.what
            else:
                assert isinstance(found, float) and math.isnan(found)


def test_what_no_record_can_show_is_refused() -> None:
    y = np.sign(np.sin(np.arange(9600) / 10))
    for width in (-1e-3, 0.0, 1 / RATE):
        with pytest.raises(ValueError, match="are not seen"):
            edges.glitches(y, RATE, width)
    with pytest.raises(ValueError, match="beyond half the rate"):
        tones.hum(y, RATE, RATE / 2)


def test_a_part_is_cut_out_of_a_record_and_a_short_record_is_refused() -> None:
    record = record_through("wire")
    assert by_part.only_part(record, PING.only("tones")).values == pytest.approx(played("tones"))
    with pytest.raises(ValueError, match="one behind another"):
        by_part.only_part(record, PING)
    for kind in ("stepped", "chirp", "tones", "noise"):
        with pytest.raises(ValueError, match="the record lasts"):
            by_part.response(Record(record.values[:40_000], RATE, 0.0), PING.only(kind))
    holed = record.values.copy()
    holed[30_000] = NAN
    with pytest.raises(ValueError, match="missing"):
        by_part.response(Record(holed, RATE, record.start), PING.only("stepped"))
    with pytest.raises(ValueError, match="several kinds"):
        by_part.response(record, PING)
    with pytest.raises(ValueError, match="no judged part"):
        by_part.response(record, PING.only("burst"))


@pytest.mark.parametrize(("spoil", "clipped", "first"), [
    (lambda y: y, 0, -1), (lambda y: np.clip(y, -0.8, 0.8), 3930, 8), (lambda y: np.clip(y, -2, 0.5), 3206, 5),
    (lambda y: np.where((np.arange(9600) > 3000) & (np.arange(9600) < 3200), 0.0, y), 0, -1), (lambda y: np.zeros(9600), 0, -1)])  # fmt: skip
def test_clipped_records_are_found(spoil, clipped: int, first: int) -> None:
    found = quality.clipped(spoil(sine(997.0) + np.random.default_rng(1).normal(0, 1e-4, 9600)))
    assert found.samples == pytest.approx(clipped, rel=0.02) and found.first == first


@pytest.mark.parametrize(
    ("made", "gaps"),
    [
        (lambda x, y: y, []),
        (lambda x, y: np.where((x > 3000) & (x < 3200), 0.0, y), [[3001, 3200]]),
        (lambda x, y: np.where((x > 3000) & (x < 3060), 0.0, y), []),
        (lambda x, y: np.where((x > 3000) & (x < 3200), y[3001], y), [[3001, 3200]]),
        (lambda x, y: np.where((x > 3000) & (x < 3200) | (x >= 9000) & (x < 9100), 0.5, y), [[3001, 3200], [9000, 9100]]),
        (lambda x, y: np.where((x >= 6000) & (x < 7000), 0.0, y), []),  # the rest of what is played
        (lambda x, y: np.where((x >= 6400) & (x < 7400), 0.0, y), []),
        (lambda x, y: np.where((x >= 6600) & (x < 7400), 0.0, y), []),  # the same, late
        (lambda x, y: np.where(x < 500, 0.0, y), []),
        (lambda x, y: np.where(x > 9500, 0.0, y), []),
        (lambda x, y: np.sign(y), []),
        (lambda x, y: np.round(y * 100) / 100, []),
    ],
)  # a switch, a coarse converter
def test_lost_samples_are_told_from_silence(made, gaps: list) -> None:
    x = np.arange(12000)
    played = np.where((x >= 6000) & (x < 7000), 0.0, np.sin(x / 40))
    y = made(x, np.sin((x - 100) / 40) + np.random.default_rng(2).normal(0, 1e-4, len(x)))
    assert quality.dropped(y, played).tolist() == gaps


def test_parts_of_a_whole_waveform() -> None:
    assert whole.peak(np.array([1.0, -3.0])) == 3.0 and whole.crest(sine(1e3)) == pytest.approx(math.sqrt(2), rel=1e-4)
    assert whole.area(np.linspace(0, 1, 101), 100.0) == pytest.approx(0.5)
    assert whole.between(np.arange(10.0), 10.0, 0.2, 0.5).tolist() == [2, 3, 4, 5]
    assert whole.envelope(sine(1e3, 2.0))[1000:-1000] == pytest.approx(2.0, rel=1e-2)
    with pytest.raises(ValueError, match="do not lie in it"):
        whole.between(np.arange(10.0), 10.0, 0.5, 1.5)
    assert stepped.bursts(np.zeros(100), 4, 0.1).size == 0


@given(begins=st.lists(st.floats(0, 1), min_size=2, max_size=4), lengths=st.lists(st.integers(400, 900), min_size=4, max_size=4), lost=st.integers(-1, 3))
@example(begins=[0.0, 1.2e-7], lengths=[400, 400, 400, 400], lost=-1)
@settings(max_examples=40)
def test_waveforms_of_turns_are_what_each_is_by_itself(begins: list[float], lengths: list[int], lost: int) -> None:
    """Whatever part of a sample each begins with, however long it is, and whether one of them was lost."""
    rate, turns = 48e3, {}
    for turn, (begin, length) in enumerate(zip(begins, lengths, strict=False)):
        t = begin / rate + np.arange(length) / rate
        y = np.full(length, math.nan) if turn == lost else (1 + turn) * np.sin(2 * math.pi * 1e3 * t) + 0.1 * t
        turns[(turn,)] = SampledCurve(Sampling("time", begin / rate, 1 / rate), y)
    whole = stacked({"turn": np.arange(float(len(turns)))}, ["time"], turns)
    for function in (waves.crest, waves.hum):
        more = [1e3] if function is waves.hum else []
        alone = [function(turn, "time", *more) for turn in turns.values()]
        assert function(whole, "time", *more).values == pytest.approx(alone, nan_ok=True, rel=1e-9)
    complete = stacked(
        {"turn": whole.axes["turn"]}, ["time"], {place: SampledCurve(turn.sampling, np.nan_to_num(turn.values, nan=1.0)) for place, turn in turns.items()}
    )
    for late, early in ((whole, whole), (complete, whole), (whole, complete)):
        assert [math.isnan(found) for found in waves.delay(late, "time", early).values] == [place == (lost,) for place in turns]
    for function, more in ((waves.envelope, []), (waves.cut, [2e-3, 6e-3])):
        made = function(whole, "time", *more)
        for place, turn in turns.items():
            if place[0] != lost:
                alone, row = function(turn, "time", *more), made.values[place]
                there = ~no_point(row)
                assert row[there] == pytest.approx(alone.values, rel=1e-9, abs=1e-9)
                assert made.axes["time"][there] == pytest.approx(alone.axes["time"], abs=1e-12)
            else:
                assert np.isnan(made.values[place]).all() and not no_point(made.values[place]).any()


@pytest.mark.parametrize("axes", [["time"], ["turn", "time"]])
def test_waveforms_that_were_never_measured_are_no_mistake_of_ours(axes: list[str]) -> None:
    for name, more in (("crest", []), ("envelope", []), ("cut", [0.0, 1e-3]), ("spectrum", []), ("hum", [50.0])):
        found = getattr(waves, name)(never_over(axes), "time", *more)
        assert np.isnan(np.asarray(getattr(found, "values", found))).all(), name
