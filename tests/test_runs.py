"""Several runs on one machine, and undoing in all its order: nothing is lost, nothing untrue."""

from __future__ import annotations

import os
import shutil
import stat
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import pytest

from build import NOW, Trail, item, run_of, trail
from conftest import SWEEP, Stopped, contents, cut_off_everywhere, stop_at, widetrail
from test_doing import NEW, OLD, new
from widetrail.errors import Halted
from widetrail.machine import Effect, Effects, FolderMachine
from widetrail.walking import Run, make_report

WAYS = {
    "put aside": new("copy"),
    "replaced one by one": item(NEW + "\n              - copy").replace(
        "name: way", "name: way\n        existing: replace"
    ),
    "beside": item(NEW + "\n              - copy", "    take: '*.txt'").replace(
        "name: way", "name: way\n        existing: alongside"
    ),
    "by the program": item(
        OLD
        + "\n              - {run: [fernbook, give, '{parcel}/all'], makes: '{parcel}/all'}"
        + "\n          - new:"
        + "\n              - {run: [fernbook, take, '{parcel}/all'], changes: notes, repeat: safe}"
    ),
}
"""Ways by which an item changes what is on new."""

RUNS = ("run1", "run2", "run3")
Done = dict[str, str]
"""What became of each run: walked, undone, accepted (settled) or gone (settled once undone)."""


def notes_of(one: Trail) -> dict[str, bytes]:
    return {p.name: p.read_bytes() for p in one.notes("new").rglob("*") if p.is_file()}


def walked(folder: Path, ways: tuple[str, ...]) -> tuple[Trail, list[dict[str, bytes]]]:
    """Walk a run of each of ``ways``, and return what the notes on new were before and after."""
    one = trail(folder, WAYS[ways[0]])
    shutil.rmtree(one.at)
    one.notes("new").mkdir(parents=True)
    (one.notes("new") / "one.txt").write_text("new's own\n")
    (one.notes("new") / "own.txt").write_text("only on new\n")
    seen = [notes_of(one)]
    for number, way in enumerate(ways):
        here = run_of(replace(one, medium=folder / f"parcel{number}"), WAYS[way], RUNS[number])
        (one.notes("old") / "one.txt").write_text(f"one as of run {number}\n")
        assert not here.walk("old").bad
        assert not here.walk("new").bad
        seen.append(notes_of(one))
    return one, seen


AFTER = {
    ("undo", "walked"): "undone",
    ("settle", "walked"): "accepted",
    ("settle", "undone"): "gone",
}


def explore(
    one: Trail, folder: Path, done: Done, judge: Callable[[Trail, Done], None], known: list[Done]
) -> None:
    """Judge a state, and all that it can become by undoing and settling, in copies."""
    judge(one, done)
    for run, act in [(run, act) for run in done for act in ("undo", "settle")]:
        after = {**done, run: AFTER.get((act, done[run]), "")}
        if not after[run] or after in known:
            continue
        copied = shutil.copytree(one.folder, folder / f"{len(known)}.{run}.{act}", symlinks=True)
        copy = replace(one, folder=copied)
        later = [n for n in done if n > run] if act == "undo" else [n for n in done if n < run]
        in_the_way = [n for n in later if done[n] == "walked" and done[run] == "walked"]
        here, before = Run(copy.new, run), contents(copied)
        if in_the_way:
            with pytest.raises(Halted) as error:
                here.undo(NOW) if act == "undo" else here.settle()
            assert [n for n in RUNS if n in error.value.todo.partition("; or")[0]] == in_the_way
            assert contents(copied) == before
        else:
            here.undo(NOW) if act == "undo" else here.settle()
            known.append(after)
            explore(copy, folder, after, judge, known)
        shutil.rmtree(copied)


ORDERS = [
    ("put aside",),
    ("put aside", "put aside"),
    ("replaced one by one", "put aside", "by the program"),
    ("by the program", "replaced one by one", "put aside"),
    ("beside", "by the program", "replaced one by one"),
    ("put aside", "beside", "put aside"),
]


