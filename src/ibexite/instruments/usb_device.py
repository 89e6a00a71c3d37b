"""The operating system's device files of USBTMC instruments: found, opened, and the calls of their driver.

Source: linux/usb/tmc.h of the Linux kernel (version 4.20 and later has the calls for bare bulk transfers). A socket in
place of a device file is a stand-in, which takes the same calls as messages.
"""

from __future__ import annotations

import ctypes
import errno
import os
import socket
import stat
import struct
from pathlib import Path
from typing import Protocol

from ibexite.frozen import frozen
from ibexite.protocols.usbtmc import ANSWER, READING, Deed, asked

SYSFS = Path("/sys")
_NUMBER = 91  # USBTMC_IOC_NR
_MESSAGE = struct.Struct("=III" + ("Q" if ctypes.sizeof(ctypes.c_void_p) == 8 else "I"))  # struct usbtmc_message


def _request(direction: int, number: int, size: int) -> int:
    """The number of a call (asm-generic/ioctl.h): direction (1 to the driver, 2 from it, 3 both), size, family."""
    return direction << 30 | size << 16 | _NUMBER << 8 | number


CLEAR, ABORT_IN = _request(0, 2, 0), _request(0, 4, 0)
SET_TIMEOUT = _request(1, 10, 4)
WRITE, READ = _request(3, 13, _MESSAGE.size), _request(3, 14, _MESSAGE.size)
READ_STATUS, GO_TO_LOCAL = _request(2, 18, 1), _request(0, 20, 0)


class UsbDevice(Protocol):
    """A device file. All raise OSError; a transfer that is not done in time TimeoutError."""

    def write(self, data: bytes, seconds: float) -> None:
        """One bulk-out transfer."""

    def read(self, most: int, seconds: float) -> bytes:
        """One bulk-in transfer."""

    def clear(self) -> None:
        """INITIATE_CLEAR and what belongs to it."""

    def abort_in(self) -> None:
        """INITIATE_ABORT_BULK_IN and what belongs to it."""

    def status_byte(self) -> int:
        """READ_STATUS_BYTE."""

    def go_to_local(self) -> None:
        """GO_TO_LOCAL."""

    def close(self) -> None:
        """Closes it."""


class DriverFile:
    """A device file of the usbtmc driver."""

    def __init__(self, path: str) -> None:
        self._file = os.open(path, os.O_RDWR | os.O_CLOEXEC)

    def _call(self, request: int, argument: int | bytes | bytearray = 0) -> None:
        import fcntl

        fcntl.ioctl(self._file, request, argument)

    def _transfer(self, request: int, buffer: ctypes.Array[ctypes.c_char], seconds: float) -> int:
        self._call(SET_TIMEOUT, struct.pack("=I", max(100, round(seconds * 1000))))  # the driver takes no less
        message = bytearray(_MESSAGE.pack(len(buffer), 0, 0, ctypes.addressof(buffer)))
        self._call(request, message)
        done: int = _MESSAGE.unpack(message)[1]
        return done

    def write(self, data: bytes, seconds: float) -> None:
        """One bulk-out transfer. Raises OSError."""
        done = self._transfer(WRITE, ctypes.create_string_buffer(data, len(data)), seconds)
        if done < len(data):
            raise OSError(errno.EIO, f"only {done} of {len(data)} bytes were taken")

    def read(self, most: int, seconds: float) -> bytes:
        """One bulk-in transfer. Raises OSError."""
        buffer = ctypes.create_string_buffer(most)
        return buffer.raw[: self._transfer(READ, buffer, seconds)]

    def clear(self) -> None:
        """INITIATE_CLEAR and what belongs to it. Raises OSError."""
        self._call(CLEAR)

    def abort_in(self) -> None:
        """INITIATE_ABORT_BULK_IN and what belongs to it. Raises OSError."""
        self._call(ABORT_IN)

    def status_byte(self) -> int:
        """READ_STATUS_BYTE. Raises OSError."""
        status = bytearray(1)
        self._call(READ_STATUS, status)
        return status[0]

    def go_to_local(self) -> None:
        """GO_TO_LOCAL. Raises OSError."""
        self._call(GO_TO_LOCAL)

    def close(self) -> None:
        """Closes it."""
        os.close(self._file)


class StandInFile:
    """A socket that takes the same calls: a stand-in, where there is no hardware."""

    GRACE = 5.0  # s beyond what a transfer may take

    def __init__(self, path: str) -> None:
        self._socket = socket.socket(socket.AF_UNIX)
        try:
            self._socket.settimeout(self.GRACE)
            self._socket.connect(path)
        except OSError:
            self._socket.close()
            raise

    def _ask(self, deed: Deed, payload: bytes = b"", seconds: float = 0.0) -> bytes:
        self._socket.settimeout(seconds + self.GRACE)
        try:
            self._socket.sendall(asked(deed, payload))
            error, length = ANSWER.unpack(self._take(ANSWER.size))
            data = self._take(length)
        except ConnectionError:
            raise OSError(errno.ENODEV, os.strerror(errno.ENODEV)) from None
        if error:
            raise OSError(error, os.strerror(error))
        return data

    def _take(self, count: int) -> bytes:
        data = b""
        while len(data) < count:
            more = self._socket.recv(count - len(data))
            if not more:
                raise ConnectionResetError
            data += more
        return data

    def write(self, data: bytes, seconds: float) -> None:
        """One bulk-out transfer. Raises OSError."""
        self._ask(Deed.WRITE, data, seconds)

    def read(self, most: int, seconds: float) -> bytes:
        """One bulk-in transfer. Raises OSError."""
        return self._ask(Deed.READ, READING.pack(most, round(seconds * 1000)), seconds)

    def clear(self) -> None:
        """As the driver's. Raises OSError."""
        self._ask(Deed.CLEAR)

    def abort_in(self) -> None:
        """As the driver's. Raises OSError."""
        self._ask(Deed.ABORT_IN)

    def status_byte(self) -> int:
        """As the driver's. Raises OSError."""
        return self._ask(Deed.STATUS)[0]

    def go_to_local(self) -> None:
        """As the driver's. Raises OSError."""
        self._ask(Deed.LOCAL)

    def close(self) -> None:
        """Closes it."""
        self._socket.close()


def open_device(path: str) -> UsbDevice:
    """A device file, or its stand-in. Raises OSError."""
    return StandInFile(path) if stat.S_ISSOCK(Path(path).stat().st_mode) else DriverFile(path)


@frozen
class Found:
    """A USBTMC instrument that is plugged in."""

    path: str
    vendor: int
    product: int
    serial: str
    interface: int


def plugged_in(sysfs: Path = SYSFS) -> list[Found]:
    """The USBTMC instruments of this computer, as sysfs tells them."""
    found = []
    for entry in sorted((sysfs / "class" / "usbmisc").glob("usbtmc*")):
        interface = (entry / "device").resolve()
        try:
            vendor, product = (int(_told(interface.parent, name), 16) for name in ("idVendor", "idProduct"))
            number = int(_told(interface, "bInterfaceNumber"), 16)
        except (OSError, ValueError):
            continue  # it is being plugged out just now
        serial = interface.parent / "serial"
        text = _told(interface.parent, "serial") if serial.exists() else ""
        found.append(Found(f"/dev/{entry.name}", vendor, product, text, number))
    return found


def _told(folder: Path, name: str) -> str:
    return (folder / name).read_text().strip()
