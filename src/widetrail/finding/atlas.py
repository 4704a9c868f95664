"""The paths of one machine as another one has them: what moved, and where to."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import field
from functools import cache
from typing import NamedTuple

from widetrail.lazily import dataclass
from widetrail.machine.path_notation import (
    Bearings,
    read_written,
    trouble_with_path,
    write_again,
)
from widetrail.machine.paths import join, key, parent
from widetrail.machine.platforms import PLATFORMS, Platform

_ROOTS = (
    "home",
    "documents",
    "desktop",
    "downloads",
    "music",
    "pictures",
    "videos",
    "saved_games",
    "config",
    "data",
    "preferences",
    "cache",
    "state",
    "shared",
    "programs",
    "temp",
)
"""The roots, the first of several that are one folder first."""


@dataclass(frozen=True)
class Moved:
    """A folder or file of old and what it is on new.

    What is ``carried`` is there on new with all below it, or of that what ``takes`` says of the
    paths below it; of anything else only what is seen to be there. ``renames`` are the paths below
    it that new calls otherwise.
    """

    old: str
    new: str
    carried: bool = True
    renames: Mapping[str, str] = field(default_factory=dict)
    takes: Callable[[str], bool] | None = field(default=None, compare=False)


@dataclass(frozen=True)
class Kept:
    """A value that means on new what it says already, or that holds no path."""


@dataclass(frozen=True)
class Rewritten:
    """A value as new's program must read it."""

    text: str


@dataclass(frozen=True)
class Elsewhere:
    """A value that names a path of old which did not move."""

    path: str


@dataclass(frozen=True)
class Unsayable:
    """A value whose path cannot be said on new, with the reason."""

    path: str
    why: str


@dataclass(frozen=True)
class NotUnderstood:
    """A value that should be a path and is none that is understood, with the reason."""

    reason: str


Translation = Kept | Rewritten | Elsewhere | Unsayable | NotUnderstood

_ADDRESS = re.compile(r"(?!file:)[A-Za-z][A-Za-z0-9+.-]+:", re.IGNORECASE)
"""An address on a network, or whatever else begins with a scheme of more than one letter."""


class HowWritten(NamedTuple):
    """How the paths in a program's values are written, beside what any are.

    One of ``prefixes`` may stand before a path. ``missing_too`` tells that one below a root becomes
    the same below new's though nothing is there yet.
    """

    prefixes: tuple[str, ...] = ()
    missing_too: bool = False

    def parted(self, text: str) -> tuple[str, str, str]:
        """Return what stands before a path in a value, the path, and what stands after it."""
        bare = text.strip()
        prefix = next((p for p in self.prefixes if bare.startswith(p)), "")
        begin = text.index(bare) + len(prefix)
        end = text.index(bare) + len(bare)
        return text[:begin], text[begin:end], text[end:]


AS_IT_IS = HowWritten()


