"""The report: one file, the verdict first, every number with its limit, the same run gives the same bytes."""

import math
import re
import shutil
from html.parser import HTMLParser
from pathlib import Path

import pytest

from ibexite.errors import MistakeError
from ibexite.exports import formats as exports
from ibexite.records.gateway import open_lookup
from ibexite.records.stored_run import RunRecord
from ibexite.reports import figure_specs, text
from ibexite.reports.drawing import draw
from ibexite.reports.figure_specs import pictures_of
from ibexite.reports.formats import FORMATS, write_report
from ibexite.reports.gathering import gather
from ibexite.reports.html import render
from tests.conftest import GOOD, SHORT, WEAK


class Page(HTMLParser):
    """The text of a page and everything it would fetch."""

    def __init__(self, html: str) -> None:
        super().__init__()
        self.words: list[str] = []
        self.fetched: list[str] = []
        self._hidden = 0
        self.feed(html)

    def handle_starttag(self, tag: str, attrs: list) -> None:
        self._hidden += tag in ("style", "script")
        self.fetched += [value for name, value in attrs if name in ("src", "href") and not value.startswith("#")]

    def handle_endtag(self, tag: str) -> None:
        self._hidden -= tag in ("style", "script")

    def handle_data(self, data: str) -> None:
        if not self._hidden:
            self.words += data.split()

    @property
    def text(self) -> str:
        return " ".join(self.words)


@pytest.fixture(scope="module")
def records(tmp_path_factory) -> Path:
    """A store with a run of a weak and of a shorted unit."""
    from ibexite.demo.project import make_project
    from ibexite.engine.orders import Orders
    from ibexite.engine.services import Consenting
    from ibexite.station.opening import open_to_run
    from ibexite.station.service import RunService, UnitOrders
    from ibexite.stop import Stop

    folder = tmp_path_factory.mktemp("project")
    make_project(folder)
    ready = open_to_run(folder / "fm2_final.ibx", None, {})
    service = RunService(ready.project.records)
    for serial in (WEAK, SHORT):
        orders = UnitOrders(ready.program, ready.bench, serial, operator="demo", orders=Orders(is_simulated=True))
        service.start(orders, (), Consenting(), Stop()).wait()
    return ready.project.records


def record(records: Path, serial: str) -> RunRecord:
    lookup = open_lookup(records)
    return lookup.run(lookup.find(serial))


def test_the_verdict_comes_first_then_what_failed_and_by_how_much(records: Path) -> None:
    page = Page(render(gather(record(records, WEAK))))
    assert page.fetched == []
    places = [page.text.index(part) for part in (
        "FAIL (trial)", f"unit {WEAK}", "A trial, because: simulated bench", "What did not pass", "p_loss", "Tests", "Parameters",
        "Instruments", "K-1187")]  # fmt: skip
    assert places == sorted(places)
    assert re.search(r"p_loss was \d+\.\d mW, the limit is <= 780 mW; margin -\d+\.\d mW at vin = 6\.5 V", page.text)
    assert "2027-05-01" in page.text and "Firnline,PS-36,SIMULATED-psu" in page.text


def test_each_judged_value_has_its_limits_margin_and_place(records: Path) -> None:
    data = gather(record(records, WEAK))
    results = {r.label: r for test in data.tests for r in test.results}
    assert (results["rail_3v3"].text.low, results["rail_3v3"].text.high, results["rail_3v3"].text.unit) == ("3.245", "3.355", "V")
    assert results["p_loss"].verdict == "fail" and results["p_loss"].text.margin.startswith("-")
    assert results["eff"].points == "0 of 28 failed"
    for result in results.values():
        value, low, high = result.text.value, result.text.low, result.text.high
        assert all("." not in t or t[-1] != "0" for t in (low, high)), "superfluous zeros"
        assert (not low or float(low) <= float(value)) == (not high or float(value) <= float(high)) == (result.verdict == "pass") or (
            result.verdict == "fail" and (float(value) < float(low or "-inf") or float(value) > float(high or "inf")))  # fmt: skip


def test_figures_have_limits_where_they_were_judged_and_marks_where_it_failed(records: Path) -> None:
    gathered = [f for test in gather(record(records, WEAK)).tests for f in test.figures]
    figures = {figure.title: "".join(map(draw, figure.pictures)) for figure in gathered}
    assert list(figures) == ["v_out against iload", "eff against iload", "p_loss against iload"]
    loss, efficiency = figures["p_loss against iload"], figures["eff against iload"]
    assert "upper limit 780" in loss and re.search(r"failed \(\d+\)", loss)
    assert "lower limit 81" in efficiency and "failed (" not in efficiency
    assert "upper limit" not in figures["v_out against iload"]


