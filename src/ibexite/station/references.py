"""References from stored runs: saves values of a known good unit, lists what a project has, compares two, approves."""

from __future__ import annotations

import datetime
import math
import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ibexite import units
from ibexite.companions.approvals import Approval, approve, objection
from ibexite.companions.references import read_reference, write_reference
from ibexite.conditions import differences
from ibexite.errors import MistakeError, did_you_mean
from ibexite.holes import is_never_measured
from ibexite.plain_file import cannot_write, is_folder, is_there
from ibexite.records.stored_run import RunRecord, TestRecord
from ibexite.records.stored_values import axis_types, names_of, type_of, value_of
from ibexite.reference import FOLDER, Axis, Origin, Reference, ReferenceValue, file_name, folder_of
from ibexite.untyped import Measured
from ibexite.values import Connections, Picture, Type
from ibexite.verdicts import Verdict

if TYPE_CHECKING:
    from ibexite.analysis.curve import Curve

_BEFORE_IT_IS_ONE = ("reference", "unapproved", "taught")  # why a run was a trial that made a reference
_NAME = re.compile(r"[a-z_][a-z0-9_]*")


def save(
    project: Path, record: RunRecord, values: tuple[str, ...], name: str, *, by: str, although: str = "",
    replaces: bool = False, for_all_variants: bool = False,
) -> Reference:  # fmt: skip
    """Makes values of a run a reference of the project.

    Args:
        values: each "test.name", or a name that only one test has.
        although: why it is to be one although its run did not pass.

    Raises:
        MistakeError: there is no such value, it has bad readings, the run did not pass, there is such a reference, it
            cannot be written.
    """
    if not _NAME.fullmatch(name):
        raise MistakeError(f"{name!r} cannot be the name of a reference", where="--as",
                           remedy="Small letters, digits and _, such as antenna_lead.")  # fmt: skip
    _refuse_bad_run(record, although)
    found = [_saved_value(record, word) for word in values]
    by_name = {value.name: value for value in found}
    if len(by_name) < len(found):
        raise MistakeError("two of the values have one name", where=", ".join(values), remedy="Save them one by one.")
    variant = "" if for_all_variants else _variant_of(record)
    path = project / FOLDER / folder_of(record.row["product"]) / file_name(name, variant)
    made = Reference(name, str(path), "", record.row["product"], variant, _origin(record, by, although), by_name)
    try:
        write_reference(path, made, is_new=not replaces)
    except OSError as error:
        if not isinstance(error, FileExistsError) or not is_there(path):
            raise cannot_write(path, error) from None
        raise MistakeError(
            f"there is a reference {name!r}", where=str(path),
            remedy="Look at it: ibexite golden show. --replace puts the new one there.",
        ) from None  # fmt: skip
    return read_reference(path, name)


def _refuse_bad_run(record: RunRecord, although: str) -> None:
    """A known good unit has passed: nothing of it failed, and what broke is only that a reference was not there yet."""
    row = record.row
    failed = [test.row["name"] for test in record.tests if test.row["has_failed"]]
    broken = [test.row["name"] for test in record.tests if _is_broken(test)]
    what = ""
    if failed or broken:
        what = f"{', '.join(failed)} failed" if failed else f"{', '.join(broken)} ended in an error"
    elif row["verdict"] == Verdict.ABORTED:
        what = "it was aborted"
    elif row["verdict"] == Verdict.ERROR and row["reason_code"]:
        what = f"its run ended in an error ({row['reason']})"
    if what and not although.strip():
        raise MistakeError(f"this unit is not known to be good: {what}", where=f"run {row['id']}",
                           remedy='Take a run that passed, or say why: --although "why"')  # fmt: skip


def _is_broken(test: TestRecord) -> bool:
    if test.row["verdict"] not in (Verdict.ERROR, Verdict.ABORTED):
        return False
    codes = {result["reason_code"] for result in test.results if result["verdict"] == Verdict.ERROR}
    return not codes or codes != {"no_reference"} or test.row["reason_code"] != "no_reference"