@pytest.mark.parametrize("ways", ORDERS, ids="; ".join)
def test_every_order_of_undoing_and_settling_overlapping_runs(
    tmp_path: Path, ways: tuple[str, ...]
) -> None:
    one, seen = walked(tmp_path / "one", ways)

    def judge(now: Trail, done: Done) -> None:
        stays = [n for n, state in enumerate(done.values()) if state in ("walked", "accepted")]
        assert notes_of(now) == seen[max(stays, default=-1) + 1], done
        if "accepted" not in done.values():  # then all that the person had is there
            there = {p.read_bytes() for p in now.folder.joinpath("new").rglob("*") if p.is_file()}
            assert set(seen[0].values()) <= there, done

    known: list[Done] = []
    explore(one, tmp_path, dict.fromkeys(RUNS[: len(ways)], "walked"), judge, known)
    assert len(known) == {1: 3, 2: 10, 3: 25}[len(ways)], "a prefix accepted, a suffix undone"


def test_a_run_that_is_half_way_is_not_overtaken(tmp_path: Path) -> None:
    one = trail(tmp_path, WAYS["put aside"])
    one.notes("new").mkdir(parents=True)
    (one.notes("new") / "own.txt").write_text("own")
    one.walk("old")
    with pytest.raises(Stopped):
        one.walk("new", Effects(_at("rename", 2)))
    assert not one.notes("new").exists()
    later = run_of(replace(one, medium=tmp_path / "later"), WAYS["put aside"], "later")
    later.walk("old")
    before = contents(tmp_path / "new")
    with pytest.raises(Halted, match="run run is not complete there") as error:
        later.walk("new")
    assert "widetrail undo run" in error.value.todo
    assert contents(tmp_path / "new") == before
    Run(one.new, "run").undo(NOW)
    assert (one.notes("new") / "own.txt").read_text() == "own"
    assert not later.walk("new").bad


@pytest.mark.parametrize("way", ["replaced one by one", "by the program"])
def test_a_finished_run_that_was_overtaken_does_nothing_more(tmp_path: Path, way: str) -> None:
    one = trail(tmp_path, WAYS[way])
    for here in (one, run_of(replace(one, medium=tmp_path / "later"), WAYS["put aside"], "later")):
        assert not here.walk("old").bad
        assert not here.walk("new").bad
    before = contents(tmp_path / "new")
    assert one.walk("new").again
    assert contents(tmp_path / "new") == before


def _at(kind: str, which: int = 1, name: str = "") -> Callable[[Effect], None]:
    """Return a gate that stops before an effect: the one of that number of its kind."""
    seen = []

    def gate(effect: Effect) -> None:
        if effect.kind == kind and name in effect.path:
            seen.append(effect)
            if len(seen) == which:
                raise Stopped(effect)

    return gate


def _after_program(effect: Effect, seen: list[str]) -> None:
    seen.append(f"{effect.kind} {Path(effect.path).name}")
    begun = [n for n, told in enumerate(seen) if told.startswith("start ")]
    if begun and seen[begun[0] :].count("append journal") == 2:  # it ran, and nobody wrote it down
        raise Stopped(effect)


MAKES = "run: [fernbook, make], undo: [fernbook, end], repeat: safe"
DECIDED = "done_when: {begun: {is: 'yes'}}"


@pytest.mark.parametrize(
    ("there", "killed", "more", "doubts", "stays"),
    [
        (True, False, "", 1, True),  # it failed, since one is there: whose that is, nothing tells
        (True, False, DECIDED, 0, True),  # it was there before, so it is not ours
        (False, True, "", 1, True),  # it was made and cut off, then failed, since one was there
        (False, True, DECIDED, 0, False),  # it was not there before, and was there after
        (False, False, "", 0, False),
        (True, True, DECIDED, 0, True),
    ],
)
def test_what_may_not_be_ours_is_not_taken_back_unasked(
    tmp_path: Path, there: bool, killed: bool, more: str, doubts: int, stays: bool
) -> None:
    one = trail(tmp_path, new(f"{{{MAKES}{', ' if more else ''}{more}}}"))
    session = one.notes("new") / "session"
    if there:
        session.parent.mkdir(parents=True)
        session.write_text("made")
    if killed:
        seen: list[str] = []
        with pytest.raises(Stopped):
            one.walk("new", Effects(lambda effect: _after_program(effect, seen)))
        assert session.exists()
    one.walk("new")
    run = Run(one.new)
    plan = run.undo_plan()
    assert len(plan.doubts) == doubts
    assert sum("is not known" in words for words in plan.cannot) == doubts
    copy = shutil.copytree(tmp_path, tmp_path.with_name(f"{tmp_path.name}.copy"), symlinks=True)
    run.undo(NOW)
    assert session.exists() == stays
    if doubts:  # a person says that it was done by this run
        again = Run(replace(one, folder=copy).new)
        again.undo(NOW, {plan.doubts[0].step})
        assert not (copy / "new/root/home/ada/notes/session").exists()


