"""The parcel's parts: hostile indices, the journal's frames, the seam, names and sizes."""

import json
import random
import shutil
import subprocess
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from build import Trail, item, outcomes, trail
from conftest import World, contents, widetrail
from widetrail.errors import InputUnusable, ParcelUnusable
from widetrail.formats.canonical import canonical
from widetrail.formats.quantities import parse_size, show_size
from widetrail.machine import EffectFailed, Effects, medium_of
from widetrail.machine.paths import is_within, join, trouble_with_name, written_by_machine
from widetrail.parcel.index import read_index, write_index
from widetrail.steps import CargoEntry
from widetrail.walking.journal import Journal

HASH = "0" * 64
SOUND = (
    CargoEntry("a.b", "x", "folder", 0, 1, 0o755),
    CargoEntry("a.b", "x/y", "file", 3, 1, 0o644, sha256=HASH, segment="000001.tar", offset=512),
    CargoEntry("a.b", "x/l", "link", 0, 1, 0o777, target="../../z"),
)


def index(*entries: CargoEntry, **changes: Any) -> bytes:
    document = json.loads(write_index(entries))
    columns, row = document["columns"], document["entries"][-1]
    for name, value in changes.items():
        if name in columns:
            row[columns.index(name)] = value
        else:
            row.append(value)
    return canonical(document)


def read(data: bytes, platform: Any = "windows") -> tuple[CargoEntry, ...]:
    return read_index([data], "index", {"a.b": {}}, {"000001.tar": 4096}, platform)


def test_a_sound_index_comes_back() -> None:
    assert read(write_index(SOUND)) == SOUND


HOSTILE: dict[str, dict[str, Any]] = {
    "climbs": {"path": "../y"},
    "climbs below": {"path": "x/../../y"},
    "absolute": {"path": "/etc/passwd"},
    "drive": {"path": "C:/x"},
    "another item": {"item": "c.d"},
    "no parent": {"path": "q/y"},
    "below a link": {"path": "x/l/y"},
    "stream": {"path": "x/y:stream"},
    "reserved": {"path": "x/NUL.txt"},
    "trailing dot": {"path": "x/y."},
    "zero": {"path": "x/\0"},
    "backslash": {"path": "x\\y"},
    "twice": {"path": "X/L"},
    "size lies": {"size": 10_000},
    "negative": {"size": -1},
    "offset": {"offset": 4095},
    "segment": {"segment": "../../secret"},
    "bytes of another": {"offset": 514},
    "no digest": {"sha256": ""},
    "kind": {"kind": "device"},
    "type": {"size": "3"},
    "truth": {"size": True},
    "more": {"more": 1},
}


@pytest.mark.parametrize("changes", HOSTILE.values(), ids=HOSTILE)
def test_a_hostile_index_is_refused_as_a_whole(changes: dict[str, Any]) -> None:
    one = CargoEntry("a.b", "x/z", "file", 3, 1, 0o644, "", HASH, "000001.tar", 1024)
    assert read(index(*SOUND, one))[-1] == one
    with pytest.raises(ParcelUnusable):
        read(index(*SOUND, one, **changes))


@pytest.mark.parametrize("data", [b"", b"[]", b"{}", b'{"format":2,"entries":[]}', b"[" * 99999])
def test_no_index_at_all_is_refused(data: bytes) -> None:
    with pytest.raises(ParcelUnusable):
        read(data)


def test_names_for_linux_may_be_what_windows_refuses() -> None:
    odd = CargoEntry("a.b", "NUL: no text \udcff", "folder", 0, 1, 0o755)
    assert read(write_index([odd]), "linux") == (odd,)
    assert odd.path.endswith("\udcff")


