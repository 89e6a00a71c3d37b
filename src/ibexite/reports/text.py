"""The report as plain lines of at most 100 characters where its texts allow, for mail and print."""

from __future__ import annotations

from collections.abc import Iterator

from ibexite.reports.model import DataTable, Report, ResultLine, TestPart


def render(report: Report) -> str:
    """The text."""
    return "\n".join(_lines(report)) + "\n"


def _lines(report: Report) -> Iterator[str]:
    run = report.run
    yield f"{report.verdict_text}   unit {run['serial']}   {run['sequence']}" + _behind(", revision ", run["revision"])
    yield from (f"  a trial, because: {reason}" for reason in report.trial_reasons)
    yield from (f"  to do: {remedy}" for remedy in report.trial_remedies)
    if run["reason"]:
        yield f"  {run['reason']}"
    yield ""
    for name, value in (
        ("product", run["product"]), ("bench", run["bench"]), ("lot", run["lot"]), ("operator", run["operator"]),
        ("started", report.started), ("duration", report.duration), ("run", run["id"]),
        ("completes", _behind("run ", run["retest_of"])), ("station", f"{run['station']}, {report.software}"),
    ):  # fmt: skip
        if value:
            yield f"{name:<10} {value}"
    for test in report.tests:
        yield from _test(test)
    if report.not_run:
        yield from ("", "Not run", *(f"  {title}: {reason}" for title, reason in report.not_run))
    if run["params"]:
        hand = {param["name"]: "   set by hand" if param["by_hand"] else "" for param in run["params"]}
        yield from ("", "Parameters", *(f"  {p['name']} = {p['value']}{hand[p['name']]}" for p in run["params"]))
    if run["instruments"]:
        yield from ("", "Instruments")
        yield from (f"  {i['name']:<8} {i['identity']}   {i['address']}   calibrated until {i['due'] or 'not stated'}"
                    for i in run["instruments"])  # fmt: skip
    if run["signals"]:
        yield from ("", "Signals")
        for item in run["signals"]:
            told = (
                item["read"],
                item["conversion"],
                _behind("accuracy ", item["accuracy"]),
                _behind("calibrated until ", item["due"]),
            )
            yield f"  {item['name']:<8} {'   '.join(part for part in told if part)}"
    if report.files:
        yield from ("", "Attached", *(f"  {file['name']}   {file['path'] or 'not kept'}" for file in report.files))
    if run["remarks"]:
        answers = (f"  {r['text']}{_behind('   ', r.get('answer', ''))}" for r in run["remarks"])
        yield from ("", "Remarks", *answers)


def _test(test: TestPart) -> Iterator[str]:
    row = test.row
    if row["verdict"] == "skipped":
        return
    yield ""
    yield f"{row['verdict'].upper():<7} {row['title']} ({row['name']})   {row['time']}" + _behind(
        "   from run ", row["run"]
    )
    if row["reason"]:
        yield f"    {row['reason']}"
    yield from (f"    attempt {number}: {told}" for number, told in enumerate(test.attempts, 1))
    for result in test.results:
        yield from _result(result)
    for name, value in test.values:
        yield f"    value  {name} = {value}"
    yield from map(_table, test.tables)
    yield from (f"    photo  {photo.title}" for photo in test.photos)
    for name, count in test.holes:
        yield f"    never measured: {name} at {count}"
    for name, place, reason, raw in test.bad_readings:
        yield f"    bad    {name}{_behind(' at ', place)}: {reason}{_behind(', reply ', raw)}"


def _result(result: ResultLine) -> Iterator[str]:
    text = result.text
    margin = _behind("margin ", text.margin_with_unit)
    yield "   " + "   ".join(
        filter(None, (f" {result.verdict:<6} {result.label}", text.value_with_unit, text.limits, margin))
    )
    told = "; ".join(filter(None, (result.place, result.points, result.reason, result.rule)))
    if told:
        yield f"           {told}"
    yield from (f"           {kind:<13} {text}" for kind, text in result.differences)


def _table(table: DataTable) -> str:
    return f"    data   {table.title}"


def _behind(word: str, text: str) -> str:
    return f"{word}{text}" if text else ""
