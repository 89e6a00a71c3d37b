"""Asks the process that holds a bench by hand (ibexite.station.keeper), and starts it where there is none."""

from __future__ import annotations

import json
import math
import os
import socket
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from ibexite import errors
from ibexite.bench.file import BenchFile
from ibexite.errors import BenchError, IbexiteError
from ibexite.frozen import frozen
from ibexite.station.hand_place import HandPlace
from ibexite.untyped import Fields

START_WITHIN = 30.0  # s


@frozen
class Kept:
    """What came of a deed: what is to be told, a reply, the roles that are on now and those of them that were not
    before, the error if there was one, and whether an instrument reported one by itself."""

    told: list[str]
    reply: Any
    on: list[str]
    fresh: list[str]
    error: IbexiteError | None
    has_reported: bool = False


class NotThere(Exception):
    """Nobody holds the bench; nothing was carried out."""


def ask(place: HandPlace, request: Fields) -> Kept:
    """Asks the process that holds a bench.

    Raises:
        NotThere: there is none. BenchError: it ended while it carried this out.
    """
    taken = line = b""
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as link:
        try:
            link.connect(str(place.socket))
            link.sendall(json.dumps(request).encode() + b"\n")
            with link.makefile("rb") as lines:
                taken = lines.readline()
                line = lines.readline()
        except OSError:  # what has come by then tells how far it got
            pass
    if not taken:
        raise NotThere
    if not line.endswith(b"\n"):
        raise BenchError(
            "the process that holds the bench by hand ended while it carried this out",
            remedy="Its guardian switches off what was on. Look at the instruments.",
        )
    answer: Fields = json.loads(line)
    return Kept(
        answer["told"], answer["reply"], answer["on"], answer["fresh"], _error_of(answer["error"]), answer["reported"]
    )


def held_by_hand(place: HandPlace) -> list[str]:
    """The instruments that a process holds by hand; none where there is no such process."""
    try:
        return list(ask(place, {"do": "holds"}).reply)
    except NotThere:
        return []


def reading(
    place: HandPlace, words: Sequence[str], given: Mapping[str, str], traffic: str = ""
) -> tuple[Any, str, bool]:
    """One reading by the process that holds its instrument: the value, or what else it gives as plain data
    (whole_readings.py), why it is bad where it is None, and whether a simulated stand-in gave it.

    Raises:
        BenchError: that process has ended, or what it tells of the reading.
    """
    request = {"do": "read", "words": list(words), "given": dict(given), "traffic": traffic}
    try:
        kept = ask(place, request)
    except NotThere:
        raise BenchError("what held the bench by hand has ended", remedy="Read it again.") from None
    if kept.error is not None:
        raise kept.error
    return kept.reply["value"], kept.reply["reason"], kept.reply["is_simulated"]


def number_read(
    place: HandPlace, words: Sequence[str], given: Mapping[str, str], traffic: str = ""
) -> tuple[float, str, bool]:
    """The same of a number: NaN where it is bad. Raises BenchError as `reading` does."""
    value, reason, is_simulated = reading(place, words, given, traffic)
    return (math.nan if value is None else value), reason, is_simulated


def carry_out(file: BenchFile, spec: Fields, deed: Fields) -> Kept:
    """Has a deed carried out by the process that holds the bench; starts it if there is none.

    Args:
        spec: what that process is to open: see ibexite.station.keeper.bench_of.
        deed: the request.

    Raises:
        BenchError: it cannot be started, or ended while it carried this out.
    """
    place = HandPlace.of(file)
    request = {**deed, "owner": os.getppid()}
    deadline = time.monotonic() + START_WITHIN
    while True:
        try:
            return ask(place, request)
        except NotThere:
            if time.monotonic() > deadline:
                what = "the process that holds the bench by hand does not answer"
                raise BenchError(what, where=str(place.socket)) from None
        _start(spec)


def _start(spec: Fields) -> None:
    try:
        process = subprocess.Popen(
            [sys.executable, "-m", "ibexite.station.keeper", json.dumps(spec)],
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
    except OSError as error:
        raise BenchError(f"the process that holds the bench by hand cannot be started ({error.strerror})") from None
    assert process.stdout
    with process.stdout:
        answer: Fields = json.loads(process.stdout.readline() or b"{}")
    if answer.get("error"):
        raise _error_of(answer["error"]) or BenchError("it did not start")
    if answer.get("ready") == "another":
        time.sleep(0.05)  # it makes itself ready, or is about to end


def _error_of(told: list[str] | None) -> IbexiteError | None:
    if told is None:
        return None
    name, what, where, remedy = told
    kind: type[IbexiteError] = getattr(errors, name, BenchError)
    return kind(what, where=where, remedy=remedy)


def spec_of(file: BenchFile, address: str = "", profile: str = "") -> Fields:
    """How another process opens the same bench."""
    if address:
        return {"address": address, "profile": profile, "folder": str(Path.cwd())}
    return {"bench": str(file.path.absolute()) + (f"@{file.position}" if file.position else "")}
