"""What a job takes, as bytes that are known by their digest: one archive for a file or a folder.

Names, kinds, permission bits, times (to the microsecond) and contents are kept, and equal files and
folders are the same bytes wherever they lie. Whoever sends them decides what is started here anyway
(they come with the jobs), so they are unpacked as they are.
"""

from __future__ import annotations

import hashlib
import io
import os
import shutil
import tarfile
import tempfile
import zlib
from collections.abc import Iterator
from pathlib import Path

from widetrail.rehearsing.shared_contents import copy_shared, is_shared

TOP = "it"
"""The name of what is archived, in its archive."""


def packed(path: Path) -> tuple[str, bytes]:
    """Return the digest and the bytes of the archive of a file or folder; a machine that is stored
    by content is archived as an ordinary one.

    Raises:
        OSError: Something in it cannot be read.
    """
    if is_shared(path):
        with tempfile.TemporaryDirectory() as made:
            copy_shared(path, Path(made, TOP))
            return packed(Path(made, TOP))
    whole = io.BytesIO()
    with tarfile.open(fileobj=whole, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for inner, name in _below(path, TOP):
            entry = archive.gettarinfo(str(inner), name)
            entry.uid = entry.gid = 0
            entry.uname = entry.gname = ""
            entry.mtime = 0 if entry.issym() or name == TOP else round(entry.mtime, 6)
            if entry.isreg():
                with inner.open("rb") as file:
                    archive.addfile(entry, file)
            else:
                archive.addfile(entry)
    data = whole.getvalue()
    return hashlib.sha256(data).hexdigest(), zlib.compress(data, 1)


def _below(path: Path, name: str) -> Iterator[tuple[Path, str]]:
    """Give what is archived, in an order that is the same everywhere: a link that is named itself
    as what it leads to, all others as links."""
    path = path.resolve() if name == TOP else path
    yield path, name
    if path.is_dir() and not path.is_symlink():
        for inner in sorted(os.listdir(path)):
            yield from _below(path / inner, f"{name}/{inner}")


def lay_out(data: bytes, path: Path) -> None:
    """Make what ``packed`` gave at a path where nothing is, whole or not at all.

    Raises:
        OSError: It cannot be written.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        with tarfile.open(fileobj=io.BytesIO(zlib.decompress(data))) as archive:
            archive.extractall(part, filter="fully_trusted")
        (part / TOP).rename(path)
    finally:
        shutil.rmtree(part, ignore_errors=True)
