"""Small parts that much rests on: TOML with good messages, the guardian process, the report helper, run ids, fills."""

from __future__ import annotations

import contextlib
import datetime
import json
import os
import re
import socket
import subprocess
import sys
import threading
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import errors, units
from ibexite.bench import guardian_process
from ibexite.bench.guardian import Guardian
from ibexite.errors import MistakeError
from ibexite.language import fill
from ibexite.records.run_id import new_run_id
from ibexite.station.report_helper import ReportHelper
from ibexite.toml_reader import read_toml


@pytest.fixture
def table(tmp_path: Path):  # noqa: ANN201
    """Reads a TOML text."""

    def read(text: str):  # noqa: ANN202
        (tmp_path / "f.toml").write_text(text)
        return read_toml(tmp_path / "f.toml", what="test file")

    return read


@pytest.mark.parametrize(("text", "asked", "what"), [
    ("", lambda t: t.text("name"), "is missing"), ("name = 5", lambda t: t.text("name"), "5 does not fit"),
    ("n = true", lambda t: t.integer("n"), "True does not fit"), ("n = 'x'", lambda t: t.flag("n", False), "'x' does not fit"),
    ("n = ['a', 5]", lambda t: t.texts("n"), "not all of these are texts"),
    ("n = '5 A'", lambda t: t.quantity("n", units.VOLT), "'5 A' is a current"),
    ("n = ['5 V', '4 V']", lambda t: t.extent("n", units.VOLT), "the first is not below"),
    ("n = 'x'", lambda t: t.table("n"), "'x' does not fit"), ("nmae = 'x'", lambda t: [t.text("name", ""), t.finish()], "is not a key"),
    ("n = 2027", lambda t: t.date("n"), "2027 does not fit"),
])  # fmt: skip
def test_values_that_do_not_fit_are_named(table, text: str, asked, what: str) -> None:  # noqa: ANN001
    with pytest.raises(MistakeError) as error:
        asked(table(text))
    assert what in error.value.what and re.fullmatch(r".*f[.]toml(:1)?: n\w*", error.value.where)


@pytest.mark.parametrize(("content", "what"), [
    (b"\xff\xfe", "this is not UTF-8 text"), (b"a = = 1", "not valid TOML: Invalid value (at line 1, column 5)"),
    (b"#" * 1_100_000, "a test file has at most 1,000,000"),
])  # fmt: skip
def test_files_that_are_no_toml_are_named(tmp_path: Path, content: bytes, what: str) -> None:
    (tmp_path / "x.toml").write_bytes(content)
    with pytest.raises(MistakeError) as error:
        read_toml(tmp_path / "x.toml", what="test file")
    assert what in error.value.what
    for path in (tmp_path, tmp_path / "missing.toml"):
        with pytest.raises(MistakeError):
            read_toml(path, what="test file")


def test_errors_know_their_exit_codes_and_read_well() -> None:
    codes = {
        "MistakeError": 2,
        "UnitError": 2,
        "LinkError": 3,
        "CeilingError": 3,
        "SequenceError": 3,
        "RecordsError": 3,
    }
    for name, code in codes.items():
        assert getattr(errors, name)("x").exit_code == code
    assert errors.StopRun("x").exit_code == 4 and not isinstance(errors.StopRun("x"), Exception)
    assert str(MistakeError("what", where="where", remedy="Do this.")) == "where: what\nDo this."
    assert errors.did_you_mean("suply", ["supply", "load"]) == "Did you mean supply?"
    assert errors.did_you_mean("xyz", ["b", "a"]) == "There is: a, b." and errors.did_you_mean("x", []) == ""


def test_run_ids_sort_by_time_and_differ() -> None:
    first = datetime.datetime(2026, 11, 23, 9, 0, 0, tzinfo=datetime.timezone(datetime.timedelta(hours=2)))
    ids = [new_run_id(first + datetime.timedelta(seconds=s)) for s in range(50)]
    assert ids[0].startswith("20261123-070000-") and ids == sorted(ids)
    assert len({new_run_id(first) for _ in range(500)}) == 500


@given(st.lists(st.from_regex(r"[a-z]{1,8}", fullmatch=True), max_size=5))
def test_texts_are_filled_in_order(names: list[str]) -> None:
    text = "".join(f"<{{{name}:V}}>" for name in names)
    assert [(gap.name, gap.unit) for gap in fill.gaps(text)] == [(name, "V") for name in names]
    assert fill.fill(text, [name.upper() for name in names]) == "".join(f"<{name.upper()}>" for name in names)


class Instrument:
    """A listener that notes what it is told and answers questions with `state`."""

    def __init__(self, state: bytes = b"0\n", greeting: bytes = b"") -> None:
        self.heard = b""
        self._state, self._greeting = state, greeting
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        while True:
            try:
                link = self._listener.accept()[0]
            except OSError:
                return
            with link, contextlib.suppress(OSError):
                link.sendall(self._greeting)
                rest = b""
                while data := link.recv(4096):
                    self.heard += data
                    *lines, rest = (rest + data).split(b"\n")
                    for line in lines:
                        if line.endswith(b"?"):
                            link.sendall(b"Firnline,PS\n" if line == b"*IDN?" else self._state)

    def close(self) -> None:
        self._listener.close()


