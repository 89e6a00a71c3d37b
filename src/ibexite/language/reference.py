"""The reference of the language as data: what each line does, with an example. `ibexite explain` shows it, and
docs/reference.md is made from it. The forms of the lines are in words.py, the functions in ibexite.functions."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Entry:
    """What a line does, in a few sentences, and an example."""

    text: str
    example: str


VERBS = {
    "set": Entry(
        "Sends settings, in the order written. All values of the line are compared with ceilings and ranges before its "
        "first byte; one that is beyond, or no number, is an error, and nothing is sent. `verified` reads each setting "
        "back and compares it to within 0.1 % and a ten-thousandth of its range.",
        "set supply.current_limit = 1.2 A, supply.voltage = 9 V verified",
    ),
    "read": Entry(
        "Takes readings of signals or of roles. `together` starts all instruments before waiting for any: one open "
        "query "
        "an instrument, channels of one scanner as one scan. The arguments of a "
        "reading are known before the run. `averaging N` takes the mean of so many; `tries N` how "
        "often "
        "in all a bad reading is taken (3); `settled T` reads until two in a row agree to within T. A bad reading "
        "is an "
        "overload, an empty reply, no number, or beyond what the signal can believe; it becomes a hole with its "
        "reason. "
        "`query` asks a raw query, where the bench file says raw = true.",
        "read v_in, i_in, v_out, i_out together averaging 4",
    ),
    "play": Entry(
        "Plays a declared stimulus on a role with a memory for waves, and captures signals meanwhile: name.signal is "
        "the record of each, over time from the begin of the stimulus. It begins by a hardware trigger where the bench "
        "says so, else the marker of the stimulus is looked for in the first signal, or in that of `marker in`; not "
        "found is an error. `again while` plays it once more, so often at most, and name.repeats tells how often. "
        "Before and behind it the output is off.",
        "play ping on generator capturing mic, v_drive as rec again while level_of(rec.mic, ping.silence) > 62 dBSPL "
        "at most 3 times",
    ),
    "record": Entry(
        "Records signals while the lines of its block run, and keeps them on the disk as they come: for as long as it "
        "takes, without filling the memory. Behind the block name.signal is the curve of each, over the time since the "
        "recording began. Signals of a digitizer that streams are sampled evenly, all by one instrument; others are "
        "polled between the lines and during waits, each row at its own time. What is missing is known: a sample that "
        "the instrument lost, or a poll that came too late, is a bad value at its time, and is told.",
        "record trace : i_in, v_in every 20 us",
    ),
    "connect": Entry(
        "Connects routes over the relays of the bench. What excludes one of them is looked at before the first relay "
        "moves; relays open before others close; each is asked whether it did, and has its settling time. Between "
        "tests routes are set back like all else, and at the end everything is opened.",
        "connect fixture, tap_out",
    ),
    "disconnect": Entry(
        "Disconnects routes. A relay that another connected route needs stays closed.", "disconnect tap_out"
    ),
    "do": Entry(
        "Carries out an action of the role's class: reset, clear, zero, trigger. Afterwards the settings that the "
        "engine "
        "knows of the instrument are asked back.",
        "do meter.zero",
    ),
    "let": Entry(
        "Computes a result. Inside a loop it is a column. `in unit` chooses how it is shown. A formula with a hole "
        "is a hole.",
        "let eff = (v_out * i_out) / (v_in * i_in) in %",
    ),
    "check": Entry(
        "Judges a value, or each point of a curve; one result a line, its worst point. Limits are inclusive, compared "
        "unrounded, and may be formulas and curves. Without a criterion they come from the limit table. Clauses, in "
        "this "
        "order: `where` chooses points; `guarded by` moves the limits inwards by the uncertainty of the measurement; "
        "`allowing N bad` lets so many bad values pass, and says so; `as` gives it a name. A point that was never "
        "measured "
        "is not judged; a check that judges nothing is an error.",
        'check eff >= eff_floor where iload >= 140 mA guarded by 0.4 % as "efficiency"',
    ),
    "wait": Entry(
        "Waits for a time, counted from when the settings before it were carried out. `wait reading` reads again "
        "and again "
        "until the condition holds so many times in a row; what it reads is logged over `waited` (s), but becomes "
        "no name "
        "of the test. A time-out is an error. `drift(x)` in the condition is the change of x per second over the last "
        "readings (5, or as many as must agree).",
        "wait reading t_board every 2 s until t_board within 31 degC +/- 1 degC for 4 readings timeout 25 min",
    ),
    "watch": Entry(
        "Observes a signal while the lines of its block run: at its beginning, between the lines, during waits, and "
        "at the "
        "end, at most every so often. Passing a limit fails the test at once, and so does a reading that stays bad, "
        "for what cannot be seen cannot be watched (`allowing N bad in a row` loosens that); with `else stop` it ends "
        "the unit's tests.",
        "watch i_in between 0 A and 1.3 A every 100 ms",
    ),
    "sweep": Entry(
        "Runs its block for each value. Points are computed as decimals; both ends are included, a joint once. "
        "Downwards "
        "works the same. A step that does not fit is an error that names the nearest ends. Values may be listed (also "
        "texts, and on, off), or come from a column of a CSV file or workbook. `refine` adds points where a column "
        "bends, "
        "or comes near its limit, until there are so many. Inside a name is the value at this point, afterwards the "
        "curve.",
        "sweep freq from 2 kHz to 80 kHz at 8 per decade refine where gain bends at most 60 points",
    ),
    "repeat": Entry(
        "Runs its block again and again and logs like a sweep: `name` counts from 1, `name_elapsed` is the time "
        "since the "
        "first turn. Turns begin at 0, T, 2T … as long as the time is not over, both ends included. A turn that takes "
        "longer than `every` delays the next; what was missed is not made up for. With "
        "`until` the condition is looked at after each turn, and a time-out is an error.",
        "repeat scan 6 times every 5 s",
    ),
    "search": Entry(
        "Finds the first value at which a condition holds, to a resolution: walks from a in coarse steps (a twelfth "
        "of the "
        "way, or `step`), then halves between the last value where it did not hold and the first where it did, "
        "never past "
        "that one. `by halving` starts with both ends, where the way does not matter. Afterwards the name is that "
        "value. "
        "Never true, or true at once, gives a bound (below 4 V), which a limit may still decide.",
        "search vin from 9 V to 4 V resolution 20 mV until v_out < 4.75 V",
    ),
    "leave": Entry(
        "Ends the innermost sweep or repeat; the turn that was begun is recorded as far as it came.",
        'leave "the output has collapsed"',
    ),
    "if": Entry(
        "Carries out its block if the condition holds. A condition on a bad value is an error: nobody knows. What a "
        "branch "
        "that was not taken would have read was never measured: no bad value, but not judged either.",
        'if variant == "A"',
    ),
    "else": Entry("Carries out its block if no condition above it held.", "else if v_out > 3 V"),
    "measure": Entry(
        "Runs a reusable measurement. Roles and signals are bound by name, those of the same name by themselves; "
        "inputs "
        "that are not given keep their defaults. Its outputs are then `name.output`.",
        "measure cutoff(source = generator, tap = v_filter, f_high = 90 kHz) as lp",
    ),
    "call": Entry(
        "Runs a program beside the sequence: the values as one JSON object on its standard input, one JSON object "
        "with the "
        "results on its standard output, numbers in base SI units. Python files are run by the Python of Ibexite. "
        "If it "
        "fails, hangs, floods its output or gives something else, the test is an error. "
        "A table is lists of cells by column, with units in their heads (delay in us); connections are lists of pins, "
        "one for each net; a picture is the name of a PNG or JPEG file beside the sequence. These are recorded and "
        "shown, and a check compares tables and connections: check a == b.",
        'call "link_stress.py" with delay = 5 us gives errors as number, locked as yes_no timeout 20 s',
    ),
    "send": Entry(
        "Sends a raw command, where the bench file says raw = true for the role. Afterwards its settings are asked "
        "back.",
        "send supply \"DISP:TEXT '{serial}'\"",
    ),
    "expect": Entry(
        "In this test sources may limit; else a source that limited fails the test, for its set points were not true.",
        "expect limiting",
    ),
    "show": Entry("Shows a text to the operator; `{name}` is replaced by the value.", 'show "Output at {v_out}"'),
    "note": Entry("Puts a text into the report.", 'note "Measured with the lid open, {t_board}."'),
    "attach": Entry("Puts a copy of a file beside the sequence into the records.", 'attach "setup_{serial}.png"'),
    "golden": Entry(
        "`golden save` makes values of this unit a reference of the project, once the run has ended and nothing of the "
        'unit has failed; the run is a trial. In limits `golden("name")` is the value of a reference, '
        '`golden("name.value")` where it has several. A check by a reference that was measured under other settings '
        "or parameters is an error.",
        'golden save s21 as "antenna_lead"',
    ),
    "tone": Entry("Sounds a tone for the operator.", "tone good"),
    "ask": Entry(
        "Asks the operator: to confirm, to press a button (Enter, or that of the bench), yes or no, one of several "
        "choices, a text, a number; "
        "`adjust` "
        "shows the live value until it lies within its limits. Without anybody to ask, the run ends at once.",
        'ask look = yes_no "Is the lamp lit?" picture "lamp.png"',
    ),
    "plot": Entry(
        "Puts a figure into the report: curves against an axis, or against another column of the same table, one "
        "curve for each value of `by`. The limits of the checks on them are drawn where they were judged, interrupted "
        "where points beyond them were not (`where`); failing points are marked. Curves of a second unit have their "
        "axis on the right. A complex curve is drawn as its size and below it its phase, and so is a phase beside "
        "anything else over a frequency; over an angle curves go around a circle; a family of more than 40 is a map. "
        "Frequencies are drawn logarithmically where the points lie so. Of what was played judged parts are marked.",
        'plot eff, p_loss against iload by vin as "Efficiency"',
    ),
    "skip": Entry(
        "Leaves this test; it counts as skipped, unless a check in it failed before.", 'skip "no heater fitted"'
    ),
    "stop": Entry("Ends the tests of this unit; the rest is skipped, and the run is a trial.", 'stop "wrong variant"'),
}
DECLARATIONS = {
    "sequence": Entry(
        "The head of a file: product, revision, serial (a regular expression for the whole serial number), limits "
        "(a limit "
        "table), tags.",
        'sequence "FM-2 control board, final test"',
    ),
    "needs": Entry(
        "The roles with their instrument class, and the signals with their unit. With them alone a sequence can be "
        "vetted "
        "without a bench. In a measurement: what the caller binds.",
        "needs",
    ),
    "params": Entry(
        "Parameters: default with unit, choices (`of`) or bounds (`between … and`), help. They may be set from "
        "outside.",
        "params",
    ),
    "constants": Entry("Values with units that nobody can set from outside.", "constants"),
    "use": Entry(
        "Brings the constants and measurements of a shared file, or the functions and measurements of a Python file.",
        'use "shared.ibx"',
    ),
    "before": Entry(
        "`before unit` prepares every unit; the state it leaves is that in which every test starts. If it fails no "
        "test "
        "runs. `before lot` comes before it, for the first unit of a lot.",
        "before unit",
    ),
    "after": Entry(
        "`after unit` is carried out whatever happened, each line tried; then the safe state. `after lot` after the "
        "last "
        "unit of a lot.",
        "after unit",
    ),
    "test": Entry(
        "A test. `gate`: unless it passes, the tests behind it are skipped. `off`: switched off, the run is a "
        "trial. `tags` "
        "to select it by. `if`: run only where a condition holds. `needs pass of`: skipped unless that test passed. "
        "`keeps "
        "state`: begins with the state that the test before it left.",
        'test warm "Output when warm" tags full if variant == "A"',
    ),
    "group": Entry(
        "Tests that belong together; with `over` they are run for each value (corners).",
        'group hot "Over temperature" over temp = -20 degC, 25 degC, 60 degC',
    ),
    "stimulus": Entry(
        "A signal that is played into a product, part by part: `rate`, then a line for each `part` (marker, noise, "
        "silence, stepped, chirp, tones, burst, file), with its band, its time or cycles and its `level` (RMS) or "
        "`peak`. What only prepares is `unjudged`. Parts of one name belong together, and are called by it in "
        "formulas: response(rec.mic, ping.stepped). `shaped by` makes a source flat by its own measured response.",
        'stimulus ping "Response, band by band"',
    ),
    "measurement": Entry(
        "A reusable measurement: `needs`, `inputs` (like params), `outputs` (with unit, for a curve with its axes), "
        "then "
        "its lines. It runs in sequences (`measure`) and alone (`ibexite measure`).",
        'measurement cutoff "Cut-off of a low-pass filter"',
    ),
}


# Words that stand within lines, and keys of files; `ibexite explain` knows them too.
CLAUSES = {
    "where": Entry(
        "Chooses the points that a check judges. Where nobody can say whether it holds, the point counts as bad.",
        "check eff >= 81 % where iload >= 600 mA",
    ),
    "guarded": Entry(
        "`guarded by t` moves both limits inwards by the expanded uncertainty (k = 2) of the measurement; "
        "`guarded by accuracy` by what the accuracies of its signals come to through all formulas. `risk 1 %` behind "
        "it moves them only so far that a value that is accepted is beyond its limit with such a probability at most. "
        "With `or undecided` a value fails only beyond the uncertainty, and is undecided (an error) between. The rule "
        "and the probability that the verdict is wrong are told.",
        "check rail within 3.3 V +/- 2 % guarded by 4 mV",
    ),
    "uncertain": Entry(
        "`uncertain by t` judges by the limits as they are (simple acceptance) and tells the probability that the "
        "verdict is wrong; t is the expanded uncertainty (k = 2), or `accuracy`.",
        "check rail within 3.3 V +/- 2 % uncertain by 4 mV",
    ),
    "inside": Entry(
        '`inside mask("name")` judges a curve by the lines of a file of the project, masks/name.csv, along its axis; '
        "beside its pieces nothing is judged. What is judged must have been measured from end to end of each piece, "
        "unless the file says that a part is enough.",
        'check response inside mask("response")',
    ),
    "aligned": Entry(
        "`aligned by t` moves both limits up or down by at most so much (or by a factor, in %), as they fit best: so "
        "that the worst point is as far from its limits as it can be. `along axis` moves a mask along its axis. Both "
        "may stand in one line, each once. The result says by how much they were moved.",
        'check response inside mask("response") aligned by 3 dB aligned by 2 % along freq',
    ),
    "same": Entry(
        "`same as` compares connections, tables and texts with others, a known good unit as a rule, and lists what is "
        "missing, extra, swapped, reversed, changed beyond a tolerance, or comes and goes. `+/- 5 %` and "
        "`+/- 200 mohm` say how far values may be apart; of two that hold for one value the larger counts.",
        'check wires same as golden("sensor_lead") +/- 10 % +/- 200 mohm',
    ),
    "older": Entry(
        "`not older than t`: a check by a reference that was measured longer ago is an error.",
        'check s21 within golden("antenna_lead") +/- 0.3 dB not older than 24 h',
    ),
    "allowing": Entry(
        "`allowing N bad` lets a check pass although so many values are bad; values that were left out of a statistic "
        "count. In a watch `allowing N bad in a row` lets so many bad readings follow one another.",
        "check gain >= 20 dB allowing 2 bad",
    ),
    "gate": Entry(
        "A clause of a test: unless it passes, the tests behind it are skipped; also if it was skipped itself.",
        'test alive "Board is alive" gate',
    ),
    "off": Entry("A clause of a test or group that is switched off: the run is a trial.", 'test slow "Slow" off'),
    "keeps": Entry(
        "`keeps state`: the test begins with the state that the test before it left, and is tied to that one.",
        'test held "Held" keeps state',
    ),
    "pass": Entry(
        "`needs pass of NAME`: unless that test passed, this one is skipped. Of a test with corners all must have "
        "passed; within the same group that of the same corner.",
        'test link "Link" needs pass of dropout',
    ),
    "averaging": Entry(
        "Takes the mean of so many readings: of levels that of their powers, of angles their direction. If one of "
        "them stays bad the mean is bad.",
        "read v_out averaging 8",
    ),
    "settled": Entry("Reads until two good readings in a row agree to within so much.", "read i_in settled 2 mA"),
    "tries": Entry("How often in all a bad reading is taken; 3 without it.", "read skirt = v_filter tries 1"),
    "together": Entry("Starts all instruments of the line before it waits for any.", "read v_in, i_in together"),
    "verified": Entry("Reads each setting of the line back and compares it.", "set supply.voltage = 9 V verified"),
    "drift": Entry(
        "`drift(x)` in the condition of `wait reading`: the change per second over the last readings, a hole while "
        "they are too few.",
        "wait reading t_mast every 15 s until abs(drift(t_mast)) < 4 mK/s timeout 40 min",
    ),
    "every": Entry(
        "The time between two turns or readings. Turns begin at 0, T, 2T … as long as the time is not over, both ends "
        "included: `for 200 ms every 50 ms` makes five.",
        "repeat scan for 200 ms every 50 ms",
    ),
    "timeout": Entry("How long it may take; over it is an error.", "wait reading t until t > 30 degC"),
    "refine": Entry(
        "Adds points where a column bends, or near its limit, up to so many in all.",
        "sweep freq from 37 kHz to 44 kHz in 10 points refine where g bends at most 28 points",
    ),
    "along": Entry("Names the axis that a function takes away or works along.", "let best = max(eff along iload)"),
    "resolution": Entry(
        "Of a search: how near the value that is found lies to the true one. In a profile: how finely a setting is "
        "answered, so that its rounding is no difference.",
        "search vin from 9 V to 4 V resolution 20 mV until v_out < 4.85 V",
    ),
    "halving": Entry("`by halving`: a search that halves from its ends, where the way does not matter.", "by halving"),
    "tags": Entry("Words by which tests are chosen: --tag.", 'test rails "Rails" tags quick, dc'),
}
