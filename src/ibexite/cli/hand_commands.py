"""`ibexite instruments read`, `set`, `send` and `talk`: instruments by hand."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.desk_bench import bench_if_any, desk_bench, simulate_option, watched
from ibexite.cli.options import bench_option, format_option, parameters, traffic_option
from ibexite.errors import EXIT_ABORTED, EXIT_BENCH, EXIT_PASS, MistakeError

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.bench.hand import Hand
    from ibexite.bench.pool import Opening
    from ibexite.station.by_hand import Asked
    from ibexite.station.kept import Kept

profile_option = click.option("--profile", default="", help="Of an instrument that is in no bench file: what it is.")


@click.command("read")
@click.argument("words", nargs=-1, required=True, metavar="SIGNAL | ROLE READING | READING")
@click.option("--address", help="Of an instrument that is in no bench file; with --profile.")
@click.option("--profile", help="A shipped profile, or the name of a file.")
@click.option(
    "--with", "given", multiple=True, metavar="NAME=VALUE", help='Set-up of a reading, as --with range="10 V".'
)
@click.option("--every", default="0 s", show_default=True, help="Time between two readings.")
@click.option("--count", type=click.IntRange(1), help="So many readings; with --every alone until Ctrl-C.")
@bench_option
@simulate_option
@traffic_option
@format_option
def read_command(words: tuple[str, ...], given: tuple[str, ...], every: str, count: int | None, **where: Any) -> None:
    """Reads a signal or a reading of a role by hand. Nothing is reset or switched.

    Several readings are shown with their mean and deviation so far; at the end with least, greatest, and a curve.
    Curves are drawn, tables and connections shown in full, pictures written into the present folder.

    \b
    ibexite instruments read v_out
    ibexite instruments read supply voltage --every "500 ms" --count 20
    ibexite instruments read voltage --address TCPIP::192.0.2.10::5025::SOCKET --profile scpi-power-supply
    """
    from ibexite import units
    from ibexite.cli.reading_view import read_and_show, read_and_show_whole
    from ibexite.station.by_hand import bench_of_one, what_to_read
    from ibexite.station.whole_readings import is_whole

    pause = units.parse_quantity(every)
    if pause.dimension != units.SECOND or not 0 <= float(pause) <= 86_400 or len(words) > 2:
        what = "two words at most say what to read" if len(words) > 2 else f"{every!r} is no time up to a day"
        raise MistakeError(what, remedy='Write, for example: ibexite instruments read v_out --every "2 s"')
    times = count or (1 if every == "0 s" else None)
    if bool(where["address"]) != bool(where["profile"]):
        raise MistakeError("--address and --profile go together")
    with contextlib.ExitStack() as stack:
        if where["address"]:
            file = bench_of_one(where["address"], where["profile"], Path.cwd())
            opening = stack.enter_context(watched(where["traffic"], where["address"]))
        else:
            file, opening = stack.enter_context(desk_bench(where["bench"], where["simulate"], where["traffic"]))
        asked = what_to_read(file, words, parameters(given))
        take = _kept_reading(file, asked, words, parameters(given), where["traffic"])
        if take is None:
            take = stack.enter_context(_own_reading(file, asked, opening))
        if is_whole(asked.kind):
            read_and_show_whole(asked, take, times, float(pause), where["output"])
        else:
            read_and_show(asked, take, times, float(pause), where["output"])


@contextlib.contextmanager
def _own_reading(file: BenchFile, asked: Asked, opening: Opening) -> Iterator[Callable[[], tuple[Any, str]]]:
    from ibexite.station.by_hand import connected, reading_of
    from ibexite.station.whole_readings import is_whole, whole_reading_of

    take = whole_reading_of if is_whole(asked.kind) else reading_of
    with connected(file, [asked.instrument], opening) as bench:
        line = asked.prepare(bench)
        yield lambda: take(bench, line)


def _kept_reading(
    file: BenchFile, asked: Asked, words: tuple[str, ...], given: dict[str, str], traffic: Path | None
) -> Callable[[], tuple[Any, str]] | None:
    """What takes a reading through the process that holds its instrument by hand; None if none does."""
    from ibexite.station.hand_place import HandPlace
    from ibexite.station.kept import held_by_hand, number_read, reading
    from ibexite.station.whole_readings import is_whole

    place = HandPlace.of(file)
    if asked.instrument not in held_by_hand(place):
        return None
    ask = reading if is_whole(asked.kind) else number_read
    return lambda: ask(place, words, given, _path(traffic))[:2]


def _path(path: Path | None) -> str:
    return str(path.absolute()) if path else ""


# --- set and send -----------------------------------------------------------------------------------------------------


@click.command("set", context_settings={"ignore_unknown_options": True})  # a value may be negative
@click.argument("words", nargs=-1, required=True, metavar="ROLE SETTING VALUE")
@bench_option
@simulate_option
@traffic_option
def set_command(words: tuple[str, ...], **where: Any) -> None:
    """Sets a setting of a role, within its ceilings, and asks it back.

    What is switched on stands under a guardian until it is switched off by another set, or until the shell or program
    from which it was switched on ends. Until then no run gets its instrument; read, set and send do.

    \b
    ibexite instruments set supply voltage 12 V
    ibexite instruments set supply.voltage = 12 V
    ibexite instruments set supply output on
    ibexite instruments set supply output off
    """
    role, dot, setting = words[0].partition(".")  # as sequences have it
    rest = [word for word in words[1:] if word != "="]
    if not dot and rest:
        setting, *rest = rest
    if not rest:
        raise MistakeError("what is set, and to what", remedy="Write: ibexite instruments set supply voltage 12 V")
    _carry_out(where, lambda file: ({"do": "set", "role": role, "setting": setting, "value": " ".join(rest)}, file, {}))


@click.command("connect")
@click.argument("routes", nargs=-1, required=True)
@bench_option
@simulate_option
@traffic_option
def connect_command(routes: tuple[str, ...], **where: Any) -> None:
    """Connects routes by hand, by the rules of the bench file: what excludes what, and what must be off meanwhile.

    Relays stay closed under a guardian, as outputs that were set on, until they are disconnected, or the shell or
    program that called this ends.

    \b
    ibexite instruments connect fixture tap_out
    """
    _carry_out(where, lambda file: ({"do": "connect", "routes": list(routes), "records": _records(file)}, file, {}))


def _records(file: BenchFile) -> str:
    """The folder of the records, in which closings of relays are counted."""
    from ibexite.station.project import find_project

    return str(find_project(file.path).records.absolute())


@click.command("disconnect")
@click.argument("routes", nargs=-1, required=True)
@bench_option
@simulate_option
@traffic_option
def disconnect_command(routes: tuple[str, ...], **where: Any) -> None:
    """Disconnects routes by hand. What must be off meanwhile must be off.

    \b
    ibexite instruments disconnect fixture
    """
    _carry_out(where, lambda file: ({"do": "disconnect", "routes": list(routes)}, file, {}))


@click.command("send")
@click.argument("where_to", metavar="ROLE|ADDRESS")
@click.argument("text")
@profile_option
@bench_option
@simulate_option
@traffic_option
def send_command(where_to: str, text: str, profile: str, **where: Any) -> None:
    """Sends a raw text to an instrument, and shows its reply if it asks for one.

    Questions may be sent anywhere. Anything else only where the bench file has raw = true in the role, or to an
    address with --profile, so that it is known how the instrument is switched off; what it has switched on stands under
    a guardian, as with set.

    \b
    ibexite instruments send supply "*IDN?"
    ibexite instruments send TCPIP::192.0.2.10::5025::SOCKET "SYST:ERR?"
    """

    def deed(file: BenchFile | None) -> tuple[dict[str, Any], BenchFile, dict[str, str]]:
        from ibexite.station.by_hand import ALONE

        found, instrument = _place_of(where_to, profile, file)
        spec = {"address": where_to, "profile": profile} if instrument == ALONE else {}
        return {"do": "send", "instrument": instrument, "text": text}, found, spec

    _carry_out(where, deed, needs_bench=False, address=where_to)


def _place_of(text: str, profile: str, file: BenchFile | None) -> tuple[BenchFile, str]:
    """The bench and the instrument that a role, an instrument or an address means."""
    from ibexite.station.by_hand import ALONE, at_address, bench_of_one, instrument_of, is_address

    if is_address(text):
        known = at_address(file, text)
        if known and file is not None:
            return file, known
        return bench_of_one(text, profile, Path.cwd()), ALONE
    assert file is not None
    return file, instrument_of(file, text)


@contextlib.contextmanager
def _file_of(where: dict[str, Any], address: str) -> Iterator[tuple[BenchFile | None, Opening]]:
    """The bench file, None for an address where there is none."""
    from ibexite.station.by_hand import is_address

    if is_address(address) and not where["simulate"] and bench_if_any(where["bench"]) is None:
        with watched(where["traffic"], address) as opening:
            yield None, opening
        return
    with desk_bench(where["bench"], where["simulate"], where["traffic"]) as found:
        yield found


def _carry_out(where: dict[str, Any], deed: Callable[..., Any], *, needs_bench: bool = True, address: str = "") -> None:
    """Has a deed carried out: by the process that holds what is on, or here where the bench is a simulated one of this
    command alone."""
    from ibexite.station.kept import carry_out, spec_of

    traffic, where["traffic"] = where["traffic"], where["traffic"] if where["simulate"] else None
    with _file_of(where, "" if needs_bench else address) as (given, opening):
        request, file, of_one = deed(given)
        if where["simulate"]:
            kept = _carried_out_here(file, opening, request)
        else:
            kept = carry_out(file, spec_of(file, **of_one), {**request, "traffic": _path(traffic)})
    _show(kept, file, "the stand-ins end with this command" if where["simulate"] else "")
    raise click.exceptions.Exit(EXIT_BENCH if kept.has_reported else EXIT_PASS)


def _end_of(role: str, file: BenchFile) -> str:
    """When what is on goes off."""
    switch = file.instruments[file.roles[role].instrument].profile.instrument_class.switch
    try:
        caller = f"{Path(f'/proc/{os.getppid()}/comm').read_text().strip()} (process {os.getppid()}) ends"
    except OSError:
        caller = "the program that called this ends"
    if file.roles[role].relays:
        return f"its routes go with: ibexite instruments disconnect NAME, or when {caller}"
    return f"it goes off with: ibexite instruments set {role} {switch} off, or when {caller}"


def _show(kept: Kept, file: BenchFile, instead: str) -> None:
    from ibexite.instruments.traffic_file import shown

    for text in kept.told:
        click.echo(text)
    if kept.reply is not None:
        click.echo(shown(kept.reply.encode("latin-1")))
    for role in kept.on:
        ends = f"; {instead or _end_of(role, file)}" if role in kept.fresh else ""
        click.echo(click.style(f"{role} is on{ends}", fg="yellow"), err=True)
    if kept.error is not None:
        raise kept.error


def _carried_out_here(file: BenchFile, opening: Opening, request: dict[str, Any]) -> Kept:
    from ibexite.errors import IbexiteError
    from ibexite.station.kept import Kept

    with in_hand(file, opening) as hand:
        reply, error = None, None
        try:
            if request["do"] == "set":
                hand.set(request["role"], request["setting"], request["value"])
            elif request["do"] in ("connect", "disconnect"):
                (hand.connect if request["do"] == "connect" else hand.disconnect)(request["routes"])
            else:
                data = hand.send(request["instrument"], request["text"])
                reply = None if data is None else bytes(data).decode("latin-1")
        except IbexiteError as found:
            error = found
        return Kept(hand.take_told(), reply, on := hand.on(), on, error, hand.has_reported)


@contextlib.contextmanager
def in_hand(file: BenchFile, opening: Opening) -> Iterator[Hand]:
    """Instruments in the hand of this process; at the end what was switched on goes off, which is told. If something
    does not, the exit code is 3."""
    from ibexite.bench.guardian import Guardian
    from ibexite.bench.hand import Hand
    from ibexite.bench.pool import Pool

    with tempfile.TemporaryFile() as log:
        hand = Hand(file, Pool(opening, starts=False), lambda: Guardian(log.fileno()))
        try:
            yield hand
        finally:
            on = hand.on()
            deeds = hand.end()
            for deed in deeds:
                if deed.problem:
                    click.echo(click.style(f"{deed.role} is not off: {deed.problem}", fg="red", bold=True), err=True)
                elif deed.role in on:
                    click.echo(f"{deed.role} was switched off")
    if any(deed.problem for deed in deeds):
        raise click.exceptions.Exit(EXIT_BENCH)


# --- talk -------------------------------------------------------------------------------------------------------------


@click.command("talk")
@click.argument("where_to", metavar="ROLE|ADDRESS")
@profile_option
@bench_option
@simulate_option
@traffic_option
def talk_command(where_to: str, profile: str, **where: Any) -> None:
    """A prompt at which an instrument is set, read and asked, by names of settings and readings or by raw text.

    The names of the profile are completed with Tab; ? explains them. What was switched on goes off at the end of the
    prompt, however it ends.

    \b
    ibexite instruments talk supply
    ibexite instruments talk TCPIP::192.0.2.10::5025::SOCKET --profile scpi-power-supply
    """
    from ibexite.cli.reading_view import whole_lines
    from ibexite.cli.talk_prompt import prompt
    from ibexite.station.talking import Talk

    with _file_of(where, where_to) as (given, opening):
        file, instrument = _place_of(where_to, profile, given)
        roles = [role.name for role in file.roles.values() if role.instrument == instrument]
        profile_of = file.instruments[instrument].profile
        roles = roles if profile_of.settings or profile_of.readings else []
        role = where_to if where_to in roles else roles[0] if len(roles) == 1 else ""
        with in_hand(file, opening) as hand:
            session = hand.reach(instrument)
            click.echo(f"{session.identity}   (? explains, quit ends)")
            for text in hand.take_told():
                click.echo(text)
            is_ended = prompt(Talk(hand, role, instrument, whole_lines), hand, role or instrument)
    if is_ended:
        raise click.exceptions.Exit(EXIT_ABORTED)


HAND_COMMANDS = (read_command, set_command, connect_command, disconnect_command, send_command, talk_command)
