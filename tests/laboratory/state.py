"""Random sequences that set things, on a bench from memory that notes what arrives. What is held: no value beyond a ceiling
arrives; what arrives was previewed; each test begins in the state that `before unit` left, whatever ran before; outputs
are off at the end; setting back trips no protection. `python -m tests.laboratory.state N` does so many."""

from __future__ import annotations

import datetime
import random
import sys
import tempfile
from pathlib import Path

from ibexite import events
from ibexite.bench import bench as bench_module
from ibexite.bench.file import BenchFile
from ibexite.engine.orders import Identity, Orders
from ibexite.engine.preview import timeline
from ibexite.engine.run import Run
from ibexite.engine.selection import Selection
from ibexite.engine.services import Consenting
from ibexite.language.check import vet
from ibexite.language.source import Source
from tests.laboratory.stub_bench import MemoryLink, memory_bench
from tests.laboratory.verdicts import Still

HEAD = """sequence "Random"
    product "none"
    serial  "R"
needs
    supply : power_supply
    load   : electronic_load
    v_ok   : signal in V
before unit
    set supply.current_limit = 1.2 A, supply.over_voltage = {prot} V, supply.voltage = {volts} V
    set load.current = 0.1 A, load.input = {load}
    set supply.output = {output}
"""
CEILINGS = {"SOUR1:VOLT": 17.0, "SOUR1:CURR": 1.5, "CURR": 1.25}
SETTINGS = {"SOUR1:VOLT": "supply.voltage", "SOUR1:CURR": "supply.current_limit", "CURR": "load.current", "OUTP1": "supply.output",
            "INP": "load.input", "SOUR1:VOLT:PROT": "supply.over_voltage"}  # fmt: skip


def text_of(chance: random.Random) -> tuple[str, list[str]]:
    """A sequence, and the names of its tests that keep the state of the one before."""
    volts = chance.choice([3, 9, 12])
    lines = [HEAD.format(volts=volts, prot=chance.choice([volts + 1, 16]), output=chance.choice(["on", "on", "off"]),
                         load=chance.choice(["on", "off"]))]  # fmt: skip
    keeping = []
    for i in range(chance.randint(1, 5)):
        clauses = chance.choice(["", "", "", "gate", "off", "if 1 > 2", "keeps state" if i else ""])
        keeping += [f"t{i}"] if "keeps" in clauses else []
        lines += [f'test t{i} "T" {clauses}', "    read top = v_ok"]
        for n in range(chance.randint(1, 4)):
            lines += ["    " + line for line in _lines(chance, n)]
        lines.append("    check top <= 6 V")
    lines += ["after unit", "    set load.input = off"]
    return "\n".join(lines) + "\n", keeping


def _lines(chance: random.Random, n: int) -> list[str]:
    volts, amps = chance.choice([2, 5, 8, 14, 15.5]), chance.choice([0.05, 0.3, 1.2])
    return chance.choice([
        [f"set supply.voltage = {volts} V"], [f"set load.current = {amps} A, supply.voltage = {volts} V"],
        [f"set supply.over_voltage = 16.5 V, supply.voltage = {volts} V"], [f"set supply.current_limit = {amps} A"],
        [f"set supply.output = {chance.choice(['on', 'off'])}"], [f"set load.input = {chance.choice(['on', 'off'])}"],
        [f"sweep k{n} from 1 V to {chance.choice([3, 7])} V step 0.5 V", f"    set supply.voltage = k{n}"],
        [f"sweep k{n} over 1, 2, 3", f"    set load.current = 0.1 A * k{n}", f"    if k{n} == 2", f"        {chance.choice(['leave', 'skip', 'stop'])} \"x\""],
        ["set supply.voltage = top * 4"], ["set load.current = 0.1 A, supply.voltage = top * 4"], ["set supply.voltage = top * 3"],
        [f"set supply.voltage = {volts} V", "wait 1 s / (top - top) * 1 V"], ["check top <= 4 V"], ["do supply.reset"],
        [f"if {chance.choice(['1 > 2', '2 > 1', 'top > 4 V'])}", f"    set supply.voltage = {volts} V", "else", f"    set load.current = {amps} A"],
        ["wait 1 ms"],
    ])  # fmt: skip


