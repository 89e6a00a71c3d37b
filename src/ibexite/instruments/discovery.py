"""What can be found without knowing where it is: services that announce themselves, VXI-11 servers that answer a
broadcast, serial ports, USBTMC devices.

Sources: LXI Device Specification, mDNS discovery (service types); RFC 6762 and 6763 (by zeroconf); VXI-11, B.4 (port
mapper).
"""

from __future__ import annotations

import os
import socket
import threading
import time
from collections.abc import Callable, Iterable

from ibexite.frozen import frozen
from ibexite.protocols import vxi11
from ibexite.protocols.onc_rpc import GETPORT, RpcError, call, getport, read_reply
from ibexite.protocols.vxi11 import Core, core

MAPPER_PORT = 111
EVERYBODY = (("255.255.255.255", MAPPER_PORT),)
_LXI, _VXI11 = "_lxi._tcp.local.", "_vxi-11._tcp.local."
_HISLIP, _RAW = "_hislip._tcp.local.", "_scpi-raw._tcp.local."
TYPES = (_LXI, _VXI11, _HISLIP, _RAW)


@frozen
class Seen:
    """Something that is there: how it is reached ("" if nobody knows), how it was found, what it says of itself."""

    address: str
    how: str
    told: str


def _address(kind: str, host: str, port: int) -> str:
    """The address of a service; "" for one that tells only that an instrument is there."""
    if kind == _HISLIP:
        return f"TCPIP::{host}::hislip0::INSTR" if port == 4880 else f"TCPIP::{host}::hislip0,{port}::INSTR"
    if kind == _VXI11:
        return f"TCPIP::{host}::inst0::INSTR" if port == MAPPER_PORT else f"TCPIP::{host}:{port}::inst0::INSTR"
    return f"TCPIP::{host}::{port}::SOCKET" if kind == _RAW else ""


def announced(seconds: float) -> list[Seen]:
    """Services that answer a question to all, within so many seconds; none where the network does not allow to ask."""
    from zeroconf import ServiceBrowser, ServiceListener, Zeroconf

    found: list[Seen] = []

    class Listener(ServiceListener):
        """Notes what is added."""

        def add_service(self, zc: Zeroconf, type_: str, name: str) -> None:
            info = zc.get_service_info(type_, name, round(1000 * seconds))
            if info is None:
                return
            for host in info.parsed_addresses():
                if ":" not in host:  # links are made over IP version 4 here
                    told = name.removesuffix("." + type_)
                    found.append(Seen(_address(type_, host, info.port or 0), type_.split(".")[0], told))

        def update_service(self, zc: Zeroconf, type_: str, name: str) -> None:
            """What it says of itself has changed."""

        def remove_service(self, zc: Zeroconf, type_: str, name: str) -> None:
            """It has gone."""

    try:
        network = Zeroconf()
    except OSError:
        return []
    try:
        ServiceBrowser(network, list(TYPES), Listener())
        time.sleep(seconds)
    finally:
        network.close()
    return list(found)


def answering_broadcast(
    seconds: float, targets: Iterable[tuple[str, int]] = (("255.255.255.255", MAPPER_PORT),)
) -> list[Seen]:
    """VXI-11 servers whose port mapper answers a question to all."""
    xid = int.from_bytes(os.urandom(4), "big")
    question = call(xid, GETPORT, getport(vxi11.CORE, core(Core.CREATE_LINK).version))
    found: dict[str, Seen] = {}
    deadline = time.monotonic() + seconds
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asking:
        asking.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        for target in targets:
            try:
                asking.sendto(question, target)
            except OSError:
                continue  # there is no network there
        while (left := deadline - time.monotonic()) > 0:
            asking.settimeout(left)
            try:
                data, (host, port) = asking.recvfrom(512)
                number, values = read_reply(data)
                if number == xid and 0 < values.word() < 65536:
                    address = _address(_VXI11, host, port)
                    found[address] = Seen(address, "broadcast", "")
            except (OSError, RpcError):
                continue
    return list(found.values())


def at_serial_ports() -> list[Seen]:
    """The serial ports of this computer; nobody knows what is behind them."""
    from serial.tools.list_ports import comports

    told = {"n/a": "", None: ""}
    return [
        Seen(f"ASRL{port.device}::INSTR", "serial port", told.get(port.description, port.description))
        for port in comports()
    ]


def at_usb() -> list[Seen]:
    """The USBTMC devices of this computer."""
    from ibexite.instruments.usb_device import plugged_in

    found = []
    for one in plugged_in():
        named = f"USB::0x{one.vendor:04x}::0x{one.product:04x}::{one.serial}::INSTR"
        found.append(Seen(named if one.serial else f"USB::{one.path}::INSTR", "USB", one.path))
    return found


def all_at_once(ways: Iterable[Callable[[], list[Seen]]], seconds: float) -> list[Seen]:
    """What several ways find, side by side, within so many seconds. One that fails finds nothing."""
    found: list[Seen] = []

    def go(way: Callable[[], list[Seen]]) -> None:
        try:
            found.extend(way())
        except Exception:  # whatever it is, the others have found what they have found
            pass

    threads = [threading.Thread(target=go, args=(way,), daemon=True) for way in ways]
    deadline = time.monotonic() + seconds
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(max(0.0, deadline - time.monotonic()))
    return list(found)
