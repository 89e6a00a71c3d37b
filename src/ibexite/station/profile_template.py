"""A profile to begin with: every entry of a class, with its help as a comment and made-up commands in their places."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator

from ibexite.classes import Argument, Feature, InstrumentClass
from ibexite.values import Connections, Picture, Table

WIDTH = 110
BEGINNING = (
    "{title}: a profile to be filled in. The commands are made up of the names: put those of your instrument in their "
    "places, and take out what it has not. `ibexite explain KEY` tells of each key, `ibexite vet FILE` what is wrong."
)
HEAD = """\
class = "{name}"
help  = "which instrument this is"

identity_query = "*IDN?"              # asks who it is; identity_reply = "MODEL {{value}}" where there is more in it
start          = ["*CLS", "*RST"]     # brings it into its known state, with everything off
error_query    = "SYST:ERR?"          # "" where it has none; no_error = "NONE" where that is not 0,"No error"
complete       = "*OPC?"              # answers 1 when all settings are carried out; or complete = {{ delay = "50 ms" }}

[speech]                              # how it writes and answers, where that is not as IEEE 488.2 has it
# on    = "ON"
# off   = "OFF"
# reply = "{{value}} {{unit}}"
"""


PLAY = """\
# how samples are given to it; numbers and bytes say of which kind they are, scale which number stands for the peak
[play]
load = "WAVE {block}"
most = 1000000"""

END = """\
[quirks]
timeout  = "2 s"    # of a reply
settling = "20 ms"  # until a changed setting is true
"""


def profile_template(known: InstrumentClass) -> str:
    """The text of a profile for a class. It is a right one: it can be vetted and rehearsed as it stands."""
    beginning = _comment(BEGINNING.format(title=known.help[0].upper() + known.help[1:]))
    parts = ["\n".join(beginning) + "\n" + HEAD.format(name=known.name)]
    parts += ["\n".join(_setting(feature)) for feature in known.settings.values()]
    parts += ["\n".join(_reading(feature)) for feature in known.readings.values()]
    own = {name: text for name, text in known.actions.items() if name not in ("reset", "clear")}
    if own:
        lines = ["[actions]"]
        for name, text in own.items():
            lines += [*_comment(text), f'{name} = "{_header(name)}"']
        parts.append("\n".join(lines))
    if known.plays:
        parts.append(PLAY)
    if known.switch:
        parts.append(f"# what is switched when all is made safe\n[safe]\n{known.switch} = false")
    parts.append(END)
    return "\n\n".join(part.rstrip() for part in parts) + "\n"


def _comment(text: str) -> list[str]:
    return textwrap.wrap(text, WIDTH, initial_indent="# ", subsequent_indent="# ")


def _header(name: str) -> str:
    """A made-up command for a name."""
    return name.upper().replace("_", ":")


def _setting(feature: Feature) -> Iterator[str]:
    yield f"[settings.{feature.name}]"
    yield from _comment(feature.help)
    yield f'write = "{_header(feature.name)} {{value}}"'
    yield f'ask   = "{_header(feature.name)}?"'
    if feature.choices:
        words = ", ".join(f'{choice} = "{choice.upper()}"' for choice in feature.choices)
        yield f"words = {{ {words} }}"
    elif feature.dimension is not None:
        unit = "" if feature.unit == "number" else f" {feature.unit}"
        yield f'# range = ["0{unit}", "1{unit}"]   # what it takes'


def _reading(feature: Feature) -> Iterator[str]:
    yield f"[readings.{feature.name}]"
    yield from _comment(feature.help)
    given = ",".join(f"{{{name}}}" for name in feature.arguments)
    yield f'query = "MEAS:{_header(feature.name)}?{" " + given if given else ""}"'
    if feature.arguments:
        told = ", ".join(f"{name} = {_argument(argument)}" for name, argument in feature.arguments.items())
        yield f"arguments = {{ {told} }}"
    if isinstance(feature.type, Table):
        yield 'row   = "{name},{value:number}"   # what a row looks like; rows = ";" stands between two'
    if isinstance(feature.type, Connections):
        yield 'connection = "{first},{second},{value:ohm}"   # what an entry looks like; rows = ";" stands between two'
        yield '# diode = "D,{first},{second},{value:V}"   resistor, capacitor and alone likewise'
    if isinstance(feature.type, Picture):
        yield "# answered as a definite length block"
    for axis in feature.axes:
        yield f"[readings.{feature.name}.axes.{axis}]"
        yield f'start = "{_header(feature.name)}:START?"   # a query, or a value'
        yield f'step  = "{_header(feature.name)}:STEP?"'


def _argument(argument: Argument) -> str:
    if argument.choices:
        return "[" + ", ".join(f'"{choice}"' for choice in argument.choices) + "]"
    return f'{{ unit = "{argument.unit}", default = "DEF" }}'
