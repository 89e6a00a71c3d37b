"""Ibexite: sequences for test benches, safe, exact and a pleasure to read."""

__version__ = "0.1.0"
