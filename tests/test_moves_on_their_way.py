"""Moves that an earlier release began: a later one goes on with them, and takes them back."""

import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from build import Trail, outcomes
from make_moves_on_their_way import CASES, WORDS
from widetrail.errors import ParcelUnusable
from widetrail.formats import digest
from widetrail.library.endings import undo
from widetrail.walking import Visit

SAFELY: dict[str, Any] = {"filter": "data"} if hasattr(tarfile, "data_filter") else {}


@pytest.fixture
def on_its_way(tmp_path: Path) -> Callable[[str], Trail]:
    def unpack(name: str) -> Trail:
        with tarfile.open(CASES / f"{name}.tar.xz") as archive:
            archive.extractall(tmp_path, **SAFELY)
        for file in tmp_path.glob("*/machine.yaml"):
            text = file.read_text()
            for word, stands_for in WORDS.items():
                text = text.replace(stands_for, word)
            file.write_text(text)
        return Trail(tmp_path)

    return unpack


def notes(one: Trail) -> dict[str, str]:
    return {p.name: p.read_text() for p in one.notes("new").iterdir()}


MOVED = {"one.txt": "one\n", "two.txt": "two\n"}
BEFORE = {"one.txt": "of the new one\n"}


@pytest.mark.parametrize("name", ["packed", "cut_off"])
def test_a_parcel_that_was_on_its_way_goes_on(
    name: str, on_its_way: Callable[[str], Trail]
) -> None:
    one = on_its_way(name)
    done = one.walk("new")
    assert set(outcomes(done).values()) == {"done"}
    assert notes(one) == MOVED
    undo(one.new)
    assert notes(one) == BEFORE


def test_a_journal_of_before_is_undone(on_its_way: Callable[[str], Trail]) -> None:
    one = on_its_way("arrived")
    assert notes(one) == MOVED
    assert one.walk("new").again
    undo(one.new)
    assert notes(one) == BEFORE


def test_what_is_of_another_format_is_refused_before_anything_is_changed(
    on_its_way: Callable[[str], Trail],
) -> None:
    one = on_its_way("packed")
    book = one.at / "logbook"
    first, second = sorted(book.iterdir())
    for path, change in ((first, b'"format":1'), (second, b"")):
        line = path.read_bytes().split(b"\n")[0].replace(change or b"\0", b'"format":99')
        path.write_bytes(line + b"\n" + digest(line).encode() + b"\n")
    with pytest.raises(ParcelUnusable, match="a newer release reads it") as refused:
        Visit(one.parcel, one.new, station="new")
    assert refused.value.todo
    assert notes(one) == BEFORE
