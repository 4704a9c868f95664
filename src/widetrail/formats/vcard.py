"""vCard 3.0 and 4.0 (RFC 2426, RFC 6350): contacts one after the other in a file.

What is not understood of a contact stays as it stands.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from widetrail.formats.content_lines import (
    components,
    escaped,
    folded,
    merged_lines,
    properties,
    unescaped,
)
from widetrail.formats.form import Form
from widetrail.formats.record import (
    Broken,
    Declared,
    Fields,
    InOneFile,
    Lost,
    Piece,
    Record,
    RecordKind,
    digest_of,
)

_PASSING = frozenset({"BEGIN", "END", "VERSION", "PRODID", "REV", "UID"})
"""What a program writes for itself, and what a contact says by nothing else."""

_UID = re.compile(
    rb"(?im)^(?:[A-Za-z0-9-]+\.)?UID[^:\n]*:[ \t]*(?:urn:uuid:)?([^\r\n]+(?:\r?\n[ \t][^\r\n]*)*)"
)

SINGLE = frozenset(
    {"FN", "N", "BDAY", "ANNIVERSARY", "GENDER", "KIND", "UID", "REV", "PRODID", "VERSION"}
)
"""Properties that a contact has once."""


class Vcard(InOneFile):
    """Contacts in a file."""

    kind: RecordKind = "contact"
    options: tuple[str, ...] = ("version",)

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a file contact by contact."""
        glue = b""
        if store.exists():
            with store.open("rb") as file:
                for name, raw in components(file, 0):
                    if name != "VCARD" and raw.strip(b"\r\n\t \xef\xbb\xbf"):
                        raise Broken("contains something that is not a contact")
                    yield Piece(raw, _record(raw) if name == "VCARD" else None)
                    glue = b"" if raw.endswith(b"\n") else b"\r\n"
        yield Piece(b"", None, (), glue)

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a contact as it stands."""
        data = record.data
        return (data if data.endswith(b"\n") else data + b"\r\n"), ()

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return the properties of a contact, by their names, as texts."""
        found: dict[str, tuple[str, ...]] = {}
        for one in properties(record.data):
            if one.name not in ("BEGIN", "END"):
                found[one.name] = (*found.get(one.name, ()), unescaped(one.value))
        return found

    def name(self, record: Record) -> str:
        """Return the name of a contact."""
        told = self.fields(record, Declared())
        known = (*told.get("FN", ()), *told.get("EMAIL", ()), *told.get("N", ()))
        return next((text for text in known if text.strip()), "a contact without a name")

    def merged(
        self, mine: Record, other: Record, declared: Declared
    ) -> tuple[Record, tuple[Lost, ...]]:
        """Return a contact with what another says of it beside what it says itself.

        Of what a contact has once, what it says itself stays.
        """
        data, names = merged_lines(mine.data, other.data, SINGLE, _PASSING)
        lost = tuple(Lost(f"another {name} of one contact") for name in names)
        return mine if data is None else _record(data), lost

    def made(self, fields: Fields, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a contact that says ``fields``."""
        told = dict(fields)
        name = next(iter(told.get("FN", ())), "") or next(iter(told.get("EMAIL", ())), "")
        lines = ["BEGIN:VCARD", "VERSION:4.0", f"FN:{escaped(name)}"]
        for key, values in told.items():
            if key not in ("FN", "VERSION"):
                lines += [f"{key}:{escaped(value)}" for value in values if value]
        return _record(b"".join(map(folded, [*lines, "END:VCARD"]))), ()


def _record(raw: bytes) -> Record:
    found = _UID.search(raw)
    identity = re.sub(rb"\r?\n[ \t]", b"", found[1]).strip() if found is not None else b""
    said = [one.line for one in properties(raw) if one.name not in _PASSING]
    content = "\n".join(sorted(said)).encode("utf-8", "surrogateescape")
    return Record(identity, digest_of(content), (), raw)


VCARD = Form("vcard", "none", is_reading=False, records=Vcard())
