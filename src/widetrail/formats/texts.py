"""Bytes to text, as programs have written it over the years."""

from __future__ import annotations

import codecs
import re
import unicodedata
from collections.abc import Iterator

from widetrail.formats.interface import Unreadable, Unwritable

_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


def for_people(text: str) -> str:
    """Return ``text`` fit to be shown: no control or direction characters, no raw bytes.

    What cannot be shown becomes an escape such as ``\\x1b``; line ends and tabs too.
    """
    return "".join(c if _shows(c) else _escape(c) for c in text)


def _shows(char: str) -> bool:
    return char == " " or unicodedata.category(char) not in ("Cc", "Cf", "Cs", "Zl", "Zp")


def _escape(char: str) -> str:
    code = ord(char)
    if 0xDC80 <= code <= 0xDCFF:  # a byte that was no text (PEP 383)
        return f"\\x{code - 0xDC00:02x}"
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"


def encode(text: str, codec: str, like: bytes) -> bytes:
    """Return the bytes of ``text`` in the encoding, and with the mark, that ``like`` has.

    Raises:
        Unwritable: That encoding has no character for some of it.
    """
    if like.startswith(codecs.BOM_UTF16_BE) and codec == "utf-16":
        return codecs.BOM_UTF16_BE + text.encode("utf-16-be")
    try:
        mark = codecs.BOM_UTF16_LE if codec == "utf-16" else b""
        return mark + text.encode("utf-16-le" if mark else codec)
    except UnicodeEncodeError as error:
        name = "Windows-1252" if codec == "cp1252" else codec
        raise Unwritable(f"is in {name}, which lacks {error.object[error.start]!r}") from error


def decode(data: bytes) -> tuple[str, str]:
    """Return the text of ``data`` and the codec that read it.

    A byte order mark decides; else UTF-8 where it fits; else Windows-1252, and Latin-1 where even
    that has no character for a byte.

    Raises:
        Unreadable: A marked encoding is broken.
    """
    codec = next((name for mark, name in _MARKS if data.startswith(mark)), None)
    if codec is not None:
        try:
            return data.decode(codec), codec
        except UnicodeDecodeError as error:
            raise Unreadable(f"is marked as {codec} but byte {error.start} is not") from error
    for name in ("utf-8", "cp1252"):
        try:
            return data.decode(name), name
        except UnicodeDecodeError:
            continue
    return data.decode("latin-1"), "latin-1"


_ESCAPE = re.compile(r"\\(?:x([0-9A-Fa-f]{1,4})|(.))")
_SHORT = {"n": "\n", "t": "\t", "r": "\r", "0": "\0", "a": "\a", "b": "\b", "f": "\f", "v": "\v"}


def unescaped(line: str) -> Iterator[str]:
    """Give what a line of settings says that escapes its characters as Qt does (QSettings, ini).

    ``\\xf6`` is one character; ``@Variant(…)`` and ``@ByteArray(…)`` hold bytes so, in which texts
    are in UTF-16 or UTF-8.
    """
    if "\\" not in line:
        return
    plain = _ESCAPE.sub(lambda m: chr(int(m[1], 16)) if m[1] else _SHORT.get(m[2], m[2]), line)
    yield plain
    if "@Variant(" in line or "@ByteArray(" in line:
        yield from texts_in_bytes(plain.encode("latin-1", "replace"))


def texts_in_bytes(data: bytes) -> Iterator[str]:
    """Give what texts may stand in bytes: as UTF-8, and as UTF-16 from either byte on."""
    yield data.decode("utf-8", "replace")
    for encoding in ("utf-16-le", "utf-16-be"):
        for start in (0, 1):
            yield data[start:].decode(encoding, "replace")
