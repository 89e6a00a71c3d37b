"""The instruments of a bench, each connected once: sessions with their set-up caches, whoever uses them.

A `Bench` is the view that one unit has of a pool. An instrument that several views share is held by one of them for a
whole line at a time, so that nobody's set-up is changed between another one's set-up and reading; held together they
are taken in one fixed order. What clears when it is read (errors, limiting) is passed on to the others.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Iterable, Iterator

from ibexite.bench.entries import InstrumentEntry
from ibexite.bench.lock import AddressLocks
from ibexite.errors import LinkError
from ibexite.instruments.address import Hislip, RawSocket, Vxi11, parse_address
from ibexite.instruments.exchanges import NOT_OPENED, failure_text
from ibexite.instruments.link import Link, LinkOptions
from ibexite.instruments.open_link import open_link
from ibexite.instruments.paced_link import PacedLink
from ibexite.instruments.session import Session
from ibexite.instruments.summed_link import SummedLink
from ibexite.instruments.user import User

Opening = Callable[[str, LinkOptions], Link]


def options_for(
    fact: InstrumentEntry, heed: Callable[[], None] = lambda: None, timeout: float | None = None
) -> LinkOptions:
    """How the link of an instrument is used; `timeout` in s, that of its profile without it."""
    profile = fact.profile
    ends = profile.reply_terminator.encode("latin-1"), profile.terminator.encode("latin-1")
    waits = (timeout, timeout) if timeout else (profile.waits.connecting, profile.waits.sending)
    greeting = profile.greeting.encode("latin-1")
    return LinkOptions(fact.name, timeout or profile.timeout, ends[0], heed, ends[1], fact.link, *waits, greeting)


def is_stand_in(fact: InstrumentEntry) -> bool:
    """Whether an instrument that is not asked who it is counts as simulated: one that was started for the run, or that
    is reached on this computer, where nothing real listens."""
    place = parse_address(fact.address)
    return fact.is_private or (isinstance(place, RawSocket | Hislip | Vxi11) and place.is_on_this_machine)


class Pool:
    """Opens instruments when the first view takes them, and closes them when the last one has given them back.

    Args:
        opening: gives an open link to an address.
        shared: names of the instruments that several views will use.
        starts: whether they are brought into their known state, outputs off; else they stay as they are.
    """

    def __init__(self, opening: Opening = open_link, shared: Iterable[str] = (), *, starts: bool = True) -> None:
        self._opening, self._shared, self._starts = opening, frozenset(shared), starts
        self._sessions: dict[str, Session] = {}
        self._turns = {name: threading.RLock() for name in sorted(self._shared)}
        self._guard = threading.RLock()  # while instruments are taken or given back
        self.locks = AddressLocks()
        self._carrying_on: set[int] = set()  # threads

    def take(self, facts: Iterable[InstrumentEntry], holder: str, user: User, into: dict[str, Session]) -> None:
        """Gives a user the sessions of some instruments. Those that nobody has taken yet are reserved, connected,
        compared with their identity and brought into their known state, outputs off.

        Args:
            holder: who uses them, for the message to others who want them meanwhile.
            into: takes the sessions as they are connected; what is in it when an error comes is to be given back.

        Raises:
            BenchError: one is in use by another run or does not answer, or another one answers in its place.
        """
        with self._guard:
            facts = list(facts)
            new = [fact for fact in facts if fact.name not in self._sessions]
            self.locks.take([(fact.name, fact.address) for fact in new if not fact.is_private], holder)
            try:
                for fact in new:
                    link = self._link(fact, user)
                    session = Session(fact.name, fact.profile, link, user, is_stand_in=is_stand_in(fact))
                    self._sessions[fact.name] = into[fact.name] = session
                    session.identify(fact.identity)
                for fact in new if self._starts else ():
                    self._sessions[fact.name].start()
            except BaseException:  # what is connected is given back by its user
                for fact in new:
                    if fact.name not in self._sessions:
                        self.locks.release(fact.name)
                raise
            for fact in facts:
                into[fact.name] = self._sessions[fact.name]
                into[fact.name].add(user)

    def _link(self, fact: InstrumentEntry, first: User) -> Link:
        def heed() -> None:  # also while it is opened, for whoever waits for that
            if threading.get_ident() in self._carrying_on:
                return
            session = self._sessions.get(fact.name)
            (session.user if session else first).heed()

        try:
            return self._opened(fact, heed)
        except LinkError as error:
            first.tell(fact.name, "!", failure_text(error, NOT_OPENED))
            raise

    def _opened(self, fact: InstrumentEntry, heed: Callable[[], None]) -> Link:
        """The link of an instrument as sessions talk on it. Raises LinkError: it cannot be opened."""
        options = options_for(fact, heed)
        link = self._opening(fact.address, options)
        rule, pace = fact.profile.checksum, fact.profile.pace
        link = PacedLink(link, pace, options.command_end) if pace else link
        return SummedLink(link, fact.name, rule, options.command_end) if rule else link

    def give_back(self, user: User, only: Iterable[str] | None = None) -> None:
        """A user needs nothing any more, or some instruments no more. What nobody needs is closed."""
        with self._guard:
            for name in list(self._sessions if only is None else only):
                session = self._sessions[name]
                session.remove(user)
                if not session.users:
                    session.give_back_panel()
                    session.link.close()
                    del self._sessions[name]
                    self.locks.release(name)

    def shares(self, sessions: Iterable[Session]) -> bool:
        """True if any of these is used by several views."""
        return any(session.name in self._shared for session in sessions)

    @contextlib.contextmanager
    def carrying_on(self) -> Iterator[None]:
        """Within it this thread waits for what it asked, up to the time-out, also when the end is wished for meanwhile:
        what is on its way would be lost."""
        me = threading.get_ident()
        was_in = me in self._carrying_on
        self._carrying_on.add(me)
        try:
            yield
        finally:
            if not was_in:
                self._carrying_on.discard(me)

    @contextlib.contextmanager
    def holding(self, sessions: Iterable[Session], user: User) -> Iterator[None]:
        """Within it the shared ones of these sessions are this user's alone."""
        mine = sorted((s for s in sessions if s.name in self._shared), key=lambda session: session.name)
        with contextlib.ExitStack() as stack:
            for session in mine:
                stack.enter_context(self._turns[session.name])
                before, session.user = session.user, user
                stack.callback(setattr, session, "user", before)
            yield
