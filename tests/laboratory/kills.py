"""Kills: the installed program, killed or told to end at drawn moments of a run. What is held: no output is on soon after,
no row is lost that the instruments had answered, the exit code is that of the stored verdict.
`python -m tests.laboratory.kills N SEED` does N of them."""

import contextlib
import os
import random
import re
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ibexite.records.gateway import open_lookup, open_store
from ibexite.records.journal import read_journal
from ibexite.records.kept_journals import journal_of
from ibexite.verdicts import exit_code
from tests.laboratory.faults import Laboratory
from tests.runs import lines

SEQUENCE = """sequence "Killed"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"
needs
    supply : power_supply
    load   : electronic_load
    v_in   : signal in V
before unit
    set supply.current_limit = 1.3 A, supply.voltage = 9 V
    set load.current = 0.1 A, load.input = on
    set supply.output = on
test rows "Rows"
    sweep vin from 7 V to 13 V step 0.02 V
        set supply.voltage = vin
        wait 1 ms
        read v_in
    check v_in <= 17 V
test low "Low"
    read v_in
    check v_in <= 8 V
after unit
    set load.input = off
    set supply.output = off
"""
KINDS = {
    "killed": [(signal.SIGKILL, "run")], "group killed": [(signal.SIGKILL, "group")], "quit": [(signal.SIGQUIT, "run")],
    "told to end": [(signal.SIGTERM, "run")], "interrupted": [(signal.SIGINT, "run")], "hung up": [(signal.SIGHUP, "group")],
    "interrupted twice": [(signal.SIGINT, "run"), (signal.SIGINT, "run")], "group interrupted": [(signal.SIGINT, "group")],
    "told to end, then killed": [(signal.SIGTERM, "run"), (signal.SIGKILL, "run")],
    "interrupted, then told to end": [(signal.SIGINT, "run"), (signal.SIGTERM, "run")],
    "guardian killed": [(signal.SIGKILL, "guardian")], "guardian stopped": [(signal.SIGSTOP, "guardian")]}  # fmt: skip


class Killing:
    """A simulated bench that counts what it answered, and a folder with the sequence."""

    def __init__(self, folder: Path) -> None:
        hear_signals()
        self.folder = folder
        self.laboratory = Laboratory(folder)
        for name, moved in self.laboratory.addresses.items():
            address = self.laboratory.file.instruments[name].address
            text = (folder / "bench.toml").read_text()
            (folder / "bench.toml").write_text(text.replace(f'"{address}"', f'"{moved}"'))
        (folder / "killed.ibx").write_text(SEQUENCE)
        self.answered = 0
        meter = self.laboratory.devices["dmm"]
        take = meter.take_output

        def counted() -> str | None:
            reply = take()
            self.answered += reply is not None and reply.startswith(("+", "-")) and '"' not in reply  # no error
            return reply

        meter.take_output = counted  # type: ignore[method-assign]
        began = time.monotonic()
        self._start(folder / "undisturbed").communicate(timeout=60)
        self.lasts = time.monotonic() - began  # s; what the program needs when nobody kills it

    def close(self) -> None:
        """Ends the bench."""
        self.laboratory.close()

    def _start(self, records: Path) -> subprocess.Popen[str]:
        order = [sys.executable, "-m", "ibexite", "run", "killed.ibx", "--bench", "bench.toml", "--serial", "FC00400", "--no-report"]
        return subprocess.Popen([*order, "--records", str(records)], cwd=self.folder, start_new_session=True, text=True,
                                stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                                stderr=subprocess.STDOUT)  # fmt: skip

    def kill(self, number: int, kind: str, share: float, within: float) -> tuple[str, list[str]]:
        """One run, killed after a share of the time that it would need; what came of it and what was wrong."""
        records = self.folder / f"records{number}"
        self.answered = 0
        run = self._start(records)
        time.sleep(share * self.lasts)
        guardian = _guardian_of(run.pid)
        for what, whom in KINDS[kind]:
            with contextlib.suppress(ProcessLookupError):
                if whom == "guardian" and guardian:
                    os.kill(guardian, what)
                elif whom != "guardian":
                    (os.killpg if whom == "group" else os.kill)(run.pid, what)
            time.sleep(0.02)
        if kind == "guardian stopped" and guardian:
            time.sleep(0.5)
            os.kill(guardian, signal.SIGCONT)
        wrong = self._outputs(run, kind, within)
        try:
            output = run.communicate(timeout=30)[0]
        except subprocess.TimeoutExpired:
            run.kill()
            return "hangs", ["it hangs"]
        # Python's own first moments, before a line of ours has run, are not ours to answer for.
        ours = re.search(r'File ".*/ibexite/(?!__main__|__init__|cli/entry)', output)
        wrong += ["a traceback"] if "Traceback" in output and ours else []
        _wait_for_end(guardian)  # it writes into the journal what it did
        is_killed = any(what in (signal.SIGKILL, signal.SIGQUIT) for what, whom in KINDS[kind] if whom != "guardian")
        came, kept = _stored(records, run.returncode if not is_killed else None, self.answered)
        for device in self.laboratory.devices.values():
            device.reset()
        return came, wrong + kept

    def _outputs(self, run: subprocess.Popen[str], kind: str, within: float) -> list[str]:
        """Looked at a time after the signal; where a run goes on by design, after its end."""
        if "guardian" in kind:
            with contextlib.suppress(subprocess.TimeoutExpired):
                run.wait(30)
        deadline = time.monotonic() + within
        while time.monotonic() < deadline and (run.poll() is None or self.laboratory.is_anything_on()):
            time.sleep(0.01)
        return [f"{name} is still on" for name in self.laboratory.is_anything_on()]