class Atlas:
    """Translates the paths that old's programs wrote for new's."""

    def __init__(
        self,
        old: Bearings,
        new: Bearings,
        moved: Iterable[Moved],
        there: Callable[[str], bool] = lambda path: False,
    ) -> None:
        """``there`` tells whether something is at a path of new."""
        roots = ((old.root(r), new.root(r)) for r in _ROOTS)
        counterparts = [Moved(o, n, carried=False) for o, n in roots if o and n]
        listed = [m for m in moved if m.old and m.new]
        self._moved = sorted([*listed, *counterparts], key=lambda m: -len(m.old.rstrip("/")))
        self.old, self.new, self._there = old, new, there

    def translate(
        self, text: str, old_source: str, new_source: str, how: HowWritten = AS_IT_IS
    ) -> Translation:
        """Return what a value becomes on new.

        ``old_source`` and ``new_source`` are the file it stands in on either machine.
        """
        before, bare, after = how.parted(text)
        if not bare or _ADDRESS.match(bare):
            return Kept()
        written, reason = read_written(bare, self.old, old_source)
        if written is None:
            return NotUnderstood(reason)
        found = self.counterpart(written.path, missing_too=how.missing_too)
        if found is None:
            if written.style == "relative" or self._stays(written.path):
                return Kept()
            return Elsewhere(written.path)
        if written.style == "relative" and found == self._meant(bare, new_source):
            drives = (PLATFORMS[m.platform].drive_letters for m in (self.old, self.new))
            backs = tuple(drives) == (True, False) and "\\" in bare
            again = bare.replace("\\", "/") if backs else bare
        elif trouble := trouble_with_path(found, self.new.platform):
            return Unsayable(written.path, trouble)
        else:
            again = write_again(written, found, self.new, new_source)
        return Kept() if again == bare else Rewritten(f"{before}{again}{after}")

    def counterpart(self, path: str, *, missing_too: bool = False) -> str | None:
        """Return what a path of old is on new, or ``None`` where it did not move."""
        for moved in self._moved:
            below = below_of(path, moved.old, self.old.platform)
            if below is None:
                continue
            new = join(moved.new, *_renamed(below, moved.renames)) if below else moved.new
            if moved.carried or not below or missing_too or self._there(new):
                return new
        return None

    def arrives(self, path: str) -> bool:
        """Return whether what a path of old names will be on new, as far as it moves at all.

        What lies in a place that moves and is left out of it does not, unless new has it.
        """
        for moved in self._moved:
            below = below_of(path, moved.old, self.old.platform)
            if below is None:
                continue
            if not moved.carried or not below or moved.takes is None:
                return True
            if "~" in path and PLATFORMS[self.old.platform].drive_letters:  # a short name, perhaps
                return True
            new = join(moved.new, *_renamed(below, moved.renames))
            return moved.takes("/".join(below)) or self._there(new)
        return True

    def _stays(self, path: str) -> bool:
        """Return whether a path means the same on new: one platform, and not old's account's."""
        mine = below_of(path, self.old.root("home"), self.old.platform) is not None
        return not mine and self.old.platform == self.new.platform and self._there(path)

    def _meant(self, text: str, source: str) -> str:
        """Return what a relative path of old means on new when its text stays as it is."""
        told = text.replace("\\", "/") if PLATFORMS[self.old.platform].drive_letters else text
        return posixpath.normpath(join(parent(source), told))


def below_of(path: str, folder: str, platform: Platform) -> Sequence[str] | None:
    """Return the names of ``path`` below ``folder``, or ``None`` where it is not within it.

    On Windows a name may be the short form that the system makes of a longer one.
    """
    inner, outer = path.rstrip("/").split("/"), folder.rstrip("/").split("/")
    if len(inner) < len(outer):
        return None
    same = all(_one_name(i, o, platform) for i, o in zip(inner, outer, strict=False))
    return inner[len(outer) :] if same else None


def _one_name(written: str, real: str, platform: Platform) -> bool:
    if key(written, platform) == key(real, platform):
        return True
    return (
        PLATFORMS[platform].drive_letters and "~" in written and written.upper() == short_name(real)
    )


def taking(paths: Iterable[str], platform: Platform) -> Callable[[str], bool]:
    """Return what tells whether a path is one of ``paths``, or a folder above one; they are taken
    when that is first asked."""

    @cache
    def known() -> set[str]:
        found: set[str] = set()
        for path in paths:
            names = key(path, platform).split("/")
            while names and (told := "/".join(names)) not in found:
                found.add(told)
                names.pop()
        return found

    return lambda path: key(path, platform) in known()


def short_name(name: str) -> str:
    """Return the short form that Windows gives the first such name of a folder (8.3)."""
    stem, dot, ending = name.strip(". ").rpartition(".")
    stem, ending = (stem, ending) if dot else (ending, "")
    plain = [re.sub(r"[+,;=\[\]]", "_", re.sub(r"[ .]", "", p)).upper() for p in (stem, ending)]
    if len(plain[0]) <= 8 and len(plain[1]) <= 3 and plain == [stem.upper(), ending.upper()]:
        return name.upper()
    return f"{plain[0][:6]}~1" + (f".{plain[1][:3]}" if plain[1] else "")


def _renamed(below: Sequence[str], renames: Mapping[str, str]) -> list[str]:
    """Return names below a place as new calls them."""
    if not renames:
        return list(below)
    for count in range(len(below), 0, -1):
        if (known := renames.get("/".join(below[:count]))) is not None:
            return [*known.split("/"), *below[count:]]
    return list(below)
