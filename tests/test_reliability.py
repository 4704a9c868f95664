"""Nothing lost: stopped, cut off and refused at every kind of effect, resumed, undone, settled."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import pytest

from build import NOW, Trail, outcomes, trail
from conftest import (
    FIGURES,
    SWEEP,
    Stopped,
    asked,
    contents,
    cut_off_everywhere,
    swept,
    widetrail,
    without_state,
)
from test_doing import new, old
from widetrail.errors import Halted, InputUnusable
from widetrail.machine import Effect, Effects, Machine
from widetrail.machine.moves import Move, carry_out
from widetrail.rehearsing import load_rehearsal
from widetrail.testing import Swept, sweep
from widetrail.walking import Run
from widetrail_demo.world import build_world

ALL = os.environ.get("WIDETRAIL_STOPS") == "all"
FEW = ("huemoss-taken-in", "sporelog")
"""The rehearsals that are swept by every build."""

MORE = (
    "desk-linux",
    "desk-look",
    "dewcast",
    "frondsign",
    "quillbox",
    "quillbox-first-start",
    "seedling-quest",
    "tillbook-hand-over",
    "tillbook-sealed",
)
SWEPT = sorted([*FEW, *(MORE if ALL else ())])


@pytest.fixture(scope="session")
def small_world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("small") / "world"
    build_world(folder, small=True)
    return folder


def _sweep(path: Path) -> Swept:
    return sweep(load_rehearsal(path), NOW)


@pytest.fixture(scope="session")
def sweeps(small_world: Path, request: pytest.FixtureRequest) -> dict[str, Swept]:
    """Rehearsals of the demo, swept on all cores; the figures are printed at the end."""
    names = asked(request, "test_nothing_is_lost_wherever_the_trail_is_stopped", "name")
    paths = [small_world / "recipes" / f"{name}.rehearsal.yaml" for name in names]
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        return dict(zip(names, pool.map(_sweep, paths), strict=True))


@pytest.mark.parametrize("name", swept(SWEPT, []))
def test_nothing_is_lost_wherever_the_trail_is_stopped(
    sweeps: dict[str, Swept], name: str, record_property: Callable[[str, object], None]
) -> None:
    mine = sweeps[name]
    record_property(
        FIGURES,
        f"{name}: {mine.stops} stops ({mine.modes['killed']} killed, "
        f"{mine.modes['power']} power), {mine.states} states, {mine.faults} faults, "
        f"lost {len(mine.troubles)}",
    )
    assert [f"{t.stop}: {t.what}" for t in mine.troubles] == []
    assert min(mine.modes["killed"], mine.modes["power"]) > 20
    assert min(mine.states, mine.faults, mine.within) > 10


@SWEEP
@pytest.mark.parametrize("large", [100, *([1 << 30] if ALL else [])])
def test_no_record_is_lost_wherever_a_merge_is_stopped(
    small_world: Path, monkeypatch: pytest.MonkeyPatch, large: int
) -> None:
    monkeypatch.setattr("widetrail.steps.appending.LARGE", large)
    swept = _sweep(small_world / "conversions/quillbox-to-wicketleaf.rehearsal.yaml")
    assert [f"{t.stop}: {t.what}" for t in swept.troubles] == []
    assert min(swept.states, swept.faults) > 20


@SWEEP
@pytest.mark.parametrize("effect", ["barrier", *(["sync_folder"] if ALL else [])])
def test_the_sweep_sees_what_is_not_made_durable(
    small_world: Path, monkeypatch: pytest.MonkeyPatch, effect: str
) -> None:
    """Without the effect, a power cut loses something, and the sweep must say so."""
    monkeypatch.setattr(Effects, effect, lambda self, path: None)
    rehearsal = load_rehearsal(small_world / "recipes" / "sporelog.rehearsal.yaml")
    swept = sweep(rehearsal, NOW, enough=lambda trouble: "power" in trouble.stop)
    assert "power" in swept.troubles[-1].stop


@SWEEP
def test_the_sweep_sees_that_what_was_there_is_destroyed(
    small_world: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def careless(machine: Machine, moves: list[Move], *_: object) -> None:
        for move in moves:
            if move.kind == "out" and machine.look(move.source) is not None:
                machine.effects.remove_tree(machine.host(move.source))
        carry_out(machine, moves)

    monkeypatch.setattr("widetrail.steps.publish.carry_out", careless)
    rehearsal = load_rehearsal(small_world / "recipes" / "sporelog.rehearsal.yaml")
    swept = sweep(rehearsal, NOW, enough=lambda trouble: "undone" in trouble.what)
    assert "undone" in swept.troubles[-1].what


ROUTES = {"quillbox": ("seed-vault", "herbarium-loft")}


@pytest.mark.parametrize("name", swept(["sporelog", "huemoss", "quillbox"], ["sporelog"]))
def test_a_real_process_that_is_killed_is_walked_again(
    small_world: Path, tmp_path: Path, name: str
) -> None:
    """A real SIGKILL of the real command, at moments thrown from a seed."""
    world = shutil.copytree(small_world, tmp_path / "world")
    first, second = ROUTES.get(name, ("potting-shed", "glass-office"))
    recipe = world / f"recipes/{name}.trail.yaml"
    old_machine, new_machine = world / "machines" / first, world / "machines" / second
    choice = ["--without", "views"] if name == "sporelog" else []
    ran = widetrail(
        "plan",
        recipe,
        "--old",
        old_machine,
        "--new",
        new_machine,
        "--parcel",
        world / "parcel",
        *choice,
    )
    assert ran.status == 0, ran.err
    (world / "answers.yaml").write_text("passphrase: reed bunting\n")
    dice, kills = random.Random(7), 0
    for machine in (old_machine, new_machine):
        here: list[str | Path] = [
            sys.executable,
            "-m",
            "widetrail",
            "walk",
            world / "parcel",
            "--machine",
            machine,
            "--yes",
            "--no-wait",
            "--answers",
            world / "answers.yaml",
        ]
        for _ in range(6):
            process = subprocess.Popen(here, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(dice.uniform(0.4, 1.6))
            kills += process.poll() is None
            process.send_signal(signal.SIGKILL)
            process.wait()
        for _ in range(10):
            done = subprocess.run(here, capture_output=True, text=True, check=False)
            if "which an earlier walk started, is still running" not in done.stdout + done.stderr:
                break
            time.sleep(0.5)  # the walk was killed, its program was not
        assert done.returncode == 0, done.stdout + done.stderr
    assert kills >= 3
    report = widetrail("report", world / "parcel", "--json").json
    assert {entry["state"] for entry in report["items"]} == {"carried"}
    assert not list(world.rglob("staging"))


# Undo and settle, by the command line


def test_undo_shows_first_gives_back_and_settle_leaves_nothing(tmp_path: Path) -> None:
    (tmp_path / "new/root/home/ada/notes").mkdir(parents=True)
    (tmp_path / "new/root/home/ada/notes/theirs.txt").write_text("there")
    steps = ("copy", "{run: [fernbook, count], changes: extra}", "person: Read them.")
    one = trail(tmp_path, new(*steps), hands={})
    before = contents(one.folder / "new")
    one.walk("old")
    one.walk("new")
    here = ("--machine", one.folder / "new")
    shown = widetrail("undo", *here)
    assert shown.status == 3
    assert "restore what was at /home/ada/notes before" in shown.err
    assert "what you did yourself: Read them." in shown.err
    with pytest.raises(Halted, match="its leg here is not complete"):
        Run(one.new).settle()
    assert widetrail("undo", *here, "--yes", "--no-wait").status == 0
    assert without_own(contents(one.folder / "new")) == without_own(before)
    again = widetrail("undo", *here, "--yes")
    assert (again.status, "was undone on test before" in again.err) == (3, True)
    walked = widetrail("walk", one.folder / "parcel", *here, "--yes")
    assert (walked.status, "the move was undone on test" in walked.err) == (3, True)
    assert widetrail("settle", *here).status == 3
    assert widetrail("settle", *here, "--yes").status == 0
    assert contents(one.folder / "new") == before
    with pytest.raises(InputUnusable, match="there is no journal of a run there"):
        Run(one.new)


def without_own(found: dict[str, str]) -> dict[str, str]:
    """Leave out the tool's own, and the folders that lead to it."""
    return {name: data for name, data in without_state(found).items() if "/.local" not in name}


