"""Topping up a parcel after the person kept working on old."""

from __future__ import annotations

import os
import shutil
import time
from pathlib import Path

import pytest

from build import NOW, Trail, item, outcomes, trail
from conftest import SWEEP, Stopped, World, contents, stop_at, widetrail
from widetrail.errors import Halted, ParcelUnusable
from widetrail.machine import Effects
from widetrail.walking import LegDone, make_report, top_up

COPY = "        legs:\n          - new:\n              - copy"
GIVE = "run: [fernbook, give, '{parcel}/list'], makes: '{parcel}/list', repeat: safe"
TAKE = "run: [fernbook, take, '{parcel}/list'], changes: notes"
WAYS = f"        legs:\n          - old: [{{{GIVE}}}]\n          - new: [{{{TAKE}}}]"
CHECKED = "    checks: {pages: {}}"


def again(one: Trail, effects: Effects | None = None) -> LegDone:
    return top_up(one.visit("old", effects), NOW)


def work_on(one: Trail) -> None:
    """Change, add and delete, and change once more without a trace in size and time."""
    notes = one.notes("old")
    before = (notes / "same.txt").stat()
    (notes / "same.txt").write_text("fern")
    os.utime(notes / "same.txt", ns=(before.st_atime_ns, before.st_mtime_ns))
    (notes / "one.txt").write_text("one, and more\n")
    (notes / "three.txt").write_text("three\n")
    (notes / "two.txt").unlink()


@pytest.fixture
def packed(tmp_path: Path) -> Trail:
    notes = tmp_path / "one/old/root/home/ada/notes"
    (notes / "deep").mkdir(parents=True)
    (notes / "same.txt").write_text("moss")
    (notes / "deep/large.bin").write_bytes(bytes(range(256)) * 4096)
    one = trail(tmp_path / "one", item(COPY, CHECKED))
    one.walk("old")
    return one


@pytest.mark.parametrize("sealed", ["", "reed bunting"])
def test_what_was_changed_added_and_deleted_comes_along(tmp_path: Path, sealed: str) -> None:
    notes = tmp_path / "old/root/home/ada/notes"
    notes.mkdir(parents=True)
    (notes / "same.txt").write_text("moss")
    one = trail(tmp_path, item(COPY, CHECKED), sealed=sealed)
    one.walk("old")
    before = sorted((one.at / "data/cargo").iterdir())
    work_on(one)
    done = again(one)
    assert done.topped_up == {"fernbook.notes": (1, 2, 1)}
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    kept = {p.name: p.read_text() for p in one.notes("new").iterdir()}
    assert kept == {"same.txt": "fern", "one.txt": "one, and more\n", "three.txt": "three\n"}
    assert set(before) < set((one.at / "data/cargo").iterdir())
    (item_report,) = make_report(one.parcel).items
    assert [(c.name, c.verdict) for c in item_report.checks] == [("pages", "holds")]


def test_only_what_changed_is_packed_and_what_did_not_is_not_read(
    packed: Trail, monkeypatch: pytest.MonkeyPatch
) -> None:
    scan = next((packed.folder / "old").rglob("scan"))
    later = time.time_ns() + 60 * 10**9
    monkeypatch.setattr("time.time_ns", lambda: later)
    again(packed)  # all is read once more, since it was packed just after it was written
    monkeypatch.setattr("time.time_ns", lambda: later + 60 * 10**9)
    (packed.notes("old") / "one.txt").write_text("one, and more\n")
    cargo = sum(p.stat().st_size for p in (packed.at / "data/cargo").iterdir())
    known = scan.stat().st_size
    assert again(packed).topped_up == {"fernbook.notes": (0, 1, 0)}
    assert sum(p.stat().st_size for p in (packed.at / "data/cargo").iterdir()) < cargo + 4096
    assert scan.stat().st_size < known + 300, "more than one file was read"


