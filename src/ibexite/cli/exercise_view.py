"""`ibexite instruments verify ROLE --exercise`: the table on the screen and in a file."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.cli.desk_bench import desk_bench
from ibexite.cli.hand_commands import in_hand
from ibexite.errors import EXIT_BENCH, EXIT_PASS, MistakeError
from ibexite.plain_file import written_whole
from ibexite.station.project import shown_path

if TYPE_CHECKING:
    from ibexite.bench.exercise import Outcome

HEADS = ("kind", "name", "value", "result", "seconds")


def exercised(
    role: str, with_outputs: bool, out: Path | None, bench: Path | None, simulate: bool, traffic: Path | None,
    output: str,
) -> int:  # fmt: skip
    """Goes through a role, shows what became of it and writes it into a file; the exit code."""
    from ibexite.bench.exercise import exercise

    if not role:
        remedy = "Write: ibexite instruments verify supply --exercise"
        raise MistakeError("which role is to be gone through?", remedy=remedy)
    outcomes: list[Outcome] = []
    target = out or Path(f"exercise_{role}.csv")
    with desk_bench(bench, simulate, traffic) as (file, opening), in_hand(file, opening) as hand:
        try:
            if output != "json":
                session = hand.reach(hand.role(role).instrument)
                click.echo(f"{role}: {session.identity or session.name}, profile {session.profile.name}\n")
            for outcome in exercise(hand, role, with_outputs=with_outputs):
                outcomes.append(outcome)
                if output != "json":
                    _show(outcome)
        finally:  # what was found so far is kept, also when it is broken off
            if outcomes:
                with written_whole(target) as side:
                    side.write_text(_table(outcomes), encoding="utf-8")
    wrong = sum(bool(outcome.problem) for outcome in outcomes)
    if output == "json":
        click.echo(json.dumps([dict(zip(HEADS, _row(outcome), strict=True)) for outcome in outcomes], indent=2))
    else:
        tried = sum(not outcome.is_left_out for outcome in outcomes)
        click.echo(f"\n{tried - wrong} of {tried} behave as the profile says; written to {shown_path(target)}")
    return EXIT_BENCH if wrong else EXIT_PASS


def _result(outcome: Outcome) -> str:
    return outcome.problem or ("left out" if outcome.is_left_out else "ok")


def _row(outcome: Outcome) -> tuple[str, str, str, str, str]:
    return outcome.kind, outcome.name, outcome.what, _result(outcome), f"{outcome.seconds:.4f}"


def _show(outcome: Outcome) -> None:
    colour = "red" if outcome.problem else "yellow" if outcome.is_left_out else "green"
    took = "  goes on with --with-outputs" if outcome.is_left_out else f"{outcome.seconds * 1000:8.1f} ms"
    word = click.style(f"{'wrong' if outcome.problem else _result(outcome):<9}", fg=colour, bold=bool(outcome.problem))
    click.echo(f"  {word} {outcome.kind:<8} {outcome.name:<16} {outcome.what:<18} {took}")
    if outcome.problem:
        click.echo(f"            {outcome.problem}")


def _table(outcomes: list[Outcome]) -> str:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(HEADS)
    writer.writerows(map(_row, outcomes))
    return text.getvalue()