def guarded(
    tmp_path: Path, instrument: Instrument, *, farewell: bytes, connected: bool = True, signals: tuple[int, ...] = ()
) -> list[dict]:
    """What the guardian wrote into the journal after the run ended with a farewell (b"" for a sudden death), and what
    signals it was sent before."""
    ours, theirs = socket.socketpair()
    program = [sys.executable, "-I", "-S", guardian_process.__file__, str(theirs.fileno())]
    process = subprocess.Popen(program, pass_fds=[theirs.fileno()])
    theirs.close()
    journal = os.open(tmp_path / "journal", os.O_CREAT | os.O_WRONLY | os.O_APPEND)
    link = socket.create_connection(("127.0.0.1", instrument.port))
    deed = {"role": "supply", "instrument": "psu", "link": {"kind": "socket", "host": "127.0.0.1", "port": instrument.port, "timeout": 0.5, "end": "\n"},
            "identity": "Firnline,PS", "simulated": True,
            "commands": ["OUTP OFF"], "questions": [["OUTP?", ["0", "OFF"]]]}  # fmt: skip
    plan = {"deeds": [deed], "handles": ["psu", "journal"], "began": 0.0}
    socket.send_fds(ours, [json.dumps({"watch": plan}).encode() + b"\n"], [link.fileno(), journal])
    assert ours.recv(10) == b"ok\n"
    if not connected:
        ours.sendall(b'{"release": "psu"}\n')
        assert ours.recv(10) == b"ok\n"
    link.sendall(b"MEAS:VO")  # a half-sent line
    link.close()
    os.write(journal, b'{"e":"Row","t":')  # and a torn one in the journal
    for number in signals:
        process.send_signal(number)
    ours.sendall(farewell) if farewell else None
    ours.close()
    process.wait(120)
    os.close(journal)
    return [json.loads(line) for line in (tmp_path / "journal").read_text().splitlines()[1:] if line]


@pytest.mark.parametrize("connected", [True, False])
def test_the_guardian_switches_off_over_the_open_connection_or_a_new_one(tmp_path: Path, connected: bool) -> None:
    instrument = Instrument()
    entries = guarded(tmp_path, instrument, farewell=b"", connected=connected)
    instrument.close()
    assert [(e["e"], e["by"], e["roles"]) for e in entries] == [
        ("MadeSafe", "guardian", [{"role": "supply", "problem": ""}])
    ]
    at_once = b"MEAS:VO\nOUTP OFF\n" if connected else b"MEAS:VO"
    assert instrument.heard == at_once + b"\nOUTP OFF\n\n*IDN?\n\nOUTP OFF\n\nOUTP?\n"


def test_the_guardian_says_what_did_not_go_off(tmp_path: Path) -> None:
    instrument = Instrument(state=b"1\n")
    entries = guarded(tmp_path, instrument, farewell=b"")
    instrument.close()
    assert entries[0]["roles"] == [{"role": "supply", "problem": "OUTP? answered 1"}]


@pytest.mark.parametrize(("farewell", "told"), [
    (b"", [["supply"], ["supply"]]),  # at once, for this process may be ended too; and when it gives up
    (b'{"take over": ["supply"]}\n', [["supply"]]), (b'{"take over": ["load"]}\n', [[]]),
])  # fmt: skip
def test_the_guardian_goes_on_with_what_a_run_could_not_switch_off(
    tmp_path: Path, farewell: bytes, told: list[list[str]]
) -> None:
    instrument = Instrument(state=b"1\n")
    entries = guarded(tmp_path, instrument, farewell=farewell)
    instrument.close()
    assert [[role["role"] for role in entry["roles"]] for entry in entries] == told


def test_the_guardian_leaves_a_run_alone_that_said_good_bye(tmp_path: Path) -> None:
    instrument = Instrument()
    assert guarded(tmp_path, instrument, farewell=b'{"bye": true}\n') == []
    instrument.close()
    assert b"OUTP" not in instrument.heard


def test_a_report_helper_tells_what_went_wrong(tmp_path: Path) -> None:
    helper = ReportHelper()
    helper.begin(tmp_path, "no such run", tmp_path / "r.html")
    assert "there are no runs yet" in helper.finish()["error"] and not helper.is_busy
    helper._process.kill()
    helper.begin(tmp_path, "x", tmp_path / "r.html")
    assert "the report was not written" in helper.finish()["error"]
    helper.close()


def test_a_guardian_that_is_left_something_to_do_was_there(tmp_path: Path) -> None:
    with (tmp_path / "journal").open("ab") as journal:
        for left in ([], ["supply"]):
            guardian = Guardian(journal.fileno())
            assert guardian.dismiss(left) is True
            guardian._process.wait(60)


def test_a_link_that_takes_nothing_does_not_keep_the_guardian_from_the_others() -> None:
    full, unread = socket.socketpair()
    free, heard = socket.socketpair()
    full.setblocking(False)
    with contextlib.suppress(BlockingIOError):
        while True:
            full.send(b"x" * 65536)
    full.setblocking(True)
    deed = {"link": {"kind": "socket", "host": "127.0.0.1", "port": 1, "timeout": 0.1, "end": "\n"}, "identity": "F", "simulated": True, "commands": ["OUTP OFF"],
            "questions": []}  # fmt: skip
    plan = {
        "deeds": [{**deed, "role": "load", "instrument": "eload"}, {**deed, "role": "supply", "instrument": "psu"}],
        "began": 0.0,
    }
    handles = {"eload": full.detach(), "psu": free.detach()}
    guardian = threading.Thread(target=guardian_process.make_safe, args=(plan, handles, None), daemon=True)
    guardian.start()
    heard.settimeout(20)
    with unread, heard:
        assert heard.recv(100) == b"\nOUTP OFF\n"
        guardian.join(20)