def test_programs_make_their_files_anew(tmp_path: Path) -> None:
    one = trail(tmp_path, item(WAYS))
    one.walk("old")
    (one.notes("old") / "two.txt").write_text("second\n")
    again(one)
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert (one.notes("new") / "taken.txt").read_text() == "one\nsecond\n"
    assert len(list((one.at / "data/made").rglob("list"))) == 1


def test_an_item_that_fails_stays_as_it_was_packed(packed: Trail) -> None:
    work_on(packed)
    shutil.rmtree(packed.notes("old") / "deep")
    (packed.notes("old") / "deep").symlink_to("/nowhere")

    def gate(effect: object) -> None:
        if getattr(effect, "kind", "") == "create" and "cargo" in getattr(effect, "path", ""):
            raise OSError(28, "No space left on device")

    done = again(packed, Effects(gate))
    assert "stays as it was packed before" in done.troubles[0]
    assert set(outcomes(packed.walk("new")).values()) == {"done"}
    assert (packed.notes("new") / "one.txt").read_text() == "one\n"
    assert (packed.notes("new") / "same.txt").read_text() == "moss"


@SWEEP
def test_cut_off_anywhere_it_is_finished_before_new_takes_it(packed: Trail, tmp_path: Path) -> None:
    work_on(packed)
    refused = whole = 0
    for number in range(1, 200):
        one = Trail(shutil.copytree(packed.folder, tmp_path / str(number), symlinks=True))
        try:
            again(one, Effects(stop_at(number)))
            break
        except Stopped:
            pass
        before = contents(one.folder / "new")
        if one.parcel.is_topped_up:
            whole += 1
        else:
            with pytest.raises(Halted, match="being topped up"):
                one.walk("new")
            assert contents(one.folder / "new") == before
            refused += 1
        again(one)
        assert set(outcomes(one.walk("new")).values()) == {"done"}
        kept = sorted(p.name for p in one.notes("new").iterdir())
        assert kept == ["deep", "one.txt", "same.txt", "three.txt"]
        assert (one.notes("new") / "same.txt").read_text() == "fern"
        shutil.rmtree(one.folder)
    assert refused > 5
    assert whole > 5


def test_it_is_refused_where_it_is_too_late(packed: Trail) -> None:
    copy = shutil.copytree(packed.at, packed.folder / "copy")
    with pytest.raises(Halted, match="cannot be topped up"):
        top_up(packed.visit("new"), NOW)

    def stop(effect: object) -> None:
        if "/staging/" in getattr(effect, "path", ""):
            raise Stopped

    with pytest.raises(Stopped):
        packed.walk("new", Effects(stop))
    again(packed)
    with pytest.raises(Halted, match="topped up after its leg was begun"):
        packed.walk("new")
    shutil.rmtree(packed.at)
    copy.rename(packed.at)
    with pytest.raises(ParcelUnusable, match="not the parcel as it left"):
        again(packed)
    assert set(outcomes(packed.walk("new")).values()) == {"done"}


def test_a_touched_segment_is_refused(packed: Trail) -> None:
    (segment,) = (packed.at / "data/cargo").iterdir()
    segment.write_bytes(segment.read_bytes() + b"\0" * 512)
    with pytest.raises(ParcelUnusable, match="damaged or changed"):
        again(packed)


def test_topping_up_by_the_command_line(world: World) -> None:
    world.plan()
    early = widetrail("walk", world.parcel, "--machine", world.old, "--top-up", "--yes")
    assert (early.status, "cannot be topped up" in early.err) == (3, True)
    world.walk(world.old)
    told = world.walk(world.old)
    assert "nothing changed" in told.out
    assert "--top-up" in told.out
    done = world.walk(world.old, "--top-up")
    assert done.status == 0, done.err
    assert "nothing changed" in done.out
    assert world.walk(world.new).status == 0
    report = widetrail("report", world.parcel)
    assert "topped up" in report.out
    assert "read from the parcel on arrival" in report.out
