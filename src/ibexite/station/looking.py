"""A look at the instruments of a bench, without a sequence: who answers, and whether it is who the bench file says.

Nothing is set: each is connected, asked who it is, and let go. All at once, within a bounded time; one that a run has
is left alone.
"""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Iterable

from ibexite.bench.entries import InstrumentEntry
from ibexite.bench.file import BenchFile
from ibexite.bench.lock import AddressLocks
from ibexite.bench.pool import Opening, options_for
from ibexite.errors import BenchError, IbexiteError
from ibexite.frozen import frozen

PATIENCE = 3.0  # s for all of them together
_PARTS = ("manufacturer", "model", "serial number", "firmware")  # IEEE 488.2, 10.14: of an answer to *IDN?


@frozen
class Looked:
    """What a look at one instrument gave. `state` is there, another (who answers is not who is expected), in use (by a
    run), or lost; `told` says more, `remedy` what to do."""

    fact: InstrumentEntry
    roles: tuple[str, ...]
    state: str
    identity: str
    told: str
    remedy: str = ""


def look_at(file: BenchFile, opening: Opening, only: Iterable[str] = ()) -> list[Looked]:
    """All instruments of a bench, or some of them, in the order of the bench file; it takes PATIENCE at most."""
    facts = [fact for fact in file.instruments.values() if not only or fact.name in only]
    found: dict[str, tuple[str, ...]] = {}
    deadline = time.monotonic() + PATIENCE

    def look(fact: InstrumentEntry) -> None:
        found[fact.name] = _look(fact, opening, deadline)

    threads = [threading.Thread(target=look, args=(fact,), daemon=True) for fact in facts]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(max(0.0, deadline - time.monotonic()))
    late = ("lost", "", f"no answer within {PATIENCE:g} s", "Is it switched on?")
    return [Looked(fact, _roles(file, fact), *found.get(fact.name, late)) for fact in facts]


def _roles(file: BenchFile, fact: InstrumentEntry) -> tuple[str, ...]:
    return tuple(role.name for role in file.roles.values() if role.instrument == fact.name)


def _look(fact: InstrumentEntry, opening: Opening, deadline: float) -> tuple[str, ...]:
    """State, identity, what is to be told of one, and what to do."""
    locks, asked = AddressLocks(), fact.profile.identity
    try:
        locks.take([(fact.name, fact.address)], "a look at the bench")
    except BenchError as error:
        return "in use", "", error.what, error.remedy
    try:
        options = options_for(fact, timeout=max(0.1, round(0.8 * (deadline - time.monotonic()), 1)))
        link = opening(fact.address, options)
        try:
            reply = bytes(link.exchange(asked.query.encode() + options.command_end)) if asked.query else b""
        finally:
            link.close()
    except IbexiteError as error:
        return "lost", "", error.what, error.remedy
    finally:
        locks.release(fact.name)
    try:
        identity = asked.of(reply.decode("latin-1"))
    except ValueError:
        identity = reply.decode("latin-1").strip()
        return "another", identity, f"it does not answer as {asked.reply.text!r}"
    different = differences(fact.identity, identity) if asked.query else ""
    return ("another" if different else "there"), identity, different


def differences(expected: str, found: str) -> str:
    """In words what is not as the bench file expects; "" if it fits. `expected` is a pattern, "" takes any.

    >>> differences("Firnline,PS-36.*", "Firnline,PS-36,1147,2.0")
    ''
    >>> differences("Firnline,PS-36,1147,.*", "Firnline,PS-36,1150,2.0")
    'serial number 1150 instead of 1147'
    """
    if not expected or re.match(expected, found):
        return ""
    wanted, parts = expected.split(","), found.split(",")
    told = [
        f"{name} {part.strip()} instead of {want}"
        for name, want, part in zip(_PARTS, wanted, parts, strict=False)
        if not _fits(want, part.strip())
    ]
    return ", ".join(told) if told and len(parts) >= len(wanted) else f"it is {found!r}, not {expected!r}"


def _fits(pattern: str, text: str) -> bool:
    try:
        return re.fullmatch(pattern, text) is not None
    except re.error:  # a part of a pattern that is none by itself
        return True
