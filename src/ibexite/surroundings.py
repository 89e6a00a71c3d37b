"""The environment variables of this program, and those of the programs of others that it starts."""

from __future__ import annotations

import os

ONE_THREAD = "OPENBLAS_NUM_THREADS"
_ours: list[str] = []  # variables that were set here


def keep_to_one_thread() -> None:
    """Before NumPy is loaded: its linear algebra, which is not used here, would start a thread for each core, and each
    spins for a tenth of a second. Whoever has set the variable is obeyed."""
    if ONE_THREAD not in os.environ:
        os.environ[ONE_THREAD] = "1"
        _ours.append(ONE_THREAD)


def environment_for_others() -> dict[str, str]:
    """The variables as they were when this program was started."""
    return {name: value for name, value in os.environ.items() if name not in _ours}
