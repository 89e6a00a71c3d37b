"""A stand-in for any instrument: it understands what the profile of that says, and answers as that has it.

Settings are kept, switches switch, and where it is wired to the product it applies them. Readings come from what was
prepared, from the product, or from the setting of the same name.
"""

from __future__ import annotations

import math
import random
import struct
import sys
from array import array
from collections import deque
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ibexite import __version__
from ibexite.protocols import scpi
from ibexite.protocols.checksums import RULES, checked
from ibexite.protocols.framing import definite_block
from ibexite.protocols.scpi import INFINITY, ScpiError
from ibexite.protocols.speech import Template
from ibexite.simulate.device import ERROR_QUEUE_LENGTH, ScpiDevice
from ibexite.simulate.instruments.applied import Applied
from ibexite.simulate.instruments.moving import Moving
from ibexite.simulate.instruments.several_parts import prepared, reply_of
from ibexite.simulate.instruments.traces import axis_of
from ibexite.simulate.manual import QUESTIONS, Beyond, CurveFact, Entry, Manual, Reading, Setting
from ibexite.simulate.nature import NO_LEVEL, ROOM, UNWIRED
from ibexite.simulate.waves import PreparedWaves, recorded
from ibexite.simulate.world import World
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.simulate.streaming import Streaming

NOISE = 2e-6  # RMS of a reading, as a share of its range or value, within one period of the mains
OVER_RANGE = 1.2  # so much more than its range a reading may be
BLOCK = "{block}"  # in a command that loads samples, where they stand
Found = list[tuple[Entry, dict[str, str]]]


