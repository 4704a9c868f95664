"""What can be proved of macOS without one: its calls against recorded answers, its files by
independent writers."""

from __future__ import annotations

import ctypes
import errno
import os
import plistlib
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import build
from widetrail.finding import Absent, Known
from widetrail.formats.outside import macos
from widetrail.machine.live import MacMachine


class RecordedLibc:
    """Answers as the manual pages of macOS have them, for a volume that has every call, or none."""

    def __init__(self, *, lacks: bool = False) -> None:
        self.lacks, self.kept = lacks, {b"com.apple.FinderInfo": b"\0" * 32, b"empty": b""}
        self.asked: list[tuple[object, ...]] = []

    def _no(self, code: int) -> int:
        ctypes.set_errno(errno.ENOTSUP if self.lacks else code)
        return -1

    def flistxattr(self, handle: int, names: Any, size: int, options: int) -> int:
        self.asked.append(("flistxattr", size, options))
        told = b"".join(name + b"\0" for name in self.kept)
        if self.lacks or (names is not None and size < len(told)):
            return self._no(errno.ERANGE)
        if names is not None:
            ctypes.memmove(names, told, len(told))
        return len(told)

    def fgetxattr(
        self, handle: int, name: bytes, value: Any, size: int, position: int, options: int
    ) -> int:
        assert (position, options) == (0, 0)
        if name not in self.kept:
            return self._no(93)  # ENOATTR
        if value is not None:
            ctypes.memmove(value, self.kept[name], len(self.kept[name]))
        return len(self.kept[name])

    def fsetxattr(
        self, handle: int, name: bytes, value: bytes, size: int, position: int, options: int
    ) -> int:
        assert (size, position, options) == (len(value), 0, 0)
        if self.lacks:
            return self._no(errno.ENOTSUP)
        if len(name) > 127:
            return self._no(errno.ENAMETOOLONG)
        self.kept[name] = value
        return 0

    def renameatx_np(self, above: int, name: bytes, other: int, there: bytes, flags: int) -> int:
        self.asked.append(("renameatx_np", name, there, flags))
        if self.lacks:
            return self._no(errno.ENOTSUP)
        try:
            os.stat(there, dir_fd=other, follow_symlinks=False)
        except FileNotFoundError:
            os.rename(name, there, src_dir_fd=above, dst_dir_fd=other)
            return 0
        return self._no(errno.EEXIST)

    def gethostuuid(self, number: Any, wait: object) -> int:
        if self.lacks:
            return self._no(errno.EWOULDBLOCK)
        ctypes.memmove(number, bytes(range(16)), 16)
        return 0


