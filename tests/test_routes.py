"""Routes: what may be connected, when, in which order, and that nothing of it stays."""

import re
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.bench import safety
from ibexite.bench.entries import RoleEntry, RouteEntry
from ibexite.bench.file import read_bench
from ibexite.bench.routes import Routes
from ibexite.errors import MistakeError, RouteError
from tests.conftest import IBEXITE, bench_on_links
from tests.runs import kept_events, troubled, vetted
from tests.test_commands import settled

MATRIX = """
[instruments.matrix]
profile = "scpi-switch"
address = "TCPIP::127.0.0.1::50259::SOCKET"
simulated = { identity = "Firnline,SW-8", wiring = { 201 = "battery", 202 = "output_voltage", 203 = "battery_voltage" } }
[roles.matrix]
instrument = "matrix"
[routes]
fixture = { switch = "matrix", close = [201], only_while_off = ["supply"], rated = 3 }
tap_out = { switch = "matrix", close = [202], one_of = "tap" }
tap_in  = { switch = "matrix", close = [203, 204], one_of = "tap" }
bypass  = { switch = "matrix", close = [204, 205], never_with = ["fixture"] }
"""
HEAD = """sequence "Routes"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"
needs
    supply                            : power_supply
    v_in, v_out                       : signal in V
    fixture, tap_out, tap_in, bypass  : route
before unit
    connect fixture, tap_out
    set supply.voltage = 9 V, supply.current_limit = 1 A, supply.output = on
    wait 300 ms
"""
GOOD = 'test good "Good"\n    read v_out\n    check v_out within 5 V +/- 5 %\n'


@pytest.fixture
def routed(perform: Callable) -> Callable:
    """Runs tests behind HEAD on the bench with a matrix."""
    return lambda text, head=HEAD, change=lambda text: text, **more: perform(text, header=head, change=lambda bench: change(bench + MATRIX), **more)


def said(run, *names: str) -> list[str]:
    """What was set on instruments, without questions."""
    return [line for line in run.traffic if line.split(">")[0] in names and "> " in line and "?" not in line and "*" not in line]


def test_what_is_behind_an_open_relay_is_not_there_and_each_test_begins_with_what_before_unit_connected(routed: Callable) -> None:
    run = routed("""test taps "Taps"
    connect tap_in
    wait 100 ms
    read v_in, none = v_out
    check v_in within 9 V +/- 2 %
    check none within 0 V +/- 20 mV
test cut "Cut"
    set supply.output = off
    disconnect fixture
    set supply.output = on
    wait 300 ms
    read dead = v_out
    check dead within 0 V +/- 20 mV
""" + GOOD)  # fmt: skip
    assert run.verdicts == dict.fromkeys(("taps", "cut", "good"), "pass")
    lines = said(run, "psu", "matrix")
    cut = lines[lines.index("psu> OUTP1 OFF") :]
    assert cut[:3] == ["psu> OUTP1 OFF", "matrix> ROUT:OPEN (@201)", "psu> OUTP1 ON"]
    assert cut[3:6] == ["psu> OUTP1 OFF", "matrix> ROUT:CLOS (@201)", "psu> OUTP1 ON"]  # set back, never under power
    relays = [line.removeprefix("matrix> ROUT:") for line in lines if "matrix" in line]
    assert relays[:9] == ["CLOS (@201)", "CLOS (@202)", "OPEN (@202)", "CLOS (@203)", "CLOS (@204)", "OPEN (@203)", "OPEN (@204)", "CLOS (@202)", "OPEN (@201)"]
    ends = lines[len(lines) - lines[::-1].index("psu> OUTP1 OFF") :]
    assert ends == [f"matrix> ROUT:OPEN (@{channel})" for channel in (201, 202, 203, 204, 205)]  # when the supply is off


