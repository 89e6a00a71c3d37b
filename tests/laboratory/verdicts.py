"""Random small sequences, run on a bench from memory, and their verdicts by a second, naive reading of docs/verdicts.md.

`python -m tests.laboratory.verdicts 100000` does so many.
"""

import random
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ibexite.bench.file import BenchFile
from ibexite.engine.orders import Earlier, EarlierTest, Orders, Outcome
from ibexite.engine.selection import Selection
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.verdicts import ENDINGS, FAULTS, SKIPS, Judgement, Reason, Verdict, skipped
from tests import runs
from tests.laboratory.stub_bench import MemoryLink, memory_bench

HEAD = """sequence "Random"
    product "none"
    serial  "R"
needs
    supply : power_supply
    v_ok, v_bad, v_odd : signal in V
"""


@dataclass
class Test:
    """A test as it was drawn: its clauses and what its lines do."""

    __test__ = False
    name: str
    deeds: list[tuple[Any, ...]]
    gate: bool = False
    off: bool = False
    keeps: bool = False
    condition: str = ""  # "", yes, no, or the name of the test whose result it needs
    needs: str = ""


@dataclass
class Plan:
    """A whole sequence, and how it is run."""

    tests: list[Test]
    before: str = ""  # "", fail or error
    after: bool = False  # a line of after unit fails
    stop_on_fail: bool = False
    only: tuple[str, ...] = ()
    again: tuple[str, ...] = ()  # tests of a retest; none without
    odd: dict[str, Any] = field(default_factory=dict)


# --- drawing ---------------------------------------------------------------------------------------------------------

CHECKS = ("good",) * 8 + ("fail", "fail", "overload", "odd")


def draw(chance: random.Random) -> Plan:
    """A random plan."""
    tests: list[Test] = []
    for i in range(chance.randint(1, 5)):
        test = Test(f"t{i}", [_deed(chance) for _ in range(chance.choice([0, 1, 1, 2, 3]))])
        test.gate, test.off = chance.random() < 0.2, chance.random() < 0.08
        test.keeps = bool(tests) and chance.random() < 0.15
        if chance.random() < 0.35:
            test.condition = chance.choice(["yes", "no", *([chance.choice(tests).name] if tests else [])])
        if tests and chance.random() < 0.25:
            test.needs = chance.choice(tests).name
        tests.append(test)
    names = [t.name for t in tests]
    plan = Plan(tests, chance.choice([""] * 12 + ["fail", "error"]), chance.random() < 0.07, chance.random() < 0.1)
    if chance.random() < 0.15:
        plan.only = _closed(tests, {n for n in names if chance.random() < 0.6})
    if chance.random() < 0.3:
        plan.again = _closed(tests, {n for n in names if chance.random() < 0.5})
    return plan


def _closed(tests: list[Test], chosen: set[str]) -> tuple[str, ...]:
    """A choice that tears no test from the one whose state it keeps."""
    for i in range(len(tests) - 1, 0, -1):
        if tests[i].keeps and tests[i].name in chosen:
            chosen.add(tests[i - 1].name)
    return tuple(t.name for t in tests if t.name in chosen)


def _deed(chance: random.Random) -> tuple[Any, ...]:
    kind = chance.choice(["check"] * 9 + ["loop"] * 6 + ["watch", "stat", "error", "skip", "stop", "set"])
    if kind == "check":
        return "check", chance.choice(CHECKS)
    if kind == "loop":
        way = chance.choice(["", "", "", "", "skip", "stop", "leave", "error"])
        return "loop", chance.choice([12, 12, 10, 8]), way, chance.randint(1, 3)
    if kind == "watch":
        return "watch", chance.choice(["good", "good", "good", "fail", "overload", "odd"]), chance.random() < 0.4
    if kind == "stat":
        return "stat", chance.choice(["good", "overload", "odd"]), chance.choice([0, 3])
    return (kind,)


# --- writing ---------------------------------------------------------------------------------------------------------

SIGNAL = {"good": "v_ok", "fail": "v_ok", "overload": "v_bad", "odd": "v_odd"}


def text_of(plan: Plan) -> str:
    """The sequence."""
    lines = [HEAD, "before unit", "    set supply.voltage = 9 V, supply.output = on", "    read b = v_ok"]
    lines += {"fail": ["    check b <= 4 V"], "error": ["    wait 1 s / (b - b) * 1 V"], "": []}[plan.before]
    for test in plan.tests:
        clauses = ["gate"] * test.gate + ["off"] * test.off + ["keeps state"] * test.keeps
        if test.condition:
            words = {"yes": "2 > 1", "no": "1 > 2"}
            clauses.append(f"if {words.get(test.condition, f'{test.condition}.top > 1 V')}")
        clauses += [f"needs pass of {test.needs}"] if test.needs else []
        lines += [f'test {test.name} "T" {" ".join(clauses)}', "    read top = v_ok"]
        for i, deed in enumerate(test.deeds):
            lines += ["    " + line for line in _lines(deed, i)]
    lines += ["after unit", "    wait 0 s"] + (["    set supply.voltage = 99 V"] if plan.after else [])
    return "\n".join(lines) + "\n"


