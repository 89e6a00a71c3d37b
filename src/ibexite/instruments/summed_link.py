"""A link on which each message has a checksum, by a rule of ibexite.protocols.checksums."""

from __future__ import annotations

from ibexite.errors import LinkError
from ibexite.instruments.link import Data, Lines, Link, Reply
from ibexite.instruments.wrapped_link import WrappedLink
from ibexite.protocols.checksums import RULES, checked, summed


class SummedLink(WrappedLink):
    """Puts a checksum behind each message, and takes that of each reply away; a wrong one is a broken exchange. Blocks
    have none."""

    def __init__(self, link: Link, name: str, rule: str, end: bytes) -> None:
        """`name` is that of the instrument, `end` what ends a command."""
        super().__init__(link)
        self._name, self._rule, self._end = name, RULES[rule], end

    def send(self, data: bytes) -> None:
        """Sends commands."""
        self._link.send(summed(self._rule, data, self._end))

    def ask(self, data: bytes) -> None:
        """Sends a query."""
        self._link.ask(summed(self._rule, data, self._end))

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The reply to it. Raises LinkError: its checksum is wrong."""
        return self._checked(self._link.receive(reply), reply)

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and takes its reply. Raises LinkError: its checksum is wrong."""
        return self._checked(self._link.exchange(summed(self._rule, data, self._end), reply), reply)

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """Asks what has a known answer."""
        known = wanted + self._rule.text(wanted)
        return self._checked(self._link.ask_known(summed(self._rule, data, self._end), known), Reply.LINE)

    def _checked(self, data: Data, reply: Reply | Lines) -> Data:
        if reply is Reply.BLOCK:
            return data
        try:
            return checked(self._rule, bytes(data))
        except ValueError as error:
            self._link.is_waiting = True  # nobody knows what is on its way: it is opened anew
            raise LinkError(
                f"a reply was damaged: {error}", where=f"{self._name} at {self.address}",
                remedy="Check the cabling, and checksum in its profile.",
            ) from None  # fmt: skip
