"""Checks what lies in files of its own: masks, and how far limits may be moved onto what they judge."""

from __future__ import annotations

from ibexite import units
from ibexite.errors import MistakeError
from ibexite.language import constants, nodes
from ibexite.language.check_names import NameChecker
from ibexite.mask import Mask
from ibexite.reference import Reference, ReferenceValue
from ibexite.values import Quantity, Type

GOLDEN = "golden"
_SAVE_IT = "A run of a good unit becomes one: ibexite golden save RUN VALUE --as NAME"
MOST_FACTOR = 0.5  # beyond that nothing is left of a shape


def file_of(expr: nodes.FromFile) -> str:
    """The name of a reference, without that of the value in it."""
    return expr.name.partition(".")[0]


def value_in(reference: Reference, word: str) -> ReferenceValue | None:
    """The value of a reference that is meant by "reference.value", or by "reference" where it has one only."""
    name = word.partition(".")[2]
    if not name and len(reference.values) == 1:
        return next(iter(reference.values.values()))
    return reference.values.get(name)


def golden_in(statement: nodes.Check) -> list[nodes.FromFile]:
    """The references that a check takes values from."""
    criterion = statement.criterion
    limits = [criterion.a, criterion.b] if criterion is not None else []
    parts = [part for part in (statement.value, *limits) if part is not None]
    return [file for part in parts for file in constants.files_in(part) if file.kind == GOLDEN]


def golden_behind(statement: nodes.Check, body: tuple[nodes.Statement, ...]) -> list[nodes.FromFile]:
    """The references that a check takes values from, and those of the formulas of its block that it stands on: what a
    source was measured to be, and is divided out."""
    formulas = {one.name: one.value for one in nodes.walk(body) if isinstance(one, nodes.Let)}
    criterion = statement.criterion
    todo = [statement.value, *((criterion.a, criterion.b) if criterion is not None else ())]
    names = [name for part in todo if part is not None for name in sorted(constants.names_in(part))]
    found, seen = golden_in(statement), set()
    while names:
        name = names.pop()
        if name in formulas and name not in seen:
            seen.add(name)
            found += [file for file in constants.files_in(formulas[name]) if file.kind == GOLDEN]
            names += sorted(constants.names_in(formulas[name]))
    return found


