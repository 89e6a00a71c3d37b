"""The tables of the store as plain data, read from tables.json, which is made of ibexite.records.description.

docs/data-model.md is made from this.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass(frozen=True, slots=True)
class Column:
    """A column: its SQL type with constraints, what it holds, its part in linking tables ("" for most), and whether the
    database numbers the rows in it."""

    name: str
    type: str
    comment: str
    part: str
    is_number: bool


@dataclass(frozen=True, slots=True)
class StoreTable:
    """A table, with the statements that make it and its indexes if they are not there."""

    name: str
    comment: str
    columns: tuple[Column, ...]
    create: tuple[str, ...]

    def insert(self) -> str:
        """The SQL statement that inserts a row from a dictionary; the row number is given by the database."""
        names = [c.name for c in self.columns if not c.is_number]
        return f"INSERT INTO {self.name} ({', '.join(names)}) VALUES ({', '.join(':' + name for name in names)})"


def _read() -> tuple[int, tuple[StoreTable, ...]]:
    data: dict[str, Any] = json.loads(Path(__file__).with_name("tables.json").read_text("utf-8"))
    tables = (
        StoreTable(t["name"], t["comment"], tuple(Column(**column) for column in t["columns"]), tuple(t["create"]))
        for t in data["tables"]
    )
    return data["version"], tuple(tables)


VERSION, TABLES = _read()
BY_NAME = {table.name: table for table in TABLES}


def describe() -> str:
    """The tables as Markdown."""
    parts = []
    for table in TABLES:
        parts.append(f"### {table.name}\n\n{table.comment.capitalize()}.\n\n| column | type | |\n|---|---|---|")
        parts += [
            f"| `{c.name}` | {', '.join(filter(None, (c.type.lower(), c.part)))} | {c.comment} |" for c in table.columns
        ]
        parts.append("")
    return "\n".join(parts)
