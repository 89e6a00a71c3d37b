"""The documents say what is true: their sequences vet, their pictures exist, what they name is there."""

import re
import shlex
import subprocess
from pathlib import Path

import pytest

from ibexite import units
from ibexite.bench.file import read_bench
from ibexite.classes import instrument_classes
from ibexite.cli import class_pages
from ibexite.cli.explain import reference_page
from ibexite.cli.main import COMMANDS
from ibexite.engine.bench_facts import bench_facts
from ibexite.functions import FUNCTIONS
from ibexite.instruments.open_link import MAKERS
from ibexite.language import words
from ibexite.language.check import vet
from ibexite.language.facts import vet_against
from ibexite.language.source import Source
from ibexite.units.symbols import LINEAR
from ibexite.verdicts import describe

ROOT = Path(__file__).parents[1]
DOCS = ROOT / "docs"
PAGES = [ROOT / "README.md", *sorted(DOCS.rglob("*.md"))]


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_and_pictures_exist(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
        assert (page.parent / target).exists(), target


def test_every_kind_of_link_has_its_page_with_five_steps() -> None:
    overview = (DOCS / "links" / "README.md").read_text()
    pages = [page for page in (DOCS / "links").glob("*.md") if page.name != "README.md"]
    assert len(pages) == len(MAKERS) and all(f"({page.name})" in overview for page in pages)
    for page in pages:
        assert re.findall(r"^(\d)\. ", page.read_text(), re.MULTILINE) == list("12345"), page.name


def test_every_picture_is_linked_from_the_readme() -> None:
    pictures = sorted((DOCS / "screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    for picture in pictures:
        assert picture.name in (ROOT / "README.md").read_text()


def test_the_page_of_the_verdicts_is_what_the_code_says() -> None:
    page = (DOCS / "verdicts.md").read_text()
    assert page.endswith(describe()) and "| pass | yes | 5 |" in page and "| error | yes or no | 3 |" in page


def test_what_the_tutorial_says_of_references_and_replays_is_so(project: Path, ibexite) -> None:
    text = (DOCS / "tutorial.md").read_text()
    sequence = next(block for block in re.findall(r"```\w*\n(.*?)```", text, re.DOTALL) if block.startswith("sequence"))
    (project / "rails.ibx").write_text(sequence)
    commands = [shlex.split(line)[1:] for line in re.findall(r"^ibexite .*", text, re.MULTILINE)]
    done = {}
    for arguments in commands[commands.index(["run", "rails.ibx", "--serial", "FC00400", "--simulate"]) :]:
        done[" ".join(arguments[:3])] = ibexite(*arguments, input="rail_3v3\nc\n")
        if arguments[:2] == ["golden", "save"]:
            (project / "rails.ibx").write_text(sequence.replace("within 3.3 V +/- 2 %", 'within golden("rail") +/- 20 mV'))
    codes = {words: ran.returncode for words, ran in done.items()}
    assert codes["golden save FC00400"] == codes["golden show rail"] == codes["golden approve rail"] == codes["rejudge FC00400 FC00505"] == 0
    assert codes["run rails.ibx --serial"] == codes["replay FC00505"] == codes["replay FC00505 --break"] == 1
    assert "as it was recorded" in done["replay FC00505"].stdout and "halt>" in done["replay FC00505 --break"].stdout
    (project / "rails.ibx").write_text((project / "rails.ibx").read_text().replace("9 V", "10 V"))
    apart = ibexite("run", "rails.ibx", "--serial", "FC00505", "--simulate")
    assert apart.returncode == 3 and "supply.voltage is 10 V, was 9 V" in apart.stdout


def test_the_sequence_of_the_tutorial_vets_and_its_report_is_exact(project: Path) -> None:
    blocks = re.findall(r"```\w*\n(.*?)```", (DOCS / "tutorial.md").read_text(), re.DOTALL)
    sequence = next(block for block in blocks if block.startswith("sequence"))
    facts = bench_facts(read_bench(project / "bench.toml"))

    def reported(text: str) -> list[str]:
        source = Source("rails.ibx", text)
        vet_against(vet(source), facts)
        return [source.render(finding) + "\n" for finding in source.sorted_findings()]

    assert reported(sequence) == []
    assert reported(sequence.replace("9 V", "9 A")) == [next(b for b in blocks if b.startswith("rails.ibx:"))]
    assert "beyond the ceiling" in reported(sequence.replace("9 V", "19 V"))[0]


def test_the_lines_of_the_language_reference_are_understood() -> None:
    """Each `set`, `read`, `let`, `check`, … in the reference is grammatical (the names in it are free)."""
    from ibexite.language.grammar import line_parser

    text = (DOCS / "language.md").read_text()
    blocks = re.findall(r"^```(\w*)\n(.*?)^```", text + (DOCS / "reference.md").read_text(), re.DOTALL | re.MULTILINE)
    lines = [line for kind, block in blocks if not kind for line in block.splitlines()]
    lines += re.findall(r"`([a-z]+ [^`]+)`", text)
    deeds = [line.strip() for line in lines if line.split("#")[0].split(" ")[0] in words.VERBS and "…" not in line]
    assert len(deeds) > 15
    for line in deeds:
        line_parser().parse(line.split("#")[0], start="deed_line")


def test_the_reference_is_made_from_the_tables_of_the_program() -> None:
    assert (DOCS / "reference.md").read_text() == reference_page(), "run: make tables"


def test_the_language_reference_names_everything_there_is() -> None:
    text = (DOCS / "language.md").read_text() + (DOCS / "reference.md").read_text()
    for word in [*words.VERBS, *words.TOP_USAGE, *words.HEADER_USAGE, *FUNCTIONS, *instrument_classes()]:
        assert re.search(rf"\b{word}\b", text), word
    for known in instrument_classes().values():
        for feature in (*known.settings, *known.readings):
            assert f"`{feature}`" in text, feature
    bare = set(re.findall(r"[A-Za-z%]+", " ".join(re.findall(r"`([^`]+)`", text))))
    prefixed = {p + s for p in units.PREFIXES for s in LINEAR if p}
    assert set(units.UNITS) - prefixed <= bare


def test_the_pages_of_the_classes_are_made_from_their_files() -> None:
    pages = {path.name: path.read_text() for path in (DOCS / "classes").glob("*.md")}
    made = {"README.md": class_pages.index_page(), **{f"{name}.md": class_pages.class_page(known) for name, known in instrument_classes().items()}}
    assert pages == made, "run: make tables"


@pytest.mark.parametrize("name", list(instrument_classes()))
def test_the_lines_of_use_on_the_page_of_a_class_are_right(name: str) -> None:
    lines = class_pages.class_page(instrument_classes()[name]).split("```")[1].strip("\n")
    text = f'sequence "S"\n    product "P"\n    serial "A"\nneeds\n    x : {name}\ntest t "T"\n{lines}\n    note "done"\n'
    source = Source("t.ibx", text)
    vet(source)
    assert [f.title for f in source.findings if f.level == "mistake"] == []


def test_the_readme_shows_each_command_and_no_other() -> None:
    named = set(re.findall(r"ibexite ([a-z]+)", (ROOT / "README.md").read_text()))
    assert named == set(COMMANDS)


def test_the_make_targets_that_are_named_exist() -> None:
    makefile = (ROOT / "Makefile").read_text()
    text = (ROOT / "README.md").read_text() + (DOCS / "architecture.md").read_text()
    targets = set(re.findall(r"(?:^|`)make ([a-z]+)", text, re.MULTILINE))
    assert {"demo", "test", "bench"} <= targets
    for target in targets:
        assert re.search(rf"^{target}:", makefile, re.MULTILINE), target


def test_nothing_in_the_tree_names_a_machine() -> None:
    listed = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=False).stdout.split()
    for name in listed:
        path = ROOT / name
        if path.suffix in (".py", ".md", ".toml", ".ibx", ".lark", ".html", "") and path.is_file():
            assert not re.search(r"/(root|home|work)/\w", path.read_text(errors="replace")), name