def _variant_of(record: RunRecord) -> str:
    return next((str(param["value"]) for param in record.row["params"] if param["name"] == "variant"), "")


def _origin(record: RunRecord, by: str, although: str) -> Origin:
    row = record.row
    notes = {
        "sequence": f"{row['sequence']}, revision {row['revision']}" if row["revision"] else row["sequence"],
        "sequence_sha256": row["sequence_sha256"], "bench": record.bench_text, "operator": row["operator"],
        "station": row["station"], "software": row["software"], "saved_by": by,
        "saved": datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
    }  # fmt: skip
    notes |= {"although": although} if although else {}
    trial = tuple(reason["text"] for reason in row["trial"] if reason["code"] not in _BEFORE_IT_IS_ONE)
    is_simulated = any(reason["code"] == "simulated" for reason in row["trial"])
    return Origin(row["id"], row["serial"], row["started"], row["verdict"], trial, is_simulated, notes)


# --- one value -------------------------------------------------------------------------------------------------------


def _saved_value(record: RunRecord, word: str) -> ReferenceValue:
    test, name = find_value(record, word)
    kind, value = type_of(test, name), value_of(test, name)
    where = f"run {record.row['id']}"
    if isinstance(kind, Picture):
        raise MistakeError(f"{word} is a picture", where=where, remedy="It is looked at, not compared.")
    assert kind is not None
    bad = [entry for entry in test.bad_readings if entry["name"] == name]
    axes, values = _axes_and_values(value, axis_types(test, name))
    if bad or not values or any(_is_bad(kind, v) for v in values if v is not None):
        why = bad[0]["reason"] if bad else "not all of it could be computed" if values else "it was never measured"
        raise MistakeError(f"{word} has bad values: {why}", where=where, remedy="Measure it again.")
    return ReferenceValue(name, test.row["name"], kind, axes, values, test.conditions_of(name))


def _is_bad(kind: Type, value: Any) -> bool:
    """Whether a value that was measured cannot be compared with: not a number, or connections that lack one."""
    return kind.has_holes(value) if isinstance(kind, Connections) else bool(value != value)


def find_value(record: RunRecord, word: str) -> tuple[TestRecord, str]:
    """The test and the name that a word means, "test.name" or a name that one test has. Raises MistakeError."""
    where = f"run {record.row['id']}"
    everything = [(part, name, f"{part.row['name']}.{name}") for part in record.parts for name in names_of(part)]
    found = [(part, name) for part, name, whole in everything if word == whole]
    found = found or [(part, name) for part, name, _ in everything if word == name]
    if len(found) == 1:
        return found[0]
    if not found:
        hint = did_you_mean(word, [whole for _, _, whole in everything])
        raise MistakeError(f"there is no value {word!r}", where=where, remedy=hint)
    wholes = ", ".join(f"{part.row['name']}.{name}" for part, name in found)
    raise MistakeError(f"{len(found)} tests have {word!r}", where=where, remedy=f"Write one of: {wholes}")


def _axes_and_values(value: Measured, kinds: dict[str, Type]) -> tuple[tuple[Axis, ...], tuple[Any, ...]]:
    if not hasattr(value, "axes"):
        return (), (float(value) if isinstance(value, bool) else value,)
    curve: Curve = value
    sampling = curve.sampling
    axes: tuple[Axis, ...]
    if sampling is not None:
        axes = (Axis(sampling.axis, kinds[sampling.axis], (), (sampling.start, sampling.step)),)
    else:
        axes = tuple(Axis(name, kinds[name], tuple(points.tolist())) for name, points in curve.axes.items())
    return axes, tuple(None if _was_never(v) else v for v in curve.values.ravel().tolist())


def _was_never(value: Measured) -> bool:
    return not isinstance(value, str) and is_never_measured(value)


