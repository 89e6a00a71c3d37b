"""`ibexite instruments`: the bench without a sequence."""

from __future__ import annotations

import json
import shlex
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.cli.calibrate_command import calibrate_command
from ibexite.cli.desk_bench import bench_if_any, desk_bench, simulate_option, watched
from ibexite.cli.hand_commands import HAND_COMMANDS
from ibexite.cli.options import bench_option, format_option, traffic_option
from ibexite.errors import EXIT_BENCH, EXIT_PASS, MistakeError
from ibexite.station.looking import Looked, look_at
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.station.finding import Found

_COLOURS = {"there": "green", "another": "red", "in use": "yellow", "lost": "red"}


@click.group("instruments")
def command() -> None:
    """The instruments of a bench without a sequence: who is there, what do they read, what happens if I set this?

    \b
    ibexite instruments list
    ibexite instruments verify --bench analog.toml
    ibexite instruments read v_out --every "500 ms"
    ibexite instruments set supply voltage 12 V
    ibexite instruments talk supply
    ibexite instruments explain supply voltage
    ibexite instruments calibrate v_in
    """


for _one in (*HAND_COMMANDS, calibrate_command):
    command.add_command(_one)


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
    with desk_bench(bench, simulate, traffic, at_any_position=True) as (file, opening):
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
@click.argument("role", default="")
@click.option("--exercise", is_flag=True, help="Go through every setting, reading and action of a role.")
@click.option("--with-outputs", is_flag=True, help="With --exercise: switch its output on for a moment, too.")
@click.option("--out", type=click.Path(path_type=Path), help="The file for the table, exercise_ROLE.csv without it.")
@bench_option
@simulate_option
@traffic_option
@format_option
def verify_command(
    role: str, exercise: bool, with_outputs: bool, out: Path | None, bench: Path | None, simulate: bool,
    traffic: Path | None, output: str,
) -> None:  # fmt: skip
    """Compares who answers with what the bench file expects, in words. The exit code is 3 if anything differs.

    With --exercise it goes through everything that the profile of a role says: each setting at both ends of its
    range within the ceilings and asked back, each reading, each action; and tells which do not behave. Outputs stay
    off unless --with-outputs is given; then levels are as near to nothing as they can be. At the end all is set back.

    \b
    ibexite instruments verify
    ibexite instruments verify supply --exercise
    """
    if exercise:
        from ibexite.cli.exercise_view import exercised

        raise click.exceptions.Exit(exercised(role, with_outputs, out, bench, simulate, traffic, output))
    if role:
        raise MistakeError(
            "a role alone is not verified", remedy=f"Write: ibexite instruments verify {role} --exercise"
        )
    with desk_bench(bench, simulate, traffic, at_any_position=True) as (file, opening):
        looked = look_at(file, opening)
    if output == "json":
        click.echo(json.dumps([_as_data(one) | {"expected": one.fact.identity} for one in looked], indent=2))
        raise click.exceptions.Exit(_exit_code(looked))
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

    file = bench_if_any(bench)
    with watched(traffic, "find") as opening:
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


@command.command("explain")
@click.argument("name")
@click.argument("word", default="")
@bench_option
@format_option
def explain_command(name: str, word: str, bench: Path | None, output: str) -> None:
    """Shows what a role, an instrument, a profile or a class offers: settings with their bounds, readings, actions, and
    the commands of each. With a WORD only the lines in which it stands. Nothing is connected.

    \b
    ibexite instruments explain supply
    ibexite instruments explain supply voltage
    ibexite instruments explain scpi-electronic-load INP
    ibexite instruments explain network_analyser
    """
    from ibexite.station.explaining import explained

    found = explained(name, word, bench_if_any(bench), Path.cwd())
    if output == "json":
        rows = [{"kind": line.kind, "name": line.name, "takes": line.takes, "help": line.help,
                 "commands": [list(pair) for pair in line.commands]} for line in found.lines]  # fmt: skip
        click.echo(json.dumps({"title": found.title, "lines": rows}, indent=2))
        return
    click.echo(found.title)
    width = max(len(line.name) for line in found.lines)
    for kind in dict.fromkeys(line.kind for line in found.lines):
        click.echo(f"\n{kind}s")
        for line in (one for one in found.lines if one.kind == kind):
            takes = f"{line.takes}; " if line.takes else ""
            click.echo(f"  {click.style(f'{line.name:<{width}}', bold=True)}  {takes}{line.help}")
            for what, text in line.commands:
                click.echo(click.style(f"  {'':<{width}}      {what:<10} {text}", dim=True))


def _found_data(one: Found) -> Fields:
    return {
        "address": one.address, "found_by": list(one.ways), "told": one.told, "identity": one.identity,
        "problem": one.problem, "name": one.name,
    }  # fmt: skip


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
