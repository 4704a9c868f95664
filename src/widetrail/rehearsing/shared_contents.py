"""Machines stored by content: one copy of equal files for all machines of a folder.

In a machine's folder stay ``machine.yaml`` and a list (``contents.txt``) of names, kinds,
permission bits and times, with the digest of each file; what is in the files lies once beside the
machines (``.contents``). A list may say only what is other than on another machine of the folder,
its base. Each line of a list is JSON, so that a revision shows what changed.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
import stat
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from widetrail.errors import MachineUnusable
from widetrail.formats.outside import open_regular
from widetrail.machine.machine_file import CONTENTS, FILE

STORE = ".contents"
"""The folder beside machines that holds what is in their files."""

DEEPEST = 8
"""Bases that may stand on each other."""

_FORM = "widetrail contents 1"
_GONE = "gone"
_DIGEST = re.compile(r"[0-9a-f]{64}")


class SharedEntry(NamedTuple):
    """What a list says of one path: its kind (``file``, ``folder``, ``link``), permission bits,
    time (ns since 1970), the digest and size of a file, and where a link leads."""

    kind: str
    mode: int = 0
    time: int = 0
    digest: str = ""
    size: int = 0
    to: str = ""


Entries = Mapping[str, SharedEntry]


def is_shared(folder: Path) -> bool:
    """Return whether a machine's files are stored by content."""
    return (folder / CONTENTS).is_file()


def share(folder: Path, base: Path | None = None) -> int:
    """Store the files of a machine by content, with what is the same as on ``base`` left to it;
    return how many bytes were not there yet.

    Raises:
        MachineUnusable: It is stored so already, has a file of no kind that is stored, or the base
            is none beside it that is stored so.
    """
    if is_shared(folder):
        raise MachineUnusable("is stored by content already", where=str(folder))
    beside = base is None or base.resolve().parent == folder.resolve().parent
    if base is not None and not (beside and is_shared(base)):
        why = f"{base} is no machine beside it that is stored by content"
        raise MachineUnusable("cannot have that base", where=str(folder), why=why)
    entries = dict(_walked(folder))
    before = _shared_entries(base) if base is not None else {}
    added = sum(_store(folder, path, one) for path, one in entries.items() if one.kind == "file")
    lines = [json.dumps([_FORM, base.name if base is not None else ""])]
    for path in sorted(entries.keys() | before.keys(), key=lambda one: one.split("/")):
        if path not in entries:
            lines.append(json.dumps([path, _GONE]))
        elif entries[path] != before.get(path):
            lines.append(json.dumps([path, *_trimmed(entries[path])]))
    part = folder / f".{CONTENTS}"
    part.write_text("\n".join(lines) + "\n", encoding="ascii")
    part.replace(folder / CONTENTS)  # from now on the list counts
    _clear(folder)
    return added


def unshare(folder: Path) -> None:
    """Bring the files of a machine that is stored by content back into its folder.

    Raises:
        MachineUnusable: It is not stored so, or something of it is not there.
    """
    entries = _shared_entries(folder)
    _clear(folder)
    _lay_out(folder.resolve().parent, entries, folder)
    (folder / CONTENTS).unlink()


def copy_shared(folder: Path, to: Path) -> None:
    """Make an ordinary machine in a new folder ``to`` of one that is stored by content.

    Raises:
        MachineUnusable: Something of it is not there.
    """
    to.mkdir(parents=True)
    shutil.copy2(folder / FILE, to / FILE)
    _lay_out(folder.resolve().parent, _shared_entries(folder), to)


def prune(machines: Path) -> int:
    """Remove what is stored of files that no machine of a folder has any more; return its bytes.

    Raises:
        MachineUnusable: A machine's list cannot be read; then nothing is removed.
    """
    shared = [folder for folder in sorted(machines.iterdir()) if is_shared(folder)]
    needed = {one.digest for folder in shared for one in _shared_entries(folder).values()}
    gone = 0
    for path in sorted((machines / STORE).glob("??/*")):
        if path.name not in needed:
            gone += path.stat().st_size
            path.unlink()
    return gone


def _shared_entries(folder: Path, depth: int = 0) -> dict[str, SharedEntry]:
    """Return what a machine that is stored by content holds, by paths below its folder.

    Raises:
        MachineUnusable: Its list, or that of a base, is not there or cannot be used.
    """
    path = folder / CONTENTS
    try:
        head, *lines = path.read_text(encoding="ascii").splitlines()
        form, base = json.loads(head)
        if form != _FORM or depth > DEEPEST or "/" in base or base in (".", ".."):
            why = "it is no list of contents, or too many bases stand on each other"
            raise ValueError(f"{why}: {head[:80]}")
        found = _shared_entries(folder.resolve().parent / base, depth + 1) if base else {}
        for line in lines:
            name, kind, *told = json.loads(line)
            if not _is_below(name):
                raise ValueError(f"{name[:80]} does not lie below the machine")
            found.pop(name, None)
            if kind != _GONE:
                found[name] = SharedEntry(kind, *told)
        for name, one in found.items():
            _insist(name, one, found)
    except (OSError, ValueError, TypeError, AttributeError) as error:
        why = str(error)
        raise MachineUnusable("its contents cannot be read", where=str(path), why=why) from error
    return found


