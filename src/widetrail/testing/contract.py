"""What every machine must do, whatever it is: one suite for folder machines of each platform, and
for this machine under each system.

A check is a function of a ``Stand``; it raises ``AssertionError`` where the machine does otherwise,
and ``NotTried`` with the reason where the system has nothing to try it on::

    for check in CONTRACT:
        check(Stand(machine, folder, program))
"""

from __future__ import annotations

import errno
import os
import stat
import time
import traceback
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Protocol

from widetrail.errors import MachineUnusable
from widetrail.lazily import dataclass
from widetrail.machine import Effect, EffectFailed, Machine
from widetrail.machine.paths import is_absolute, is_within, join, split
from widetrail.recipe.templates import ROOTS


class NotTried(Exception):
    """The system has nothing to try a check on; the text says what is missing."""


@dataclass(frozen=True)
class Stand:
    """A machine that is tried: an empty folder of it, in its own notation, and a program of it.

    ``program`` is a Python of the machine, or an empty text where it has none.
    """

    machine: Machine
    folder: str
    program: str = ""

    def at(self, name: str) -> str:
        """Return a path of the machine below its folder."""
        return join(self.folder, name)

    def put(self, name: str, data: bytes = b"x") -> str:
        """Make a file with the folders above it; return its path."""
        path = self.at(name)
        host = self.machine.host(path)
        self.machine.effects.keep_folders(host.parent)
        self.machine.effects.put(host, data)
        return path

    def names(self) -> list[str]:
        """Return the names in the folder."""
        return [entry.path for entry in self.machine.walk(self.folder, 1)]


class Check(Protocol):
    """What is tried of a machine; its name says what it asks."""

    __name__: str

    def __call__(self, stand: Stand) -> None:
        """Try it."""


@contextmanager
def refusal(kind: type[Exception], where: str = "") -> Iterator[None]:
    """Insist that what is done within is refused, with the machine's own path.

    Raises:
        AssertionError: It is not.
    """
    try:
        yield
    except kind as error:
        told = getattr(error, "where", where)
        assert not where or told == where, f"the refusal names {told}"
        return
    raise AssertionError(f"was not refused with {kind.__name__}")


def _every_root_is_a_whole_path(stand: Stand) -> None:
    machine = stand.machine
    for name in ROOTS:
        assert is_absolute(machine.root(name), machine.platform), name
        assert "\\" not in machine.root(name), name
    assert {"platform", "system", "user"} <= set(machine.facts())
    assert any(is_within(stand.folder, disk, machine.platform) for disk in machine.disks())
    room = machine.room(stand.at("not/there/yet"))
    assert room.volume
    assert room.free > 0


def _files_are_looked_at_and_read(stand: Stand) -> None:
    machine = stand.machine
    path = stand.put("Über – fern.ini", b"[fern]\r\nbook=1\n")
    entry = machine.look(path)
    assert entry is not None
    assert (entry.path, entry.kind, entry.size) == ("Über – fern.ini", "file", 15)
    assert machine.read(path) == b"[fern]\r\nbook=1\n"
    with machine.open(path) as file:
        assert file.read(6) == b"[fern]"
    assert machine.look(stand.at("nothing")) is None
    assert machine.look(join(path, "below a file")) is None


def _a_walk_gives_folders_before_what_is_in_them(stand: Stand) -> None:
    for name in ("b/c/d", "b/a", "a"):
        stand.put(name)
    stand.machine.effects.make_folder(stand.machine.host(stand.at("empty")))
    found = [(e.path, e.kind) for e in stand.machine.walk(stand.folder)]
    kinds = ["file", "folder", "file", "folder", "file", "folder"]
    assert found == list(zip(["a", "b", "b/a", "b/c", "b/c/d", "empty"], kinds, strict=True))
    assert stand.names() == ["a", "b", "empty"]
    with stand.machine.opened(stand.folder) as opened, opened.open("b/c/d") as file:
        assert file.read() == b"x"


def _refusals_name_the_machines_path(stand: Stand) -> None:
    machine = stand.machine
    path = stand.put("file", b"12345")
    with refusal(MachineUnusable, stand.at("nothing")):
        machine.read(stand.at("nothing"))
    with refusal(MachineUnusable, path):
        machine.read(path, most=3)
    above = f"{stand.folder}/../other"
    with refusal(MachineUnusable, above):
        machine.host(above)
    with refusal(MachineUnusable, stand.folder):
        machine.read(stand.folder)
    with refusal(MachineUnusable, stand.at("pipe")):
        if not hasattr(os, "mkfifo"):
            raise MachineUnusable("no pipes here", where=stand.at("pipe"))
        os.mkfifo(machine.host(stand.at("pipe")))
        machine.read(stand.at("pipe"))


