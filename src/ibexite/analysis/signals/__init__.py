"""Waveforms: what is played, and what is computed from records.

Plain functions on arrays. A waveform is its samples, shape (n,), in any unit, and its rate in Hz (samples a second);
a time in it is counted in s from its first sample. Spectra and responses are two arrays of one shape: frequencies in
Hz, values. What cannot be computed is NaN or, where the question makes no sense, a ValueError that says why.
"""
