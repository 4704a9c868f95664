"""Stores of records, how they are merged, and what comes of that, as values."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import field
from pathlib import Path
from typing import Literal

from widetrail.formats.record import Declared, Duplicates, Folder, Record, Records
from widetrail.lazily import dataclass

Sort = Literal["new", "same", "different", "unwanted"]
"""How a record of a source compares with what the store holds."""


@dataclass(frozen=True)
class Store:
    """Records in a file or folder, as a form holds them."""

    records: Records
    path: Path
    declared: Declared = field(default_factory=Declared)


@dataclass(frozen=True)
class Policy:
    """How records are merged.

    ``landing`` is a folder of their own, within the store, that all come to; ``by_content`` tells
    that identities are not looked at. ``wants`` tells whether a record is to come at all.
    """

    duplicates: Duplicates = "skip"
    landing: Folder = ()
    by_content: bool = False
    wants: Callable[[Store, Record], bool] | None = None


@dataclass(frozen=True)
class FieldMerged:
    """What becomes of a field of a record that takes in what another says: what the record says
    itself, what the other does, and what it says afterwards."""

    record: str
    field: str
    mine: tuple[str, ...]
    other: tuple[str, ...]
    then: tuple[str, ...]


@dataclass(frozen=True)
class Merged:
    """What comes of a merge.

    ``count`` tells how many records of the sources were of each sort, ``names`` the first of them
    by name; ``held`` is how many records the store had before, ``added`` and ``changed`` are how
    many come to it and become others. ``lost`` is what the store cannot hold, and of how many.
    ``fields`` are the first fields that are merged and in which the two differ.
    """

    held: int
    added: int
    changed: int
    count: Mapping[Sort, int]
    names: Mapping[Sort, tuple[str, ...]]
    lost: Mapping[str, int]
    fields: tuple[FieldMerged, ...] = ()


@dataclass(frozen=True)
class NewFile:
    """A file of a store that is a folder: its path below it, and whether one is there already."""

    path: str
    data: bytes
    replaces: bool
