"""The table of the keys of files: each example is accepted where it may stand, each misspelt key refused by name."""

from pathlib import Path

import pytest

from ibexite.bench.file import read_bench
from ibexite.classes import class_in
from ibexite.errors import MistakeError
from ibexite.file_keys import file_keys, places
from ibexite.instruments.profile import load_profile
from ibexite.station.product_model import read_model
from ibexite.station.project import find_project

# A file for each place; where the line of a key goes stands @, and lines of the same key are taken out.
BENCH = """[bench]
name = "b"
{bench}
[instruments.psu]
profile = "scpi-power-supply"
address = "TCPIP::192.0.2.1::1::SOCKET"
{instrument}
[instruments.psu.simulated]
identity = "F,P"
{simulated}
[instruments.dmm]
profile = "scpi-scanning-multimeter"
address = "TCPIP::192.0.2.1::2::SOCKET"
[instruments.gen]
profile = "scpi-function-generator"
address = "TCPIP::192.0.2.1::3::SOCKET"
[instruments.sw]
profile = "scpi-switch"
address = "TCPIP::192.0.2.1::4::SOCKET"
[instruments.adc]
profile = "scpi-digitizer"
address = "TCPIP::192.0.2.1::6::SOCKET"
[roles.adc]
instrument = "adc"
[roles.supply]
instrument = "psu"
{role}
[roles.meter]
instrument = "dmm"
[roles.tone]
instrument = "gen"
[instruments.dio]
profile = "scpi-digital-io"
address = "TCPIP::192.0.2.1::5::SOCKET"
[roles.io]
instrument = "dio"
[roles.matrix]
instrument = "sw"
[routes.other]
switch = "matrix"
close = [1]
one_of = "tap"
[routes.third]
switch = "matrix"
close = [3]
one_of = "tap"
[routes.r]
switch = "matrix"
close = [2]
{route}
[signals.b]
read = "io.line"
[signals.x]
read = "{reading}"
{signal}
[simulation]
{simulation}
"""
PROFILE = """class = "{class_name}"
{profile}
[speech]
{speech}
[settings.{setting_name}]
write = "W {{value}}"
ask = "A?"
{setting}
[readings.{reading_name}]
query = "Q?"
{reading}
[quirks]
{quirks}
[safe]
"""
PLAY = """class = "function_generator"
[play]
load = "TRAC {{block}}"
most = 1000
{play}
"""
STREAM_KEYS = {
    "begin": 'begin = "B"', "end": 'end = "E"', "query": 'query = "Q? (@{{channels}})"', "first": 'first = "F?"', "holds": "holds = 1000",
}  # fmt: skip
STREAM = """class = "digitizer"
[settings.interval]
write = "A {{value}}"
ask = "A?"
[settings.samples]
write = "B {{value}}"
ask = "B?"
[settings.trigger]
write = "C {{value}}"
ask = "C?"
[readings.record]
query = "R?"
form = "block"
axes = {{ time = {{ start = "0 s", step = "S?" }} }}
[actions]
arm = "ARM"
[stream]
{stream}
"""
CLASS = """help = "h"
{class}
[settings.output]
kind = "on_off"
help = "h"
[settings.voltage]
unit = "V"
help = "h"
{class setting}
[settings.current_limit]
unit = "A"
help = "h"
[readings.r]
unit = "V"
help = "h"
{class reading}
"""
MODEL = "{model}\n"
PROJECT = """[project]
name = "p"
{project}
[retest]
{retest}
"""
FILES = {"bench": BENCH, "instrument": BENCH, "simulated": BENCH, "role": BENCH, "signal": BENCH, "route": BENCH, "simulation": BENCH, "profile": PROFILE, "speech": PROFILE, "setting": PROFILE,
         "reading": PROFILE, "curve": PROFILE, "table": PROFILE, "connections": PROFILE, "quirks": PROFILE, "play": PLAY, "stream": STREAM, "class": CLASS, "class setting": CLASS, "class reading": CLASS, "model": MODEL, "project": PROJECT, "retest": PROJECT}  # fmt: skip

