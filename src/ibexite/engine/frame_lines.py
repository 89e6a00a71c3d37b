"""Lines of the bench, made ready: settings, readings, actions, raw commands."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping
from functools import partial

from ibexite import events
from ibexite.bench.interface import ItemLike, Key
from ibexite.compound import media_of, picture_text
from ibexite.engine.conditions import ReadConditions
from ibexite.engine.files import samples_of
from ibexite.engine.frame_gaps import Gaps
from ibexite.engine.keeping import keep_bytes
from ibexite.errors import SequenceError
from ibexite.instruments.readings import Given
from ibexite.language import constants, fill, nodes
from ibexite.language.carrying import RANGE, RANGE_REMEDY
from ibexite.stimulus import Stimulus
from ibexite.untyped import Fields, Measured
from ibexite.values import TEXT, Picture, Quantity
from ibexite.wording import duration_text


class BenchLines(Gaps):
    """What a block does with instruments."""

    def set_line(self, statement: nodes.Set) -> Measured:
        """A set line made ready."""
        settings = [(self.played_by(a.role), a.setting) for a in statement.assignments]
        send = self.runtime.bench.set_line(settings)
        if not statement.is_verified:
            return send

        def send_and_verify(*values: float) -> None:
            send(*values)
            self.runtime.bench.verify(settings, values)

        return send_and_verify

    def read_line(self, statement: nodes.Read) -> Measured:
        """A read line made ready."""
        settled = self._settled(statement)
        if not any(reading.query for reading in statement.readings):
            items = [self.item(reading) for reading in statement.readings]
            return self._settling(statement, self._keeping(statement, self.runtime.bench.read_line(
                items,
                together=statement.together,
                averaging=statement.averaging,
                tries=statement.tries,
                settled=settled,
            )))  # fmt: skip
        parts = [self._single(reading, statement) for reading in statement.readings]

        def read(given: Fields | None = None) -> list[Measured]:
            return [value for part in parts for value in part(given or {})]

        return read

    def play(self, statement: nodes.Play) -> Callable[..., list[Measured]]:
        """A play line made ready: the records, and how often it was played again because of them. It is called with a
        condition of the records for which it is."""
        stimulus = self.program.stimuli[statement.stimulus]
        assert stimulus is not None  # it was looked at when it was vetted
        signals = [(self.prefix + r.name, self.played_by(r.source)) for r in statement.readings]
        marker = next((self.prefix + r.name for r in statement.readings if r.source == statement.marker), "")
        once = self.runtime.bench.play_line(
            self.played_by(statement.role), stimulus, samples_of(stimulus), signals, marker
        )

        def play(is_again: Callable[..., bool] | None = None) -> list[Measured]:
            self._refuse_old(stimulus, statement)
            for repeats in range(statement.times + 1):
                known = len(self.runtime.bench.bad)
                records = once()
                if is_again is None or repeats == statement.times or not is_again(*records):
                    break
                del self.runtime.bench.bad[known:]  # of records that are not used
            for name, (mean, share) in self.runtime.bench.offsets.items():
                self._tell_offset(name, mean, share)
            return [*records, float(repeats)] if statement.readings else []

        return play

    def _tell_offset(self, name: str, mean: float, share: float) -> None:
        """A record has a DC part, which takes from its range and counts in its peak and RMS value."""
        kind = self.names[name.removeprefix(self.prefix)].type
        said = kind.said(mean, 4) if isinstance(kind, Quantity) else f"{mean:.4g}"
        text = f"{name} has a DC part of {said}, {share:.0%} of its swing"
        self.runtime.emit(events.Shown(self.runtime.now(), text, self.block, "note"))

    def _refuse_old(self, stimulus: Stimulus, statement: nodes.Play) -> None:
        """What a stimulus is shaped by may be too old. Raises SequenceError."""
        gain = stimulus.gain
        if gain is None or not gain.most_age:
            return
        age = (self.runtime.started - datetime.datetime.fromisoformat(gain.measured)).total_seconds()
        if not 0 <= age <= gain.most_age:
            raise SequenceError(
                f"{stimulus.name} is shaped by {gain.name}, which is {duration_text(abs(age))} "
                + (f"old, it may be {duration_text(gain.most_age)}" if age > 0 else "younger than this run"),
                where=self.place(statement), remedy="Measure the source again, and save it.",
            )  # fmt: skip

    def conditions(
        self, statement: nodes.Read, changing: set[Key] | None, behind: Mapping[str, frozenset[str]]
    ) -> Callable[[], None] | None:  # fmt: skip
        """Notes the conditions of a read line, each time when it has been carried out; None: there are none."""
        found = ReadConditions(self, statement, None if self.caller is not None else changing, behind)
        self.runtime.conditions.append(found)
        self._stateful.append(found)
        return found.note

    def corrected_at(self, statement: nodes.Read) -> list[str]:
        """The axes of sweeps at which signals of a line are corrected."""
        signals = self.runtime.bench.file.signals
        read = [signals.get(self.played_by(reading.source)) for reading in statement.readings if reading.role is None]
        found = [one.correction for one in read if one is not None and one.correction is not None]
        return list(dict.fromkeys(correction.setting for correction in found if not correction.role))

    def reading_at(self, axes: dict[str, float], line: Callable[[], list[Measured]]) -> list[Measured]:
        """Reads a line while sweeps are there; behind it nobody is anywhere."""
        bench = self.runtime.bench
        bench.at_axes = axes
        try:
            return line()
        finally:
            bench.at_axes = {}

    def _keeping(self, statement: nodes.Read, line: Callable[[], list[Measured]]) -> Callable[[], list[Measured]]:
        """A read line whose pictures are kept as files; the line itself if it has none."""
        pictures = {
            at: reading.name
            for at, reading in enumerate(statement.readings)
            if reading.name in self.names and isinstance(self.names[reading.name].type, Picture)
        }
        if not pictures:
            return line

        def read_and_keep() -> list[Measured]:
            values = line()
            for at, name in pictures.items():
                if isinstance(values[at], bytes):
                    values[at] = self._kept_picture(self.prefix + name, values[at])
            return values

        return read_and_keep

    def _kept_picture(self, name: str, data: bytes) -> str:
        """The text of a picture that an instrument gave, of which a file is kept."""
        file = f"{name}.{(media_of(data) or '').partition('/')[2]}"
        try:
            kept = keep_bytes(self.runtime, self.block, file, data)
        except OSError as error:
            raise SequenceError(f"the picture {name} cannot be kept ({error.strerror})",
                                remedy="Is the disk full?") from None  # fmt: skip
        return picture_text(file, kept.path, kept.sha256, kept.data)

    def _settling(self, statement: nodes.Read, line: Callable[[], list[float]]) -> Callable[[], list[float]]:
        """A read line that waits before as long as the slowest of its signals needs; the line itself if none does."""
        signals = self.runtime.bench.file.signals
        names = [self.played_by(reading.source) for reading in statement.readings if reading.role is None]
        seconds = max((signals[name].settling for name in names), default=0.0)
        if not seconds:
            return line

        def wait_and_read() -> list[float]:
            self.runtime.wait(seconds)
            return line()

        return wait_and_read

    def _settled(self, statement: nodes.Read) -> tuple[float, bool] | None:
        if statement.settled is None:
            return None
        known = constants.number(statement.settled, self.known)
        if known is None:
            raise SequenceError("what 'settled' means must be known before the run", where=self.place(statement))
        kind = self.program.types[statement.settled]
        is_relative = kind.dimension.is_plain and kind.shown in ("%", "ppm")
        return float(constants.as_difference(statement.settled, known)), is_relative

    def _single(self, reading: nodes.Reading, statement: nodes.Read) -> Callable[[Fields], list[Measured]]:
        if not reading.query:
            line = self.runtime.bench.read_line([self.item(reading)], together=False, averaging=statement.averaging,
                                                tries=statement.tries)  # fmt: skip
            return lambda given: line()
        kind = reading.type or TEXT
        role = self.played_by(reading.role or "")
        gaps = fill.gaps(reading.query)

        def ask(given: Fields) -> list[Measured]:
            text = fill.fill(reading.query, [self.bare(gap, given[gap.name]) for gap in gaps])
            return [self.runtime.bench.raw_query(reading.name, role, text, kind, statement.tries)]

        return ask

    def item(self, reading: nodes.Reading) -> ItemLike:
        """One value of a read line."""
        bench = self.runtime.bench
        name = self.prefix + reading.name
        if reading.role is None:
            return bench.signal_item(name, self.played_by(reading.source))
        arguments = {key: self._constant(value) for key, value in reading.arguments}
        return bench.role_item(name, self.played_by(reading.role), reading.source, arguments)

    def accuracy(self, reading: nodes.Reading, line: nodes.Read) -> Callable[[float], float]:
        """By how much a reading may be off, given its value. Raises SequenceError: nobody knows."""
        if reading.role is not None:
            return self._accuracy_of_role(reading, line)
        signal = self.runtime.bench.file.signals[self.played_by(reading.source)]
        if signal.accuracy is None:
            raise SequenceError(f"{signal.name} does not say how exact it is", where=self.place(line),
                                remedy=f"Write accuracy into [signals.{signal.name}] of the bench file.")  # fmt: skip
        return signal.half_width

    def _accuracy_of_role(self, reading: nodes.Reading, line: nodes.Read) -> Callable[[float], float]:
        file = self.runtime.bench.file
        profile = file.instruments[file.roles[self.played_by(reading.role or "")].instrument].profile
        accuracy = profile.readings[reading.source].accuracy
        if accuracy is None:
            raise SequenceError(
                f"{reading.role}.{reading.source} does not say how exact it is", where=self.place(line),
                remedy=f"Write accuracy into [readings.{reading.source}] of profile {profile.name}.",
            )  # fmt: skip
        size = next((self._constant(value) for name, value in reading.arguments if name == RANGE), None)
        if accuracy.of_range and not isinstance(size, float):
            raise SequenceError(
                f"{reading.role}.{reading.source} is as exact as its range", where=self.place(line), remedy=RANGE_REMEDY
            )
        return partial(accuracy.at, range_=size if isinstance(size, float) else 0.0)

    def _constant(self, expr: nodes.Expr) -> Given:
        if isinstance(expr, nodes.Text | nodes.Word):
            return expr.value if isinstance(expr, nodes.Text) else float(expr.is_true)
        known = self.known.get(expr.name) if isinstance(expr, nodes.Name) else None
        if isinstance(known, str | bool):
            return known if isinstance(known, str) else float(known)
        value = constants.number(expr, self.known)
        if value is None:
            raise SequenceError(
                "an argument of a reading must be known before the run",
                where=self.place(expr),
                remedy="Use a number or a parameter.",
            )
        return float(value)

    def action(self, statement: nodes.Do) -> Callable[[], None]:
        """An action of a role; afterwards its settings are asked back."""
        role = self.played_by(statement.role)
        return lambda: self.runtime.bench.do(role, statement.action)

    def routes(self, statement: nodes.Connect) -> Callable[[], None]:
        """Routes to connect or disconnect; how often relays have closed is told."""
        names = [self.played_by(name) for name, _ in statement.routes]
        runtime, bench = self.runtime, self.runtime.bench
        switch = bench.connect_routes if statement.is_on else bench.disconnect_routes

        def switch_and_tell() -> None:
            try:
                switch(names, runtime.wait)
            finally:
                runtime.tell_closings(self.block)

        return switch_and_tell

    def raw(self, statement: nodes.Send) -> tuple[Callable[..., None], list[str]]:
        """A raw command; afterwards what is known of the role is asked back."""
        gaps = fill.gaps(statement.text)
        role = self.played_by(statement.role)

        def send(*values: Measured) -> None:
            text = fill.fill(statement.text, [self.bare(g, v) for g, v in zip(gaps, values, strict=True)])
            self.runtime.bench.raw_send(role, text)

        return send, [gap.name for gap in gaps]
