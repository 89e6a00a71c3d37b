"""`ibexite explain`."""

from __future__ import annotations

import textwrap

import click


@click.command("explain")
@click.argument("word", required=False)
def command(word: str | None) -> None:
    """Explains a word of the language: a verb, a declaration, a function, a unit, an instrument class.

    Without a word it lists what can be explained.

    \b
    ibexite explain search
    ibexite explain resonance
    """
    from ibexite.cli.explain import all_words, explain

    if word is None:
        for kind, known in all_words().items():
            click.echo(f"{kind}:")
            click.echo(textwrap.fill(", ".join(known), 96, initial_indent="    ", subsequent_indent="    "))
        return
    for line in explain(word).split("\n"):
        indent = "" if line[:1] != " " else "    "
        click.echo(textwrap.fill(line, 100, subsequent_indent=indent) if not indent else line)