def shared_facts(folder: Path) -> Iterator[tuple[str, SharedEntry]]:
    """Give what a machine holds, ``machine.yaml`` with it, as a walk of its folder comes to it:
    names in order, what is in a folder right after it.

    Raises:
        MachineUnusable: As ``_shared_entries``; or its file cannot be read.
    """
    entries: dict[str, SharedEntry] = {**_shared_entries(folder), FILE: _entry(folder / FILE)}
    for path in sorted(entries, key=lambda one: one.split("/")):
        yield path, entries[path]


def _insist(name: str, one: SharedEntry, found: Entries) -> None:
    """Raise where an entry is none, or does not lie in a folder: behind a link it would lie
    elsewhere.

    Raises:
        ValueError: It is so.
    """
    above = name.rpartition("/")[0]
    if above and (above not in found or found[above].kind != "folder"):
        raise ValueError(f"{name[:80]} does not lie in a folder")
    sound = one.kind in ("file", "folder", "link") and isinstance(one.to, str)
    sound = sound and all(isinstance(n, int) for n in (one.mode, one.time, one.size))
    if not sound or (one.kind == "file" and not _DIGEST.fullmatch(one.digest)):
        raise ValueError(f"{name[:80]} is no file, folder or link")


def _is_below(name: str) -> bool:
    parts = name.split("/")
    return not any(part in ("", ".", "..") or "\\" in part or "\0" in part for part in parts)


def _trimmed(one: SharedEntry) -> Iterable[Any]:
    """Return an entry without what is empty at its end."""
    told = list(one)
    while told and not told[-1]:
        told.pop()
    return told


def _walked(folder: Path, below: str = "") -> Iterator[tuple[str, SharedEntry]]:
    for name in sorted(os.listdir(folder / below)):
        path = f"{below}{name}"
        if path not in (FILE, CONTENTS, f".{CONTENTS}"):
            one = _entry(folder / path)
            yield path, one
            if one.kind == "folder":
                yield from _walked(folder, f"{path}/")


def _entry(path: Path) -> SharedEntry:
    status = path.lstat()
    mode, time = stat.S_IMODE(status.st_mode), status.st_mtime_ns
    if stat.S_ISLNK(status.st_mode):
        return SharedEntry("link", to=str(path.readlink()))
    if stat.S_ISDIR(status.st_mode):
        return SharedEntry("folder", mode, time)
    if not stat.S_ISREG(status.st_mode):
        raise MachineUnusable("is no file or folder, and cannot be stored", where=str(path))
    with os.fdopen(open_regular(str(path)), "rb") as file:
        known_by = hashlib.file_digest(file, "sha256").hexdigest()
    return SharedEntry("file", mode, time, known_by, status.st_size)


def _at(machines: Path, known_by: str) -> Path:
    return machines / STORE / known_by[:2] / known_by


def _store(folder: Path, path: str, one: SharedEntry) -> int:
    """Store what is in a file, if it is not there yet; return its bytes then."""
    at = _at(folder.resolve().parent, one.digest)
    if at.is_file() and at.stat().st_size == one.size:
        return 0
    at.parent.mkdir(parents=True, exist_ok=True)
    part = at.with_name(f"{at.name}.{os.getpid()}")
    shutil.copyfile(folder / path, part)
    part.replace(at)
    return one.size


def _clear(folder: Path) -> None:
    """Remove all of a machine's folder that its list tells of."""
    for path in folder.iterdir():
        if path.name in (FILE, CONTENTS):
            continue
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path)
        else:
            path.unlink()


def _lay_out(machines: Path, entries: Entries, to: Path) -> None:
    for path, one in sorted(entries.items(), key=lambda pair: pair[0].split("/")):
        at = to / path
        if one.kind == "folder":
            at.mkdir()
        elif one.kind == "link":
            at.symlink_to(one.to)
        else:
            stored = _at(machines, one.digest)
            try:
                shutil.copyfile(stored, at)
            except OSError as error:
                why = f"{stored} is not there, or cannot be read"
                raise MachineUnusable("a file is missing", where=str(at), why=why) from error
            at.chmod(one.mode)
            os.utime(at, ns=(one.time, one.time))
    for path, one in sorted(entries.items(), key=lambda pair: pair[0].split("/"), reverse=True):
        if one.kind == "folder":
            (to / path).chmod(one.mode)
            os.utime(to / path, ns=(one.time, one.time))
