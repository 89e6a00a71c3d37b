"""Random sequences that set things, with a recorder at the instruments. What is held: no value beyond a ceiling arrives;
what arrives was previewed; each test begins in the state that `before unit` left, whatever ran before; outputs are off at
the end; setting back trips no protection. `python -m tests.laboratory.state N SEED` does so many on a bench from memory,
and a tenth of them over sockets on the simulated one."""

import random
import sys
import tempfile
from functools import partial
from pathlib import Path
from typing import Any, Protocol

from ibexite import events
from ibexite.bench.file import BenchFile, read_bench
from ibexite.bench.pool import Opening
from ibexite.engine.orders import Orders
from ibexite.engine.preview import timeline
from ibexite.engine.run import Run
from ibexite.engine.selection import Selection
from ibexite.instruments.open_link import open_link
from ibexite.language.check import vet
from ibexite.language.source import Source
from tests.laboratory.faults import Laboratory
from tests.laboratory.stub_bench import MemoryLink, memory_bench
from tests.runs import made_run

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


class Recorded(Protocol):
    """A bench whose instruments note what arrives: name and line; what tells of tests has the name "!"."""

    file: BenchFile
    heard: list[tuple[str, str]]
    opening: Opening

    def held(self, run: Run) -> dict[str, float]:
        """What the instruments have now, by header."""


class FromMemory:
    """The bench from memory."""

    opening = MemoryLink.opening

    def __init__(self, file: BenchFile) -> None:
        self.file, self.heard = file, MemoryLink.heard

    def held(self, run: Run) -> dict[str, float]:
        """As the links have it."""
        return {key: float(value) for session in run.bench.sessions.values() for key, value in session.link.held.items()  # type: ignore[attr-defined]
                if session.name != "dmm" and key in SETTINGS}  # fmt: skip


class OnSockets:
    """The simulated bench behind its sockets. The meter answers 5 V whatever happens, as that from memory does."""

    opening = staticmethod(open_link)

    def __init__(self, folder: Path) -> None:
        self.laboratory = Laboratory(folder)
        text = (folder / "bench.toml").read_text()
        (folder / "bench.toml").write_text(text + """[signals.v_ok]\nread = "meter.dc_voltage"\nwith = { channel = 103, range = "10 V" }\n""")
        self.file = read_bench(folder / "bench.toml").moved_to(self.laboratory.addresses)
        self.heard: list[tuple[str, str]] = []
        for name, device in self.laboratory.devices.items():
            device.receive = partial(self._receive, name, device.receive)  # type: ignore[method-assign]
        self.laboratory.devices["dmm"]._read = lambda: "+5.0000E+00"  # type: ignore[attr-defined]

    def _receive(self, name: str, receive: Any, message: str) -> None:
        self.heard += [(name, message)] if "?" not in message else []
        receive(message)

    def held(self, run: Run) -> dict[str, float]:
        """As the devices have it."""
        psu: Any = self.laboratory.devices["psu"]
        sink: Any = self.laboratory.devices["eload"].sink  # type: ignore[attr-defined]
        return {"SOUR1:VOLT": psu.source.voltage, "SOUR1:CURR": psu.source.limit, "OUTP1": psu.source.is_on,
                "SOUR1:VOLT:PROT": psu.over_voltage, "CURR": sink.current, "INP": sink.is_on}  # fmt: skip


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
        ["wait 1 ms"]])  # fmt: skip


def wrong(seed: int, bench: Recorded) -> str:
    """What does not hold, "" if everything does."""
    chance = random.Random(seed)
    text, keeping = text_of(chance)
    program = vet(Source("state.ibx", text))
    assert not program.has_mistakes, [program.source.render(f) for f in program.source.findings]
    bench.heard.clear()
    states: dict[str, dict[str, float]] = {}
    order: list[str] = []

    def look(event: events.Event) -> None:
        if isinstance(event, events.TestStarted):
            states[event.test] = bench.held(run)
            order.append(event.test)
            bench.heard.append(("!", event.test))
        elif isinstance(event, events.TestEnded):
            bench.heard.append(("!", ""))

    only = tuple(t.name for t in program.sequence.tests if chance.random() < 0.7) if chance.random() < 0.2 and not keeping else ()
    run = made_run(program, bench.file, look, orders=Orders(Selection(only=only)), opening=bench.opening)
    run.carry_out()
    values = _values(bench.heard)
    return (
        _beyond(values)
        or _not_previewed(program, bench.file, values)
        or _begun_otherwise(states, order, keeping)
        or _left_on(bench.held(run))
        or _tripped(bench.heard)
    )


Set = tuple[str, str, float]


def _values(heard: list[tuple[str, str]]) -> list[Set]:
    """Test ("" between tests), header and value of everything that was set."""
    test, found = "", []
    for name, line in heard:
        if name == "!":
            test = line
            continue
        header, _, value = line.partition(" ")
        if header in SETTINGS:
            found.append((test, header, {"ON": 1.0, "OFF": 0.0}.get(value) if value in ("ON", "OFF") else float(value)))
    return found  # type: ignore[return-value]


def _beyond(values: list[Set]) -> str:
    return next((f"{key} {value} is beyond its ceiling" for _, key, value in values if value > CEILINGS.get(key, 99)), "")


def _not_previewed(program: object, file: BenchFile, values: list[Set]) -> str:
    told = {(m.setting, round(m.value, 9)) for m in timeline(program, file)}  # type: ignore[arg-type]
    computed = {15.0}  # top * 3, known only when the line runs: vetting says so
    for test, header, value in values:
        if test and (SETTINGS[header], round(value, 9)) not in told and value not in computed:
            return f"in {test} {SETTINGS[header]} = {value} was sent, which preview did not tell"
    return ""


def _begun_otherwise(states: dict[str, dict[str, float]], order: list[str], keeping: list[str]) -> str:
    first = states[order[0]] if order else {}
    for test in order:
        if test not in keeping and states[test] != first:
            return f"{test} began with {states[test]}, the first with {first}"
    return ""


def _left_on(held: dict[str, float]) -> str:
    on = [SETTINGS[key] for key in ("OUTP1", "INP") if held[key]]
    return f"{', '.join(on)} is still on" if on else ""


def _tripped(heard: list[tuple[str, str]]) -> str:
    """Whether the voltage was above the level of the protection with the output on, outside of tests."""
    held = {"SOUR1:VOLT": 0.0, "SOUR1:VOLT:PROT": 40.0, "OUTP1": 0.0}
    test = ""
    for name, line in heard:
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
    found = 0
    with tempfile.TemporaryDirectory() as folder:
        sockets = OnSockets(Path(folder) / "simulated")
        found += _search(sockets, number // 10, seed)
        sockets.laboratory.close()
        found += _search(FromMemory(memory_bench(Path(folder))), number, seed)
    print(f"{number // 10} sequences over sockets, {number} from memory; {found} went wrong")
    sys.exit(bool(found))


def _search(bench: Recorded, number: int, seed: int) -> int:
    """How many did not hold; it ends at the fourth."""
    found = 0
    for at in range(seed * 1_000_000, seed * 1_000_000 + number):
        what = wrong(at, bench)
        if what:
            found += 1
            print(f"{at}: {what}\n{text_of(random.Random(at))[0]}", flush=True)
            if found == 4:
                break
    return found


if __name__ == "__main__":
    main()
