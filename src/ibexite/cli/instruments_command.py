"""`ibexite instruments`: the bench without a sequence."""

from __future__ import annotations

import contextlib
import json
import shlex
from collections.abc import Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.options import bench_option, format_option, parameters, traffic_option, with_option
from ibexite.cli.reading_view import read_and_show
from ibexite.errors import EXIT_BENCH, EXIT_PASS, MistakeError
from ibexite.station.looking import Looked, look_at
from ibexite.station.project import bench_at_desk
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.bench.pool import Opening
    from ibexite.station.finding import Found

_COLOURS = {"there": "green", "another": "red", "in use": "yellow", "lost": "red"}
simulate_option = click.option("--simulate", is_flag=True, help="Look at the simulated stand-ins.")


@click.group("instruments")
def command() -> None:
    """Looks at the instruments of a bench, without a sequence.

    \b
    ibexite instruments list
    ibexite instruments verify --bench analog.toml
    """


@command.command("list")
@bench_option
@simulate_option
@traffic_option
@format_option
def list_command(bench: Path | None, simulate: bool, traffic: Path | None, output: str) -> None:
    """Lists the instruments of the bench: who answers, and where. All are asked at once, in three seconds at most.

    Nothing is set, and what a run is using is left alone. The exit code is 3 unless each is there.

    \b
    ibexite instruments list
    ibexite instruments list --bench analog.toml --format json
    """
    with _bench(bench, simulate, traffic) as (file, opening):
        looked = look_at(file, opening)
    if output == "json":
        click.echo(json.dumps([_as_data(one) for one in looked], indent=2))
    else:
        click.echo(f"{file.name}\n")
        width = max((len(one.fact.name) for one in looked), default=0)
        for one in looked:
            _show(one, width)
    raise click.exceptions.Exit(_exit_code(looked))


@command.command("verify")
@bench_option
@simulate_option
@traffic_option
def verify_command(bench: Path | None, simulate: bool, traffic: Path | None) -> None:
    """Compares who answers with what the bench file expects, in words. The exit code is 3 if anything differs.

    \b
    ibexite instruments verify
    """
    with _bench(bench, simulate, traffic) as (file, opening):
        looked = look_at(file, opening)
    for one in looked:
        expected = f", as {one.fact.identity!r} expects" if one.fact.identity else "; the bench file takes any"
        text = {"there": f"is {one.identity}{expected}", "another": f"is another one: {one.told}"}
        click.echo(f"{one.fact.name} {text.get(one.state, f'cannot be compared: {one.told}')}")
        if one.remedy:
            click.echo(f"    {one.remedy}")
    good = sum(one.state == "there" for one in looked)
    click.echo(f"\n{good} of {len(looked)} are as the bench file says")
    raise click.exceptions.Exit(_exit_code(looked))


@command.command("find")
@bench_option
@click.option("--ask-ports", is_flag=True, help="Ask *IDN? at serial ports that the bench file does not know, too.")
@traffic_option
@format_option
def find_command(bench: Path | None, ask_ports: bool, traffic: Path | None, output: str) -> None:
    """Finds instruments: what announces itself on the network, answers a broadcast, or is plugged in; in three seconds.

    Tells who answers *IDN?, what the bench file calls it, and what is in the bench file but was not found. A bench file
    is not needed.

    \b
    ibexite instruments find
    """
    from ibexite.station.finding import find

    file = _bench_if_any(bench)
    with _watched(traffic, "find") as opening:
        found = find(file, opening, asks_ports=ask_ports)
    if output == "json":
        click.echo(json.dumps([_found_data(one) for one in found], indent=2))
        return
    there = [one for one in found if one.identity or one.ways != ("bench file",)]
    for one in there:
        name = click.style(one.name or "not in the bench file", bold=bool(one.name))
        click.echo(f"  {one.identity or one.told or 'something'}   {name}")
        more = f"   {one.problem}" if one.problem else ""
        click.echo(click.style(f"      {_shown_address(one.address)}   by {', '.join(one.ways)}{more}", dim=True))
    lost = [one for one in found if one not in there]
    if not there:
        click.echo("nothing was found")
    if lost:
        click.echo(f"\nin {file.path if file else ''}, but not found:")
        for one in lost:
            click.echo(
                f"  {click.style(one.name, fg='red', bold=True)}   {_shown_address(one.address)}   {one.problem}"
            )


