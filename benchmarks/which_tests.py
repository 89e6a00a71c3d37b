"""A plugin for pytest under `coverage`: writes down which test runs which lines, in programs that it starts as well,
and how long each test takes. `mutants` asks with it only the tests that can notice a mutant, the quick ones first."""

import json
import os
from pathlib import Path

import coverage
import pytest

TEST, DURATIONS = "IBEXITE_TEST", "IBEXITE_DURATIONS"  # environment: the test that runs; where durations go
CONFIG = """[run]
source_pkgs = ibexite
parallel = true
patch = _exit
context = ${{IBEXITE_TEST-}}
data_file = {data}
disable_warnings = no-data-collected, module-not-measured, couldnt-parse, already-imported, module-not-imported
"""
_durations: dict[str, float] = {}


def pytest_runtest_logstart(nodeid: str) -> None:
    """From here on lines belong to this test."""
    os.environ[TEST] = nodeid
    current = coverage.Coverage.current()
    if current is not None:
        current.switch_context(nodeid)


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    """Set-up, test and tear-down count together."""
    _durations[report.nodeid] = _durations.get(report.nodeid, 0.0) + report.duration


def pytest_sessionfinish() -> None:
    """The controller has seen all reports."""
    if "PYTEST_XDIST_WORKER" not in os.environ:
        Path(os.environ[DURATIONS]).write_text(json.dumps(_durations))
