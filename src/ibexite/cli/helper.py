"""A helper process beside a run: loads the heavy libraries while the run goes on, then writes its report.

Asked and answered in lines of JSON on standard input and output. It ends when its input is closed.
"""

from __future__ import annotations

import gc
import json
import os
import select
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

from ibexite.errors import IbexiteError

_early: list[subprocess.Popen[str]] = []  # a process that was started before anybody asked for it


def start_early() -> None:
    """Starts the process now; the next ReportHelper takes it over. Unused, it ends with this program."""
    _early.append(_start())


def _start() -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "ibexite.cli.helper"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )


class ReportHelper:
    """The side of the run: starts the process, asks for reports, waits for the answers."""

    def __init__(self) -> None:
        self._waiting: list[Path] = []
        self._process = _early.pop() if _early else _start()

    def begin(self, records: Path, run: str, report: Path) -> None:
        """Asks for the report of a stored run."""
        assert self._process.stdin
        self._waiting.append(report)
        try:
            self._process.stdin.write(json.dumps({"records": str(records), "run": run, "report": str(report)}) + "\n")
            self._process.stdin.flush()
        except BrokenPipeError:
            pass  # told by `finish`

    @property
    def is_busy(self) -> bool:
        """True if an answer is to come."""
        return bool(self._waiting)

    def finish(self) -> dict[str, Any]:
        """Waits for the answer to the oldest request: report or error."""
        assert self._process.stdout
        report = self._waiting.pop(0)
        line = self._process.stdout.readline()
        if not line:
            return {"error": f"the report was not written: {report}\nThe run is stored; write it with: ibexite report"}
        answer: dict[str, Any] = json.loads(line)
        return answer

    def close(self) -> None:
        """Ends the process."""
        assert self._process.stdin and self._process.stdout
        self._process.stdin.close()
        self._process.kill()  # it may be loading still; what was answered is on disk
        self._process.wait()
        self._process.stdout.close()


def main() -> None:
    """The side of the helper."""
    for name in ("SIGINT", "SIGHUP"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    if hasattr(os, "nice"):
        os.nice(10)  # the run beside it must keep its rhythm
    gc.disable()  # short-lived, and the libraries make a lot that is never garbage
    from ibexite.records.lookup import Lookup
    from ibexite.reports.report import warm_up, write_report

    if not select.select([sys.stdin], [], [], 0)[0]:
        warm_up()
    for line in sys.stdin:
        request = json.loads(line)
        try:
            lookup = Lookup(Path(request["records"]))
            write_report(lookup.run(request["run"]), Path(request["report"]))
            lookup.close()
            answer = {"report": request["report"]}
        except IbexiteError as error:
            answer = {"error": str(error)}
        except Exception as error:  # told to the user by the side of the run, which is stored already
            answer = {"error": f"the report was not written: internal error {error!r}"}
        print(json.dumps(answer), flush=True)
    os._exit(0)  # all is written; taking down the libraries would only keep the run waiting


if __name__ == "__main__":
    main()