def _links_are_never_followed(stand: Stand) -> None:
    machine = stand.machine
    stand.put("real/file")
    try:
        machine.effects.make_link(machine.host(stand.at("link")), "real")
    except EffectFailed as error:
        raise NotTried(f"links cannot be made: {error.why}") from error
    machine.effects.make_link(machine.host(stand.at("real/loop")), "..")
    entry = machine.look(stand.at("link"))
    assert entry is not None
    assert (entry.kind, entry.target) == ("link", "real")
    with refusal(MachineUnusable, stand.at("link/file")):
        machine.read(stand.at("link/file"))
    with refusal(MachineUnusable):
        machine.read(stand.at("link"))
    kinds = {e.path: e.kind for e in machine.walk(stand.folder)}
    assert kinds == {"link": "link", "real": "folder", "real/file": "file", "real/loop": "link"}
    machine.effects.remove_file(machine.host(stand.at("link")))
    assert machine.read(stand.at("real/file")) == b"x"


def _names_stay_as_they_are(stand: Stand) -> None:
    machine = stand.machine
    names = ["e\u0301", "日本語", "🌿 leaf", "a'b", "100% & more", "x" * 200]
    if not machine.rules.names_are_text:
        names.append(os.fsdecode(b"caf\xe9 \xff"))
    for name in names:
        assert not machine.rules.trouble_with_name(name) or name == names[-1]
        assert machine.read(stand.put(name, name.encode(errors="surrogateescape")))
    assert sorted(stand.names()) == sorted(names)


def _case_counts_as_the_platform_says(stand: Stand) -> None:
    machine = stand.machine
    stand.put("Folder/Name")
    other = machine.look(stand.at("FOLDER/nAME"))
    if machine.rules.ignores_case:
        assert other is not None
        assert other.kind == "file"
    else:
        assert other is None


def _a_name_is_spelled_anew(stand: Stand) -> None:
    machine = stand.machine
    stand.put("Folder/Name")
    folder = machine.host(stand.at("Folder"))
    machine.effects.rename(folder, folder.with_name("folder"))
    assert stand.names() == ["folder"]
    assert machine.read(stand.at("folder/Name")) == b"x"


def _nothing_is_replaced_unless_it_is_meant(stand: Stand) -> None:
    machine, effects = stand.machine, stand.machine.effects
    one, two = (machine.host(stand.put(name, name.encode())) for name in ("one", "two"))
    for change in (lambda: effects.rename(one, two), lambda: effects.create(two)):
        with refusal(EffectFailed):
            change()
    assert machine.read(stand.at("two")) == b"two"
    effects.make_folder(machine.host(stand.at("folder")))
    with refusal(EffectFailed):
        effects.make_folder(machine.host(stand.at("folder")))
    stand.put("full/file")
    with refusal(EffectFailed):
        effects.remove_folder(machine.host(stand.at("full")))
    with refusal(EffectFailed):
        effects.rename(machine.host(stand.at("full")), machine.host(stand.at("folder")))
    effects.replace(one, two)
    assert machine.read(stand.at("two")) == b"one"
    effects.rename(two, machine.host(stand.at("full/two")))
    assert machine.look(stand.at("two")) is None
    effects.remove_tree(machine.host(stand.at("full")))
    assert stand.names() == ["folder"]


def _what_is_read_only_can_be_taken_back(stand: Stand) -> None:
    machine, effects = stand.machine, stand.machine.effects
    for name in ("gone", "old", "tree/file"):
        effects.set_mode(machine.host(stand.put(name)), 0o444)
    entry = machine.look(stand.at("old"))
    assert entry is not None
    assert not entry.mode & stat.S_IWUSR
    effects.replace(machine.host(stand.put("new", b"new")), machine.host(stand.at("old")))
    assert machine.read(stand.at("old")) == b"new"
    effects.remove_file(machine.host(stand.at("gone")))
    effects.barrier(machine.host(stand.at("tree")))
    kept = machine.look(stand.at("tree/file"))
    assert kept is not None
    assert not kept.mode & stat.S_IWUSR
    effects.remove_tree(machine.host(stand.at("tree")))
    assert stand.names() == ["old"]


def _long_paths_are_reached(stand: Stand) -> None:
    name = (
        "/".join(["a folder with a long name of sixty characters, as some have it"] * 6) + "/file"
    )
    assert len(stand.at(name)) > 380
    path = stand.put(name, b"deep")
    assert stand.machine.read(path) == b"deep"
    assert [e.path for e in stand.machine.walk(stand.folder)][-1] == name
    effects, host = stand.machine.effects, stand.machine.host(path)
    effects.rename(host, host.with_name("other"))
    effects.remove_tree(stand.machine.host(stand.at(name.partition("/")[0])))
    assert stand.names() == []


def _status_is_kept(stand: Stand) -> None:
    machine, effects = stand.machine, stand.machine.effects
    mtime = 1_234_567_890_123_456_700  # a hundred nanoseconds, as fine as Windows has them
    with effects.create(machine.host(stand.at("file"))) as file:
        file.write(b"x" * 10)
        file.set_status(0o444, mtime)
        file.sync()
    entry = machine.look(stand.at("file"))
    assert entry is not None
    assert (entry.mtime, entry.mode & 0o222) == (mtime, 0)
    effects.set_status(machine.host(stand.at("file")), 0o600, mtime + 1000)
    again = machine.look(stand.at("file"))
    assert again is not None
    assert (again.mtime, again.mode & 0o200) == (mtime + 1000, 0o200)
    told = {"user.fern": b"leaf\0"}
    had = effects.set_attributes(machine.host(stand.at("file")), told)
    assert machine.attributes(stand.at("file")) == (told if had else {})


