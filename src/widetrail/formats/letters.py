"""What every store of letters has in common: RFC 5322 headers, identities, marks and envelopes."""

from __future__ import annotations

import re
import time
from contextlib import suppress
from email import policy
from email.header import decode_header, make_header
from email.parser import BytesHeaderParser
from email.utils import parseaddr, parsedate_to_datetime

from widetrail.formats.record import (
    Declared,
    Fields,
    InOneFile,
    Record,
    RecordKind,
    digest_of,
    text_of,
)

_ID = re.compile(rb"\s*(<[^<>\n]*(?:\n[ \t][^<>\n]*)*>)")
_PASSING = re.compile(
    rb"(?:(?<=\n)|\A)(?:x-)?(?:status|keywords|mozilla-[a-z0-9-]+|uid|imap|imapbase|"
    rb"content-length|evolution[a-z0-9-]*):[^\n]*\n(?:[ \t][^\n]*\n)*",
    re.IGNORECASE,
)
"""Headers that programs keep of their own about a letter, which are no part of it."""

_MAY_PASS = re.compile(rb"\n(?:x-|status|keywords|mozilla|uid|imap|content-l|evolution)").search
"""Finds, in small letters, what may be such a header."""

_STATUS = re.compile(rb"(?:(?<=\n)|\A)(x-)?status:[ \t]*([A-Za-z]*)[ \t]*\n", re.IGNORECASE)
_MARKS = {"R": "S", "A": "R", "F": "F", "D": "T", "T": "D"}
"""The letters of ``Status`` and ``X-Status``, and those of Maildir that mean the same."""


def unix_lines(data: bytes) -> bytes:
    """Return a letter with lines that end as they do in a mailbox."""
    return data.replace(b"\r\n", b"\n") if b"\r\n" in data else data


def head_of(data: bytes) -> bytes:
    """Return the headers of a letter, whose lines end as in a mailbox, with the last one's end."""
    if data.startswith(b"\n"):
        return b""
    end = data.find(b"\n\n")
    return data if end < 0 else data[: end + 1]


def letter(
    data: bytes, marks: str = "", envelope: bytes = b"", folder: tuple[str, ...] = ()
) -> Record:
    """Return a letter from its bytes, whose lines end as in a mailbox."""
    head = head_of(data)
    small = b"\n" + head.lower()
    at = small.find(b"\nmessage-id:")
    found = _ID.match(head, at + len(b"message-id:")) if at >= 0 else None
    identity = b"".join(found[1].split()) if found is not None else b""
    lasting = _PASSING.sub(b"", head) if _MAY_PASS(small) else head
    body = data[len(head) :].rstrip(b"\n")
    return Record(identity, digest_of(lasting, body), folder, data, marks, envelope)


def marks_of(record: Record) -> str:
    """Return what was done with a letter, as Maildir marks it: DFPRST."""
    if record.marks:
        return record.marks
    found = _STATUS.findall(head_of(record.data))
    told = {_MARKS[c] for _, letters in found for c in letters.decode().upper() if c in _MARKS}
    return "".join(sorted(told))


def with_status(record: Record) -> bytes:
    """Return a letter with the headers by which a mailbox keeps its marks."""
    if not record.marks or _STATUS.search(head_of(record.data)):
        return record.data
    status = "RO" if "S" in record.marks else "O"
    beside = {mark: name for name, mark in _MARKS.items() if name != "R"}
    more = "".join(sorted(beside[mark] for mark in record.marks if mark in beside))
    told = f"Status: {status}\n" + (f"X-Status: {more}\n" if more else "")
    head = head_of(record.data)
    return head + told.encode() + record.data[len(head) :]


def envelope_of(record: Record) -> bytes:
    """Return the line that stands before a letter in a mailbox, by its sender and date."""
    if record.envelope:
        return record.envelope
    headers = BytesHeaderParser(policy=policy.compat32).parsebytes(head_of(record.data))
    sender = parseaddr(str(headers.get("Return-Path") or headers.get("From") or ""))[1]
    try:
        moment = parsedate_to_datetime(str(headers["Date"])).timetuple()
    except (TypeError, ValueError, OverflowError):
        moment = time.gmtime(0)
    address = re.sub(r"[^!-~]", "", sender) or "MAILER-DAEMON"
    return f"From {address} {time.asctime(moment)}\n".encode("ascii", "replace")


def letter_fields(record: Record) -> Fields:
    """Return the headers of a letter by their names in lower case, unfolded and decoded; ``moment``
    is its date as ISO 8601 has it."""
    found: dict[str, tuple[str, ...]] = {}
    headers = BytesHeaderParser(policy=policy.compat32).parsebytes(head_of(record.data))
    for name, value in headers.items():
        key = name.lower()
        found[key] = (*found.get(key, ()), _decoded(str(value)))
    with suppress(TypeError, ValueError, OverflowError):
        found["moment"] = (parsedate_to_datetime(str(headers["Date"])).isoformat(),)
    return found


def letter_name(record: Record) -> str:
    """Return the subject of a letter, or its identity where it has none."""
    subject = letter_fields(record).get("subject", ("",))[0]
    return subject or text_of(record.identity) or "a letter without a subject"


def _decoded(value: str) -> str:
    flat = re.sub(r"\r?\n[ \t]", " ", value)
    try:
        return str(make_header(decode_header(flat)))
    except (LookupError, ValueError):
        return flat


class Letters(InOneFile):
    """What every form of letters has in common."""

    kind: RecordKind = "letter"

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return the headers of a letter."""
        return letter_fields(record)

    def name(self, record: Record) -> str:
        """Return the subject of a letter."""
        return letter_name(record)
