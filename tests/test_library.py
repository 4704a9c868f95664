"""The library: its public names, their examples, and a move made by calls alone."""

import doctest
import inspect
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import widetrail
from conftest import World
from widetrail.steps import Step

CALLS = (
    "begin_recipe",
    "lint",
    "load_recipe",
    "load_recipes",
    "open_machine",
    "write_card",
    "add_program",
    "saved_states",
    "save_machine",
    "restore_machine",
    "machine_differences",
    "open_shelf",
    "survey_machine",
    "survey_frame",
    "plan",
    "open_visit",
    "planned_again",
    "what_is_due",
    "walk",
    "report",
    "seats",
    "open_run",
    "undo",
    "settle",
    "settle_parcel",
    "replan_seat",
    "rehearse",
)
"""The calls in the order of a move, in which their examples are run."""


@pytest.fixture
def inside(world: World) -> Iterator[World]:
    before = Path.cwd()
    os.chdir(world.folder)
    try:
        yield world
    finally:
        os.chdir(before)


def test_every_public_name_is_listed_once_and_can_be_imported() -> None:
    listed = [name for names in widetrail.PUBLIC.values() for name in names]
    assert sorted([*listed, "PUBLIC", "__version__"]) == sorted(widetrail.__all__)
    for name in listed:
        found = getattr(widetrail, name)
        assert inspect.getdoc(found), name
        assert name in dir(widetrail)
    with pytest.raises(AttributeError, match="no attribute 'walks'"):
        getattr(widetrail, "walks")  # noqa: B009


def test_importing_the_library_imports_none_of_it_yet() -> None:
    code = "import sys, widetrail; print(sorted(m for m in sys.modules if 'widetrail.' in m))"
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert ran.stdout.strip() == "['widetrail.lazily']"


def test_each_call_says_what_it_raises_and_its_example_gives_what_it_shows(
    inside: World, capsys: pytest.CaptureFixture[str]
) -> None:
    names: dict[str, Any] = {name: getattr(widetrail, name) for name in widetrail.__all__}
    parser, ran = doctest.DocTestParser(), 0
    runner = doctest.DocTestRunner()
    for call in CALLS:
        text = inspect.getdoc(names[call]) or ""
        assert "Raises:" in text or call == "planned_again", call
        example = parser.get_doctest(text, names, call, call, 0)
        assert example.examples or call in ("planned_again", "what_is_due"), call
        runner.run(example, clear_globs=False)
        names = example.globs
        ran += len(example.examples)
    assert runner.failures == 0, capsys.readouterr().out
    assert ran > 12


class Seen:
    """An onlooker that remembers what it is told."""

    def __init__(self) -> None:
        self.told: list[str] = []

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        self.told.append(f"{number}/{total} {step.kind}")

    def waits(self, what: str) -> None:
        self.told.append(what)

    def moves(self, *far: object, **more: object) -> None:
        self.told.append("moves")


def test_a_move_by_calls_is_planned_walked_reported_and_undone(
    inside: World, capsys: pytest.CaptureFixture[str]
) -> None:
    recipes = widetrail.load_recipes(["recipes/huemoss.trail.yaml"])
    old, new = (widetrail.open_machine(inside.folder / m) for m in (inside.old, inside.new))
    planned = widetrail.plan(recipes, old, new, "media/usb-stick/calls")
    refused = []

    def refuse(due: widetrail.Due) -> bool:
        refused.append(due)
        return False

    with pytest.raises(widetrail.Halted, match="consent was not given"):
        widetrail.walk("media/usb-stick/calls", old, refuse)
    assert [step.kind for step, _ in refused[0].steps if step.kind == "pack"] == ["pack", "pack"]
    assert refused[0].title == "Leg 1 on potting-shed"
    seen = Seen()
    company = widetrail.Company(onlooker=seen)
    for machine in (old, new):
        done = widetrail.walk("media/usb-stick/calls", machine, lambda due: True, company)
        assert not done.bad
    assert "1/4 note" in seen.told
    told = widetrail.report("media/usb-stick/calls")
    assert told.well
    assert [item.id for item in told.items] == [item.id for item in planned.items]
    assert "<html" in widetrail.render_page(told)
    assert widetrail.undo(new).acts
    assert capsys.readouterr() == ("", "")


def test_a_machine_that_changed_is_planned_again_before_anything_is_done(inside: World) -> None:
    recipes = widetrail.load_recipes(["recipes/huemoss.trail.yaml"])
    old, new = (widetrail.open_machine(inside.folder / m) for m in (inside.old, inside.new))
    widetrail.plan(recipes, old, new, "media/usb-stick/changed")
    documents = inside.old / "disks/C/Users/ines/Documents/Huemoss"
    (documents / "Stamps").rename(documents / "Stamps (away)")

    def never(due: widetrail.Due) -> bool:
        raise AssertionError(due.title)

    with pytest.raises(widetrail.Obstructed):
        widetrail.walk("media/usb-stick/changed", old, never)


def test_lint_tells_findings_by_file(tmp_path: Path) -> None:
    (tmp_path / "one.trail.yaml").write_text("recipe: 1\n")
    ((file, findings),) = widetrail.lint([tmp_path]).items()
    assert file.name == "one.trail.yaml"
    assert {finding.rule for finding in findings} == {"missing-key"}
    with pytest.raises(widetrail.InputUnusable, match="cannot be read"):
        widetrail.lint([tmp_path / "none.trail.yaml"])


def test_an_account_that_is_not_the_machines_is_refused(world: World) -> None:
    with pytest.raises(widetrail.InputUnusable, match="account not found"):
        widetrail.open_machine(world.old, "somebody")


def test_a_survey_is_a_table_for_a_spreadsheet(inside: World) -> None:
    pytest.importorskip("pandas", reason="pandas is optional: pip install widetrail[pandas]")
    found = widetrail.survey_machine(["recipes"], widetrail.open_machine(inside.old))
    frame = widetrail.survey_frame(found)
    ours = frame[frame["application"] == "Sporelog"]
    assert list(frame.columns)[:4] == ["what", "application", "item", "path"]
    assert ours["files"].sum() == 64


def test_lint_looks_at_no_machine_and_loads_nothing_that_would(world: World) -> None:
    code = (
        "import sys\nfrom widetrail.cli import main\n"
        "main(['lint', 'recipes/sporelog.trail.yaml'], standalone_mode=False)\n"
        "print(sorted(name for name in sys.modules))"
    )
    ran = subprocess.run(
        [sys.executable, "-c", code], cwd=world.folder, capture_output=True, text=True, check=True
    )
    loaded = set(ran.stdout.splitlines()[-1].strip("[]").replace("'", "").split(", "))
    assert "widetrail.recipe.loader" in loaded
    heavy = ("finding", "machine.folder", "machine.live", "steps.table", "walking", "planning")
    assert loaded & {f"widetrail.{name}" for name in heavy} == set()
    assert "rich.console" not in loaded
