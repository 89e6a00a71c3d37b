"""How instruments write and answer: tables of cases, and what holds for all of them."""

from math import inf
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import units
from ibexite.classes import Classes, classes_around, instrument_classes
from ibexite.errors import MistakeError
from ibexite.file_keys import file_keys
from ibexite.instruments.profile import Profile, load_profile
from ibexite.protocols.checksums import RULES, checked
from ibexite.protocols.scpi import INFINITY, NOT_A_NUMBER
from ibexite.protocols.speech import NUMBER_FORMS, Speech, Template, speech_from

V, MV, DEGC = (units.parse_unit(symbol) for symbol in ("V", "mV", "degC"))


@pytest.mark.parametrize(("speech", "reply", "value"), [
    (Speech(), "+2.4E-3", 0.0024), (Speech(), " 12 ", 12.0), (Speech(), "9.9E37", INFINITY),
    (Speech(reply=Template("{value} V")), "0.0024 V", 0.0024), (Speech(reply=Template("{value} V")), "0.0024V", 0.0024),
    (Speech(reply=Template("{value} {unit}")), "2.4 mV", 0.0024), (Speech(reply=Template("{value} {unit}")), "2.4E-3V", 0.0024),
    (Speech(reply=Template("{value} {unit}"), units={"MVOLT": "mV"}), "2.4 MVOLT", 0.0024),
    (Speech(reply=Template("CH{channel}: {value} {any}")), "CH12: -3.5 ok, settled", -3.5),
    (Speech(reply=Template("T={value}\nH={any}")), "T=21.5\r\nH=40", 21.5),
    (Speech(number="comma"), "2,5", 2.5), (Speech(number="comma"), "-1,5E+2", -150.0), (Speech(number="hex"), "1F", 31.0),
    (Speech(number="hex"), "0x1f", 31.0), (Speech(number="hex", factor=0.1, offset=-1.0), "#H0A", 0.0),
    (Speech(number="integer", factor=0.001), "1234", 1.234), (Speech(overload=("OL", "-OL")), "OL", INFINITY),
    (Speech(overload=("OL", "-OL")), "-ol", -INFINITY), (Speech(invalid=("----",)), "----", NOT_A_NUMBER),
    (Speech(overload=("OVER",), reply=Template("U {value} V")), "U OVER V", INFINITY)])  # fmt: skip
def test_numbers_of_replies(speech: Speech, reply: str, value: float) -> None:
    assert speech.number_in(reply, V) == pytest.approx(value, rel=1e-14)
    assert speech_from(speech.as_data()).number_in(reply, V) == pytest.approx(value, rel=1e-14)


@pytest.mark.parametrize(("speech", "reply"), [
    (Speech(), "NAN"), (Speech(), "1_0"), (Speech(), "1e400"), (Speech(), ""), (Speech(), "2.4 V"), (Speech(), "OL"),
    (Speech(reply=Template("{value} V")), "0.0024 A"), (Speech(reply=Template("{value} V")), "0.0024"),
    (Speech(reply=Template("{value} {unit}")), "2.4 mA"), (Speech(reply=Template("{value} {unit}")), "2.4 furlong"), (Speech(reply=Template("{value} {unit}")), "2.4"),
    (Speech(number="comma"), "2.5"), (Speech(number="comma"), "1.234,5"), (Speech(number="hex"), "1G"), (Speech(number="integer"), "1.5"),
    (Speech(number="integer"), "1" * 40), (Speech(reply=Template("CH{channel}: {value}")), "CHx: 1")])  # fmt: skip
def test_a_reply_that_is_not_as_was_said_is_no_number(speech: Speech, reply: str) -> None:
    with pytest.raises(ValueError, match="."):
        speech.number_in(reply, V)


@pytest.mark.parametrize(("speech", "number", "text"), [
    (Speech(), 0.1 + 0.2, "0.3"), (Speech(), -0.0, "0"), (Speech(digits=3), 1.23456, "1.23"), (Speech(decimals=2), 0.126, "0.13"),
    (Speech(decimals=0), -0.4, "0"), (Speech(decimals=3), 1e6, "1000000.000"), (Speech(number="comma", decimals=1), 2.25, "2,2"),
    (Speech(number="integer", factor=0.001), 1.2346, "1235"), (Speech(number="hex", width=4), 255.0, "00FF"), (Speech(number="integer", width=3), -7.0, "-07")])  # fmt: skip
