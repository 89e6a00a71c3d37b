"""The view of a run: one line a test as it ends, one progress line in a sweep, one clear verdict at the end.

A reader of events. In a terminal it uses colour and one line that is written over; elsewhere plain lines, no control
codes. Colour never carries meaning alone.
"""

from __future__ import annotations

import re
import shutil
import sys
import textwrap
import time
from collections.abc import Callable
from typing import Any, TextIO

import click

from ibexite import events
from ibexite.holes import Bad
from ibexite.records.stored_run import verdict_text
from ibexite.verdicts import BAD_READINGS, Verdict, told
from ibexite.wording import JudgedText, column_text, duration_text, judged_text, place_text, worst_first

COLOURS = {
    Verdict.PASS: "green",
    Verdict.FAIL: "red",
    Verdict.ERROR: "yellow",
    Verdict.ABORTED: "yellow",
    Verdict.SKIPPED: "cyan",
    Verdict.NO_CHECK: "cyan",
}
_PROGRESS_INTERVAL = 0.1  # s
MOST_DIFFERENCES = 20
MOST_KINDS = 3  # of bad readings that are told of a test; all are in the records
_AT_ONCE = (events.MadeSafe, events.RunEnded, events.TestEnded)  # seen as soon as they are true


def verdict_word(verdict: str, text: str = "", width: int = 0) -> str:
    """A verdict with its colour."""
    return click.style((text or verdict).ljust(width), fg=COLOURS.get(Verdict(verdict)), bold=True)