@pytest.mark.parametrize(("lines", "told"), [
    ("connect bypass", "bypass must not be connected together with fixture"),
    ("connect tap_in, tap_out", "tap_out must not be connected together with tap_in"),
    ("disconnect fixture", "fixture may only be switched while supply is off, and it is on"),
    ("disconnect tap_in, fixture", "fixture may only be switched while supply is off"),
])  # fmt: skip
def test_what_only_comes_about_in_a_run_is_refused_before_a_relay_moves(routed: Callable, lines: str, told: str) -> None:
    run = routed(f'test a "A"\n    read v_out\n    if v_out > 1 V\n        {lines}\n    check v_out > 1 V\n' + GOOD)
    assert run.verdicts == {"a": "error", "good": "pass"} and told in run.ended["a"][1]
    assert [line for line in said(run, "matrix") if "CLOS" in line] == [f"matrix> ROUT:CLOS (@{c})" for c in (201, 202)]


@pytest.mark.parametrize(("lines", "place", "told"), [
    ("connect bypass", "15:13", "Write before it: disconnect fixture"),
    ("connect tap_in, tap_out", "15:13", "Connect one of the two."),
    ("disconnect fixture", "15:16", "Write before it: set supply.output = off"),
    ("connect tap_on", "15:13", "Did you mean tap_in?"),
    ("connect v_in", "15:13", "is a signal, not a route"),
    ("connect tap_in, tap_in", "15:13", "stands here twice"),
    ("read x = fixture", "15:14", "is a route, not a signal"),
    ("set fixture.closed = on", "15:9", "is a route, not a role"),
    ("let x = fixture", "15:13", "is a route, not a value"),
])  # fmt: skip
def test_lines_that_are_wrong_are_found_beforehand(project: Path, lines: str, place: str, told: str) -> None:
    (project / "bench.toml").write_text((project / "bench.toml").read_text() + MATRIX)
    use = 'test z "Z" if 1 > 2\n    disconnect bypass, tap_in\n    read v_in, v_out\n'
    source = vetted(HEAD + f'\ntest a "A"\n    check 1 >= 1\n    {lines}\n' + use, project)
    (found,) = [f for f in source.sorted_findings() if f.level == "mistake"]
    assert source.render(found).startswith(f"t.ibx:{place}: ") and told in source.render(found)


@pytest.mark.parametrize("lines", [
    "disconnect fixture",  # the supply may be off here
    "connect tap_in\n        connect tap_out",
    "set supply.output = off\n        disconnect fixture\n        connect bypass",
])  # fmt: skip
def test_what_may_be_right_is_no_mistake(project: Path, lines: str) -> None:
    (project / "bench.toml").write_text((project / "bench.toml").read_text() + MATRIX)
    source = vetted(HEAD + f'test a "A"\n    sweep n over 1, 2\n        set supply.output = n > 1\n        {lines}\n    check 1 >= 1\n', project)
    assert not source.has_mistakes, [source.render(f) for f in source.findings]


ENTRIES = {"a": 'close = [1]\nonly_while_off = ["supply"]', "b": "close = [2]", "c": "close = [3]"}


