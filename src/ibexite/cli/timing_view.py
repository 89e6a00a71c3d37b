"""The tables of `run --timing`: what each line and each instrument command cost."""

from __future__ import annotations

import click

from ibexite.engine.timing import Cost, Timing
from ibexite.language.program import Program
from ibexite.wording import duration_text

MOST = 15


def show_timing(timing: Timing, program: Program) -> None:
    """Prints the dearest lines and commands, each with how often, in all, on average, and the longest."""
    by_name = {source.name: source for source in program.sources}
    lines = {
        f"{file}:{line}  {by_name[file].line_text(line).strip()[:60]}": cost
        for (file, line), cost in timing.lines.items()
    }
    commands = {f"{name}  {text[:60]}": cost for (name, text), cost in timing.commands.items()}
    for title, costs in (("lines", lines), ("instrument commands", commands)):
        click.echo(f"\n  {title:<76} {'times':>7} {'in all':>10} {'each':>10} {'longest':>10}")
        ranked = sorted(costs.items(), key=lambda item: -item[1].seconds)
        for name, cost in ranked[:MOST]:
            click.echo(f"  {name:<76} {_numbers(cost)}")
        if len(ranked) > MOST:
            rest = sum(cost.seconds for _, cost in ranked[MOST:])
            click.echo(f"  and {len(ranked) - MOST} more: {duration_text(rest)}")


def _numbers(cost: Cost) -> str:
    texts = [_short(cost.seconds), _short(cost.seconds / cost.times), _short(cost.longest)]
    return f"{cost.times:>7} " + " ".join(f"{text:>10}" for text in texts)


def _short(seconds: float) -> str:
    if seconds < 1e-3:
        return f"{seconds * 1e6:.0f} us"
    return f"{seconds * 1e3:.1f} ms" if seconds < 1 else f"{seconds:.2f} s"
