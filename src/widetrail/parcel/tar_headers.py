"""Headers of a tar in the pax format (POSIX.1-2001, ustar with extended records), the very bytes
that Python's ``tarfile`` writes, without the objects that it makes for each.
"""

from __future__ import annotations

import json
from base64 import b64decode

from widetrail.machine import Entry

BLOCK = 512

_NAME, _LARGEST = 100, 8**11
"""Bytes of a name in a header, and what no number in it reaches."""
_KINDS = {"file": b"0", "folder": b"5", "link": b"2", "hard": b"1"}
_OWNERS, _MAGIC = b"0000000\0" * 2, b"ustar\x0000" + b"\0" * 247
_SUM = sum(_OWNERS + _MAGIC + b" " * 8)
"""What those parts add to a checksum that are the same in all headers."""


def tar_header(name: str, entry: Entry, attributes: str, size: int = 0) -> bytes:
    """Return the header of an entry, or of ``size`` bytes of a file."""
    link, records, seconds = "", list[tuple[str, str]](), entry.mtime // 10**9
    if attributes:  # as GNU tar and star name them
        records = [
            (f"SCHILY.xattr.{name}", b64decode(value).decode("utf-8", "surrogateescape"))
            for name, value in json.loads(attributes).items()
        ]
    if entry.kind == "folder" and not name.endswith("/"):
        name += "/"
    elif entry.kind == "hard":
        link = name.removesuffix(entry.path) + entry.target
    elif entry.kind == "link":
        link = entry.target
    for keyword, text in (("path", name), ("linkpath", link)):
        if len(text) > _NAME or not text.isascii():
            records.append((keyword, text))
    if size >= _LARGEST:
        records.append(("size", str(size)))
        size = 0
    if not 0 <= seconds < _LARGEST:
        records.append(("mtime", str(seconds)))
        seconds = 0
    told = _header(name, entry.mode, size, seconds, _KINDS[entry.kind], link)
    return _extended(records) + told if records else told


def _header(name: str, mode: int, size: int, seconds: int, kind: bytes, link: str = "") -> bytes:
    path, to = (text.encode("ascii", "replace")[:_NAME] for text in (name, link))
    bits, numbers = b"%07o\0" % mode, b"%011o\0%011o\0" % (size, seconds)
    total = _SUM + sum(path) + sum(to) + sum(bits) + sum(numbers) + kind[0]
    return b"%b%b%b%b%06o\0 %b%b%b" % (
        path.ljust(_NAME, b"\0"),
        bits,
        _OWNERS,
        numbers,
        total,
        kind,
        to.ljust(_NAME, b"\0"),
        _MAGIC,
    )


def _extended(records: list[tuple[str, str]]) -> bytes:
    """Return the header and the records of what a plain header cannot tell."""
    try:
        body = b"".join(_record(keyword, text.encode()) for keyword, text in records)
    except UnicodeEncodeError:  # a name that is no text
        body = b"21 hdrcharset=BINARY\n" + b"".join(
            _record(keyword, text.encode("utf-8", "surrogateescape")) for keyword, text in records
        )
    return _header("././@PaxHeader", 0, len(body), 0, b"x") + body + b"\0" * (-len(body) % BLOCK)


def _record(keyword: str, value: bytes) -> bytes:
    """Return a record, which begins with its own length."""
    least = len(keyword.encode()) + len(value) + 3
    size = least + len(str(least))
    size = least + len(str(size))
    return b"%d %b=%b\n" % (size, keyword.encode(), value)
