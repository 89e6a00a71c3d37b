"""Faults: runs on stand-ins that lie and over links that break. What is held: never PASS on values that are not true, never a ceiling
passed, outputs off at the end, no row lost, no internal error. `python -m tests.laboratory.faults N SEED LINK`
does N of them."""

import random
import sys
import tempfile
import threading
import time
from dataclasses import dataclass, replace
from pathlib import Path

from ibexite import events
from ibexite.bench import bench as bench_module
from ibexite.bench.file import read_bench
from ibexite.demo.project import make_project
from ibexite.engine.services import RealClock
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.simulate.plan import Trouble
from ibexite.simulate.server import BenchServer
from ibexite.simulate.troubles import ANY, WAYS, Troubles
from ibexite.station.stand_ins import make_plan
from tests.runs import carried_out

SEQUENCE = """sequence "Laboratory"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"
needs
    supply       : power_supply
    load         : electronic_load
    v_in, v_out  : signal in V
    i_out        : signal in A
before unit
    set supply.current_limit = 1.3 A, supply.voltage = 9 V
    set load.current = 0 A, load.input = on
    set supply.output = on
    wait 20 ms
test sweep_in "Over input"
    sweep vin over 7 V, 11 V, 8 V, 13 V
        set supply.voltage = vin
        wait 12 ms
        read v_in
        read v_out
    check v_in <= 17 V
    check v_out >= 0 V
test sweep_out "Over load"
    sweep amps over 100 mA, 600 mA, 300 mA
        set load.current = amps
        wait 12 ms
        read v_in, v_out, i_out together
    check i_out <= 1.2 A
    check v_in <= 17 V
test plain "At rest"
    read v_in, v_out, i_out together
    check v_in <= 17 V
    check i_out <= 1.2 A
after unit
    set load.input = off
    set supply.output = off
"""


_INSIDE = ("OUTP1 OFF", "INP OFF", "SOUR1:VOLT 5", "CURR 0.05", "*RST")  # what an instrument does by itself
FAULTS: dict[str, tuple[str, float | None, str]] = {
    **{f"reply: {how}": (how, {"late": 0.2, "half-open": 0.5}.get(how), "") for how in WAYS if how not in ("before", "instead", "behind", "different")},
    "reply: very slow": ("slow", 0.15, ""), "reply: soon again": ("twice", 0.002, ""), "reply: later again": ("twice", 0.05, ""), "reply: much later": ("late", 0.3, ""),
    "reply: a little too late": ("late", 0.13, ""), "reply: refuse for long": ("refuse", 1.0, ""), "reply: reset before": ("before", None, "*RST"),
    **{f"setting: {how}": (how, None, "") for how in ("lost", "drop", "reset", "close", "stalled", "repeated", "restart", "refuse", "word", "silent")},
    "setting: stalled for long": ("stalled", 0.2, ""), "setting: limit instead": ("instead", None, "SOUR1:CURR 0.01"), "setting: protection before": ("before", None, "SOUR1:VOLT:PROT 1"),
    **{f"setting: {message} {how}": (how, None, message) for message in _INSIDE for how in ("before", "instead", "behind")}}  # fmt: skip


@dataclass
class Told:
    """What came of one run."""

    fault: str
    instrument: str
    nth: int
    verdict: str
    reason: str
    wrong: list[str]
    is_done: bool


class Laboratory:
    """A simulated bench in a thread, with short time-outs, all its instruments on one kind of link."""

    def __init__(self, folder: Path, link: str = "socket") -> None:
        make_project(folder)
        path = folder / "bench.toml"
        for name in ("scpi-power-supply", "scpi-electronic-load", "scpi-scanning-multimeter"):
            text = (Path(bench_module.__file__).parents[1] / "instruments" / "profiles" / f"{name}.toml").read_text()
            lines = ['timeout  = "120 ms"' if line.startswith("timeout") else line for line in text.splitlines()]
            (folder / f"{name}.toml").write_text("\n".join(lines))
            path.write_text(path.read_text().replace(f'"{name}"', f'"{name}.toml"'))
        self.file = read_bench(path)
        plan = make_plan(self.file, "FC00400", own_ports=True)
        self.server = BenchServer(replace(plan, stand_ins=tuple(replace(one, link=link) for one in plan.stand_ins)))
        self.thread = threading.Thread(target=self.server.serve, daemon=True)
        self.thread.start()
        self.addresses = self.server.addresses
        self.devices = {i.stand_in.name: i.device for i in self.server.instruments}

    def close(self) -> None:
        """Ends the simulated bench."""
        self.server.stop()
        self.thread.join(5)

    def is_anything_on(self) -> list[str]:
        """The outputs that are on."""
        psu, eload = self.devices["psu"], self.devices["eload"]
        return [n for n, on in (("supply", psu.source.is_on), ("load", eload.sink.is_on)) if on]  # type: ignore[attr-defined]

    def run(self, fault: str, instrument: str, nth: int, times: int = 1) -> Told:
        """One run with one fault."""
        how, pause, message = FAULTS[fault]
        meant = {"query": ANY} if fault.startswith("reply") else {"query": "", "command": ANY}
        identity = self.devices[instrument].identity
        troubles = Troubles([Trouble(**meant, how=how, nth=nth, times=times, pause=pause, message=message)])
        for served in self.server.instruments:
            served.troubles = troubles if served.stand_in.name == instrument else Troubles()
        program = vet(Source("laboratory.ibx", SEQUENCE))
        happened: list[events.Event] = []
        outcome = carried_out(program, self.file.moved_to(self.addresses), happened.append, clock=RealClock(), serial="FC00400")
        while not self.server.is_still:  # no line is on its way any more
            time.sleep(0.002)
        wrong = _untrue(happened) if outcome.verdict == "pass" else []
        wrong += [f"{name} is still on" for name in self.is_anything_on() if outcome.is_safe]
        if "internal error" in outcome.reason.text:
            wrong.append(outcome.reason.text)
        if outcome.verdict == "fail" and not _may_fail(fault):
            wrong.append("a unit that is good has failed")
        for device in self.devices.values():
            device.reset()
        self.devices[instrument].identity = identity
        return Told(fault, instrument, nth, outcome.verdict, outcome.reason.text or _reasons(happened), wrong, troubles.done > 0)


