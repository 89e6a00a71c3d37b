"""The simulated products, by the name that a bench file gives them. Each is loaded where it is named."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING

from ibexite.simulate.plan import RECORDING, STIMULUS, SWITCH
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.simulate.world import Product

NOTHING, DESCRIBED, OWN = "nothing", "described", "own"
CLASS = "Product"  # what the Python file of a product of one's own calls its class
PRODUCTS = {  # module and class
    "fm2-control-board": ("fm2_control_board", "Fm2ControlBoard"),
    "fm2-sensor-parts": ("fm2_sensor_parts", "Fm2SensorParts"),
    "fm2-field-unit": ("fm2_field_unit", "Fm2FieldUnit"),
    "fm2-transducer": ("fm2_transducer", "Fm2Transducer"),
    NOTHING: ("nothing", "Nothing"),
}


def make_product(name: str, serial: str, model: Fields | None = None) -> Product:
    """One unit of a product; `model` for one that does not ship.

    Raises:
        KeyError: there is no such product.
    """
    if name == DESCRIBED:
        assert model is not None
        from ibexite.simulate.products.described_product import DescribedProduct

        return DescribedProduct(model, serial)
    if name == OWN:
        assert model is not None
        import runpy

        own: Product = runpy.run_path(model["path"])[CLASS](serial)
        return own
    module, class_name = PRODUCTS[name]
    product: Product = getattr(importlib.import_module(f"{__name__}.{module}"), class_name)(serial)
    return product


def connectable(product: str, kind: str) -> tuple[str, ...]:
    """What an instrument of a kind can be wired to: terminals for what applies something, else quantities; a relay to
    either of them."""
    model = make_product(product, "")
    names = (*model.time_constants, *model.derived, *getattr(model, "things", ()))
    if kind == SWITCH:
        return (*(name for names in model.terminals.values() for name in names), *names)
    if kind == RECORDING:
        return (*model.terminals.get(STIMULUS[kind], ()), *names)
    if kind in STIMULUS:
        return model.terminals.get(STIMULUS[kind], ())
    if kind == "oscilloscope":
        return tuple(n.removesuffix("_amplitude") for n in names if n.endswith("_amplitude"))
    return (*model.terminals.get("settings", ()), *names)
