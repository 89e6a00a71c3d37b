"""Readings of several parts: tables, connections, pictures. What comes is looked at as a whole: one row that is not as
the profile says makes all of it bad."""

from __future__ import annotations

from math import nan

from ibexite.bench.query import BadReading, Item, Query
from ibexite.compound import media_of, table_text
from ibexite.connections import connections_text
from ibexite.holes import Bad
from ibexite.instruments.parts_keys import connections_answer, table_answer
from ibexite.instruments.session import Session
from ibexite.protocols.layout import Layout
from ibexite.untyped import Measured
from ibexite.values import Connections, Picture


class PartsQuery(Query):
    """One query whose reply is one thing of several parts. Of a picture its bytes are the value; who keeps files makes
    a text of them."""

    has_reply_to_itself = True

    def __init__(self, session: Session, items: list[Item], places: list[int]) -> None:
        super().__init__(session, items, places)
        layout = items[0].commands.layout
        assert layout is not None
        self._layout: Layout = layout
        self._kind, self._speech = items[0].commands.feature.type, items[0].commands.speech

    def take(self, values: list[Measured]) -> list[Bad]:
        """Puts the value into its place; why it is bad, if it is."""
        answer = self.session.answer_with_block if self._layout.is_block else self._answer
        reply = answer(self._in_full)
        data = reply if isinstance(reply, bytes | bytearray) else reply.encode("latin-1")
        try:
            values[self.places[0]] = self._value_of(bytes(data))
        except BadReading as error:
            values[self.places[0]] = nan
            return [Bad(self.items[0].name, error.reason, error.raw)]
        return []

    def _value_of(self, data: bytes) -> Measured:
        raw = data[:60].decode("latin-1")
        if isinstance(self._kind, Picture):
            if media_of(data) is None:
                raise BadReading("not_as_said" if data else "empty", raw, ": neither PNG nor JPEG" if data else "")
            return data
        text = data.decode("latin-1")
        if not text.strip() and not self._layout.is_block:
            raise BadReading("empty", "")
        try:
            rows = self._layout.read(text, self._speech)
            if isinstance(self._kind, Connections):
                if not rows:
                    raise BadReading("empty", raw)
                return connections_text(connections_answer(self._layout, rows))
            return table_text(table_answer(self._layout, [cells for _, cells in rows]))
        except ValueError as error:
            raise BadReading("not_as_said", raw, f": {error!s:.120}") from None