def test_numbers_as_they_are_sent(speech: Speech, number: float, text: str) -> None:
    assert speech.written(number) == text


@pytest.mark.parametrize(("speech", "channel", "reply", "is_its_own"), [
    (Speech(reply=Template("CH{channel}: {value}")), 2, "CH2: 5", True), (Speech(reply=Template("CH{channel}: {value}")), 2, "CH002: 5", True),
    (Speech(reply=Template("CH{channel}: {value}")), 2, "CH12: 5", False), (Speech(reply=Template("CH{channel}: {value}")), 2, "CH1: 5", False),
    (Speech(reply=Template("CH{channel}: {value}"), channels={1: "A", 2: "B"}), 2, "chb: 5", True), (Speech(reply=Template("{value}")), 2, "5", True),
    (Speech(reply=Template("CH{channel}: {value}"), channels={1: "A", 2: "B"}), 2, "CHA: 5", False)])  # fmt: skip
def test_a_reply_that_names_another_channel_is_that_of_another_question(speech: Speech, channel: int, reply: str, is_its_own: bool) -> None:
    own = speech_from(speech.as_data()).of_channel(channel)
    if is_its_own:
        assert own.number_in(reply, V) == 5
    else:
        with pytest.raises(ValueError, match="is not as"):
            own.number_in(reply, V)


def test_what_cannot_be_written_so_is_refused() -> None:
    for speech, number in (
        (Speech(number="hex"), -1.0),
        (Speech(number="integer"), 1e17),
        (Speech(number="integer"), inf),
        (Speech(number="hex"), float("nan")),
    ):
        with pytest.raises((ValueError, OverflowError)):
            speech.written(number)


@given(st.sampled_from(sorted(NUMBER_FORMS)), st.integers(3, 15), st.one_of(st.none(), st.integers(0, 9)), st.sampled_from([1.0, 0.001, 0.25, 10.0]),
       st.floats(0, 1e6))  # fmt: skip
def test_what_is_sent_is_read_back_and_sent_the_same_again(form: str, digits: int, decimals: int | None, factor: float, number: float) -> None:
    speech = Speech(number=form, digits=digits, decimals=decimals, factor=factor)
    text = speech.written(number)
    back = speech.read_back(text)
    assert speech.written(back) == text, "so that a value which was rounded once stays as it is"
    step = factor if NUMBER_FORMS[form].is_whole else factor * 10.0**-decimals if decimals is not None else abs(number) * 10.0 ** (1 - digits)
    assert abs(back - number) <= 0.5001 * step + 1e-9 * abs(number)


@pytest.mark.parametrize(("speech", "reply", "is_on"), [
    (Speech(), "1", True), (Speech(), "+0", False), (Speech(), "on", True), (Speech(), "OFF", False), (Speech(on=("YES",), off=("NO",)), "yes", True),
    (Speech(on=("CLOS", "1"), off=("OPEN", "0")), "0", False), (Speech(on=("YES",), off=("NO",), reply=Template("OUT {value}")), "OUT NO", False),
    (Speech(on=("YES",), off=("NO",)), "1", None), (Speech(), "MAYBE", None), (Speech(), "9.9E37", None), (Speech(on=("YES",), off=("NO",)), "", None)])  # fmt: skip
def test_on_and_off_in_replies(speech: Speech, reply: str, is_on: bool | None) -> None:
    if is_on is None:
        with pytest.raises(ValueError, match="."):
            speech.is_on(reply)
    else:
        assert speech.is_on(reply) is is_on
        import re

        wanted, others = speech.switch_patterns(is_on), speech.switch_patterns(not is_on)
        assert any(re.fullmatch(p, reply.strip(), re.IGNORECASE) for p in wanted), "as the guardian compares it"
        assert not any(re.fullmatch(p, reply.strip(), re.IGNORECASE) for p in others)


