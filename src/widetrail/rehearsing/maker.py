"""The stand-in licence service of a rehearsal, and judging where the seats are."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.finding import Finder, find_application
from widetrail.formats.documents import Model
from widetrail.licence.service import Service, read_faults, serving
from widetrail.licence.terms import Word
from widetrail.machine import Machine
from widetrail.recipe import Loaded
from widetrail.recipe.licence_models import Licence
from widetrail.walking.seats import word_of

ADDRESS = "LICENCE_SERVICE"
"""The variable by which programs are told where their maker's service is."""


class MakerFile(Model):
    """The service of a rehearsal: its folder beside that of the machines, and what goes wrong."""

    folder: str
    faults: tuple[str, ...] = ()


@contextmanager
def serving_copy(maker: MakerFile | None, machines: Path, folder: Path) -> Iterator[Service | None]:
    """Serve a copy of the rehearsal's service in ``folder``; ``None`` where it has none.

    Raises:
        InputUnusable: There is no such service or fault.
    """
    if maker is None:
        yield None
        return
    source = machines.parent / maker.folder
    if not source.is_dir():
        raise InputUnusable("licence service not found", where=str(source))
    shutil.copytree(source, folder)
    service = Service(folder, read_faults(maker.faults))
    with serving(service) as address:
        service.address = address
        yield service


def _licences(machine: Machine, recipes: Sequence[Loaded]) -> Iterator[tuple[str, Licence, Finder]]:
    """Give every licence with what finds the things of its recipe and may ask its program."""
    if not any(loaded.recipe.licences for loaded in recipes):
        return
    alone = {loaded.id: find_application(machine, loaded) for loaded in recipes}
    for loaded in (one for one in recipes if one.recipe.licences):
        finder = find_application(machine, loaded, lenders=alone, ask_programs=True)
        for name, licence in loaded.recipe.licences.items():
            yield f"{loaded.id}.{name}", licence, finder


def words_on(machine: Machine, recipes: Sequence[Loaded]) -> dict[str, Word]:
    """Return by licence what its program on ``machine`` says of it."""
    return {
        item: word_of(licence.active, finder)[0]
        for item, licence, finder in _licences(machine, recipes)
    }


def serials_on(machine: Machine, recipes: Sequence[Loaded]) -> dict[str, str]:
    """Return by licence the serial that is read on ``machine``."""
    found = _licences(machine, recipes)
    return {
        item: str(finder.take(licence.serial))
        for item, licence, finder in found
        if licence.serial is not None
    }


def licence_files(machine: Machine, recipes: Sequence[Loaded]) -> list[str]:
    """Return the paths of the files on ``machine`` that hold licences: they change with a seat."""
    found = []
    for _, licence, finder in _licences(machine, recipes):
        readings = [r for r in (licence.serial, licence.active) if r is not None]
        choices = [*(r.file_read for r in readings), *licence.files]
        paths = (finder.choice(choice) for choice in choices)
        found += [path for path in paths if path is not None]
    return found


def address_of(service: Service | None, *, network: bool) -> Mapping[str, str]:
    """Return the variables that a machine's programs are given: none without a network."""
    return {ADDRESS: service.address} if service is not None and network else {}
