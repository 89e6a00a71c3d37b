"""Checks what lies in files of its own: masks, and how far limits may be moved onto what they judge."""

from __future__ import annotations

from ibexite import units
from ibexite.errors import MistakeError
from ibexite.language import constants, nodes
from ibexite.language.check_names import NameChecker
from ibexite.mask import Mask
from ibexite.values import Quantity, Type

MOST_FACTOR = 0.5  # beyond that nothing is left of a shape


class FileChecker(NameChecker):
    """What a check line takes from files of the project."""

    def from_file(self, expr: nodes.FromFile) -> Type | None:
        """The type of what a file holds; None after a mistake, and where nobody knows the files."""
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
            variant = self.scope.known.get("variant")
            try:
                masks[expr.name] = self.companions.mask(expr.name, variant if isinstance(variant, str) else "")
            except MistakeError as error:
                what = f"{error.where}: {error.what}" if error.where else error.what
                self.source.report(expr.span, what, "", error.remedy)
        return masks.get(expr.name)

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