class DescribedDevice(ScpiDevice):
    """An instrument by its manual. `wiring` says what of the product its channels are connected to."""

    def __init__(self, identity: str, name: str, world: World, wiring: dict[int, str], manual: Manual) -> None:
        super().__init__(identity, name)
        self.identity = f"{identity},SIMULATED-{name},{__version__}"
        self.manual, self.world, self.wiring = manual, world, wiring
        self.values: dict[tuple[str, int], float | str] = {}
        self.set_up: dict[int, tuple[Reading, dict[str, float]]] = {}  # of each channel, what was configured last
        self.scan: list[int] = []
        self.own_errors: deque[str] = deque()
        self._is_to_tell = self._has_told = False  # that all is carried out
        self._was_triggered = False  # since the last record
        self._armed: float | None = None  # since when it waits for its trigger, in s of the clock
        self._stream: Streaming | None = None
        self._waves = PreparedWaves()
        self._samples: array[float] | None = None  # that it plays, as shares of its amplitude
        self._moving = Moving(world.clock)
        self._applied = Applied(manual.data["class"], world, wiring, self._value, manual.data["switch"], name)
        self.reset()

    # --- messages ----------------------------------------------------------------------------------------------------

    def receive(self, message: str) -> None:
        """Carries out one message; what it answers is then in the output queue."""
        play = self.manual.data["play"]
        if play is not None and "#" in message and self._loads(play, message):
            return
        rule = RULES.get(self.manual.data["checksum"])
        text = message.strip()
        if rule is not None:
            try:
                text = checked(rule, text.encode("latin-1")).decode("latin-1")
            except ValueError:
                self._refuse("-102", "Syntax error")
                return
        self._output = None
        replies = []
        for command in self._commands_in(text):
            reply = self._carried_out(command)
            if reply is not None:
                replies.append(reply)
        if replies:
            output = ";".join(replies)
            self._output = output if rule is None else output + rule.text(output.encode("latin-1")).decode()

    def _loads(self, play: Fields, message: str) -> bool:
        """Whether a message gives it samples to play, in a block; it has them then."""
        before, _, after = play["load"].partition(BLOCK)
        head = message[: message.index("#")]
        if head.strip().upper() != before.strip().upper():
            return False
        block = message[len(head) + 1 :].encode("latin-1")
        content = block[1 + int(block[:1]) :]
        code = {"i1": "b", "u1": "B", "i2": "h", "u2": "H", "i4": "i", "f4": "f", "f8": "d"}[play["numbers"][1:]]
        numbers: array[Any] = array(code, content[: len(content) - len(after)])
        if (play["numbers"][0] == ">") == (sys.byteorder == "little"):
            numbers.byteswap()
        self._samples = array("d", (number / play["scale"] for number in numbers))
        return True

    def is_question(self, message: str) -> bool:
        """Whether a message asks for something: some instruments need no question mark for it."""
        return super().is_question(message) or any(e.deed in QUESTIONS for e, _ in self.manual.found(message.strip()))

    def _commands_in(self, text: str) -> list[str]:
        if not self.manual.is_compound or self.manual.found(text):
            return [text]
        return [one.strip().removeprefix(":") for one in scpi.split_outside(text, ";") if one.strip()]

    def _carried_out(self, command: str) -> str | None:
        found = self.manual.found(command)
        if not found:
            return self._unknown(command)
        try:
            return self._one_of(found)
        except Beyond:
            return self._refuse("-222", f"Data out of range;{command}")
        except ValueError:
            return self._refuse("-224", f"Illegal parameter value;{command}")

    def _one_of(self, found: Found) -> str | None:
        """Carries out the first of what a command may mean that takes its values. Raises ValueError: none does."""
        queries = [(entry, parts) for entry, parts in found if entry.deed == "query"]
        if queries and not any(entry.deed == "ask" for entry, _ in found):  # a setting may be read by the same query
            return self._read(queries, queries[0][1], int(queries[0][1].get("channel") or 1))
        problem = ValueError()
        for entry, parts in found:
            try:
                return self._carried_out_as(entry, parts, int(parts.get("channel") or 1))
            except ValueError as error:
                problem = error
        raise problem

    def _carried_out_as(self, entry: Entry, parts: dict[str, str], channel: int) -> str | None:
        setting = entry.subject
        if entry.deed not in ("write", "ask"):
            return self._about_itself(entry, parts, channel)
        assert isinstance(setting, Setting)
        if entry.deed == "ask":
            return setting.answer(self.values.get((setting.name, channel), setting.first), channel)
        value = self.values[setting.name, channel] = setting.taken(parts["value"])
        if setting.takes_time:
            self._moving.go((setting.name, channel), float(value), setting.high - setting.low)
        self._applied.changed(setting.name, channel)
        return self.manual.acknowledge

    def _about_itself(self, entry: Entry, parts: dict[str, str], channel: int) -> str | None:
        data = self.manual.data
        match entry.deed:
            case "fixed":
                return str(entry.subject)
            case "curve":
                return self._about_curve(entry.subject, channel)
            case "identity":
                return Template(data["identity"]["reply"]).filled({"value": self.identity})
            case "errors":
                return self._error()
            case "complete":
                return self._complete()
            case "completes":
                self._is_to_tell = True
            case "cleared":
                told, self._is_to_tell = self._has_told, False
                return str(int(told))
            case "triggers":
                self._was_triggered = True
                self._applied.play(self._samples, self._value)
            case "stream_begin":
                self._waves.begin(self.presets)
                self._streaming().begin(float(self._value("interval", channel) or 1.0))
            case "stream_end":
                self._streaming().end()
            case "stream_query":
                channels = [int(c) for c in scpi.channel_list(f"(@{parts['channels']})")]
                return self._streaming().block(channels, float(self._value("full_scale", channels[0]) or 0.0))
            case "stream_first":
                return str(self._streaming().first)
            case "arms":
                self._armed = self.world.clock()
            case "halts":
                self.values.update(self._moving.halt())
            case "configure":
                self._configure(entry, parts, channel)
            case "select":
                self.scan = [int(c) for c in scpi.channel_list(f"(@{parts['channels']})")]
            case "resets":
                self.reset()
            case "clears":
                self._clear()
        return self.manual.acknowledge

    def _streaming(self) -> Streaming:
        """What it samples on and on; NumPy is loaded with it."""
        if self._stream is None:
            from ibexite.simulate.streaming import Streaming

            self._stream = Streaming(self.manual.data["stream"], self.world.clock, self._samples_of)
        return self._stream

    def _samples_of(self, channel: int, first: int, begin: float, step: float, count: int) -> Any:
        import numpy as np

        prepared = self._waves.streamed(channel, first, count)
        if prepared is not None:
            return prepared
        found = self.world.record(self.wiring.get(channel, UNWIRED), begin, step, count)
        return np.zeros(count) if found is None else found

    def _complete(self) -> str:
        """Whether all is carried out. Where one answer says so, it comes when it is."""
        complete = self.manual.data["complete"]
        if complete["no"] and self._moving.is_moving():
            return str(complete["no"])
        self._moving.arrive()
        return str(complete["reply"])

    def _unknown(self, command: str) -> str | None:
        if self.manual.data["errors"]["is_scpi"]:  # what every instrument of IEEE 488.2 knows
            try:
                return self._carry_out(scpi.parse_message(command)[0])
            except (ScpiError, IndexError):
                pass
        return self._refuse("-113", f"Undefined header;{command}")

    def _refuse(self, number: str, text: str) -> str | None:
        self.report_text(f'{number},"{text}"' if self.manual.data["errors"]["is_scpi"] else text)
        return None if self.manual.acknowledge is None else "ERROR"

    # --- errors ------------------------------------------------------------------------------------------------------

    def report_text(self, text: str) -> None:
        """Notes an error of this text."""
        if len(self.own_errors) < ERROR_QUEUE_LENGTH:
            self.own_errors.append(text)
        elif self.manual.data["errors"]["is_scpi"]:
            self.own_errors[-1] = ScpiError(-350).queue_entry()

    def report(self, error: ScpiError) -> None:
        """Notes an error of the standard, as a trouble makes one."""
        self.report_text(error.queue_entry())

    def _error(self) -> str:
        if not self.own_errors:
            return str(self.manual.data["errors"]["none"])
        if self.manual.data["errors"]["is_queue"]:
            return self.own_errors.popleft()
        last = self.own_errors[-1]
        self.own_errors.clear()
        return last

    def _clear(self) -> None:
        super()._clear()
        self.own_errors.clear()

    def status_byte(self) -> int:
        """The status byte: errors wait; what says that all is carried out."""
        self._has_told = self._is_to_tell and not self._moving.is_moving()
        return 4 * bool(self.own_errors) | (self.manual.data["complete"]["status_byte"] if self._has_told else 0)

    # --- settings ----------------------------------------------------------------------------------------------------

    def reset(self) -> None:
        self.values.clear()
        self.set_up, self.scan = {}, []
        self._moving.arrive()
        self._applied.reset()

    def _value(self, name: str, channel: int) -> float | str | None:
        setting = self.manual.settings.get(name)
        if setting is None:
            return None
        return self.values.get((name, channel if setting.is_of_channel else 1), setting.first)

    # --- readings ----------------------------------------------------------------------------------------------------

    def _configure(self, entry: Entry, parts: dict[str, str], channel: int) -> None:
        reading = entry.subject
        assert isinstance(reading, Reading)
        before = self.set_up.get(channel)
        given = dict(before[1]) if before is not None and before[0] is reading else {}
        self.set_up[channel] = (reading, given | _arguments(reading, parts))

    def _read(self, found: Found, parts: dict[str, str], channel: int) -> str | None:
        readings = [entry.subject for entry, _ in found if isinstance(entry.subject, Reading)]
        first = readings[0]
        if first.is_scanned:
            if not self.scan:
                raise ValueError("no scan list")
            return first.speech.separator.join(self._one(readings, c, {}) or "" for c in self.scan)
        return self._one(readings, channel, _arguments(first, parts))

    def _one(self, readings: list[Reading], channel: int, given: dict[str, float]) -> str | None:
        reading, arguments = self.set_up.get(channel, (readings[0], {}))
        if reading not in readings:
            reading, arguments = readings[0], {}
        reply = self._reply(reading, channel, arguments | given)
        return None if reply is None else reading.in_lines(reply, self.manual.data["line_end"])

    def _reply(self, reading: Reading, channel: int, arguments: dict[str, float]) -> str | None:
        if reading.curve is not None:
            return self._record(reading, channel) if reading.name == "record" else self._curve(reading, channel)
        if reading.layout is not None:
            return self._parts(reading, channel)
        return reading.answer(self._measured(reading, channel, arguments), channel)

    def _parts(self, reading: Reading, channel: int) -> str:
        """What has several parts: as it was prepared, or of the product."""
        assert reading.layout is not None
        preset = self.presets.take_any(f"{reading.name}:{channel}")
        if isinstance(preset, str):
            answer = prepared(preset)
            if isinstance(answer, str):
                return answer
        else:
            answer = self.world.parts(self.wiring.get(channel, UNWIRED), reading.name)
        threshold = self._value("threshold", channel) or 0.0
        return reply_of(reading.kind, reading.layout, reading.speech, answer, threshold=float(threshold))

    def _measured(self, reading: Reading, channel: int, arguments: dict[str, float]) -> float | str:
        preset = self.presets.take_any(f"{reading.name}:{channel}")
        if isinstance(preset, float):
            overload = abs(preset) >= 0.999 * INFINITY
            return math.copysign(math.inf, preset) if overload else reading.unit.to_base(preset)
        if preset is not None:
            return preset
        if reading.kind not in ("number", "yes_no"):
            told = self.world.parts(self.wiring.get(channel, UNWIRED), reading.name)
            if told is not None:
                return str(told)
            return str(self.values.get((reading.name, channel), f"{self.manual.data['class']} {reading.name}"))
        if reading.name == "moving":
            return float(self._moving.is_moving(channel))
        value = self._moving.place((reading.name, channel), self._wired(reading, channel))
        if reading.kind == "yes_no":
            return float(value > 0.5)
        size = arguments.get("range", 0.0)
        if size and abs(value) > OVER_RANGE * size:
            return math.copysign(math.inf, value)
        quiet = math.sqrt(max(arguments.get("integration", 1.0), 0.02))
        return value + random.gauss(0, NOISE * (size or abs(value)) / quiet) if value or size else value

    def _wired(self, reading: Reading, channel: int) -> float:
        nothing = NO_LEVEL.get(reading.unit.symbol, 0.0)
        idle = ROOM if reading.unit.symbol == "degC" else nothing
        return self._applied.measured(reading.name, channel, idle, nothing)

    def _about_curve(self, fact: object, channel: int) -> str:
        assert isinstance(fact, CurveFact)
        if not fact.axis:
            return fact.answer([float(fact.key)], channel)
        axis = axis_of(fact.axis, lambda name: self._value(name, channel), is_only=fact.is_only)
        if fact.key == "spacing":
            return fact.choice("logarithmic" if axis.is_log else "linear", channel)
        return fact.answer(axis.in_unit(fact.unit.factor, fact.unit.offset).told(fact.key), channel)

    def _curve(self, reading: Reading, channel: int) -> str | None:
        assert reading.curve is not None
        names = [axis["name"] for axis in reading.curve["axes"]]
        axes = {
            name: axis_of(name, lambda s: self._value(s, channel), is_only=len(names) == 1).points() for name in names
        }
        begin = self._begin_of_record(reading, axes, channel)
        if begin is None:
            return None  # nothing has triggered it: it waits
        if begin:
            axes["time"] = [begin + t for t in axes["time"]]
        values = self.world.curve(self.wiring.get(channel, UNWIRED), reading.name, axes)
        if values is None:
            values = [self._wired(reading, channel)] * math.prod(map(len, axes.values()))
        return self._points(reading, channel, values)

    def _record(self, reading: Reading, channel: int) -> str | None:
        """What was sampled of a channel since it was armed (if it was not, from now on), or since something was played
        if that triggers it; None while nothing has."""
        begin: float | None = self._armed if self._armed is not None else self.world.clock()
        if self._value("trigger", channel) in ("external", "playing"):
            started = self.world.played_since()
            begin = started if started is not None and begin is not None and started >= begin else None
        axis = axis_of("time", lambda s: self._value(s, channel), is_only=True)
        if begin is None:
            return None
        values = recorded(self.presets, channel, axis.count)
        if values is None:
            values = self.world.record(self.wiring.get(channel, UNWIRED), begin, axis.step, axis.count)
        assert reading.curve is not None
        if values is None or not reading.curve["numbers"].endswith(("f4", "f8")):
            return self._points(reading, channel, [0.0] * axis.count if values is None else values.tolist())
        import numpy as np

        scale = self._value("full_scale", channel)
        told = np.where(np.abs(values) > scale, INFINITY, values) if isinstance(scale, float) and scale else values
        numbers = (told - reading.unit.offset) / reading.unit.factor
        return definite_block(numbers.astype(reading.curve["numbers"]).tobytes()).decode("latin-1")

    def _points(self, reading: Reading, channel: int, values: Sequence[complex]) -> str:
        """The reply that tells the values of a curve."""
        assert reading.curve is not None
        numbers = [number for value in values for number in self._points_of(reading, value, channel)]
        count = len(numbers)
        form = reading.curve["numbers"]
        if not form:
            return reading.listed(numbers, channel)
        letter = {"i1": "b", "u1": "B", "i2": "h", "u2": "H", "i4": "i", "f4": "f", "f8": "d"}[form[1:]]
        whole = numbers if letter in "fd" else [0 if abs(n) >= 0.999 * INFINITY else round(n) for n in numbers]
        return definite_block(struct.pack(f"{form[0]}{count}{letter}", *whole)).decode("latin-1")

    def _begin_of_record(self, reading: Reading, axes: dict[str, list[float]], channel: int) -> float | None:
        """When a record begins, in s: where the voltage passes the level from below, or when it is triggered; None
        while nothing has."""
        how = self._value("trigger", channel) if "time" in axes else None
        was_triggered, self._was_triggered = self._was_triggered, False
        if how in (None, "at_once", "internal") or was_triggered:
            return 0.0
        wired = self.wiring.get(channel, UNWIRED)
        if how != "level":
            return 0.0 if self.world.triggers(wired) else None
        values, level = self.world.curve(wired, reading.name, axes), self._value("level", channel)
        if values is None:
            return 0.0
        limit = level if isinstance(level, float) else 0.0
        passed = (i for i in range(1, len(values)) if values[i - 1].real < limit <= values[i].real)
        at = next(passed, None)
        return None if at is None else axes["time"][at]

    def _points_of(self, reading: Reading, value: complex, channel: int) -> tuple[float, ...]:
        """The numbers of one point, in the unit of the instrument; beyond its full scale it is an overload."""
        assert reading.curve is not None
        scale = self._value("full_scale", channel)
        if isinstance(scale, float) and scale and abs(value) > scale:
            return (INFINITY,)
        number = reading.unit.from_base(value.real)
        return (number, value.imag) if reading.curve["is_complex"] else (number,)


def _arguments(reading: Reading, parts: dict[str, str]) -> dict[str, float]:
    values = {name: reading.argument(name, parts[name]) for name in reading.arguments if parts.get(name)}
    return {name: value for name, value in values.items() if value is not None}