# Check values of the text 123456789, as catalogues of these algorithms print them.
def test_each_rule_of_a_checksum_is_told() -> None:
    assert all(rule in file_keys()["checksum"].text for rule in RULES)


@pytest.mark.parametrize(("rule", "digits"), [
    ("crc-8", b"F4"), ("crc-16-ccitt", b"29B1"), ("crc-16-arc", b"BB3D"), ("xor-8", b"31"), ("sum-8", b"DD"), ("sum-16", b"01DD"), ("sum-8-complement", b"23")])  # fmt: skip
def test_checksums_have_their_published_values(rule: str, digits: bytes) -> None:
    assert RULES[rule].text(b"123456789") == digits
    assert checked(RULES[rule], b"123456789" + digits.lower()) == b"123456789"
    for damaged in (b"123456788" + digits, b"123456789" + digits[:-1], digits[:1]):
        with pytest.raises(ValueError, match="checksum"):
            checked(RULES[rule], damaged)


# --- profiles ----------------------------------------------------------------------------------------------------------

OWN = """class = "power_supply"
[settings.voltage]
write = "V {value}"
ask = "V?"
range = ["0 V", "30 V"]
[settings.current_limit]
write = "I {value}"
ask = "I?"
range = ["0 A", "5 A"]
[settings.output]
write = "O {value}"
ask = "O?"
[readings.voltage]
query = "MV?"
[safe]
output = false
"""


def own(tmp_path: Path, text: str) -> Profile:
    (tmp_path / "own.toml").write_text(text)
    return load_profile("own.toml", tmp_path)


