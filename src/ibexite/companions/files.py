"""The companions of a sequence as files: beside the sequence, and in the folders that the project names.

What reads the single kinds of file is imported where it is used: most sequences name none, and vetting shall be quick.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite import units
from ibexite.classes import InstrumentClass, classes_around
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.language.program import MeasurementFacts
from ibexite.language.python_function import PythonFunction
from ibexite.language.source import Source, read_source
from ibexite.plain_file import is_file, is_folder, is_there
from ibexite.reference import FOLDER, file_name, folder_of
from ibexite.values import Quantity, Type

if TYPE_CHECKING:
    from ibexite.companions.limits import LimitSheet
    from ibexite.mask import Mask
    from ibexite.reference import Reference
    from ibexite.wave_file import WaveFile

ENTRY_POINTS = "ibexite.measurements"
MASKS, MASK_ENDS = "masks", (".csv", ".xlsx")
_NO_MASK = "Put it there: a row for each point, with the headings piece, freq [kHz], low [dB], high [dB]."


class Files:
    """Companions in the folder of a sequence; `measurement_folders` hold measurements that a team shares."""

    def __init__(
        self, folder: Path, measurement_folders: tuple[Path, ...] = (), project: Path | None = None
    ) -> None:  # fmt: skip
        self.folder, self._folders, self._project = folder, measurement_folders, project or folder
        self._shared: dict[Path, Source] = {}
        self.python_files: list[tuple[str, str]] = []
        self.wave_files: dict[str, WaveFile] = {}  # that were read, by path
        self.limit_file: tuple[str, str] | None = None
        self.limits_instead: Path | None = None  # a limit table in the place of the one that is named

    def _path(self, name: str) -> Path:
        return self.folder / name

    def exists(self, name: str) -> bool:
        """True if there is such a file beside the sequence."""
        return is_file(self._path(name))

    def classes(self) -> Mapping[str, InstrumentClass]:
        """The instrument classes that ship, and those of the project."""
        return classes_around(self.folder)

    def shared(self, name: str) -> Source:
        """Another file of the language, read once."""
        path = self._path(name)
        try:
            key = path.resolve()
        except (OSError, RuntimeError, ValueError) as error:  # links in a circle
            raise MistakeError(f"cannot be found ({error})", where=str(path), remedy="Check the path.") from None
        if key not in self._shared:
            self._shared[key] = read_source(path)
        return self._shared[key]

    def limits(self, name: str) -> LimitSheet:
        """A limit table."""
        from ibexite.companions.limits import read_limits

        path = self.limits_instead or self._path(name)
        found = read_limits(path)
        self.limit_file = (found.path, found.sha256)
        return found

    def mask(self, name: str, variant: str) -> Mask:
        """A mask of the project: masks/NAME.csv or .xlsx, for a variant masks/NAME.VARIANT.csv where that is there."""
        from ibexite.companions.masks import read_mask

        folder = self._project / MASKS
        stems = ([f"{name}.{variant}"] if variant else []) + [name]
        found = [path for stem in stems for end in MASK_ENDS if is_there(path := folder / (stem + end))]
        if not found or "/" in name or "\\" in name:
            known = [p.name.partition(".")[0] for p in sorted(folder.iterdir())] if is_folder(folder) else []
            raise MistakeError(
                f"there is no mask {name!r}", where=str(folder), remedy=did_you_mean(name, known) or _NO_MASK
            )
        if len(found) > 1 and found[0].stem == found[1].stem:
            raise MistakeError(
                f"two files are the mask {name!r}: {found[0].name} and {found[1].name}", where=str(folder),
                remedy="Keep the one that counts.",
            )  # fmt: skip
        return read_mask(found[0], name)

    def golden(self, name: str, product: str, variant: str) -> Reference | None:
        """A reference of the project: golden/PRODUCT/NAME.toml, for a variant NAME.VARIANT.toml where that is there."""
        from ibexite.companions.references import read_reference

        folder = self._project / FOLDER / folder_of(product)
        paths = [folder / file_name(name, each) for each in dict.fromkeys((variant, ""))]
        found = next((path for path in paths if is_there(path)), None)
        if found is None:
            return None
        reference = read_reference(found, name)
        if reference.product != product or reference.variant not in ("", variant):
            whose = f"{reference.product}, variant {reference.variant}" if reference.variant else reference.product
            raise MistakeError(
                f"a reference of {whose}", where=str(found), remedy=f"Save one of {product}: ibexite golden save"
            )
        return reference

    def objection(self, path: str, sha256: str, *, is_needed: bool = True) -> str:
        """Why a file does not count as approved; "" if it does."""
        from ibexite.companions.approvals import objection

        return objection(self._project, Path(path), sha256, is_needed=is_needed)

    def functions(self, name: str) -> tuple[dict[str, PythonFunction], dict[str, MeasurementFacts]]:
        """What a Python file offers."""
        from ibexite.companions.declared import read_python

        path = self._path(name)
        found = read_python(path)
        self.python_files.append((str(path), hashlib.sha256(path.read_bytes()).hexdigest()))
        return found

    def wave(self, name: str) -> WaveFile:
        """A WAV file beside the sequence, read once."""
        from ibexite.wave_file import read_wave

        path = self._path(name)
        if str(path) not in self.wave_files:
            self.wave_files[str(path)] = read_wave(path)
        return self.wave_files[str(path)]

    def points(self, name: str, column: str) -> tuple[list[Decimal], Type]:
        """The values of a column, "freq", "freq [Hz]" or "freq in Hz"; the only column may have any name."""
        from ibexite.companions.sheet import read_sheet

        sheet = read_sheet(self._path(name), what="file of values")
        headings = {re.split(r"\s*[\[(]|\s+in\s+", c)[0]: c for c in sheet.columns}
        if column not in headings and len(headings) != 1:
            raise MistakeError(
                f"there is no column {column!r}", where=sheet.path, remedy=did_you_mean(column, headings)
            )
        heading = headings.get(column) or next(iter(headings.values()))
        unit_text = next((m for m in re.findall(r"[\[(]([^\])]*)[\])]|\bin\s+(\S+)$", heading)), ("", ""))
        default = unit_text[0] or unit_text[1]
        found: list[units.Amount] = []
        for row in sheet.rows:
            text = row.cells[heading]
            where = f"{sheet.path}: row {row.number}"
            try:
                quantity = units.parse_quantity(text)
                if not quantity.unit.symbol and default:
                    quantity = units.parse_quantity(f"{text} {default}")
            except UnitError as error:
                raise MistakeError(error.what, where=where, remedy=error.remedy) from None
            if found and quantity.dimension != found[0].dimension:
                raise MistakeError(
                    f"{text!r} is {units.describe(quantity.dimension)}", where=where,
                    remedy=f"The first value is {units.describe(found[0].dimension)}.",
                )  # fmt: skip
            found.append(quantity)
        if not found:
            raise MistakeError("there are no values", where=sheet.path, remedy="Write one a row below the heading.")
        first = found[0]
        return [q.value for q in found], Quantity((), first.dimension, first.unit.symbol or None)

    # --- measurements ------------------------------------------------------------------------------------------------

    def measurements(self) -> dict[str, MeasurementFacts]:
        """The measurements in the folders of the project."""
        found: dict[str, MeasurementFacts] = {}
        for folder in self._folders:
            if not is_folder(folder):
                raise MistakeError(
                    "there is no such folder of measurements", where=str(folder), remedy="See ibexite.toml."
                )
            for path in sorted(folder.iterdir()):
                for name, facts in self._offered(path).items():
                    if name in found:
                        raise MistakeError(
                            f"two measurements are called {name!r}", where=facts.origin,
                            remedy=f"The other one is in {found[name].origin}.",
                        )  # fmt: skip
                    found[name] = facts
        return found

    def _offered(self, path: Path) -> dict[str, MeasurementFacts]:
        from ibexite.companions.declared import MANIFEST, read_manifest, read_python

        is_meant = path.suffix in (".py", ".ibx") or path.name.endswith(MANIFEST)
        if not is_meant or path.name.startswith("."):  # the marks that editors set are such names
            return {}
        if not is_file(path):
            raise MistakeError(
                "this is no plain file, and so no measurement", where=str(path),
                remedy="Take it out of the folder of measurements, or mend the link.",
            )  # fmt: skip
        if path.name.endswith(MANIFEST):
            facts = read_manifest(path)
            return {facts.name: facts}
        if path.suffix == ".py" and re.search(
            r"^@\w*\.?measurement\(", path.read_text("utf-8", "replace"), re.MULTILINE
        ):
            return read_python(path)[1]
        if path.suffix == ".ibx":
            return self._of_shared_file(path)
        return {}

    def _of_shared_file(self, path: Path) -> dict[str, MeasurementFacts]:
        from ibexite.language.check import vet_shared

        source = read_source(path)
        program = vet_shared(source, Files(path.parent))
        if source.has_mistakes:
            first = next(f for f in source.sorted_findings() if f.level == "mistake")
            line, column = source.position(first.span.start)
            raise MistakeError(first.title, where=f"{path}:{line}:{column}", remedy=first.remedy)
        digest = hashlib.sha256(source.text.encode()).hexdigest()
        offered = {n: m for n, m in program.main.measurements.items() if m.origin == source.name}
        for facts in offered.values():
            facts.sha256 = digest
        return offered

    def installed(self) -> dict[str, MeasurementFacts]:
        """The measurements of installed packages, by entry points of the group ibexite.measurements.

        Each entry point names a module (or a function in one) whose file offers measurements.

        Raises:
            MistakeError: names the package whose offer is wrong.
        """
        import importlib.util
        from importlib.metadata import entry_points

        from ibexite.companions.declared import read_python

        found: dict[str, MeasurementFacts] = {}
        for entry in entry_points(group=ENTRY_POINTS):
            package = entry.dist.name if entry.dist else entry.value
            try:
                spec = importlib.util.find_spec(entry.module)
            except (ImportError, ValueError):
                spec = None
            if spec is None or not spec.origin:
                raise MistakeError(
                    f"package {package} offers measurements in {entry.module}, which is not there",
                    where="entry points",
                    remedy="Install the package anew, or remove it.",
                )  # fmt: skip
            found |= read_python(Path(spec.origin))[1]
        return found
