"""What travels in a parcel: its cargo, what programs made, and secrets."""

from __future__ import annotations

import json
from collections.abc import Mapping
from contextlib import ExitStack

from widetrail.errors import Halted
from widetrail.formats import canonical
from widetrail.formats.interface import Platform
from widetrail.formats.outside import SafePath
from widetrail.machine import Effects, file_digest
from widetrail.parcel.bag import (
    PAYLOAD,
    folder_mode_in,
    mode_in,
    wrong_in_bag,
)
from widetrail.parcel.cargo import CargoWriter
from widetrail.parcel.cargo_reader import CargoReader
from widetrail.parcel.cargo_runs import Run
from widetrail.parcel.index import read_index, write_index
from widetrail.parcel.layout import CARD, GROWS, READERS, SECRETS, plan_name
from widetrail.parcel.logbook import Entry, Generation, add_generation, is_newest
from widetrail.parcel.made_files import MADE, fetch, keep, newest_made
from widetrail.parcel.medium_reading import reading
from widetrail.parcel.told_move import ToldMove
from widetrail.planning import Plan
from widetrail.recipe import SUFFIX


class ParcelCargo(ToldMove):
    """What a parcel carries, put into it and read from it as its logbook tells."""

    plan: Plan

    def _wanted(self) -> dict[str, str]:
        """Return the name below the payload folder and the SHA-256 of all that belongs there."""
        plans = (g for g in self.generations if g.body.plan)
        wanted = {plan_name(g.number): g.body.plan for g in plans}
        if (card := self.generations[0].body.card) is not None:
            wanted[CARD] = card
        wanted |= {f"recipes/{r.id}{SUFFIX}": r.digest for r in self.plan.recipes}
        wanted |= self.generations[0].body.files
        if self.settled:
            return wanted
        known = self._known()
        wanted |= {n: h for n, h in known.items() if not n.startswith(f"{MADE}/")}
        for pieces in newest_made(known).values():
            wanted |= pieces
        return wanted

    def cargo_size(self) -> int:
        """Return the bytes of the cargo and of what programs made."""
        return sum(path.stat().st_size for path in self._grown())

    def _grown(self) -> list[SafePath]:
        top = self.folder / PAYLOAD
        return sorted(p for part in GROWS for p in (top / part).below() if p.is_file())

    def _indexed(self, entry: Entry, packed: CargoWriter, *, whole: bool = False) -> Entry:
        """Write the index of all that is packed, or of what was since the newest one; return the
        entry with what it says of it."""
        self._insist_same()
        lines = write_index(packed.entries if whole else packed.fresh)
        number = len(self.generations) + 1
        name, sha256 = self._put_sealed(f"index/{number:06d}.json", lines)
        cargo = {f"cargo/{n}": s.sha256 for n, s in packed.segments.items()}
        files = {**cargo, name: sha256, **entry.files}
        return entry.with_(index=name, whole=whole, segments=dict(packed.segments), files=files)

    def _insist_same(self) -> None:
        """Raise where another parcel lies here than the one that was opened: media get swapped."""
        if not is_newest(self.folder, self.generations[-1]):
            raise Halted(
                "this is not the parcel with which the leg began",
                where=str(self.folder),
                why="its logbook is another one",
                todo="Put the right medium back, then walk again.",
            )

    def _add(self, entry: Entry) -> None:
        self._insist_same()
        self.generations = add_generation(self.folder, self.effects, self.generations, entry)

    def keep_made(self, slug: str, name: str, source: SafePath) -> dict[str, str]:
        """Copy a file that a program made into the parcel; return its names there and SHA-256."""
        self._insist_same()
        below = f"{MADE}/{slug}/{len(self.generations) + 1:06d}"
        folder = self.folder / PAYLOAD / below
        self.effects.keep_folders(folder, folder_mode_in(self.folder))
        kept = keep(folder, name, source, self.seal, self.effects, mode_in(self.folder))
        return {f"{below}/{piece}": sha256 for piece, sha256 in kept.items()}

    def made(self, slug: str) -> tuple[str, ...]:
        """Return the names of the files that programs made for an item."""
        return tuple(name for of, name in newest_made(self._known()) if of == slug)

    def made_at(self, slug: str, name: str) -> str:
        """Return where the newest file of that name lies in the parcel, its first piece."""
        return min(newest_made(self._known())[slug, name])

    def fetch_made(self, slug: str, name: str, target: SafePath, effects: Effects) -> None:
        """Bring a file that a program made to ``target``, unsealed and verified on the way.

        Raises:
            ParcelUnusable: It was damaged or changed; nothing is at ``target`` then.
            Waiting: The parcel is sealed, and its passphrase was not given.
        """
        pieces = newest_made(self._known())[slug, name]
        paths = [(self.folder / PAYLOAD / piece, sha256) for piece, sha256 in pieces.items()]
        fetch(paths, self._opened(), target, effects)

    def secrets(self) -> dict[tuple[str, str], str]:
        """Return what was answered and told at the stations before, by whose it is and its name;
        a parcel that is not sealed has none.

        Raises:
            Waiting: The parcel is sealed, and its passphrase was not given.
            ParcelUnusable: It was damaged or changed.
        """
        held: dict[tuple[str, str], str] = {}
        for generation in self.results if self.seal is not None and not self.settled else ():
            for name in generation.body.files:
                if name.startswith(f"{SECRETS}/"):
                    rows = json.loads(self._unsealed(name))
                    held |= {(str(of), str(asked)): str(value) for of, asked, value in rows}
        return held

    def _keep_secrets(self, secrets: Mapping[tuple[str, str], str]) -> dict[str, str]:
        """Write secrets that the parcel does not hold yet; return the file's name and SHA-256."""
        new = dict(secrets.items() - self.secrets().items()) if self.seal is not None else {}
        if not new:
            return {}
        self.effects.keep_folders(self.folder / PAYLOAD / SECRETS, folder_mode_in(self.folder))
        name = f"{SECRETS}/{len(self.generations) + 1:06d}.json"
        rows = [[of, asked, value] for (of, asked), value in sorted(new.items())]
        return dict([self._put_sealed(name, [canonical(rows) + b"\n"])])

    def reader(self, platform: Platform) -> CargoReader:
        """Return what reads the cargo, after its index was judged as a whole.

        Raises:
            ParcelUnusable: The index was touched or names what may not be written.
            Waiting: The parcel is sealed, and its passphrase was not given.
        """
        packed, seal = self._packed(), self._opened()
        runs = self._runs(packed, platform, renamed=True) if packed else {}
        return CargoReader(self.folder / PAYLOAD / "cargo", runs, seal)

    def _runs(
        self, packed: tuple[Generation, ...], platform: Platform, *, renamed: bool
    ) -> dict[str, Run]:
        """Return the entries of the cargo by item, as the index tells them."""
        named = [(g.body.index or "", g.body.files) for g in packed]
        segments = {n: s.size for n, s in packed[-1].body.segments.items()}
        items: dict[str, dict[str, str]] = {i.id: {} for i in self.plan.left}
        items |= {i.id: i.renamed if renamed else {} for i in self.plan.items}
        where = str(self.folder / PAYLOAD / named[-1][0])
        with ExitStack() as stack:
            parts = [
                stack.enter_context(self._unsealed_file(name, files[name])) for name, files in named
            ]
            return read_index(parts, where, items, segments, platform)

    def wrong_in_bag(self) -> tuple[str, ...]:
        """Return the derived files that are missing or damaged; they are written anew by a leg."""
        return wrong_in_bag(self.folder, self._wanted())

    def _unread(self, files: Mapping[str, str]) -> dict[SafePath, str]:
        """Return what was written to the medium, ``files`` too, and not read back from it yet."""
        top, known = self.folder / PAYLOAD, set[str]()
        for generation in self.results:
            known |= generation.body.files.keys() if generation.body.read_back else set()
        packed = {n: h for g in self.results for n, h in g.body.files.items()}
        paths = {top / n: h for n, h in {**packed, **files}.items() if n not in known}
        return {path: sha256 for path, sha256 in paths.items() if path.exists()}

    def _read_back(self, paths: Mapping[SafePath, str]) -> tuple[int, int]:
        """Read from the medium what was written to it; return how many files and bytes that were.

        Raises:
            Halted: It does not hold what was written.
        """
        from concurrent.futures import ThreadPoolExecutor  # which a plan does without

        with reading(self.folder), ThreadPoolExecutor(READERS) as pool:
            found = list(pool.map(file_digest, paths))
        for (path, wanted), sha256 in zip(paths.items(), found, strict=True):
            if sha256 != wanted:
                raise Halted(
                    "the medium did not keep what was written to it",
                    where=str(path),
                    why="its SHA-256 differs when it is read back",
                    todo="Use another medium, and plan again into a parcel there.",
                )
        return len(paths), sum(path.stat().st_size for path in paths)
