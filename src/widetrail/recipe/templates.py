"""Texts with braces: their grammar, and putting values in.

``{name}`` and ``{name.attribute}`` are replaced, ``{{`` and ``}}`` are literal braces. A path
template begins with a root or place in braces and uses ``/`` on every platform.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache

from widetrail.formats.flaws import flaw
from widetrail.lazily import dataclass
from widetrail.machine.platforms import PLATFORMS, STRICTEST

_PIECE = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[{}]")
_NAME = re.compile(r"[a-z][a-z0-9_]*(\.[a-z][a-z0-9_]*)?")

ROOTS = frozenset(
    "home documents desktop downloads music pictures videos saved_games config data cache "
    "state preferences shared programs temp".split()
)


@dataclass(frozen=True)
class Brace:
    """A reference to a named value: ``{name}`` or ``{name.attribute}``."""

    name: str

    @property
    def base(self) -> str:
        """The part before the dot."""
        return self.name.partition(".")[0]


Template = tuple[str | Brace, ...]


@lru_cache(maxsize=4096)
def parse_template(text: str) -> Template:
    """Split ``text`` into literal texts and braces.

    Raises:
        PydanticCustomError: A brace is open, empty or holds no name.
    """
    pieces: list[str | Brace] = []
    end = 0
    for match in _PIECE.finditer(text):
        pieces.append(text[end : match.start()])
        end = match.end()
        whole, name = match.group(0), match.group(1)
        if whole in ("{{", "}}"):
            pieces.append(whole[0])
        elif name is None:
            raise flaw("brace", f'"{whole}" is not closed in "{text}"', f"Write {whole * 2} for it")
        elif not _NAME.fullmatch(name):
            hint = "Names are small letters, digits and _"
            raise flaw("brace", f'"{{{name}}}" is not a name in braces', hint)
        else:
            pieces.append(Brace(name))
    pieces.append(text[end:])
    return tuple(p for p in pieces if p != "")


def braces(text: str) -> tuple[Brace, ...]:
    """Return the braces of a template, in order."""
    return tuple(p for p in parse_template(text) if isinstance(p, Brace))


def fill(text: str, value: Callable[[str], str]) -> str:
    """Return ``text`` with each brace replaced by what ``value`` gives for its name."""
    return "".join(value(p.name) if isinstance(p, Brace) else p for p in parse_template(text))


def refill(text: str, value: Callable[[str], str | None]) -> str:
    """Return ``text`` with the braces replaced that ``value`` knows; it is a template still.

    In a path below a root or place, each value becomes one segment.
    """
    pieces = parse_template(text)
    filled = []
    for number, piece in enumerate(pieces):
        if isinstance(piece, str):
            filled.append(literal(piece))
            continue
        known = value(piece.name)
        if known is not None and number and is_path(pieces):
            known = as_segment(known)
        filled.append(f"{{{piece.name}}}" if known is None else literal(known))
    return "".join(filled)


def is_path(pieces: Template) -> bool:
    """Return whether a template is a path below a root or place, so that values are segments."""
    first, *rest = pieces
    return isinstance(first, Brace) and bool(rest) and str(rest[0]).startswith("/")


def literal(text: str) -> str:
    """Return the template that stands for ``text`` itself."""
    return text.replace("{", "{{").replace("}", "}}")


def plain(text: str) -> str:
    """Return a template as people read it: braces that stand for themselves once, and the names of
    what is known only where it is done as ‹name›."""
    return "".join(f"‹{p.name}›" if isinstance(p, Brace) else p for p in parse_template(text))


def as_segment(value: str) -> str:
    """Return ``value`` as one name of a path on any platform; no two values give one name."""
    return PLATFORMS[STRICTEST].fit_name(value)


def check_path(text: str) -> str:
    """Return ``text`` if it is a sound path template.

    Raises:
        PydanticCustomError: It does not begin with braces, climbs, or is tied to one machine.
    """
    pieces = parse_template(text)
    if "\\" in text:
        raise flaw("path-separator", f'"{text}" holds a \\', "Write paths with / on every platform")
    if re.match(r"[A-Za-z]:", text):
        hint = "Begin with a root or a place in braces, such as {documents}"
        raise flaw("path-drive", f'"{text}" names a drive letter', hint)
    if not pieces or not isinstance(pieces[0], Brace):
        hint = "Begin with a root or a place in braces, such as {documents}"
        raise flaw("path-root", f'"{text}" does not begin with a root or place', hint)
    rest = "".join(p if isinstance(p, str) else "x" for p in pieces[1:])
    if rest and not rest.startswith("/"):
        raise flaw("path-root", f'"{text}" needs a / after its first braces')
    segments = rest.split("/")[1:]
    if any(s in (".", "..", "") for s in segments):
        hint = "A path must not contain . or .., or end in /"
        raise flaw("path-climbs", f'"{text}" holds an empty, "." or ".." segment', hint)
    return text
