"""Instruments by hand, without a sequence: a reading or signal of a bench, or of one instrument that stands in no bench
file. Nothing is reset or switched: what was set before stays as it is.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path

from ibexite import units
from ibexite.bench.bench import Bench
from ibexite.bench.entries import InstrumentEntry, RoleEntry
from ibexite.bench.file import BenchFile
from ibexite.bench.hand import HOLDER
from ibexite.bench.pool import Opening, Pool
from ibexite.classes import Argument
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import frozen
from ibexite.instruments.address import parse_address
from ibexite.instruments.profile import bare_profile, load_profile
from ibexite.instruments.readings import Given, ReadingCommands, argument_from
from ibexite.units import Dimension
from ibexite.untyped import Measured
from ibexite.values import Quantity, Type

ALONE = "instrument"  # name and role of one that stands in no bench file


@frozen
class Asked:
    """What is to be read: its name, instrument and type, and how the reading is made ready on a connected bench."""

    name: str
    instrument: str
    kind: Type
    prepare: Callable[[Bench], Callable[[], list[Measured]]]
    axes: Mapping[str, Dimension] = {}  # of a curve

    @property
    def dimension(self) -> Dimension:
        """That of a number."""
        return self.kind.dimension


def bench_of_one(address: str, profile: str, folder: Path) -> BenchFile:
    """A bench of one instrument that stands in no bench file. Without a profile it can be asked, and no more.

    Raises:
        MistakeError: the address is none, or there is no such profile.
    """
    parse_address(address)
    fact = InstrumentEntry(ALONE, load_profile(profile, folder) if profile else bare_profile(), address, "", None, None)
    role = RoleEntry(ALONE, ALONE, 1, {}, {}, allows_raw=True)
    return BenchFile(folder / "none", "", address, (ALONE,), {ALONE: fact}, {ALONE: role}, {}, "")


def what_to_read(file: BenchFile, words: tuple[str, ...], given: dict[str, str]) -> Asked:
    """A signal, or a reading of a role.

    Args:
        words: a signal; a role and its reading, also with a dot between them; the reading alone where there is but
            one role.
        given: set-up of the reading, as texts with units.

    Raises:
        MistakeError: there is no such thing, or a set-up that it does not have.
    """
    if len(words) == 1 and words[0] in file.signals:
        signal = file.signals[words[0]]
        if given:
            raise MistakeError(f"{words[0]} has its set-up in the bench file", where="--with")
        instrument = file.roles[signal.role].instrument
        return Asked(
            words[0],
            instrument,
            Quantity((), signal.dimension),
            lambda bench: _line(bench, bench.signal_item("x", words[0])),
        )
    if len(words) == 1 and "." in words[0]:
        words = tuple(words[0].split(".", 1))
    role_name, reading = words if len(words) == 2 else (ALONE, words[0])
    role = file.roles.get(role_name)
    if role is None:
        known = file.roles if len(words) == 2 else [*file.signals, *file.roles]
        raise MistakeError(f"there is no {'role' if len(words) == 2 else 'signal'} {words[0]!r}",
                           remedy=did_you_mean(words[0], known))  # fmt: skip
    commands = file.instruments[role.instrument].profile.readings.get(reading)
    if commands is None:
        readings = file.instruments[role.instrument].profile.readings
        raise MistakeError(f"{role_name} has no reading {reading!r}", remedy=did_you_mean(reading, readings))
    arguments = _arguments(given, commands)
    name = reading if role_name == ALONE else f"{role_name}.{reading}"
    return Asked(
        name, role.instrument, commands.feature.type,
        lambda bench: _line(bench, bench.role_item("x", role_name, reading, dict(arguments))), commands.feature.axes,
    )  # fmt: skip


def _line(bench: Bench, item: object) -> Callable[[], list[Measured]]:
    return bench.read_line([item], together=False, averaging=1)  # type: ignore[list-item]


def _arguments(given: dict[str, str], commands: ReadingCommands) -> dict[str, Given]:
    found: dict[str, Given] = {}
    known = commands.arguments
    for name, text in given.items():
        argument = Argument("number", units.PLAIN) if name == "channel" else None
        if argument is None:
            if name not in known:
                raise MistakeError(
                    f"it has no {name!r}", where="--with", remedy=did_you_mean(name, [*known, "channel"])
                )
            argument = known[name].argument
        found[name] = argument_from(argument, text, f"--with {name}")
    missing = [name for name in commands.needed() if name not in found]
    if missing:
        raise MistakeError(
            f"it needs {', '.join(missing)}", where="--with", remedy=f'Write, for example: --with {missing[0]}="10 V"'
        )
    return found


@contextlib.contextmanager
def connected(file: BenchFile, instruments: Iterable[str], opening: Opening) -> Iterator[Bench]:
    """A bench with some instruments connected as they are. Raises BenchError: it is in use, lost, or another one."""
    bench = Bench(file, Pool(opening, starts=False))
    bench.expects_limiting = True  # whoever reads sees it
    try:
        bench.connect(instruments, HOLDER)
        yield bench
    finally:
        bench.close()


def reading_of(bench: Bench, line: Callable[[], list[Measured]]) -> tuple[float, str]:
    """One reading, and why it is bad where it is NaN. Raises BenchError."""
    (value,) = line()
    reason = bench.bad[-1].reason.text if math.isnan(value) and bench.bad else ""
    bench.bad.clear()
    return value, reason


def instrument_of(file: BenchFile, name: str) -> str:
    """The instrument behind a role, an instrument's name, or an address that stands in the bench file. Raises
    MistakeError."""
    if name in file.roles:
        return file.roles[name].instrument
    if name in file.instruments:
        return name
    known = [*file.roles, *file.instruments]
    raise MistakeError(f"there is no role or instrument {name!r}", remedy=did_you_mean(name, known))


def is_address(text: str) -> bool:
    """Whether a text is meant as an address, right or wrong, and not as a name."""
    return "::" in text or " " in text or text.startswith("ASRL")


def at_address(file: BenchFile | None, address: str) -> str:
    """The instrument of a bench file that is at an address, "" if none is. Raises MistakeError: it is no address."""
    place = parse_address(address).place()
    facts = file.instruments.values() if file else ()
    return next((fact.name for fact in facts if parse_address(fact.address).place() == place), "")


class Spread:
    """Mean and deviation of values as they come, and the least and the greatest.

    Source: B. P. Welford, Note on a method for calculating corrected sums of squares and products, Technometrics 4
    (1962), 419. Holes are left out and counted.
    """

    def __init__(self) -> None:
        self.count = self.bad = 0
        self.mean = self._squares = 0.0
        self.least, self.greatest = math.inf, -math.inf

    def take(self, value: float) -> None:
        """One more, in any unit."""
        if math.isnan(value):
            self.bad += 1
            return
        self.count += 1
        before = value - self.mean
        self.mean += before / self.count
        self._squares += before * (value - self.mean)
        self.least, self.greatest = min(self.least, value), max(self.greatest, value)

    @property
    def deviation(self) -> float:
        """Standard deviation of the sample (n - 1); NaN for fewer than two.

        >>> spread = Spread()
        >>> for value in (1.0, 2.0, 3.0): spread.take(value)
        >>> spread.mean, spread.deviation
        (2.0, 1.0)
        """
        return math.sqrt(self._squares / (self.count - 1)) if self.count > 1 else math.nan
