"""Values as Qt programs write them in ini files (QSettings, ``IniFormat``), and the texts in them.

Their escapes, quotes, lists and ``@`` forms are those of Qt 4 to 6; what is in ``@Variant(…)`` is
the stream of Qt 4.0 (``QDataStream``), which QSettings has written ever since.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterator, Mapping
from urllib.parse import unquote

from widetrail.formats.interface import Raw, Unreadable, Unwritable
from widetrail.lazily import dataclass

_SHORT = {"a": "\a", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v"}
_LONG = {char: short for short, char in _SHORT.items()} | {'"': '"', "\\": "\\"}
_PIECE = re.compile(
    r"""\\x([0-9a-fA-F]{1,8})|\\([0-7]{1,7})|\\(.?)|(")|(,)|([^\\",]+)""", re.DOTALL
)


def parse_list(raw: str) -> list[str]:
    """Return the texts of a value as it stands after ``=``: one, or those of a list."""
    found, text, quoted, kept = [], "", False, 0
    for piece in _PIECE.finditer(raw):
        code, octal, short, quote, comma, plain = piece.groups()
        if code or octal:
            number = int(code, 16) if code else int(octal, 8)
            text += chr(number) if number < 0x110000 else "\ufffd"
            kept = len(text)
        elif short is not None:
            text += _SHORT.get(short, short)
            kept = len(text)
        elif quote:
            quoted = not quoted
            kept = len(text)
        elif comma and not quoted:
            found.append(_trimmed(text, kept))
            text, kept = "", 0
        else:
            told = comma or plain
            text += told if quoted or text else told.lstrip()
            kept = len(text) if quoted else kept
    return [*found, _trimmed(text, kept)]


def _trimmed(text: str, kept: int) -> str:
    """Return a text without the white space at its end that was neither quoted nor escaped."""
    return text[:kept] + text[kept:].rstrip()


def write_list(texts: list[str], *, ascii_only: bool = True) -> str:
    """Return texts as they stand after ``=``, one or a list."""
    return ", ".join(_written(t, ascii_only or t.startswith(_OF_BYTES)) for t in texts)


_OF_BYTES = ("@ByteArray(", "@Variant(")
"""What values begin with whose characters are bytes, which some releases read only escaped."""


def _written(text: str, ascii_only: bool) -> str:
    told, after_hex = "", False
    for char in text:
        hides = after_hex and char in "0123456789abcdefABCDEF"
        if char in _LONG and not hides:
            told, after_hex = f"{told}\\{_LONG[char]}", False
        elif hides or char < " " or char == "\x7f" or (ascii_only and char > "~"):
            told, after_hex = f"{told}\\x{ord(char):x}", True
        else:
            told, after_hex = told + char, False
    quoted = any(c in text for c in ";,=") or text != text.strip(" ")
    return f'"{told}"' if quoted else told


def name_of(section: str, key: str) -> str:
    """Return the name that Qt programs have for a key of a section: ``group/…/key``."""
    root = section.casefold() == "general"
    group = "" if root else _decoded(re.sub("(?i)^%(?=general$)", "", section))
    own = _decoded(key.replace("\\", "/"))
    return f"{group}/{own}" if group else own


def _decoded(name: str) -> str:
    wide = re.sub(r"%U([0-9a-fA-F]{4})", lambda m: chr(int(m[1], 16)), name)
    units = unquote(wide, encoding="latin-1").encode("utf-16", "surrogatepass")
    return units.decode("utf-16", "replace")


def written_name(name: str) -> str:
    """Return a name as ``section/key`` of the file."""
    group, _, key = name.partition("/") if "/" in name else ("", "", name)
    section = _encoded(group) if group else "General"
    section = f"%{section}" if group and section.casefold() == "general" else section
    return f"{section}/{_encoded(key)}"


def _encoded(name: str) -> str:
    told = ""
    for char in name:
        if char == "/":
            told += "\\"
        elif char.isascii() and (char.isalnum() or char in "_-."):
            told += char
        else:
            units = char.encode("utf-16-be", "surrogatepass").hex().upper()
            wide = (f"%U{units[n : n + 4]}" for n in range(0, len(units), 4))
            told += f"%{ord(char):02X}" if ord(char) < 256 else "".join(wide)
    return told


@dataclass(frozen=True)
class Held:
    """A value: what it says, the texts in it, and how it is written with others in their place."""

    value: Raw
    texts: tuple[str, ...]
    with_texts: Callable[[list[str]], list[str]]


def held(texts: list[str]) -> Held:
    """Return what a value holds.

    Raises:
        Unreadable: It holds what only its program reads.
    """
    if len(texts) > 1:
        plain = [_plain(text) for text in texts]
        return Held(list(plain), tuple(plain), lambda new: [_marked(text) for text in new])
    text = texts[0]
    if text == "@Invalid()":
        return Held(None, (), lambda new: texts)
    if not text.startswith(_OF_BYTES) and re.fullmatch(r"@[A-Z]\w*\(.*\)", text, re.DOTALL):
        return Held(text, (), lambda new: texts)  # a size, a moment
    if text.startswith("@ByteArray(") and text.endswith(")"):
        return _bytes(text)
    if text.startswith("@Variant(") and text.endswith(")"):
        return _variant(text)
    plain_text = _plain(text)
    return Held(plain_text, (plain_text,), lambda new: [_marked(new[0])])


def _plain(text: str) -> str:
    return text[1:] if text.startswith("@@") else text


def _marked(text: str) -> str:
    return f"@{text}" if text.startswith("@") else text


def _bytes(text: str) -> Held:
    data = _latin(text[len("@ByteArray(") : -1])
    try:
        told = data.decode()
    except UnicodeDecodeError:
        return Held(data.hex(), (), lambda new: [text])
    return Held(told, (told,), lambda new: [f"@ByteArray({new[0].encode().decode('latin-1')})"])


def _latin(text: str) -> bytes:
    try:
        return text.encode("latin-1")
    except UnicodeEncodeError as error:
        raise Unreadable("has bytes there that are none") from error


# What is in a variant


def _variant(text: str) -> Held:
    stream = _Stream(_latin(text[len("@Variant(") : -1]))
    value = stream.variant()
    if stream.left:
        raise Unreadable("has a value of Qt's there that is longer than it says")

    def with_texts(new: list[str]) -> list[str]:
        data = _Stream(stream.data, new).rewritten()
        return [f"@Variant({data.decode('latin-1')})"]

    return Held(value, tuple(stream.texts), with_texts)


_NUMBERS: Mapping[int, str] = {1: "?", 2: ">i", 3: ">I", 4: ">q", 5: ">Q", 6: ">d"}
"""The types whose values are of one length (QMetaType), as ``struct`` has them."""


class _Type:
    """The other types that are read (QMetaType)."""

    MAP, LIST, STRING, STRINGS, BYTES, URL, HASH = 8, 9, 10, 11, 12, 17, 28


_NONE = 0xFFFFFFFF
"""The length of a text that there is not."""

_DEEPEST = 40


class _Stream:
    """A stream that is read once, and written at the same time with other texts, in their order."""

    def __init__(self, data: bytes, new: list[str] | None = None) -> None:
        self.data, self._at = data, 0
        self.texts: list[str] = []
        self._new, self._out = new, bytearray()

    @property
    def left(self) -> int:
        """How many bytes were not read."""
        return len(self.data) - self._at

    def rewritten(self) -> bytes:
        """Return the stream with the texts that were told."""
        self.variant()
        return bytes(self._out)

    def variant(self, depth: int = 0) -> Raw:
        """Return the value that begins here.

        Raises:
            Unreadable: It is of a type that is not known here, or cut off.
        """
        if depth > _DEEPEST:
            raise Unreadable("has a value of Qt's there that is nested too deep")
        kind = self._number()
        if kind in _NUMBERS:
            number: Raw = struct.unpack(_NUMBERS[kind], self._keep(self._size(kind)))[0]
            return number
        match kind:
            case _Type.STRING:
                return self._text("utf-16-be")
            case _Type.BYTES:
                return self._text("utf-8")
            case _Type.URL:
                return self._text("ascii")
            case _Type.STRINGS:
                return [self._text("utf-16-be") for _ in self._count()]
            case _Type.LIST:
                return [self.variant(depth + 1) for _ in self._count()]
            case _Type.MAP | _Type.HASH:
                return {str(self._name()): self.variant(depth + 1) for _ in self._count()}
        raise Unreadable(f"has a value of Qt's there (type {kind}) that only its program reads")

    @staticmethod
    def _size(kind: int) -> int:
        return struct.calcsize(_NUMBERS[kind])

    def _keep(self, size: int) -> bytes:
        if size > self.left:
            raise Unreadable("has a value of Qt's there that is cut off")
        found = self.data[self._at : self._at + size]
        self._at += size
        self._out += found
        return found

    def _number(self) -> int:
        number: int = struct.unpack(">I", self._keep(4))[0]
        return number

    def _count(self) -> Iterator[int]:
        count = self._number()
        if count > self.left:
            raise Unreadable("has a value of Qt's there that is cut off")
        return iter(range(count))

    def _name(self) -> str | None:
        size = self._number()
        return None if size == _NONE else self._decoded(self._keep(size), "utf-16-be")

    def _text(self, encoding: str) -> str | None:
        start = len(self._out)
        size = self._number()
        if size == _NONE:
            return None
        text = self._decoded(self._keep(size), encoding)
        self.texts.append(text)
        if self._new is not None:
            told = _encoded_as(self._new[len(self.texts) - 1], encoding)
            self._out[start:] = struct.pack(">I", len(told)) + told
        return text

    @staticmethod
    def _decoded(data: bytes, encoding: str) -> str:
        try:
            return data.decode(encoding)
        except UnicodeDecodeError as error:
            raise Unreadable("has a value of Qt's there whose text is none") from error


def _encoded_as(text: str, encoding: str) -> bytes:
    try:
        return text.encode(encoding, "surrogatepass")
    except UnicodeEncodeError as error:
        raise Unwritable("has an address there, whose letters are percent-encoded") from error


def as_text(scalar: object) -> str:
    """Return a value that is written as Qt has it.

    Raises:
        Unwritable: It holds a line of its own kind that ini files have not.
    """
    if scalar is None:
        return "@Invalid()"
    told = str(scalar).lower() if isinstance(scalar, bool) else str(scalar)
    if "\0" in told:
        raise Unwritable("is an ini file, where a text has no NUL")
    return _marked(told)
