"""What the engine knows of a bench. `Bench` drives instruments; a bench that answers from stored values (to judge again
without them) or one made for a test is plugged in without a change anywhere else."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, NamedTuple, Protocol

from ibexite.bench.file import BenchFile
from ibexite.frozen import frozen
from ibexite.holes import Bad
from ibexite.instruments.readings import Given
from ibexite.instruments.settings import Value
from ibexite.instruments.user import What
from ibexite.stimulus import Stimulus
from ibexite.units import Dimension
from ibexite.values import Type

TRIES = 3  # of a reading, in all, unless the sequence says otherwise

Key = tuple[str, str]
"""A role and one of its settings."""


class Connected(NamedTuple):
    """An instrument that has answered: who it says it is, and whether it says that it is a simulated one."""

    identity: str
    is_simulated: bool


@frozen
class Discrepancy:
    """What is not as it was believed. kind: tripped (a protection), off (an output went off by itself), lost (a setting
    is another one), doubt (answers may belong to other questions)."""

    kind: str
    role: str
    text: str


@frozen
class SafeDeed:
    """What became of one role on the way to the safe state; `problem` is "" when it is off and says so."""

    role: str
    problem: str


class Timed(Protocol):
    """Something that is looked at when a time is over, beside the lines."""

    due: float  # s on the clock of the run: when it is looked at next

    def look(self) -> None:
        """Looks, if it is due."""


class ItemLike(Protocol):
    """One value of a read line, as the bench made it ready."""

    @property
    def dimension(self) -> Dimension:
        """The dimension of what it gives."""


SILENT = "the instrument does not answer"  # how a stream broke off whose instrument did not when the run ended


class StreamedLike(Protocol):
    """What has come of a stream; see ibexite.bench.stream.Streamed."""

    @property
    def gaps(self) -> list[tuple[int, int]]:
        """The samples that are missing: the first and the one behind the last."""

    @property
    def beyond(self) -> list[tuple[int, int]]:
        """Of each signal how many were beyond the range, and the first of them."""

    @property
    def failure(self) -> str:
        """What broke it off, "" if nothing did."""


class StreamLike(Protocol):
    """What an instrument streams; see ibexite.bench.stream."""

    def begin(self, every: float) -> list[Any]:
        """Starts it with such an interval in s; how the samples of each signal are kept."""

    def run(self, write: Callable[[int, Sequence[Any]], None]) -> None:
        """From now on what has come is handed on, by another thread."""

    def catch_up(self) -> None:
        """Takes what has come just now."""

    def end(self, *, is_hurried: bool = False) -> StreamedLike:
        """Stops it, and hands on what has come until then; what has come in all."""


class GuardianLike(Protocol):
    """Who makes a bench safe if the run cannot (ibexite.bench.guardian), as a bench knows it."""

    def watch(self, bench: Any, began: float) -> None:
        """Watches a bench of the kind that it knows how to make safe."""


class BenchLike(Protocol):
    """A bench as the engine uses it. Values are in base units; NaN is a bad one, which is then in `bad`."""

    file: BenchFile
    bad: list[Bad]  # emptied by whoever records it
    offsets: dict[str, tuple[float, float]]  # of the last records DC parts in base units, and their share of the swing
    state: dict[Key, Value]  # what is believed of each setting
    has_time_limits: bool  # of settings: then it is looked at them behind each line
    at_axes: dict[str, float]  # where sweeps are, in Hz, while a line is read that is corrected by it
    expects_limiting: bool  # what is read while a source limits may be used
    is_ramping: bool  # the first source was switched on and nothing was waited for since

    @property
    def time_limits(self) -> Timed:
        """Of settings that may be beyond a level for a time only."""

    # --- connecting and leaving ---

    def connect(
        self, instruments: Iterable[str], holder: str, *, heed: Callable[[], None], now: Callable[[], float],
        wait: Callable[[float], None], stamp: Callable[[], float],
    ) -> None:  # fmt: skip
        """Connects the named instruments, outputs off. `heed` is called while one is waited for, and `wait` waits in
        the time of `now`; `stamp` tells it for what is said on links."""

    def connected(self) -> dict[str, Connected]:
        """The instruments that have answered, by name."""

    def rescued_by(self, guardian: GuardianLike, began: float) -> None:
        """Lets a guardian watch it: outputs may go on from now on."""

    def protect(self) -> None:
        """Writes the protection levels into the instruments."""

    def settle_links(self) -> None:
        """After an interruption: makes sure that no reply is still on its way."""

    def make_safe(self) -> list[SafeDeed]:
        """Switches everything off in the stated order. Never raises."""

    def close(self) -> None:
        """Gives the instruments back."""

    @property
    def has_messages(self) -> bool:
        """Something was said since last asked, other than by the clock."""

    @property
    def has_much_to_tell(self) -> bool:
        """So much was said that it should not be kept any longer."""

    def take_said(self) -> tuple[list[What], list[float]] | None:
        """What was said on links since last asked, and when, with what the clock said in between; None if nothing
        was."""

    def tell(self, instrument: str, direction: str, text: str | bytes) -> None:
        """Something is told in the order of what is said on links."""

    def tell_time(self, seconds: float) -> None:
        """What the clock of the run said, in the order of what is said on links."""

    def listen(self, wrap: Callable[[str, Callable[..., Any]], Callable[..., Any]]) -> None:
        """Puts what `wrap` makes of it, by the name of the instrument, in the place of each way to talk to one."""

    # --- lines ---

    def set_line(self, settings: list[Key]) -> Callable[..., None]:
        """Makes a set line ready."""

    def signal_item(self, name: str, signal_name: str) -> ItemLike:
        """One value of a read line, called so, from a signal."""

    def role_item(self, name: str, role_name: str, reading: str, arguments: dict[str, Given]) -> ItemLike:
        """One value of a read line, called so, from a reading of a role."""

    def read_line(
        self, items: list[Any], *, together: bool, averaging: int, tries: int = TRIES,
        settled: tuple[float, bool] | None = None,
    ) -> Callable[[], list[float]]:  # fmt: skip
        """Makes a read line ready, of items that this bench has made."""

    def play_line(
        self, role: str, stimulus: Stimulus, samples: Any, signals: list[tuple[str, str]], marker: str
    ) -> Callable[[], list[Any]]:
        """Makes a play line ready: of samples in V, and of signals with the names of their records; `marker` is that of
        the record in which the marker is looked for, "" for the first."""

    def stream(self, signals: Sequence[str]) -> StreamLike:
        """Makes ready what an instrument streams of some signals."""

    def verify(self, settings: list[Key], values: tuple[Value, ...]) -> None:
        """Asks settings back and compares them with what was sent."""

    def do(self, role_name: str, action: str) -> None:
        """Carries out an action of a role."""

    def raw_send(self, role_name: str, text: str) -> None:
        """Sends a raw command where the bench file allows it."""

    def raw_query(self, name: str, role_name: str, text: str, kind: Type, tries: int) -> float | str:
        """The reply to a raw query."""

    def complete(self) -> None:
        """Returns when all settings that were sent have been carried out."""

    def settled(self) -> None:
        """To be called behind a wait while it is ramping."""

    # --- state ---

    def learn_state(self, settings: Iterable[Key]) -> None:
        """Asks for the present values of these settings."""

    def standing(self) -> Any:
        """What is believed just now of all settings and routes, for `restore`."""

    def restore(self, wanted: Any, settle: Callable[[float], None]) -> list[Key]:
        """Sets back what differs from `wanted`; what was changed."""

    def connect_routes(self, names: Sequence[str], settle: Callable[[float], None]) -> None:
        """Connects routes; `settle` waits for so many seconds."""

    def disconnect_routes(self, names: Sequence[str], settle: Callable[[float], None]) -> None:
        """Disconnects routes."""

    def open_routes(self, settle: Callable[[float], None]) -> None:
        """Opens all routes whose switches are connected."""

    def take_closings(self) -> dict[tuple[str, int], int]:
        """How often each relay has closed since last asked, by instrument and channel."""

    def prove(self) -> list[Discrepancy]:
        """What is not as it was believed."""

    def take_doubts(self) -> list[tuple[str, str]]:
        """The instruments whose answers may belong to other questions, and why."""

    def read_errors(self) -> list[str]:
        """What the error queues hold."""

    def take_limiting(self) -> list[str]:
        """The roles whose instrument limited since last asked."""
