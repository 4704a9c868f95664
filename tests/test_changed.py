"""Rehearsing only what changed, by the digests of all that a rehearsal tries."""

import json
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

import widetrail
from conftest import World
from conftest import widetrail as command
from widetrail.library.rehearsals import Rehearsals, rehearse
from widetrail.rehearsing.history import open_history
from widetrail.rehearsing.inputs import InputDigests, tree_digest
from widetrail.rehearsing.noting import Known
from widetrail.rehearsing.tried import all_tried

NAMES = ("huemoss", "huemoss-taken-in")


class Tried:
    """Two rehearsals of a recipe with their history."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.history = folder, folder / "history"
        self.paths = [folder / f"recipes/{name}.rehearsal.yaml" for name in NAMES]

    def again(self) -> Rehearsals:
        return rehearse(self.paths, history=Known(self.history, changed=True))

    @property
    def why(self) -> dict[str, tuple[str, ...]]:
        """Why each would be run again."""
        with open_history(self.history) as known:
            digests = InputDigests()
            found, _ = all_tried(self.paths)
            return {
                one.path.name.partition(".")[0]: known.standing(digests.of(one)).why
                for one in found
            }

    def edit(self, name: str, more: str) -> None:
        path = self.folder / name
        path.write_text(path.read_text() + more)


@pytest.fixture
def tried(world: World) -> Tried:
    tried = Tried(world.folder)
    first = tried.again()
    assert first.passed and len(first.results) == 2 and first.unchanged == ()
    assert set(first.why.values()) == {("never",)}
    return tried


def test_what_passed_with_all_the_same_is_not_run_again(tried: Tried) -> None:
    again = tried.again()
    assert again.passed and again.results == () and again.why == {}
    assert [one.tried.path for one in again.unchanged] == tried.paths
    assert all(one.standing.ended for one in again.unchanged)


def test_each_thing_that_a_rehearsal_tries_has_it_run_again(tried: Tried) -> None:
    assert tried.why == {"huemoss": (), "huemoss-taken-in": ()}
    tried.edit("recipes/huemoss-taken-in.rehearsal.yaml", "# looked at\n")
    assert tried.why == {"huemoss": (), "huemoss-taken-in": ("rehearsal",)}
    again = tried.again()
    assert [job.path.name for job in again.listed] == ["huemoss-taken-in.rehearsal.yaml"]
    assert list(again.why.values()) == [("rehearsal",)] and len(again.unchanged) == 1
    assert again.findings == ()  # the other one has what it lacks
    tried.edit("recipes/huemoss.trail.yaml", "# looked at\n")
    assert set(tried.why.values()) == {("recipe",)}
    tried.again()
    machine = tried.folder / "machines/glass-office"
    for path in machine.rglob("*"):
        os.utime(path, (1, 1), follow_symlinks=False)
    assert set(tried.why.values()) == {()}  # a checkout has other times
    (machine / "disks/C/note.txt").write_text("a note")
    assert set(tried.why.values()) == {("machines",)}


def test_one_that_failed_is_run_again(tried: Tried) -> None:
    path = tried.paths[0]
    whole = path.read_text()
    path.write_text(whole.replace("stamps_there: 9", "stamps_there: 8"))
    assert not tried.again().passed
    assert tried.why == {"huemoss": ("failed",), "huemoss-taken-in": ()}
    assert not tried.again().passed
    path.write_text(whole)
    assert tried.again().passed
    assert set(tried.why.values()) == {()}


def test_another_release_of_wide_trail_has_all_run_again(
    tried: Tried, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(widetrail, "__version__", "0.0.1")
    assert set(tried.why.values()) == {("engine",)}


def test_programs_count_by_what_is_started(world: World, tmp_path: Path) -> None:
    program = tmp_path / "huemoss.py"
    program.write_text("print('six palettes')\n")
    [rehearsal], _ = all_tried([world.folder / "recipes/huemoss.rehearsal.yaml"])
    file = world.folder / "machines/potting-shed/machine.yaml"
    whole = file.read_text()

    def programs() -> str:
        return InputDigests().of(rehearsal).digests["programs"]

    before = programs()
    file.write_text(
        whole.replace("[python, -P, -m, widetrail_demo, huemoss]", f"[python, {program}]")
    )
    own = programs()
    program.write_text("print('seven palettes')\n")
    assert len({before, own, programs()}) == 3
    file.write_text(whole.replace("widetrail_demo, huemoss", "no_such_module_here, huemoss"))
    assert programs() not in (before, own)


def test_a_program_may_be_a_link_and_may_not_be_readable(world: World, tmp_path: Path) -> None:
    [rehearsal], _ = all_tried([world.folder / "recipes/huemoss.rehearsal.yaml"])
    file = world.folder / "machines/potting-shed/machine.yaml"
    program, link = tmp_path / "program", tmp_path / "link"
    link.symlink_to(program)
    whole = file.read_text().replace("[python, -P, -m, widetrail_demo, huemoss]", f"[{link}]")
    file.write_text(whole)
    seen = set()
    for text in ("one", "two"):
        program.write_text(text)
        program.chmod(0o755)
        seen.add(InputDigests().of(rehearsal).digests["programs"])
    assert len(seen) == 2 and "" not in seen
    program.unlink()
    program.mkdir()
    (program / "loop").symlink_to(program)
    os.mkfifo(program / "pipe")
    assert InputDigests().of(rehearsal).digests["programs"] not in seen


def test_what_is_written_down_is_what_was_tried(world: World) -> None:
    """A recipe that is changed while its rehearsals are run was not rehearsed."""
    tried = Tried(world.folder)
    ran = rehearse(
        tried.paths,
        history=tried.history,
        shown=lambda result: tried.edit("recipes/huemoss.trail.yaml", "# edited\n"),
    )
    assert ran.passed
    assert set(tried.why.values()) == {("recipe",)}


def test_a_rehearsal_without_its_machines_is_told_apart_by_the_rest(tried: Tried) -> None:
    shutil.rmtree(tried.folder / "machines/glass-office")
    assert set(tried.why.values()) == {()}


def test_a_history_of_the_layout_before_is_brought_up(tried: Tried) -> None:
    with closing(sqlite3.connect(tried.history)) as base:
        for name in ("machines", "programs", "engine"):
            base.execute(f"alter table run drop column {name}_digest")
        base.execute("pragma user_version = 1")
        base.commit()
    before = tried.history.read_bytes()
    assert set(tried.why.values()) == {("machines", "programs", "engine")}
    assert tried.history.read_bytes() == before  # it was only read
    assert len(tried.again().results) == 2
    assert set(tried.why.values()) == {()}


def test_the_digest_of_a_tree_tells_all_but_times(tmp_path: Path) -> None:
    top = tmp_path / "tree"
    (top / "a/b").mkdir(parents=True)
    (top / "a/f").write_text("moss")
    (top / "a/l").symlink_to("f")
    seen = [tree_digest(top)]
    for change in (
        lambda: (top / "a/f").write_text("fern"),
        lambda: (top / "a/f").chmod(0o600),
        lambda: (top / "a/f").rename(top / "a/g"),
        lambda: (top / "a/b").rmdir(),
        lambda: (top / "a/l").unlink(),
        lambda: (top / "a/l").symlink_to("g"),
    ):
        change()
        seen.append(tree_digest(top))
    assert len(set(seen)) == len(seen)
    (top / "__pycache__").mkdir()
    os.utime(top / "a/g", (1, 1))
    assert tree_digest(top) == seen[-1]


def test_the_command_line_tells_why(tried: Tried) -> None:
    words = ["rehearse", *map(str, tried.paths), "--history", str(tried.history), "--changed"]
    ran = command(*words)
    assert ran.status == 0
    assert ran.out == "2 rehearsals not run again: passed, and nothing changed since\n"
    tried.edit("recipes/huemoss.rehearsal.yaml", "# looked at\n")
    told = json.loads(command(*words, "--json").out)
    [name] = told["why"]
    assert name.endswith("huemoss.rehearsal.yaml") and told["why"][name] == ["rehearsal"]
    assert len(told["rehearsals"]) == len(told["unchanged"]) == 1
    tried.edit("recipes/huemoss.trail.yaml", "# looked at\n")
    assert "the recipe changed since it passed" in command(*words).out
    assert command(*words[:2], "--changed").status == 2
