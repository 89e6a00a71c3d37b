"""What a bench file says of instruments, roles and signals, as plain data."""

from __future__ import annotations

import datetime
from pathlib import Path

from ibexite.bench.conversions import Chain
from ibexite.frozen import frozen
from ibexite.instruments.accuracy import Accuracy
from ibexite.instruments.profile import Profile
from ibexite.instruments.readings import Given
from ibexite.units import Dimension
from ibexite.untyped import Fields


@frozen
class Calibration:
    """Until when an instrument's calibration holds, and its certificate."""

    due: datetime.date
    certificate: str


@frozen
class TroubleEntry:
    """A fault that a simulated stand-in shows on demand."""

    query: str  # or a command: which messages are meant
    how: str
    nth: int
    times: int
    command: str = ""
    pause: float | None = None  # s
    message: str = ""
    longest: float | None = None  # s; then the pause is a random one from `pause` to this


@frozen
class SimulatedEntry:
    """The stand-in of an instrument: what it says it is, what its channels are wired to, how long it takes."""

    identity: str
    wiring: dict[int, str]
    answer_time: float
    trouble: tuple[TroubleEntry, ...]


@frozen
class InstrumentEntry:
    """A thing with an address."""

    name: str
    profile: Profile
    address: str
    identity: str
    calibration: Calibration | None
    simulated: SimulatedEntry | None
    is_private: bool = False  # nobody else can reach it: a stand-in for one run alone
    link: Fields = {}  # keys for its kind of link; never changed


@frozen
class RoleEntry:
    """What a sequence speaks to. Ceilings and protection are in base units, by setting: the most that it may be set to,
    and the least (`floor`)."""

    name: str
    instrument: str
    channel: int
    ceiling: dict[str, float]
    protect: dict[str, float]
    allows_raw: bool = False  # raw commands may be sent to it
    products: dict[str, float] = {}  # ceilings of two settings multiplied; never changed
    relays: tuple[int, ...] = ()  # of a switch: the channels that routes use
    floor: dict[str, float] = {}  # never changed
    no_longer: dict[str, tuple[float, float]] = {}  # settings, a level, and the s that they may be beyond it
    triggered_by: str = ""  # the role that begins its records, by a line between them

    @property
    def safe_channels(self) -> tuple[int, ...]:
        """The channels that its safe state has off."""
        return self.relays or (self.channel,)


@frozen
class RouteEntry:
    """A connection over relays of a switch."""

    name: str
    switch: str  # a role
    channels: tuple[int, ...]  # that are closed
    never_with: tuple[str, ...]  # routes that must not be connected while it is
    one_of: str  # of those with the same word one is connected at most: connecting one opens the other first
    settling: float  # s, behind each switching
    only_while_off: tuple[str, ...]  # roles whose output must be off while it is switched
    rated: int  # how often a relay of it may close; 0 where nobody knows

    @property
    def relays(self) -> tuple[str, ...]:
        """The names of its relays."""
        return tuple(f"{self.switch}@{channel}" for channel in self.channels)


@frozen
class Junction:
    """A thermocouple of a type whose other junction is at the temperature that another signal tells."""

    kind: str
    signal: str


@frozen
class Correction:
    """What is taken off (gain) or added (loss) at each frequency, and whose frequency that is."""

    frequencies: tuple[float, ...]  # Hz
    factors: tuple[float, ...]  # by which a value is multiplied, or dB that are added to a level
    role: str  # "": it is the axis of a sweep
    setting: str  # or the name of the axis
    file: str

    @property
    def at(self) -> str:
        """Whose frequency it is, as it is written."""
        return f"{self.role}.{self.setting}" if self.role else self.setting


@frozen
class SignalEntry:
    """A named quantity: a reading of a role, its set-up, and the conversion to what it means."""

    name: str
    role: str
    reading: str
    channel: int
    arguments: dict[str, Given]
    chain: Chain  # of conversions, in base units
    dimension: Dimension
    believe: tuple[float, float] | None
    threshold: float | None = None  # then it is a yes/no signal: yes above it
    accuracy: Accuracy | None = None
    junction: Junction | None = None
    correction: Correction | None = None
    calibration: Calibration | None = None
    settling: float = 0.0  # s, before it is read
    damage: float | None = None  # beyond it the unit is stopped at once; of either sign
    files: tuple[Path, ...] = ()  # in which its table and its correction stand
    is_digital: bool = False  # a reading that is yes or no by itself
    is_inverted: bool = False  # of such a one: what is answered is the other thing
    is_record: bool = False  # it is captured while something is played
    delay: float = 0.0  # s by which it comes late: the way of the sound to a microphone

    def raw_value(self, value: float) -> float:
        """The reading that would give a value: the inverse of its conversion, for simulated stand-ins."""
        if self.is_digital:
            return 1.0 - value if self.is_inverted else value
        if self.threshold is not None:
            return self.threshold + 1.0 if value else self.threshold - 1.0
        return self.chain.reading(value)

    def half_width(self, value: float) -> float:
        """By how much a value may be off, both in base units; NaN of one that is not known."""
        assert self.accuracy is not None
        range_ = self.arguments.get("range", 0.0) if self.accuracy.of_range else 0.0
        range_ = range_ if isinstance(range_, float) else 0.0
        return self.accuracy.at(value, self.chain.value(range_) - self.chain.value(0.0) if range_ else 0.0)

    @property
    def is_yes_no(self) -> bool:
        """True for what is yes or no, not a number."""
        return self.is_digital or self.threshold is not None

    @property
    def conversion(self) -> str:
        """How it is converted, in words, for the report."""
        told = [self.chain.text] if self.chain.steps else []
        if self.junction is not None:
            told.append(f"thermocouple {self.junction.kind} (ITS-90), cold junction {self.junction.signal}")
        if self.correction is not None:
            told.append(f"corrected by {self.correction.file} at {self.correction.at}")
        return ", ".join(told)
