"""Functions of waveforms, and of the spectra and responses that are made of them: a row each."""

from __future__ import annotations

import ibexite.functions.rules as rules
from ibexite import units
from ibexite.errors import UnitError
from ibexite.functions.function import OVER_FREQUENCY, OVER_FREQUENCY_KEEP, PART, WAVE, WAVE_KEEP, Function
from ibexite.stimulus import DISTORTIONS, RESPONSES
from ibexite.units import Dimension


def _hertz(x: Dimension, axis: Dimension) -> Dimension:
    return units.HERTZ


def _seconds(x: Dimension, axis: Dimension) -> Dimension:
    return units.SECOND


def _decibel(x: Dimension, axis: Dimension) -> Dimension:
    return units.DECIBEL


def _linear(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind != "linear":
        raise UnitError(f"this is {units.describe(x)}, not a waveform of a linear unit")
    return x


def _density(x: Dimension, axis: Dimension) -> Dimension:
    return units.divide(units.power(_linear(x, axis), 2), units.HERTZ)


def _per_volt(x: Dimension, axis: Dimension) -> Dimension:
    return units.divide(_linear(x, axis), units.VOLT)


_T = Function
_TIME = (
    _T("peak", "waveforms", WAVE, "peak(x)", "largest size, whatever its sign", "let inrush = peak(trace)",
       "waves.peak", _linear),
    _T("crest", "waveforms", WAVE, "crest(x)", "peak over RMS value", "let factor = crest(wave)",
       "waves.crest", rules.plain),
    _T("frequency", "waveforms", WAVE, "frequency(x)", "mean frequency, of whole periods through the middle level",
       "let f_clock = frequency(wave)", "waves.frequency", _hertz),
    _T("period", "waveforms", WAVE, "period(x)", "mean period, of whole ones", "let t_clock = period(wave)",
       "waves.period", _seconds),
    _T("duty", "waveforms", WAVE, "duty(x)", "share of a period above the middle level",
       "let share = duty(wave) in %", "waves.duty", rules.plain),
    _T("rise_time", "waveforms", WAVE, "rise_time(x)", "time from 10 % to 90 % of the first rising edge",
       "let t_rise = rise_time(wave)", "waves.rise_time", _seconds),
    _T("fall_time", "waveforms", WAVE, "fall_time(x)", "time from 90 % to 10 % of the first falling edge",
       "let t_fall = fall_time(wave)", "waves.fall_time", _seconds),
    _T("overshoot", "waveforms", WAVE, "overshoot(x)", "how far the first edge goes beyond, of its height",
       "let over = overshoot(wave) in %", "waves.overshoot", rules.plain),
    _T("settling_time", "waveforms", WAVE, "settling_time(x, 2 %)",
       "time from the middle of the first edge until it stays within such a part of its height around its end",
       "let settled = settling_time(wave, 2 %)", "waves.settling_time", _seconds, ("x", "plain")),
    _T("jitter", "waveforms", WAVE, "jitter(x)",
       "RMS jitter of the rising edges: of the instants, against an even clock; with period that of the periods, with "
       "cycle from one to the next", "let shaking = jitter(wave, period)", "waves.jitter", _seconds,
       flags=("period", "cycle")),
    _T("glitches", "waveforms", WAVE, "glitches(x, 2 us).number",
       "pulses that are narrower than that; parts: number, first (when), narrowest",
       "let spikes = glitches(wave, 2 us).number", "waves.glitches", rules.plain, ("x", "time"),
       fields={"number": rules.plain, "first": _seconds, "narrowest": _seconds}),
    _T("delay", "waveforms", WAVE, "delay(x, earlier)", "by how much it comes later than another one, by correlation",
       "let late = delay(echo, pulse)", "waves.delay", _seconds, ("x", "waveform")),
    _T("envelope", "waveforms", WAVE_KEEP, "envelope(x)", "how strong a tone is at each instant",
       "let size = envelope(burst)", "waves.envelope", _linear),
    _T("cut", "waveforms", WAVE_KEEP, "cut(x, 10 ms, 50 ms)",
       "what lies between two times; energy is integral(cut(v * i, t1, t2))", "let start = cut(trace, 0 s, 20 ms)",
       "waves.cut", rules.same, ("x", "time", "time")),
)  # fmt: skip
_SPECTRA = (
    _T("spectrum", "spectra", WAVE, "spectrum(x)",
       "RMS values of the tones over freq (window: hann; or flat_top, blackman_harris, rectangle)",
       "let lines = spectrum(wave)", "waves.spectrum", _linear, flags=("flat_top", "blackman_harris", "rectangle"),
       gives=("freq",)),
    _T("spectrogram", "spectra", WAVE, "spectrogram(x, 100 Hz)",
       "the same over time as well: piece after piece, each as long as its lines need",
       "let bands = spectrogram(wave, 100 Hz)",
       "waves.spectrogram", _linear, ("x", "frequency"), gives=("time", "freq")),
    _T("density", "spectra", WAVE, "density(x, 10 Hz)",
       "power in a hertz over freq, lines so far apart, averaged over half-overlapping pieces",
       "let noise = density(wave, 10 Hz)", "waves.density", _density, ("x", "frequency"), gives=("freq",)),
    _T("zoom", "spectra", WAVE, "zoom(x, from, to, step)", "RMS values over freq in a band, on lines as close as one "
       "likes", "let close = zoom(wave, 49 Hz, 51 Hz, 10 mHz)", "waves.zoom", _linear,
       ("x", "frequency", "frequency", "frequency"), gives=("freq",)),
    _T("strongest", "spectra", WAVE, "strongest(x).frequency",
       "the strongest tone, found between the lines of the spectrum; parts: frequency, rms",
       "let f_tone = strongest(wave).frequency", "waves.strongest", _hertz,
       fields={"frequency": _hertz, "rms": _linear}),
    _T("band_rms", "spectra", WAVE, "band_rms(x, from, to)", "RMS value of what lies in a band",
       "let rumble = band_rms(wave, 10 Hz, 200 Hz)", "waves.band_rms", _linear, ("x", "frequency", "frequency")),
    _T("octaves", "spectra", WAVE, "octaves(x, 3, from, to)",
       "RMS values over freq in bands of such a part of an octave (IEC 61260-1)",
       "let thirds = octaves(wave, 3, 100 Hz, 10 kHz)", "waves.octaves", _linear,
       ("x", "plain", "frequency", "frequency"), gives=("freq",)),
)  # fmt: skip
_OF_PART = ("x", PART)
_TONES = (
    _T("thd", "tones", WAVE, "thd(x [, frequency]) · thd(x, part)",
       "total harmonic distortion: orders 2 to 10 over the fundamental, which is the strongest tone or the one near a "
       "frequency; of a stepped or chirp part over freq. Orders beyond half the rate are left out; a hole where all "
       "are",
       "check thd(wave, 1 kHz) <= 0.5 %", "waves.thd", rules.plain,
       ("x", "frequency?"), others=(
           _T("thd", "tones", WAVE, "thd(x, part)", "", "", "waves.thd_of_part", rules.plain, _OF_PART,
              gives=("freq",), part_kinds=DISTORTIONS),)),
    _T("thd_n", "tones", WAVE, "thd_n(x [, frequency])",
       "harmonics and noise: all but the fundamental over the whole; with a, c or bs468 weighted",
       "check thd_n(wave, 1 kHz) <= 1 %", "waves.thd_n", rules.plain, ("x", "frequency?"), ("a", "c", "bs468")),
    _T("sinad", "tones", WAVE, "sinad(x [, frequency])", "the fundamental over noise and distortion (IEEE 1241)",
       "let clean = sinad(wave)", "waves.sinad", _decibel, ("x", "frequency?")),
    _T("snr", "tones", WAVE, "snr(x [, frequency])", "the fundamental over what is left without harmonics",
       "let quiet = snr(wave)", "waves.snr", _decibel, ("x", "frequency?")),
    _T("sfdr", "tones", WAVE, "sfdr(x [, frequency])", "the fundamental over the largest other tone",
       "let spurs = sfdr(wave) in dBc", "waves.sfdr", _decibel, ("x", "frequency?")),
    _T("enob", "tones", WAVE, "enob(x, full_scale [, frequency])", "effective number of bits of what took it",
       "let bits = enob(wave, 5 V)", "waves.enob", rules.plain, ("x", "same", "frequency?")),
    _T("harmonics", "tones", WAVE, "harmonics(x, 5 [, frequency])",
       "RMS values of the fundamental and its harmonics up to an order, over order",
       "let orders = harmonics(wave, 5)", "waves.harmonics", _linear, ("x", "plain", "frequency?"), gives=("order",)),
    _T("modulation_distortion", "tones", WAVE, "modulation_distortion(x, low, high)",
       "sidebands of a high tone beside a strong low one, over the high tone; of second order, with third of third "
       "(IEC 60268-3)", "let mixed = modulation_distortion(wave, 60 Hz, 7 kHz) in %", "waves.modulation_distortion",
       rules.plain, ("x", "frequency", "frequency"), ("third",)),
    _T("difference_distortion", "tones", WAVE, "difference_distortion(x, low, high)",
       "products of two tones of one size over both; of second order, with third of third (IEC 60268-3)",
       "let mixed = difference_distortion(wave, 11 kHz, 12 kHz) in %", "waves.difference_distortion",
       rules.plain, ("x", "frequency", "frequency"), ("third",)),
    _T("noise", "tones", WAVE, "noise(x)", "RMS value without the mean; with a, c (IEC 61672-1) or bs468 weighted",
       "let hiss_a = noise(wave, a)", "waves.noise", _linear, flags=("a", "c", "bs468")),
    _T("hum", "tones", WAVE, "hum(x, 50 Hz)", "RMS value of a frequency and its harmonics up to the tenth",
       "let mains = hum(wave, 50 Hz)", "waves.hum", _linear, ("x", "frequency")),
    _T("dynamic_range", "tones", WAVE, "dynamic_range(x, full_scale [, frequency])",
       "a sine of full scale over what a faint tone leaves beside itself, A-weighted",
       "let range_a = dynamic_range(wave, 5 V, 997 Hz)", "waves.dynamic_range", _decibel, ("x", "same", "frequency?")),
)  # fmt: skip
_RESPONSES = (
    _T("response", "responses", WAVE, "response(x, part) · response(x, source, part)",
       "complex response over freq of what was recorded to what was played, or to another record of it; by stepped, "
       "chirp, noise or tones", "let resp = response(rec.mic, ping.chirp)", "waves.response", _per_volt, _OF_PART,
       complexity="makes_complex", gives=("freq",), part_kinds=RESPONSES, others=(
           _T("response", "responses", WAVE, "response(x, source, part)", "", "", "waves.response_between", _linear,
              ("x", "waveform", PART), complexity="makes_complex", gives=("freq",), per_second=True,
              part_kinds=RESPONSES),)),
    _T("coherence", "responses", WAVE, "coherence(x, source, part)",
       "how far two records of noise hang together over freq, 0 to 1",
       "let sure = coherence(rec.mic, rec.v, ping.noise)", "waves.coherence", rules.plain,
       ("x", "waveform", PART), gives=("freq",), part_kinds=("noise",)),
    _T("polarity", "responses", WAVE, "polarity(x, part)",
       "yes if the record has the sign of what was played, no if it is turned round; neither if that cannot be told",
       "check polarity(rec.mic, ping.stepped) is yes", "waves.polarity", rules.plain, _OF_PART, is_yes_no=True,
       part_kinds=RESPONSES),
    _T("impulse", "responses", OVER_FREQUENCY, "impulse(h)", "impulse response over time of an evenly spaced response",
       "let ir = impulse(resp)", "waves.impulse", rules.same, complexity="result_real", gives=("time",)),
    _T("gate", "responses", OVER_FREQUENCY_KEEP, "gate(h, from, to)",
       "the response of which only what comes between two times is left", "let direct = gate(resp, -1 ms, 4 ms)",
       "waves.gate", rules.same, ("x", "time", "time"), complexity="any"),
    _T("group_delay", "responses", OVER_FREQUENCY_KEEP, "group_delay(h)", "group delay over freq",
       "let late = group_delay(resp)", "waves.group_delay", _seconds, complexity="result_real"),
    _T("minimum_phase", "responses", OVER_FREQUENCY_KEEP, "minimum_phase(h)",
       "the response of that size with the least phase that it can have", "let least = minimum_phase(resp)",
       "waves.minimum_phase", rules.same, complexity="makes_complex"),
    _T("sensitivity", "responses", OVER_FREQUENCY, "sensitivity(h, 1 kHz)",
       "size of a response at a frequency, interpolated in dB over the logarithm of the frequency",
       "let s_mic = sensitivity(resp, 1 kHz) in mV/Pa", "waves.sensitivity", rules.same, ("x", "frequency"),
       complexity="result_real"),
)  # fmt: skip
_FAULTS = (
    _T("harmonic", "faults of products", WAVE, "harmonic(x, part, 3)",
       "one harmonic over the fundamental, over freq, of a stepped or chirp part",
       "let third = harmonic(rec.mic, ping.stepped, 3) in %", "waves.harmonic", rules.plain, ("x", PART, "plain"),
       gives=("freq",), part_kinds=DISTORTIONS),
    _T("high_order", "faults of products", WAVE, "high_order(x, part, 10, 30)",
       "harmonics from one order to another over the fundamental, over freq: what rubs and rattles. Orders beyond half "
       "the rate are left out; a hole where all are",
       "let rub = high_order(rec.mic, ping.stepped, 10, 30) in %", "waves.high_order", rules.plain,
       ("x", PART, "plain", "plain"), gives=("freq",), part_kinds=DISTORTIONS),
    _T("residual", "faults of products", WAVE, "residual(x, part).bursts",
       "what is left of stepped parts without tone and harmonics, over freq; parts: rms, crest, bursts (how many: "
       "loose parts, clicks), first (when)", "check residual(rec.mic, ping.stepped).bursts <= 0", "waves.residual",
       rules.plain, _OF_PART, gives=("freq",), part_kinds=("stepped",),
       fields={"rms": _linear, "crest": rules.plain, "bursts": rules.plain, "first": _seconds}),
    _T("burst_times", "faults of products", WAVE, "burst_times(x, part)",
       "when each of those bursts begins, over burst, from the begin of the stimulus; none where none is",
       "let clicks = burst_times(rec.mic, ping.stepped)", "waves.burst_times", _seconds, _OF_PART, gives=("burst",),
       part_kinds=("stepped",)),
    _T("residual_wave", "faults of products", WAVE_KEEP, "residual_wave(x, part)", "the same as a waveform",
       "let left = residual_wave(rec.mic, ping.stepped)", "waves.residual_wave", rules.same, _OF_PART,
       part_kinds=("stepped",)),
    _T("part_of", "waveforms", WAVE_KEEP, "part_of(x, part)", "the record while a part of a stimulus is played",
       "let quiet = part_of(rec.mic, ping.silence)", "waves.part_of", rules.same, _OF_PART),
    _T("level_of", "waveforms", WAVE, "level_of(x, part)",
       "level of the RMS value while a part is played: dBSPL of a pressure, dBV of a voltage",
       "check level_of(rec.mic, ping.silence) <= 60 dBSPL", "", rules.to_level, _OF_PART),
    _T("self_noise", "faults of products", WAVE, "self_noise(x, sensitivity)",
       "RMS value without the mean over a sensitivity: what it would take at the input; with a, c or bs468 weighted",
       "let own = self_noise(quiet, s_mic, a)", "waves.self_noise", _linear, ("x", "any"), ("a", "c", "bs468"),
       per_second=True),
)  # fmt: skip
ROWS = (*_TIME, *_SPECTRA, *_TONES, *_RESPONSES, *_FAULTS)
