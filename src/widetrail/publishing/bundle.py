"""A bundle: recipes with their sheets, schemas and digests as one archive, whole or refused.

It is a ZIP whose files are stored as they are, sorted, and of one moment, so that the same recipes
give the same bytes wherever it is made. ``bundle.json`` lists its recipes and every other file with
its SHA-256; ``SHA256SUMS`` says the same for the plain tool of that name.
"""

from __future__ import annotations

import json
import re
import zipfile
from collections.abc import Iterable, Iterator, Mapping
from io import BytesIO
from typing import Annotated

from pydantic import AfterValidator, Field

from widetrail.errors import InputUnusable
from widetrail.formats import digest
from widetrail.formats.documents import Model
from widetrail.formats.stored_values import why_not
from widetrail.formats.versions import CURRENT, AnotherFormat, brought_up
from widetrail.lazily import dataclass
from widetrail.recipe import SUFFIX, Loaded

INDEX = "bundle.json"
SUMS = "SHA256SUMS"
LARGEST = 2**30
"""Bytes of a bundle, at most."""

_MOMENT = (1980, 1, 1, 0, 0, 0)  # the first that a ZIP knows
_NAME = re.compile(r"(recipes|sheets|schemas)/[a-z0-9][a-z0-9._-]{0,120}")


def _check_name(name: str) -> str:
    if not _NAME.fullmatch(name) or ".." in name:
        raise ValueError(f'"{name[:80]}" is no file of a bundle')
    return name


FileName = Annotated[str, AfterValidator(_check_name)]


class BundledRecipe(Model):
    """A recipe of a bundle: what it is for, and its file."""

    id: str
    name: str
    maker: str
    revision: int
    releases: str
    file: FileName


class BundledFile(Model):
    """A file of a bundle with its bytes and its SHA-256."""

    size: int
    sha256: str


class BundleIndex(Model):
    """What ``bundle.json`` says; ``made_by`` is the version of Wide Trail."""

    format: int
    made_by: str
    recipes: tuple[BundledRecipe, ...]
    files: dict[FileName, BundledFile] = Field(min_length=1)


@dataclass(frozen=True)
class Bundle:
    """A bundle that was read: its SHA-256, its index, and every file of it by its name."""

    sha256: str
    index: BundleIndex
    files: Mapping[str, bytes]

    @property
    def recipes(self) -> tuple[BundledRecipe, ...]:
        """Its recipes, in the order of their ids."""
        return self.index.recipes


def pack_bundle(recipes: Iterable[Loaded], files: Mapping[str, str], *, made_by: str) -> bytes:
    """Return the archive of recipes and of ``files`` beside them, by their names."""
    listed = sorted(recipes, key=lambda one: one.id)
    held = {f"recipes/{one.id}{SUFFIX}": one.text.encode() for one in listed}
    held |= {name: text.encode() for name, text in files.items()}
    index = BundleIndex(
        format=CURRENT["bundle"],
        made_by=made_by,
        recipes=tuple(_bundled(one) for one in listed),
        files={n: BundledFile(size=len(d), sha256=digest(d)) for n, d in sorted(held.items())},
    )
    told = json.dumps(index.model_dump(mode="json"), indent=2, ensure_ascii=False)
    held[INDEX] = f"{told}\n".encode()
    held[SUMS] = _sums(held)
    archive = BytesIO()
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_STORED) as made:
        for name, data in sorted(held.items()):
            entry = zipfile.ZipInfo(name, _MOMENT)
            entry.create_system, entry.external_attr = 3, 0o644 << 16
            made.writestr(entry, data)
    return archive.getvalue()


def _sums(held: Mapping[str, bytes]) -> bytes:
    return "".join(f"{digest(data)}  {name}\n" for name, data in sorted(held.items())).encode()


def _bundled(loaded: Loaded) -> BundledRecipe:
    application = loaded.recipe.application
    return BundledRecipe(
        id=loaded.id,
        name=application.name,
        maker=application.maker,
        revision=loaded.recipe.revision,
        releases=application.releases or "",
        file=f"recipes/{loaded.id}{SUFFIX}",
    )


def read_bundle(archive: bytes, where: str) -> Bundle:
    """Return what a bundle holds: exactly what its index lists, each file as it was.

    Raises:
        InputUnusable: It is no bundle, is of a format that is not read, or was changed.
    """
    try:
        held = dict(_entries(archive))
        told = json.loads(held.get(INDEX, b""))
        index = BundleIndex.model_validate(brought_up("bundle", told))
        _insist(index, held)
    except AnotherFormat as error:
        raise InputUnusable("is of another format", where=where, why=str(error)) from error
    except (ValueError, RecursionError) as error:
        what = "is no bundle, or was changed"
        raise InputUnusable(what, where=where, why=why_not(error)) from error
    except (zipfile.BadZipFile, NotImplementedError, EOFError) as error:
        raise InputUnusable("is no bundle, or is cut", where=where, why=str(error)) from error
    return Bundle(digest(archive), index, held)


def _entries(archive: bytes) -> Iterator[tuple[str, bytes]]:
    """Give each file of an archive.

    Raises:
        ValueError: Two have one name, or one is not stored as a bundle stores it.
        BadZipFile: It is no archive, or one of its files is not whole.
    """
    if len(archive) > LARGEST:
        raise ValueError(f"it has {len(archive)} bytes, and a bundle {LARGEST} at most")
    seen = set()
    with zipfile.ZipFile(BytesIO(archive)) as whole:
        for entry in whole.infolist():
            name = entry.filename
            if name not in (INDEX, SUMS):
                _check_name(name)
            if name in seen:
                raise ValueError(f"two files are called {name}")
            if entry.compress_type != zipfile.ZIP_STORED or entry.flag_bits & 1:
                raise ValueError(f"{name} is not stored as it is")
            if entry.file_size > len(archive):
                raise ValueError(f"{name} is larger than the whole")
            seen.add(name)
            yield name, whole.read(entry)


def _insist(index: BundleIndex, held: Mapping[str, bytes]) -> None:
    """Insist that a bundle holds what its index lists, and nothing else.

    Raises:
        ValueError: It does not.
    """
    files = {name: data for name, data in held.items() if name not in (INDEX, SUMS)}
    if strange := sorted(files.keys() ^ index.files.keys()):
        missing = strange[0] in index.files
        raise ValueError(f"{strange[0]} is {'missing' if missing else 'not listed'}")
    for name, told in index.files.items():
        if (len(files[name]), digest(files[name])) != (told.size, told.sha256):
            raise ValueError(f"{name} is not as the index lists it")
    if strange := [one.file for one in index.recipes if one.file not in files]:
        raise ValueError(f"{strange[0]} is missing")
    if held.get(SUMS) != _sums({INDEX: held[INDEX], **files}):
        raise ValueError(f"{SUMS} is not that of its files")
    named = [one.file for one in index.recipes]
    if len(set(named)) < len(named) or any(
        name.startswith("recipes/") and name not in named for name in files
    ):
        raise ValueError("its recipes are not those that it lists")
