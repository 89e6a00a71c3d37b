"""What a bench file says of instruments, roles and signals, as plain data."""

from __future__ import annotations

import datetime
import math

from ibexite.frozen import frozen
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
    """What a sequence speaks to. Ceilings and protection are in base units, by setting."""

    name: str
    instrument: str
    channel: int
    ceiling: dict[str, float]
    protect: dict[str, float]
    allows_raw: bool = False  # raw commands may be sent to it
    products: dict[str, float] = {}  # ceilings of two settings multiplied; never changed


@frozen
class Thermistor:
    """An NTC thermistor: r25 in ohm at 25 degC, beta in K.

    Source: IEC 60539-1, 3.13 (B-value): R = r25 exp(beta (1/T - 1/298.15 K)).
    """

    r25: float
    beta: float

    def temperature(self, resistance: float) -> float:
        """Kelvin from ohm; NaN for a resistance that is not positive."""
        return 1 / (math.log(resistance / self.r25) / self.beta + 1 / 298.15) if resistance > 0 else math.nan

    def resistance(self, temperature: float) -> float:
        """Ohm from kelvin."""
        return self.r25 * math.exp(self.beta * (1 / temperature - 1 / 298.15))


@frozen
class SignalEntry:
    """A named quantity: a reading of a role, its set-up, and the conversion to what it means."""

    name: str
    role: str
    reading: str
    channel: int
    arguments: dict[str, Given]
    scale: float  # value = reading * scale
    dimension: Dimension
    believe: tuple[float, float] | None
    conversion: str  # in words, for the report
    thermistor: Thermistor | None = None
    threshold: float | None = None  # then it is a yes/no signal: yes above it
    accuracy: str = ""  # as written, for the report

    def raw_value(self, value: float) -> float:
        """The reading that would give a value: the inverse of its conversion, for simulated stand-ins."""
        if self.threshold is not None:
            return self.threshold + 1.0 if value else self.threshold - 1.0
        return self.thermistor.resistance(value) if self.thermistor else value / self.scale
