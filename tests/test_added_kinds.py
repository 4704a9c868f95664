"""Kinds of steps that another distribution adds: as good as our own, from recipe to undoing."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

ADDED = Path(__file__).parent.parent / "examples" / "added"
STEP = '[copy, {label: "{kept}/LABEL", text: moved, once: {files_there: {at_least: 3}}}]'
HEAD = """
rehearsal: the folder is labelled
recipe: mossbook
old: {machine: mossbook-old}
new: {machine: mossbook-new}
"""
CASES = """
patience: 1 s
each:
  - case: nothing is there yet
    expect:
      kept: {backed_up: no, checks: {files_there: 4}}
      at_the_end: {new: {files: {"D:/documents/Mossbook/LABEL": moved}}}
  - case: an own label is there already
    new: {files: {"D:/documents/Mossbook/LABEL": own}}
    expect:
      kept: {backed_up: yes, checks: {files_there: 4}}
      at_the_end: {new: {files: {"D:/documents/Mossbook/LABEL": moved}}}
  - case: a file goes before it is labelled
    stops:
      - before: kept/whole folder/2/label
        by: {removes: "D:/documents/Mossbook/first.txt"}
    expect: {kept: {state: waiting}}
"""
UNDONE = """
patience: 1 s
until: undone
expect: {kept: {checks: {files_there: 4}}}
"""


def call(folder: Path, *arguments: str, added: Path | None = ADDED) -> tuple[int, str, str]:
    """Run the command line with what ``added`` holds installed; return its status and words."""
    path = str(added or "")
    done = subprocess.run(
        [sys.executable, "-m", "widetrail", *arguments],
        cwd=folder,
        env={**os.environ, "PYTHONPATH": path, "HOME": str(folder / "home")},
        capture_output=True,
        text=True,
        check=False,
    )
    return done.returncode, done.stdout, done.stderr


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A new recipe and its machines, with a step of the added kind."""
    (tmp_path / "home").mkdir()
    assert call(tmp_path, "new", "mossbook", "--name", "Mossbook", added=None)[0] == 0
    recipe = tmp_path / "mossbook/mossbook.trail.yaml"
    text = recipe.read_text().replace("new: [copy]", f"new: {STEP}")
    recipe.write_text(text.replace("compare: same", "compare: at_least"))
    for old in (tmp_path / "mossbook").glob("*.rehearsal.yaml"):
        old.unlink()
    (tmp_path / "mossbook/label.rehearsal.yaml").write_text(HEAD + CASES)
    (tmp_path / "mossbook/undone.rehearsal.yaml").write_text(HEAD + UNDONE)
    return tmp_path


def test_a_recipe_may_use_an_added_kind_where_it_is_installed(folder: Path) -> None:
    recipe = "mossbook/mossbook.trail.yaml"
    assert call(folder, "lint", recipe)[0] == 0
    status, out, _ = call(folder, "lint", recipe, added=None)
    assert status == 1
    assert 'expected one of "close", "copy"' in out and 'found "label"' in out


@pytest.mark.parametrize(
    ("wrong", "code"),
    [
        ('label: "{kept}/LABEL"', "label: no path"),
        ("text: moved", 'text: "{nobody}"'),
        ("once: {files_there", "once: {files_here"),
        ("text: moved", "txt: moved"),
    ],
)
def test_lint_finds_every_template_and_reading_in_it(folder: Path, wrong: str, code: str) -> None:
    recipe = folder / "mossbook/mossbook.trail.yaml"
    text = recipe.read_text()
    recipe.write_text(text.replace(wrong, code).replace(f'"{wrong}', code))
    assert recipe.read_text() != text
    status, out, _ = call(folder, "lint", str(recipe))
    assert status == 1, out


def test_it_is_planned_walked_and_undone(folder: Path) -> None:
    machines = folder / "mossbook/machines"
    sides = {side: machines / f"mossbook-{side}" for side in ("old", "new")}
    planned = ("plan", "mossbook/mossbook.trail.yaml", "--parcel", "stick", "--json")
    status, out, err = call(
        folder, *planned, "--old", str(sides["old"]), "--new", str(sides["new"])
    )
    assert status == 0, err
    (step,) = [s for s in json.loads(out)["plan"]["steps"] if s["kind"] == "label"]
    assert (step["text"], step["number"]) == ("moved", 2)
    before = _files(sides["new"])
    for side in sides.values():
        status, out, err = call(folder, "walk", "stick", "--machine", str(side), "--yes", "--json")
        assert status == 0, out + err
    done: dict[str, Any] = {s["id"].rpartition("/")[2]: s for s in json.loads(out)["steps"]}
    label = "D:/documents/Mossbook/LABEL"
    assert done["label"]["facts"] == {"labelled": label}
    assert done["label"]["words"] == f'label {label} with "moved"'
    assert (sides["new"] / "disks/D/documents/Mossbook/LABEL").read_text() == "moved"
    status, out, err = call(folder, "undo", "--machine", str(sides["new"]), "--yes")
    assert status == 0, out + err
    assert call(folder, "walk", "stick", "--machine", str(sides["new"]), added=None)[0] == 2
    assert _files(sides["new"]) == before


def _files(machine: Path) -> set[str]:
    found = (p.relative_to(machine).as_posix() for p in machine.rglob("*") if p.is_file())
    return {path for path in found if "widetrail" not in path}


@pytest.mark.sweep
def test_it_is_rehearsed_with_coverage_and_mutants(folder: Path) -> None:
    status, out, err = call(folder, "rehearse", "mossbook", "--coverage", "--json")
    assert status == 0, out + err
    (covered,) = json.loads(out)["coverage"]
    step = "items.kept.routes[1].legs[1].new[2]"
    branches = {branch["words"]: len(branch["reached_by"]) for branch in covered["branches"]}
    assert (branches[f"{step}: came"], branches[f"{step}: did not come"]) == (3, 1)
    _, out, _ = call(folder, "rehearse", "mossbook", "--mutate", "--json")
    mutants = [m for m in json.loads(out)["mutants"] if m["at"].startswith(step)]
    missing = {m["change"]: m["missing"] for m in mutants}
    assert missing["text: moved"] == "one that expects what the label says"
    assert "3 became 4" in missing and all(m["killed_by"] for m in mutants)


def test_one_that_cannot_be_loaded_is_told(folder: Path, tmp_path: Path) -> None:
    broken = tmp_path / "broken"
    shutil.copytree(ADDED, broken, ignore=shutil.ignore_patterns("__pycache__"))
    (broken / "tiny_label.py").write_text("raise RuntimeError('no ink')")
    done = subprocess.run(
        [sys.executable, "-m", "widetrail", "lint", "mossbook/mossbook.trail.yaml"],
        cwd=folder,
        env={**os.environ, "PYTHONPATH": str(broken)},
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2
    assert "label (tiny_label:LABEL)" in done.stderr and "no ink" in done.stderr