def test_in_a_figure_of_two_curves_each_limit_says_whose_it_is(records: Path) -> None:
    test = next(test for test in record(records, WEAK).tests if test.figures and "eff" in test.figures[0]["ys"])
    (both,) = pictures_of(test, {**test.figures[0], "ys": ["eff", "p_loss"]})
    assert [[limit.text for limit in panel.limits if limit.text] for panel in both.panels] == [
        ["lower limit of eff 81"], ["upper limit of p_loss 780"]]  # fmt: skip
    assert both.panels[0].label == "eff in %" and both.panels[1].label == "p_loss in mW" and len(draw(both)) > 1000
    assert pictures_of(test, {**test.figures[0], "ys": ["eff", "p_loss", "nobody"]})[0].panels[1].failing[0].label.startswith("failed (")


def test_a_figure_says_where_only_the_first_points_were_kept(records: Path, monkeypatch) -> None:
    test = next(test for test in record(records, WEAK).tests if test.figures and "p_loss" in test.figures[-1]["ys"])
    result = next(r for r in test.results if r["subject"] == "p_loss")
    result["failed"] = 1234
    result["limits"] = [[6.5, 0.03, None, 0.7], [6.5, 0.06, None, 0.8]]
    monkeypatch.setattr(figure_specs, "MOST_LIMITS", 2)
    picture = "".join(map(draw, pictures_of(test, test.figures[-1])))
    assert "failed (1234)," in picture and f"first {len(result['failing'])} marked" in picture and "upper limit (first 2 points)" in picture


def test_what_was_not_run_is_said(records: Path) -> None:
    page = Page(render(gather(record(records, SHORT)))).text
    assert "Not run" in page and "Efficiency over input and load: gate alive did not pass" in page
    summary = page[page.index("What did not pass") : page.index("product")]
    assert "Board is alive: idle current taken while a source was at its limit (supply)" in summary


def test_of_each_signal_it_is_told_where_it_is_read_and_how_exact_it_is(records: Path, tmp_path: Path) -> None:
    run = record(records, WEAK)
    signal = next(one for one in run.row["signals"] if one["name"] == "i_in")
    assert signal["read"] == "meter.dc_voltage, channel 102" and signal["conversion"] == "shunt 100.12 mohm" and signal["unit"] == "A"
    run.row["signals"] = [signal | {"accuracy": "0.2 % + 100 uA", "due": "2027-05-01"}]
    for name in ("r.html", "r.txt"):
        write_report(run, tmp_path / name)
        text = (tmp_path / name).read_text()
        page = Page(text).text if name.endswith("html") else text
        assert all(part in page for part in ("channel 102", "shunt 100.12 mohm", "0.2 % + 100 uA", "2027-05-01"))


def test_the_same_run_gives_the_same_bytes(records: Path, tmp_path: Path) -> None:
    shutil.copytree(records, tmp_path / "copy")
    assert render(gather(record(records, WEAK))) == render(gather(record(tmp_path / "copy", WEAK)))


def test_words_from_outside_cannot_change_the_page(records: Path) -> None:
    run = record(records, WEAK)
    run.row["operator"] = "<script>alert(1)</script>"
    assert "<script>" not in render(gather(run))


def test_every_format_of_a_report_shows_what_counts(records: Path, tmp_path: Path) -> None:
    run = record(records, WEAK)
    told = {run.verdict_text, WEAK, *(r["label"] for t in run.parts for r in t.results), *(t.row["title"] for t in run.tests), run.row["id"]}
    for name, known in FORMATS.items():
        path = tmp_path / f"report{known.suffixes[0]}"
        write_report(run, path)
        page = path.read_text()
        page = Page(page).text if name == "html" else page
        assert {word for word in told if word not in page} == set(), name
    lines = text.render(gather(run)).splitlines()
    (loss,) = [line for line in lines if "p_loss" in line and "fail" in line]
    assert "<= 780 mW" in loss and "margin -" in loss
    with pytest.raises(MistakeError, match="no name for a report"):
        write_report(run, tmp_path / "report.pdf")


def test_every_format_of_an_export_holds_all_numbers(records: Path, tmp_path: Path) -> None:
    run = record(records, WEAK)
    run.parts[0].results[0]["percent"] = math.inf  # a tolerance next to nothing
    numbers = {repr(value) for test in run.tests for grid in test.grids for values in grid.data for value in values if value == value}
    for name, known in exports.FORMATS.items():
        if not known.is_whole:
            continue
        written = exports.export(run, name, tmp_path / name)
        assert all(path.suffix == known.suffix for path in written)
        found = set(re.findall(r"-?[0-9][0-9.e+-]*", " ".join(path.read_text() for path in written)))
        assert numbers <= found, (name, sorted(numbers - found)[:5])


def test_no_half_report_is_left_and_the_run_stays(ibexite, project: Path) -> None:
    (project / "in_the_way").write_text("")
    assert ibexite("run", "fm2_final.ibx", "--serial", GOOD, "--simulate", "--yes", "--no-report").returncode == 5
    done = ibexite("report", "last", "--out", "in_the_way/r.html")
    assert done.returncode == 3 and "the report cannot be written" in done.stderr
    done = ibexite("export", "last", "--to", "csv", "--out", "in_the_way/x")
    assert done.returncode == 3 and "Name another folder with --out." in done.stderr
    assert ibexite("show", "last").returncode == 0
