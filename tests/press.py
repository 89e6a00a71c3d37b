"""The files of the guide docs/own-instruments.md, as they stand there."""

import re
from pathlib import Path

GUIDE = Path(__file__).parent.parent / "docs" / "own-instruments.md"
_BLOCK = re.compile(r"^```(?:toml|ibx) (\S+)( \+)?\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def files_of_the_guide() -> dict[str, str]:
    """Each file by its name; blocks marked with a plus are added to the one before."""
    found: dict[str, str] = {}
    for name, more, text in _BLOCK.findall(GUIDE.read_text()):
        found[name] = found[name] + "\n" + text if more else text
    return found


def press_folder(folder: Path, *, model: bool = True, **changes: str) -> Path:
    """A folder with these files; `model` False: without the model of the product. `changes` replaces in press.toml what
    stands behind `old=new`."""
    for name, text in files_of_the_guide().items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        if not model and name == "bench.toml":
            text = text.partition("[simulation]")[0] + '[instruments.press.simulated]\nidentity = "PP-2"\n'
        path.write_text(text)
    (folder / "ibexite.toml").write_text('[project]\nbench = "bench.toml"\n')
    profile = (folder / "press.toml").read_text()
    for old, new in changes.items():
        assert old in profile, old
        profile = profile.replace(old, new)
    (folder / "press.toml").write_text(profile)
    return folder
