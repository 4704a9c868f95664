"""Readings of names and not of contents: whether a file is there, how many, how large, how old."""

from __future__ import annotations

from datetime import UTC, datetime

from widetrail.formats.form import Form, Names, Status
from widetrail.formats.interface import Raw


def is_there(names: Names) -> Raw:
    """Return whether a file is there."""
    return any(status.kind == "file" for status in names.matched())


def count(names: Names) -> Raw:
    """Return how many files there are."""
    return sum(status.kind == "file" for status in names.below())


def names_of(names: Names) -> Raw:
    """Return what the files and folders are called that are there, in order."""
    return [status.path.rpartition("/")[2] for status in names.matched()]


def size(names: Names) -> Raw:
    """Return how many bytes there are."""
    return sum(status.size for status in names.below())


def modified(names: Names) -> Raw:
    """Return when it was changed last."""
    moment = datetime.fromtimestamp(_first(names).mtime / 1e9, UTC)
    return moment.isoformat(timespec="seconds")


def _first(names: Names) -> Status:
    return next(iter(names.matched()))


FILE = Form("file", "none", of_nothing=True, about=is_there)
FILES = Form("files", "none", of_nothing=True, about=count)
NAMES = Form("names", "none", of_nothing=True, about=names_of)
SIZE = Form("size", "none", about=size)
MODIFIED = Form("modified", "none", about=modified)
