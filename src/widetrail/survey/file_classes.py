"""What files that nobody claims look like, and why: by their endings, names and first bytes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal, NamedTuple

Kind = Literal[
    "records",
    "documents",
    "pictures",
    "sounds",
    "films",
    "settings",
    "keys",
    "cache",
    "log",
    "programs",
    "archives",
    "mixed",
    "unclear",
]

_ENDINGS: Mapping[Kind, str] = {
    "records": "db db3 sqlite sqlite3 mdb accdb fdb gdb mbox eml msg pst ost ics vcf kdbx gpx dat",
    "documents": "txt md pdf doc docx odt xls xlsx ods ppt pptx odp rtf htm html epub tex csv",
    "pictures": "jpg jpeg png gif tif tiff bmp webp svg heic raw cr2 nef arw psd xcf",
    "sounds": "mp3 wav flac ogg oga m4a opus aif aiff mid wma",
    "films": "mp4 mkv avi mov webm m4v mpg mpeg wmv",
    "settings": "ini conf cfg json xml plist yaml yml toml reg rc properties desktop prefs theme",
    "keys": "key pem crt cer p12 pfx gpg asc lic license",
    "cache": "cache tmp temp part crdownload thumb thumbs",
    "log": "log etl trace journal dmp",
    "programs": "exe dll so dylib jar class o a pyc py js msi sh bat ps1 rs c h cpp ts whl",
    "archives": "zip tar gz tgz xz bz2 7z rar zst iso img dmg deb rpm bak",
}
_KIND_OF: Mapping[str, Kind] = {
    ending: kind for kind, endings in _ENDINGS.items() for ending in endings.split()
}

_CALLED: Mapping[Kind, frozenset[str]] = {
    "cache": frozenset(
        [
            "cache",
            "caches",
            ".cache",
            "cache2",
            "code cache",
            "gpucache",
            "shadercache",
            "cacheddata",
            "tmp",
            "temp",
            ".tmp",
            "thumbnails",
            "thumbs",
            ".thumbnails",
        ]
    ),
    "log": frozenset(["log", "logs", ".logs"]),
}

_BEGINNINGS: Sequence[tuple[bytes, Kind, str]] = (
    (b"SQLite format 3\0", "records", "an SQLite database"),
    (b"From ", "records", "a mailbox"),
    (b"BEGIN:VCARD", "records", "contacts"),
    (b"BEGIN:VCALENDAR", "records", "a calendar"),
    (b"bplist", "settings", "a property list"),
    (b"\x89PNG", "pictures", "a picture"),
    (b"\xff\xd8\xff", "pictures", "a picture"),
    (b"GIF8", "pictures", "a picture"),
    (b"RIFF", "sounds", "a recording"),
    (b"fLaC", "sounds", "a recording"),
    (b"ID3", "sounds", "a recording"),
    (b"%PDF", "documents", "a document"),
    (b"PK\x03\x04", "archives", "an archive"),
    (b"\x1f\x8b", "archives", "an archive"),
    (b"\x7fELF", "programs", "a program"),
    (b"MZ", "programs", "a program"),
    (b"-----BEGIN", "keys", "a key"),
)
BEGINNING = 16
"""Bytes of a file that tell what it begins as."""

_MOST_OF = 0.6
"""The share of files or bytes from which on a kind stands for all."""


class Likeness(NamedTuple):
    """What files look like, and why."""

    kind: Kind
    why: str


def likeness(
    names: Sequence[str], endings: Mapping[str, tuple[int, int]], beginning: bytes = b""
) -> Likeness:
    """Return what files look like.

    ``names`` are the folders that they lie in, outermost first, ``endings`` how many files and
    bytes have each ending (small letters, without the dot), ``beginning`` the first bytes of the
    largest of those whose ending says nothing.
    """
    for kind, called in _CALLED.items():
        for name in names:
            if name.casefold() in called:
                return Likeness(kind, f"a folder is called {name}")
    files = sum(count for count, _ in endings.values())
    size = sum(size for _, size in endings.values())
    by_kind: dict[Kind, list[int]] = {}
    for ending, (count, amount) in endings.items():
        kinds = by_kind.setdefault(_KIND_OF.get(ending, "unclear"), [0, 0])
        kinds[0] += count
        kinds[1] += amount
    most = max(by_kind, key=lambda kind: (by_kind[kind][1], by_kind[kind][0], kind))
    count, amount = by_kind[most]
    if amount < _MOST_OF * size or (not size and count < _MOST_OF * files):
        told = ", ".join(sorted(kind for kind in by_kind if kind != "unclear"))
        return Likeness("mixed", f"of several kinds: {told}" if told else "endings say little")
    if most == "unclear":
        for begins, kind, what in _BEGINNINGS:
            if beginning.startswith(begins):
                return Likeness(kind, f"the largest file begins as {what} does")
    of_size = f", {amount * 100 // size} % of the bytes" if count < _MOST_OF * files else ""
    return Likeness(most, _ending_told(endings, most, files, of_size))


def _ending_told(
    endings: Mapping[str, tuple[int, int]], kind: Kind, files: int, of_size: str
) -> str:
    """Return how many of the files have endings of a kind; ``of_size`` is added where these are
    the lesser part."""
    mine = {e: n for e, (n, _) in endings.items() if _KIND_OF.get(e, "unclear") == kind}
    listed = sorted(mine, key=lambda ending: (-mine[ending], ending))
    count = sum(mine.values())
    if listed[0] == "":
        if files in (1, mine[""]):
            return "it has no ending" if files == 1 else "none has an ending"
        return f"{mine['']} of {files} have no ending"
    shown = " or ".join(f".{ending}" for ending in listed[:2] if ending)
    more = " and others" if len(listed) > 2 else ""
    if files == 1:
        return f"it ends in {shown}"
    if count == files:
        return f"all end in {shown}{more}"
    return f"{count} of {files} end in {shown}{more}{of_size}"