def hear_signals() -> None:
    """Whoever started the tests may have told them to ignore some: a shell does so in the background."""
    for number in (signal.SIGINT, signal.SIGQUIT, signal.SIGHUP, signal.SIGTERM):
        if signal.getsignal(number) == signal.SIG_IGN:
            signal.signal(number, signal.default_int_handler if number == signal.SIGINT else signal.SIG_DFL)


def _guardian_of(parent: int) -> int:
    for entry in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError, ValueError, IndexError):
            is_child = int((entry / "stat").read_text().rpartition(")")[2].split()[1]) == parent
            if is_child and b"guardian_process" in (entry / "cmdline").read_bytes():
                return int(entry.name)
    return 0


def _wait_for_end(process: int) -> None:
    deadline = time.monotonic() + 30
    while process and Path(f"/proc/{process}").exists() and time.monotonic() < deadline:
        time.sleep(0.02)


def _stored(records: Path, code: int | None, answered: int) -> tuple[str, list[str]]:
    """The stored verdict; rows that are missing and an exit code (None: it was killed) that is not the verdict's."""
    if not records.exists() or not list(records.iterdir()):
        return "nothing begun", [f"{answered} readings, and nothing stored"] if answered else []
    with contextlib.closing(open_store(records)) as store:
        store.take_in_left_over()
    with contextlib.closing(open_lookup(records)) as lookup:
        runs = lookup.runs()
        if not runs:
            return "nothing begun", [f"{answered} readings, and nothing stored"] if answered > 1 else []
        run = lookup.run(runs[0]["id"])
        rows = sum(len(grid.column("v_in")) for test in run.tests for grid in test.grids)
    verdict, is_trial, is_broken_off = run.row["verdict"], bool(run.row["is_trial"]), bool(run.row["broken_off"])
    wrong = []
    # The last answer may have been on its way; after a time-out a question is repeated, and answered twice.
    journal = journal_of(records, run.row["id"])
    assert journal is not None, "the journal of a stored run is lost"
    said = [line for event in read_journal(journal) for line in lines(event.get("io", [[], []])[0])]
    due = min(answered - 1 - sum(line.startswith("dmm! ") for line in said), 301)
    if rows < due:
        wrong.append(f"{rows} rows stored of {due}")
    if code is not None and code != exit_code(verdict, is_trial):
        wrong.append(f"exit code {code} with the stored verdict {verdict}")
    if verdict == "pass" or (verdict == "fail" and not is_broken_off and answered < 302):
        wrong.append(f"the verdict is {verdict} after {answered} readings")
    return verdict + (", broken off" if is_broken_off else ""), wrong


def drawn(number: int, seed: int) -> list[tuple[str, float]]:
    """Kinds in turn with their moments, as shares of the time that a run needs."""
    chance = random.Random(seed)
    names = list(KINDS)
    return [(names[i % len(names)], chance.uniform(0.05, 1.05)) for i in range(number)]


def main() -> None:
    """Does so many kills and tells what went wrong."""
    number, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 300, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    counts: dict[str, int] = {}
    failed = 0
    with tempfile.TemporaryDirectory() as folder:
        killing = Killing(Path(folder))
        for i, (kind, share) in enumerate(drawn(number, seed)):
            came, wrong = killing.kill(i, kind, share, 1.0)
            counts[came] = counts.get(came, 0) + 1
            if wrong:
                failed += 1
                print(f"{kind} after {share:.0%} of {killing.lasts:.2f} s: {came}: {wrong}", flush=True)
        killing.close()
    print(f"{number} kills of {len(KINDS)} kinds: {counts}; {failed} went wrong")
    sys.exit(bool(failed))


if __name__ == "__main__":
    main()
