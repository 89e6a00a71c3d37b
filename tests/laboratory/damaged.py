"""Damaged inputs: files of the example project with something broken in them, given to the commands. What is held: an
answer or one of the program's own messages, never another exception, never a hang. `python -m tests.laboratory.damaged N SEED`
does N of them."""

import contextlib
import io
import os
import random
import shutil
import signal
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from types import FrameType

import click

from ibexite import events
from ibexite.bench.file import read_bench
from ibexite.cli.main import program
from ibexite.demo.project import make_project
from ibexite.errors import IbexiteError
from ibexite.records.gateway import open_lookup, open_store
from ibexite.records.journal import Journal
from ibexite.station.given import read_parameters, read_selection
from ibexite.station.prepared import read_prepared
from ibexite.station.unit_table import read_units
from ibexite.verdicts import NO_REASON, Verdict

PATIENCE = 20  # s; what takes longer hangs
JUNK = [b"", b"\0", b"\xff\xfe", "Ω".encode(), b"\r", b"\t", b'"', b"[", b"]", b"{", b"(", b")" * 50, b"(" * 300, b"#", b"=", b",", b"1e999", b"-1", b"nan",
        b"0", b"99999999999999999999", b"1 / 0", b" V", b" dB", b"%", b"if", b"test", b"sweep x over 1, 2", b"\n", b"\n\n    ", b"end", b"..", b"'''", b"\\u0000"]  # fmt: skip
PARAMETERS = b'vin_low = "7 V"\nvin_high = "13 V"\n'
SELECTION = b"test,run\nefficiency,yes\nripple,no\n"
LOT = b"serial,lot,vin_low\nFC00400,L1,7 V\nFC00401,L1,8 V\n"
REFERENCE = b"""[reference]
product = "FM-2 field unit"
variant = ""
[origin]
run = "20261123-080000-aaaaaa"
unit = "FU0042"
measured = "2026-11-23T08:00:00.000+00:00"
verdict = "pass"
simulated = false
trial = []
notes = { "bench" = "FM-2 service bench" }
[values."s21"]
test = "antenna"
kind = "quantity"
unit = ""
complex = true
conditions = { "vna.level" = "-10 dBm" }
sampled = { start = "780000000.0 Hz", step = "1000000.0 Hz" }
axes = ["freq"]
points = '''
re,im
0.9,0.1
0.9,-0.1
'''
"""
APPROVALS = b'[[approved]]\nfile = "masks/transducer.csv"\nsha256 = "00"\nby = "R. Tamm"\nwhen = "2026-11-23T08:00:00+00:00"\nreason = "x"\n'
READINGS = b'[readings]\n"v_out" = "5 V"\n[[answers]]\nquestion = "x"\nanswer = "yes"\n'


GOLDEN = "golden/fm-2-field-unit/antenna_lead.toml"


class Hangs(BaseException):
    """It took too long."""


def _command(*arguments: str) -> Callable[[Path], None]:
    return lambda path: program(list(arguments), standalone_mode=False)


def _take_in(path: Path) -> None:
    records = path.parent.parent
    (records / "runs.sqlite").unlink(missing_ok=True)
    with contextlib.closing(open_store(records)) as store:
        store.take_in_left_over()
    with contextlib.closing(open_lookup(records)) as lookup:
        for run in lookup.runs():
            lookup.run(run["id"])


TARGETS: list[tuple[str, Callable[[Path], object]]] = [
    *[(name, _command("vet", name, "--bench", "bench.toml")) for name in ("fm2_final.ibx", "characterise.ibx", "sensor_parts.ibx")],
    *[(name, _command("preview", name, "--bench", "bench.toml")) for name in ("fm2_final.ibx", "characterise.ibx")],
    ("fm2_final.ibx", _command("tidy", "fm2_final.ibx")), ("shared.ibx", _command("vet", "sensor_parts.ibx", "--bench", "bench.toml")),
    ("parts_limits.csv", _command("vet", "sensor_parts.ibx", "--bench", "bench.toml")),
    ("bench.toml", _command("vet", "fm2_final.ibx", "--bench", "bench.toml")), ("ibexite.toml", _command("vet", "fm2_final.ibx")),
    ("analog.toml", _command("vet", "characterise.ibx", "--bench", "analog.toml")),
    ("measurements/band_pass.ibx", _command("measure", "--list")), ("measurements/one_db_point.py", _command("measure", "--list")), ("measurements/heater_power.measurement.toml", _command("measure", "--list")),
    ("masks/transducer.csv", _command("vet", "sensor_parts.ibx", "--bench", "analog.toml")), ("masks/transducer.csv", _command("limits", "list")),
    (GOLDEN, _command("vet", "leads.ibx", "--bench", "service.toml")), (GOLDEN, _command("golden", "show", "antenna_lead")), (GOLDEN, _command("golden", "list")),
    ("approvals.toml", _command("vet", "sensor_parts.ibx", "--bench", "analog.toml")), ("lot_limits.csv", _command("vet", "lot.ibx", "--bench", "bench.toml")),
    ("maths.py", _command("vet", "sensor_parts.ibx")), ("supply.toml", _command("vet", "fm2_final.ibx", "--bench", "own.toml")),
    ("p.toml", read_parameters), ("s.csv", read_selection), ("lot.csv", lambda path: read_units(path, ["vin_low"])),
    ("r.toml", lambda path: read_prepared(path, read_bench(Path("bench.toml")), ["efficiency"])), ("records/journals/20261123-090000-aaaaaa.jsonl", _take_in)]  # fmt: skip


