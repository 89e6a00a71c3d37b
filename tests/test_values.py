"""Types of values: what fits, how it is stored, read back and said."""

import pytest

from ibexite import units
from ibexite.functions import FUNCTIONS
from ibexite.language.function_arguments import ARGUMENTS
from ibexite.values import NUMBER, TEXT, WORDS, YES_NO, Connections, Picture, Quantity, Table, Text, Type, YesNo, declared, stored_type

MILLIVOLT, DEGREES, PERCENT = (declared(units.parse_unit(symbol)) for symbol in ("mV", "degC", "%"))


@pytest.mark.parametrize(("kind", "unit", "value", "said", "described"), [
    (MILLIVOLT, "V", 0.0123, "12.3 mV", "a voltage (V)"), (declared(units.parse_unit("V")), "V", 0.0123, "12.3 mV", "a voltage (V)"),
    (DEGREES, "K", 298.15, "25 degC", "a temperature (degC)"), (PERCENT, "", 0.5, "50 %", "a plain number"), (NUMBER, "", 3.0, "3", "a plain number"),
    (YES_NO, "", True, "yes", "a yes/no value"), (YES_NO, "", 0.0, "no", "a yes/no value"), (TEXT, "", "v2.1", "v2.1", "a text"),
    (declared("table"), "", '[["a","","",[1]]]', "1 row of a", "a table"), (declared("connections"), "", '[["a","b"],["c"]]', "2 nets of 3 pins", "connections"),
    (declared("picture"), "", '{"name":"p.png","size":9999}', "p.png (9,999 bytes)", "a picture")])  # fmt: skip
def test_a_type_says_its_values_and_comes_back_from_what_is_stored(kind: Type, unit: str, value: object, said: str, described: str) -> None:
    assert (kind.unit, kind.said(value), str(kind)) == (unit, said, described)
    assert str(kind.over(("x", "y"))) == f"{described} over x, y" and kind.over(("x",)).single() == kind
    entry = {"kind": kind.stored, "unit": kind.unit, "shown": kind.shown or ""}
    assert stored_type(entry) == kind and kind.fits(stored_type(entry)) and kind.fits(kind.over(("x",)))


def test_only_types_of_one_kind_and_dimension_fit() -> None:
    kinds = [MILLIVOLT, DEGREES, NUMBER, YES_NO, TEXT, Quantity((), units.VOLT, None, True)]
    fits = {(i, k) for i, one in enumerate(kinds) for k, other in enumerate(kinds) if one.fits(other)}
    assert fits == {(i, i) for i in range(len(kinds))}
    assert PERCENT.fits(NUMBER) and MILLIVOLT.fits(declared(units.parse_unit("kV")))


def test_each_declared_word_is_a_type_of_its_own() -> None:
    assert [type(declared(word)) for word in WORDS] == [Quantity, YesNo, Text, Table, Connections, Picture]
    assert declared("text", ("n",)).axes == ("n",) and declared(units.parse_unit("V"), ("n",)) == Quantity(("n",), units.VOLT)
    assert (YES_NO.dimension, TEXT.shown, TEXT.is_complex) == (units.PLAIN, None, False)
    with pytest.raises(KeyError):
        stored_type({"kind": "colour", "unit": "", "shown": ""})


def test_each_argument_of_a_function_is_of_a_kind_that_checks_and_writes_itself() -> None:
    named = {name.strip("?") for function in FUNCTIONS.values() for form in function.forms for name in form.arguments[1:]}
    assert named - set(ARGUMENTS) == {"x", "axis"}, "a further curve, and named places"
    assert set(ARGUMENTS) <= named
