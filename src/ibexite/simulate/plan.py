"""What a simulated bench consists of: plain data, handed to the server process as JSON."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field

from ibexite.untyped import Fields

STIMULUS = {  # what an instrument of a kind applies to the terminal it is wired to
    "power_supply": "source", "electronic_load": "sink", "function_generator": "tone", "signal_generator": "carrier",
    "temperature_chamber": "climate", "audio_interface": "tone",
}  # fmt: skip

RECORDING = "audio_interface"  # the kind that applies something and records as well
SWITCH = "switch"  # the kind whose relays connect terminals and quantities with the other instruments


@dataclass(frozen=True, slots=True)
class Trouble:
    """A fault on demand: from the `nth` query that contains `query` (or command that contains `command`) on, `times` of
    them go wrong in the way `how`, see ibexite.simulate.troubles."""

    query: str
    how: str
    nth: int = 1
    times: int = 1
    command: str = ""
    pause: float | None = None  # s; None: as is usual in this way
    message: str = ""
    longest: float | None = None  # s; then the pause is a random one from `pause` to this, another one each time


@dataclass(frozen=True, slots=True)
class StandIn:
    """One simulated instrument. `wiring` maps its channels to terminals or quantities of the product."""

    name: str
    kind: str
    identity: str
    host: str
    port: int  # 0: a free one
    wiring: dict[int, str]
    answer_time: float = 0.0
    trouble: tuple[Trouble, ...] = ()
    presets: dict[str, list[float | str]] = field(
        default_factory=dict
    )  # prepared readings by channel or name, as raw values
    link: str = "socket"  # the kind of link over which it is reached, see ibexite.simulate.fronts
    device: str = ""  # its name at the host, where the link has such: hislip0, inst0
    overlapped: bool = False  # a HiSLIP server that prefers this mode
    command_end: str = "\n"  # what ends a command, and a reply
    reply_end: str = "\n"
    greeting: str = ""  # what it says by itself when a socket is connected
    manual: Fields | None = None  # what it understands, as ibexite.simulate.manual has it


@dataclass(frozen=True, slots=True)
class SimulationPlan:
    """The product with its serial number, and the instruments around it."""

    product: str
    serial: str
    stand_ins: tuple[StandIn, ...]
    model: Fields | None = None  # of a product of one's own: its description, or the path of its Python file

    def as_data(self) -> Fields:
        """For JSON; `from_data` reads it back."""
        return asdict(self)

    @classmethod
    def from_data(cls, data: Fields) -> SimulationPlan:
        """The plan that `as_data` wrote."""
        stand_ins = tuple(
            StandIn(
                **{
                    **s,
                    "wiring": {int(k): v for k, v in s["wiring"].items()},
                    "trouble": tuple(Trouble(**t) for t in s["trouble"]),
                }
            )
            for s in data["stand_ins"]
        )
        return cls(data["product"], data["serial"], stand_ins, data["model"])