@pytest.mark.parametrize(("old", "new", "told"), [
    ('ask = "V?"\n', "", "settings.voltage.ask: is missing|ask = \"\" where there is none"), ('"V {value}"', '"V"', "settings.voltage.write: does not say where the value goes"),
    ('ask = "V?"', 'ask = "V?"\nreply = "{valeu} V"', "settings.voltage.reply: {valeu} is none of {value}"), ('ask = "V?"', 'ask = "V?"\nreply = "V"', "settings.voltage.reply: {value} stands in it once"),
    ('ask = "V?"', 'ask = "V?"\nnumber = "octal"', "settings.voltage.number: there is no form 'octal'"), ('ask = "V?"', 'ask = "V?"\ndecimals = 20', "settings.voltage.decimals: not between 0 and 15"),
    ('ask = "V?"', 'ask = "V?"\ndigits = 2', "settings.voltage.digits: not between 3 and 15"), ('ask = "V?"', 'ask = "V?"\non = "YES"', "settings.voltage.off: is missing"),
    ('ask = "O?"', 'ask = "O?"\nnumber = "hex"', "settings.output.number: is for numbers"), ('ask = "V?"', 'ask = "V?"\nfactor = "0"', "settings.voltage.factor: is 0"),
    ('ask = "V?"', 'ask = "V?"\nafter = ["outptu"]', "settings.voltage.after: there is no other setting 'outptu'|Did you mean output?"),
    ('ask = "I?"', 'ask = "I?"\nranges = [{ when = { volts = ["0 V", "8 V"] }, range = ["0 A", "5 A"] }]', "there is no other setting of this name"),
    ('ask = "I?"', 'ask = "I?"\nranges = [{ range = ["0 A", "5 A"] }]', "when: is missing"), ("[safe]\noutput = false", "", "safe: nothing says that output is switched off at the end"),
    ("[safe]\noutput = false", "[safe]\noutput = false\nvoltage = false", "safe.voltage: is neither on nor off"), ('class = "power_supply"', 'class = "power_supply"\nchecksum = "crc"', "checksum: there is no rule 'crc'"),
    ('class = "power_supply"', 'class = "power_supply"\nerrors = "list"', "errors: 'list' is neither"), ('class = "power_supply"', 'class = "power_supply"\nerrors_read = "often"', "errors_read: 'often' is no such time"),
    ('class = "power_supply"', 'class = "power_supply"\ncomplete = { command = "*OPC", query = "*ESR?", bits = [0] }', "complete.every: is missing"),
    ('class = "power_supply"', 'class = "power_supply"\ncomplete = { }', "complete.query: is missing"), ('class = "power_supply"', 'class = "power_supply"\ncomplete = { query = "B?", bits = [40] }', "complete.bits: not some numbers of bits"),
    ('class = "power_supply"', 'class = "power_supply"\nlimiting = { query = "M?", yes = "CC" }', "limiting.yes: both the words"), ('class = "power_supply"', 'class = "power_supply"\nlimiting = 5', "limiting: 5 does not fit"),
    ('class = "power_supply"', 'class = "power_supply"\nidentity_reply = "{who}"', "identity_reply: {who} is none of"), ('class = "power_supply"', 'class = "power_supply"\n[speech]\nunits = { OHMS = "ohms" }', "speech.units.OHMS: "),
    ('class = "power_supply"', 'class = "power_supply"\n[speech]\nnumber = "comma"', "speech.separator: a decimal comma"), ('class = "power_supply"', 'class = "power_suply"', "class: there is no class 'power_suply'|Did you mean power_supply?|classes/power_suply.toml"),
    ('query = "MV?"', 'query = "MV?"\narguments = { range = { unit = "V", optional = true, defualt = "1" } }', "readings.voltage.arguments.range.defualt: is not a key"),
    ('query = "MV?"', 'query = "MV? {r}"\narguments = { r = { unit = "V", optional = true } }', "arguments.r: is optional, but the query names it"), ('query = "MV?"', 'query = "MV?"\nunit = "A"', "readings.voltage.unit: A is a current"),
    # what would be sent as it stands: a gap that nobody fills, a character that is none
    ('query = "MV?"', 'query = "MV{chanel}?"', "readings.voltage.query: nothing is known of {chanel}|Did you mean {channel}?"), ('ask = "V?"', 'ask = "V{value}?"', "settings.voltage.ask: nothing is known of {value}"),
    ('"O {value}"', '"O{ch} {value}"', "settings.output.write: nothing is known of {ch}"), ('class = "power_supply"', 'class = "power_supply"\nstart = ["O{channel} 0"]', "start: nothing is known of {channel}|Nothing is filled in here"),
    ('class = "power_supply"', 'class = "power_supply"\ncomplete = "B{channel}?"', "complete: nothing is known of {channel}"), ('class = "power_supply"', 'class = "power_supply"\ntripped = ["T{ch}?"]', "tripped: nothing is known of {ch}"),
    ('query = "MV?"', 'query = "MV \u2013 ?"', "readings.voltage.query: there is '\u2013' in it|copied"), ('query = "MV?"', 'query = "MV\\n?"', "readings.voltage.query: there is '\\n' in it"),
    ('"V {value}"', '"V\u00a0{value}"', "settings.voltage.write: there is '\\xa0' in it"), ('"V {value}"', '""', "settings.voltage.write: does not say where the value goes"), ('query = "MV?"', 'query = " "', "readings.voltage.query: is nothing but spaces"),
    *(("output = false", f'output = false\n[quirks]\n{key} = "{end}"', f"quirks.{key}: '{end}' ends nothing") for key in ("terminator", "reply_terminator", "greeting") for end in ("", "\u2192")),
    ('query = "MV?"', 'query = "MV? {r}"\narguments = { r = { unit = "V", default = "\u2013" } }', "arguments.r: there is"),
    # words of which nobody could tell which they mean
    ('ask = "O?"', 'ask = "O?"\non = "1"\noff = ["0", "1"]', "settings.output.off: the same word says on"), ('class = "power_supply"', 'class = "power_supply"\nlimiting = { query = "M?", yes = "CC", no = ["CV", "cc"] }', "limiting.no: the same word says yes"),
    ("[readings.voltage]", '[settings.sense]\nwrite = "S {value}"\nask = "S?"\nwords = { local = "L", remote = "l" }\n[readings.voltage]', "settings.sense.words: 'l' stands for local and for remote"),
    ('ask = "O?"', 'ask = "O?"\non = "\u2014"\noff = "0"', "settings.output.on: there is"),
    ("[readings.voltage]", "[readings.volts]", "readings.volts: a power_supply has no reading 'volts'|Did you mean voltage?")])  # fmt: skip
