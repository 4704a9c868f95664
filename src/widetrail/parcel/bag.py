"""A parcel as a BagIt bag (RFC 8493, version 1.0): its tag files and manifests.

The manifests are derived: they are removed while a leg changes the cargo and written anew at its
end, from the files as they are.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from widetrail.formats.outside import JOURNAL_MOST, SafePath, read_outside
from widetrail.machine import Effects, file_digest

DECLARATION = b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
DECLARED = "bagit.txt"
FETCH = "fetch.txt"
MANIFEST = "manifest-sha256.txt"
TAG_MANIFEST = "tagmanifest-sha256.txt"
INFO = "bag-info.txt"
PAYLOAD = "data"


def mode_in(folder: SafePath) -> int:
    """Return the permission bits of a new file of a parcel: nobody else may read it where nobody
    else may look into the parcel's own folder."""
    return 0o600 if folder.stat().st_mode & 0o077 == 0 else 0o666


def folder_mode_in(folder: SafePath) -> int:
    """Return the permission bits of a new folder of a parcel; as ``mode_in``."""
    return 0o700 if mode_in(folder) == 0o600 else 0o777


def open_bag(folder: SafePath, effects: Effects) -> None:
    """Take the derived files away, before the cargo changes."""
    there = [n for n in (TAG_MANIFEST, MANIFEST, INFO) if (folder / n).exists()]
    declared = folder / DECLARED
    if declared.exists() and not (declared.is_file() and _holds(declared, DECLARATION)):
        there.append(DECLARED)
    for name in there:
        effects.remove_file(folder / name)
    if there:
        effects.sync_folder(folder)


def close_bag(
    folder: SafePath, effects: Effects, run: str, now: datetime, known: Mapping[str, str]
) -> None:
    """Write the derived files for the cargo as it is.

    ``known`` are SHA-256 digests by names below the payload folder; what it lacks is read.
    """
    payload = _files(folder / PAYLOAD, folder)
    size = sum((folder / name).stat().st_size for name in payload)
    if not (folder / DECLARED).exists():
        effects.put(folder / DECLARED, DECLARATION, mode_in(folder))
    info = (
        f"Bagging-Date: {now.date().isoformat()}\n"
        f"Bag-Software-Agent: Wide Trail\n"
        f"External-Identifier: {run}\n"
        f"Payload-Oxum: {size}.{len(payload)}\n"
    )
    effects.put(folder / INFO, info.encode(), mode_in(folder))
    effects.put(folder / MANIFEST, _manifest(folder, payload, known), mode_in(folder))
    effects.put(folder / TAG_MANIFEST, _manifest(folder, _tags(folder), {}), mode_in(folder))


def wrong_in_bag(folder: SafePath, known: Mapping[str, str]) -> tuple[str, ...]:
    """Return the derived files that are missing or do not fit the cargo that ``known`` tells.

    Only the tag files are read.
    """
    tags = (DECLARED, INFO, MANIFEST, TAG_MANIFEST)
    missing = tuple(n for n in tags if not (folder / n).is_file())
    if missing:
        return missing
    payload = _files(folder / PAYLOAD, folder)
    wrong = []
    if not _holds(folder / DECLARED, DECLARATION):
        wrong.append(DECLARED)
    if not _holds(folder / MANIFEST, _manifest(folder, payload, known)):
        wrong.append(MANIFEST)
    if not wrong and not _holds(folder / TAG_MANIFEST, _manifest(folder, _tags(folder), {})):
        wrong += [INFO, TAG_MANIFEST]  # one of them: each tells of the other
    return tuple(wrong)


def _holds(path: SafePath, data: bytes) -> bool:
    return path.stat().st_size == len(data) and read_outside(path, len(data)) == data


def _tags(folder: SafePath) -> list[str]:
    """Return the tag files that the tag manifest lists: all of the bag but payload and itself, and
    what is larger than any of ours."""
    at_top = sorted(p.name for p in folder.iterdir() if p.is_file())
    below = (
        _files(p, folder) for p in sorted(folder.iterdir()) if p.is_dir() and p.name != PAYLOAD
    )
    names = [*at_top, *(name for names in below for name in names)]
    return sorted(
        name
        for name in names
        if name != TAG_MANIFEST and (folder / name).stat().st_size <= JOURNAL_MOST
    )


def _files(top: SafePath, folder: SafePath) -> list[str]:
    found = (p for p in top.below() if p.is_file())
    return sorted(p.relative_to(folder).as_posix() for p in found)


def _manifest(folder: SafePath, names: list[str], known: Mapping[str, str]) -> bytes:
    digests = ((known.get(n.removeprefix(f"{PAYLOAD}/")), n) for n in names)
    return "".join(f"{told or file_digest(folder / n)}  {n}\n" for told, n in digests).encode()
