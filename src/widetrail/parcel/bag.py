"""A parcel as a BagIt bag (RFC 8493, version 1.0): its tag files and manifests.

The manifests are derived: they are removed while a leg changes the cargo and written anew at its
end, from the files as they are.
"""

from __future__ import annotations

import hashlib
from datetime import datetime
from pathlib import Path

from widetrail.machine import Effects

DECLARATION = b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
MANIFEST = "manifest-sha256.txt"
TAG_MANIFEST = "tagmanifest-sha256.txt"
INFO = "bag-info.txt"
PAYLOAD = "data"


def file_digest(path: Path) -> str:
    """Return the SHA-256 of a file in hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def open_bag(folder: Path, effects: Effects) -> None:
    """Take the derived files away, before the cargo changes."""
    for name in (TAG_MANIFEST, MANIFEST, INFO):
        if (folder / name).exists():
            effects.remove_file(folder / name)


def close_bag(folder: Path, effects: Effects, run: str, now: datetime) -> None:
    """Write the derived files for the cargo as it is."""
    payload = _files(folder / PAYLOAD, folder)
    size = sum((folder / name).stat().st_size for name in payload)
    if not (folder / "bagit.txt").exists():
        effects.put(folder / "bagit.txt", DECLARATION)
    info = (
        f"Bagging-Date: {now.date().isoformat()}\n"
        f"Bag-Software-Agent: Wide Trail\n"
        f"External-Identifier: {run}\n"
        f"Payload-Oxum: {size}.{len(payload)}\n"
    )
    effects.put(folder / INFO, info.encode())
    effects.put(folder / MANIFEST, _manifest(folder, payload))
    tags = [n for n in _files(folder, folder) if not n.startswith(f"{PAYLOAD}/")]
    effects.put(folder / TAG_MANIFEST, _manifest(folder, [t for t in tags if t != TAG_MANIFEST]))


def _files(top: Path, folder: Path) -> list[str]:
    found = (p for p in top.rglob("*") if p.is_file() and not p.is_symlink())
    return sorted(p.relative_to(folder).as_posix() for p in found)


def _manifest(folder: Path, names: list[str]) -> bytes:
    return "".join(f"{file_digest(folder / n)}  {n}\n" for n in names).encode()