OF_PLACE = {"curve": ("oscilloscope", "full_scale", "wave"), "table": ("product", "mode", "counters"), "connections": ("connection_tester", "voltage", "wires")}
NEEDED = {"table": 'row = "{{counter}},{{delay:us}}"', "connections": 'connection = "{{first}},{{second}}"'}  # without these there is no such reading


def text_with(place: str, lines: str, key: str = "") -> str:
    """A file with some lines in one of its places; the line of the same key that stands there otherwise is left out."""
    text = FILES[place]
    curve = place == "curve"
    names = dict(zip(("class_name", "setting_name", "reading_name"), OF_PLACE.get(place, ("power_supply", "voltage", "voltage")), strict=True))
    names["reading"] = (
        "meter.resistance" if key in ("rtd", "thermistor") else "io.line" if key == "inverted" else "adc.record" if key == "delay" else "meter.dc_voltage"
    )
    slots = dict.fromkeys(FILES, "")
    if curve and key != "axes":
        lines += '\naxes = { time = { start = "0 s", step = "1 ms" } }'
    if place == "stream":
        lines += "".join(f"\n{line}" for name, line in STREAM_KEYS.items() if name != key)
    if place in NEEDED and key not in ("row", "connection", "diode", "resistor", "capacitor", "alone"):
        lines += f"\n{NEEDED[place]}"
    slots["reading" if place in OF_PLACE else place] = lines
    if text in (PROFILE, PLAY, STREAM):
        names.pop("reading")
    filled = text
    for name, value in {**slots, **names}.items():
        filled = filled.replace("{" + name + "}", value)
    return _once(filled.replace("{{", "{").replace("}}", "}"), place, key)


def _once(text: str, place: str, key: str) -> str:
    """Without the line of a key that stood in the file before, if the example brings another one."""
    lines, seen = [], {}
    table = ""
    for line in text.splitlines():
        if line.startswith("["):
            table = line
        name = line.partition("=")[0].strip()
        if "=" in line and name == key and (table, name) in seen:
            lines[seen[table, name]] = ""
        if "=" in line:
            seen[table, name] = len(lines)
        lines.append(line)
    joined = "\n".join(lines) + "\n"
    if key == "class":
        joined = joined.replace('class = "power_supply"\nclass', "class")
    if key == "program":
        joined = joined.replace('address = "TCPIP::192.0.2.1::1::SOCKET"\n', "", 1)
    if key == "simulated":
        joined = joined.replace('[instruments.psu.simulated]\nidentity = "F,P"\n', "")
    if key == "triggered_by":
        joined = joined.replace('instrument = "psu"\ntrig', 'instrument = "adc"\ntrig')
    if key == "safe":
        joined = joined.replace("[safe]\n", "[settings.output]\nwrite = 'O {value}'\nask = 'O?'\n")
    if key == "extends":
        joined = joined.replace('class = "power_supply"', "") if place == "profile" else joined
    if key == "kind":
        joined = joined.replace('unit = "V"\nhelp = "h"\nkind', 'help = "h"\nkind')
    if key == "choices":
        joined = joined.replace('unit = "V"\nhelp = "h"\nchoices', 'help = "h"\nchoices')
    return joined


def load(folder: Path, place: str, text: str) -> object:
    kind = FILES[place]
    (folder / "sensor.csv").write_text("u [V],d [m]\n0,0\n1,1\n")
    (folder / "loss.csv").write_text("f [Hz],loss [dB]\n1,0\n2,1\n")
    (folder / "classes").mkdir(exist_ok=True)
    path = folder / ("classes/own.toml" if kind is CLASS else "ibexite.toml" if kind is PROJECT else "file.toml")
    path.write_text(text)
    if kind is BENCH:
        return read_bench(path)
    if kind is PROJECT:
        return find_project(folder)
    if kind in (PROFILE, PLAY, STREAM):
        return load_profile("file.toml", folder)
    return class_in(path) if kind is CLASS else read_model(path)