def test_what_changed_since_is_put_away_by_undo_and_not_destroyed(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    one.walk("old")
    one.walk("new")
    (one.notes("new") / "since.txt").write_text("mine")
    Run(one.new).undo(NOW)
    assert not one.notes("new").exists()
    (kept,) = one.folder.glob("new/**/undone/**/since.txt")
    assert kept.read_text() == "mine"


def test_what_a_recipe_says_undoes_a_command_is_run(tmp_path: Path) -> None:
    begin = "{run: [fernbook, begin], undo: [fernbook, end]}"
    one = trail(tmp_path, old(begin))
    one.walk("old")
    assert (one.notes("old") / "session").exists()
    Run(one.old).undo(NOW)
    assert not (one.notes("old") / "session").exists()
    failed = trail(tmp_path / "failed", old(begin.replace("begin", "spoil, '{parcel}/x'")))
    failed.walk("old")
    assert Run(failed.old).undo_plan().acts == ()


def test_a_program_that_is_open_is_waited_for_before_undoing(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    one.walk("old")
    one.walk("new")
    (one.notes("new") / "lock").write_text("")
    ran = widetrail("undo", "--machine", one.folder / "new", "--yes", "--no-wait")
    assert (ran.status, "/home/ada/notes/lock is there" in ran.err) == (3, True)
    assert (one.notes("new") / "one.txt").exists()


# What is carried as it was


def _odd_notes(notes: Path) -> None:
    notes.mkdir(parents=True)
    (notes / "empty").mkdir()
    (notes / "empty.txt").write_bytes(b"")
    (notes / "link").symlink_to("../elsewhere")
    (notes / os.fsdecode(b"caf\xe9.txt")).write_text("latin")
    os.link(notes / "empty.txt", notes / "twin.txt")
    with (notes / "holes").open("wb") as file:
        file.truncate(8 * 1024 * 1024)
        file.seek(4 * 1024 * 1024)
        file.write(b"data")
    (notes / "holes").chmod(0o640)
    os.utime(notes / "holes", ns=(10**18, 10**18 + 1))
    try:
        os.setxattr(notes / "empty.txt", "user.label", b"fern \xff")
    except OSError:
        pytest.skip("this volume has no extended attributes")


def test_links_holes_names_times_and_attributes_arrive(tmp_path: Path) -> None:
    _odd_notes(tmp_path / "old/root/home/ada/notes")
    one = trail(tmp_path, new("copy"))
    one.walk("old")
    one.walk("new")
    assert contents(one.notes("new")) == contents(one.notes("old"))
    twins = [one.notes("new") / name for name in ("empty.txt", "twin.txt")]
    assert twins[0].stat().st_ino == twins[1].stat().st_ino
    assert os.getxattr(twins[1], "user.label") == b"fern \xff"
    assert (one.notes("new") / "holes").stat().st_blocks * 512 < 1024 * 1024


def test_what_a_program_changed_comes_back_as_it_was(tmp_path: Path) -> None:
    _odd_notes(tmp_path / "old/root/home/ada/notes")
    one = trail(tmp_path, old("{run: [fernbook, spoil], changes: notes}"))
    before = contents(one.notes("old"))
    assert one.walk("old").failed
    assert contents(one.notes("old")) == before
    assert (one.notes("old") / "empty.txt").stat().st_nlink == 2


def test_names_that_new_cannot_hold_are_told_and_called_otherwise(tmp_path: Path) -> None:
    notes = tmp_path / "old/root/home/ada/notes"
    notes.mkdir(parents=True)
    for name in (
        "Fern.txt",
        "fern.txt",
        "a:b",
        "con",
        "dot.",
        os.fsdecode(b"caf\xe9"),
        "Å",
        "A\u030a",
    ):
        (notes / name).write_text(name.encode("utf-8", "surrogateescape").hex())
    one = trail(tmp_path, new("copy"), platform="windows")
    (planned,) = one.parcel.plan.items
    assert planned.renamed == {
        "fern.txt": "fern (2).txt",
        "a:b": "a%3Ab",
        "con": "%63on",
        "dot.": "dot%2E",
        os.fsdecode(b"caf\xe9"): "caf%E9",
        "Å": "Å (2)",
    }
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    home = one.folder / "new/c/Users/ada/notes"
    assert (home / "fern (2).txt").read_text() == b"fern.txt".hex()
    assert (home / "caf%E9").read_text() == b"caf\xe9".hex()
    assert (home / "A\u030a").read_text() == "A\u030a".encode().hex()
    assert len(list(home.iterdir())) == 10  # with one.txt and two.txt


def test_a_single_file_is_carried_in_every_form(tmp_path: Path) -> None:
    legs = new("copy").replace("from: notes\n    leave: [lock]", "from: single")
    expected = {
        "back up": "one\n",
        "replace": "one\n",
        "skip": "theirs",
        "alongside": "theirs",
    }
    for existing, wanted in expected.items():
        text = legs.replace("name: way", f"name: way\n        existing: {existing}")
        folder = tmp_path / existing
        there = folder / "new/root/home/ada/notes/one.txt"
        there.parent.mkdir(parents=True)
        there.write_text("theirs")
        one = trail(folder, text, places='  single: {file: "{home}/notes/one.txt"}\n')
        before = contents(one.notes("new"))
        one.walk("old")
        assert set(outcomes(one.walk("new")).values()) == {"done"}
        assert there.read_text() == wanted
        if existing == "alongside":
            assert there.with_name("one (from test).txt").read_text() == "one\n"
        Run(one.new).undo(NOW)
        assert contents(one.notes("new")) == before


# Where things lie


def test_a_place_on_another_volume_is_staged_there_and_its_folders_are_made(tmp_path: Path) -> None:
    one = trail(
        tmp_path, new("copy: '{notes}/deep/down'"), disks="  /home/ada/notes: {folder: n}\n"
    )
    one.walk("old")
    seen: list[tuple[str, str]] = []
    effects = Effects(lambda e: seen.append((e.kind, e.path)))
    assert set(outcomes(one.walk("new", effects)).values()) == {"done"}
    staged = [path for kind, path in seen if kind == "create" and "staging" in path]
    assert staged and all("/n/.widetrail/" in path for path in staged)
    assert sorted(os.listdir(one.folder / "new/n")) == ["deep"]
    Run(one.new).undo(NOW)
    Run(one.new).settle()
    assert os.listdir(one.folder / "new/n") == []


def test_what_appears_meanwhile_is_put_aside_too_and_said(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    one.walk("old")
    renames: list[str] = []

    def appear(effect: Effect) -> None:
        if effect.kind == "rename" and not renames:
            renames.append("")
            one.notes("new").mkdir()
            (one.notes("new") / "sudden.txt").write_text("mine")

    done, _ = one.walk("new", Effects(appear)).steps
    assert list(done.outcome.facts.of("appeared")) == ["/home/ada/notes"]
    assert sorted(os.listdir(one.notes("new"))) == ["one.txt", "two.txt"]
    (kept,) = one.folder.glob("new/**/aside/**/sudden.txt")
    assert kept.read_text() == "mine"


def test_a_program_opened_between_staging_and_publishing_is_waited_for(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    one.walk("old")

    def open_it(effect: object) -> None:
        if getattr(effect, "kind", "") == "barrier":
            one.notes("new").mkdir(exist_ok=True)
            (one.notes("new") / "lock").write_text("")

    (reason,) = outcomes(one.walk("new", Effects(open_it))).values()
    assert "Fernbook is open on test" in reason
    assert os.listdir(one.notes("new")) == ["lock"]
    (one.notes("new") / "lock").unlink()
    one.notes("new").rmdir()
    creates: list[str] = []
    again = one.walk(
        "new", Effects(lambda e: creates.append(e.path) if e.kind == "create" else None)
    )
    assert set(outcomes(again).values()) == {"done"}
    assert not [path for path in creates if "one.txt" in path], "what is staged is not staged again"


SEEN_BY_BOTH = (
    "shares: [{folder: /home/ada/notes, share: //garden/notes}]",
    "synced: [{folder: /home/ada/notes, service: Commonbed}]",
)


@pytest.mark.parametrize("kept", SEEN_BY_BOTH)
def test_a_folder_that_both_machines_see_is_neither_copied_nor_retired(
    tmp_path: Path, kept: str
) -> None:
    extra = "\n  extra: {title: Extra, from: extra, routes: [{name: way, legs: [{new: [copy]}]}]}\n"
    (tmp_path / "old/root/home/ada/extra").mkdir(parents=True)
    one = trail(tmp_path, new("copy", more="    retire: yes") + extra, machines=f"{kept}\n")
    (left,) = one.parcel.plan.left
    assert (left.id, left.there.rpartition("/")[2]) == (
        "fernbook.notes",
        "notes" if "share" in kept else "Commonbed",
    )
    assert {step.item for step in one.parcel.plan.steps} == {"fernbook.extra"}
    one.walk("old")
    one.walk("new")
    assert not one.notes("new").exists()
    assert widetrail("report", one.folder / "parcel").status == 0


def test_a_second_walk_of_a_finished_leg_changes_nothing_even_its_manifests(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    one.walk("old")
    before = contents(one.folder)
    visit = one.visit("old")
    assert not visit.due_here
    assert visit.after_done(NOW).again
    assert contents(one.folder) == before
    (one.folder / "parcel/tagmanifest-sha256.txt").unlink()
    one.visit("old").after_done(NOW)
    assert contents(one.folder).keys() == before.keys()


def test_what_was_packed_before_a_cut_is_not_packed_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.parcel.cargo.SEGMENT", 4096)
    monkeypatch.setattr("widetrail.parcel.parcel.COMMIT", 4096)
    notes = tmp_path / "old/root/home/ada/notes"
    notes.mkdir(parents=True)
    for number in range(40):
        (notes / f"{number}.txt").write_bytes(bytes(5000))
    one = trail(tmp_path, new("copy"))
    packed: list[str] = []

    def note(effect: Effect) -> None:
        if effect.kind == "create" and "cargo" in effect.path:
            packed.append(effect.path)

    def stop(effect: Effect) -> None:
        note(effect)
        if len(packed) > 90:
            raise Stopped

    with pytest.raises(Stopped):
        one.walk("old", Effects(stop))
    packed.clear()
    assert set(outcomes(one.walk("old", Effects(note))).values()) == {"done"}
    assert 20 < len(packed) < 50, "120 segments would be all of it"
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert contents(one.notes("new")) == contents(one.notes("old"))


def test_two_walks_at_once_are_refused(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    seen: list[str] = []

    def walk_too(effect: Effect) -> None:
        if effect.kind == "write" and "cargo" in effect.path and not seen:
            seen.append("")
            with pytest.raises(Halted, match="another process is working on this run"):
                one.walk("old")

    assert set(outcomes(one.walk("old", Effects(walk_too))).values()) == {"done"}
    assert seen


def test_a_medium_that_was_swapped_is_noticed_before_anything_is_added(tmp_path: Path) -> None:
    one = trail(tmp_path / "one", new("copy"))
    other = trail(tmp_path / "other", new("copy"))
    untouched = contents(other.folder / "parcel")

    def swap(effect: Effect) -> None:
        if effect.kind == "sync folder" and effect.path.endswith("cargo"):
            (one.folder / "parcel").rename(tmp_path / "pocket")
            shutil.copytree(other.folder / "parcel", one.folder / "parcel")
            (tmp_path / "pocket/data/cargo").mkdir(exist_ok=True)

    with pytest.raises(Halted, match="not the parcel with which the leg began"):
        one.walk("old", Effects(swap))
    assert contents(one.folder / "parcel").keys() == untouched.keys()


def test_an_older_copy_of_a_parcel_is_refused_where_a_later_one_was_seen(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy"))
    shutil.copytree(one.folder / "parcel", tmp_path / "copy")
    one.walk("old")
    (one.folder / "parcel").rename(tmp_path / "later")
    (tmp_path / "copy").rename(one.folder / "parcel")
    before = contents(one.folder)
    ran = widetrail("walk", one.folder / "parcel", "--machine", one.folder / "old", "--yes")
    assert (ran.status, "not the parcel as it left this computer" in ran.err) == (2, True)
    assert contents(one.folder) == before


@SWEEP
def test_putting_back_that_is_cut_off_too_loses_nothing(tmp_path: Path) -> None:
    """A run is cut off, the walk that puts its place back is cut off anywhere, then all goes on."""
    there = tmp_path / "one/new/root/home/ada/notes/theirs.txt"
    there.parent.mkdir(parents=True)
    there.write_text("there")
    one = trail(tmp_path / "one", new("{run: [fernbook, count], changes: notes, repeat: safe}"))
    before = contents(one.notes("new"))
    seen: list[str] = []

    def after_start(effect: Effect) -> None:
        seen.append(effect.kind)
        if seen[-3:-1] == ["append", "write"] and "start" in seen:
            raise Stopped

    with pytest.raises(Stopped):
        one.walk("new", Effects(after_start))

    def judge(copy: Trail, number: int) -> None:
        assert set(outcomes(copy.walk("new")).values()) <= {"done"}
        assert (copy.notes("new") / "count").read_text() == "once\n"
        Run(copy.new).undo(NOW)
        assert contents(copy.notes("new")) == before

    assert cut_off_everywhere(one, tmp_path, 1, judge) > 30