@command.command("read")
@click.argument("words", nargs=-1, required=True, metavar="SIGNAL | ROLE READING | READING")
@click.option("--address", help="Of an instrument that is in no bench file; with --profile.")
@click.option("--profile", help="A shipped profile, or the name of a file.")
@with_option
@click.option("--every", default="0 s", show_default=True, help="Time between two readings.")
@click.option("--count", type=click.IntRange(1), help="So many readings; with --every alone until Ctrl-C.")
@bench_option
@simulate_option
@traffic_option
@format_option
def read_command(words: tuple[str, ...], given: tuple[str, ...], every: str, count: int | None, **where: Any) -> None:
    """Reads a signal or a reading of a role by hand. Nothing is reset or switched.

    Several readings are shown with their mean and deviation so far; at the end with least, greatest, and a curve.

    \b
    ibexite instruments read v_out
    ibexite instruments read supply voltage --every "500 ms" --count 20
    ibexite instruments read voltage --address TCPIP::192.0.2.10::5025::SOCKET --profile scpi-power-supply
    """
    from ibexite import units
    from ibexite.station.by_hand import bench_of_one, connected, what_to_read

    pause = units.parse_quantity(every)
    if pause.dimension != units.SECOND or not 0 <= float(pause) <= 86_400 or len(words) > 2:
        what = "two words at most say what to read" if len(words) > 2 else f"{every!r} is no time up to a day"
        raise MistakeError(what, remedy='Write, for example: ibexite instruments read v_out --every "2 s"')
    times = count or (1 if every == "0 s" else None)
    if bool(where["address"]) != bool(where["profile"]):
        raise MistakeError("--address and --profile go together")
    if where["address"]:
        bench: Any = contextlib.nullcontext(bench_of_one(where["address"], where["profile"], Path.cwd()))
        watching: Any = _watched(where["traffic"], where["address"])
    else:
        bench, watching = _bench(where["bench"], where["simulate"], where["traffic"]), None
    with contextlib.ExitStack() as stack:
        entered = stack.enter_context(bench)
        file, opening = entered if watching is None else (entered, stack.enter_context(watching))
        asked = what_to_read(file, words, parameters(given))
        connected_bench = stack.enter_context(connected(file, asked.instrument, opening))
        read_and_show(asked, connected_bench, times, float(pause), where["output"])


def _bench_if_any(given: Path | None) -> BenchFile | None:
    """The bench file; None where there is none and none is named."""
    from ibexite.bench.file import read_bench

    try:
        path = bench_at_desk(given, Path.cwd())
    except MistakeError:
        return None
    return read_bench(path)


def _found_data(one: Found) -> Fields:
    return {
        "address": one.address, "found_by": list(one.ways), "told": one.told, "identity": one.identity,
        "problem": one.problem, "name": one.name,
    }  # fmt: skip


@contextlib.contextmanager
def _bench(given: Path | None, simulate: bool, traffic: Path | None) -> Iterator[tuple[BenchFile, Opening]]:
    """The bench file, moved to its stand-ins if that is wanted, and what opens its links."""
    from ibexite.bench.file import read_bench

    file = read_bench(bench_at_desk(given, Path.cwd()))
    with contextlib.ExitStack() as stack:
        if simulate:
            from ibexite.station.simulated_bench import SimulatedBench

            file = stack.enter_context(SimulatedBench(file, "FC00400"))
        yield file, stack.enter_context(_watched(traffic, f"bench {file.name}"))


def _watched(traffic: Path | None, what: str) -> AbstractContextManager[Opening]:
    from ibexite.station.watching import watched

    return watched(traffic, what, lambda text: click.echo(text, err=True))


def _show(one: Looked, width: int) -> None:
    fact = one.fact
    word = click.style(f"{one.state:<8}", fg=_COLOURS[one.state], bold=True)
    click.echo(f"  {word} {fact.name:<{width}}  {one.identity or one.told}")
    due = f"   calibrated until {fact.calibration.due}" if fact.calibration else ""
    roles = f"   plays {', '.join(one.roles)}" if one.roles else ""
    if one.identity and one.told:
        click.echo(f"  {'':<8} {'':<{width}}  {one.told}")
    behind = f"{_shown_address(fact.address)}   {fact.profile.name}{roles}{due}"
    click.echo(click.style(f"  {'':<8} {'':<{width}}  {behind}", dim=True))


def _shown_address(address: str) -> str:
    """An address; of a program the names alone, for where they are is long and known from the bench file."""
    if not address.startswith("program "):
        return address
    return " ".join(Path(word).name or word for word in shlex.split(address))


def _as_data(one: Looked) -> Fields:
    fact = one.fact
    return {
        "name": fact.name, "state": one.state, "identity": one.identity, "told": one.told, "address": fact.address,
        "profile": fact.profile.name, "roles": list(one.roles),
        "calibration_due": fact.calibration.due.isoformat() if fact.calibration else "",
    }  # fmt: skip


def _exit_code(looked: list[Looked]) -> int:
    return EXIT_PASS if all(one.state == "there" for one in looked) else EXIT_BENCH