@pytest.mark.parametrize(("changes", "told"), [
    ({"b": "close = []"}, "routes.b.close: not some different channels"),
    ({"b": "close = [2, 2]"}, "routes.b.close: not some different channels"),
    ({"b": 'close = ["2"]'}, "routes.b.close: not all of these are whole numbers"),
    ({"b": "close = [2]\nsettling = '2 h'"}, "routes.b.settling: not between 0 s and 60 s"),
    ({"b": "close = [2]\nrated = -1"}, "routes.b.rated: -1 is less than 0"),
    ({"b": 'close = [2]\nnever_with = ["b"]'}, "routes.b.never_with: it is never with itself"),
    ({"b": 'close = [2]\nnever_with = ["aa"]'}, "routes.b.never_with: there is no route 'aa'\nDid you mean a?"),
    ({"b": 'close = [2]\none_of = "tap"'}, "routes.b.one_of: no other route is one of 'tap'"),
    ({"b": 'close = [1]\nnever_with = ["a"]'}, "routes.a.close: it closes all relays of b, which must not be with it"),
    ({"b": 'close = [2]\nnever_with = ["a"]', "c": "close = [1, 2]"}, "routes.c.close: it closes all relays of a and b, which must not be together"),
    ({"b": 'close = [2]\nonly_while_off = ["matrix"]'}, "routes.b.only_while_off: matrix has no output"),
    ({"b": 'close = [2]\nonly_while_off = ["suply"]'}, "routes.b.only_while_off: there is no role 'suply'\nDid you mean supply?"),
    ({"order": 'safe_order = ["matrix", "supply"]'}, "bench.safe_order: a may only be switched while supply is off, and matrix comes first"),
    ({"switch": "supply"}, "routes.a.switch: profile scpi-power-supply has no setting 'closed'"),
    ({"switch": "matrx"}, "routes.a.switch: there is no role 'matrx'\nDid you mean matrix?"),
    ({"positions": "[positions.left]\na = [1]\n[positions.right]\nb = [4]"}, "positions.left: it says nothing of b"),
    ({"positions": "[positions.left]\na = 1"}, "positions.left.a: 1 does not fit"),
    ({"positions": "[positions.left]\nsupply = [1]"}, "positions.left.supply: [1] does not fit"),
    ({"positions": "[positions.left]\nx = [1]"}, "positions.left.x: there is no role, signal or route of this name"),
    ({"positions": '[positions.left]\na = [1]\n[positions.right]\na = [2, 2]'}, "routes.a.close: not some different channels"),
])  # fmt: skip
def test_contradictory_routes_are_told(tmp_path: Path, changes: dict[str, str], told: str) -> None:
    routes = "".join(f'[routes.{name}]\nswitch = "{changes.get("switch", "matrix")}"\n{changes.get(name, text)}\n' for name, text in ENTRIES.items())
    instruments = "".join(f'[instruments.{n}]\nprofile = "scpi-{p}"\naddress = "TCPIP::192.0.2.1::{i}::SOCKET"\n[roles.{r}]\ninstrument = "{n}"\n'
                          for i, (n, p, r) in enumerate([("psu", "power-supply", "supply"), ("sw", "switch", "matrix")], 1))  # fmt: skip
    path = tmp_path / "b.toml"
    path.write_text(f'[bench]\nname = "b"\n{changes.get("order", "")}\n{instruments}{routes}{changes.get("positions", "")}\n')
    with pytest.raises(MistakeError) as caught:
        read_bench(path)
    assert told in re.sub(r"b\.toml:\d+: ", "", str(caught.value))


# --- what is believed -------------------------------------------------------------------------------------------------

ROUTES = {
    "a": ((1,), (), ""), "b": ((2,), ("a",), ""), "c": ((2, 3), (), "tap"), "d": ((4,), (), "tap"), "e": ((3, 4, 5), ("a",), ""), "f": ((1, 5), (), ""),
}  # fmt: skip


def made_routes() -> tuple[Routes, dict]:
    """Routes on a bench that only keeps what is set."""
    entries = {name: RouteEntry(name, "m", closed, never, group, 0.0, (), 0) for name, (closed, never, group) in ROUTES.items()}
    relays = {relay: RoleEntry(relay, "sw", 1, {}, {}) for entry in entries.values() for relay in entry.relays}
    held: dict[tuple[str, str], float] = {(relay, "closed"): 0.0 for relay in relays}
    bench = SimpleNamespace(file=SimpleNamespace(routes=entries, relays=relays), entries=relays, state=held, sessions={"sw": None})
    return Routes(bench, lambda keys: lambda *values: held.update(zip(keys, values, strict=True))), held  # type: ignore[arg-type]


