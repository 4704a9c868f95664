"""What travels in the parcel, lent to steps; see ``steps.contexts.Cargo``."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager

from widetrail.errors import Halted
from widetrail.formats import digest
from widetrail.formats.outside import SafePath, bytes_below
from widetrail.machine import Machine
from widetrail.machine.paths import join, parent, trouble_with_name
from widetrail.machine.platforms import STRICTEST
from widetrail.parcel import Parcel
from widetrail.parcel.made_folders import FOLDER, pack_folder, unpack_folder
from widetrail.parcel.segments import CHUNK
from widetrail.steps import (
    Outcome,
    Packed,
    Packing,
    Step,
)
from widetrail.walking.item_context import ItemContext
from widetrail.walking.run_folders import clear_work
from widetrail.walking.seats import ROOM as SEATS_ROOM
from widetrail.walking.walk_events import CargoChecked, Detached, Fetched


class CargoContext(ItemContext):
    """What travels in the parcel, as a walk packs and reads it."""

    @contextmanager
    def cargo(self) -> Iterator[None]:
        """Open the cargo for a leg: to be packed on old, to be read elsewhere."""
        if self.station == "old":
            self.writer = self.parcel.writer(self.now, self._packed_so_far, self.scan)
            with self.writer:
                yield
                self.writer.finish()
                self.scan.keep()
        else:
            self._reader = self.parcel.reader(self.machine.platform)
            try:
                yield
            finally:
                self._reader.close()

    def kept_so_far(self) -> None:
        """Write down that what lies in the parcel now was written or read here."""
        self._packed_so_far(self.parcel.newest)

    def _packed_so_far(self, generation: str) -> None:
        """Write down that what this machine packed up to a generation need not be read again."""
        self.scan.keep()
        self.journal.add(CargoChecked(generation=generation))

    @property
    def packing(self) -> Packing:
        assert self.writer is not None, "cargo is packed on the old computer"
        return self.writer

    @property
    def packed(self) -> Packed:
        assert self._reader is not None, "cargo is read on the new computer"
        return self._reader

    @property
    def is_sealed(self) -> bool:
        return self.parcel.seal is not None

    def slug(self, item: str) -> str:
        return slug(item)

    def made_room(self, item: str) -> str:
        """Return where files lie that programs make for an item; those of a licence stay."""
        if self.planned(item).kind == "licence":
            return self.seat_room(item)
        return join(self.workroom, "made", slug(item))

    def seat_room(self, item: str, run: str = "") -> str:
        """Return where what a run keeps of a seat lies on this machine."""
        room = join(parent(self.workroom), run) if run else self.workroom
        return join(room, SEATS_ROOM, slug(item))

    def room_for_made(self, item: str) -> str:
        folder = self.made_room(item)
        if item not in self._fetched:
            self._fetched.add(item)
            self.machine.effects.make_folders(self.machine.host(folder), 0o700)
            for name in self.parcel.made(slug(item)):
                self._fetch(item, name, self.machine.host(join(folder, name)))
        return folder

    def _fetch(self, item: str, name: str, target: SafePath) -> None:
        """Bring a file that was made elsewhere here, unless one is here already and no newer one
        came since that was seen."""
        path, effects = self.parcel.made_at(slug(item), name), self.machine.effects
        place = target.with_name(name.removesuffix(FOLDER))
        if place.exists():
            known = self.journal.newest(Fetched, place=slug(item), kept=name)
            if known is not None and known.path == path:
                return
            if known is not None and place.is_dir():
                effects.remove_tree(place)
            elif known is not None:
                effects.remove_file(place)
        if not place.exists():
            if target.exists():  # a walk was cut off before it was unpacked
                effects.remove_file(target)
            self.parcel.fetch_made(slug(item), name, target, effects)
            if place != target:
                unpack_folder(target, place, effects)
                effects.remove_file(target)
        self.journal.add(Fetched(place=slug(item), path=path, kept=name))

    def keep(self, item: str, names: Iterable[str]) -> None:
        folder = self.machine.host(self.made_room(item))
        for name in names:
            if self.planned(item).kind == "licence":  # a request may hold the serial
                self.machine.effects.set_mode(folder / name, 0o600)
            kept = self._put_into_parcel(slug(item), folder / name)
            self.made |= kept
            self._made_for |= dict.fromkeys(kept, item)

    def _put_into_parcel(self, of: str, source: SafePath) -> dict[str, str]:
        """Put what a program made into the parcel; return its names there, with their SHA-256."""
        if source.name.endswith(FOLDER):
            what = f"a program made something with a reserved name: {source.name}"
            raise Halted(what, todo="Have the recipe give it another name.")
        if not source.is_dir():
            return self.parcel.keep_made(of, source.name, source)
        archive = source.with_name(f"{source.name}{FOLDER}")
        pack_folder(source, archive, self.machine.effects)
        kept = self.parcel.keep_made(of, archive.name, archive)
        self.machine.effects.remove_file(archive)
        return kept

    def has_made(self, step: Step, outcome: Outcome) -> bool:
        """Return whether the files are here that a step made in a walk which was cut off."""
        folder = self.machine.host(self.made_room(step.item))
        return all((folder / name).exists() for name in outcome.facts.made)

    def keep_again(self, step: Step, outcome: Outcome) -> None:
        """Put the files into the parcel that a step made in a walk which was cut off."""
        if made := outcome.facts.made:
            self.keep(step.item, made)

    def item_of(self, made: str) -> str:
        """Return the item that a file was made for, by its name in the parcel."""
        return self._made_for[made]

    def medium(self) -> Callable[[], str]:
        folder = self.parcel.folder
        if folder == self.machine.host(self._home_of_parcel):  # it was walked on without it
            return lambda: ""
        return lambda: f"the medium is still connected ({folder})" if folder.is_dir() else ""

    @property
    def _home_of_parcel(self) -> str:
        return join(self.workroom, "parcel")

    def take_along(self) -> str:
        home = self._home_of_parcel
        target = self.machine.host(home)
        if self.parcel.folder == target:
            return home
        if target.exists():
            self.machine.effects.remove_tree(target)
        _copy_tree(self.parcel.folder, target, self.machine)
        seal = self.parcel.seal
        self.parcel = Parcel(target, self.machine.effects)
        self.parcel.seal = seal
        self.parcel.check_cargo(begun=True)
        if self._reader is not None:
            self._reader.close()
            self._reader = self.parcel.reader(self.machine.platform)
        self.journal.add(Detached(to=home))
        return home

    def tidy(self) -> None:
        """Remove what only a walk that goes on needs."""
        clear_work(self.machine, self.workroom, self.journal.records)


def slug(item: str) -> str:
    """Return a name for a plan's item that any volume can hold; no two items have one name."""
    plain_name = re.sub(r"[^A-Za-z0-9._-]+", "-", item).strip("-.")[:60]
    sound = plain_name == item and not trouble_with_name(item, STRICTEST)
    return item if sound else f"{plain_name}-{digest(item.encode())[:8]}"


def _copy_tree(source: SafePath, target: SafePath, machine: Machine) -> None:
    """Copy a parcel: folders and regular files, durable at the end."""
    effects = machine.effects
    room = shutil.disk_usage(target.parent).free
    size = bytes_below(source)
    if size > room:
        why = f"{size} bytes are needed, and {room} are free"
        raise Halted("there is no room for what is left of the parcel", where=str(target), why=why)
    effects.make_folders(target, 0o700)
    for path in source.below():
        to = target / path.relative_to(source)
        if path.is_dir():
            effects.make_folder(to)
        elif path.is_file():
            with path.reading() as file, effects.create(to) as copy:
                while chunk := file.read(CHUNK):
                    copy.write(chunk)
    effects.barrier(target)
