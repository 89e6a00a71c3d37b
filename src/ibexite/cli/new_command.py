"""`ibexite new`."""

from __future__ import annotations

import re
from pathlib import Path

import click

from ibexite.errors import MistakeError, did_you_mean
from ibexite.language.words import RESERVED
from ibexite.plain_file import is_there
from ibexite.station.project import find_project, shown_path

KINDS = {"sequence": ("sequence.ibx",), "python": ("python.py",), "program": ("program.py", "program.measurement.toml")}


@click.group("new")
def command() -> None:
    """Makes a project, a sequence, a measurement or a profile from a template that works at once.

    \b
    ibexite new project front_end
    ibexite new sequence intake.ibx
    ibexite new measurement settling --in python
    ibexite new profile press.toml --class power_supply
    """


def _check_name(name: str) -> None:
    if not re.fullmatch(r"[a-z][a-z0-9_]*", name) or name in RESERVED:
        raise MistakeError(
            f"{name!r} cannot be a name", remedy="Names are lower_snake_case, and no words of the language."
        )


def _write(target: Path, template: str, name: str) -> None:
    text = Path(__file__).with_name("templates").joinpath(template + ".txt").read_text("utf-8").replace("NAME", name)
    _write_text(target, text)


def _write_text(target: Path, text: str) -> None:
    if is_there(target):
        raise MistakeError("there is such a file already", where=str(target), remedy="Take another name.")
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text, encoding="utf-8")
    except OSError as error:
        raise MistakeError(
            f"cannot be written ({error.strerror})", where=str(target), remedy="Check its permissions."
        ) from None
    click.echo(f"made {shown_path(target)}")


@command.command("project")
@click.argument("folder", type=click.Path(path_type=Path))
def project(folder: Path) -> None:
    """A project: its file, a bench, a first sequence, a folder of measurements."""
    for name, template in (("ibexite.toml", "project.toml"), ("bench.toml", "bench.toml"), ("first.ibx", "first.ibx")):
        _write(folder / name, template, folder.name)
    (folder / "measurements").mkdir(exist_ok=True)
    click.echo(f"try it: cd {folder}; ibexite run first.ibx --serial 1 --simulate --yes")


@command.command("sequence")
@click.argument("file", type=click.Path(path_type=Path))
def sequence(file: Path) -> None:
    """A sequence with one test."""
    _write(file.with_suffix(".ibx"), "first.ibx", file.stem)


@command.command("measurement")
@click.argument("name")
@click.option("--in", "kind", type=click.Choice(list(KINDS)), required=True, help="In which form it is written.")
def measurement(name: str, kind: str) -> None:
    """A measurement in the language, in Python or as a program, with a test of it."""
    _check_name(name)
    project = find_project(Path.cwd())
    folder = project.measurements[0] if project.measurements else project.folder / "measurements"
    suffixes = {"sequence.ibx": ".ibx", "python.py": ".py", "program.py": "_program.py",
                "program.measurement.toml": ".measurement.toml"}  # fmt: skip
    for template in KINDS[kind]:
        _write(folder / f"{name}{suffixes[template]}", f"measurement_{template}", name)
    _write(folder / f"test_{name}.py", "measurement_test.py", name)
    if not project.measurements:
        click.echo('name the folder in ibexite.toml, below [project]: measurements = ["measurements"]')
    click.echo(f"try it: ibexite measure {name} --simulate")


@command.command("profile")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--class", "class_name", required=True, help="The class of the instrument.")
def profile(file: Path, class_name: str) -> None:
    """A profile with every entry of a class, each with its help as a comment. Its commands are made up; it can be
    rehearsed as it stands.

    \b
    ibexite new profile press.toml --class power_supply
    """
    from ibexite.classes import classes_around
    from ibexite.station.profile_template import profile_template

    classes = classes_around(Path.cwd())
    if class_name not in classes:
        raise MistakeError(f"there is no class {class_name!r}", remedy=did_you_mean(class_name, classes))
    target = file.with_suffix(".toml")
    _write_text(target, profile_template(classes[class_name]))
    click.echo(f"put the commands of your instrument into it, then: ibexite vet {shown_path(target)}")
