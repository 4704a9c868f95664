"""Moves between accounts of Windows, by Windows' own CPython under wine.

.ci/windows FOLDER && WIDETRAIL_WINDOWS=FOLDER pytest -m large tests/test_on_windows.py
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Sequence
from pathlib import Path

import pytest

import on_windows
from on_windows import Prefix, windows

prefix = on_windows.prefix
pytestmark = on_windows.needed

RECIPE = r"""
recipe: 1
revision: 1
application: {id: fernbook, name: Fernbook}
recognise: [{sign: {folder: "{config}/Fernbook"}}]
places:
  notes: {folder: "{config}/Fernbook"}
  settings: {key: 'HKEY_CURRENT_USER\Software\Fernbook'}
readings:
  pages: {files: "{notes}"}
  folder: {registry: 'HKEY_CURRENT_USER\Software\Fernbook', at: Folder, as: path}
items:
  notes:
    title: Notes
    from: notes
    checks: {pages: {compare: same}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
  settings:
    title: Settings
    kind: registry
    from: settings
    paths: {registry: 'HKEY_CURRENT_USER\Software\Fernbook', at: Folder}
    checks: {folder: {compare: same}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""
DEEP = "\\".join(["a folder with a long name, such as programs make"] * 6)
FILES = {
    "one.txt": "one",
    "bücher\\zwei – 2.txt": "zwei",
    "con fig.txt": "",
    f"{DEEP}\\deep.txt": "deep",
}
VALUES = {
    "Folder": (2, r"%APPDATA%\Fernbook\bücher"),
    "Count": (4, 7),
    "Names": (7, ["Ada", "Bö"]),
    "": (1, "the key's own"),
}


KILLED = 9


TELLING = ("write", "rename", "store", "barrier")
"""Kinds of effects at which a process that ends leaves something half done."""


def one_of_each(kinds: Sequence[str]) -> list[int]:
    """Return the number, from 1, of the middle one of the effects of each telling kind; with
    ``WIDETRAIL_STOPS=all`` of every kind."""
    by_kind: dict[str, list[int]] = {}
    for number, kind in enumerate(kinds, start=1):
        if kind in TELLING or os.environ.get("WIDETRAIL_STOPS") == "all":
            by_kind.setdefault(kind, []).append(number)
    return sorted(numbers[len(numbers) // 2] for numbers in by_kind.values())


@pytest.fixture(scope="module")
def old(prefix: Prefix) -> Prefix:
    """A computer with files and values, whose parcel is packed."""
    made = Prefix(prefix.folder.parent / "old", prefix)
    (made.folder.parent / "fernbook.trail.yaml").write_text(RECIPE)
    made.state({"files": FILES, "read only": ["one.txt"], "values": VALUES})
    return made


@pytest.fixture(scope="module")
def new(prefix: Prefix) -> Prefix:
    """A computer that has things of its own."""
    made = Prefix(prefix.folder.parent / "new", prefix)
    made.state({"files": {"own.txt": "own"}, "values": {"Own": (1, "stays")}})
    return made


@pytest.fixture(scope="module")
def parcel(old: Prefix, new: Prefix) -> Path:
    top = old.folder.parent
    recipe, card = windows(top / "fernbook.trail.yaml"), windows(top / "card.json")
    new.widetrail("card", recipe, "--to", card)
    before = old.state()
    old.widetrail("plan", recipe, "--new", card, "--parcel", windows(top / "parcel"))
    assert "is done" in old.widetrail("walk", windows(top / "parcel"), "--yes")
    assert old.state() == before
    return top / "parcel"


def test_files_and_values_are_moved_and_taken_back(
    old: Prefix, new: Prefix, parcel: Path, tmp_path: Path
) -> None:
    before, registry = new.state(), new.exported()
    here = tmp_path / "parcel"
    shutil.copytree(parcel, here)
    new.widetrail("walk", windows(here), "--yes")
    assert "transferred" in new.widetrail("report", windows(here))
    now = new.state()
    assert now["files"] == {**old.state()["files"]}
    assert now["files"]["one.txt"] == ["one", False]
    assert now["values"] == {**old.state()["values"], "Own": [1, "stays"]}
    new.widetrail("undo", "--yes")
    assert new.state() == before
    assert new.exported() == registry
    new.widetrail("settle", "--yes")
    kept = new.folder / "drive_c/users"
    assert not [p for p in kept.rglob("widetrail/*/*") if p.is_file() and "lock" not in p.name]


def test_a_walk_that_is_killed_goes_on_and_is_taken_back(
    old: Prefix, new: Prefix, parcel: Path, tmp_path: Path
) -> None:
    """One effect of each kind is where the process ends; what is there is the same in the end."""
    before, registry = new.state(), new.exported()
    whole = tmp_path / "whole"
    shutil.copytree(parcel, whole)
    kinds = new.script("stopped_walk", windows(whole), "0")
    expected = new.state()
    new.widetrail("undo", "--yes")
    new.widetrail("settle", "--yes")
    assert {*TELLING} <= {*kinds}
    for number in one_of_each(kinds):
        here = tmp_path / f"stop{number}"
        shutil.copytree(parcel, here)
        script = windows(on_windows.HERE / "stopped_walk.py")
        done = new.run(script, windows(here), str(number))
        assert done.returncode == KILLED, (number, done.stderr)
        told = new.told("going_on", {}, windows(here))
        kind = kinds[number - 1]
        assert told["walked"] == expected, (number, kind)
        assert told["undone"] == told["settled"] == before, (number, kind)
    assert new.exported() == registry


def test_nothing_crashes_where_texts_go_to_a_pipe_of_another_code(
    new: Prefix, parcel: Path, tmp_path: Path
) -> None:
    recipe = tmp_path / "日本語.trail.yaml"
    recipe.write_text(RECIPE.replace("name: Fernbook", 'name: "日本語 ✓ Fernbook"'), "utf-8")
    for command in (["lint", windows(recipe)], ["survey", windows(recipe)]):
        done = new.run("-m", "widetrail", *command, utf8=False)
        told = done.stdout + done.stderr
        assert b"Traceback" not in told, told
        assert b"\x1b[" not in told
        assert done.returncode in (0, 1, 2), told
    told = new.run("-m", "widetrail", "survey", windows(recipe), "--json", utf8=False).stdout
    assert "日本語" in json.dumps(json.loads(told), ensure_ascii=False)