def test_each_mistake_in_a_profile_is_told_with_its_line(tmp_path: Path, old: str, new: str, told: str) -> None:
    assert old in OWN and own(tmp_path, OWN)
    with pytest.raises(MistakeError) as error:
        own(tmp_path, OWN.replace(old, new, 1))
    for part in told.split("|"):
        assert part in str(error.value), str(error.value)
    assert "own.toml" in error.value.where


def test_all_mistakes_of_a_profile_are_told_at_once(tmp_path: Path) -> None:
    text = OWN.replace('"0 V"', '"0 A"').replace('ask = "I?"', "ask = 7").replace('query = "MV?"', 'qeury = "MV?"').replace("output = false", "outptu = false")
    with pytest.raises(MistakeError) as error:
        own(tmp_path, text)
    told = str(error.value)
    for place in ("own.toml:5: settings.voltage.range", "own.toml:8: settings.current_limit.ask", "readings.voltage.query: is missing", "own.toml:14: readings.voltage.qeury",
                  "own.toml:16: safe.outptu", "safe: nothing says that output is switched off"):  # fmt: skip
        assert place in told, (place, told)


def test_a_profile_extends_another_and_replaces_single_entries(tmp_path: Path) -> None:
    (tmp_path / "mine.toml").write_text('extends = "scpi-power-supply"\nwithout = ["settings.over_current"]\n[settings.voltage]\nrange = ["0 V", "12 V"]\n')
    base, mine = load_profile("scpi-power-supply", tmp_path), load_profile("mine.toml", tmp_path)
    assert mine.settings["voltage"].extent == (0.0, 12.0) and mine.settings["voltage"].write == base.settings["voltage"].write
    assert set(base.settings) - set(mine.settings) == {"over_current"} and mine.readings.keys() == base.readings.keys()
    assert mine.sha256 != base.sha256 and len(mine.files) == 2
    before = mine.sha256
    (tmp_path / "second.toml").write_text('extends = "mine.toml"\n[quirks]\nsettling = "1 s"\n')
    second = load_profile("second.toml", tmp_path)
    assert second.settling == 1.0 and second.settings["voltage"].extent == (0.0, 12.0)
    (tmp_path / "mine.toml").write_text((tmp_path / "mine.toml").read_text().replace("12 V", "11 V"))
    assert load_profile("second.toml", tmp_path).sha256 != second.sha256 and load_profile("mine.toml", tmp_path).sha256 != before


@pytest.mark.parametrize(("files", "told"), [
    ({"a": 'extends = "b.toml"', "b": 'extends = "a.toml"'}, "b.toml:1: extends|it goes round in a circle: a.toml, b.toml, a.toml"),
    ({"a": 'extends = "a.toml"'}, "it goes round in a circle: a.toml, a.toml"), ({"a": 'extends = "scpi-none"'}, "there is no profile 'scpi-none'"),
    ({"a": 'extends = "b.toml"'}, "b.toml: there is no such profile"), ({"a": 'extends = "scpi-power-supply"\nwithout = ["settings.volts"]'}, "without: there is no 'settings.volts'"),
    ({"a": 'extends = "scpi-power-supply"\n[settings.voltage]\nrange = ["0 A", "1 A"]'}, "a.toml:3: settings.voltage.range: '0 A' is a current"),
    ({"a": 'extends = "b.toml"', "b": 'class = "power_supply"\n[settings.voltage]\nwrite = "V"'}, "b.toml:3: settings.voltage.write")])  # fmt: skip
def test_what_is_wrong_with_extending_is_told_in_the_file_where_it_stands(tmp_path: Path, files: dict[str, str], told: str) -> None:
    for name, text in files.items():
        (tmp_path / f"{name}.toml").write_text(text + "\n")
    with pytest.raises(MistakeError) as error:
        load_profile("a.toml", tmp_path)
    for part in told.split("|"):
        assert part in str(error.value), str(error.value)


