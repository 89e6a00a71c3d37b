"""Lists of differences: of connections against a brute-force comparison, of tables and texts, and where they are shown."""

import json
from itertools import combinations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import units
from ibexite.connections import connections_text, joined, wiring_of
from ibexite.differences import NotKnownError, NoToleranceError, Tolerance, intermittent, of_connections, of_tables, of_texts, swapped_pins

TENTH, OHM = Tolerance(0.1), Tolerance(0.2, units.OHM)
GOOD = {"nets": [["A1", "B1"], ["A2", "B2"], ["A3", "B3", "B4"]], "resistance": [["A1", "B1", 0.1]], "resistor": [["B1", "B2", 4700.0]],
        "forward_voltage": [["A5", "B5", 0.6]], "capacitor": [["A2", "B5", 1e-9]]}  # fmt: skip


def changed(**parts: object) -> str:
    return connections_text({**GOOD, **parts})


@pytest.mark.parametrize(("text", "found"), [
    (changed(), []), (changed(nets=[["A1", "B1"], ["A2"], ["B2"], ["A3", "B3", "B4"]]), ["missing A2 - B2"]),
    (changed(nets=[["A1", "B1"], ["A2", "B2", "A3", "B3", "B4"]]), ["extra A2 - A3 (of the net A2+A3+B2+B3+B4)"]),
    (changed(nets=[["A1", "B2"], ["A2", "B1"], ["A3", "B3", "B4"]], resistance=[], resistor=[["B1", "B2", 4700.0]]), ["swapped B1 and B2", "unmeasured resistance A1-B1, was 100 mohm"]),
    (changed(nets=[["A1", "B1"], ["A2", "B2"], ["A3", "B3"], ["B4"]]), ["missing A3 - B4 (of the net A3+B3+B4)"]),
    (changed(forward_voltage=[["B5", "A5", 0.6]]), ["reversed diode A5>B5"]), (changed(forward_voltage=[]), ["missing diode A5>B5"]),
    (changed(forward_voltage=[["A5", "B5", 0.7]]), ["changed diode A5>B5: 700 mV, was 600 mV"]), (changed(forward_voltage=[["A5", "B5", None]]), ["unmeasured diode A5>B5, was 600 mV"]),
    (changed(resistance=[["A1", "B1", 0.25]]), []), (changed(resistance=[["A1", "B1", 0.35]]), ["changed resistance A1-B1: 350 mohm, was 100 mohm"]),
    (changed(resistor=[["B1", "B2", 5170.0]]), []), (changed(resistor=[["B1", "B2", 5171.0]]), ["changed resistor B1-B2: 5.171 kohm, was 4.7 kohm"]),
    (changed(resistor=[["B1", "B3", 4700.0]]), ["missing resistor B1-B2", "extra resistor B1-B3, 4.7 kohm"]), (changed(resistance=[]), ["unmeasured resistance A1-B1, was 100 mohm"]),
    (changed(nets=[["A1"], ["B1"], ["A2", "B2"], ["A3", "B3", "B4"]], resistance=[]), ["missing A1 - B1"])])  # fmt: skip
def test_of_connections_it_is_told_what_to_mend(text, found) -> None:
    assert [f"{kind} {words}" for kind, words in of_connections(text, connections_text(GOOD), (TENTH, OHM))] == found


def test_values_are_compared_within_a_tolerance_and_never_without() -> None:
    with pytest.raises(NoToleranceError, match="A1-B1"):
        of_connections(changed(), connections_text(GOOD))
    for text in (changed(), changed(forward_voltage=[["A5", "B5", None]])):
        with pytest.raises(NotKnownError, match="diode A5>B5"):
            of_connections(text, changed(forward_voltage=[["A5", "B5", None]]), (TENTH, OHM))
    assert of_connections('[["A","B"]]', '[["A","B"]]') == []


PINS = [f"{side}{n}" for side in "AB" for n in range(1, 5)]
NETS = st.lists(st.integers(0, 5), min_size=len(PINS), max_size=len(PINS)).map(
    lambda owners: json.loads(connections_text([[p for p, o in zip(PINS, owners, strict=True) if o == owner] for owner in sorted(set(owners))])))  # fmt: skip


