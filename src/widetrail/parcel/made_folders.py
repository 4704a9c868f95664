"""Folders that programs make, on their way through a parcel: each as one archive (POSIX tar).

Only files and folders go along. An archive is read as a stranger's: what is not such, or would come
to lie elsewhere, is refused.
"""

from __future__ import annotations

import tarfile
from typing import Any, BinaryIO, cast

from widetrail.errors import Halted, ParcelUnusable
from widetrail.formats.outside import SafePath
from widetrail.machine import Effects
from widetrail.parcel.medium_reading import PACK_AGAIN
from widetrail.parcel.segments import CHUNK

FOLDER = ".folder.tar"
"""What the name of a folder ends with in the parcel; no file may be called so."""


def pack_folder(folder: SafePath, archive: SafePath, effects: Effects) -> None:
    """Write all that is in ``folder`` to ``archive``, in the order of its names.

    Raises:
        Halted: Something in it is neither file nor folder.
    """
    with (
        effects.create(archive, 0o600) as file,
        tarfile.open(
            fileobj=cast(BinaryIO, _Whole(file)), mode="w|", format=tarfile.PAX_FORMAT
        ) as tar,
    ):
        for path in sorted(folder.below()):
            about = tarfile.TarInfo(path.relative_to(folder).as_posix())
            status = path.stat()
            about.mtime, about.mode = int(status.st_mtime), status.st_mode & 0o777
            if path.is_dir():
                about.type = tarfile.DIRTYPE
                tar.addfile(about)
            elif path.is_file():
                about.size = status.st_size
                with path.reading() as inner:
                    tar.addfile(about, inner)
            else:
                why = "it is neither a file nor a folder"
                todo = "Have the program make its export without links."
                raise Halted(
                    "a program made what cannot travel", where=str(path), why=why, todo=todo
                )


class _Whole:
    """A file that is written, as ``tarfile`` asks for one."""

    def __init__(self, file: Any) -> None:
        self._file = file

    def write(self, data: bytes) -> int:
        self._file.write(data)
        return len(data)


def unpack_folder(archive: SafePath, folder: SafePath, effects: Effects) -> None:
    """Make ``folder`` of an archive; where that is cut off, nothing is there.

    Raises:
        ParcelUnusable: It holds what no folder of this tool's own does.
    """
    part = folder.with_name(f"{folder.name}.part")
    if part.exists():
        effects.remove_tree(part)
    effects.make_folder(part, 0o700)
    try:
        with archive.reading() as file, tarfile.open(fileobj=file, mode="r|") as tar:
            for member in tar:
                _unpack(tar, member, part, effects, str(archive))
    except (tarfile.TarError, ValueError, EOFError) as error:
        raise _unusable(str(archive), f"it is not an archive: {error}") from error
    effects.barrier(part)
    effects.rename(part, folder)


def _unpack(
    tar: tarfile.TarFile, member: tarfile.TarInfo, top: SafePath, effects: Effects, where: str
) -> None:
    names = member.name.split("/")
    if any(name in ("", ".", "..") or "\\" in name or "\0" in name for name in names):
        raise _unusable(where, "something in it would come to lie elsewhere")
    path = top.joinpath(*names)
    if member.isdir():
        effects.make_folder(path, 0o700)
        return
    if not member.isreg() or member.issparse():
        raise _unusable(where, "something in it is neither a file nor a folder")
    source = tar.extractfile(member)
    assert source is not None, "a regular file has contents"
    with effects.create(path, 0o600) as file:
        while chunk := source.read(CHUNK):
            file.write(chunk)
        file.set_status(member.mode & 0o777 | 0o600, int(member.mtime) * 10**9)


def _unusable(where: str, why: str) -> ParcelUnusable:
    return ParcelUnusable("was damaged or changed", where=where, why=why, todo=PACK_AGAIN)
