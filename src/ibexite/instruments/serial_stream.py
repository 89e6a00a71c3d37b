"""Bytes over a serial port, by pyserial. Some instruments repeat what they are told (echo), and some take only so much
at a time (pace): both are dealt with here, so that a link sees a plain stream.

A serial line has no connection: what was on its way before it was opened arrives all the same. What waits is thrown
away; what comes later is passed over by the link (`is_fresh`).
"""

from __future__ import annotations

import errno
import os
import time
from typing import Any

from ibexite.errors import LinkError
from ibexite.instruments.address import Serial
from ibexite.instruments.failures import Failures
from ibexite.instruments.link import LinkOptions, Rescue, plan_of
from ibexite.instruments.patience import PatientStream

BREATH = 0.001  # s between two looks at whether something has come


class SerialStream(PatientStream):
    """One port, as the keys of the bench file say: `baud`, `bits`, `parity`, `stop_bits`, `flow`, `echo`, `pace`,
    `character_pace`."""

    is_fresh = False

    def __init__(self, address: str, place: Serial, options: LinkOptions, failures: Failures) -> None:
        super().__init__(options)
        self._address, self._place, self._failures = address, place, failures
        keys = options.keys
        self._echoes = bool(keys.get("echo", False))
        self._pace, self._character_pace = float(keys.get("pace", 0.0)), float(keys.get("character_pace", 0.0))
        self.seconds_per_byte = 15 / keys.get("baud", 9600)  # start, 8 data, parity, two stop bits, and some room
        self._port: Any = None  # serial.Serial
        self._sent_at = 0.0

    def open(self) -> None:
        """Opens the port with its settings, and throws away what waits. Raises LinkError."""
        import serial

        keys = self._options.keys
        self.close()
        try:
            self._port = serial.Serial(
                self._place.device, keys.get("baud", 9600), bytesize=keys.get("bits", 8),
                parity=PARITIES[keys.get("parity", "none")], stopbits=keys.get("stop_bits", 1),
                timeout=self._turn, write_timeout=self._options.to_send, exclusive=True,
                xonxoff=keys.get("flow") == "xon_xoff", rtscts=keys.get("flow") == "rts_cts",
            )  # fmt: skip
            self._port.reset_input_buffer()
        except (OSError, ValueError) as error:
            raise self._unusable(error) from None

    def _unusable(self, error: Exception) -> LinkError:
        """Why a port cannot be opened."""
        number, place = getattr(error, "errno", None), self._place.device
        if number in (errno.ENOENT, errno.ENXIO, errno.ENODEV):
            there = ports()
            remedy = "Is it plugged in? There is: " + ", ".join(there) if there else "Is it plugged in? There is none."
            return self._failures.error(f"there is no serial port {place}", remedy)
        if number in (errno.EACCES, errno.EPERM):
            return self._failures.error(
                f"no right to use the serial port {place}",
                "Add yourself to the group that owns it (often dialout), and log in again.",
            )
        if number in (errno.EBUSY, errno.EAGAIN) or "exclusively lock" in str(error):
            return self._failures.error(f"the serial port {place} is in use", "Another program has it open. End that.")
        return self._failures.error(f"the serial port {place} cannot be used ({error})", "Check its link keys.")

    def close(self) -> None:
        """Closes the port."""
        if self._port is not None:
            self._port.close()
            self._port = None

    def rescue(self, end: bytes) -> Rescue:
        """A copy of the open port where the system has such, and how it is opened anew."""
        handle = self._port.fileno() if hasattr(self._port, "fileno") else None
        return Rescue(plan_of(self._address, self._options), handle)

    # --- bytes -------------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Sends all of it, as fast as the instrument takes it. Raises OSError."""
        wait = self._sent_at + self._pace - time.monotonic()
        if wait > 0:
            time.sleep(wait)
        pieces = [data] if not self._character_pace else [data[i : i + 1] for i in range(len(data))]
        for piece in pieces:
            self._open_port().write(piece)
            if self._character_pace:
                time.sleep(self._character_pace)
        self._sent_at = time.monotonic()
        if self._echoes:
            self._take_echo(data)

    def _take_echo(self, data: bytes) -> None:
        """What was sent comes back first."""
        deadline = time.monotonic() + self.timeout
        got = b""
        while len(got) < len(data):
            got += self._open_port().read(len(data) - len(got))
            if time.monotonic() > deadline:
                raise OSError(errno.EPROTO, f"it did not repeat {data[:40]!r}; is echo right in the bench file?")
        if got != data:
            raise OSError(errno.EPROTO, f"it repeated {got[:40]!r} instead of {data[:40]!r}")

    def receive(self, most: int) -> bytes:
        """Some bytes; none if it was unplugged. Raises OSError: TimeoutError if none come within a turn."""
        import serial

        port = self._open_port()
        try:
            data: bytes = port.read(1)
            if data:
                data += port.read(min(port.in_waiting, most - 1))
        except serial.SerialException:
            return b""
        if not data:
            raise TimeoutError
        return data

    def why_ended(self) -> str:
        """Why nothing more comes."""
        return "the line is gone: was it unplugged?"

    def poll(self, ms: int) -> bool:
        """Whether bytes wait, or come within so many ms."""
        if self._port is None:
            return False
        deadline = time.monotonic() + ms / 1000
        while not self._waits():
            if time.monotonic() >= deadline:
                return False
            time.sleep(BREATH)
        return True

    def _waits(self) -> bool:
        """Whether bytes wait; also true of the end."""
        try:
            return bool(self._port.in_waiting)
        except OSError:
            return True

    def _open_port(self) -> Any:
        if self._port is None:
            raise OSError(0, "it is closed")
        return self._port


PARITIES = {"none": "N", "even": "E", "odd": "O", "mark": "M", "space": "S"}


def ports() -> list[str]:
    """The serial ports of this computer."""
    from serial.tools.list_ports import comports

    return sorted(os.fspath(port.device) for port in comports())