def pairs(nets: list[list[str]]) -> set[tuple[str, str]]:
    """Brute force: every two pins that are connected."""
    return {pair for net in nets for pair in combinations(sorted(net), 2)}


def as_pair(words: str) -> tuple[str, str]:
    first, second = words.split(" (")[0].split(" - ")
    return (first, second)


@given(NETS, NETS)
def test_a_list_says_all_that_a_brute_force_comparison_finds_and_no_more(nets, wanted) -> None:
    found = of_connections(json.dumps(nets), json.dumps(wanted))
    turned = {}
    for kind, words in found:
        if kind == "swapped":
            a, b = words.split(" and ")
            turned |= {a: b, b: a}
    nets = [[turned.get(pin, pin) for pin in net] for net in nets]
    missing, extra = ([as_pair(words) for kind, words in found if kind == one] for one in ("missing", "extra"))
    assert set(missing) <= pairs(wanted) - pairs(nets) and set(extra) <= pairs(nets) - pairs(wanted)
    # What is there and is to be, with what is missing, makes all that is to be; with what is extra all that is there.
    both = pairs(nets) & pairs(wanted)
    for links, whole in ((missing, wanted), (extra, nets)):
        assert pairs(joined([*both, *links])) == pairs(whole)
        parts = [len(net) - 1 - sum(len(p) - 1 for p in joined([pair for pair in both if pair[0] in net])) for net in map(set, whole)]
        assert len(links) == sum(parts)  # and as few as that takes
    assert bool(found) == (pairs(nets) != pairs(wanted) or bool(turned))


@given(NETS, st.permutations(PINS), st.integers(1, 2))
def test_exchanged_pins_are_found_as_swapped(wanted, order, many) -> None:
    whole = [net for net in wanted if len(net) > 1]
    chosen = [pair for pair in zip(order[::2], order[1::2], strict=True) if all(any(pin in net for net in whole) for pin in pair)][:many]
    chosen = [pair for pair in chosen if not any(set(pair) <= set(net) for net in wanted)]
    touched = [next(i for i, net in enumerate(wanted) if pin in net) for pair in chosen for pin in pair]
    if len(set(touched)) < len(touched):
        return  # two swaps in one net
    turned = {a: b for pair in chosen for a, b in (pair, pair[::-1])}
    nets = tuple(tuple(sorted(turned.get(pin, pin) for pin in net)) for net in wanted)
    swaps = swapped_pins(nets, wiring_of(json.dumps(wanted)).nets)
    assert len(swaps) == len(chosen)
    back = {a: b for pair in swaps for a, b in (pair, pair[::-1])}
    assert pairs([[back.get(pin, pin) for pin in net] for net in nets]) == pairs(wanted)


def test_contacts_that_come_and_go_are_told_once() -> None:
    whole, broken = '[["A1","B1"],["A2","B2"]]', '[["A1","B1"],["A2"],["B2"]]'
    assert [d.text for d in intermittent({whole: 3, broken: 1})] == ["A2 - B2, connected in 3 of 4 scans"]
    assert intermittent({whole: 2}) == []


def table(counters: list, delays: list, head: str = "counter") -> str:
    return json.dumps([[head, "", "", counters], ["delay", "s", "us", delays]])


@pytest.mark.parametrize(("text", "found"), [
    (table(["crc", "frame"], [1e-6, 2e-6]), []), (table(["crc", "frame"], [1e-6, 2.1e-6]), []), (table(["crc", "frame"], [1e-6, 2.3e-6]), ["changed row 2, delay in us: 2.3, was 2"]),
    (table(["crc", "sync"], [1e-6, 2e-6]), ["changed row 2, counter: sync, was frame"]), (table(["crc"], [1e-6]), ["missing row 2, frame"]),
    (table(["crc", "frame", "sync"], [1e-6, 2e-6, 0]), ["extra row 3, sync"]), (table(["crc", "frame"], [1e-6, None]), ["changed row 2, delay in us: -, was 2"]),
    (table(["crc", "frame"], [1e-6, 2e-6], "count"), ["missing column counter", "extra column count"])])  # fmt: skip
def test_tables_are_compared_cell_by_cell(text, found) -> None:
    assert [f"{kind} {words}" for kind, words in of_tables(text, table(["crc", "frame"], [1e-6, 2e-6]), (TENTH,))] == found