@pytest.fixture(params=[False, True], ids=["has all", "lacks all"])
def libc(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> RecordedLibc:
    made = RecordedLibc(lacks=request.param)
    monkeypatch.setattr(macos, "LIBC", made)
    return made


def test_extended_attributes_are_read_and_set(libc: RecordedLibc) -> None:
    assert macos.set_attribute(3, "fern leaf", b"\0\xff") is not libc.lacks
    expected = {"com.apple.FinderInfo": b"\0" * 32, "empty": b"", "fern leaf": b"\0\xff"}
    assert macos.attributes(3) == ({} if libc.lacks else expected)
    if not libc.lacks:
        with pytest.raises(OSError, match="File name too long"):
            macos.set_attribute(3, "x" * 200, b"")


def test_a_rename_replaces_nothing(libc: RecordedLibc, tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / name).write_text(name)
    folder = os.open(tmp_path, os.O_RDONLY)
    try:
        if libc.lacks:
            assert not macos.rename_new(folder, "a", folder, "c")
            assert sorted(os.listdir(tmp_path)) == ["a", "b"]
            return
        with pytest.raises(FileExistsError):
            macos.rename_new(folder, "a", folder, "b")
        assert macos.rename_new(folder, "a", folder, "c")
    finally:
        os.close(folder)
    assert (tmp_path / "c").read_text() == "a"
    assert libc.asked[-1] == ("renameatx_np", b"a", b"c", macos.EXCLUSIVE)


def test_the_number_of_a_computer_is_its_own(libc: RecordedLibc, tmp_path: Path) -> None:
    assert macos.computer_number() == ("" if libc.lacks else bytes(range(16)).hex())


@pytest.mark.parametrize(
    ("code", "falls_back", "raises"),
    [(0, False, False), (errno.ENOTSUP, True, False), (errno.EIO, False, True)],
)
def test_what_is_written_goes_to_the_medium(
    code: int, falls_back: bool, raises: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[tuple[int, int]] = []
    synced: list[int] = []

    def control(handle: int, command: int) -> int:
        asked.append((handle, command))
        if code:
            raise OSError(code, os.strerror(code))
        return 0

    monkeypatch.setattr(macos, "CONTROL", control)
    monkeypatch.setattr(os, "fsync", synced.append)
    if raises:
        with pytest.raises(OSError, match="Input/output error"):
            macos.flush(7)
    else:
        macos.flush(7)
    assert asked == [(7, 51)]
    assert synced == ([7] if falls_back else [])


def test_programs_are_those_of_the_applications_folders(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(macos, "LIBC", RecordedLibc())
    here = MacMachine("ada", str(tmp_path))
    assert here.command("Fernbook") is None
    program = tmp_path / "Applications/Fernbook.app/Contents/MacOS/Fernbook"
    program.parent.mkdir(parents=True)
    program.touch()
    assert here.command("Fernbook") == str(program)
    assert here.root("preferences") == f"{tmp_path}/Library/Preferences"
    assert here.identity == MacMachine("ada", str(tmp_path)).identity
    assert here.identity != MacMachine("brook", str(tmp_path)).identity


PREFERENCES = {
    "Folder": "/Users/ada/Library/Application Support/Fernbook",
    "Count": 7,
    "Names": ["Ada", "Bö 🌿"],
    "Nested": {"Open": True, "Ratio": 0.5},
}


def _by_plistlib(path: Path, form: str) -> None:
    kind = plistlib.FMT_BINARY if form == "binary1" else plistlib.FMT_XML
    path.write_bytes(plistlib.dumps(PREFERENCES, fmt=kind))


def _by_plutil(path: Path, form: str) -> None:
    if shutil.which("plistutil") is None:
        pytest.skip("plistutil of libplist is not installed")
    source = path.with_suffix(".xml")
    _by_plistlib(source, "xml1")
    short = {"binary1": "bin", "xml1": "xml"}[form]
    subprocess.run(["plistutil", "-i", source, "-f", short, "-o", path], check=True)


@pytest.mark.parametrize("form", ["xml1", "binary1"])
@pytest.mark.parametrize("written", [_by_plistlib, _by_plutil], ids=["plistlib", "libplist"])
def test_preferences_are_read_whoever_wrote_them(
    written: Callable[[Path, str], None], form: str, tmp_path: Path
) -> None:
    here = build.machine(tmp_path, "macos")
    path = here.host("/Users/ada/Library/Preferences/org.fern.book.plist")
    path.parent.mkdir(parents=True)
    written(Path(path), form)
    body = """
places:
  settings: {file: "{preferences}/org.fern.book.plist"}
  notes: {folder: "{config}/Fernbook", set_in: {plist: "{settings}", at: Folder}}
readings:
  count: {plist: "{settings}", at: Count, as: number}
  names: {plist: "{settings}", at: Names, as: list}
  ratio: {plist: "{settings}", at: Nested/Ratio, as: text}
"""
    finder = build.find(here, body)
    answers = {n: finder.take(r[0]) for n, r in finder.loaded.recipe.readings.items()}
    values = {n: answer.value for n, answer in answers.items() if isinstance(answer, Known)}
    assert values == {"count": 7, "names": ("Ada", "Bö 🌿"), "ratio": "0.5"}
    where = finder.place("notes")
    assert isinstance(where, Absent)
    assert (where.path, where.how.rule) == (PREFERENCES["Folder"], "told")
