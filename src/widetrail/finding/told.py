"""Paths as programs write them in their settings, understood on the machine they stand on."""

from __future__ import annotations

import posixpath
import re
from urllib.parse import unquote, urlsplit

from widetrail.machine import Machine
from widetrail.machine.paths import is_absolute, join, parent, written_by_machine
from widetrail.machine.roots import expand_variables


def understand_path(text: str, machine: Machine, source: str) -> tuple[str, str]:
    """Return the machine path that ``text`` means and an empty text, or nothing and the reason.

    ``~``, ``file://`` addresses and variables as the platform writes them are understood;
    a relative path is taken from the folder of ``source``, the file it stands in.
    """
    path = text.strip()
    if path.casefold().startswith("file:"):
        path = _from_address(path, machine)
    elif path == "~" or path.startswith(("~/", "~\\")):
        path = join(machine.root("home"), path[2:])
    elif path.startswith("~"):
        return "", f'"{text}" names the home of another account'
    else:
        expanded = expand_variables(path, machine.variables(), machine.platform)
        if expanded is None:
            return "", f'"{text}" names a variable that is not known here'
        path = expanded
    path = written_by_machine(path, machine.platform)
    if not path or "\0" in path:
        return "", f'"{text}" is no path'
    return _whole(path, text, machine, source)


def _whole(path: str, text: str, machine: Machine, source: str) -> tuple[str, str]:
    windows = machine.platform == "windows"
    if windows and path.startswith("/") and not path.startswith("//"):
        path = machine.root("home")[:2] + path
    elif windows and re.match(r"[A-Za-z]:(?!/)", path + ("" if len(path) > 2 else "/")):
        return "", f'"{text}" is relative to whatever folder that drive is in'
    elif not is_absolute(path, machine.platform):
        if "/" not in source:
            return "", f'"{text}" is no whole path'
        path = join(parent(source), path)
    if ".." in path.split("/") or "." in path.split("/"):
        path = posixpath.normpath(path)
        if ".." in path.split("/"):
            return "", f'"{text}" climbs above its disk'
    return path, ""


def _from_address(text: str, machine: Machine) -> str:
    """Return the path of a ``file:`` address (RFC 8089)."""
    parts = urlsplit(text.replace("\\", "/"))
    path = unquote(parts.path, errors="surrogateescape")
    if machine.platform == "windows" and re.match(r"/[A-Za-z][:|]", path):
        path = f"{path[1]}:{path[3:]}"
    if parts.netloc and parts.netloc.casefold() != "localhost":
        return f"//{parts.netloc}{path}"
    return path
