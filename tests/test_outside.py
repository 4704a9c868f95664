"""The one way to touch what comes from outside: no link is followed at any level, whenever."""

from __future__ import annotations

import errno
import os
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from build import trail
from conftest import contents
from test_doing import new
from widetrail.errors import WideTrailError
from widetrail.formats import outside
from widetrail.formats.outside import SafePath, flush_files, opening, read_outside

pytestmark = pytest.mark.skipif(os.name == "nt", reason="needs the links of a POSIX system")

WAYS: dict[str, Callable[[SafePath], object]] = {
    "open": lambda p: p.read_bytes(),
    "open to write": lambda p: p.write_bytes(b"x"),
    "read": read_outside,
    "status": lambda p: p.stat(),
    "list": lambda p: list(p.parent.iterdir()),
    "folder": lambda p: outside.make_folder(p.parent / "made"),
    "link": lambda p: outside.make_link(p.parent / "made", "/etc", 1),
    "hard link": lambda p: outside.make_hard_link(p.parent / "made", p),
    "pipe": lambda p: outside.make_pipe(p.parent / "made"),
    "remove": outside.remove_file,
    "remove folder": lambda p: outside.remove_folder(p.parent / "deep"),
    "rename": lambda p: outside.rename(p, p.parent / "made"),
    "replace": lambda p: outside.replace(p, p.parent / "made"),
    "cut": lambda p: outside.cut(p, 0),
    "mode": lambda p: outside.set_mode(p, 0o777),
    "times": lambda p: outside.set_times(p, 1),
    "attributes": lambda p: outside.set_attributes(p, {"user.x": b"x"}),
    "owner": lambda p: outside.set_owner(p, os.getuid(), os.getgid()),
    "access": lambda p: outside.set_access_lists(p, {"system.posix_acl_access": b"x"}),
    "give": lambda p: outside.give_tree(p.parent, os.getuid(), os.getgid()),
}


@pytest.fixture(params=["in one call", "one after the other"])
def either_way(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Have folders be opened as Linux can, and as other systems do."""
    if request.param == "one after the other":
        monkeypatch.setattr(opening, "_in_one_call", False)
    elif not opening._in_one_call:
        pytest.skip("this system cannot open a path in one call without following links")
    yield


def _victim(folder: Path) -> Path:
    victim = folder / "victim"
    (victim / "deep").mkdir(parents=True)
    (victim / "letter").write_text("mine")
    (victim / "letter").chmod(0o600)
    return victim


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("above", ["", "far/"])
def test_a_folder_that_is_a_link_leads_nowhere(
    tmp_path: Path, either_way: None, way: str, above: str
) -> None:
    victim = _victim(tmp_path)
    top = tmp_path / "top"
    top.mkdir()
    (top / "far").symlink_to(tmp_path) if above else (top / "near").symlink_to(victim)
    path = SafePath(top / (f"{above}victim/letter" if above else "near/letter"))
    before = contents(victim)
    with pytest.raises(OSError) as said:
        WAYS[way](path)
    assert said.value.errno in (errno.ELOOP, errno.ENOTDIR)
    assert contents(victim) == before
    assert not path.exists() and not path.is_file() and not path.parent.is_dir()


@pytest.mark.parametrize(
    "way", sorted(WAYS.keys() - {"list", "folder", "link", "pipe", "give", "remove folder"})
)
def test_each_way_does_what_it_says_where_no_link_is(
    tmp_path: Path, either_way: None, way: str
) -> None:
    path = SafePath(_victim(tmp_path) / "letter")
    if way == "access":
        WAYS[way](path)  # a list that is none is refused by the volume, and nothing is lost
        return
    WAYS[way](path)
    wanted = {"remove": False, "rename": False, "replace": False}
    assert path.exists() is wanted.get(way, True)
    if way in ("rename", "replace"):
        assert (path.parent / "made").read_text() == "mine"


def test_a_link_at_the_name_itself_is_a_link(tmp_path: Path, either_way: None) -> None:
    victim = _victim(tmp_path)
    link = SafePath(tmp_path / "link")
    outside.make_link(link, str(victim / "letter"))
    assert link.is_symlink() and link.exists()
    assert not link.is_file() and not link.is_dir()
    assert outside.link_target(link) == str(victim / "letter")
    for way in ("open", "open to write", "read", "cut", "mode", "times"):
        with pytest.raises(OSError):
            WAYS[way](link)
    outside.remove_file(link)
    assert (victim / "letter").read_text() == "mine"


def test_nothing_is_replaced_by_a_rename(tmp_path: Path, either_way: None) -> None:
    for name in ("a", "b"):
        (tmp_path / name).write_text(name)
    with pytest.raises(FileExistsError):
        outside.rename(tmp_path / "a", tmp_path / "b")
    assert (tmp_path / "b").read_text() == "b"


def test_a_name_with_a_nul_is_none(tmp_path: Path, either_way: None) -> None:
    with pytest.raises(ValueError):
        outside.status_of(f"{tmp_path}/a\0b")
    assert not SafePath(f"{tmp_path}/a\0b").exists()


@pytest.mark.parametrize("where", ["root/home/ada/notes", "root/home/ada", "root/home"])
def test_who_exchanges_a_folder_for_a_link_meanwhile_leads_nothing_out(
    tmp_path: Path, where: str
) -> None:
    """Somebody exchanges a folder of new for a link again and again while it is walked."""
    one = trail(tmp_path, new("copy"))
    for number in range(60):
        (one.notes("old") / f"page-{number}.txt").write_text(str(number))
    one.walk("old")
    folder, victim = tmp_path / "new" / where, _victim(tmp_path)
    folder.mkdir(parents=True, exist_ok=True)
    before, ended = contents(victim), threading.Event()

    def exchange() -> None:
        other = folder.with_name("other")
        while not ended.is_set():
            try:
                folder.rename(other)
                folder.symlink_to(victim)
                folder.unlink()
                other.rename(folder)
            except OSError:
                continue

    racer = threading.Thread(target=exchange)
    racer.start()
    try:
        for _ in range(3):
            try:
                one.walk("new")
            except (WideTrailError, OSError):
                continue
    finally:
        ended.set()
        racer.join()
    assert contents(victim) == before


def test_all_below_a_folder_is_flushed_and_stays_as_it_is(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "a" / "b").mkdir(parents=True)
    modes = {"a/one": 0o644, "a/b/two": 0o444, "a/b/three": 0o600}
    for name, mode in modes.items():
        (tmp_path / name).write_text(name)
        (tmp_path / name).chmod(mode)
    (tmp_path / "a/link").symlink_to("one")
    flushed: list[str] = []

    def fsync(handle: int) -> None:
        flushed.append(os.readlink(f"/proc/self/fd/{handle}"))

    monkeypatch.setattr(os, "fsync", fsync)
    flush_files(tmp_path / "a")
    assert sorted(flushed) == sorted(str(tmp_path / name) for name in (*modes, "a", "a/b"))
    found = {name: (tmp_path / name).stat().st_mode & 0o777 for name in modes}
    assert found == modes