def test_the_journal_cuts_a_torn_tail_and_stops_at_damage(tmp_path: Path) -> None:
    path = tmp_path / "journal"
    journal = Journal(path, "journal", Effects())
    for number in range(3):
        journal.add({"event": "x", "number": number})
    whole = path.read_bytes()
    for cut in range(1, len(whole.splitlines(keepends=True)[-1])):
        path.write_bytes(whole[:-cut])
        again = Journal(path, "journal", Effects())
        assert [r["number"] for r in again.records] == [0, 1]
        again.add({"event": "x", "number": 9})
        assert [r["number"] for r in Journal(path, "j", Effects()).records] == [0, 1, 9]
    damaged = bytearray(whole)
    damaged[len(whole) // 2] ^= 1
    path.write_bytes(damaged)
    with pytest.raises(InputUnusable, match="the journal of this station is damaged"):
        Journal(path, "journal", Effects())


def test_the_seam_never_replaces(tmp_path: Path) -> None:
    effects, one, two = Effects(), tmp_path / "one", tmp_path / "two"
    effects.put(one, b"1")
    effects.put(two, b"2")
    with pytest.raises(EffectFailed) as error:
        effects.rename(one, two)
    assert error.value.status == 3
    with pytest.raises(EffectFailed):
        effects.put(two, b"3")
    assert (one.read_bytes(), two.read_bytes()) == (b"1", b"2")
    (tmp_path / "folder").mkdir()
    with pytest.raises(EffectFailed):
        effects.rename(one, tmp_path / "folder")


def test_links_in_an_item_travel_as_links(world: World) -> None:
    collection = world.old / "disks/D/Herbarium/Sporelog"
    (collection / "plates/again.png").symlink_to("plate-0032.png")
    (collection / "out").symlink_to("/etc")
    (collection / "hollow").mkdir()
    assert world.plan().status == 0
    assert world.walk(world.old).status == 0
    assert world.walk(world.new).status == 0
    new = contents(world.new / "disks/C/Users/imarsh/Documents/Sporelog")
    assert new["plates/again.png"].startswith("-> plate-0032.png")
    assert new["out"].startswith("-> /etc")
    assert new["hollow"].startswith("folder")


def test_a_medium_is_the_folder_that_plays_it(world: World) -> None:
    medium = medium_of(world.parcel)
    assert medium.name == "the green memory stick"
    assert 15 << 30 < medium.free <= 16 << 30
    world.edit("media/memory-stick/medium.yaml", lambda s: s.replace("16 GiB", "large"))
    ran = world.plan()
    assert ran.status == 2
    assert 'medium.yaml:2:7: size: "large" is no size' in ran.err


@pytest.mark.parametrize(
    ("call", "words"),
    [
        (["lintt"], 'no such command "lintt". Did you mean "lint"?'),
        (["lint", "nowhere.trail.yaml"], "nowhere.trail.yaml: cannot be read: No such file"),
        (["report", "nowhere"], "nowhere: is no parcel: it holds no logbook"),
        (["rehearse", "nowhere"], "nowhere: nothing to rehearse: there is no such file"),
        (["walk"], "Missing argument"),
    ],
)
def test_a_call_that_cannot_be_used_ends_with_2(call: list[str], words: str) -> None:
    ran = widetrail(*call)
    assert ran.status == 2
    assert words in ran.err
    assert "Traceback" not in ran.err


@given(st.integers(0, 2**50))
def test_sizes_are_shown_and_read(size: int) -> None:
    assert abs(parse_size(show_size(size)) - size) <= max(1, size // 15)


@given(st.text(max_size=30))
def test_a_name_that_windows_takes_linux_takes_too(name: str) -> None:
    if not trouble_with_name(name, "windows"):
        fits = len(name.encode("utf-8", "surrogateescape")) <= 255
        assert not fits or not trouble_with_name(name, "linux")


def test_paths_of_a_machine() -> None:
    assert join("C:", "a", "", "b/") == "C:/a/b"
    assert written_by_machine("d:\\a\\\\b\\", "windows") == "D:/a/b"
    assert written_by_machine(r"\\server\share\x", "windows") == "//server/share/x"
    assert is_within("c:/A/b", "C:/a", "windows")
    assert not is_within("C:/ab", "C:/a", "windows")
    assert not is_within("/a/B", "/a/b", "linux")


def _damaged(path: Path, how: str, at: int) -> None:
    data = bytearray(path.read_bytes())
    match how:
        case "changed":
            data[at] ^= 1 << at % 8
        case "cut":
            del data[at:]
        case "doubled":
            data[at:at] = data[at : at + 1]
    path.write_bytes(data)


def test_a_parcel_damaged_anywhere_is_refused_or_comes_to_the_same(tmp_path: Path) -> None:
    """A byte changed, cut or doubled in any file: never an error of another kind, nothing lost."""
    give = "run: [fernbook, give, '{parcel}/x'], makes: '{parcel}/x'"
    legs = f"        legs:\n          - old:\n              - {{{give}}}\n          - new:\n"
    one = trail(tmp_path / "one", item(f"{legs}              - copy", "    checks: {pages: {}}"))
    one.walk("old")
    whole = sorted(p for p in (one.folder / "parcel").rglob("*") if p.is_file())
    dice, before, ended = random.Random(11), contents(one.folder / "new"), Counter[str]()
    for number in range(150):
        copy = Trail(shutil.copytree(one.folder, tmp_path / str(number), symlinks=True))
        file = dice.choice([p for p in whole if p.stat().st_size])
        how, at = dice.choice(("changed", "cut", "doubled")), dice.randrange(file.stat().st_size)
        _damaged(copy.folder / file.relative_to(one.folder), how, at)
        try:
            assert set(outcomes(copy.walk("new")).values()) == {"done"}
            assert sorted(p.name for p in copy.notes("new").iterdir()) == ["one.txt", "two.txt"]
            ended["walked"] += 1
        except ParcelUnusable:
            assert contents(copy.folder / "new") == before
            ended["refused"] += 1
        shutil.rmtree(copy.folder)
    assert min(ended.values()) > 20


def test_a_file_that_no_segment_holds_is_packed_in_pieces_that_any_tool_joins(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.parcel.cargo.SEGMENT", 64 * 1024)
    monkeypatch.setattr("widetrail.parcel.cargo.HEADERS", 8 * 1024)
    notes = tmp_path / "old/root/home/ada/notes"
    notes.mkdir(parents=True)
    large = random.Random(5).randbytes(200_001)
    (notes / "large.bin").write_bytes(large)
    one = trail(tmp_path, item("        legs:\n          - new:\n              - copy"))
    one.walk("old")
    segments = sorted((one.folder / "parcel/data/cargo").iterdir())
    assert len(segments) == 4
    assert max(segment.stat().st_size for segment in segments) <= 64 * 1024
    for segment in segments:
        subprocess.run(["tar", "-xf", segment, "-C", tmp_path], check=True)
    pieces = sorted((tmp_path / "fernbook.notes").glob("large.bin*"))
    assert [p.name for p in pieces][1:] == [f"large.bin.piece-{n:04d}" for n in (2, 3, 4)]
    assert b"".join(p.read_bytes() for p in pieces) == large
    one.walk("new")
    assert (one.notes("new") / "large.bin").read_bytes() == large


WRONG_PIECES = {
    "lie about the size": '[["000001.tar", 512, 1], ["000001.tar", 1024, 1]]',
    "lie outside": '[["000001.tar", 512, 2], ["000001.tar", 4096, 1]]',
    "of no segment": '[["../x.tar", 0, 3]]',
    "negative": '[["000001.tar", 512, 4], ["000001.tar", 512, -1]]',
    "no pieces": "[]",
    "no list": "{",
    "no pairs": "[1, 2]",
}


@pytest.mark.parametrize("pieces", WRONG_PIECES.values(), ids=WRONG_PIECES)
def test_pieces_that_lie_are_refused(pieces: str) -> None:
    with pytest.raises(ParcelUnusable):
        read(index(*SOUND[:2], pieces=pieces))
