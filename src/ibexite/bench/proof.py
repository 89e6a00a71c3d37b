"""Asks the instruments back what the engine believes of them: who they are, what is set, whether a protection tripped.

Done at the begin and at the end of each test, never in the loop over points. All instruments are asked at once, each in
one message where it takes several questions in one (IEEE 488.2, 6.4.3). The last is who they are, of which the
answer is known: if it comes, all answers before it belonged to their questions.
"""

from __future__ import annotations

from ibexite.bench.entries import RoleEntry
from ibexite.bench.interface import Discrepancy
from ibexite.bench.questions import Use, ask_all, in_one, take_doubt
from ibexite.bench.state import BenchState
from ibexite.errors import LinkError
from ibexite.instruments.session import Reconnected, Session
from ibexite.instruments.status import Status

STRAY_WAIT = 0.002  # s; how long it is waited for an answer too many


def prove(bench: BenchState) -> list[Discrepancy]:
    """Everything that is not as it was believed.

    Raises:
        BenchError: an instrument does not answer, or answers what its profile does not know.
    """
    findings: list[Discrepancy] = []
    tripped: set[str] = set()
    plans = {s: in_one(s, _questions(bench, s, findings, tripped)) for s in bench.sessions.values()}
    # Once more from the beginning after a link was opened anew. What was found before stays found: it is believed now,
    # and no question would bring it up again.
    for _ in range(2):
        try:
            ask_all(plans)
            _look_for_strays(bench)
            break
        except Reconnected as error:
            again = error
            for session in bench.sessions.values():
                session.settle_link()
    else:
        raise LinkError(again.what, where=again.where, remedy=again.remedy)
    for touched in bench.touched.values():
        touched.clear()
    findings += [Discrepancy("doubt", name, text) for name, text in bench.take_doubts()]
    for finding in findings:  # what is known now is the truth
        if finding.kind in ("off", "lost"):
            bench.mistrusted.add(finding.role)
    return findings


def _questions(
    bench: BenchState, session: Session, findings: list[Discrepancy], tripped: set[str]
) -> list[tuple[str, Use]]:
    roles = [role for role in bench.roles() if role.instrument == session.name]
    asked: list[tuple[str, Use]] = []
    for role in roles:
        for status in session.profile.tripped:
            asked.append((status.at(role.channel), _trip(session, role, status, findings, tripped)))
    # Switches first: an output that is off explains much of the rest.
    keys = sorted(bench.believed(session.name), key=lambda key: not bench.is_switch(key))
    for role_name, setting in keys:
        channel = bench.entries[role_name].channel
        question = session.question(setting, channel)
        asked.append((question, _held(bench, session, (role_name, setting), findings, tripped)))
    if session.identity:
        asked.append((session.profile.identity.query, _identity(session)))
    return asked


def _trip(session: Session, entry: RoleEntry, status: Status, findings: list[Discrepancy], tripped: set[str]) -> Use:
    role = entry.name

    def use(reply: str) -> None:
        if session.says_yes(status, reply, "tripped") and role not in tripped:
            tripped.add(role)
            text = f"a protection of {role} has tripped ({status.at(entry.channel)} answered {reply})"
            findings.append(Discrepancy("tripped", role, text))

    return use


def _held(
    bench: BenchState, session: Session, key: tuple[str, str], findings: list[Discrepancy], tripped: set[str]
) -> Use:
    role, setting = key

    def use(reply: str) -> None:
        believed = bench.state[key]
        held = session.held(setting, bench.entries[role].channel, reply)
        commands = session.profile.settings[setting]
        if commands.agrees(held, believed):
            return
        bench.state[key] = held
        if commands.is_switch:
            if role in tripped:
                return  # which says why
            if role in bench.file.relays:
                was, now = ("closed", "open") if believed else ("opened", "closed")
                findings.append(Discrepancy("lost", role, f"relay {role} was {was}, but is {now}"))
                return
            was, now = ("on", "off") if believed else ("off", "on")
            kind = "off" if believed else "lost"
            findings.append(Discrepancy(kind, role, f"{role}.{setting} was switched {was}, but is {now}"))
            return
        told = [commands.said(value) for value in (believed, held)]
        findings.append(
            Discrepancy("lost", role, f"{role}.{setting} was set to {told[0]}, but the instrument has {told[1]}")
        )

    return use


def _identity(session: Session) -> Use:
    def use(reply: str) -> None:
        if not session.is_identity(reply):
            take_doubt(session, f"answered {reply[:60]!r} when asked who it is")

    return use


def _look_for_strays(bench: BenchState) -> None:
    """Whether anything comes behind the last answers. Opens anew every link that is in doubt."""
    wait = STRAY_WAIT
    for session in bench.sessions.values():
        if session.link.is_waiting:
            session.settle_link()
            continue
        session.look_for_strays(wait)
        wait = 0.0  # that time is over for all of them
