"""`ibexite tidy`."""

from __future__ import annotations

import os
from pathlib import Path

import click

from ibexite.errors import EXIT_FAIL, EXIT_MISTAKE, MistakeError
from ibexite.plain_file import written_whole


@click.command("tidy")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--check", is_flag=True, help="Change nothing; exit code 1 if a file would be changed.")
def command(files: tuple[Path, ...], check: bool) -> None:
    """Rewrites sequences in the one canonical layout. Comments are kept; a second time changes nothing.

    \b
    ibexite tidy fm2_final.ibx
    ibexite tidy --check *.ibx
    """
    from ibexite.language.build import build_sequence, build_shared
    from ibexite.language.source import Source, read_source
    from ibexite.language.tidy import NotTheSame, tidy

    changed = False
    for path in files:
        source = read_source(path)
        probe = Source(source.name, source.text)
        is_shared = not any(line.startswith("sequence") for line in source.text.splitlines())
        (build_shared if is_shared else build_sequence)(probe)
        if probe.has_mistakes:
            for finding in probe.sorted_findings():
                click.echo(probe.render(finding) + "\n", err=True)
            raise click.exceptions.Exit(EXIT_MISTAKE)
        try:
            text = tidy(source)
        except NotTheSame:
            raise MistakeError(
                "it cannot be tidied without changing it", where=source.name, remedy="It was left as it is."
            ) from None
        is_same = path.read_bytes() == text.encode()
        changed |= not is_same
        if not is_same and not check:
            _write(path, text)
        click.echo(f"{source.name}: " + ("is tidy" if is_same else "would be changed" if check else "tidied"))
    if check and changed:
        raise click.exceptions.Exit(EXIT_FAIL)


def _write(path: Path, text: str) -> None:
    try:
        with written_whole(path) as side:
            side.write_text(text, encoding="utf-8", newline="\n")
            if os.name == "posix":
                side.chmod(path.stat().st_mode)
    except OSError as error:
        raise MistakeError(
            f"cannot be written ({error.strerror})", where=str(path), remedy="Check its permissions."
        ) from None
