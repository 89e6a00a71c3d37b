"""Ibexite: sequences for test benches, safe, exact and a pleasure to read."""

from __future__ import annotations

from typing import Any

__version__ = "0.1.0"
__all__ = ["__version__", "function", "measurement"]


def __getattr__(name: str) -> Any:
    """The decorators for Python files, loaded when first used."""
    if name in ("function", "measurement"):
        from ibexite import offer

        return getattr(offer, name)
    raise AttributeError(f"module 'ibexite' has no attribute {name!r}")
