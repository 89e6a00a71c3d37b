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
import time
from pathlib import Path
from typing import IO

from ibexite.errors import IbexiteError
from ibexite.untyped import Fields

_early: list[subprocess.Popen[bytes] | None] = []  # a process that was started before anybody asked for it


def start_early() -> None:
    """Starts the process now; the next ReportHelper takes it over. Unused, it ends with this program."""
    _early.append(_start())


def _start() -> subprocess.Popen[bytes] | None:
    try:
        return subprocess.Popen(
            [sys.executable, "-m", "ibexite.station.report_helper"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            start_new_session=True,
        )
    except OSError:  # no memory, no process left: the run needs no report to be made
        return None


PATIENCE = 60.0  # s; how long a report may take


class ReportHelper:
    """The side of the run: starts the process, asks for reports, waits for the answers. Whatever becomes of it,
    nothing here fails: the run is stored, and its report can be written again."""

    def __init__(self) -> None:
        self._waiting: list[Path] = []
        self._process = _early.pop() if _early else _start()
        self._received = b""

    def begin(self, records: Path, run: str, report: Path) -> None:
        """Asks for the report of a stored run."""
        self._waiting.append(report)
        if self._process is None:
            return
        assert self._process.stdin
        request = {"records": str(records), "run": run, "report": str(report)}
        try:
            self._process.stdin.write(json.dumps(request).encode() + b"\n")
            self._process.stdin.flush()
        except OSError:
            pass  # told by `finish`

    @property
    def is_busy(self) -> bool:
        """True if an answer is to come."""
        return bool(self._waiting)

    def finish(self) -> Fields:
        """Waits for the answer to the oldest request: report or error."""
        report = self._waiting.pop(0)
        line = self._line(time.monotonic() + PATIENCE)
        try:
            answer: Fields = json.loads(line)
        except ValueError:
            answer = {
                "error": f"the report was not written: {report}\nThe run is stored; write it with: ibexite report"
            }
        return answer

    def _line(self, deadline: float) -> bytes:
        """The next line of the process; what there is of it when it has ended or the time is over."""
        if self._process is None:
            return b""
        assert self._process.stdout
        while b"\n" not in self._received:
            left = deadline - time.monotonic()
            if left <= 0 or not _can_be_read(self._process.stdout, left):
                break
            data = os.read(self._process.stdout.fileno(), 65536)
            if not data:
                break
            self._received += data
        line, _, self._received = self._received.partition(b"\n")
        return line

    def close(self) -> None:
        """Ends the process."""
        if self._process is None:
            return
        assert self._process.stdin and self._process.stdout
        for deed in (self._process.kill, self._process.wait, self._process.stdin.close, self._process.stdout.close):
            try:  # it may be loading still; what was answered is on disk
                deed()
            except OSError:
                pass


def _can_be_read(stream: IO[bytes], seconds: float) -> bool:
    if sys.platform == "win32":
        return True  # pipes cannot be waited for there
    return bool(select.select([stream], [], [], seconds)[0])


def main() -> None:
    """The side of the helper."""
    for name in ("SIGINT", "SIGHUP"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    if hasattr(os, "nice"):
        os.nice(10)  # the run beside it must keep its rhythm
    gc.disable()  # short-lived, and the libraries make a lot that is never garbage
    from ibexite.records.gateway import open_lookup
    from ibexite.reports.formats import write_report
    from ibexite.reports.html import warm_up

    if not select.select([sys.stdin], [], [], 0)[0]:
        warm_up()
    for line in sys.stdin:
        request = json.loads(line)
        try:
            lookup = open_lookup(Path(request["records"]))
            write_report(lookup.run(request["run"]), Path(request["report"]))
            lookup.close()
            answer = {"report": request["report"]}
        except IbexiteError as error:
            answer = {"error": str(error)}
        except Exception as error:  # told to the user by the side of the run, which is stored already
            answer = {"error": f"the report was not written: internal error {error!r}"}
        try:
            print(json.dumps(answer), flush=True)
        except OSError:  # the run has gone; what was asked for is written
            break
    os._exit(0)  # all is written; taking down the libraries would only keep the run waiting


if __name__ == "__main__":
    main()
