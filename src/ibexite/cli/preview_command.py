"""`ibexite preview`."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path

import click

from ibexite.cli.options import bench_option, format_option, open_program, sequence_argument, with_option
from ibexite.wording import duration_text


@click.command("preview")
@sequence_argument
@bench_option
@with_option
@format_option
def command(sequence: Path, bench: Path | None, given: tuple[str, ...], output: str) -> None:
    """Shows what a sequence will do: steps, set points of the sweeps, number of rows, time. Nothing is connected.

    \b
    ibexite preview fm2_final.ibx --bench bench.toml
    """
    from ibexite.engine.preview import preview

    program, file, _ = open_program(sequence, bench, given)
    blocks = preview(program, file)
    if output == "json":
        click.echo(json.dumps([asdict(block) for block in blocks], indent=2))
        return
    click.echo(f"{program.sequence.title} on {file.name}\n")
    for block in blocks:
        title = f"test {block.name}   {block.title}" if block.title else block.name
        rows = f"   {block.rows} rows" if block.rows else ""
        click.echo(click.style(title, bold=True) + f"{rows}   {_at_least(block.seconds, block.is_exact)}")
        for step in block.steps:
            times = f"   {step.times} x" if step.times > 1 else ""
            click.echo(f"  {step.line:>4}  {'    ' * step.depth}{step.text}{times}")
        click.echo()
    total = sum(block.seconds for block in blocks)
    questions = sum(len(block.questions) for block in blocks)
    asked = f", and {questions} question{'s' if questions > 1 else ''} to the operator" if questions else ""
    click.echo(
        f"{sum(block.rows for block in blocks)} rows in all, "
        f"{_at_least(total, all(block.is_exact for block in blocks))}{asked}"
    )


def _at_least(seconds: float, is_exact: bool) -> str:
    return ("about " if is_exact else "more than ") + duration_text(seconds)
