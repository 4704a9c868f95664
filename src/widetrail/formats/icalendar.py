"""iCalendar (RFC 5545): events, tasks and journal entries, with the time zones that they name.

What is not understood of one stays as it stands, its recurrences and alarms too.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from widetrail.formats.content_lines import components, merged_lines, properties, unescaped
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

_KINDS = frozenset({"VEVENT", "VTODO", "VJOURNAL", "VFREEBUSY"})
_PASSING = frozenset(
    {"BEGIN", "END", "PRODID", "DTSTAMP", "LAST-MODIFIED", "CREATED", "SEQUENCE", "UID"}
)
SINGLE = _PASSING | {
    *("DTSTART", "DTEND", "DUE", "DURATION", "SUMMARY", "DESCRIPTION", "LOCATION", "CLASS", "GEO"),
    *("STATUS", "PRIORITY", "ORGANIZER", "RRULE", "EXDATE", "RDATE", "RECURRENCE-ID", "TRANSP"),
    *("URL", "COMPLETED", "PERCENT-COMPLETE"),
}
"""Properties that an entry has once, and its dates, whose zones would have to come along."""

_TZID = re.compile(r";TZID=\"?([^;:\"]+)\"?")
_HEAD = b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Wide Trail//records//EN\r\n"
_TAIL = b"END:VCALENDAR\r\n"


class Icalendar(InOneFile):
    """Events and tasks in a file."""

    kind: RecordKind = "event"

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return the time zones that the file tells: the name of each, and what it is known by."""
        known: dict[str, str] = {}
        if store.exists():
            with store.open("rb") as file:
                for name, raw in components(file, 1):
                    if name == "VTIMEZONE":
                        known[_name_of(raw)] = _zone_key(_name_of(raw), raw)
        told = "\n".join(f"{name}\t{key}" for name, key in known.items())
        return replace(declared, options={**declared.options, "zones": told})

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a calendar entry by entry; what is added comes before its end."""
        zones: dict[str, bytes] = {}
        last = b""
        if store.exists():
            with store.open("rb") as file:
                for name, raw in components(file, 1):
                    if last:
                        yield Piece(last)
                        last = b""
                    if name == "VTIMEZONE":
                        zones[_name_of(raw)] = raw
                    if name in _KINDS:
                        yield Piece(raw, _record(raw, zones))
                    elif name:
                        yield Piece(raw)
                    else:
                        last = raw
        if not last:
            yield Piece(b"", None, (), _HEAD)
            yield Piece(_TAIL)
            return
        cut = last.upper().rfind(b"END:VCALENDAR")
        if cut < 0:
            raise Broken("is not a calendar")
        yield Piece(last[:cut])
        yield Piece(last[cut:], None, ())

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return an entry, with its zones called as the calendar calls them."""
        data = record.data if record.data.endswith(b"\n") else record.data + b"\r\n"
        for name, raw in _zones_of(record).items():
            called = _called(name, raw, declared)
            if called != name:
                plain = re.compile(rb";TZID=\"?" + re.escape(name.encode()) + rb"\"?(?=[:;])")
                data = plain.sub(b';TZID="' + called.encode() + b'"', data)
        return data, ()

    def once(self, record: Record, declared: Declared) -> Sequence[tuple[str, bytes]]:
        """Return the zones that an entry names and the calendar does not tell."""
        known = _known(declared)
        found = []
        for name, raw in _zones_of(record).items():
            called = _called(name, raw, declared)
            if called not in known:
                line = re.compile(rb"(?im)^TZID[^:\r\n]*:[^\r\n]*")
                found.append((called, line.sub(b"TZID:" + called.encode(), raw, count=1)))
        return found

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return the properties of an entry, by their names, as texts."""
        found: dict[str, tuple[str, ...]] = {}
        for one in properties(record.data):
            if one.name not in ("BEGIN", "END"):
                found[one.name] = (*found.get(one.name, ()), unescaped(one.value))
        for when in (*found.get("DTSTART", ()), *found.get("DUE", ())):
            with suppress(ValueError):
                found["moment"] = (datetime.fromisoformat(when).isoformat(),)
                break
        return found

    def merged(
        self, mine: Record, other: Record, declared: Declared
    ) -> tuple[Record, tuple[Lost, ...]]:
        """Return an entry with what another says of it beside what it says itself, its alarms too.

        Of what an entry has once, and of its dates, what it says itself stays.
        """
        data, names = merged_lines(mine.data, other.data, SINGLE, _PASSING)
        lost = tuple(Lost(f"another {name} of one entry") for name in names)
        if data is None:
            return mine, lost
        return _record(data, _zones_of(mine)), lost

    def name(self, record: Record) -> str:
        """Return the summary of an entry."""
        told = self.fields(record, Declared())
        return next(iter(told.get("SUMMARY", ())), "") or "an entry without a summary"


_PLACES = re.compile(
    r"(Africa|America|Antarctica|Arctic|Asia|Atlantic|Australia|Canada|Etc|Europe|Indian|Pacific|US)/"
)
"""How the names of time zones begin that mean the same everywhere (IANA)."""


def _name_of(raw: bytes) -> str:
    return next((one.value for one in properties(raw) if one.name == "TZID"), "")


def _zone_key(name: str, raw: bytes) -> str:
    """Return what a zone is known by: its name where that means the same everywhere, else what it
    says."""
    if _PLACES.match(name) or name in ("UTC", "GMT"):
        return name
    said = [one.line for one in properties(raw) if one.name not in ("TZID", "LAST-MODIFIED")]
    return digest_of("\n".join(said).encode("utf-8", "surrogateescape")).hex()


def _known(declared: Declared) -> dict[str, str]:
    lines = declared.options.get("zones", "").split("\n")
    return {name: key for name, _, key in (line.partition("\t") for line in lines) if name}


def _called(name: str, raw: bytes, declared: Declared) -> str:
    """Return what a calendar calls a zone, or is to call it where it has another of that name."""
    known, key = _known(declared), _zone_key(name, raw)
    same = next((other for other, told in known.items() if told == key), None)
    return same or (f"{name} {key[:8]}" if name in known else name)


def _zones_of(record: Record) -> dict[str, bytes]:
    """Return the zones that come with an entry, by their names."""
    ends = re.split(rb"(?<=END:VTIMEZONE\r\n)", record.envelope)
    return {_name_of(raw): raw for raw in ends if raw}


def _record(raw: bytes, zones: dict[str, bytes]) -> Record:
    own: dict[str, str] = {}
    named: dict[str, bytes] = {}
    depth, said = 0, list[str]()

    def told(found: re.Match[str]) -> str:
        name = found[1]
        if name not in zones:
            return found[0]
        named[name] = zones[name]
        return f";TZID={_zone_key(name, zones[name])}"

    for one in properties(raw):
        depth += {"BEGIN": 1, "END": -1}.get(one.name, 0)
        if depth == 1 and one.name in ("UID", "RECURRENCE-ID"):
            own[one.name] = one.value.strip()
        line = one._replace(parameters=_TZID.sub(told, one.parameters)).line
        if depth > 1 or one.name not in _PASSING:
            said.append(line)
    identity = f"{own['UID']}\n{own.get('RECURRENCE-ID', '')}" if own.get("UID") else ""
    content = "\n".join(sorted(said)).encode("utf-8", "surrogateescape")
    zone = b"".join(re.sub(rb"\r?\n", b"\r\n", raw.rstrip() + b"\n") for raw in named.values())
    data = identity.encode("utf-8", "surrogateescape")
    return Record(data, digest_of(content), (), raw, envelope=zone)


ICALENDAR = Form("icalendar", "none", is_reading=False, records=Icalendar())
