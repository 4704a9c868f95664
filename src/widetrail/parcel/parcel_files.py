"""The files of a parcel: plain, or sealed and opened by a passphrase."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from io import BytesIO
from typing import BinaryIO

from widetrail.errors import ParcelUnusable, Waiting
from widetrail.formats import digest
from widetrail.formats.outside import (
    JOURNAL_MOST,
    SafePath,
    no_plain_folder,
    read_outside,
    reading_outside,
)
from widetrail.machine import Effects
from widetrail.parcel.bag import (
    PAYLOAD,
    mode_in,
)
from widetrail.parcel.layout import GROWS
from widetrail.parcel.logbook import FOLDER as LOGBOOK
from widetrail.parcel.medium_reading import PACK_AGAIN
from widetrail.parcel.seal import ENDING, HEADER, KEY, Seal, open_seal, read_header
from widetrail.parcel.segments import CHUNK
from widetrail.spill import nameless_file, spilling


class ParcelFiles:
    """The files below the folder of a parcel, each as the logbook told it."""

    folder: SafePath
    effects: Effects
    seal: Seal | None

    def _insist_plain(self) -> None:
        """Raise where a folder of the parcel is none itself, so that another would be changed.

        Raises:
            ParcelUnusable: One is a link or a file.
        """
        names = [
            LOGBOOK,
            PAYLOAD,
            *(f"{PAYLOAD}/{part.rstrip('/')}" for part in (*GROWS, "recipes/", "signatures/")),
            "signed",
        ]
        if (found := no_plain_folder(self.folder, names)) is not None:
            raise ParcelUnusable(
                "a folder of the parcel is none",
                where=str(found),
                why="it is a link, or a file",
                todo=PACK_AGAIN,
            )

    def _read_seal(self, wanted: Mapping[str, str] | None) -> Seal | None:
        for name, sha256 in (wanted or {}).items():
            if digest(self._bytes(f"../{name}")) != sha256:
                raise self._touched(self.folder / name)
        header = self.folder / HEADER
        return read_header(self._bytes(f"../{HEADER}"), str(header)) if wanted else None

    def unseal(self, passphrase: str) -> None:
        """Open a sealed parcel, so that what is in it can be read.

        Raises:
            WrongPassphrase: It is another one.
            ParcelUnusable: The seal was touched.
        """
        if self.seal is not None:
            where = self.folder / KEY
            self.seal = open_seal(self.seal, self._bytes(f"../{KEY}"), passphrase, str(where))

    def _opened(self) -> Seal | None:
        """Return the seal, which must be open, or ``None`` where there is none."""
        if self.seal is not None and not self.seal.is_open:
            hint = f"its hint is: {self.seal.hint}" if self.seal.hint else ""
            raise Waiting(
                "the parcel is sealed",
                where=str(self.folder),
                why=hint,
                todo="Give its passphrase.",
            )
        return self.seal

    def _unsealed(self, name: str) -> bytes:
        """Return the bytes of a file, unsealed where the parcel is."""
        seal, data = self._opened(), self._bytes(name)
        if seal is None:
            return data
        opened = BytesIO()
        seal.open(BytesIO(data), opened, str(self.folder / PAYLOAD / name))
        return opened.getvalue()

    def _unsealed_file(self, name: str, sha256: str) -> BinaryIO:
        """Return what a file holds that has this SHA-256, unsealed where the parcel is; a copy that
        nobody changes meanwhile, in memory or in a file without a name.

        Raises:
            ParcelUnusable: It has another one, or cannot be read.
        """
        seal, path, hashed = self._opened(), self.folder / PAYLOAD / name, hashlib.sha256()
        copy = nameless_file()
        try:
            left = JOURNAL_MOST
            with self._missing_told(path), reading_outside(path, left) as file:
                while chunk := file.read(min(CHUNK, left)):
                    left -= len(chunk)
                    hashed.update(chunk)
                    with spilling():
                        copy.write(chunk)
            if hashed.hexdigest() != sha256:
                raise self._touched(path)
            copy.seek(0)
            if seal is None:
                return copy
            opened = nameless_file()
            seal.open(copy, opened, str(path))
        except BaseException:
            copy.close()
            raise
        copy.close()
        opened.seek(0)
        return opened

    def _put_sealed(self, name: str, chunks: Iterable[bytes]) -> tuple[str, str]:
        """Write a file of the payload, sealed where the parcel is; return its name and SHA-256."""
        hashed = hashlib.sha256()
        with nameless_file() as plain, nameless_file() as sealed:
            written = plain
            for chunk in chunks:  # ``writelines`` would hold all of them
                with spilling():
                    plain.write(chunk)
            plain.seek(0)
            if self.seal is not None:
                name, written = f"{name}{ENDING}", sealed
                self.seal.close(plain, sealed)
                sealed.seek(0)

            def hashing() -> Iterator[bytes]:
                while chunk := written.read(CHUNK):
                    hashed.update(chunk)
                    yield chunk

            path = self.folder / PAYLOAD / name
            self.effects.put(path, hashing(), mode_in(self.folder))
        return name, hashed.hexdigest()

    def _bytes(self, name: str) -> bytes:
        path = self.folder / PAYLOAD / name
        with self._missing_told(path):
            return read_outside(path, JOURNAL_MOST)

    def _insist_told(self, name: str, sha256: str) -> bytes:
        """Return the bytes of a file that has this SHA-256.

        Raises:
            ParcelUnusable: It has another one, or cannot be read.
        """
        data = self._bytes(name)
        if digest(data) != sha256:
            raise self._touched(self.folder / PAYLOAD / name)
        return data

    @contextmanager
    def _missing_told(self, path: SafePath) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise ParcelUnusable(
                "a file is missing", where=str(path), why=error.strerror or "", todo=PACK_AGAIN
            ) from error

    def _touched(self, path: SafePath) -> ParcelUnusable:
        why = "its SHA-256 is not the one in the logbook"
        return ParcelUnusable("was damaged or changed", where=str(path), why=why, todo=PACK_AGAIN)