def make_files(folder: Path) -> None:
    """The example project with one file of each further kind."""
    make_project(folder)
    for name, data in (("p.toml", PARAMETERS), ("s.csv", SELECTION), ("lot.csv", LOT), ("r.toml", READINGS), ("approvals.toml", APPROVALS)):
        (folder / name).write_bytes(data)
    (folder / GOLDEN).parent.mkdir(parents=True)
    (folder / GOLDEN).write_bytes(REFERENCE)
    profiles = Path(read_bench.__code__.co_filename).parents[1] / "instruments" / "profiles"
    shutil.copy(profiles / "scpi-power-supply.toml", folder / "supply.toml")
    text = (folder / "bench.toml").read_text()
    (folder / "own.toml").write_text(text.replace('"scpi-power-supply"', '"supply.toml"'))
    journal = Journal(folder / "records" / "journals" / "20261123-090000-aaaaaa.jsonl")
    axis, column = ({"name": "x", "unit": "V", "shown": "", "origin": "sweep"}, {"name": "y", "unit": "A", "shown": "", "origin": "read"})
    sequence = {"title": "Test", "product": "Board", "revision": "C", "file": "t.ibx", "sha256": "0" * 64}
    for event in (
        events.RunStarted("20261123-090000-aaaaaa", "2026-11-23T09:00:00.000+00:00", "FC1", "me", "here", "0.1.0", sequence,
                          {"name": "bench", "file": "b", "sha256": "1" * 64}, [], [{"test": "t", "title": "T", "gate": True}]),
        events.TestStarted(0.1, "t", "T"), events.TableStarted(0.1, "t", 1, [axis], [column]), events.Row(0.2, 1, (1.0,), (0.5,), [], ([("psu", ">", "VOLT 1")], [0.1])),
        events.Row(0.3, 1, (2.0,), (0.6,), [], events.NOTHING_SAID), events.TestEnded(0.7, "t", Verdict.NO_CHECK, NO_REASON, 0.6),
        events.MadeSafe(0.8, [{"role": "supply", "problem": ""}]), events.RunEnded(0.9, Verdict.NO_CHECK, NO_REASON, [], 0, 1),
    ):  # fmt: skip
        journal(events.Emitted("20261123-090000-aaaaaa", 1, event))
    journal.close()


def damage(data: bytes, chance: random.Random) -> bytes:
    """The file with one to three things broken."""
    for _ in range(chance.choice([1, 1, 1, 2, 3])):
        if not data:
            return data
        at = chance.randrange(len(data))
        end = min(len(data), at + chance.choice([1, 1, 2, 5, 20, 200]))
        lines = data.split(b"\n")
        line = chance.randrange(len(lines))
        match chance.randrange(8):
            case 0:
                data = data[:at] + data[end:]
            case 1:
                data = data[:at] + chance.choice(JUNK) + data[at:]
            case 2:
                data = data[:at] + chance.choice(JUNK) + data[end:]
            case 3:
                data = data[:at]
            case 4:
                data = b"\n".join([*lines[:line], *lines[line + 1 :]])
            case 5:
                data = b"\n".join([*lines[: line + 1], lines[chance.randrange(len(lines))], *lines[line + 1 :]])
            case 6:
                data = data[:at] + bytes([chance.randrange(256)]) + data[at + 1 :]
            case 7:
                words = lines[line].split(b" ")
                chance.shuffle(words)
                lines[line] = b" ".join(words)
                data = b"\n".join(lines)
    return data


def told(deed: Callable[[Path], object], path: Path) -> str:
    """What it answers, or its own message."""
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
        try:
            deed(path)
        except (IbexiteError, click.ClickException, click.exceptions.Exit, SystemExit) as error:
            out.write(str(error))
    return out.getvalue()


def wrong(deed: Callable[[Path], object], path: Path) -> str:
    """What else came than an answer or a message, "" if nothing."""
    try:
        told(deed, path)
    except RecursionError:
        return ""  # a recursion too deep is told by the command line
    except Hangs:
        return "it hangs"
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    return ""


def search(number: int, seed: int) -> list[tuple[str, str, bytes]]:
    """Damages so many inputs in the folder that is current; file, what came, and the damaged bytes."""

    def ring(_: int, __: FrameType | None) -> None:
        raise Hangs

    before = signal.signal(signal.SIGALRM, ring)
    chance, found = random.Random(seed), []
    originals = {name: Path(name).read_bytes() for name, _ in TARGETS}
    for i in range(number):
        name, deed = TARGETS[i % len(TARGETS)]
        path = Path(name).absolute()
        data = damage(originals[name], chance)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        signal.alarm(PATIENCE)
        what = wrong(deed, path)
        signal.alarm(0)
        path.write_bytes(originals[name])
        if what:
            found.append((f"{i}: {name}", what, data))
    signal.signal(signal.SIGALRM, before)
    return found


def main() -> None:
    """Does so many and keeps what went wrong in a folder."""
    number, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 3000, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    kept = Path(sys.argv[3]).absolute() if len(sys.argv) > 3 else None
    with tempfile.TemporaryDirectory() as folder:
        make_files(Path(folder))
        before = Path.cwd()
        os.chdir(folder)
        found = search(number, seed)
        os.chdir(before)
    for i, (name, what, data) in enumerate(found):
        print(f"{name}: {what}")
        if kept is not None:
            kept.mkdir(exist_ok=True)
            (kept / f"{i}").write_bytes(data)
    print(f"{number} damaged inputs of {len(TARGETS)} kinds; {len(found)} went wrong")
    sys.exit(bool(found))


if __name__ == "__main__":
    main()
