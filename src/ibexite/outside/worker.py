"""The process in which the functions and measurements of one Python file run: `python -m ibexite.outside.worker FILE`.

Asked and answered in lines of JSON. What the file prints goes to standard error, so that it cannot be taken for an
answer. The other side is ibexite.outside.children.
"""

from __future__ import annotations

import importlib.util
import json
import math
import os
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any


class RemoteBench:
    """What a measurement in Python gets as its first argument. Values are in base SI units, levels in dBm, dBV or dB.

    Every setting is compared with the ceilings of the bench before it is sent, as in a sequence.
    """

    def __init__(self, ask: Callable[[dict[str, Any]], dict[str, Any]]) -> None:
        self._ask = ask

    def set(self, **settings: Any) -> None:
        """Sends settings: bench.set(source__frequency=1000.0, source__output=True). Two underscores stand for the
        dot."""
        self._ask({"set": {name.replace("__", "."): value for name, value in settings.items()}})

    def read(self, *names: str) -> Any:
        """Reads signals, or "role.reading"; one value for one name, else a list. A bad reading is NaN."""
        values = [math.nan if v is None else v for v in self._ask({"read": list(names)})["values"]]
        return values[0] if len(names) == 1 else values

    def do(self, action: str) -> None:
        """An action: bench.do("source.reset")."""
        self._ask({"do": action})

    def wait(self, seconds: float) -> None:
        """Waits, beginning when the settings before have been carried out."""
        self._ask({"wait": seconds})

    def note(self, text: str) -> None:
        """A note for the report."""
        self._ask({"note": text})


def main() -> None:
    """Loads the file and answers until its input ends."""
    out = os.fdopen(os.dup(1), "w", buffering=1)
    sys.stdout = sys.stderr

    def answer(message: dict[str, Any]) -> None:
        out.write(json.dumps(message, allow_nan=True) + "\n")
        out.flush()

    def ask(message: dict[str, Any]) -> dict[str, Any]:
        answer(message)
        line = sys.stdin.readline()
        if not line:
            sys.exit(0)
        reply: dict[str, Any] = json.loads(line)
        if "error" in reply:
            raise RuntimeError(reply["error"])
        return reply

    path = Path(sys.argv[1])
    sys.path.insert(0, str(path.parent))
    try:
        spec = importlib.util.spec_from_file_location(path.stem, path)
        assert spec and spec.loader
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
    except BaseException:
        answer({"error": _last_line()})
        return
    answer({"ready": True})
    for line in sys.stdin:
        request = json.loads(line)
        try:
            function = getattr(module, request["name"])
            if "inputs" in request:
                result = function(RemoteBench(ask), **request["inputs"])
            else:
                result = function(*request["arguments"])
            answer({"result": _as_data(result)})
        except Exception:
            answer({"error": _last_line()})


def _as_data(value: Any) -> Any:
    """NumPy values and tuples as plain ones."""
    if isinstance(value, dict):
        return {str(key): _as_data(entry) for key, entry in value.items()}
    if hasattr(value, "tolist"):
        return value.tolist()
    return [_as_data(entry) for entry in value] if isinstance(value, list | tuple) else value


def _last_line() -> str:
    """The error that is being handled, with its place in the file."""
    kind, error, trace = sys.exc_info()
    frames = traceback.extract_tb(trace)
    mine = [f for f in frames if f.filename == str(Path(sys.argv[1]))]
    place = f", line {mine[-1].lineno}" if mine else ""
    name = kind.__name__ if kind else "error"
    return f"{name}: {error}{place}"


if __name__ == "__main__":
    main()