@given(st.lists(st.tuples(st.booleans(), st.lists(st.sampled_from(sorted(ROUTES)), min_size=1, max_size=2, unique=True)), max_size=12))
def test_closed_is_what_connected_routes_need_and_no_two_are_together_that_must_not(deeds: list[tuple[bool, list[str]]]) -> None:
    routes, held = made_routes()
    connected: list[str] = []
    for is_on, names in deeds:
        before = dict(held)
        groups = {ROUTES[name][2] for name in names} - {""}
        after = [n for n in connected if n not in names and not (is_on and ROUTES[n][2] in groups)] + names * is_on
        closed = {channel for name in after for channel in ROUTES[name][0]}
        whole = [name for name in ROUTES if closed.issuperset(ROUTES[name][0])]
        forbidden = any(b in ROUTES[a][1] or (a != b and ROUTES[a][2] and ROUTES[a][2] == ROUTES[b][2]) for a in whole for b in whole)
        try:
            (routes.connect if is_on else routes.disconnect)(names, lambda seconds: None)
        except RouteError:
            assert is_on and forbidden and held == before
            continue
        assert not (is_on and forbidden)
        connected = after
        assert {int(relay.partition("@")[2]) for (relay, _), value in held.items() if value} == closed
        assert set(routes.connected) == set(after)


@pytest.mark.parametrize(("trouble", "told"), [
    ('command = "CLOS (@202)", how = "lost"', "the relay did not close"),
    ('command = "OPEN (@202)", how = "lost"', "the relay did not open"),
])  # fmt: skip
def test_a_relay_that_does_not_move_is_an_error(routed: Callable, trouble: str, told: str) -> None:
    change = lambda text: text.replace('"Firnline,SW-8", ', f'"Firnline,SW-8", trouble = [{{ {trouble} }}], ')  # noqa: E731
    run = routed('test a "A"\n    connect tap_in\n    check 1 >= 1\n' + GOOD, change=change)
    assert run.outcome.verdict == "error" and told in f"{run.ended} {run.outcome.reason.text}"
    assert run.verdicts.get("good") != "pass"


def test_a_relay_that_opened_by_itself_takes_the_pass(routed: Callable) -> None:
    trouble = 'query = "SYST:ERR?", nth = 2, how = "behind", message = "ROUT:OPEN (@202)"'
    change = lambda text: text.replace('"Firnline,SW-8", ', f'"Firnline,SW-8", trouble = [{{ {trouble} }}], ')  # noqa: E731
    run = routed('test a "A"\n    check 1 >= 1\n' + GOOD, change=change)
    assert run.verdicts == {"a": "error", "good": "pass"} and "relay matrix@202 was closed, but is open" in run.ended["a"][1]


# --- through the program ----------------------------------------------------------------------------------------------


@pytest.fixture
def routes_project(project: Path) -> Path:
    """The example project with a sequence of routes."""
    (project / "bench.toml").write_text((project / "bench.toml").read_text() + MATRIX)
    (project / "routes.ibx").write_text(HEAD + GOOD)
    return project


def test_closings_are_counted_and_a_worn_relay_is_told(ibexite: Callable, routes_project: Path) -> None:
    told = [ibexite("run", "routes.ibx", "--serial", "FC00400", "--simulate", "--yes") for _ in range(4)]
    assert [run.returncode for run in told] == [5] * 4
    worn = "relay 201 of matrix has closed 3 times, and is rated for 3 (route fixture)"
    assert [worn in run.stdout for run in told] == [False, False, False, True]
    assert worn in ibexite("show", "last").stdout


