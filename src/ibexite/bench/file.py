"""The bench file: read, checked, and turned into plain data. Nothing here talks to an instrument."""

from __future__ import annotations

import datetime
import hashlib
import math
import re
import shlex
import tomllib
from collections.abc import Collection
from pathlib import Path

from ibexite import units
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import frozen, replaced
from ibexite.instruments.address import PROGRAM, Address, Program, parse_address
from ibexite.instruments.link_keys import read_link_keys
from ibexite.instruments.profile import Profile, load_profile
from ibexite.toml_reader import TomlTable, each, raise_all, read_toml
from ibexite.units import Dimension
from ibexite.untyped import Fields

HEARTBEAT = 10.0  # s
_TROUBLE_FORM = """Write, for example: --trouble 'dmm: query = "READ?", how = "garbage", nth = 3'"""


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
    arguments: dict[str, float]
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


@frozen
class BenchFile:
    """A bench file that was read and found right."""

    path: Path
    sha256: str
    name: str
    safe_order: tuple[str, ...]
    instruments: dict[str, InstrumentEntry]
    roles: dict[str, RoleEntry]
    signals: dict[str, SignalEntry]
    product: str  # the simulated product, "" if there is none
    heartbeat: float = HEARTBEAT  # s; how long a run may give no sign of life until its guardian ends it

    def moved_to(self, addresses: dict[str, str], *, is_private: bool = False) -> BenchFile:
        """The same bench with its instruments at other addresses (their simulated stand-ins). is_private: they are
        there for one run alone, so that nobody has to be kept away."""
        moved = {
            name: replaced(fact, address=addresses[name], is_private=is_private)
            for name, fact in self.instruments.items()
            if name in addresses
        }
        return replaced(self, instruments={**self.instruments, **moved})


def read_bench(path: str | Path) -> BenchFile:
    """Reads and checks a bench file.

    Raises:
        MistakeError: with the path to the value that is wrong.
    """
    path = Path(path)
    table = read_toml(path, what="bench file")
    head = table.table("bench", needed=True)
    simulation = table.table("simulation")
    product = simulation.text("product", "")
    simulation.finish()
    mistakes: list[MistakeError] = []
    entries = table.tables("instruments")
    instruments = each(entries, lambda entry, name: _instrument(entry, name, path.parent), mistakes)
    broken = set(entries) - set(instruments)
    entries = _standing(table.tables("roles"), "instrument", broken)
    roles = each(entries, lambda entry, name: _role(entry, name, instruments), mistakes)
    entries = _standing(table.tables("signals"), "read", set(table.tables("roles")) - set(roles))
    signals = each(entries, lambda entry, name: _signal(entry, name, roles, instruments), mistakes)
    _refuse_shared_addresses(table, instruments)
    order = head.texts("safe_order", [])
    heartbeat = head.quantity("heartbeat", units.SECOND, HEARTBEAT)
    if not 1 <= heartbeat <= 600:
        head.note("heartbeat", "not between 1 s and 10 min", "So long a run may give no sign of life.")
    for name in order:
        if name not in table.table("roles"):
            head.note("safe_order", f"there is no role {name!r}", did_you_mean(name, roles))
    name = head.text("name")
    head.finish()
    try:
        table.finish()
    except MistakeError as error:
        mistakes.insert(0, error)
    raise_all(mistakes)
    return BenchFile(
        path,
        hashlib.sha256(path.read_bytes()).hexdigest(),
        name,
        tuple(order) + tuple(name for name in roles if name not in order),
        instruments,
        roles,
        signals,
        product,
        heartbeat,
    )


def _standing(tables: dict[str, TomlTable], key: str, broken: Collection[str]) -> dict[str, TomlTable]:
    """Those that do not stand on something broken, an instrument or a role: that is told already."""
    return {name: entry for name, entry in tables.items() if entry.text(key, "").partition(".")[0] not in broken}


