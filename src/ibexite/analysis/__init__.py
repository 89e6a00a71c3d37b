"""Computing on measured values: plain functions on NumPy arrays, and the labelled curve."""