def _may_fail(fault: str) -> bool:
    """An overload and an output that goes off by itself are facts about the unit; so is a source that limits."""
    return any(word in fault for word in ("overload", "OFF", "limit", "protection", "restart", "RST", "reset", "huge", "VOLT", "CURR"))


def _reasons(happened: list[events.Event]) -> str:
    return "; ".join(e.reason.text for e in happened if isinstance(e, events.TestEnded) and e.verdict != "pass")


def _untrue(happened: list[events.Event]) -> list[str]:
    """Readings of a pass that are not what the board does at the set points that stand beside them."""
    tables = {e.table: e for e in happened if isinstance(e, events.TableStarted)}
    rows = [e for e in happened if isinstance(e, events.Row)]
    wrong = []
    for row in rows:
        names = [c["name"] for c in tables[row.table].columns]
        axis, at = tables[row.table].axes[0]["name"], row.x[0]
        wanted = {"v_in": at if axis == "vin" else 9.0, "v_out": 5.0, "i_out": at if axis == "amps" else 0.0}
        room = {"v_in": 0.15, "v_out": 0.15, "i_out": 0.01}
        for name, value in zip(names, row.v, strict=True):
            if not abs(value - wanted[name]) <= room[name]:
                wrong.append(f"{name} = {value:.4g} at {axis} = {at:g}, and it passed")
    if len(rows) != 7:
        wrong.append(f"{len(rows)} rows of 7, and it passed")
    for value in (e for e in happened if isinstance(e, events.Value) and e.test == "plain"):
        wanted = {"v_in": 9.0, "v_out": 5.0, "i_out": 0.0}[value.name]
        if value.value is None or not abs(float(value.value) - wanted) <= 0.15:
            wrong.append(f"{value.name} = {value.value} at rest, and it passed")
    return wrong


def drawn(number: int, seed: int) -> list[tuple[str, str, int, int]]:
    """Faults with their places: every kind in turn, the rest by chance."""
    chance = random.Random(seed)
    names = list(FAULTS)
    made = []
    for i in range(number):
        name = names[i % len(names)]
        instrument = chance.choice(["psu", "eload", "dmm"] if name.startswith("reply") else ["psu", "eload"])
        made.append((name, instrument, chance.randint(1, 26 if name.startswith("reply") else 9), chance.choice([1, 1, 1, 3])))
    return made


def main() -> None:
    """Does so many faults and tells what went wrong."""
    number, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 300, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    counts: dict[str, int] = {}
    wrong = 0
    bench_module.PATIENCE = 2.0
    link = sys.argv[3] if len(sys.argv) > 3 else "socket"
    with tempfile.TemporaryDirectory() as folder:
        laboratory = Laboratory(Path(folder), link)
        for name, instrument, nth, times in drawn(number, seed):
            told = laboratory.run(name, instrument, nth, times)
            while not told.is_done:  # the run had fewer such lines
                nth = max(1, nth // 2)
                told = laboratory.run(name, instrument, nth, times)
            counts[told.verdict] = counts.get(told.verdict, 0) + 1
            if told.wrong:
                wrong += 1
                print(f"{name}, {instrument}, line {nth} x{times}: {told.verdict}: {told.wrong}; {told.reason}", flush=True)
        laboratory.close()
    print(f"{link}: {number} faults of {len(FAULTS)} kinds: {counts}; {wrong} went wrong")
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