def _instrument(table: TomlTable, name: str, folder: Path) -> InstrumentEntry:
    try:
        profile = load_profile(table.text("profile"), folder)
    except MistakeError as error:
        if error.where:
            raise
        table.fail("profile", error.what, error.remedy)
    address = _address(table, folder)
    try:
        place = parse_address(address)
    except MistakeError as error:
        table.fail("address", error.what, error.remedy)
    link = read_link_keys(table.table("link"), place)
    if isinstance(place, Program):
        link["folder"] = str(folder.absolute())
    identity = table.text("identity", "")
    try:
        re.compile(identity)
    except re.error as error:
        table.fail("identity", f"not a regular expression: {error}", 'Write, for example, "Firnline,PS-.*".')
    calibration = None
    if "calibration" in table:
        entry = table.table("calibration")
        calibration = Calibration(entry.date("due"), entry.text("certificate", ""))
        entry.finish()
    simulated = _simulated(table.table("simulated")) if "simulated" in table else None
    table.finish()
    return InstrumentEntry(name, profile, address, identity, calibration, simulated, link=link)


def _address(table: TomlTable, folder: Path) -> str:
    """The address, or the command line of the program that stands in its place. A program whose name has a slash is
    seen from the folder of the bench file."""
    if "program" not in table:
        return table.text("address")
    if "address" in table:
        table.fail("program", "there is an address as well", "An instrument is reached in one way.")
    command = table.texts("program", [])
    if not command or not command[0]:
        table.fail("program", "there is nothing to start", 'Write, for example: program = ["./gauge", "--port", "3"]')
    name = command[0]
    command[0] = str((folder / name).absolute()) if "/" in name else name
    return PROGRAM + shlex.join(command)


def _simulated(table: TomlTable) -> SimulatedEntry:
    wiring_table = table.table("wiring")
    wiring = {}
    for key in wiring_table:
        if not key.isdigit():
            wiring_table.fail(key, "is not a channel number", 'Write, for example: wiring = { 101 = "rail_3v3" }.')
        wiring[int(key)] = wiring_table.text(key)
    troubles = tuple(_trouble(entry) for entry in table.list_of_tables("trouble"))
    fact = SimulatedEntry(table.text("identity"), wiring, table.quantity("answer_time", units.SECOND, 0.0), troubles)
    table.finish()
    return fact


def _trouble(entry: TomlTable) -> TroubleEntry:
    query, command = entry.text("query", ""), entry.text("command", "")
    if bool(query) == bool(command):
        entry.fail(
            "query", "either query or command says which messages are meant", 'Write, for example: query = "MEAS"'
        )
    pause, longest = _pause(entry)
    nth, times = entry.integer("nth", 1), entry.integer("times", 1)
    for key, number in (("nth", nth), ("times", times)):
        if number < 1:
            entry.fail(key, f"{number} is less than 1", "So it would never come about.")
    found = TroubleEntry(query, entry.text("how"), nth, times, command, pause, entry.text("message", ""), longest)
    entry.finish()
    return found


def _pause(entry: TomlTable) -> tuple[float | None, float | None]:
    """The pause of a trouble: one time, or two between which it is another one each time."""
    if "pause" not in entry:
        return None, None
    is_random = isinstance(entry.value("pause"), list)
    ends = entry.extent("pause", units.SECOND) if is_random else (entry.quantity("pause", units.SECOND),)
    assert ends
    if not all(0 <= end <= 3600 for end in ends):
        entry.fail("pause", "not between 0 s and 1 h")
    return ends[0], ends[1] if len(ends) > 1 else None


def trouble_of(text: str) -> tuple[str, TroubleEntry]:
    """An instrument and a trouble, from a text as `dmm: query = "READ?", how = "late"`. Raises MistakeError."""
    where = f"--trouble {text!r}"
    name, colon, pairs = text.partition(":")
    try:
        data = tomllib.loads(f"trouble = {{ {pairs} }}")["trouble"]
    except tomllib.TOMLDecodeError as error:
        raise MistakeError(str(error), where=where, remedy=_TROUBLE_FORM) from None
    if not colon:
        raise MistakeError("it names no instrument", where=where, remedy=_TROUBLE_FORM)
    return name.strip(), _trouble(TomlTable(data, where, ""))