# --- classes -----------------------------------------------------------------------------------------------------------


def test_each_class_that_ships_is_whole() -> None:
    classes = instrument_classes()
    assert len(classes) == 24
    for name, known in classes.items():
        assert known.name == name and known.help and (known.settings or known.readings) and known.files == ()
        assert {"reset", "clear"} <= known.actions.keys() and (not known.levels or known.switch or name == "lcr_meter")
        for feature in (*known.settings.values(), *known.readings.values()):
            assert feature.help and feature.told


CLASS = 'help = "lights"\nswitch = "lit"\nlevels = ["level"]\n[settings]\nlit = { kind = "on_off", help = "h" }\nlevel = { unit = "lx", help = "h" }\n'


@pytest.mark.parametrize(("old", "new", "told"), [
    ('switch = "lit"', 'switch = "lid"', "switch: there is no setting 'lid' that is on or off|Did you mean lit?"), ('levels = ["level"]', 'levels = ["lit"]', "levels: there is no setting 'lit' with a unit"),
    ('unit = "lx"', 'unit = "lux"', "settings.level.unit"), ('unit = "lx", ', "", "settings.level: one of unit, kind and choices"), ('kind = "on_off"', 'kind = "switch"', "settings.lit.kind: there is no kind 'switch'"),
    ('unit = "lx"', 'choices = ["a", "a"]', "settings.level.choices: not some different words"), ('help = "lights"\n', "", "help: is missing"), ("[settings]", "[settings]\nBig = { unit = \"V\", help = \"h\" }", "settings.Big: 'Big' is no name"),
    ("[settings]", "products = { power = [\"level\"] }\n[settings]", "products: power: not two settings with units"), ("[settings]", "[readings]\nx = { kind = \"curve\", help = \"h\" }\n[settings]", "readings.x.kind: there is no kind 'curve'"),
    ("[settings]", "[readings]\nx = { kind = \"text\", over = { t = \"s\" }, help = \"h\" }\n[settings]", "readings.x.over: is for numbers"), ("[settings]", "[setings]", "setings: is not a key that is known here|Did you mean settings?")])  # fmt: skip
def test_each_mistake_in_a_class_is_told(tmp_path: Path, old: str, new: str, told: str) -> None:
    (tmp_path / "classes").mkdir()
    path = tmp_path / "classes" / "lamp.toml"
    path.write_text(CLASS)
    assert classes_around(tmp_path)["lamp"].files[0][0] == str(path)
    path.write_text(CLASS.replace(old, new, 1))
    with pytest.raises(MistakeError) as error:
        classes_around(tmp_path)["lamp"]
    for part in told.split("|"):
        assert part in str(error.value), str(error.value)


def test_a_class_of_ones_own_has_a_name_of_its_own_and_may_extend_another(tmp_path: Path) -> None:
    (tmp_path / "power_supply.toml").write_text(CLASS)
    with pytest.raises(MistakeError, match="a class power_supply ships with the tool"):
        Classes(tmp_path)
    (tmp_path / "power_supply.toml").rename(tmp_path / "lamp.toml")
    (tmp_path / "battery.toml").write_text('extends = "power_supply"\nhelp = "a battery"\n[settings]\ncharge = { unit = "Ah", help = "h" }\n')
    battery = Classes(tmp_path)["battery"]
    assert battery.switch == "output" and {"voltage", "charge"} <= battery.settings.keys() and battery.products


def test_a_profile_of_a_class_of_ones_own_changes_its_digest_with_the_class(tmp_path: Path) -> None:
    (tmp_path / "classes").mkdir()
    (tmp_path / "classes" / "lamp.toml").write_text(CLASS)
    (tmp_path / "p.toml").write_text('class = "lamp"\n[settings.lit]\nwrite = "L {value}"\nask = "L?"\n[safe]\nlit = false\n')
    first = load_profile("p.toml", tmp_path).sha256
    (tmp_path / "classes" / "lamp.toml").write_text(CLASS + "# what it promises may be another thing now\n")
    assert load_profile("p.toml", tmp_path).sha256 != first
