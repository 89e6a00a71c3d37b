"""An instrument that must be given time between two messages: the run keeps to it, and so does the guardian."""

from ibexite.instruments.link import Reply
from ibexite.instruments.paced_link import PacedLink
from tests.laboratory.stub_bench import MemoryLink

PACED = """extends = "scpi-power-supply"
[quirks]
pace     = "{pace}"
compound = false
"""


class Noting(MemoryLink):
    """Notes what is sent, and when."""

    def __init__(self) -> None:
        self.sent: list[tuple[str, bytes]] = []

    def send(self, data: bytes) -> None:
        self.sent.append(("send", data))

    def ask(self, data: bytes) -> None:
        self.sent.append(("ask", data))

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        return b"1"

    def exchange(self, data: bytes, reply: Reply = Reply.LINE) -> bytes:
        self.sent.append(("exchange", data))
        return b"1"


def test_each_command_is_a_message_of_its_own_and_time_lies_between(monkeypatch) -> None:
    now, waited = [100.0], []
    monkeypatch.setattr("ibexite.instruments.paced_link.time.monotonic", lambda: now[0])

    def sleep(seconds: float) -> None:
        waited.append(round(seconds, 6))
        now[0] += seconds

    monkeypatch.setattr("ibexite.instruments.paced_link.time.sleep", sleep)
    inner = Noting()
    inner.address = "A"
    link = PacedLink(inner, 0.02, b"\r\n")
    link.send(b"A 1\r\nB 2\r\n")
    assert link.exchange(b"C 3\r\nD?\r\n") == b"1"
    now[0] += 0.015
    link.ask(b"E?\r\n")
    link.receive()
    now[0] += 0.5
    link.send(b"F\r\n")
    assert inner.sent == [("send", b"A 1\r\n"), ("send", b"B 2\r\n"), ("send", b"C 3\r\n"), ("exchange", b"D?\r\n"), ("ask", b"E?\r\n"), ("send", b"F\r\n")]
    assert waited == [0.0, 0.02, 0.02, 0.02, 0.005, 0.0]


def test_a_run_on_such_an_instrument_ends_as_any_other_and_a_kill_leaves_nothing_on(ibexite, small, project) -> None:
    small('test a "A"\n    set supply.voltage = 9 V, supply.current_limit = 1 A, supply.output = on\n    wait 20 ms\n    read v_in\n    check v_in >= 8 V\n')
    (project / "slow.toml").write_text(PACED.format(pace="3 ms"))
    bench = project / "bench.toml"
    bench.write_text(bench.read_text().replace('"scpi-power-supply"', '"slow.toml"'))
    done = ibexite("run", "small.ibx", "--serial", "A1", "--simulate", "--traffic", "said.txt")
    assert done.returncode == 5 and "outputs off: load, supply" in done.stdout, done.stdout + done.stderr
    said = [line for line in (project / "said.txt").read_text().splitlines() if " psu > " in line]
    assert said and not any(";" in line for line in said), said[:3]
    (project / "slow.toml").write_text(PACED.format(pace="3 s"))
    assert "not between 0 s and 2 s" in ibexite("vet", "slow.toml").stderr