@pytest.mark.parametrize(("text", "found"), [
    ("a\nb\nc", []), ("a\nX\nc", ['changed line 2: "X", was "b"']), ("a\nc", ['missing line 2: "b"']), ("a\nb\nnew\nc", ['extra line 3: "new"']),
    ("", ['missing line 1: "a"', 'missing line 1: "b"', 'missing line 1: "c"']), ("a\nb\nc\n", ["changed the ends of its lines"])])  # fmt: skip
def test_texts_are_compared_line_by_line(text, found) -> None:
    assert [f"{kind} {words}" for kind, words in of_texts(text, "a\nb\nc")] == found


# --- where they are shown --------------------------------------------------------------------------------------------

PLAN = """sequence "Leads"
    product "P"
    serial ".*"
test wires "Wires"
    repeat scan 4 times
        call "leads.py" with scan = scan gives wires as connections, counters as table, log_text as text timeout 10 s
    call "leads.py" with scan = 0 gives plan as connections, known as table, words as text timeout 10 s
    check wires same as plan +/- 10 % as "lead"
    check wires same as plan as "without"
    check wires same as plan +/- 10 % where scan != 3 as "usual"
    check counters same as known as "counters"
    check log_text same as words as "log"
"""
PROGRAM = """#!/usr/bin/env python3
import json, sys
scan = json.load(sys.stdin)["scan"]
nets = [["A1", "B1"], ["A2", "B2"]] if scan != 3 else [["A1", "B1"], ["A2"], ["B2"]]
found = {"wires": {"nets": nets, "resistance": [["A1", "B1", 0.1]]}, "counters": {"n": [0 if scan < 4 else 7]}, "log_text": "boot\\nready" if scan < 2 else "boot"}
names = ("wires", "counters", "log_text") if scan else ("plan", "known", "words")
json.dump(dict(zip(names, found.values())), sys.stdout)
"""


def test_differences_are_in_terminal_records_report_and_a_file_to_print(project, ibexite) -> None:
    (project / "leads.ibx").write_text(PLAN)
    (project / "leads.py").write_text(PROGRAM)
    (project / "leads.py").chmod(0o755)
    ran = ibexite("run", "leads.ibx", "--serial", "L1", "--simulate", "--yes")
    assert ran.returncode == 1, ran.stdout + ran.stderr
    for told in ("intermittent  A2 - B2, connected in 3 of 4 scans", "changed       row 1, n: 7, was 0", 'missing       line 2: "ready"',
                 "nothing says how far values may be apart"):  # fmt: skip
        assert told in ran.stdout
    shown, data = ibexite("show", "last").stdout, json.loads(ibexite("show", "last", "--format", "json").stdout)
    results = {result["label"]: result for result in data["tests"][0]["results"]}
    assert results["lead"]["differences"] == [["intermittent", "A2 - B2, connected in 3 of 4 scans"]] and results["lead"]["failed"] == 1
    assert results["usual"]["differences"] == []
    assert (results["usual"]["verdict"], results["without"]["verdict"]) == ("pass", "error")
    ibexite("report", "last", "--out", "r.html")
    printed = next((project / "records" / "differences").iterdir()).read_text()
    for text in (shown, (project / "r.html").read_text(), printed):
        assert "A2 - B2, connected in 3 of 4 scans" in text and "row 1, n: 7, was 0" in text
    assert printed.startswith("P, unit L1\nFAIL (trial)\n") and max(map(len, printed.splitlines())) <= 80 and "[ ] changed" in printed


@pytest.mark.parametrize(("line", "title"), [
    ("check x same as x", "nothing to list differences of"), ('check serial same as "a" +/- x', "not a tolerance known before the run"), ("check serial same as 3 V", "these cannot be compared"),
    ('check serial same as "a" +/- 5 dB', "not a tolerance known before the run")])  # fmt: skip
def test_what_cannot_be_compared_is_told_before_the_run(line, title) -> None:
    from ibexite.language.check import vet
    from ibexite.language.source import Source

    head = 'sequence "S"\n    product "P"\n    serial ".*"\nneeds\n    v : signal in V\ntest t "T"\n    read v\n    let x = v * 1\n'
    source = Source("t.ibx", f"{head}    {line}\n")
    vet(source)
    assert any(title in finding.title for finding in source.findings), [f.title for f in source.findings]
