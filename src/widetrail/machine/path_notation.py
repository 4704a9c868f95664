r"""Paths as programs write them in their settings: what they mean on a machine, and how they look.

A program may write a path plain (``D:\Post``), doubled (``D:\\Post`` where its format needs it), as
a ``file:`` address (RFC 8089), below ``~`` or a variable, or relative to the file it stands in.
``read_written`` tells what is meant and how it was written, and ``write_again`` writes another path
the same way, on the same platform or another one.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Mapping
from dataclasses import field
from typing import Literal, Protocol
from urllib.parse import quote, unquote, urlsplit

from widetrail.errors import MachineUnusable
from widetrail.lazily import dataclass
from widetrail.machine.interface import Machine
from widetrail.machine.paths import (
    is_absolute,
    is_within,
    join,
    key,
    parent,
    trouble_with_name,
    written_by_machine,
)
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.machine.roots import expand_variables


class Bearings(Protocol):
    """What is to be known of a machine to understand its paths; every ``Machine`` tells it."""

    @property
    def name(self) -> str: ...
    @property
    def platform(self) -> Platform: ...
    def root(self, name: str) -> str: ...
    def variables(self) -> Mapping[str, str]: ...


@dataclass(frozen=True)
class KnownBearings:
    """The bearings of a machine out of reach, as a plan tells them."""

    name: str
    platform: Platform
    roots: Mapping[str, str] = field(default_factory=dict)
    known: Mapping[str, str] = field(default_factory=dict)

    def root(self, name: str) -> str:
        """Return the folder of a root, or an empty text."""
        return self.roots.get(name, "")

    def variables(self) -> Mapping[str, str]:
        """Return the variables that name a folder."""
        return self.known


def variables_of_paths(machine: Bearings) -> dict[str, str]:
    """Return the variables of a machine that hold one whole path, and nothing else."""
    apart = PLATFORMS[machine.platform].list_separator
    return {
        name: written_by_machine(value, machine.platform)
        for name, value in sorted(machine.variables().items())
        if is_absolute(value, machine.platform) and apart not in value and value.isprintable()
    }


def is_there(machine: Machine, path: str) -> bool:
    """Return whether something is at ``path``; what cannot be looked at is not."""
    try:
        return machine.look(path) is not None
    except MachineUnusable:
        return False


Style = Literal["plain", "address", "home", "variable", "relative"]


@dataclass(frozen=True)
class Written:
    """A path and how it was written.

    ``path`` is the machine's own, whole; ``lead`` is what stands before it (``file:///``, ``~``,
    ``%APPDATA%``, a long-path mark), ``separator`` what parts its names, ``trail`` what follows.
    """

    path: str
    style: Style = "plain"
    separator: str = "/"
    lead: str = ""
    trail: str = ""
    small_drive: bool = False


def read_written(text: str, machine: Bearings, source: str = "") -> tuple[Written | None, str]:
    """Return what a written path means and an empty text, or nothing and the reason.

    A relative path is taken from the folder of ``source``, the file it stands in.
    """
    told = text.strip()
    if told.casefold().startswith("file:"):
        written = _from_address(told, machine)
    elif told == "~" or told.startswith(("~/", "~\\")):
        written = _shaped(told, join(machine.root("home"), _slashed(told[2:])), "home", "~")
    elif told.startswith("~"):
        return None, f'"{text}" is in the home of another account'
    else:
        expanded = expand_variables(told, machine.variables(), machine.platform)
        if expanded is None:
            return None, f'"{text}" names a variable that is not known here'
        lead = _variable_before(told, machine.platform)
        style: Style = "variable" if lead else "plain"
        written = _shaped(told, expanded, style, lead)
    return _whole(written, text, machine, source)


def _slashed(text: str) -> str:
    return text.replace("\\", "/")


def _variable_before(text: str, platform: Platform) -> str:
    found = PLATFORMS[platform].variable.match(text)
    return found[0] if found else ""


_LONG = re.compile(r"\\\\\?\\(UNC\\)?", re.IGNORECASE)


def _shaped(told: str, path: str, style: Style, lead: str = "") -> Written:
    """Return what is to be seen of a path's shape; ``path`` is not judged yet."""
    long = _LONG.match(path) if style == "plain" else None
    if long is not None:
        lead, path = long[0], ("\\\\" if long[1] else "") + path[long.end() :]
    backs = re.findall(r"\\+", told[len(lead) :])
    doubled = len(backs) > 0 and all(len(run) % 2 == 0 for run in backs) and not _is_share(backs)
    if doubled and style == "plain":
        path = path.replace("\\\\", "\\")
    separator = "\\\\" if doubled else "\\" if backs else "/"
    trail = re.search(r"[\\/]+$", told)
    small = bool(re.match(r"[a-z]:", path))
    bare = len(told) < 4 or trail is None
    return Written(path, style, separator, lead, "" if bare or not trail else trail[0], small)


def _is_share(backs: list[str]) -> bool:
    return len(backs) == 1 and len(backs[0]) == 2


def _from_address(text: str, machine: Bearings) -> Written:
    """Return the path of a ``file:`` address (RFC 8089)."""
    parts = urlsplit(text.replace("\\", "/"))
    path = unquote(parts.path, errors="surrogateescape")
    lead = text[: 5 + (2 + len(parts.netloc) if text[5:7] in ("//", "\\\\") else 0)]
    if PLATFORMS[machine.platform].drive_letters and re.match(r"/[A-Za-z][:|]", path):
        path = f"{path[1]}:{path[3:]}"
    elsewhere = parts.netloc and parts.netloc.casefold() != "localhost"
    if elsewhere:
        path, lead = f"//{parts.netloc}{path}", "file:"
    trail = "/" if path.endswith("/") and len(path) > 3 else ""
    return Written(path, "address", "/", lead, trail, bool(re.match(r"[a-z]:", path)))