class FileChecker(NameChecker):
    """What a check line takes from files of the project."""

    def from_file(self, expr: nodes.FromFile) -> Type | None:
        """The type of what a file holds; None after a mistake, and where nobody knows the files."""
        if expr.kind == GOLDEN:
            return self._golden(expr)
        mask = self._mask(expr)
        if mask is None:
            return None
        axis = self.axis_of(mask.axis)
        if axis is None or axis.dimension != mask.axis_dimension:
            found = "" if axis is None else str(axis)
            self.source.report(
                expr.span, f"no axis {mask.axis!r} of {units.describe(mask.axis_dimension)} here", found,
                f"That is the axis of {mask.path}.",
            )  # fmt: skip
            return None
        side = expr.kind.removeprefix("mask_")
        if side != expr.kind and not mask.has(side):
            word = {"low": "lower", "high": "upper"}[side]
            self.source.report(expr.span, f"no {word} line", "", f"{mask.path} has none.")
            return None
        return Quantity((mask.axis,), mask.dimension, mask.shown)

    def _mask(self, expr: nodes.FromFile) -> Mask | None:
        masks = self.program.masks
        if expr.name not in masks and self.companions is not None:
            try:
                mask = masks[expr.name] = self.companions.mask(expr.name, self._variant())
                self.program.objections[mask.path] = self.companions.objection(mask.path, mask.sha256)
            except MistakeError as error:
                self._report_error(expr, error)
        return masks.get(expr.name)

    def _variant(self) -> str:
        variant = self.scope.known.get("variant")
        return variant if isinstance(variant, str) else ""

    def _report_error(self, expr: nodes.Expr, error: MistakeError) -> None:
        what = f"{error.where}: {error.what}" if error.where else error.what
        self.source.report(expr.span, what, "", error.remedy)

    # --- references --------------------------------------------------------------------------------------------------

    def _golden(self, expr: nodes.FromFile) -> Type | None:
        if not self.has_looked_for(expr):
            return None
        reference = self.program.references[file_of(expr)]
        if reference is None:
            self.source.report(expr.span, f"there is no reference {file_of(expr)!r} yet", "", _SAVE_IT)
            return None
        value = value_in(reference, expr.name)
        if value is None:
            known = ", ".join(f'golden("{file_of(expr)}.{name}")' for name in reference.values)
            self.source.report(expr.span, "which of its values?", reference.path, f"It has: {known}.")
            return None
        for axis in value.axes:
            here = self.axis_of(axis.name)
            if here is None:
                self.foreign_axes[axis.name] = self.program.axes[axis.name] = axis.type.over((axis.name,))
            elif not here.compares(axis.type):
                self.source.report(
                    expr.span, f"its axis {axis.name} is {axis.type}", str(here), f"See {reference.path}."
                )
                return None
        return value.type

    def has_looked_for(self, expr: nodes.FromFile) -> bool:
        """Whether it is known if there is a reference; a mistake was reported, or there are no files, if not."""
        references, name = self.program.references, file_of(expr)
        if name in references or self.companions is None:
            return name in references
        product = self.program.sequence.product
        if not product:
            self.source.report(
                expr.span, "a reference belongs to a product", "", "Give it to the measurement as an input."
            )
            return False
        try:
            found = references[name] = self.companions.golden(name, product, self._variant())
            if found is not None:
                self.program.objections[found.path] = self.companions.objection(found.path, found.sha256)
        except MistakeError as error:
            self._report_error(expr, error)
        return name in references

    def _lacks_reference(self, statement: nodes.Check) -> bool:
        """Whether a check needs a reference that is not there yet: it cannot be decided then, and is no mistake."""
        is_mask = statement.criterion is not None and statement.criterion.kind == "inside"
        for expr in golden_in(statement) if not is_mask else ():
            if self.has_looked_for(expr) and self.program.references[file_of(expr)] is None:
                self.source.report(
                    expr.span, f"there is no reference {file_of(expr)!r} yet", "",
                    f"Until there is, this check is an error. {_SAVE_IT}", level="warning",
                )  # fmt: skip
                self.program.without_reference[statement] = file_of(expr)
        return statement in self.program.without_reference

    def _age(self, statement: nodes.Check) -> None:
        limit = statement.not_older
        if limit is None:
            return
        kind, seconds = self.scalar(limit), constants.number(limit, self.scope.known)
        if not golden_behind(statement, self.body):
            self.source.report(limit.span, "nothing that grows old", "", "References do: within golden(…) +/- t.")
        elif kind is not None and kind.dimension != units.SECOND:
            self.source.report(limit.span, "wrong unit", str(kind), "It takes a time, such as 24 h.")
        elif kind is not None and (seconds is None or seconds <= 0):
            self.source.report(limit.span, "not a time known before the run", "", "Write a number, such as 24 h.")

    # --- how limits may be moved -------------------------------------------------------------------------------------

    def _aligned(self, statement: nodes.Check, kind: Type | None) -> None:
        criterion = statement.criterion
        for aligned in statement.aligned:
            if criterion is None or criterion.kind not in ("inside", "within", "between"):
                self.source.report(
                    aligned.span, "nothing to align", "", "Limits of both sides can be moved: inside, within, between."
                )
            elif kind is not None and not kind.axes:
                self.source.report(aligned.span, "a single value has no shape", str(kind), "Curves can be aligned.")
            elif isinstance(kind, Quantity):
                self._bound(aligned, criterion, kind)

    def _bound(self, aligned: nodes.Aligned, criterion: nodes.Criterion, kind: Quantity) -> None:
        mask = None
        if isinstance(criterion.a, nodes.FromFile) and criterion.kind == "inside":
            mask = self.program.masks.get(criterion.a.name)
            if mask is None:
                return  # told already
        limited = kind
        if aligned.along is not None:
            if mask is None or aligned.along != mask.axis:
                hint = f"The axis of this mask is {mask.axis}." if mask else "Masks can be moved along their axis."
                self.source.report(aligned.span, f"nothing to move along {aligned.along}", "", hint)
                return
            limited = Quantity((), mask.axis_dimension, mask.axis_shown)
        elif mask is not None and not (mask.has("low") and mask.has("high")):
            self.source.report(
                aligned.span, "nothing says how far to move it", "a mask with lines of one side only",
                "Give it lower and upper lines.",
            )  # fmt: skip
            return
        found, most = self.scalar(aligned.by), constants.number(aligned.by, self.scope.known)
        if found is None:
            return
        is_factor = found.dimension.is_plain and found.shown in ("%", "ppm")
        if is_factor and (limited.dimension.kind != "linear" or limited.shown in ("%", "ppm")):
            self.source.report(
                aligned.by.span, f"{found.shown} of {units.describe(limited.dimension)}", "",
                f"Give it in {units.symbol_of(units.difference(limited.dimension)) or 'its own unit'}.",
            )  # fmt: skip
        elif not is_factor and not self.typer.is_difference(aligned.by, found, limited):
            wanted = units.describe(units.difference(limited.dimension))
            self.source.report(aligned.by.span, "wrong unit", str(found), f"It is {wanted}, or in %.")
        elif not is_factor and aligned.along is not None and mask is not None and mask.is_log_axis:
            self.source.report(
                aligned.by.span, "a shift along a logarithmic axis", str(found), "Give it in %: aligned by 2 %."
            )
        elif most is None:
            self.source.report(aligned.by.span, "not known before the run", "", "Write a number or a parameter.")
        else:
            self._keep_bound(aligned, float(constants.as_difference(aligned.by, most)), is_factor=is_factor)

    def _keep_bound(self, aligned: nodes.Aligned, most: float, *, is_factor: bool) -> None:
        if most <= 0:
            self.source.report(aligned.by.span, "not above zero", "", "It is how far the limits may be moved.")
        elif is_factor and most > MOST_FACTOR:
            self.source.report(aligned.by.span, "more than 50 %", "", "Nothing of a shape would be left.")
        else:
            self.program.bounds[aligned] = (most, is_factor)