def between_words(text: str, width: int) -> str:
    """A line that is too long for a terminal, broken between words; what follows stands below its last column in the
    left half."""
    plain = click.unstyle(text)
    if len(plain) <= width:
        return text
    indent = max((gap.end() for gap in re.finditer(" {2,}", plain) if gap.end() <= width // 2), default=0)
    tail = plain[indent:]
    if not text.endswith(tail):  # there are colours in it
        return text
    lines = textwrap.wrap(tail, width - indent, break_long_words=False, break_on_hyphens=False)
    return text.removesuffix(tail) + ("\n" + " " * indent).join(lines)


def _short(text: str, most: int) -> str:
    """A text of at most so many characters: one that is not much wider than its column."""
    return text if len(text) <= most else text[: most - 2].rstrip(" ,;") + " …"


class RunView:
    """Shows a run on a stream."""

    def __init__(self, stream: TextIO | None = None) -> None:
        self._stream = stream or sys.stdout
        self._is_terminal = self._stream.isatty()
        self._handlers: dict[type, Callable[[Any], None] | None] = {}  # of each kind of event that came by
        self._results: list[events.Judged] = []
        self._tables: dict[int, events.TableStarted] = {}
        self._rows = self._rows_to_come = 0
        self._sweep_began = 0.0
        self._drawn_at = 0.0
        self._has_progress = False
        self._width = 8
        self._trial: list[str] = []
        self._bad: dict[str, tuple[int, str]] = {}  # of the running test: how often what was bad, and first in full
        self._notes: list[str] = []  # of the test that is running: they stand below its line
        self._is_in_test = False
        self._start: events.RunStarted | None = None

    def __call__(self, emitted: events.Emitted) -> None:
        """Shows an event, if it is one that is shown."""
        event = emitted.event
        kind = type(event)
        if kind not in self._handlers:
            self._handlers[kind] = getattr(self, "_" + kind.__name__.lower(), None)
        handler = self._handlers[kind]
        if handler is not None:
            handler(event)
        if kind in _AT_ONCE:
            self._stream.flush()

    def line(self, text: str = "") -> None:
        """Writes a line, in place of the progress line if there is one."""
        self._clear()
        if self._is_terminal:
            text = between_words(text, shutil.get_terminal_size().columns)
        click.echo(text, file=self._stream)

    # --- progress ----------------------------------------------------------------------------------------------------

    def _clear(self) -> None:
        if self._has_progress:
            self._stream.write("\r\x1b[K")
            self._has_progress = False

    def _draw(self, text: str) -> None:
        if self._is_terminal:
            width = shutil.get_terminal_size().columns
            self._stream.write("\r\x1b[K" + text[: width - 1])
            self._stream.flush()
            self._has_progress = True

    def _teststarted(self, event: events.TestStarted) -> None:
        self._results, self._bad, self._notes, self._is_in_test = [], {}, [], True
        self._draw(f"  {'…':<8} {event.test:<{self._width}}  {event.title}")

    def _tablestarted(self, event: events.TableStarted) -> None:
        self._tables[event.table] = event

    def _sweepstarted(self, event: events.SweepStarted) -> None:
        self._rows, self._rows_to_come = 0, event.rows
        self._sweep_began = time.monotonic()

    def _row(self, event: events.Row) -> None:
        self._rows += 1
        self._note_bad(event.bad)
        if not self._is_terminal:
            return
        now = time.monotonic()
        if now - self._drawn_at < _PROGRESS_INTERVAL:
            return
        self._drawn_at = now
        table = self._tables[event.table]
        at = "  ".join(
            f"{axis['name']} = {column_text(x, axis, 4)}" for axis, x in zip(table.axes, event.x, strict=True)
        )
        done = f"{self._rows}"
        if self._rows_to_come:
            left = (now - self._sweep_began) / self._rows * (self._rows_to_come - self._rows)
            done = f"{self._rows} of {self._rows_to_come}, {duration_text(left)} left"
        self._draw(f"  {'…':<8} {table.test:<{self._width}}  {done}   {at}")

    # --- lines -------------------------------------------------------------------------------------------------------

    def _runstarted(self, event: events.RunStarted) -> None:
        self._start = event
        self._width = max([8, *(len(test["test"]) for test in event.tests)])
        sequence = event.sequence
        revision = f", revision {sequence['revision']}" if sequence["revision"] else ""
        self.line(f"{sequence['title']}{revision}")
        bench = ", ".join(part for part in (event.bench["name"], event.bench.get("position", "")) if part)
        self.line(f"unit {event.serial}   bench {bench}   run {event.run}")

    def _benchconnected(self, event: events.BenchConnected) -> None:
        every = all(i["simulated"] for i in event.instruments)
        named = ", ".join(
            i["name"] + (" (simulated)" if i["simulated"] and not every else "") for i in event.instruments
        )
        self.line(f"instruments{', all simulated' if every else ''}: {named}\n")

    def _shown(self, event: events.Shown) -> None:
        if event.how == "note":
            self._shown_note(event)
            return
        self.line(f"         {event.text}")

    def _value(self, event: events.Value) -> None:
        self._note_bad(event.bad)

    def _note_bad(self, bad: list[Bad]) -> None:
        for name, reason, _ in bad:
            kind = f"{name} {BAD_READINGS.get(reason.code, reason.text)}"
            count, first = self._bad.get(kind, (0, f"{name} {reason.text}"))
            self._bad[kind] = (count + 1, first)

    def _judged(self, event: events.Judged) -> None:
        self._results.append(event)

    def _problem(self, event: events.Problem) -> None:
        self._below(click.style(f"         {event.text}", fg="yellow"))

    def _halted(self, event: events.Halted) -> None:
        where = f"line {event.line}" if event.line else "the end of these lines"
        self._below(click.style(f"         halted at {where}: {event.answer}", dim=True))

    def _below(self, text: str) -> None:
        """A line that belongs to the test that is running: it stands below the line of that test."""
        if self._is_in_test:
            self._notes.append(text)
        else:
            self.line(text)

    def _testended(self, event: events.TestEnded) -> None:
        mine = [result for result in self._results if result.test == event.test]
        notes, bad, self._is_in_test = self._notes, self._bad, False
        self._results, self._notes, self._bad = [], [], {}
        head = f"  {verdict_word(event.verdict, width=8)} {event.test:<{self._width}}"
        worst = worst_first([result.row() for result in mine])
        reason = event.reason.text
        if event.run:
            self.line(f"{head}  {f'from run {event.run}' + (f': {reason}' if reason else '')}")
        elif not worst:
            self.line(
                f"{head}  {reason or ('nothing to judge' if event.verdict == Verdict.NO_CHECK else event.verdict)}"
            )
        else:
            self._line_of_test(event, head, worst)
        for note in notes:
            self.line(note)
        if bad:
            kinds = [first if count == 1 else f"{kind}, {count} times" for kind, (count, first) in bad.items()]
            more = f"; and {len(kinds) - MOST_KINDS} more kinds" if len(kinds) > MOST_KINDS else ""
            total = sum(count for count, _ in bad.values())
            self.line(f"         bad readings, left out: {total} ({'; '.join(kinds[:MOST_KINDS])}{more})")

    def _line_of_test(self, event: events.TestEnded, head: str, worst: list[dict[str, object]]) -> None:
        """The worst value of a test with its limits and margin, then whatever did not pass."""
        shown, width = worst[0], self._label()
        text = judged_text(shown)
        value, limits = _short(text.value_with_unit or "-", 20), _short(text.limits, 32)
        self.line(
            f"{head}  {str(shown['label'])[:width]:<{width}} {value:>13}   {limits:<22}"
            f" {self._margin(text)} {duration_text(event.duration):>11}"
        )
        for result in worst:
            if result["verdict"] != Verdict.PASS:
                self._tell_failure(result)
        if event.reason.text and not any(result["reason"] == event.reason.text for result in worst):
            self.line(f"         {event.reason.text}")

    def _shown_note(self, event: events.Shown) -> None:
        self._below(click.style(f"         note: {event.text}", dim=True))

    def _loopleft(self, event: events.LoopLeft) -> None:
        self._below(f"         loop {event.name} was left: {event.why}")

    def _label(self) -> int:
        """The width of a label: what the line leaves of the terminal, within reason."""
        if not self._is_terminal:
            return 30
        return min(30, max(12, shutil.get_terminal_size().columns - self._width - 88))

    def _margin(self, text: JudgedText) -> str:
        """The margin in the unit of the value and, where there is room for it, in per cent of the tolerance."""
        margin = f"margin {text.margin_with_unit}" if text.margin else ""
        if self._is_terminal and shutil.get_terminal_size().columns < self._width + 144:
            return f"{margin:<19}"
        return f"{margin} ({text.percent})".ljust(42) if margin and text.percent else f"{margin:<42}"

    def _tell_failure(self, result: dict[str, object]) -> None:
        at = place_text(result["at"], result["axes"])  # type: ignore[arg-type]
        parts = [
            f"{result['label']} {result['verdict']}:",
            str(result["reason"]) or judged_text(result).value_with_unit,
        ]
        if not result["reason"]:
            parts.append(f"against {judged_text(result).limits}")
            if at:
                parts.append(f"at {at}")
            if result["judged"] != 1:
                parts.append(f"({result['failed']} of {result['judged']} points)")
            parts += [f"with {result['moved']}"] if result["moved"] else []
        self.line("         " + " ".join(parts))
        differences: list[tuple[str, str]] = list(result["differences"])  # type: ignore[call-overload]
        for kind, text in differences[:MOST_DIFFERENCES]:
            self.line(f"             {kind:<13} {text}")
        if len(differences) > MOST_DIFFERENCES:
            self.line(f"             and {len(differences) - MOST_DIFFERENCES} more")

    def _madesafe(self, event: events.MadeSafe) -> None:
        off = [role["role"] for role in event.roles if not role["problem"]]
        self.line()
        if off:
            self.line(f"outputs off: {', '.join(off)}")
        for role in event.roles:
            if role["problem"]:
                self.line(
                    click.style(
                        f"NOT OFF: {role['role']}: {role['problem']}. Switch it off by hand.", fg="red", bold=True
                    )
                )
        if not event.roles:
            self.line("nothing had been switched on")

    def _runended(self, event: events.RunEnded) -> None:
        start = self._start
        word = verdict_word(event.verdict, verdict_text(event.verdict, bool(event.trial)))
        serial = start.serial if start else ""
        if event.verdict == Verdict.NO_CHECK:  # one measurement at the desk; what it gave is shown by its command
            return
        self.line(f"{word}   {serial}   {event.passed} of {event.tests} tests passed   {duration_text(event.t)}")
        if event.reason.text:
            self.line(f"  {event.reason.text}")
        if start is not None and start.first_verdict:
            self.line(f"  first pass: {start.first_verdict} (run {start.first_run})")
        if event.trial:
            self.line(f"  a trial, because: {'; '.join(told(event.trial))}")
