"""Writes the tables into docs/data-model.md: `python -m ibexite.records.make_page docs/data-model.md`."""

from __future__ import annotations

import sys
from pathlib import Path

from ibexite.records.schema import describe

MARK = "## Tables\n\n"


def main() -> None:
    """Replaces all behind the heading of the tables."""
    page = Path(sys.argv[1])
    page.write_text(page.read_text().split(MARK)[0] + MARK + describe())


if __name__ == "__main__":
    main()