def test_at_a_position_names_mean_its_channels(ibexite: Callable, routes_project: Path) -> None:
    bench = routes_project / "bench.toml"
    text = (
        bench.read_text()
        .replace('201 = "battery",', '201 = "battery", 211 = "battery",')
        .replace('105 = "rail_3v3"', '105 = "rail_3v3", 113 = "output_voltage"')
    )
    bench.write_text(text + "[positions]\nleft = { v_out = 103, fixture = [201] }\nright = { v_out = 113, fixture = [211] }\n")
    run = ["run", "routes.ibx", "--serial", "FC00400", "--simulate", "--yes", "--traffic", "said.txt"]
    refused = ibexite(*run)
    assert refused.returncode == 2 and "the product may be at left, right" in refused.stderr and "--bench bench.toml@left" in refused.stderr
    assert "Did you mean right?" in ibexite(*run, "--bench", "bench.toml@rigt").stderr
    done = ibexite(*run, "--bench", "bench.toml@right")
    assert done.returncode == 5 and "bench FM-2 line, position 1, right" in done.stdout
    said = (routes_project / "said.txt").read_text()
    assert "@211" in said and "@113" in said and "@201" not in said and "@103" not in said
    again = ibexite("retest", "last", "--simulate", "--yes")
    assert again.returncode == 5 and "position 1, right" in again.stdout and "has changed" not in again.stdout
    (routes_project / "lot.csv").write_text("serial,position\nFC00400,left\nFC00401,right\nFC00402,\n")
    lot = [word for word in run if word not in ("--serial", "FC00400")]
    some = ibexite(*lot, "--table", "lot.csv")  # of the last one nobody says where it is
    assert some.returncode == 2 and "row 4, unit 'FC00402': no unit was run" in some.stderr
    both = ibexite(*lot, "--table", "lot.csv", "--bench", "bench.toml@left")
    assert [line.partition("position 1, ")[2].split()[0] for line in both.stdout.splitlines() if "position 1, " in line] == ["left", "right", "left"], both


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGTERM])
def test_a_run_that_is_killed_leaves_no_route_connected_and_opens_none_under_power(routes_project: Path, number: int) -> None:
    (routes_project / "routes.ibx").write_text(HEAD + 'test a "A"\n    repeat n 4000 times every 50 ms\n        read v_out\n    check v_out > 1 V\n')
    with bench_on_links(routes_project, {"psu": "hislip"}) as server:
        devices = {one.stand_in.name: one.device for one in server.instruments}
        process = subprocess.Popen([*IBEXITE, "run", "routes.ibx", "--serial", "FC00400", "--no-report"], cwd=routes_project,
                                   stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
        journal = row_written(routes_project, process)
        assert devices["psu"].source.is_on and devices["matrix"].values["closed", 201]
        moved: list[bool] = []
        receive = devices["matrix"].receive
        devices["matrix"].receive = lambda message: (moved.append(devices["psu"].source.is_on) if "OPEN" in message else None, receive(message))[1]
        process.send_signal(number)
        process.communicate(timeout=60)
        if number == signal.SIGKILL:
            settled(journal)
        assert not devices["psu"].source.is_on
        assert not any(value for (name, _), value in devices["matrix"].values.items() if name == "closed")
        assert moved and not any(moved)


def row_written(project: Path, process: subprocess.Popen) -> Path:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        for journal in (project / "records" / "journals").glob("*.jsonl"):
            if b'"e":"Row"' in journal.read_bytes():
                return journal
        assert process.poll() is None, process.communicate()
        time.sleep(0.02)
    raise AssertionError("no row")


def test_a_supply_that_does_not_go_off_keeps_its_route(routed: Callable, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its clean-up does not open it under power, and says so."""
    monkeypatch.setattr(safety, "PATIENCE", 0.2)
    off = troubled('command = "OUTP1 OFF", how = "lost", times = 999', "psu")
    run = routed(GOOD, change=lambda text: off(text).replace("[bench]", "[bench]\n"))
    assert run.outcome.is_safe is False and "matrix: it was left as it is: supply must be off before" in run.outcome.reason.text
    assert "matrix> ROUT:OPEN (@201)" not in said(run, "matrix")


def test_events_of_relays_are_stored_with_the_switch(ibexite: Callable, routes_project: Path) -> None:
    ibexite("run", "routes.ibx", "--serial", "FC00400", "--simulate", "--yes")
    closed = [entry["closed"] for entry in kept_events(routes_project) if entry["e"] == "RelaysClosed"]
    assert closed == [[["matrix", 201, 1], ["matrix", 202, 1]]]
