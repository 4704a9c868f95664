"""Data that lies in a server, not in files: moved by what its program exports and imports."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from build import HEAD, PROGRAM, SIGN, Trail, machine, moved
from conftest import widetrail
from widetrail.machine import FolderMachine
from widetrail.planning import Choices
from widetrail.recipe import load_recipe_text
from widetrail.recipe.loader import examine
from widetrail.steps import KINDS
from widetrail.steps.outcomes import Noted
from widetrail.walking import make_report

BODY = r"""
places:
  notes: {folder: "{home}/notes"}
readings:
  databases: {output: [fernbook, server, list], at: '(?m)^(.+)$', as: list, home: real}
  rows: {output: [fernbook, server, rows, "{database}"], at: '(\d+) rows', as: number, home: real}
items:
  databases:
    title: Databases
    parts: {database: databases}
    checks: {rows: {compare: same}, databases: {compare: at_least, of: all}}
    routes:
      - name: dump
        legs:
          - old:
              - run: [fernbook, server, dump, "{database}", "{parcel}/{database}.dump"]
                per: database
                makes: "{parcel}/{database}.dump"
          - new:
              - run: [fernbook, server, restore, "{database}", "{parcel}/{database}.dump"]
                per: database
                undo: [fernbook, server, drop, "{database}"]
                done_when: {rows: {at_least: 1}}
  notes: {title: Notes, from: notes, routes: [{name: copy, legs: [{new: [copy]}]}]}
"""
SERVER = {"/home/ada/.server/garden": "a\nb\n", "/home/ada/.server/pond": "c\n"}


def two(tmp_path: Path) -> tuple[FolderMachine, FolderMachine]:
    script = Path(__file__).with_name("fernbook.py")
    more = f"programs:\n- path: {PROGRAM}\n  start: ['{sys.executable}', '{script}']\n"
    files: dict[str, str | bytes] = {PROGRAM: "", "/home/ada/notes/a": "a", **SERVER}
    old = machine(tmp_path / "old", "linux", files, more=f"{more}identity: old\n", name="shed")
    here: dict[str, str | bytes] = {PROGRAM: "", "/home/bo/.server/own": "x\n"}
    new = machine(tmp_path / "new", "linux", here, f"{more}identity: new\n", user="bo", name="hut")
    return old, new


def walked(tmp_path: Path, choices: Choices) -> Trail:
    one = moved(tmp_path, BODY, *two(tmp_path), choices)
    for name in ("old", "new"):
        ran = widetrail("walk", one.at, "--machine", tmp_path / name, "--yes")
        assert ran.status == 0, ran.out + ran.err
    return one


def test_each_database_is_moved_by_itself_and_counted_on_both(tmp_path: Path) -> None:
    one = walked(tmp_path, Choices(ask_programs=True))
    (item,) = [i for i in one.parcel.plan.items if i.item == "databases"]
    assert (item.old_path, item.new_path, item.parts) == ("", "", {"database": ("garden", "pond")})
    for name in ("garden", "pond"):
        there = one.new.read(f"/home/bo/.server/{name}").decode()
        assert there == SERVER[f"/home/ada/.server/{name}"]
    assert one.new.read("/home/bo/.server/own") == b"x\n"
    told = {line.name: line for line in make_report(one.parcel).items[0].checks}
    assert (
        told["rows"].old
        == told["rows"].new
        == Noted(by={"garden": Noted(value=2), "pond": Noted(value=1)})
    )
    assert {line.verdict for line in told.values()} == {"holds"}
    undone = widetrail("undo", "--machine", tmp_path / "new", "--yes")
    assert undone.status == 0, undone.out + undone.err
    assert [e.path for e in one.new.walk("/home/bo/.server")] == ["own"]


def test_one_of_them_alone_is_chosen(tmp_path: Path) -> None:
    chosen = Choices(ask_programs=True, parts={"fernbook.databases.database": ("pond",)})
    one = walked(tmp_path, chosen)
    assert sorted(e.path for e in one.new.walk("/home/bo/.server")) == ["own", "pond"]


def test_a_survey_and_a_plan_say_that_the_program_keeps_it(tmp_path: Path) -> None:
    old, _ = two(tmp_path)
    (tmp_path / "fernbook.trail.yaml").write_text(HEAD + SIGN + BODY)
    recipe = tmp_path / "fernbook.trail.yaml"
    ran = widetrail("survey", recipe, "--machine", old.folder, "--ask-programs", "--yes")
    assert ran.status == 0 and "kept by the program itself" in ran.out
    assert "garden, pond" in ran.out
    plan = ("plan", recipe, "--old", old.folder, "--new", tmp_path / "new", "--parcel")
    for more in ([], ["--details"]):
        ran = widetrail(*plan, tmp_path / f"p{len(more)}", "--ask-programs", "--yes", *more)
        assert ran.status == 0, ran.err
        assert "Databases" in ran.out
    assert "kept by the program itself" in ran.out


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("    parts: {database", "    take: x\n    parts: {database"),
        ("    parts: {database", "    retire: yes\n    parts: {database"),
        ("          - new:\n", "          - new:\n              - copy\n"),
    ],
)
def test_lint_finds_what_needs_a_place(text: str, told: str) -> None:
    findings = examine((HEAD + SIGN + BODY).replace(text, told, 1), "r", KINDS)[1]
    assert "no-place" in {f.rule for f in findings}
    assert "no-place" not in {
        f.rule for f in load_recipe_text(HEAD + SIGN + BODY, "r", KINDS).findings
    }
