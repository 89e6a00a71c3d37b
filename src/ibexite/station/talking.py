"""What a line at the prompt of `ibexite instruments talk` means: settings, readings and actions by their names, or raw
text. No terminal in here."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Iterator

from ibexite import units
from ibexite.bench.entries import RoleEntry
from ibexite.bench.hand import Hand, shown
from ibexite.errors import MistakeError, did_you_mean
from ibexite.instruments.profile import Profile
from ibexite.instruments.traffic_file import shown as shown_bytes
from ibexite.station.by_hand import Asked, reading_of, what_to_read
from ibexite.station.whole_readings import is_whole, whole_reading_of

HELP = """\
  SETTING VALUE          sets it and asks it back: voltage 12 V
  SETTING                what the instrument has:  current_limit; set SETTING where a reading has that name too
  READING                takes a reading; a curve is drawn
  READING NAME=VALUE …   with its set-up:          dc_voltage range="10 V" channel=101
  ACTION                 carries it out:           reset
  SIGNAL                 reads a signal of the bench
  ROLE.SETTING VALUE     of another role;          load.current 0.5 A
  OUTP OFF  *IDN?        raw text: what has capitals, a colon, a star or a question mark; other text behind: send
  on                     what is on, and goes off at the end
  off                    switches all of that off
  ? NAME                 explains a setting, reading or action
  quit                   ends it, as Ctrl-D does; what was switched on goes off"""


class Talk:
    """A conversation with one role, or with one instrument of which no role is known.

    Args:
        role: the one that names without another belong to; "" for none.
        instrument: what raw text goes to.
        whole_lines: shows a reading that is no single number, and why it is bad.
    """

    def __init__(
        self, hand: Hand, role: str, instrument: str, whole_lines: Callable[[Asked, object, str], list[str]]
    ) -> None:
        self._hand, self._role, self._instrument, self._whole_lines = hand, role, instrument, whole_lines
        self._words: dict[str, Callable[[str], list[str]]] = {
            "set": self._set, "read": self._read, "do": self._do, "send": self._send, "on": self._on, "off": self._off,
        }  # fmt: skip

    @property
    def _profile(self) -> Profile:
        return self._hand.file.instruments[self._instrument].profile

    def line(self, text: str) -> list[str]:
        """Carries a line out; what is to be shown. Raises IbexiteError: what `Hand.told` has by then is to be shown
        first."""
        text = text.strip()
        if not text:
            return []
        first, _, rest = text.partition(" ")
        if first.startswith("?") or first in ("help", "explain"):
            return self._explain(first.removeprefix("?") + rest if first.startswith("?") else rest)
        if first in self._words:
            return self._words[first](rest.strip())
        if any(mark in first for mark in "*:?") or first != first.lower():  # names are in lower case
            return self._send(text)
        return self._by_name(first, rest.strip())

    def words(self) -> list[str]:
        """What a line may begin with, for completion."""
        profile, file = self._profile, self._hand.file
        found = [*profile.settings, *profile.readings, *profile.actions, *self._words, *file.signals]
        for role in file.roles.values():
            if role.name != self._role:
                found += [f"{role.name}.{setting}" for setting in file.instruments[role.instrument].profile.settings]
        commands = [text for entry in profile.settings.values() for text in (entry.write, entry.ask)]
        commands += [entry.query for entry in profile.readings.values()]
        channel = file.roles[self._role].channel if self._role else 1
        heads = [profile.speech.at(text, channel).split()[0] for text in (*commands, *profile.actions.values())]
        return sorted({*found, *heads, "*IDN?", "*OPC?", "quit"})

    # --- lines -------------------------------------------------------------------------------------------------------

    def _place(self, word: str) -> tuple[RoleEntry, str]:
        """The role that a word means, and the name that is left of it."""
        role, dot, name = word.partition(".")
        if not dot:
            role, name = self._role, word
        if not role:
            raise MistakeError(f"{word!r} is the name of nothing here", remedy="Raw text goes behind: send")
        return self._hand.role(role), name

    def _by_name(self, word: str, rest: str) -> list[str]:
        if word in self._hand.file.signals:
            return self._read(f"{word} {rest}".strip())
        role, name = self._place(word)
        profile = self._hand.bench.profile(role.name)
        if name in profile.readings and (not rest or "=" in rest):
            return self._read(f"{word} {rest}".strip())
        if name in profile.settings:
            return self._set(f"{word} {rest}".strip())
        if name in profile.actions and not rest:
            return self._do(word)
        known = [*profile.settings, *profile.readings, *profile.actions, *self._words, *self._hand.file.signals]
        remedy = did_you_mean(name, known) + " Raw text goes behind: send"
        raise MistakeError(f"{role.name} has no {name!r}", remedy=remedy)

    def _set(self, rest: str) -> list[str]:
        word, _, value = rest.partition(" ")
        role, name = self._place(word)
        value = value.strip().removeprefix("=").strip()
        if value:
            self._hand.set(role.name, name, value)
        else:
            self._hand.tell_setting(role.name, name)
        return []

    def _read(self, rest: str) -> list[str]:
        word, *pairs = _split(rest)
        given = dict(pair.split("=", 1) for pair in pairs if "=" in pair)
        if len(given) != len(pairs):
            raise MistakeError(f"{' '.join(pairs)!r} is not NAME=VALUE", remedy='Write, for example: range="10 V"')
        words: tuple[str, ...] = (word,)
        if word not in self._hand.file.signals:
            role, name = self._place(word)
            words = (role.name, name)
        asked = what_to_read(self._hand.file, words, given)
        self._hand.reach(asked.instrument)
        self._hand.settle()
        line = asked.prepare(self._hand.bench)
        if is_whole(asked.kind):
            return self._whole_lines(asked, *whole_reading_of(self._hand.bench, line))
        value, reason = reading_of(self._hand.bench, line)
        text = units.format_value(value, asked.dimension) if value == value else f"bad: {reason}"
        return [f"{asked.name} = {text}"]

    def _do(self, rest: str) -> list[str]:
        role, name = self._place(rest)
        self._hand.do(role.name, name)
        return []

    def _send(self, text: str) -> list[str]:
        reply = self._hand.send(self._instrument, text)
        return [] if reply is None else [shown_bytes(reply)]

    def _on(self, _: str) -> list[str]:
        return [f"{name} is on" for name in self._hand.on()] or ["nothing is on that was switched on from here"]

    def _off(self, _: str) -> list[str]:
        problems = [f"{deed.role} is not off: {deed.problem}" for deed in self._hand.switch_off() if deed.problem]
        return problems or ["all is off that was switched on from here"]

    # --- explaining --------------------------------------------------------------------------------------------------

    def _explain(self, word: str) -> list[str]:
        if not word.strip():
            return [*HELP.splitlines(), "", *self._list()]
        role, name = self._place(word.strip())
        profile = self._hand.bench.profile(role.name)
        found = [*_about_setting(role, profile, name), *_about_reading(profile, name), *_about_action(profile, name)]
        found = [profile.speech.at(line, role.channel) for line in found]
        if not found:
            known = [*profile.settings, *profile.readings, *profile.actions]
            raise MistakeError(f"{role.name} has no {name!r}", remedy=did_you_mean(name, known))
        return found

    def _list(self) -> Iterator[str]:
        if not self._role:
            yield "  Nothing is known of this instrument but its address: raw text alone."
            return
        role, profile = self._hand.role(self._role), self._profile
        width = max(map(len, (*profile.settings, *profile.readings, *profile.actions)))
        for name, setting in profile.settings.items():
            yield f"  setting  {name:<{width}}  {setting.feature.help}{_bounds(role, profile, name)}"
        for name, reading in profile.readings.items():
            yield f"  reading  {name:<{width}}  {reading.feature.help}, in {reading.feature.told}"
        for name in profile.actions:
            yield f"  action   {name:<{width}}  {profile.instrument_class.actions.get(name, '')}"


def _bounds(role: RoleEntry, profile: Profile, name: str) -> str:
    setting = profile.settings[name]
    if setting.feature.dimension is None:
        return ": on or off"
    low_high = f": {shown(setting, setting.extent[0])} to {shown(setting, setting.extent[1])}" if setting.extent else ""
    ceiling = f", ceiling {shown(setting, role.ceiling[name])}" if name in role.ceiling else ""
    return low_high + ceiling


def _about_setting(role: RoleEntry, profile: Profile, name: str) -> list[str]:
    if name not in profile.settings:
        return []
    setting = profile.settings[name]
    return [
        f"  setting {name}: {setting.feature.help}{_bounds(role, profile, name)}",
        f"      writes {setting.write}   asks {setting.ask}",
    ]


def _about_reading(profile: Profile, name: str) -> list[str]:
    if name not in profile.readings:
        return []
    reading = profile.readings[name]
    texts = [f"configures {reading.configure}"] * bool(reading.configure)
    texts += [f"selects {reading.select}"] * bool(reading.select) + [f"asks {reading.query}"]
    needs = [f"      needs {', '.join(reading.arguments)}"] * bool(reading.arguments)
    return [
        f"  reading {name}: {reading.feature.help}, in {reading.feature.told}",
        *needs,
        "      " + "   ".join(texts),
    ]


def _about_action(profile: Profile, name: str) -> list[str]:
    if name not in profile.actions:
        return []
    help_text = profile.instrument_class.actions.get(name, "")
    return [f"  action {name}: {help_text}", f"      sends {profile.actions[name]}"]


def _split(text: str) -> list[str]:
    try:
        words = shlex.split(text)
    except ValueError as error:
        raise MistakeError(f"{text!r}: {error}") from None
    if not words:
        raise MistakeError("read what?", remedy="Name a reading or a signal.")
    return words
