"""A settings file that includes others, wherever they lie: they come along beside it."""

from __future__ import annotations

from pathlib import Path

import pytest

from build import NOW, Trail, machine, moved, outcomes
from conftest import cut_off_everywhere, of_the_person
from widetrail.walking import Run

BODY = """
places:
  settings: {file: "{home}/.fernrc"}
  colours: {file: "{home}/.ferncolours"}
items:
  settings:
    title: Settings
    kind: settings
    from: settings
    paths: {text: "{settings}", at: '(?m)^include (.*)$', outside: carry}
    routes: [{name: copy, existing: back up, legs: [{new: [copy]}]}]
  colours:
    title: Colours
    kind: settings
    from: colours
    paths: {text: "{colours}", at: '(?m)^include (.*)$', outside: carry}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""
MINE: dict[str, str | bytes] = {
    "/home/ada/.fernrc": "size 3\ninclude ~/parts/a.rc\ninclude /srv/shared/a.rc\n"
    "include ~/gone.rc\n",
    "/home/ada/.ferncolours": "include ~/parts/a.rc\nred\n",
    "/home/ada/parts/a.rc": "one\n",
    "/srv/shared/a.rc": "two\n",
}
THEIRS: dict[str, str | bytes] = {
    "/home/bo/.fernrc": "theirs\n",
    "/home/bo/.fernrc.outside/a.rc": "of an earlier move\n",
}
WRITTEN = (
    "size 3\ninclude ~/.fernrc.outside/a.rc\ninclude /home/bo/.fernrc.outside/a (2).rc\n"
    "include ~/gone.rc\n"
)


def trail(tmp_path: Path) -> Trail:
    old = machine(tmp_path / "old", "linux", MINE, more="identity: old\n", name="shed")
    new = machine(
        tmp_path / "new", "linux", THEIRS, more="identity: new\n", user="bo", name="office"
    )
    return moved(tmp_path, BODY, old, new)


def look(one: Trail, path: str) -> str:
    return one.new.read(path).decode()


def test_what_it_includes_comes_beside_it_and_is_included_from_there(tmp_path: Path) -> None:
    one = trail(tmp_path)
    along = {path for item in one.parcel.plan.items for path in item.from_outside.values()}
    assert along == {"/home/ada/parts/a.rc", "/srv/shared/a.rc"}
    assert [len(item.from_outside) for item in one.parcel.plan.items] == [2, 0]
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert look(one, "/home/bo/.fernrc") == WRITTEN
    assert look(one, "/home/bo/.ferncolours") == "include ~/.fernrc.outside/a.rc\nred\n"
    both = [look(one, f"/home/bo/.fernrc.outside/{name}") for name in ("a.rc", "a (2).rc")]
    assert sorted(both) == ["one\n", "two\n"]
    Run(one.new).undo(NOW)
    for path, text in THEIRS.items():
        assert look(one, path) == text
    assert one.new.look("/home/bo/.fernrc.outside/a (2).rc") is None


@pytest.mark.sweep
def test_cut_off_anywhere_it_comes_once_and_all_can_be_had_back(tmp_path: Path) -> None:
    one = trail(tmp_path / "whole")
    one.walk("old")
    before = of_the_person(one.folder / "new")

    def judge(copy: Trail, number: int) -> None:
        copy.walk("new")
        assert look(copy, "/home/bo/.fernrc") == WRITTEN, number
        names = [entry.path for entry in copy.new.walk("/home/bo/.fernrc.outside")]
        assert sorted(names) == ["a (2).rc", "a.rc"], number
        Run(copy.new).undo(NOW)
        assert of_the_person(copy.folder / "new") == before, number

    assert cut_off_everywhere(one, tmp_path, 7, judge) > 20
