"""Paths as a machine writes them, with ``/`` on every platform (``C:/Users/ines``)."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator

from widetrail.machine.platforms import PLATFORMS, Platform

_DRIVE = re.compile(r"[A-Za-z]:")


def join(folder: str, *parts: str) -> str:
    """Return ``folder`` with ``parts`` below it; empty parts do not count."""
    joined = "/".join([folder.rstrip("/"), *(p.strip("/") for p in parts if p)])
    return joined or "/"


def split(path: str) -> tuple[str, list[str]]:
    """Return the anchor of an absolute path (``C:`` or an empty text) and its segments."""
    anchor, _, rest = path.partition("/")
    return anchor, [s for s in rest.split("/") if s]


def parent(path: str) -> str:
    """Return the folder that holds ``path``; an anchor is its own parent."""
    anchor, segments = split(path)
    return "/".join([anchor, *segments[:-1]]) or "/"


def upwards(path: str) -> Iterator[str]:
    """Give ``path`` and each folder above it, up to its anchor."""
    while True:
        yield path
        above = parent(path)
        if above == path:
            return
        path = above


def base(path: str) -> str:
    """Return the last segment of ``path``."""
    return path.rstrip("/").rpartition("/")[2]


def is_absolute(path: str, platform: Platform) -> bool:
    """Return whether ``path`` needs no other path to be understood."""
    if PLATFORMS[platform].drive_letters:
        return bool(re.match(r"[A-Za-z]:/|//", path.replace("\\", "/")))
    return path.startswith("/")


def written_by_machine(path: str, platform: Platform) -> str:
    r"""Return a path that a program wrote (``D:\Post\``) in this module's form (``D:/Post``)."""
    if PLATFORMS[platform].drive_letters:
        path = path.replace("\\", "/")
        if _DRIVE.match(path):
            path = path[0].upper() + path[1:]
    path = re.sub(r"(?<!^)/+", "/", path) if path.startswith("//") else re.sub(r"/+", "/", path)
    return path if len(path) < 2 else path.rstrip("/")


def key(path: str, platform: Platform) -> str:
    """Return what two names of the same thing have in common on a platform's usual volumes."""
    if not PLATFORMS[platform].ignores_case:
        return path
    return unicodedata.normalize("NFC", path).casefold()


def is_within(path: str, folder: str, platform: Platform) -> bool:
    """Return whether ``path`` is ``folder`` or lies below it."""
    inner, outer = key(path, platform), key(folder, platform).rstrip("/")
    return inner.rstrip("/") == outer or inner.startswith(outer + "/")


def shared_name(path: str, shares: Iterable[tuple[str, str]], platform: Platform) -> str:
    """Return a name for ``path`` that is the same on every machine that sees this folder.

    ``shares`` are a machine's folders that others see too, with their name everywhere; the name
    is empty for a folder of the machine's own.
    """
    for folder, name in shares:
        if is_within(path, folder, platform):
            below = key(path, platform)[len(folder.rstrip("/")) :].strip("/")
            return f"{name}/{below}".rstrip("/")
    if PLATFORMS[platform].drive_letters and path.startswith(
        "//"
    ):  # the share's name stands in the path
        return key(path, platform)
    return ""


def trouble_with_name(name: str, platform: Platform) -> str:
    """Return why a volume of ``platform`` cannot hold ``name``, or an empty text."""
    return PLATFORMS[platform].trouble_with_name(name)