def test_what_is_removed_again_leaves_nothing_of_old_when_it_is_undone(tmp_path: Path) -> None:
    steps = ("copy: '{home}/brought'", "remove: '{home}/brought'")
    one = trail(tmp_path, new(*steps))
    before = contents(tmp_path / "new/root")
    one.walk("old")
    assert not one.walk("new").bad
    Run(one.new).undo(NOW)
    there = contents(tmp_path / "new/root/home")
    assert {n: d for n, d in there.items() if ".local" not in n} == {
        n.removeprefix("home/"): d for n, d in before.items() if n.startswith("home/")
    }


def test_a_place_that_a_program_changed_is_given_back_itself(tmp_path: Path) -> None:
    one = trail(tmp_path, WAYS["by the program"])
    notes = one.notes("new")
    notes.mkdir(parents=True)
    (notes / "shared").write_text("one file, two names")
    os.link(notes / "shared", notes.parent / "other name")
    (notes / "link").symlink_to("shared")
    os.utime(notes / "link", ns=(10**18, 10**18), follow_symlinks=False)
    os.mkfifo(notes / "pipe")
    (notes / "shared").chmod(0o640)
    notes.chmod(0o2750)
    if os.geteuid() == 0:
        os.chown(notes / "shared", 1234, 5678)
    before = {p.name: _status(p) for p in (notes, *notes.iterdir())}
    one.walk("old")
    assert not one.walk("new").bad
    assert (notes / "taken.txt").exists()
    after = {p.name: _status(p) for p in (notes, *notes.iterdir())}
    for name in ("notes", "pipe", "link"):  # what the program was given is as it was too
        assert after[name][:3] == before[name][:3]
    Run(one.new).undo(NOW)
    assert {p.name: _status(p) for p in (notes, *notes.iterdir())} == before
    assert (notes / "shared").stat().st_ino == (notes.parent / "other name").stat().st_ino


def _status(path: Path) -> tuple[object, ...]:
    status = path.lstat()
    return status.st_mode, status.st_uid, status.st_gid, status.st_nlink, status.st_mtime_ns


@SWEEP
def test_what_was_kept_is_told_the_same_after_every_cut(tmp_path: Path) -> None:
    one = trail(tmp_path / "one", WAYS["by the program"])
    one.notes("new").mkdir(parents=True)
    (one.notes("new") / "own.txt").write_text("own")
    one.walk("old")

    def judge(copy: Trail, number: int) -> None:
        assert not copy.walk("new").bad, number
        (told,) = (i.backed_up for i in make_report(copy.parcel).items)
        assert [(copy.new.host(p) / "own.txt").read_text() for p in told] == ["own"], number
        assert not (copy.new.host(told[0]) / "taken.txt").exists()

    assert cut_off_everywhere(one, tmp_path, 1, judge) > 30


ORDINARY = 65534
"""The number of an account that may do nothing beyond its own files."""


@contextmanager
def ordinary() -> Iterator[Path]:
    """Lend a folder of, and be, an account that is not an administrator.

    What is imported or started for the first time only then need not be readable for it.
    """
    root = os.geteuid() == 0
    with tempfile.TemporaryDirectory() as folder:  # below pytest's own folder only root may look
        own = Path(folder) / "own"
        own.mkdir()
        Path(folder).chmod(0o755)
        try:
            if root:
                os.chown(own, ORDINARY, ORDINARY)
                os.setegid(ORDINARY)
                os.seteuid(ORDINARY)
            yield own
        finally:
            if root:
                os.seteuid(0)
                os.setegid(0)
            for path in [p for p in own.rglob("*") if p.is_dir() and not p.is_symlink()]:
                path.chmod(0o755)


