"""What is there on networks and plugs, who it says it is, and what the bench file calls it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from ibexite.bench.file import BenchFile
from ibexite.bench.pool import Opening, options_for
from ibexite.errors import IbexiteError
from ibexite.frozen import frozen
from ibexite.instruments.address import parse_address
from ibexite.instruments.discovery import Seen, all_at_once, announced, answering_broadcast, at_serial_ports, at_usb
from ibexite.instruments.link import LinkOptions
from ibexite.instruments.profile import Identity

LOOKING, ASKING = 1.3, 1.3  # s for each; together with the start within three seconds
Ways = tuple[Callable[[], list[Seen]], ...]
WAYS: Ways = (lambda: announced(LOOKING), lambda: answering_broadcast(LOOKING), at_serial_ports, at_usb)


@frozen
class Found:
    """One address at which something is: the ways in which it was found, what it told of itself, what it answered to
    *IDN? (or why not), and its name in the bench file ("" if it is not in there)."""

    address: str
    ways: tuple[str, ...]
    told: str
    identity: str
    problem: str
    name: str


def find(file: BenchFile | None, opening: Opening, ways: Ways = WAYS, *, asks_ports: bool = False) -> list[Found]:
    """All that is found, and all of the bench file. A serial port that the bench file does not know is asked only where
    that is wanted: nobody knows what it makes of it."""
    seen = all_at_once(ways, LOOKING + 0.3)
    facts = {parse_address(fact.address).place(): fact for fact in file.instruments.values()} if file else {}
    by_place: dict[str, list[Seen]] = {}
    for one in seen:
        place = parse_address(one.address).place() if one.address else one.told
        by_place.setdefault(place, []).append(one)
    for place, fact in facts.items():
        by_place.setdefault(place, [Seen(fact.address, "bench file", "")])
    found: dict[str, Found] = {}
    deadline = time.monotonic() + ASKING

    def look(place: str, all_of_it: list[Seen]) -> None:
        fact, one = facts.get(place), all_of_it[0]
        identity, problem = "", "not asked: what is behind a serial port may take it for a command"
        address = fact.address if fact is not None else one.address
        if not address:
            problem = "tells of itself only"
        elif fact is not None or asks_ports or one.how != "serial port":
            timeout = max(0.1, 0.8 * (deadline - time.monotonic()))
            options = options_for(fact, timeout=timeout) if fact else LinkOptions("", timeout, keys={"lock": False})
            identity, problem = _asked(address, options, opening)
        hows = tuple(dict.fromkeys(s.how for s in all_of_it))
        told = next((s.told for s in all_of_it if s.told), "")
        found[place] = Found(address, hows, told, identity, problem, fact.name if fact else "")

    threads = [threading.Thread(target=look, args=entry, daemon=True) for entry in by_place.items()]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(max(0.0, deadline + 0.2 - time.monotonic()))
    return [
        found.get(place) or Found(all_of_it[0].address, (all_of_it[0].how,), "", "", "no answer in time",
                                  facts[place].name if place in facts else "")
        for place, all_of_it in by_place.items()
    ]  # fmt: skip


def _asked(address: str, options: LinkOptions, opening: Opening) -> tuple[str, str]:
    """The answer to *IDN?, or why there is none."""
    try:
        link = opening(address, options)
        try:
            return bytes(link.exchange(Identity().query.encode() + options.command_end)).decode("latin-1").strip(), ""
        finally:
            link.close()
    except IbexiteError as error:
        return "", error.what
