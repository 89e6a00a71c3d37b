"""The simulated products, by the name that a bench file gives them."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.simulate.products.fm2_control_board import Fm2ControlBoard
from ibexite.simulate.products.fm2_sensor_parts import Fm2SensorParts
from ibexite.simulate.products.nothing import Nothing
from ibexite.simulate.world import Product

NOTHING = "nothing"
PRODUCTS: dict[str, Callable[[str], Product]] = {
    "fm2-control-board": Fm2ControlBoard,
    "fm2-sensor-parts": Fm2SensorParts,
    NOTHING: Nothing,
}
