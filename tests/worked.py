"""The data of the worked examples of functions, made by closed forms, and carrying an example out as a sequence would.

`python -m tests.worked` prints all of them with what comes out."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

import ibexite
from ibexite import units
from ibexite.analysis.catalog import find
from ibexite.analysis.curve import ArrayCurve, Curve, SampledCurve, Sampling
from ibexite.analysis.signals import stimuli
from ibexite.connections import connections_text
from ibexite.engine.formula import HELPERS, Formulas, variable
from ibexite.holes import decide
from ibexite.language import nodes
from ibexite.language.build_expr import ExprBuilder
from ibexite.language.grammar import line_parser
from ibexite.language.source import Source
from ibexite.language.types import Typer
from ibexite.stimulus import Chirp, Level, Noise, Silence, Stepped, Stimulus
from ibexite.values import Connections, Quantity, Type, Waveform, YesNo

FILE = Path(ibexite.__file__).parent / "functions/worked.toml"
VOLT, AMPERE, OHM, DB, DBM, RATIO, PASCAL = (units.parse_unit(u).dimension for u in ("V", "A", "ohm", "dB", "dBm", "%", "Pa"))
PING = Stimulus("ping", "", 192e3, (
    Noise("noise", False, 4e3, 70e3, 0.1, Level(0.5)), Silence("silence", False, 0.05),
    Stepped("stepped", True, tuple(np.geomspace(20e3, 5e3, 9)), 12, 4e-3, Level(1.0)), Silence("rest", False, 0.02),
    Chirp("chirp", True, 2e3, 60e3, 0.2, Level(1.0)), Silence("rest", False, 0.02),
))  # fmt: skip


def sampled(values: np.ndarray, rate: float, start: float = 0.0) -> SampledCurve:
    return SampledCurve(Sampling("time", start, 1 / rate), values)


def played(third: float = 0.0, late: float = 0.0) -> np.ndarray:
    """What was played, with a third harmonic and a delay of whole samples."""
    y = stimuli.samples(PING)
    peak = np.sqrt(2.0)
    y = y + third * (4 * y**3 / peak**2 - 3 * y)
    return np.concatenate([np.zeros(round(late * PING.rate)), y, np.zeros(round(0.05 * PING.rate))])


def pulses(t: np.ndarray, off: float) -> np.ndarray:
    """Pulses of 5 V, each ms, 0.3 ms wide at half their height, with edges of 20 us; every other one comes late by `off`."""
    number = np.floor(t * 1e3)
    from_middle = np.abs(t - (number + 0.5) * 1e-3 - off * (number % 2 * 2 - 1) / 2)
    return 5 * np.clip((0.15e-3 - from_middle) / 20e-6 + 0.5, 0, 1)


@cache
def data() -> dict[str, tuple[Type, Any]]:
    """Names with their types and values."""
    found: dict[str, tuple[Type, Any]] = {}
    t = np.arange(4800) / 48e3
    sine = lambda f, size=1.0, phase=0.0: size * np.sin(2 * np.pi * f * t + phase)  # noqa: E731
    fast = np.arange(20_000) / 1e6

    def wave(name: str, values: np.ndarray, rate: float = 48e3, dimension=VOLT) -> None:
        found[name] = Waveform(("time",), dimension), sampled(values, rate)

    def over(name: str, axis: str, points: np.ndarray, values: np.ndarray, dimension, shown: str | None = None) -> None:
        found[name] = Quantity((axis,), dimension, shown, np.iscomplexobj(values)), ArrayCurve({axis: points}, values)

    wave("wave", sine(1e3) + sine(3e3, 0.01))
    pulse = np.exp(-(((t - 0.02) / 1e-3) ** 2)) * np.cos(2 * np.pi * 3e3 * (t - 0.02))
    wave("pulse", pulse)
    wave("echo", 0.3 * np.exp(-(((t - 0.0222) / 1e-3) ** 2)) * np.cos(2 * np.pi * 3e3 * (t - 0.0222)))
    rng = np.random.default_rng(20261201)
    wave("noisy", sine(1e3) + rng.normal(0, 1e-3, len(t)))
    wave("hiss", rng.normal(0, 1e-3, len(t)))
    wave("mains", sine(50, 0.2) + sine(150, 0.05) + sine(1e3))
    beat = sine(7e3, 0.25) * (1 + 0.02 * np.sin(2 * np.pi * 60 * t)) + sine(60)
    wave("modulated", np.tile(beat, 4))
    both = sine(11e3, 0.5) + sine(12e3, 0.5) + sine(1e3, 0.005)
    wave("twin", both)
    wave("square", pulses(fast, 0.0), 1e6)
    wave("shaky", pulses(fast, 1e-6), 1e6)
    wave("glitchy", np.where((fast > 5e-3) & (fast < 5.002e-3), 5.0, 0.0), 1e6)
    s = 2 * np.pi * 1e3 * fast
    wave("step", np.where(fast < 1e-3, 0.0, 1 - np.exp(-0.4 * (s - s[1000])) * (np.cos(0.9165 * (s - s[1000])) + 0.4364 * np.sin(0.9165 * (s - s[1000])))), 1e6)
    wave("burst", np.where((t > 0.02) & (t < 0.06), sine(1e3, 2.0), 0.0))
    f = np.geomspace(1e3, 10e3, 41)
    over("gain", "freq", f, -10 * np.log10(1 + (4 * (f / 3e3 - 3e3 / f)) ** 2), DB)
    over("lead", "freq", np.geomspace(900, 11e3, 30), np.full(30, -0.5), DB)
    k = np.linspace(36e3, 44e3, 161)
    over("z", "freq", k, 100 * (1 + 20j * (k / 40e3 - 40e3 / k)), OHM)
    over("eff", "iload", np.arange(0.1, 1.05, 0.1), 0.9 - 0.4 * (np.arange(0.1, 1.05, 0.1) - 0.5) ** 2, RATIO, "%")
    over("v_out", "scan", np.arange(1.0, 6.0), np.array([5.00, 5.02, 4.99, 5.01, 4.98]), VOLT)
    over("level_out", "scan", np.arange(1.0, 4.0), np.array([10.0, 13.0, 16.0]), DBM)
    pin = np.arange(-20.0, 11.0)
    over("p_out", "p_in", pin, -10 * np.log10(10 ** (-(pin + 20) / 10) + 10 ** (-2.5)), DBM)
    over("resp", "freq", np.linspace(0, 24e3, 481), np.exp(-2j * np.pi * np.linspace(0, 24e3, 481) * 1e-3) / (1 + 1j * np.linspace(0, 24e3, 481) / 2e3), RATIO)
    over("mic_per_volt", "freq", f, np.full(41, 0.05 + 0j), units.divide(VOLT, PASCAL))
    turns = [[["a", "b"], ["c", "d"]], [["a", "b"]], [["a", "b"], ["c", "d"]]]
    found["wires"] = Connections(("scan",)), ArrayCurve({"scan": np.arange(3.0)}, np.array([connections_text(turn) for turn in turns], dtype=object))
    found["rec.v"] = Waveform(("time",), VOLT), sampled(played(), PING.rate)
    found["rec.mic"] = (
        Waveform(("time",), PASCAL),
        sampled(0.1 * played(0.01, 1e-3) + np.random.default_rng(7).normal(0, 1e-5, len(played(0, 1e-3))), PING.rate, -1e-3),
    )
    kind, heard = found["rec.mic"]
    at = np.arange(len(heard.values)) / PING.rate - 1e-3
    clicks = sum((at >= begin) & (at < begin + 60e-6) for begin in (0.165, 0.181)) * 0.02 * np.sin(2 * np.pi * 47e3 * (at - 0.165))
    found["rec.clicks"] = kind, sampled(heard.values + clicks, PING.rate, -1e-3)
    return found


def carried_out(text: str) -> str:
    """What a formula gives over these data, in words."""
    known = data()
    source = Source("example", f"let it = {text}")
    tree: Any = line_parser().parse(source.text, start="deed_line")
    expr = ExprBuilder(source).expr(tree.children[1])
    shown = str(tree.children[2]) if tree.children[2] is not None else None
    types: dict[nodes.Expr, Type] = {}

    def lookup(name: nodes.Name | nodes.ResultOf) -> Type | None:
        return known[name.name if isinstance(name, nodes.Name) else f"{name.test}.{name.name}"][0]

    axes = {
        "freq": Quantity(("freq",), units.HERTZ),
        "iload": Quantity(("iload",), AMPERE),
        "p_in": Quantity(("p_in",), DBM),
        "time": Quantity(("time",), units.SECOND),
    }
    typer = Typer(source, types, {}, {}, axis_of=lambda axis: axes.get(axis, Quantity((axis,), units.PLAIN)), stimuli={"ping": PING})
    kind = typer.type_of(expr, lookup)
    assert kind is not None and not source.findings, [(f.title, f.mark, f.remedy) for f in source.findings]
    formulas = Formulas(types, {}, set(known))
    code = formulas.source(expr)

    def from_file(kind: str, name: str) -> Any:
        return PING.only(name.partition(".")[2]) if "." in name else PING

    bound = {**HELPERS, "logic": decide, "INF": float("inf"), "from_file": from_file} | {variable(k): v for k, (_, v) in known.items()}
    bound |= {name: find(target) for name, target in formulas.used.items()}
    return said(eval(code, bound), kind, shown)


def said(value: Any, kind: Type, shown: str | None) -> str:
    """A value in words; of a curve how many there are, and the first and the last."""
    if isinstance(kind, YesNo):
        return "yes" if value else "no"
    assert isinstance(kind, Quantity)
    if isinstance(value, Curve):
        flat = value.values.ravel()
        ends = " to ".join(said(one.item(), kind.single(), shown) for one in (flat[0], flat[-1]))
        return f"{len(flat):,} values over {', '.join(value.axes)}: {ends}"
    if isinstance(value, complex):
        return " + j ".join(units.format_value(part, kind.dimension, shown=shown or kind.shown, digits=4) for part in (value.real, value.imag))
    return units.format_value(float(value), kind.dimension, shown=shown or kind.shown, digits=4)


def examples() -> dict[str, dict[str, str]]:
    """All of them: by function formulas with what they give."""
    with FILE.open("rb") as file:
        found: dict[str, dict[str, str]] = tomllib.load(file)["examples"]
    return found


if __name__ == "__main__":
    for function, formulas in examples().items():
        for formula, expected in formulas.items():
            try:
                print(f"{function:<24} {formula:<52} {carried_out(formula)}   [{expected}]")
            except Exception as error:
                print(f"{function:<24} {formula:<52} !!! {type(error).__name__}: {str(error)[:200]}")