def wrong(seed: int, file: BenchFile) -> str:
    """What does not hold, "" if everything does."""
    chance = random.Random(seed)
    text, keeping = text_of(chance)
    program = vet(Source("state.ibx", text))
    assert not program.has_mistakes, [program.source.render(f) for f in program.source.findings]
    links: list[MemoryLink] = []
    MemoryLink.heard.clear()
    states: dict[str, dict[str, str]] = {}
    order: list[str] = []

    def state() -> dict[str, str]:
        return {key: value for session in run.bench.sessions.values() for key, value in session.link.held.items()  # type: ignore[attr-defined]
                if session.name != "dmm" and key in SETTINGS}  # fmt: skip

    def look(event: events.Event) -> None:
        if isinstance(event, events.TestStarted):
            states[event.test] = state()
            order.append(event.test)
            MemoryLink.heard.append(("!", event.test))
        elif isinstance(event, events.TestEnded):
            MemoryLink.heard.append(("!", ""))

    only = (
        tuple(t.name for t in program.sequence.tests if chance.random() < 0.7)
        if chance.random() < 0.2 and not keeping
        else ()
    )
    identity = Identity("r", "R", "", "", datetime.datetime(2026, 11, 25, tzinfo=datetime.UTC))
    run = Run(program, file, identity, Still(), Consenting(), look, (), None, Orders(Selection(only=only)))
    run.carry_out()
    links += [session.link for session in run.bench.sessions.values()]  # type: ignore[misc]
    return (
        _beyond(file)
        or _not_previewed(program, file)
        or _begun_otherwise(states, order, keeping)
        or _left_on(links)
        or _tripped()
    )


def _values() -> list[tuple[str, str, float]]:
    """Test ("" between tests), header and value of everything that was set."""
    test, found = "", []
    for name, line in MemoryLink.heard:
        if name == "!":
            test = line
            continue
        header, _, value = line.partition(" ")
        if header in SETTINGS:
            found.append((test, header, {"ON": 1.0, "OFF": 0.0}.get(value) if value in ("ON", "OFF") else float(value)))
    return found  # type: ignore[return-value]


def _beyond(file: BenchFile) -> str:
    return next(
        (
            f"{header} {value} is beyond its ceiling"
            for _, header, value in _values()
            if value > CEILINGS.get(header, 99)
        ),
        "",
    )


def _not_previewed(program: object, file: BenchFile) -> str:
    told = {(m.setting, round(m.value, 9)) for m in timeline(program, file)}  # type: ignore[arg-type]
    computed = {15.0}  # top * 3, known only when the line runs: vetting says so
    for test, header, value in _values():
        if test and (SETTINGS[header], round(value, 9)) not in told and value not in computed:
            return f"in {test} {SETTINGS[header]} = {value} was sent, which preview did not tell"
    return ""


def _begun_otherwise(states: dict[str, dict[str, str]], order: list[str], keeping: list[str]) -> str:
    first = states[order[0]] if order else {}
    for test in order:
        if test not in keeping and {k: float(v) for k, v in states[test].items()} != {
            k: float(v) for k, v in first.items()
        }:
            return f"{test} began with {states[test]}, the first with {first}"
    return ""


def _left_on(links: list[MemoryLink]) -> str:
    on = [
        link.name
        for link in links
        for key in ("OUTP1", "INP")
        if link.name == {"OUTP1": "psu", "INP": "eload"}[key] and link.held[key] != "0"
    ]
    return f"{', '.join(on)} is still on" if on else ""


def _tripped() -> str:
    """Whether the voltage was above the level of the protection with the output on, outside of tests."""
    held = {"SOUR1:VOLT": 0.0, "SOUR1:VOLT:PROT": 40.0, "OUTP1": 0.0}
    test = ""
    for name, line in MemoryLink.heard:
        if name == "!":
            test = line
        elif line == "*RST" and name == "psu":
            held = {"SOUR1:VOLT": 0.0, "SOUR1:VOLT:PROT": 40.0, "OUTP1": 0.0}
        elif line.partition(" ")[0] in held:
            header, _, value = line.partition(" ")
            was_over = held["SOUR1:VOLT"] > held["SOUR1:VOLT:PROT"]
            held[header] = {"ON": 1.0, "OFF": 0.0}.get(value) if value in ("ON", "OFF") else float(value)  # type: ignore[assignment]
            if not test and not was_over and held["OUTP1"] and held["SOUR1:VOLT"] > held["SOUR1:VOLT:PROT"]:
                return f"{line} trips the protection while it is set back"
    return ""


def main() -> None:
    """Does so many and tells the first that do not hold."""
    number, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 1000, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    bench_module.SocketLink = MemoryLink  # type: ignore[misc,assignment]
    found = 0
    with tempfile.TemporaryDirectory() as folder:
        file = memory_bench(Path(folder))
        for i in range(number):
            what = wrong(seed * 1_000_000 + i, file)
            if what:
                found += 1
                print(f"{seed * 1_000_000 + i}: {what}\n{text_of(random.Random(seed * 1_000_000 + i))[0]}", flush=True)
                if found == 4:
                    break
    print(f"{number} sequences; {found} went wrong")
    sys.exit(bool(found))


if __name__ == "__main__":
    main()
