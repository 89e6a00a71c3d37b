"""Evaluates expressions whose names are all known before the run: parameters, and one point of each sweep."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal, DivisionByZero, InvalidOperation, Overflow
from typing import Protocol

from ibexite.errors import MistakeError, UnitError
from ibexite.language import nodes, points
from ibexite.language.source import Source
from ibexite.units import Dimension, Unit, format_value, is_finite

Value = Decimal | str | bool
Known = Mapping[str, Value]
_OPERATIONS = {
    "+": Decimal.__add__, "-": Decimal.__sub__, "*": Decimal.__mul__, "/": Decimal.__truediv__, "^": Decimal.__pow__,
}  # fmt: skip


def evaluate(expr: nodes.Expr, known: Known) -> Value | None:
    """The exact value in base form; None when it depends on anything measured, or cannot be computed."""
    match expr:
        case nodes.Literal(quantity=quantity):
            return quantity.value
        case nodes.Text(value=text):
            return text
        case nodes.Word():
            return expr.is_true
        case nodes.Name(name=name):
            return known.get(name)
        case nodes.Minus(operand=operand):
            value = evaluate(operand, known)
            return -value if isinstance(value, Decimal) else None
        case nodes.Arithmetic():
            left, right = evaluate(expr.left, known), evaluate(expr.right, known)
            if isinstance(left, Decimal) and isinstance(right, Decimal):
                try:
                    result: Decimal = _OPERATIONS[expr.op](left, right)
                except (DivisionByZero, InvalidOperation, Overflow):
                    return None
                return result if is_finite(result) else None
        case nodes.Compare():
            return _compared(evaluate(expr.left, known), expr.op, evaluate(expr.right, known))
        case nodes.Logic():
            return _logic(expr.op, [evaluate(operand, known) for operand in expr.operands])
    return None


def _compared(left: Value | None, op: str, right: Value | None) -> bool | None:
    if left is None or right is None or type(left) is not type(right):
        return None
    if op in ("==", "!="):
        return (left == right) is (op == "==")
    if not isinstance(left, Decimal) or not isinstance(right, Decimal):
        return None
    return {">=": left >= right, "<=": left <= right, ">": left > right, "<": left < right}[op]


def _logic(op: str, operands: list[Value | None]) -> bool | None:
    if op == "not":
        return not operands[0] if isinstance(operands[0], bool) else None
    decisive = op == "or"
    if any(operand is decisive for operand in operands):
        return decisive
    return None if None in operands else not decisive


def both_limits(criterion: nodes.Criterion, known: Known, tolerance_kind: str | None) -> tuple[Decimal, Decimal] | None:
    """Lower and upper limit of `between` or `within`, exact; None where they depend on anything measured."""
    assert criterion.b is not None
    a, b = number(criterion.a, known), number(criterion.b, known)
    if a is None or b is None:
        return None
    if criterion.kind == "between":
        return a, b
    half = as_difference(criterion.b, b)
    half = abs(a * half) if tolerance_kind == "relative" else half
    return a - half, a + half


def meets(
    value: Decimal, kind: str, a: Decimal, b: Decimal | None, tolerance_kind: str | None, b_expr: nodes.Expr | None
) -> bool:
    """Whether a known value meets known limits."""
    if b is None or b_expr is None:
        return {">=": value >= a, "<=": value <= a, ">": value > a, "<": value < a}.get(kind, value == a)
    if kind == "within":
        half = as_difference(b_expr, b)
        half = abs(a * half) if tolerance_kind == "relative" else half
        return a - half <= value <= a + half
    return a <= value <= b


def number(expr: nodes.Expr, known: Known) -> Decimal | None:
    """The value of a numeric expression, None when unknown."""
    value = evaluate(expr, known)
    return value if isinstance(value, Decimal) else None


def as_difference(expr: nodes.Expr, value: Decimal) -> Decimal:
    """A step or tolerance written in degC (5 degC) is a difference of 5 K."""
    if isinstance(expr, nodes.Literal) and expr.quantity.dimension.kind == "point":
        return value - expr.quantity.unit.offset
    return value


def names_in(expr: nodes.Expr) -> set[str]:
    """All names of an expression that are looked up in the test."""
    match expr:
        case nodes.Name(name=name):
            return {name}
        case nodes.Minus(operand=operand):
            return names_in(operand)
        case nodes.Arithmetic() | nodes.Compare():
            return names_in(expr.left) | names_in(expr.right)
        case nodes.Logic(operands=operands):
            return set().union(*map(names_in, operands))
        case nodes.Inside(operand=operand, criterion=criterion):
            return names_in(operand) | names_in(criterion.a) | (names_in(criterion.b) if criterion.b else set())
        case nodes.ResultOf():
            return {f"{expr.test}.{expr.name}"}
        case nodes.Call():
            return set().union(*map(_names_in_argument, expr.arguments), *(names_in(value) for _, value in expr.named))
    return set()


def calls_in(expr: nodes.Expr) -> list[nodes.Call]:
    """All calls of functions in an expression, outer ones first."""
    match expr:
        case nodes.Minus(operand=operand):
            return calls_in(operand)
        case nodes.Arithmetic() | nodes.Compare():
            return calls_in(expr.left) + calls_in(expr.right)
        case nodes.Logic(operands=operands):
            return [call for operand in operands for call in calls_in(operand)]
        case nodes.Inside(operand=operand, criterion=criterion):
            limits = [criterion.a, *([criterion.b] if criterion.b is not None else [])]
            return [call for part in (operand, *limits) for call in calls_in(part)]
        case nodes.Call():
            inner = [part for argument in expr.arguments for part in _parts_of(argument)]
            inner += [value for _, value in expr.named]
            return [expr, *(call for part in inner for call in calls_in(part))]
    return []


def files_in(expr: nodes.Expr) -> list[nodes.FromFile]:
    """All that an expression takes from files of the project."""
    match expr:
        case nodes.FromFile():
            return [expr]
        case nodes.Minus(operand=operand):
            return files_in(operand)
        case nodes.Arithmetic() | nodes.Compare():
            return files_in(expr.left) + files_in(expr.right)
        case nodes.Logic(operands=operands):
            return [file for operand in operands for file in files_in(operand)]
        case nodes.Call():
            inner = [part for argument in expr.arguments for part in _parts_of(argument)]
            return [file for part in [*inner, *(value for _, value in expr.named)] for file in files_in(part)]
    return []


def _parts_of(argument: nodes.Argument) -> list[nodes.Expr]:
    match argument:
        case nodes.Pair(x=x, y=y):
            return [x, y]
        case nodes.Window(amount=amount):
            return [amount]
        case nodes.UnitArgument():
            return []
    return [argument]


def _names_in_argument(argument: nodes.Argument) -> set[str]:
    return set().union(*map(names_in, _parts_of(argument)))


def sweep_points(sweep: nodes.Sweep, known: Known) -> list[Decimal] | None:
    """The points of a sweep; None when an end is known only at run time.

    Raises:
        MistakeError: the points cannot be made; `span` tells where.
    """
    if sweep.values:
        values = [number(value, known) for value in sweep.values]
        return [v for v in values if v is not None] if None not in values else None
    segments = []
    start: Decimal | None = None
    for segment in sweep.segments:
        start = start if segment.start is None else number(segment.start, known)
        end, amount = number(segment.end, known), number(segment.amount, known)
        if start is None or end is None or amount is None:
            return None
        segments.append(segment_points(segment, start, end, as_difference(segment.amount, amount)))
        start = end
    return points.joined(segments)


def segment_points(segment: nodes.Segment, start: Decimal, end: Decimal, amount: Decimal) -> list[Decimal]:
    """The points of one segment, both ends included; the errors of ibexite.language.points."""
    if segment.spacing == "step":
        return points.by_step(start, end, amount)
    if segment.spacing in ("decade", "octave"):
        return points.per_ratio(start, end, amount, 10 if segment.spacing == "decade" else 2)
    if amount != int(amount):
        raise MistakeError("the number of points is not whole", remedy="Write: in 11 points.")
    return (points.linear if segment.spacing == "points" else points.logarithmic)(start, end, int(amount))


def report_points(
    source: Source, sweep: nodes.Sweep, known: Known, dimension: Dimension, shown: str | None
) -> list[Decimal] | None:
    """The points of a sweep as far as they are known; what is wrong with them is reported."""
    try:
        return sweep_points(sweep, known)
    except points.StepDoesNotFit as error:
        lower, upper = (format_value(float(end), dimension, shown=shown, digits=9) for end in error.ends)
        source.report(sweep.segments[-1].span, error.what, "", f"It would lead to {lower} or {upper}.")
    except (MistakeError, UnitError) as error:
        source.report(sweep.span, error.what, "", error.remedy)
    return None


class Shown(Protocol):
    """What is needed of a type to write a value of it."""

    @property
    def dimension(self) -> Dimension:
        """What it measures."""

    @property
    def shown(self) -> str | None:
        """The unit to show it in."""


def refusal(param: nodes.Param, value: Value, kind: Shown, known: Known) -> tuple[str, str] | None:
    """What is wrong with a value of a parameter or input (what, remedy), None if it is one of the choices and within
    bounds."""
    choices = [evaluate(choice, known) for choice in param.choices]
    if choices and value not in choices:
        shown = ", ".join(written(c, kind.dimension, kind.shown) for c in choices if c is not None)
        return f"{param.name} is not one of its choices", f"Choose one of: {shown}."
    if param.bounds:
        low, high = (number(bound, known) for bound in param.bounds)
        if low is not None and high is not None and isinstance(value, Decimal) and not low <= value <= high:
            texts = [written(bound, kind.dimension, kind.shown) for bound in (low, high)]
            return f"{param.name} is out of its bounds", f"It lies between {texts[0]} and {texts[1]}."
    return None


def written(value: Value, dimension: Dimension, unit: Unit | str | None = None) -> str:
    """A constant as people write it, with all its digits: it reads back as the same value."""
    if isinstance(value, Decimal):
        symbol = unit.symbol if isinstance(unit, Unit) else unit
        return format_value(float(value), dimension, shown=symbol or None, digits=15)
    return ("yes" if value else "no") if isinstance(value, bool) else value
