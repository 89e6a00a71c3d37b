"""Settings that are waited for by the status byte, over the link: it says so, it never does, or it says so of an earlier
one."""

from pathlib import Path

import pytest

from ibexite.errors import MistakeError
from ibexite.instruments.profile import load_profile

PROFILE = """extends = "scpi-positioner"
start    = ["*CLS", "*RST", "*ESE 1"]
complete = { command = "*OPC", status_byte = [5], clearing = "*ESR?", every = "20 ms", timeout = "30 s" }
"""
SEQUENCE = """sequence "Moves"
    product "FM-2 echo sensor"
    serial  "ES[0-9]{4}"

needs
    stage : positioner

test moves "It is there when the line ends"
    sweep there over 300 mm, 100 mm, 450 mm
        set stage.position = there
        read now = stage.position
        check now within there +/- 0.5 mm as "place"
"""
ADDRESSES = ("TCPIP::127.0.0.1::5025::SOCKET", "TCPIP::127.0.0.1::hislip0::INSTR", "TCPIP::127.0.0.1::inst0::INSTR", "USB0::0x1AB1::0x0588::S1::INSTR")


def bench(project: Path, address: str, profile: str = PROFILE, more: str = "") -> None:
    """Writes the bench, its profile and the sequence."""
    (project / "slow.toml").write_text(profile)
    (project / "b.toml").write_text(
        f'[bench]\nname = "B"\n[instruments.slide]\nprofile = "slow.toml"\naddress = "{address}"\n{more}[roles.stage]\ninstrument = "slide"\n'
    )
    (project / "moves.ibx").write_text(SEQUENCE)


@pytest.mark.parametrize("address", ADDRESSES)
def test_a_line_ends_when_the_status_byte_says_so(ibexite, project: Path, address: str) -> None:
    bench(project, address)
    done = ibexite("run", "moves.ibx", "--bench", "b.toml", "--simulate", "--serial", "ES0001")
    assert done.returncode == 5, done.stdout + done.stderr


def test_what_does_not_say_so_in_time_is_an_error(ibexite, project: Path) -> None:
    """A way of 300 mm takes longer than that; the stage is halted then, and nothing is read as if it were there."""
    bench(project, ADDRESSES[0], PROFILE.replace('timeout = "30 s"', 'timeout = "200 ms"'))
    done = ibexite("run", "moves.ibx", "--bench", "b.toml", "--simulate", "--serial", "ES0001")
    assert done.returncode == 3 and "has not carried out its settings after 0.2 s" in done.stdout + done.stderr, done.stdout + done.stderr


@pytest.mark.parametrize(("wrong", "right", "told"), [
    ("status_byte = [5]", "status_byte = [8]", "not some numbers of bits"), ("status_byte = [5]", "status_byte = []", "not some numbers of bits"), (', clearing = "*ESR?"', "", "clearing"),
    (', every = "20 ms"', "", "every: is missing"), ("status_byte = [5]", 'status_byte = [5], query = "*STB?"', "query asks for it")])  # fmt: skip
def test_a_mistake_in_it_is_told(tmp_path: Path, wrong: str, right: str, told: str) -> None:
    (tmp_path / "slow.toml").write_text(PROFILE.replace(wrong, right))
    with pytest.raises(MistakeError) as error:
        load_profile("slow.toml", tmp_path)
    assert told in str(error.value)
