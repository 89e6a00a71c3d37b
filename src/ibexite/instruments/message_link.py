"""What links have in common whose protocol numbers its messages and tells where one ends (HiSLIP, VXI-11, USBTMC)."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.instruments.failures import Failures
from ibexite.instruments.link import Data, Lines, LinkOptions, Reply, Rescue, plan_of


class MessageLink:
    """See ibexite.instruments.link.Link. What raises NotImplementedError here each kind has of its own."""

    def __init__(self, address: str, options: LinkOptions) -> None:
        self.address, self.timeout = address, options.timeout
        self._options, self._terminator = options, options.terminator
        self._failures = Failures(options.name, address, options.timeout)
        self.is_waiting = False
        self.before_reopening: Callable[[], None] = lambda: None
        self.after_reopening: Callable[[], None] = lambda: None

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""
        self.timeout = self._failures.timeout = seconds

    def open(self) -> None:
        """Connects."""
        raise NotImplementedError

    def close(self) -> None:
        """Closes the connection."""
        raise NotImplementedError

    def clear(self) -> None:
        """Device clear."""
        raise NotImplementedError

    def send(self, data: bytes) -> None:
        """Sends a program message."""
        raise NotImplementedError

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The next reply."""
        raise NotImplementedError

    def reopen(self) -> None:
        """Closes and connects anew, and clears the device: nothing of an earlier exchange can arrive."""
        self.before_reopening()
        self.close()
        self.open()
        self.clear()
        self.after_reopening()

    def rescue(self) -> Rescue:
        """How it is opened anew: its messages are numbered, so that nobody could go on with a copy."""
        return Rescue(plan_of(self.address, self._options), None)

    def ask(self, data: bytes) -> None:
        """Sends a query whose reply `receive` takes. Raises as `send`."""
        if self.is_waiting:
            raise self._failures.outstanding()
        self.is_waiting = True
        self.send(data)

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and receives its reply: `ask` and `receive` in one."""
        self.ask(data)
        return self.receive(reply)

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """As `exchange`: nothing of before can arrive."""
        return self.exchange(data)
