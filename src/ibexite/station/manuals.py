"""From a profile to the manual by which a stand-in answers: plain data, for the process of the simulated bench."""

from __future__ import annotations

from math import inf

from ibexite.classes import Feature
from ibexite.instruments.answers import Spacing, Told
from ibexite.instruments.profile import Profile
from ibexite.instruments.readings import ReadingCommands
from ibexite.instruments.settings import SettingCommands
from ibexite.instruments.status import Status
from ibexite.units import Unit
from ibexite.untyped import Fields

NO_ERROR = '0,"No error"'


def manual_of(profile: Profile) -> Fields:
    """All that an instrument of this profile understands, and how it answers."""
    errors, complete = profile.errors, profile.complete
    return {
        "switch": profile.instrument_class.switch,
        "class": profile.instrument_class.name,
        "speech": profile.speech.as_data(),
        "compound": profile.is_compound,
        "identity": {"query": profile.identity.query, "reply": profile.identity.reply.text},
        "errors": {"query": errors.query, "none": errors.none[0] if errors.none else NO_ERROR,
                   "is_scpi": not errors.none, "is_queue": errors.is_queue},
        "complete": {"status_byte": complete.status_byte, "clearing": complete.clearing,
                     "query": complete.query, "command": complete.command, "reply": _yes(complete.status),
                     "no": complete.status.answer(False) if complete.status is not None and complete.every else ""},
        "halts": list(profile.safe_actions),
        "states": [_state(status) for status in (*profile.tripped, profile.limiting) if status is not None],
        "acknowledge": profile.acknowledge[0] if profile.acknowledge else None,
        "checksum": profile.checksum,
        "line_end": profile.reply_terminator or profile.terminator,
        "accepts": [
            *profile.start, *profile.local,
            *(text for name, text in profile.actions.items() if name not in ("trigger", "arm")),
        ],
        "play": None if profile.play is None else {
            "load": profile.play.load, "numbers": profile.play.numbers, "scale": profile.play.scale,
        },
        "stream": _stream(profile),
        "arms": [text for name, text in profile.actions.items() if name == "arm"],
        "resets": [text for name, text in profile.actions.items() if name == "reset"],
        "triggers": [text for name, text in profile.actions.items() if name == "trigger"],
        "clears": [text for name, text in profile.actions.items() if name == "clear"],
        "settings": [_setting(name, commands) for name, commands in profile.settings.items()],
        "readings": [_reading(name, commands) for name, commands in profile.readings.items()],
    }  # fmt: skip


def _stream(profile: Profile) -> Fields | None:
    """How it streams what it records."""
    stream = profile.stream
    if stream is None:
        return None
    unit = profile.readings[profile.instrument_class.records].unit
    return {
        "begin": stream.begin, "end": stream.end, "query": stream.query, "first": stream.first.query,
        "numbers": stream.numbers, "factor": stream.factor.number or 1.0, "offset": stream.offset.number,
        "order": stream.order, "holds": stream.holds,
        "unit": _unit(unit), "configure": list(stream.configure),
    }  # fmt: skip


def _yes(status: Status | None) -> str:
    return status.answer(True) if status is not None else ""


def _state(status: Status) -> Fields:
    return {"query": status.query, "yes": status.answer(True), "no": status.answer(False)}


def _unit(unit: Unit) -> Fields:
    return {"symbol": unit.symbol, "factor": float(unit.factor), "offset": float(unit.offset)}


def _kind(feature: Feature) -> str:
    if feature.choices:
        return "choice"
    return "number" if feature.dimension is not None else feature.type.stored


def _setting(name: str, commands: SettingCommands) -> Fields:
    low, high = commands.extent or (-inf, inf)
    return {
        "name": name, "kind": _kind(commands.feature), "write": commands.write, "ask": commands.ask,
        "unit": _unit(commands.unit), "speech": commands.speech.as_data(), "choices": list(commands.feature.choices),
        "low": low, "high": high, "awaited": commands.feature.awaited,
    }  # fmt: skip


def _reading(name: str, commands: ReadingCommands) -> Fields:
    curve, layout, lines = commands.curve, commands.layout, commands.lines
    return {
        "name": name, "kind": _kind(commands.feature), "query": commands.query, "configure": list(commands.configure),
        "select": commands.select, "unit": _unit(commands.unit), "speech": commands.speech.as_data(),
        "arguments": {key: {"unit": _unit(a.unit), "default": a.default, "speech": a.speech.as_data()}
                      for key, a in commands.arguments.items()},
        "lines": None if lines is None else {"count": lines.count, "last": lines.last.decode("latin-1")},
        "layout": None if layout is None else {
            "is_block": layout.is_block, "between": layout.between,
            "rows": {kind: row.text for kind, row in layout.rows.items()},
        },
        "curve": None if curve is None else {
            "numbers": curve.numbers,
            "axes": [
                {"name": axis.name, "unit": _unit(axis.unit)}
                | {key: _asked(getattr(axis, key)) for key in ("start", "step", "stop", "points", "spacing")}
                for axis in curve.axes
            ],
            "is_complex": curve.is_complex,
            "factor": _asked(curve.factor), "offset": _asked(curve.offset),
        },
    }  # fmt: skip


def _asked(told: Told | Spacing | None) -> Fields | None:
    """A query about a curve and how it is answered; None where nothing is asked."""
    return {"query": told.query, "speech": told.speech.as_data()} if told is not None and told.query else None
