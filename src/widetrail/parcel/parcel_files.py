"""The files of a parcel: plain, or sealed and opened by a passphrase."""

from __future__ import annotations

from collections.abc import Mapping
from io import BytesIO

from widetrail.errors import ParcelUnusable, Waiting
from widetrail.formats import digest
from widetrail.formats.outside import JOURNAL_MOST, SafePath, no_plain_folder, read_outside
from widetrail.machine import Effects
from widetrail.parcel.bag import (
    PAYLOAD,
    mode_in,
)
from widetrail.parcel.layout import GROWS
from widetrail.parcel.logbook import FOLDER as LOGBOOK
from widetrail.parcel.medium_reading import PACK_AGAIN
from widetrail.parcel.seal import ENDING, HEADER, KEY, Seal, open_seal, read_header


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
            *(f"{PAYLOAD}/{part.rstrip('/')}" for part in (*GROWS, "recipes/")),
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

    def _put_sealed(self, name: str, data: bytes) -> tuple[str, str]:
        """Write a file of the payload, sealed where the parcel is; return its name and SHA-256."""
        if self.seal is not None:
            sealed = BytesIO()
            self.seal.close(BytesIO(data), sealed)
            name, data = f"{name}{ENDING}", sealed.getvalue()
        self.effects.put(self.folder / PAYLOAD / name, data, mode_in(self.folder))
        return name, digest(data)

    def _bytes(self, name: str) -> bytes:
        path = self.folder / PAYLOAD / name
        try:
            return read_outside(path, JOURNAL_MOST)
        except OSError as error:
            raise ParcelUnusable(
                "a file is missing", where=str(path), why=error.strerror or "", todo=PACK_AGAIN
            ) from error

    def _touched(self, path: SafePath) -> ParcelUnusable:
        why = "its SHA-256 is not the one in the logbook"
        return ParcelUnusable("was damaged or changed", where=str(path), why=why, todo=PACK_AGAIN)
