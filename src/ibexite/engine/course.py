"""What has become of a run so far: results of its tests, errors outside them, why it ends early."""

from __future__ import annotations

import traceback

from ibexite.engine.orders import Outcome
from ibexite.errors import IbexiteError
from ibexite.language.program import Program
from ibexite.verdicts import Reason


class Course:
    """Kept by the run, and by those who clean up after it. The first reason is the one that is told."""

    def __init__(self, program: Program) -> None:
        self._files = {source.name for source in program.sources}
        self.outcome = Outcome()
        self.is_broken = False  # something failed outside the tests
        self.is_aborted = False

    def abort(self, reason: str) -> None:
        """A person or a signal ends the run: that goes before whatever else is told."""
        self.is_aborted = True
        self.outcome.reason = Reason("stopped", reason)

    def note(self, reason: Reason) -> None:
        """Something failed outside the tests."""
        self.is_broken = True
        if not self.outcome.reason.text:
            self.outcome.reason = reason

    def note_error(self, error: IbexiteError, code: str = "") -> None:
        """An error outside the tests; `code` says what failed, if not the error itself."""
        self.note(Reason(code or error.code, in_one_line(error, error.where or self.line_of(error))))

    def reason_of(self, error: IbexiteError) -> Reason:
        """An error of a test as the reason of its verdict."""
        is_place = error.where and ":" in error.where
        return Reason(error.code, in_one_line(error, error.where if is_place else self.line_of(error) or error.where))

    def line_of(self, error: BaseException) -> str:
        """The line of the sequence that an error passed through; compiled code carries its line numbers."""
        frames = traceback.extract_tb(error.__traceback__)
        places = [(frame.filename, frame.lineno) for frame in frames if frame.filename in self._files]
        return f"{places[-1][0]}:{places[-1][1]}" if places else ""


def in_one_line(error: IbexiteError, where: str) -> str:
    """Where, what, and what to do."""
    text = f"{where}: {error.what}" if where else error.what
    return f"{text}. {error.remedy}" if error.remedy else text
