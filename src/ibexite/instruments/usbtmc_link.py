"""A link over USBTMC, by the operating system's device file. A thin shell around ibexite.protocols.usbtmc.

A device speaks only when it is asked for its response, so that nothing comes unasked while commands are sent; `look`
asks whether a response waits that nobody had asked for.
"""

from __future__ import annotations

import errno
import time

from ibexite.errors import LinkError
from ibexite.instruments.address import Usbtmc
from ibexite.instruments.link import TURN, Data, Lines, LinkOptions, Reply
from ibexite.instruments.message_link import MessageLink
from ibexite.instruments.replies import content_of
from ibexite.instruments.usb_device import UsbDevice, open_device, plugged_in
from ibexite.protocols import usbtmc
from ibexite.protocols.framing import MOST_BYTES
from ibexite.protocols.usbtmc import HEADER, MOST_TRANSFER, UsbtmcError

MESSAGE_AVAILABLE = 0x10  # bit of the status byte (IEEE 488.2, 11.2)


class UsbtmcLink(MessageLink):
    """One open device file."""

    def __init__(self, address: str, place: Usbtmc, options: LinkOptions) -> None:
        super().__init__(address, options)
        self._place = place
        self._device: UsbDevice | None = None
        self._tag = 0

    def open(self) -> None:
        """Finds the device file and opens it. Raises LinkError."""
        path = self._place.device or self._path()
        try:
            self._device = open_device(path)
        except PermissionError:
            raise self._failures.error(
                f"no right to use {path}",
                "Let your group use it by a rule of udev for its vendor, then plug it in again.",
            ) from None
        except OSError as error:
            if error.errno == errno.EBUSY:
                raise self._failures.error(f"{path} is in use", "Another program has it open. End that.") from None
            raise self._failures.error(f"{path} cannot be opened ({error.strerror})", "Is it plugged in?") from None
        self.is_waiting = False

    def _path(self) -> str:
        """The device file of what is plugged in. Raises LinkError: it is not."""
        place, there = self._place, plugged_in()
        for found in there:
            if (found.vendor, found.product, found.serial, found.interface) == (
                place.vendor, place.product, place.serial, place.interface
            ):  # fmt: skip
                return found.path
        seen = ", ".join(f"USB::0x{f.vendor:04x}::0x{f.product:04x}::{f.serial}" for f in there)
        raise self._failures.error(
            "it is not plugged in", f"There is: {seen}." if seen else "No USBTMC instrument is: is it switched on?"
        )

    def close(self) -> None:
        """Closes the device file."""
        device, self._device = self._device, None
        if device is not None:
            if self._options.keys.get("local"):
                try:
                    device.go_to_local()
                except OSError:
                    pass
            device.close()
        self.is_waiting = False

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Sends a program message. Raises LinkError."""
        for start in range(0, max(1, len(data)), MOST_TRANSFER):
            part = data[start : start + MOST_TRANSFER]
            self._write(usbtmc.data_out(self._next_tag(), part, is_end=start + MOST_TRANSFER >= len(data)))

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The next reply. Raises LinkError; then it must be reopened."""
        found = content_of(self._message(), reply, self._terminator, self._failures)
        self.is_waiting = False
        return found

    def _message(self) -> bytes:
        """A whole response, in as many parts as it needs, within the time-out, and one more for all parts together."""
        parts: list[bytes] = []
        taken = 0
        deadline = time.monotonic() + self.timeout
        while True:
            tag = self._next_tag()
            self._write(usbtmc.request_in(tag, MOST_TRANSFER))
            transfer = self._read(deadline, parts)
            try:
                part = usbtmc.read_answer(transfer, tag, MOST_TRANSFER)
            except UsbtmcError as error:
                raise self._failures.error(str(error), "Is it a USBTMC instrument?") from None
            if not parts:
                deadline = time.monotonic() + self.timeout
            parts.append(part.data)
            taken += len(part.data)
            if taken > MOST_BYTES:
                raise self._failures.endless()
            if part.is_end:
                return b"".join(parts)

    def _read(self, deadline: float, begun: list[bytes]) -> bytes:
        """One bulk-in transfer; the run may be stopped while it is waited for."""
        while True:
            try:
                device = self._opened()
                left = max(0.001, deadline - time.monotonic())
                return device.read(HEADER.size + MOST_TRANSFER + 3, min(TURN, left))
            except OSError as error:
                if not isinstance(error, TimeoutError) or time.monotonic() >= deadline:
                    raise self._broken(error, b"".join(begun)) from None
                self._options.heed()

    def _write(self, data: bytes) -> None:
        try:
            self._opened().write(data, self._options.to_send)
        except OSError as error:
            raise self._broken(error) from None

    def _broken(self, error: OSError, begun: bytes = b"") -> LinkError:
        if error.errno in (errno.ENODEV, errno.ENXIO, errno.ESHUTDOWN):
            return self._failures.ended(begun, "was it unplugged?")
        if error.errno == errno.ENOTTY:
            return self._failures.error(
                "it is no device file of a USBTMC instrument",
                "Such a file is called /dev/usbtmc0 or the like; the kernel must be 4.20 or later.",
            )
        return self._failures.broken(error, begun)

    def _opened(self) -> UsbDevice:
        if self._device is None:
            raise OSError(0, "it is closed")
        return self._device

    def _next_tag(self) -> int:
        self._tag = usbtmc.next_tag(self._tag)
        return self._tag

    # --- what the protocol has calls for -----------------------------------------------------------------------------

    def look(self, seconds: float = 0.0) -> None:
        """Raises StrayError if after so many seconds a response waits that nobody asked for."""
        if seconds:
            time.sleep(seconds)
        if self.status_byte() & MESSAGE_AVAILABLE:
            raise self._failures.stray(self._message())

    def clear(self) -> None:
        """Device clear. Raises LinkError."""
        try:
            if self.is_waiting:
                self._opened().abort_in()
            self._opened().clear()
        except OSError as error:
            raise self._broken(error) from None
        self.is_waiting = False

    def trigger(self) -> None:
        """The trigger message of USB488. Raises LinkError."""
        self._write(usbtmc.trigger(self._next_tag()))

    def status_byte(self) -> int:
        """The status byte. Raises LinkError."""
        try:
            return self._opened().status_byte()
        except OSError as error:
            raise self._broken(error) from None
