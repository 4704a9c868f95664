"""Exports that are folders, or several files: made on old, carried as they are, taken on new."""

from __future__ import annotations

import io
import tarfile
from pathlib import Path

import pytest

from build import Trail, item, outcomes, trail
from conftest import cut_off_everywhere
from widetrail.errors import ParcelUnusable
from widetrail.formats.outside import SafePath
from widetrail.machine import Effects
from widetrail.parcel.made_folders import FOLDER, pack_folder, unpack_folder

GIVE = "- {run: [fernbook, give-folder, '--to={parcel}/all'], makes: '{parcel}/all'}"
STEPS = f"""        legs:
          - old:
              {GIVE}
          - new:
              - {{run: [fernbook, take-folder, '{{parcel}}/all'], repeat: safe}}
"""

OLD = """        legs:
          - old:
              {}
          - new: [copy]
"""


def made_in(one: Trail) -> list[Path]:
    return sorted(p for p in one.at.rglob("*") if p.is_file() and "made" in p.parts)


def taken(one: Trail) -> dict[str, str]:
    return {path.name: path.read_text() for path in sorted(one.notes("new").iterdir())}


def test_a_folder_travels_whole(tmp_path: Path) -> None:
    one = trail(tmp_path, item(STEPS))
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    (archive,) = one.at.rglob(f"*{FOLDER}")
    with tarfile.open(archive) as tar:
        assert "one/deep/one.txt" in tar.getnames()
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert taken(one) == {"folders": "3", "one.txt": "one\n", "two.txt": "two\n"}
    assert not list((one.folder / "new").rglob(f"*{FOLDER}"))


@pytest.mark.sweep
def test_cut_off_anywhere_the_folder_is_there_whole_or_made_again(tmp_path: Path) -> None:
    one = trail(tmp_path / "whole", item(STEPS))
    one.walk("old")

    def judge(copy: Trail, number: int) -> None:
        assert set(outcomes(copy.walk("new")).values()) <= {"done"}, number
        assert taken(copy) == {"folders": "3", "one.txt": "one\n", "two.txt": "two\n"}, number

    assert cut_off_everywhere(one, tmp_path, 3, judge) > 10


def test_several_files_of_one_command_travel(tmp_path: Path) -> None:
    steps = """        legs:
          - old:
              - run: [fernbook, give-two, "{parcel}/a", "{parcel}/b"]
                makes: ["{parcel}/a", "{parcel}/b"]
          - new:
              - {run: [fernbook, take, "{parcel}/b"], repeat: safe}
"""
    one = trail(tmp_path, item(steps))
    one.walk("old")
    assert [p.name for p in made_in(one)] == ["a", "b"]
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert taken(one) == {"taken.txt": "second"}


@pytest.mark.parametrize(
    ("step", "reason"),
    [
        (GIVE.replace("'--to={parcel}/all'", "'--to={parcel}/all', --link"), "cannot travel"),
        ("- {run: [fernbook, empty-folder, '{parcel}/all'], makes: '{parcel}/all'}", "has no file"),
        ("- {run: [fernbook, say, x], makes: ['{parcel}/a', '{parcel}/b']}", "it made no file a"),
    ],
)
def test_what_cannot_travel_is_told_and_nothing_of_it_does(
    tmp_path: Path, step: str, reason: str
) -> None:
    one = trail(tmp_path, item(OLD.format(step)))
    try:
        told = " ".join(outcomes(one.walk("old")).values())
    except Exception as error:
        told = str(error)
    assert reason in told
    assert made_in(one) == []


def archive_of(name: str, kind: bytes = tarfile.REGTYPE, link: str = "") -> bytes:
    about = tarfile.TarInfo(name)
    about.type, about.linkname = kind, link
    with io.BytesIO() as file:
        with tarfile.open(fileobj=file, mode="w") as tar:
            tar.addfile(about)
        return file.getvalue()


HOSTILE = {
    "above": archive_of("../x"),
    "absolute": archive_of("/tmp/x"),
    "backslash": archive_of("..\\x"),
    "link": archive_of("x", tarfile.SYMTYPE, "/etc/passwd"),
    "hard link": archive_of("x", tarfile.LNKTYPE, "y"),
    "device": archive_of("x", tarfile.CHRTYPE),
    "pipe": archive_of("x", tarfile.FIFOTYPE),
    "none": b"not a tar" * 100,
    "cut": archive_of("x" * 90)[:300],
}


@pytest.mark.parametrize("sort", HOSTILE)
def test_a_hostile_archive_makes_nothing(tmp_path: Path, sort: str) -> None:
    (tmp_path / "x.folder.tar").write_bytes(HOSTILE[sort])
    with pytest.raises(ParcelUnusable):
        unpack_folder(SafePath(tmp_path / "x.folder.tar"), SafePath(tmp_path / "x"), Effects())
    assert not (tmp_path / "x").exists()


def test_any_tree_of_files_is_unpacked_as_it_was(tmp_path: Path) -> None:
    top = tmp_path / "top"
    for name in ("a", "b b/ü.txt", "b b/" + "long" * 40, "c/" + "deep/" * 30 + "x"):
        (top / name).parent.mkdir(parents=True, exist_ok=True)
        (top / name).write_text(name)
    (top / "big").write_bytes(bytes(3_000_000))
    pack_folder(SafePath(top), SafePath(tmp_path / "t.tar"), Effects())
    unpack_folder(SafePath(tmp_path / "t.tar"), SafePath(tmp_path / "again"), Effects())
    found = [
        {p.relative_to(t).as_posix(): p.is_dir() or p.read_bytes() for p in t.rglob("*")}
        for t in (top, tmp_path / "again")
    ]
    assert found[0] == found[1]