# What stands in a file by itself, and so is no example of its own; and what needs another key beside it.
BESIDE = {"without": 'extends = "scpi-power-supply"', "numbers": "", "ranges": "", "levels": 'switch = "output"'}


def example_of(key: str, place: str) -> str:
    """The lines of an example, made fit for a place that is not the first one of its key."""
    entry = file_keys()[key]
    text = entry.example
    if key == "extends" and place == "class":
        text = 'extends = "power_supply"'
    if key == "without":
        return (BESIDE[key] + "\n" + text) if place == "profile" else 'extends = "power_supply"\nwithout = ["settings.over_current"]'
    if key == "unit" and place.endswith("reading") and place != "reading":
        text = 'unit = "V"'
    if key == "kind" and place == "class reading":
        text = 'kind = "text"'
    if key == "offset" and place != "signal":
        text = 'offset = "-0.5"'
    if key == "switch" and place == "route":
        text = 'switch = "matrix"'
    if key == "arguments" and place == "class reading":
        text = 'arguments = { range = "V" }'
    if key == "words":
        text = ""
    if key in ("numbers", "bytes") and place in ("play", "stream"):
        text = text.replace('form = "block"\n', "").strip()
    if key == "records" and place == "class":
        text = 'records = ""'
    if key == "query" and place == "stream":
        text = 'query = "Q? (@{{channels}})"'
    if key in ("offset", "factor") and place in ("curve", "stream"):
        text = f'{key} = "{key.upper()}?"'
    return (BESIDE[key] + "\n" + text) if BESIDE.get(key) else text


CASES = [(key, place) for key, entry in file_keys().items() for place in entry.places]


@pytest.mark.parametrize(("key", "place"), CASES)
def test_the_example_of_each_key_is_accepted_where_it_may_stand(tmp_path: Path, key: str, place: str) -> None:
    text = text_with(place, example_of(key, place), key)
    assert load(tmp_path, place, text), text


@pytest.mark.parametrize(("key", "place"), CASES)
def test_each_key_misspelt_is_refused_with_the_nearest_one(tmp_path: Path, key: str, place: str) -> None:
    if key in ("on", "off"):  # too short for a slip to look like it
        misspelt = key + "_"
    else:
        middle = len(key) // 2
        misspelt = key[:middle] + key[middle - 1] + key[middle:]  # a letter twice
    lines = "\n".join(misspelt + line[len(key) :] if line.partition("=")[0].strip() == key else line for line in example_of(key, place).splitlines())
    if not lines:
        lines = f"{misspelt} = {{ }}"
    with pytest.raises(MistakeError) as error:
        load(tmp_path, place, text_with(place, lines, key if key in ("inverted", "delay") else ""))
    told = str(error.value)
    assert f"{misspelt}: is not a key that is known here" in told, told
    assert f"Did you mean {key}?" in told or key in ("on", "off"), told


def test_each_place_of_a_key_is_one_and_each_place_has_keys() -> None:
    named = {place for key in file_keys().values() for place in key.places}
    assert named == set(places()) == set(FILES)


@pytest.mark.parametrize(("text", "told"), [
    ("[project]\nbecnh = 'b.toml'", "project.becnh: is not a key that is known here|Did you mean bench?"), ("[projcet]\nname = 'x'", "project: is missing|projcet: is not a key that is known here|Did you mean project?"),
    ("[project]\nname = 5\nmeasurements = 'm'", "project.name: 5 does not fit|project.measurements: 'm' does not fit")])  # fmt: skip
def test_mistakes_of_a_project_file_are_told_at_once(tmp_path: Path, text: str, told: str) -> None:
    (tmp_path / "ibexite.toml").write_text(text)
    with pytest.raises(MistakeError) as error:
        find_project(tmp_path)
    for part in told.split("|"):
        assert part in str(error.value), str(error.value)
