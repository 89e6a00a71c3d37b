"""The errors a user may see, in one tree. Each carries what, where and what to do; the text is made in one place.

IbexiteError            base: something a message explains (exit code 2 unless the class says otherwise)
+- MistakeError         a file or an option is wrong: the user mends it
|  +- Mistakes          several of them
|  +- UnitError         quantities that do not go together
+- BenchError           an instrument or the bench did not do what was asked (exit code 3)
|  +- LinkError         the connection: nothing listens, silent, cut off
|  +- InstrumentError   the instrument answered, but wrongly, or reported an error
|  +- CeilingError      a set point beyond a ceiling or range; nothing was sent
|  +- RouteError        a route that may not be switched now; nothing was
+- DamageError          a signal beyond its damage level: the sources were switched off (exit code 3)
+- ProgramError         a program or Python function that was called failed, hung, or gave something else (exit code 3)
+- SequenceError        a line of the sequence could not be carried out (undecidable check, nothing judged)
|  +- NoAnswerError     a question has nobody to answer it: it ends the run
+- RecordsError         journal or store cannot be written or read (exit code 3)
NeverSaid (BaseException) a replay asks what was never asked in the run; it ends there
StopRun (BaseException) a person or signal ended the run (exit code 4); no `except Exception` eats it
"""

from __future__ import annotations

EXIT_PASS, EXIT_FAIL, EXIT_MISTAKE, EXIT_BENCH, EXIT_ABORTED, EXIT_TRIAL = range(6)


class IbexiteError(Exception):
    """Something went wrong that one clear message explains."""

    exit_code = EXIT_MISTAKE
    code = "internal"  # of the reason that it becomes in a run, see ibexite.verdicts.FAULTS

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head}\n{self.remedy}" if self.remedy else head


class MistakeError(IbexiteError):
    """A file or an option is wrong; the user can mend it."""

    code = "mistake"


class Mistakes(MistakeError):
    """Several mistakes, told one below the other; `each` holds them by themselves."""

    def __init__(self, each: list[MistakeError]) -> None:
        first, *more = each
        told = "\n".join([first.remedy, *(str(error) for error in more)]).strip()
        super().__init__(first.what, where=first.where, remedy=told)
        self.each = each


class UnitError(MistakeError):
    """Quantities that do not go together, or a unit that does not exist."""


class BenchError(IbexiteError):
    """The bench did not do what was asked."""

    exit_code = EXIT_BENCH
    code = "bench"


class LinkError(BenchError):
    """The connection to an instrument failed: refused, silent, cut off."""

    code = "link"


class InstrumentError(BenchError):
    """The instrument answered, but not as its profile says, or it reported an error."""

    code = "instrument"


class CeilingError(BenchError):
    """A set point beyond what the role may ever apply, or beyond its range. Nothing was sent."""

    code = "ceiling"


class RouteError(BenchError):
    """A route that may not be switched now: beside another one, or under power. Nothing was switched."""

    code = "route"


class TooLongError(BenchError):
    """A setting stayed beyond a level longer than the bench allows: everything was switched off."""

    code = "too_long"


class DamageError(IbexiteError):
    """A signal is beyond the level at which something is damaged: the sources were switched off, the unit is over."""

    exit_code = EXIT_BENCH
    code = "damage"


class ProgramError(IbexiteError):
    """A program or a Python function from outside failed, hung, flooded its output, or gave something else."""

    exit_code = EXIT_BENCH
    code = "program"


class SequenceError(IbexiteError):
    """A line of the sequence could not be carried out."""

    exit_code = EXIT_BENCH
    code = "line"


class NoAnswerError(SequenceError):
    """A question to the operator, and nobody is there: it ends the tests of this unit at once."""

    code = "answer"


class RecordsError(IbexiteError):
    """Journal or store cannot be written or read."""

    exit_code = EXIT_BENCH
    code = "records"


class StopRun(BaseException):
    """A person or a signal ended the run. Derives from BaseException so that no `except Exception` eats it."""

    exit_code = EXIT_ABORTED

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason


class NeverSaid(BaseException):
    """A replayed run says to an instrument, a program or the operator what was not said then, in the state that the
    bench was in. It is no error of the bench, and nothing may go on behind it: there are no values."""

    def __init__(self, name: str, text: str, then: str) -> None:
        """`text` is what was said to `name`, `then` what the record has in its place."""
        super().__init__(f"{name} is told {in_lines(text)}, which was never said here: the record has {then}")
        self.name, self.text, self.then = name, text, then


def in_lines(text: str) -> str:
    """Messages in words.

    >>> in_lines("VOLT 8\\nOUTP ON")
    "'VOLT 8' then 'OUTP ON'"
    """
    return " then ".join(map(repr, text.split("\n")))


def nearest(name: str, known: object) -> str:
    """The known name most like this one, or "" if none is alike.

    >>> nearest("suply", ["supply", "load"])
    'supply'
    """
    from difflib import get_close_matches

    found = get_close_matches(name, list(known), n=1, cutoff=0.6)  # type: ignore[call-overload]
    return found[0] if found else ""


def did_you_mean(name: str, known: object) -> str:
    """A sentence that names the nearest known name, else those there are; "" when there are none."""
    names = sorted(set(known))  # type: ignore[call-overload]
    near = nearest(name, names)
    if near:
        return f"Did you mean {near}?"
    if not names:
        return ""
    shown = ", ".join(names[:12]) + (" …" if len(names) > 12 else "")
    return f"There is: {shown}."
