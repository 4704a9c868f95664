"""Places of which a program's settings list several: files and folders anywhere."""

from __future__ import annotations

import json
from pathlib import Path

from build import HEAD, NOW, SIGN, machine, moved, outcomes
from widetrail.finding import Several, find_application
from widetrail.machine import FolderMachine
from widetrail.planning import Choices
from widetrail.recipe import load_recipe_text
from widetrail.steps import KINDS
from widetrail.walking import Run

BODY = """
places:
  settings: {file: "{config}/fern.json"}
  libraries: {listed_in: {json: "{settings}", at: /recent}}
readings:
  pages: {files: "{libraries}"}
items:
  libraries:
    title: Libraries
    from: libraries
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""
SETTINGS = """
  settings:
    title: Settings
    kind: settings
    from: settings
    routes: [{name: copy, existing: replace, legs: [{new: [copy]}]}]
"""
RECENT = [
    "/home/ada/Notes/garden.fern",
    "~/Papers",
    "file:///home/ada/Old%20notes/garden.fern",
    "/home/ada/gone.fern",
    "/home/ada/Notes/garden.fern",
]
FILES: dict[str, str | bytes] = {
    "/home/ada/.config/fern.json": json.dumps({"recent": RECENT}),
    "/home/ada/Notes/garden.fern": "one",
    "/home/ada/Old notes/garden.fern": "two",
    "/home/ada/Papers/a": "a",
}


def two(tmp_path: Path, theirs: dict[str, str | bytes]) -> tuple[FolderMachine, FolderMachine]:
    old = machine(tmp_path / "old", "linux", FILES, more="identity: old\n", name="shed")
    new = machine(
        tmp_path / "new", "linux", theirs, more="identity: new\n", user="bo", name="office"
    )
    return old, new


def test_each_that_is_listed_and_there_is_one_by_a_name_of_its_own(tmp_path: Path) -> None:
    old, _ = two(tmp_path, {})
    loaded = load_recipe_text(HEAD + SIGN + BODY, "test", KINDS)
    found = find_application(old, loaded).place("libraries")
    assert isinstance(found, Several)
    assert [(i.name, i.path, i.kind) for i in found.instances] == [
        ("Notes/garden.fern", "/home/ada/Notes/garden.fern", "file"),
        ("Papers", "/home/ada/Papers", "folder"),
        ("Old notes/garden.fern", "/home/ada/Old notes/garden.fern", "file"),
    ]
    assert found.rejected == (("/home/ada/gone.fern", "it is listed, but does not exist"),)


def test_each_is_moved_and_the_list_names_it_where_it_came(tmp_path: Path) -> None:
    theirs: dict[str, str | bytes] = {
        "/home/bo/.config/fern.json": json.dumps({"recent": ["/home/bo/Notes/garden.fern"]}),
        "/home/bo/Notes/garden.fern": "theirs",
    }
    old, new = two(tmp_path, theirs)
    one = moved(tmp_path, BODY + SETTINGS, old, new)
    ids = [item.id for item in one.parcel.plan.items]
    assert "fernbook.libraries[Old notes/garden.fern]" in ids
    assert not any("copying alone" in task for item in one.parcel.plan.items for task in item.tasks)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    written = json.loads(one.new.read("/home/bo/.config/fern.json"))["recent"]
    assert written == [
        "/home/bo/Notes/garden (from shed).fern",
        "~/Papers",
        "file:///home/bo/Old%20notes/garden.fern",
        "/home/ada/gone.fern",
        "/home/bo/Notes/garden (from shed).fern",
    ]
    assert one.new.read("/home/bo/Notes/garden (from shed).fern") == b"one"
    assert one.new.read("/home/bo/Notes/garden.fern") == b"theirs"
    assert one.new.read("/home/bo/Old notes/garden.fern") == b"two"
    assert one.new.read("/home/bo/Papers/a") == b"a"
    Run(one.new).undo(NOW)
    assert one.new.look("/home/bo/Papers") is None
    assert (
        one.new.read("/home/bo/.config/fern.json").decode() == theirs["/home/bo/.config/fern.json"]
    )


def test_one_is_chosen_by_its_name_and_listing_it_is_a_task_where_the_list_stays(
    tmp_path: Path,
) -> None:
    old, new = two(tmp_path, {})
    only = Choices(only=frozenset({"fernbook.libraries[Papers]"}))
    one = moved(tmp_path, BODY, old, new, only)
    (item,) = one.parcel.plan.items
    assert (item.instance, item.new_path) == ("Papers", "/home/bo/Papers")
    assert any("copying alone does not do that" in task for task in item.tasks)


def test_what_can_be_no_place_is_none_of_those_that_are_listed(tmp_path: Path) -> None:
    hostile = ["/", "/home/ada", "/dev/null", "/proc/1", "/home/ada/.local/state/widetrail/x"]
    files: dict[str, str | bytes] = {"/home/ada/.config/fern.json": json.dumps({"recent": hostile})}
    here = machine(tmp_path / "m", "linux", files, more="identity: x\n", name="shed")
    for path in ("/proc/1", "/home/ada/.local/state/widetrail/x"):
        here.host(path).mkdir(parents=True)
    found = find_application(here, load_recipe_text(HEAD + SIGN + BODY, "test", KINDS))
    where = found.place("libraries")
    assert isinstance(where, Several) and where.instances == ()
    assert [path for path, _ in where.rejected] == hostile
    assert "the home itself" in where.rejected[1][1]


def test_settings_without_a_list_have_none_and_unreadable_ones_are_told(tmp_path: Path) -> None:
    loaded = load_recipe_text(HEAD + SIGN + BODY, "test", KINDS)
    for number, (text, told) in enumerate(
        [("{}", "not found"), ("{", "the setting is unknown"), ('{"recent": {}}', "unknown")]
    ):
        files: dict[str, str | bytes] = {"/home/ada/.config/fern.json": text}
        here = machine(tmp_path / str(number), "linux", files, more="identity: x\n", name="shed")
        assert told in str(find_application(here, loaded).place("libraries"))