@pytest.mark.skipif(sys.platform == "win32", reason="has no permission bits of this kind")
@pytest.mark.parametrize("whose", ["carried", "there", "inside"])
@pytest.mark.parametrize("way", ["put aside", "replaced one by one"])
@pytest.mark.parametrize("end", ["undo", "settle"])
def test_folders_that_may_not_be_written_to(tmp_path: Path, whose: str, way: str, end: str) -> None:
    first = trail(tmp_path, WAYS[way])
    first.walk("old")
    first.walk("new")
    Run(first.new).undo(NOW)
    Run(first.new).settle()
    with ordinary() as own:
        one = trail(own / "one", WAYS[way])
        mine, theirs = one.notes("old"), one.notes("new")
        for folder in (mine / "inner", theirs / "inner"):
            folder.mkdir(parents=True)
            (folder / "a.txt").write_text(f"a of {folder.parents[4].name}\n")
        (theirs / "one.txt").write_text("new's own\n")
        shut = {
            "carried": [mine, mine / "inner"],
            "there": [theirs],
            "inside": [theirs / "inner"],
        }
        for folder in shut[whose]:
            folder.chmod(0o555)
        before = contents(theirs)
        assert not one.walk("old").bad
        done = one.walk("new")
        assert not done.bad, done.bad
        if whose == "carried" and way == "put aside":
            assert stat.S_IMODE((theirs / "inner").stat().st_mode) == 0o555
            assert stat.S_IMODE(theirs.stat().st_mode) == 0o555
        if end == "undo":
            Run(one.new).undo(NOW)
            assert contents(theirs) == before
        Run(one.new).settle()
        assert not list((own / "one/new").rglob("*widetrail*"))


def test_a_walk_and_a_report_after_undoing_say_so(tmp_path: Path) -> None:
    one = trail(tmp_path, WAYS["put aside"])
    one.walk("old")
    one.walk("new")
    machine = ("--machine", tmp_path / "new")
    (one.notes("new") / "since.txt").write_text("since")
    assert widetrail("undo", *machine, "--yes").status == 0
    ran = widetrail("walk", one.at, *machine, "--yes")
    assert (ran.status, "was undone on test" in ran.err) == (3, True)
    report = widetrail("report", one.at, "--json").json
    assert [item["state"] for item in report["items"]] == ["undone"]
    assert (report["well"], report["tasks"]) == (True, [])
    asked = widetrail("settle", *machine)
    assert asked.status == 3
    assert "what was there when it was undone: /home/ada/notes" in asked.err
    assert "/home/ada/notes/since.txt" in asked.err.partition("changed there after the walk")[2]


def test_another_run_at_work_on_the_machine_is_waited_for(tmp_path: Path) -> None:
    one = trail(tmp_path, WAYS["put aside"])
    later = run_of(replace(one, medium=tmp_path / "later"), WAYS["put aside"], "later")
    for here in (one, later):
        here.walk("old")
    at = {}

    def gate(effect: Effect) -> None:
        if "refused" not in at and effect.kind == "barrier":
            at["refused"] = ""
            with pytest.raises(Halted) as error:
                later.walk("new")
            at["refused"] = error.value.what

    one.walk("new", Effects(gate))
    assert at == {"refused": "another run is in progress on this machine"}
    assert not later.walk("new").bad


def test_settling_that_is_cut_off_anywhere_leaves_nothing(tmp_path: Path) -> None:
    one = trail(tmp_path / "one", new("copy"))
    one.walk("old")
    one.walk("new")
    state = "new/root/home/ada/.local/state/widetrail"
    assert (one.folder / state).is_dir()
    for number in range(1, 200):
        there = tmp_path / str(number)
        shutil.copytree(one.folder, there, symlinks=True)
        cut = False
        try:
            Run(FolderMachine(there / "new", Effects(stop_at(number)))).settle()
        except Stopped:
            cut = True
            said = widetrail("settle", "--machine", there / "new", "--yes")
            assert said.status == 0 or "no journal" in said.err
        assert not (there / state).exists()
        assert (there / "new/root/home/ada/notes/one.txt").read_text() == "one\n"
        if not cut:
            return
    raise AssertionError("settling has no end")