def _lines(deed: tuple[Any, ...], i: int) -> list[str]:
    match deed:
        case ("check", how):
            return [f"read a{i} = {SIGNAL[how]} tries 1", f"check a{i} <= {4 if how == 'fail' else 6} V"]
        case ("loop", base, way, at):
            ways = {"skip": 'skip "s"', "stop": 'stop "s"', "leave": 'leave "s"', "error": f"wait 1 s / (k{i} - k{i})"}
            return [f"sweep k{i} from 1 to 3 step 1", f"    read a{i} = v_ok", f"    check a{i} <= {base} V - 2 V * k{i}",
                    *([f"    if k{i} == {at}", f"        {ways[way]}"] if way else [])]  # fmt: skip
        case ("watch", how, stops):
            return [f"watch {SIGNAL[how]} <= {4 if how == 'fail' else 6} V every 1 s{' else stop' if stops else ''}", "    wait 0 s"]
        case ("stat", how, allowed):
            return [f"sweep k{i} over 1, 2", f"    read a{i} = {SIGNAL[how]} tries 1", f"let most{i} = max(a{i})",
                    f"check most{i} <= 6 V{f' allowing {allowed} bad' if allowed else ''}"]  # fmt: skip
        case ("error",):
            return [f"let z{i} = 1 s / (top - top) * 1 V", f"wait z{i}"]
        case ("set",):
            return ["set supply.voltage = 7 V"]
        case (kind,):
            return [f'{kind} "s"']
    raise AssertionError(deed)


# --- the naive reading -----------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Naive:
    """What the page says of a test; whether its lines were begun, and came to their end."""

    judged: Judgement
    is_begun: bool = False
    is_done: bool = False


def expected(plan: Plan, only: tuple[str, ...], earlier: dict[str, Naive]) -> tuple[dict[str, Naive], str]:
    """What the page says of each test, and of the unit."""
    found: dict[str, Naive] = {}
    if plan.before:
        for test in plan.tests:
            found[test.name] = Naive(skipped("broken_off", ""))
        return found, "error"
    closed, last_ran, before = "", "", ""
    for test in plan.tests:
        is_taken = bool(earlier) and test.name not in only
        chosen = not only or test.name in only
        found[test.name] = mine = earlier[test.name] if is_taken else _one(test, chosen, found, closed, last_ran == before)
        if mine.is_begun and not is_taken:
            last_ran = test.name
            closed = closed or ("stop" if _stops(test) else "")
        if test.gate and mine.judged.verdict != "pass" and mine.judged.skip != "selection":
            closed = closed or "gate"
        if plan.stop_on_fail and not is_taken and mine.judged.verdict in ("fail", "error"):
            closed = closed or "stop"
        before = test.name
    judgements = [mine.judged for mine in found.values()]
    if any(j.has_failed for j in judgements):
        return found, "fail"
    if any(j.verdict in ("error", "aborted") for j in judgements) or plan.after:
        return found, "error"
    return found, "pass" if any(j.verdict == "pass" for j in judgements) else "error"


def _one(test: Test, chosen: bool, found: dict[str, Naive], closed: str, previous_ran: bool) -> Naive:
    misses = bool(test.needs) and found[test.needs].judged.verdict != "pass"
    reasons = {
        "off": test.off, "selection": not chosen, "condition": test.condition == "no", closed: bool(closed), "needs": misses,
        "state": test.keeps and not previous_ran}  # fmt: skip
    for code, holds in reasons.items():
        if holds:
            return Naive(skipped(code, ""))
    if test.condition not in ("", "yes") and not found[test.condition].is_done:
        return Naive(Judgement(Verdict.ERROR))
    judged, is_done = _lines_done(test)
    return Naive(judged, True, is_done)