def _refuse_shared_addresses(table: TomlTable, instruments: dict[str, InstrumentEntry]) -> None:
    seen: dict[Address, str] = {}
    for name, fact in instruments.items():
        place = parse_address(fact.address)
        if place in seen:
            table.table("instruments").table(name).note(
                "address", f"{seen[place]} has the same address", "Two instruments cannot share one address."
            )
        seen[place] = name


def _role(table: TomlTable, name: str, instruments: dict[str, InstrumentEntry]) -> RoleEntry:
    instrument = table.text("instrument")
    if instrument not in instruments:
        table.fail("instrument", f"there is no instrument {instrument!r}", did_you_mean(instrument, instruments))
    profile = instruments[instrument].profile
    role = RoleEntry(
        name,
        instrument,
        table.integer("channel", 1),
        _levels(table.table("ceiling"), profile),
        _levels(table.table("protect"), profile),
        table.flag("raw", False),
    )
    table.finish()
    return role


def _levels(table: TomlTable, profile: Profile) -> dict[str, float]:
    levels = {}
    for key in table:
        setting = profile.settings.get(key)
        if setting is None or setting.feature.dimension is None:
            numeric = [k for k, s in profile.settings.items() if s.feature.dimension is not None]
            table.fail(key, f"profile {profile.name} has no such setting", did_you_mean(key, numeric))
        levels[key] = table.quantity(key, setting.feature.dimension)
    return levels


def _signal(
    table: TomlTable, name: str, roles: dict[str, RoleEntry], instruments: dict[str, InstrumentEntry]
) -> SignalEntry:
    role_name, _, reading_name = table.text("read").partition(".")
    if role_name not in roles:
        table.fail("read", f"there is no role {role_name!r}", did_you_mean(role_name, roles))
    profile = instruments[roles[role_name].instrument].profile
    reading = profile.readings.get(reading_name)
    if reading is None:
        table.fail(
            "read",
            f"profile {profile.name} has no reading {reading_name!r}",
            "Write it as role.reading. " + did_you_mean(reading_name, profile.readings),
        )
    if reading.curve is not None:
        table.fail("read", f"{reading_name} gives whole curves", "A signal is one value; read it by its role.")
    setup = table.table("with")
    channel = setup.integer("channel", roles[role_name].channel)
    arguments = {key: setup.quantity(key, dimension) for key, dimension in reading.arguments.items()}
    setup.finish()
    scale, dimension, conversion = _conversion(table, reading.feature.dimension)
    thermistor = _thermistor(table, reading.feature.dimension) if "thermistor" in table else None
    if thermistor is not None:
        dimension, conversion = units.CELSIUS, f"thermistor {units.format_value(thermistor.r25, units.OHM)} at 25 degC"
    threshold = table.quantity("yes_above", dimension) if "yes_above" in table else None
    signal = SignalEntry(
        name,
        role_name,
        reading_name,
        channel,
        arguments,
        scale,
        dimension,
        table.extent("believe", dimension),
        conversion,
        thermistor,
        threshold,
        table.text("accuracy", ""),
    )
    table.finish()
    return signal


def _thermistor(table: TomlTable, dimension: Dimension | None) -> Thermistor:
    if dimension != units.OHM:
        table.fail("thermistor", "it turns a resistance into a temperature", "Read it with a reading in ohm.")
    entry = table.table("thermistor")
    thermistor = Thermistor(entry.quantity("r25", units.OHM), entry.quantity("beta", units.KELVIN))
    entry.finish()
    if thermistor.r25 <= 0 or thermistor.beta <= 0:
        table.fail(
            "thermistor", "is not above zero", 'Write, for example: thermistor = { r25 = "10 kohm", beta = "3950 K" }'
        )
    return thermistor


def _conversion(table: TomlTable, dimension: Dimension | None) -> tuple[float, Dimension, str]:
    assert dimension is not None
    if "shunt" not in table:
        return 1.0, dimension, ""
    if dimension != units.VOLT:
        table.fail("shunt", "a shunt turns a voltage into a current, but this reading is " + units.describe(dimension))
    resistance = table.quantity("shunt", units.OHM)
    if resistance <= 0:
        table.fail("shunt", "is not above zero", "Write the resistance of the shunt.")
    return 1 / resistance, units.AMPERE, "shunt " + units.format_value(resistance, units.OHM)