def _whole(
    written: Written, text: str, machine: Bearings, source: str
) -> tuple[Written | None, str]:
    platform = machine.platform
    path, style = written_by_machine(written.path, platform), written.style
    if not path or "\0" in path:
        return None, f'"{text}" is not a path'
    windows = PLATFORMS[platform].drive_letters
    if windows and path.startswith("/") and not path.startswith("//"):
        path = machine.root("home")[:2] + path
    elif windows and re.match(r"[A-Za-z]:(?!/)", path + ("" if len(path) > 2 else "/")):
        return None, f'"{text}" is relative to whatever folder that drive is in'
    elif not is_absolute(path, platform):
        if "/" not in source:
            return None, f'"{text}" is not an absolute path'
        path, style = join(parent(source), path), "relative"
    if ".." in path.split("/") or "." in path.split("/"):
        path = posixpath.normpath(path)
        if ".." in path.split("/"):
            return None, f'"{text}" leads above its disk'
    told = written
    return Written(path, style, told.separator, told.lead, told.trail, told.small_drive), ""


def understand_path(text: str, machine: Bearings, source: str) -> tuple[str, str]:
    """Return the machine path that ``text`` means and an empty text, or nothing and the reason.

    ``~``, ``file:`` addresses and variables as the platform writes them are understood; a relative
    path is taken from the folder of ``source``, the file it stands in.
    """
    written, reason = read_written(text, machine, source)
    return ("", reason) if written is None else (written.path, "")


def trouble_with_path(path: str, platform: Platform) -> str:
    """Return why a whole path cannot be said on a platform, or an empty text."""
    if not is_absolute(path, platform):
        return "it is no path there"
    if path.startswith("//") and not PLATFORMS[platform].drive_letters:
        return "a share is not named so there"
    names = [n for n in path.split("/")[1:] if n]
    reasons = (trouble_with_name(name, platform) for name in names)
    return next((reason for reason in reasons if reason), "")


def write_again(written: Written, path: str, machine: Bearings, source: str = "") -> str:
    """Return ``path`` of ``machine`` as ``written`` was written.

    What that cannot say there (a path below another home, a variable that is not known there) is
    written plain. A relative one is told from the folder of ``source``.
    """
    windows = PLATFORMS[machine.platform].drive_letters
    separator = written.separator if windows and written.separator != "/" else "/"
    if windows and written.separator == "/" and written.style in ("plain", "variable"):
        separator = "/" if _was_windows(written) else "\\"
    match written.style:
        case "address":
            return _as_address(written, path)
        case "home" if is_within(path, machine.root("home"), machine.platform):
            rest = path[len(machine.root("home").rstrip("/")) :]
            return f"~{rest.replace('/', separator)}{written.trail}"
        case "variable":
            value = expand_variables(written.lead, machine.variables(), machine.platform)
            base = written_by_machine(value, machine.platform) if value else ""
            if base and value != written.lead and is_within(path, base, machine.platform):
                rest = path[len(base) :]
                return f"{written.lead}{rest.replace('/', separator)}{_trail(written, separator)}"
        case "relative" if (folder := parent(source)) and _one_disk(path, folder, machine.platform):
            told = posixpath.relpath(_cased(path, folder, machine.platform), folder)
            return f"{told.replace('/', separator)}{_trail(written, separator)}"
    return _plain(written, path, separator, machine.platform)


def _was_windows(written: Written) -> bool:
    return bool(re.match(r"[A-Za-z]:|//", written.path))


def _one_disk(path: str, folder: str, platform: Platform) -> bool:
    return key(path.partition("/")[0], platform) == key(folder.partition("/")[0], platform)


def _cased(path: str, folder: str, platform: Platform) -> str:
    """Return ``path`` with the beginning that it shares with ``folder`` spelled as there."""
    mine, theirs = path.split("/"), folder.split("/")
    same = 0
    while same < min(len(mine), len(theirs)) and key(mine[same], platform) == key(
        theirs[same], platform
    ):
        same += 1
    return "/".join([*theirs[:same], *mine[same:]])


def _trail(written: Written, separator: str) -> str:
    return separator if written.trail else ""


def _plain(written: Written, path: str, separator: str, platform: Platform) -> str:
    lead = ""
    if PLATFORMS[platform].drive_letters and written.style == "plain" and written.lead:
        lead = "\\\\?\\UNC\\" if path.startswith("//") else "\\\\?\\"
        path = path.removeprefix("//")
    if PLATFORMS[platform].drive_letters and written.small_drive:
        path = path[:1].lower() + path[1:]
    return f"{lead}{path.replace('/', separator)}{_trail(written, separator)}"


def _as_address(written: Written, path: str) -> str:
    """Return a path as a ``file:`` address; what may stand in one stays as it is (RFC 3986)."""
    lead = written.lead
    if path.startswith("//"):
        return f"file:{quote(path, _SAFE, errors='surrogateescape')}{written.trail}"
    if not path.startswith("/"):
        if written.small_drive:
            path = path[:1].lower() + path[1:]
        path = f"/{path}"
    elif lead == "file:" and written.path.startswith("//"):
        lead = "file://"
    return f"{lead}{quote(path, _SAFE, errors='surrogateescape')}{written.trail}"


_SAFE = "/:!$&'()*+,;=@~"
