"""A helper process beside a run: loads the heavy libraries while the run goes on, then stores it and writes its report.

Asked and answered in lines of JSON on standard input and output. It ends when its input is closed.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

from ibexite.errors import IbexiteError


class Helper:
    """The side of the run: starts the process, hands over the journal, waits for the answer."""

    def __init__(self, records: Path, *, with_report: bool) -> None:
        self._records, self._with_report = records, with_report
        arguments = [sys.executable, "-m", "ibexite.cli.helper", str(records), "report" if with_report else "store"]
        self._process = subprocess.Popen(
            arguments, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, start_new_session=True
        )

    def store(self, journal: Path, report: Path | None) -> dict[str, Any]:
        """Stores the run and writes its report; the answer has run, found, report or error."""
        assert self._process.stdin and self._process.stdout
        request = {"journal": str(journal), "report": str(report) if report else None}
        try:
            self._process.stdin.write(json.dumps(request) + "\n")
            self._process.stdin.flush()
            line = self._process.stdout.readline()
        except BrokenPipeError:
            line = ""
        if not line:
            return {"error": f"the helper process ended; the journal is kept: {journal}"}
        answer: dict[str, Any] = json.loads(line)
        return answer

    def close(self) -> None:
        """Ends the process."""
        assert self._process.stdin and self._process.stdout
        self._process.stdin.close()
        self._process.wait()
        self._process.stdout.close()


def main() -> None:
    """The side of the helper."""
    for name in ("SIGINT", "SIGHUP"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    if hasattr(os, "nice"):
        os.nice(10)  # the run beside it must keep its rhythm
    records, what = Path(sys.argv[1]), sys.argv[2]
    from ibexite.records.store import Store

    if what == "report":
        from ibexite.reports import report  # noqa: F401  (loaded now, while the run goes on)
    for line in sys.stdin:
        try:
            answer = _answer(json.loads(line), Store(records))
        except IbexiteError as error:
            answer = {"error": str(error)}
        except Exception as error:  # told to the user by the side of the run; the journal is kept
            answer = {"error": f"internal error while storing: {error!r}"}
        print(json.dumps(answer), flush=True)


def _answer(request: dict[str, Any], store: Any) -> dict[str, Any]:
    run = store.take_in(Path(request["journal"]))
    found = store.take_in_left_over()
    store.close()
    answer = {"run": run, "found": found, "report": request["report"]}
    if request["report"]:
        from ibexite.records.lookup import Lookup
        from ibexite.reports.report import write_report

        lookup = Lookup(store.records)
        write_report(lookup.run(run), Path(request["report"]))
        lookup.close()
    return answer


if __name__ == "__main__":
    main()
