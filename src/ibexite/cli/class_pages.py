"""The contract pages of the instrument classes, docs/classes, made from their files by `make tables`."""

from __future__ import annotations

import sys
from pathlib import Path

from ibexite.classes import Argument, Feature, InstrumentClass, instrument_classes, lines_of_use
from ibexite.instruments.profile import SHIPPED, load_profile


def index_page() -> str:
    """docs/classes/README.md: all classes in a line each."""
    lines = [
        "# Instrument classes\n",
        "What a sequence may ask of an instrument. Made from the files in `src/ibexite/classes` by `make tables`;",
        "`ibexite instruments explain CLASS` shows the same. A class of your own is a file of the project,",
        "see [own-instruments.md](../own-instruments.md).\n",
        "| class | | profile that ships |\n|---|---|---|",
    ]
    shipped = _profiles()
    for name, known in instrument_classes().items():
        profiles = ", ".join(f"`{profile}`" for profile in shipped.get(name, []))
        lines.append(f"| [{name}]({name}.md) | {known.help} | {profiles} |")
    return "\n".join(lines) + "\n"


def class_page(known: InstrumentClass) -> str:
    """The page of one class."""
    parts = [f"# {known.name}\n\n{known.help[0].upper() + known.help[1:]}.\n"]
    if known.switch:
        levels = ", ".join(f"`{level}`" for level in known.levels)
        parts.append(f"`{known.switch}` applies {levels} to the product, and is what the safe state switches off.\n")
    if known.settings:
        parts.append("| setting | takes | |\n|---|---|---|")
        parts += [f"| `{f.name}` | {_takes(f)} | {f.help} |" for f in known.settings.values()]
        parts.append("")
    if known.readings:
        parts.append("| reading | gives | may be told | |\n|---|---|---|---|")
        parts += [f"| `{f.name}` | {f.told} | {_told(f)} | {f.help} |" for f in known.readings.values()]
        parts.append("")
    parts.append("| action | |\n|---|---|")
    parts += [f"| `{name}` | {text} |" for name, text in known.actions.items()]
    for name, factors in known.products.items():
        parts.append(f"\nThe ceiling `{name}` of a role is that of `{factors[0]}` times `{factors[1]}`.")
    lines = "\n".join(f"    {line}" for line in lines_of_use(known))
    parts.append(f"\nIn a sequence (`x : {known.name}` among its needs):\n\n```\n{lines}\n```\n")
    missing = _not_shipped(known)
    if missing:
        parts.append(missing + "\n")
    return "\n".join(parts)


def _takes(feature: Feature) -> str:
    return ", ".join(f"`{choice}`" for choice in feature.choices) if feature.choices else feature.told


def _told(feature: Feature) -> str:
    return ", ".join(f"`{name}` ({_argument(argument)})" for name, argument in feature.arguments.items())


def _argument(argument: Argument) -> str:
    return ", ".join(argument.choices) if argument.choices else argument.unit.replace("_", " or ")


def _profiles() -> dict[str, list[str]]:
    """The profiles that ship, by class."""
    found: dict[str, list[str]] = {}
    for path in sorted(SHIPPED.glob("*.toml")):
        found.setdefault(load_profile(path.stem, SHIPPED).instrument_class.name, []).append(path.stem)
    return found


def _not_shipped(known: InstrumentClass) -> str:
    texts = []
    for name in _profiles().get(known.name, []):
        profile = load_profile(name, SHIPPED)
        lacking = [n for n in (*known.settings, *known.readings) if n not in {*profile.settings, *profile.readings}]
        told = f"; SCPI-1999 has no command for {', '.join(f'`{n}`' for n in lacking)}" if lacking else ""
        texts.append(f"Profile that ships: `{name}`{told}.")
    return "\n".join(texts)


def write_pages(folder: Path) -> None:
    """Writes all pages."""
    folder.mkdir(exist_ok=True)
    for old in folder.glob("*.md"):
        old.unlink()
    (folder / "README.md").write_text(index_page(), encoding="utf-8")
    for known in instrument_classes().values():
        (folder / f"{known.name}.md").write_text(class_page(known), encoding="utf-8")


if __name__ == "__main__":
    write_pages(Path(sys.argv[1]))