def _lines_done(test: Test) -> tuple[Judgement, bool]:
    checks: list[str] = []
    is_broken, left = False, ""
    for deed in test.deeds:
        match deed:
            case ("check", how):
                checks.append({"good": "pass", "fail": "fail", "overload": "fail", "odd": "error"}[how])
            case ("stat", how, _):
                checks.append({"good": "pass", "overload": "fail", "odd": "error"}[how])  # nothing good is left
            case ("loop", base, way, at):
                last = at if way else 3
                checks.append("fail" if any(base - 2 * k < 5 for k in range(1, last + 1)) else "pass")
                left, is_broken = ("line" if way == "skip" else "stop" if way == "stop" else ""), way == "error"
            case ("watch", how, stops):
                # What trips it is counted itself; the watch judges what it has seen.
                checks.append({"good": "pass", "fail": "fail", "overload": "fail", "odd": "error"}[how])
                left = "stop" if how != "good" and stops else "trip" if how != "good" else ""
            case ("error",):
                is_broken = True
            case ("skip",):
                left = "line"
            case ("stop",):
                left = "stop"
        if is_broken or left:
            break
    has_failed = "fail" in checks
    if is_broken or "error" in checks:
        return Judgement(Verdict.ERROR, has_failed), not is_broken and not left
    if has_failed:
        return Judgement(Verdict.FAIL, True), not left
    if left:
        return skipped(left, ""), False
    return Judgement(Verdict.PASS if checks else Verdict.NO_CHECK), True


def _stops(test: Test) -> bool:
    """Whether its lines come to something that ends the unit."""
    for deed in test.deeds:
        match deed:
            case ("error",) | ("skip",) | ("loop", _, "skip" | "error", _):
                return False
            case ("stop",) | ("loop", _, "stop", _):
                return True
            case ("watch", how, stops) if how != "good":
                return bool(stops)
    return False


# --- comparing -------------------------------------------------------------------------------------------------------


def real_outcome(plan: Plan, file: BenchFile, only: tuple[str, ...], earlier: Earlier | None = None) -> Outcome:
    """The outcome of a real run."""
    program = vet(Source("random.ibx", text_of(plan)))
    assert not program.has_mistakes, [program.source.render(f) for f in program.source.findings]
    orders = Orders(Selection(only=only), plan.stop_on_fail, earlier=earlier)
    return runs.carried_out(program, file, orders=orders, opening=MemoryLink.opening)


def difference(plan: Plan, file: BenchFile) -> str:
    """What the run and the naive reading say differently, "" if nothing."""
    outcome = real_outcome(plan, file, plan.only)
    told, verdict = expected(plan, plan.only, {})
    found = _compared(outcome, told, verdict)
    if found or not plan.again or plan.before:
        return found
    ended = {name: EarlierTest(facts, 0.0, "r1") for name, facts in outcome.facts.items()}
    completed = {name for name, mine in told.items() if mine.is_done}
    earlier = Earlier("r1", "r1", outcome.verdict, ended, (Reason("halted", "halted", "r1"),), {},
                      result=lambda test, name: 5.0 if test in completed else None)  # fmt: skip
    again = real_outcome(plan, file, plan.again, earlier)
    told, verdict = expected(plan, plan.again, told)
    taken = set(told) - set(plan.again)
    codes = {reason.code for reason in again.trial}
    if ("halted" in codes) != bool(taken):
        return f"retest: the reasons are {codes}, taken over {taken}"
    return _compared(again, told, verdict, "retest: ")


KNOWN = {"", *SKIPS, *FAULTS}  # codes of the reasons of tests


def _compared(outcome: Outcome, told: dict[str, Naive], verdict: str, what: str = "") -> str:
    unknown = {facts.reason.code for facts in outcome.facts.values()} - KNOWN
    if unknown or outcome.reason.code not in KNOWN | set(ENDINGS):
        return f"{what}there is no reason {unknown or outcome.reason.code}"
    if any(facts.reason.text and not facts.reason.code for facts in outcome.facts.values()):
        return f"{what}a reason without code: {outcome.facts}"
    for name, mine in told.items():
        real = outcome.facts[name]
        if (real.verdict, real.has_failed, real.skip) != (mine.judged.verdict, mine.judged.has_failed, mine.judged.skip):
            return f"{what}{name} is {outcome.facts[name]}, by the page {mine.judged}"
    if outcome.verdict != verdict:
        return f"{what}the unit is {outcome.verdict} ({outcome.reason}), by the page {verdict}"
    left_out = any(n.judged.verdict == "skipped" and n.judged.skip != "condition" for n in told.values())
    if left_out != any(reason.code == "left_out" for reason in outcome.trial):
        return f"{what}left out: {left_out}, but the reasons are {outcome.trial}"
    return ""


def main() -> None:
    """Does so many and tells the first that differ."""
    number, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 2000, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    verdicts: dict[str, int] = {}
    wrong = 0
    with tempfile.TemporaryDirectory() as folder:
        file = memory_bench(Path(folder))
        for i in range(number):
            plan = draw(random.Random(seed * 1_000_000 + i))
            found = difference(plan, file)
            verdict = expected(plan, plan.only, {})[1]
            verdicts[verdict] = verdicts.get(verdict, 0) + 1
            if found:
                wrong += 1
                print(f"{seed * 1_000_000 + i}: {found}\n{text_of(plan)}only {plan.only} again {plan.again}", flush=True)
                if wrong == 5:
                    break
    print(f"{number} sequences: {verdicts}; {wrong} differ")
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