# --- what a project has ----------------------------------------------------------------------------------------------


def paths_of(project: Path) -> Iterator[Path]:
    """The files of all references of a project."""
    folder = project / FOLDER
    if is_folder(folder):
        yield from sorted(folder.glob("*/*.toml"))


def find(project: Path, word: str) -> Reference:
    """The reference meant by a word: its name, with its variant behind a point, or a path.

    Raises:
        MistakeError: none or several fit, or it is wrong.
    """
    paths = list(paths_of(project))
    found = [path for path in paths if word in (path.stem, str(path), path.relative_to(project).as_posix())]
    found = found or [path for path in paths if path.stem.partition(".")[0] == word]
    if not found and Path(word).is_file():
        found = [Path(word)]
    if len(found) == 1:
        return read_reference(found[0], found[0].stem.partition(".")[0])
    where = str(project / FOLDER)
    if not found:
        hint = did_you_mean(word, [path.stem for path in paths]) or "A run becomes one: ibexite golden save"
        raise MistakeError(f"there is no reference {word!r}", where=where, remedy=hint)
    names = ", ".join(path.relative_to(project).as_posix() for path in found)
    raise MistakeError(f"{len(found)} references are called {word!r}", where=where, remedy=f"Write one of: {names}")


def standing(project: Path, reference: Reference) -> str:
    """Whether a reference is approved, in words."""
    return objection(project, Path(reference.path), reference.sha256) or "approved"


def approve_reference(project: Path, reference: Reference, by: str, reason: str) -> Approval:
    """Approves a reference as it is now."""
    now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    return approve(project, Path(reference.path), by, now, reason)


def value_said(value: ReferenceValue) -> str:
    """A value of a reference in a few words."""
    if not value.axes:
        return value.type.said(value.values[0])
    sizes = " x ".join(f"{len(axis.points) or len(value.values):,}" for axis in value.axes)
    return f"{value.type}, {sizes} points"


def greatest_difference(one: ReferenceValue, other: ReferenceValue) -> tuple[float, int] | str:
    """How far two values are apart at most, in base units of their difference, and at which of their places; or why
    they cannot be compared, in words."""
    if not one.type.compares(other.type) or one.type.is_complex != other.type.is_complex:
        return f"{one.type} against {other.type}"
    if one.axes != other.axes:
        return "other points of their axes"
    if any(isinstance(v, str) for v in (*one.values, *other.values)):
        return "" if one.values == other.values else "not the same"
    apart = [math.nan if a is None or b is None else abs(a - b)  # type: ignore[operator]
             for a, b in zip(one.values, other.values, strict=True)]  # fmt: skip
    known = [(size, place) for place, size in enumerate(apart) if size == size]
    return max(known, key=lambda pair: pair[0]) if known else "nothing of both was measured"


def difference_of(value: ReferenceValue) -> units.Dimension:
    """What the difference of two such values is."""
    return units.difference(value.type.dimension)


def points_of(axis: Axis, count: int) -> list[float | str]:
    """The points of an axis; of an evenly sampled one the first so many."""
    if axis.sampling is not None:
        return [axis.sampling[0] + i * axis.sampling[1] for i in range(count)]
    return list(axis.points)


def place_said(axes: tuple[Axis, ...], place: int) -> str:
    """Where the value with this number lies on the axes, in words."""
    parts = []
    for axis in reversed(axes):
        if axis.sampling is not None:
            point: float | str = axis.sampling[0] + place * axis.sampling[1]
        else:
            place, mine = divmod(place, len(axis.points))
            point = axis.points[mine]
        parts.append(f"{axis.name} = {point if isinstance(point, str) else axis.type.said(point, digits=6)}")
    return ", ".join(reversed(parts))


def otherwise(one: ReferenceValue, other: ReferenceValue) -> list[str]:
    """What was otherwise when the second was measured, in words."""
    return differences(one.conditions, other.conditions)
