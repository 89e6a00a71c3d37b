"""References: values of known good units, each with where it comes from. How their files are written and read is in
companions/references.py; what engine and station make of them in engine/files.py and station/references.py."""

from __future__ import annotations

import re

from ibexite.frozen import frozen
from ibexite.values import Type


@frozen
class Axis:
    """An axis of a curve: its name, its type, and its points in base units, or texts; those of an evenly sampled one
    are given by their start and step."""

    name: str
    type: Type
    points: tuple[float | str, ...] = ()
    sampling: tuple[float, float] | None = None


@frozen
class ReferenceValue:
    """One value of a known good unit. `values` are those of all points, the last axis running fastest; of a single
    value one. Complex ones are complex numbers. A place that was never measured is None."""

    name: str
    test: str
    type: Type  # over its axes
    axes: tuple[Axis, ...]
    values: tuple[float | complex | str | None, ...]
    conditions: dict[str, str]  # what it was measured under; never changed


@frozen
class Origin:
    """Where a reference comes from: the run, the unit, and the words of `notes` (sequence, bench, operator, …)."""

    run: str
    unit: str
    measured: str  # wall time in UTC, ISO 8601: the beginning of the run
    verdict: str
    trial: tuple[str, ...]  # why a pass of that run would not count, but for want of references and approvals
    is_simulated: bool
    notes: dict[str, str]  # never changed


@frozen
class Reference:
    """The values of a known good unit under one name, for a product and perhaps a variant of it."""

    name: str
    path: str
    sha256: str
    product: str
    variant: str  # "" for all
    origin: Origin
    values: dict[str, ReferenceValue]  # never changed

    @property
    def told(self) -> str:
        """Where it comes from, in words."""
        return f"{self.path}: unit {self.origin.unit}, run {self.origin.run}"


FOLDER = "golden"  # of a project


def file_name(name: str, variant: str) -> str:
    """The name of the file of a reference.

    >>> file_name("antenna_lead", "B"), file_name("antenna_lead", "")
    ('antenna_lead.B.toml', 'antenna_lead.toml')
    """
    part = re.sub(r"[^A-Za-z0-9_-]+", "-", variant)
    return f"{name}.{part}.toml" if part else f"{name}.toml"


def folder_of(product: str) -> str:
    """The folder of a product's references.

    >>> folder_of("FM-2 antenna lead")
    'fm-2-antenna-lead'
    """
    return re.sub(r"[^a-z0-9]+", "-", product.lower()).strip("-") or "product"