def _further_names_of_a_file_are_told(stand: Stand) -> None:
    machine = stand.machine
    first = machine.host(stand.put("first"))
    try:
        machine.effects.make_hard_link(machine.host(stand.at("second")), first)
    except EffectFailed as error:
        raise NotTried(f"a file cannot have two names: {error.why}") from error
    numbers = {e.path: e.file_id for e in machine.walk(stand.folder)}
    assert numbers["first"] == numbers["second"] != ""


def _changes_are_made_durable(stand: Stand) -> None:
    machine, effects = stand.machine, stand.machine.effects
    path = stand.put("folder/file")
    effects.sync_folder(machine.host(stand.at("folder")))
    effects.barrier(machine.host(stand.folder))
    effects.barrier(machine.host(path))
    with effects.append(machine.host(path)) as file:
        file.write(b"yz")
        file.sync()
    effects.cut(machine.host(path), 2)
    assert machine.read(path) == b"xy"


def _what_the_system_refuses_is_told(stand: Stand) -> None:
    effects, seen = stand.machine.effects, []
    path = stand.machine.host(stand.at("missing/file"))
    try:
        effects.create(path)
    except EffectFailed as error:
        assert error.code == errno.ENOENT
        assert error.where == str(path)
        assert error.why
        assert error.todo
    else:
        raise AssertionError("a file was made where there is no folder")

    def gate(effect: Effect) -> None:
        seen.append((effect.number, effect.kind))
        raise OSError(errno.ENOSPC, "No space left on device")

    before, effects._gate = effects._gate, gate
    try:
        with refusal(EffectFailed):
            effects.create(stand.machine.host(stand.at("file")))
    finally:
        effects._gate = before
    assert seen == [(effects.count, "create")]
    assert stand.names() == []


def _scratch_holds_copies_only(stand: Stand) -> None:
    machine = stand.machine
    if not is_within(stand.folder, machine.root("home"), machine.platform):
        raise NotTried("the folder does not lie in the home")
    path = stand.put("file")
    try:
        with machine.scratch([path]) as scratch:
            below = path[len(machine.root("home")) :]
            inner = join(scratch.root("home"), below)
            assert scratch.read(inner) == b"x"
            scratch.host(inner).write_text("changed")
    except MachineUnusable as error:
        raise NotTried(str(error)) from error
    assert machine.read(path) == b"x"


def _a_name_of_another_drive_or_account_is_none_here(stand: Stand) -> None:
    machine = stand.machine
    assert machine.command("no-such-program-of-fern") is None
    assert machine.synced(stand.folder) == ""
    anchor, _ = split(stand.folder)
    if machine.rules.drive_letters:
        assert anchor.endswith(":")
    for wrong in ("relative/path", ""):
        with refusal(MachineUnusable):
            machine.host(wrong)


FILES: tuple[Check, ...] = (
    _every_root_is_a_whole_path,
    _files_are_looked_at_and_read,
    _a_walk_gives_folders_before_what_is_in_them,
    _refusals_name_the_machines_path,
    _links_are_never_followed,
    _names_stay_as_they_are,
    _case_counts_as_the_platform_says,
    _a_name_is_spelled_anew,
    _nothing_is_replaced_unless_it_is_meant,
    _what_is_read_only_can_be_taken_back,
    _long_paths_are_reached,
    _status_is_kept,
    _further_names_of_a_file_are_told,
    _changes_are_made_durable,
    _what_the_system_refuses_is_told,
    _scratch_holds_copies_only,
    _a_name_of_another_drive_or_account_is_none_here,
)
"""What is tried of files and folders."""


def contract() -> tuple[Check, ...]:
    """Return every check, those of files first."""
    from widetrail.testing.contract_of_stores import PROGRAMS, REGISTRY

    return (*FILES, *REGISTRY, *PROGRAMS)


def name_of(check: Check) -> str:
    """Return what a check is called: what it asks, in words joined by ``_``."""
    return check.__name__.removeprefix("_")


def outcomes(machine: Machine, folder: str, program: str = "") -> dict[str, str]:
    """Try every check, each in a folder of its own below ``folder``; return what came of each: an
    empty text where it passed, else the reason."""
    told = {}
    for number, check in enumerate(contract()):
        own = join(folder, f"c{number}")
        machine.effects.make_folders(machine.host(own))
        began = time.monotonic()
        try:
            check(Stand(machine, own, program))
            why = ""
        except NotTried as error:
            why = f"not tried: {error}"
        except Exception:  # what a check meets is what is to be told
            why = f"failed after {time.monotonic() - began:.1f} s: {traceback.format_exc(limit=-3)}"
        told[name_of(check)] = why
    return told
