"""Who has locked a stand-in: one client alone, or all that named the same key. Whoever wants it meanwhile waits."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.simulate.loop import Loop


class DeviceLock:
    """The lock of one instrument. Clients are any objects; `freed` is told whenever somebody gave it back."""

    def __init__(self, loop: Loop) -> None:
        self._loop = loop
        self._holders: dict[object, str] = {}  # and the key that each has named, "" for itself alone
        self._waiting: list[tuple[object, str, Callable[[bool], None]]] = []
        self.freed: list[Callable[[], None]] = []

    @property
    def is_exclusive(self) -> bool:
        """True if one client has it for itself alone."""
        return "" in self._holders.values()

    @property
    def count(self) -> int:
        """How many have it."""
        return len(self._holders)

    def has(self, client: object) -> bool:
        """Whether a client has it."""
        return client in self._holders

    def bars(self, client: object) -> bool:
        """Whether a client must wait because others have it."""
        return bool(self._holders) and client not in self._holders

    def request(self, client: object, key: str, seconds: float, answer: Callable[[bool], None]) -> None:
        """Asks for it; the answer comes when it is given, or after so many seconds."""
        if self._is_free(client, key):
            self._holders[client] = key
            answer(True)
            return
        entry = (client, key, answer)
        self._waiting.append(entry)
        self._loop.after(seconds, lambda: self._give_up(entry))

    def release(self, client: object) -> bool:
        """Gives it back; false if the client did not have it."""
        if self._holders.pop(client, None) is None:
            return False
        for entry in list(self._waiting):
            other, key, answer = entry
            if self._is_free(other, key):
                self._waiting.remove(entry)
                self._holders[other] = key
                answer(True)
        for tell in list(self.freed):
            tell()
        return True

    def gone(self, client: object) -> None:
        """A client is not there any more."""
        self._waiting = [entry for entry in self._waiting if entry[0] is not client]
        self.release(client)

    def _is_free(self, client: object, key: str) -> bool:
        others = {k for holder, k in self._holders.items() if holder is not client}
        return not others or (bool(key) and others == {key})

    def _give_up(self, entry: tuple[object, str, Callable[[bool], None]]) -> None:
        if entry in self._waiting:
            self._waiting.remove(entry)
            entry[2](False)
