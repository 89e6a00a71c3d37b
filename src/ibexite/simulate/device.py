"""A simulated instrument as IEEE 488.2 describes it: messages in, replies out. No sockets, no clock.

What always holds: a reply stands in the output queue until it is taken; a new message that arrives before discards it
and is an interrupted query (-410), as section 6.3.2.3 of the standard demands.
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Callable

from ibexite import __version__
from ibexite.protocols import scpi
from ibexite.protocols.scpi import Command, ScpiError

Handler = Callable[[Command, int], str | None]
ERROR_QUEUE_LENGTH = 20
# Bits of the standard event status register (488.2, 11.5.1).
OPERATION_COMPLETE, QUERY_ERROR, DEVICE_ERROR, EXECUTION_ERROR, COMMAND_ERROR = 1, 4, 8, 16, 32


class Presets:
    """Readings that were prepared, by channel or name: each is given out in turn, the last one again and again. Those
    of a test go before those of the whole run."""

    def __init__(self, values: dict[str, list[float | str]]) -> None:
        self._values = {key: deque(given) for key, given in values.items() if given}
        self._of_test: dict[str, deque[float | str]] = {}

    def begin_test(self, values: dict[str, list[float | str]]) -> None:
        """A test begins, which has these; of all others those of the run go on where they were."""
        self._of_test = {key: deque(given) for key, given in values.items() if given}

    def take(self, key: str) -> float | None:
        """The next prepared number, None if there is none for this key."""
        value = self.take_any(key)
        return None if isinstance(value, str) else value

    def take_any(self, key: str) -> float | str | None:
        """The next prepared reading, None if there is none for this key."""
        waiting = self._of_test.get(key) or self._values.get(key)
        if waiting is None:
            return None
        return waiting.popleft() if len(waiting) > 1 else waiting[0]


class ScpiDevice:
    """The common commands, the error queue and the output queue; subclasses add their commands with `on`."""

    def __init__(self, identity: str, name: str) -> None:
        self.identity = f"{identity},SIMULATED-{name},{__version__}"
        self.errors: deque[ScpiError] = deque()
        self.event_status = 0
        self.is_trial = False  # nobody talks to it: it is looked at what it understands
        self._output: str | None = None
        self.presets = Presets({})
        self._commands: list[tuple[re.Pattern[str], bool, Handler]] = []
        self._found: dict[tuple[str, bool], tuple[Handler, int] | None] = {}
        self._common()

    # --- what a subclass uses ----------------------------------------------------------------------------------------

    def on(self, notation: str, write: Handler | None = None, query: Handler | None = None) -> None:
        """Adds a command in the notation of the standard; handlers take the command and its numeric suffix."""
        pattern = scpi.header_pattern(notation)
        if write is not None:
            self._commands.append((pattern, False, write))
        if query is not None:
            self._commands.append((pattern, True, query))

    def reset(self) -> None:
        """*RST: to be extended by subclasses."""

    # --- the two faces -----------------------------------------------------------------------------------------------

    def receive(self, message: str) -> None:
        """Carries out one program message; a reply is then in the output queue."""
        if self._output is not None:
            self._output = None
            self.report(ScpiError(-410))
        replies = []
        try:
            for command in scpi.parse_message(message.strip()):
                reply = self._carry_out(command)
                if reply is not None:
                    replies.append(reply)
        except ScpiError as error:
            self.report(error)
        if replies:
            self._output = ";".join(replies)

    def is_question(self, message: str) -> bool:
        """Whether a message asks for something."""
        return "?" in message

    @property
    def has_output(self) -> bool:
        """Whether a reply waits to be read."""
        return self._output is not None

    def take_output(self) -> str | None:
        """The reply that waits to be read, None if there is none."""
        output, self._output = self._output, None
        return output

    def status_byte(self) -> int:
        """The status byte (488.2, 11.2): errors wait, an event was noted."""
        return 4 * bool(self.errors) + 32 * bool(self.event_status)

    def report(self, error: ScpiError) -> None:
        """Puts an error into the queue; when it is full, its last entry says so (SCPI-1999 volume 2, 21.8.1)."""
        bits = {-1: COMMAND_ERROR, -2: EXECUTION_ERROR, -3: DEVICE_ERROR, -4: QUERY_ERROR}
        self.event_status |= bits[-(-error.number // 100)]
        if len(self.errors) >= ERROR_QUEUE_LENGTH:
            self.errors[-1] = ScpiError(-350)
        else:
            self.errors.append(error)

    def _carry_out(self, command: Command) -> str | None:
        key = (command.header, command.is_query)
        if key not in self._found:
            self._found[key] = self._find(*key)
        found = self._found[key]
        if found is None:
            raise ScpiError(-113, command.header)
        handler, suffix = found
        return handler(command, suffix)

    def _find(self, header: str, is_query: bool) -> tuple[Handler, int] | None:
        for pattern, for_query, handler in self._commands:
            if for_query == is_query and (match := pattern.fullmatch(header)):
                suffix = next((group for group in match.groups() if group), "1")
                return handler, int(suffix)
        return None

    def _common(self) -> None:
        self.on("*IDN", query=lambda c, n: self.identity)
        self.on("*RST", lambda c, n: self.reset())
        self.on("*CLS", lambda c, n: self._clear())
        self.on("*OPC", lambda c, n: self._set_complete(), lambda c, n: "1")
        self.on("*WAI", lambda c, n: None)
        self.on("*TST", query=lambda c, n: "0")
        self.on("*STB", query=lambda c, n: str(self.status_byte()))
        self.on("*ESR", query=lambda c, n: self._take_event_status())
        self.on("SYSTem:ERRor[:NEXT]", query=lambda c, n: self._next_error())

    def _clear(self) -> None:
        self.errors.clear()
        self.event_status = 0

    def _set_complete(self) -> None:
        self.event_status |= OPERATION_COMPLETE

    def _take_event_status(self) -> str:
        status, self.event_status = self.event_status, 0
        return str(status)

    def _next_error(self) -> str:
        return (self.errors.popleft() if self.errors else ScpiError(0)).queue_entry()


def one_parameter(command: Command) -> str:
    """The only parameter of a command. Raises ScpiError -109 or -108 when there are none or more."""
    if not command.parameters:
        raise ScpiError(-109)
    if len(command.parameters) > 1:
        raise ScpiError(-108)
    return command.parameters[0]


def response_number(value: float) -> str:
    """A reply in NR3 format (488.2, 8.7.4)."""
    return f"{value:+.7E}"
