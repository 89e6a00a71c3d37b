"""A reply out of a whole message, for links whose protocol tells where a message ends (HiSLIP, VXI-11, USBTMC)."""

from __future__ import annotations

from ibexite.instruments.failures import Failures
from ibexite.instruments.link import Lines, Reply
from ibexite.protocols.framing import Framer, NoBlock, block_content


def content_of(message: bytes, reply: Reply | Lines, terminator: bytes, failures: Failures) -> bytes:
    """What a message says, without its terminator; there may be none, for its end is told by the protocol.

    Raises:
        StrayError: it is more than one reply.
        LinkError: it is no block where one is expected.
    """
    if reply is Reply.BLOCK:
        return _block(message, terminator, failures)
    if isinstance(reply, Lines):
        return _lines(message, reply, terminator, failures)
    place = message.find(terminator)
    if place == len(message) - len(terminator) and place >= 0:  # nearly always
        return message[:place]
    if place < 0:
        return message
    framer = Framer(terminator)
    framer.feed(message if message.endswith(terminator) else message + terminator)
    found = framer.next_line() if reply is Reply.LINE else framer.next_message()
    if found is None or framer.pending:
        raise failures.stray(framer.pending)
    return found


def _lines(message: bytes, reply: Lines, terminator: bytes, failures: Failures) -> bytes:
    framer = Framer(terminator)
    framer.feed(message if message.endswith(terminator) else message + terminator)
    found = reply.of(framer)
    if found is None:
        raise failures.error(
            f"answered in fewer lines than its profile says: {message[:60]!r}", "Look at lines and last_line there."
        )
    if framer.pending:
        raise failures.stray(framer.pending)
    return found


def _block(message: bytes, terminator: bytes, failures: Failures) -> bytes:
    """The content may end as a terminator does: the length decides. A block without a length (IEEE 488.2, 8.7.10) goes
    to the end of the message."""
    if message.startswith(b"#0"):
        return message[2:].removesuffix(terminator)
    try:
        return block_content(message.removesuffix(terminator))
    except NoBlock as error:
        try:
            return block_content(message)
        except NoBlock:
            raise failures.no_block(error) from None
