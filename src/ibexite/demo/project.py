"""Writes the files of the example project into a folder."""

from __future__ import annotations

from pathlib import Path

from ibexite.errors import MistakeError

FILES = (
    "README.md", "ibexite.toml", "bench.toml", "analog.toml", "service.toml", "acoustic.toml", "inrush.toml",
    "ct64.toml", "fm2_final.ibx", "characterise.ibx", "sensor_parts.ibx", "service.ibx", "leads.ibx", "echo.ibx",
    "inrush.ibx", "lot.ibx", "shared.ibx", "parts_limits.csv", "lot_limits.csv", "lot_0412.csv", "masks/transducer.csv",
    "masks/echo.csv", "maths.py",
    "link_stress.py", "lead_plan.py", "rf_head.py", "measurements/band_pass.ibx", "measurements/one_db_point.py",
    "measurements/heater_power.py", "measurements/heater_power.measurement.toml",
)  # fmt: skip
PROPOSED = "lot_limits.csv"  # which the demo itself proposes anew


def make_project(folder: Path) -> list[str]:
    """Writes the files of the example project; returns the names of those that were there and had been changed."""
    kept = []
    source = Path(__file__).parent
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in FILES:
            # Python files of the example are kept as texts, so that no tool takes them for modules of the package.
            stored = source.joinpath(name + ".txt" if name.endswith(".py") else name)
            content = stored.read_bytes()
            target = folder / name
            target.parent.mkdir(parents=True, exist_ok=True)
            if target.exists() and target.read_bytes() != content:
                kept += [name] if name != PROPOSED else []
            elif not target.exists():
                target.write_bytes(content)
    except OSError as error:
        raise MistakeError(
            f"cannot make the project ({error.strerror})",
            where=str(folder),
            remedy="Name another folder: ibexite demo FOLDER",
        ) from None
    return kept
