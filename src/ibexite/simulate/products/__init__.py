"""The simulated products, by the name that a bench file gives them."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.simulate.products.fm2_control_board import Fm2ControlBoard
from ibexite.simulate.world import Product

PRODUCTS: dict[str, Callable[[str], Product]] = {"fm2-control-board": Fm2ControlBoard}
