"""The parcel: the container that travels, with plan, recipes, cargo and logbook.

::

    bagit.txt, bag-info.txt, manifest-sha256.txt, tagmanifest-sha256.txt   (RFC 8493)
    data/plan.json                 the plan in canonical form
    data/recipes/ID.trail.yaml     the recipes it was made from
    data/cargo/000001.tar …        the segments
    data/made/ITEM/000002/NAME     what programs made, as they made it
    data/index/000002.json …       the index that a generation of the logbook names
    logbook/000001.json …          the generations

A sealed one has ``sealed.txt`` and ``key.age`` beside ``bagit.txt``, and in ``data/secrets`` what
was asked for; segments, indices, secrets and what programs made are ``age`` files then, with
``.age`` at the end of their names. Plan, recipes and logbook are plain.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from io import BytesIO
from pathlib import Path
from typing import Any

from widetrail.errors import Halted, ParcelUnusable, Waiting
from widetrail.formats.canonical import canonical, digest
from widetrail.formats.interface import Platform
from widetrail.formats.outside import JOURNAL_MOST, SafePath, no_plain_folder, read_outside
from widetrail.formats.stored_values import why_not
from widetrail.machine import Effects, file_digest
from widetrail.machine.platforms import PLAINEST
from widetrail.parcel.bag import (
    FETCH,
    PAYLOAD,
    close_bag,
    folder_mode_in,
    mode_in,
    open_bag,
    wrong_in_bag,
)
from widetrail.parcel.cargo import COMMIT, COMMIT_FILES, CargoWriter, Seen
from widetrail.parcel.cargo_reader import CargoReader
from widetrail.parcel.index import read_index, write_index
from widetrail.parcel.logbook import FOLDER as LOGBOOK
from widetrail.parcel.logbook import Generation, add_generation, is_newest, read_logbook
from widetrail.parcel.made_files import MADE, fetch, keep, newest_made
from widetrail.parcel.medium_reading import reading
from widetrail.parcel.seal import ENDING, HEADER, KEY, Seal, open_seal, read_header, was_sealed
from widetrail.planning import Choices, Plan
from widetrail.recipe import SUFFIX, Kinds, Loaded, Station, load_recipe_text
from widetrail.steps import CargoEntry, Outcome, read_outcome

LEG_DONE = "leg done"
LEG_HALTED = "leg halted"
LEG_MENDED = "leg mended"
TOPPING_UP = "topping up"
TOPPED_UP = "topped up"
PACKED = "packed so far"
SERIAL_KEPT = "serial kept"
SEAT_TOLD = "seat told"
SETTLED = "settled"
UNDONE = "undone"
PLANNED_ANEW = "planned anew"
_PACK_AGAIN = "Nothing was changed here. Pack again on old, or take an untouched copy."


class Parcel:
    """An opened parcel: its plan, and what its logbook tells."""

    def __init__(self, folder: Path, effects: Effects) -> None:
        """Open the parcel in ``folder``.

        Raises:
            ParcelUnusable: It is no parcel, or its logbook, plan or recipes were touched.
        """
        self.folder, self.effects = SafePath(os.path.realpath(folder)), effects
        self._insist_plain()
        self.generations, self.torn = read_logbook(self.folder)
        stray = self.folder / PAYLOAD / _plan_name(len(self.generations) + 1)
        self._stray = stray if stray.is_file() else None
        """The plan that was being put in when that was cut off: no entry of the logbook knows it,
        and one that is torn after it was to be its own."""
        first = self.generations[0]
        self.seal = self._read_seal(first.body.get("seal"))
        newest = next(g for g in reversed(self.generations) if "plan" in g.body)
        name = _plan_name(newest.number)
        data = self._bytes(name)
        if digest(data) != newest.body["plan"]:
            raise self._touched(self.folder / PAYLOAD / name)
        try:
            self.plan = Plan.read(data)
        except (ValueError, RecursionError) as error:
            raise ParcelUnusable(
                "the plan cannot be read", where=str(folder), why=why_not(error)
            ) from error
        self.run = str(first.body.get("run"))
        if self.seal is None and (self.plan.sealed or was_sealed(self.run)):
            raise ParcelUnusable(
                "the parcel was sealed and is not any more",
                where=str(folder),
                why="its plan says so" if self.plan.sealed else "it was, when it was planned here",
                todo="Take the sealed one; somebody made this one of it.",
            )
        self._outcomes: dict[str, Mapping[str, Outcome]] = {}
        self._judge_outcomes()

    def _judge_outcomes(self) -> None:
        """Raise where the logbook tells what no step of the plan has.

        Raises:
            ParcelUnusable: It does.
        """
        kinds = {step.id: step.kind for step in self.plan.steps}
        for generation in self.generations:
            self._outcomes_in(generation)
            for step, told in generation.body.get("steps", {}).items():
                if told["kind"] != kinds.get(step, told["kind"]):
                    raise self._untold(step, f"its kind is {kinds[step]}")

    def _outcomes_in(self, generation: Generation) -> Mapping[str, Outcome]:
        """Return the outcomes that an entry of the logbook tells, by the ids of their steps.

        Raises:
            ParcelUnusable: One is none.
        """
        if generation.digest not in self._outcomes:
            found: dict[str, Outcome] = {}
            for step, told in generation.body.get("steps", {}).items():
                try:
                    found[step] = read_outcome(told)
                except ValueError as error:
                    raise self._untold(step, why_not(error)) from error
            self._outcomes[generation.digest] = found
        return self._outcomes[generation.digest]

    def _untold(self, step: str, why: str) -> ParcelUnusable:
        where = f"{self.folder}: {step}"
        return ParcelUnusable("the logbook cannot be read", where=where, why=why)

    def _insist_plain(self) -> None:
        """Raise where a folder of the parcel is none itself, so that another would be changed.

        Raises:
            ParcelUnusable: One is a link or a file.
        """
        names = [
            LOGBOOK,
            PAYLOAD,
            *(f"{PAYLOAD}/{part.rstrip('/')}" for part in (*_GROWS, "recipes/")),
        ]
        if (found := no_plain_folder(self.folder, names)) is not None:
            raise ParcelUnusable(
                "a folder of the parcel is none",
                where=str(found),
                why="it is a link, or a file",
                todo=_PACK_AGAIN,
            )

    def _read_seal(self, wanted: Mapping[str, str] | None) -> Seal | None:
        for name, sha256 in (wanted or {}).items():
            if digest(self._bytes(f"../{name}")) != sha256:
                raise self._touched(self.folder / name)
        header = self.folder / HEADER
        return read_header(self._bytes(f"../{HEADER}"), str(header)) if wanted else None

    def unseal(self, passphrase: str) -> None:
        """Open a sealed parcel, so that what is in it can be read.

        Raises:
            WrongPassphrase: It is another one.
            ParcelUnusable: The seal was touched.
        """
        if self.seal is not None:
            where = self.folder / KEY
            self.seal = open_seal(self.seal, self._bytes(f"../{KEY}"), passphrase, str(where))

    def _opened(self) -> Seal | None:
        """Return the seal, which must be open, or ``None`` where there is none."""
        if self.seal is not None and not self.seal.is_open:
            hint = f"its hint is: {self.seal.hint}" if self.seal.hint else ""
            raise Waiting(
                "the parcel is sealed",
                where=str(self.folder),
                why=hint,
                todo="Give its passphrase.",
            )
        return self.seal

    def _unsealed(self, name: str) -> bytes:
        """Return the bytes of a file, unsealed where the parcel is."""
        seal, data = self._opened(), self._bytes(name)
        if seal is None:
            return data
        opened = BytesIO()
        seal.open(BytesIO(data), opened, str(self.folder / PAYLOAD / name))
        return opened.getvalue()

    def _put_sealed(self, name: str, data: bytes) -> tuple[str, str]:
        """Write a file of the payload, sealed where the parcel is; return its name and SHA-256."""
        if self.seal is not None:
            sealed = BytesIO()
            self.seal.close(BytesIO(data), sealed)
            name, data = f"{name}{ENDING}", sealed.getvalue()
        self.effects.put(self.folder / PAYLOAD / name, data, mode_in(self.folder))
        return name, digest(data)

    def _bytes(self, name: str) -> bytes:
        path = self.folder / PAYLOAD / name
        try:
            return read_outside(path, JOURNAL_MOST)
        except OSError as error:
            raise ParcelUnusable(
                "something is missing", where=str(path), why=error.strerror or "", todo=_PACK_AGAIN
            ) from error

    def _touched(self, path: SafePath) -> ParcelUnusable:
        why = "its SHA-256 is not the one in the logbook"
        return ParcelUnusable("was damaged or touched", where=str(path), why=why, todo=_PACK_AGAIN)

    def recipes(self, kinds: Kinds) -> tuple[Loaded, ...]:
        """Return the recipes that travel along.

        Raises:
            ParcelUnusable: One is missing or was touched.
        """
        loaded = []
        for planned in self.plan.recipes:
            name = f"recipes/{planned.id}{SUFFIX}"
            data = self._bytes(name)
            path = self.folder / PAYLOAD / name
            if digest(data) != planned.digest:
                raise self._touched(path)
            loaded.append(load_recipe_text(data.decode(), str(path), kinds))
        return tuple(loaded)

    @property
    def legs_done(self) -> tuple[Generation, ...]:
        """The generations of the legs that were done."""
        return tuple(g for g in self.generations if g.event == LEG_DONE)

    @property
    def results(self) -> tuple[Generation, ...]:
        """The generations that tell how steps came out, of legs done, halted and mended, and what
        was packed so far."""
        known = (LEG_DONE, LEG_HALTED, LEG_MENDED, TOPPED_UP, PACKED, SERIAL_KEPT, SEAT_TOLD)
        return tuple(g for g in self.generations if g.event in known)

    @property
    def outcomes(self) -> dict[str, Outcome]:
        """The newest outcome of each step that was done, by its id."""
        steps: dict[str, Outcome] = {}
        for generation in self.generations:
            steps |= self._outcomes_in(generation)
            for step in generation.body.get("again", ()):
                steps.pop(step, None)
        return steps

    @property
    def tries(self) -> dict[str, Outcome]:
        """The newest outcome of each step, also of one that is to be done again."""
        return {step: o for g in self.results for step, o in self._outcomes_in(g).items()}

    def outcomes_of(self, leg: int) -> dict[str, Outcome]:
        """Return the newest outcome of each step over all walks that a leg took."""
        mine = (g for g in self.results if g.body.get("leg") == leg)
        return {step: o for g in mine for step, o in self._outcomes_in(g).items()}

    @property
    def due_again(self) -> dict[str, str]:
        """The steps that are to be done again, each with the generation that says so."""
        steps: dict[str, str] = {}
        for generation in self.generations:
            for step in generation.body.get("steps", {}):
                steps.pop(step, None)
            steps |= dict.fromkeys(generation.body.get("again", ()), generation.digest)
        return steps

    @property
    def done_again(self) -> frozenset[str]:
        """The steps that were to be done again after they had come out well."""
        return frozenset(s for g in self.generations for s in g.body.get("again", ()))

    def seats(self, item: str) -> tuple[Mapping[str, Any], ...]:
        """Return what happened to the seat of a licence, oldest first, as its stations told."""
        told = (r for g in self.generations for r in g.body.get("seats", ()))
        return tuple(r for r in told if r["item"] == item)

    def tell_seats(self, facts: dict[str, Any]) -> None:
        """Write what happened to seats into the logbook before the leg ends, or outside of one."""
        self._add(SEAT_TOLD, {"steps": {}, "files": {}, "read back": [0, 0], **facts})

    def keep_serial(self, item: str, serial: str, now: datetime) -> None:
        """Make the serial of a licence durable in the parcel, which is sealed, and read it back.

        Raises:
            Halted: The parcel is not sealed, or its medium does not hold what was written.
        """
        if self.seal is None or not self.seal.is_open:
            raise Halted(
                "a serial is kept in sealed parcels only",
                where=str(self.folder),
                todo="Plan again with --seal, into another parcel.",
            )
        files = self._keep_secrets({(item, SERIAL): serial})
        if not files:  # a walk that was cut off had kept it
            return
        told = {"steps": {}, "time": now.isoformat(timespec="seconds")}
        self._add(
            SERIAL_KEPT, {**told, "files": files, "read back": self._read_back(self._unread(files))}
        )

    @property
    def proofs(self) -> dict[str, dict[str, str]]:
        """By item and loss, what its proof on new was missing when it was looked at last."""
        found: dict[str, dict[str, str]] = {}
        for generation in self.results:
            for item, looked in generation.body.get("proofs", {}).items():
                found.setdefault(item, {}).update(looked)
        return found

    @property
    def is_topped_up(self) -> bool:
        """Whether all that was packed is whole: topping up was not cut off."""
        ended = [g.number for g in self.generations if g.event in (TOPPING_UP, TOPPED_UP)]
        return not ended or self.generations[ended[-1] - 1].event == TOPPED_UP

    def topped_up_since(self, generation: str) -> bool:
        """Return whether it was topped up after the generation with that digest."""
        known = [g.digest for g in self.generations]
        later = self.generations[known.index(generation) + 1 :] if generation in known else ()
        return any(g.event in (TOPPING_UP, TOPPED_UP) for g in later)

    def begin_top_up(self, now: datetime) -> None:
        """Write down that the cargo is changed, so that no other station takes it half-way."""
        if self.is_topped_up:
            self._add(TOPPING_UP, {"time": now.isoformat(timespec="seconds")})

    @property
    def undone_at(self) -> Mapping[Station, str]:
        """The stations where the move was undone, as far as was told, with their machines."""
        told = (g.body for g in self.generations if g.event == UNDONE)
        return {body["station"]: str(body["machine"]) for body in told}

    def tell_undone(self, station: Station, machine: str, now: datetime) -> None:
        """Write into the logbook that the move was undone at a station, once."""
        if station in self.undone_at or self.torn is not None:
            return
        open_bag(self.folder, self.effects)
        when = now.isoformat(timespec="seconds")
        self._add(UNDONE, {"station": station, "machine": machine, "time": when})
        close_bag(self.folder, self.effects, self.run, now, self._wanted())

    @property
    def newest(self) -> str:
        """The digest of the newest generation of the logbook."""
        return self.generations[-1].digest

    def _wanted(self) -> dict[str, str]:
        """Return the name below the payload folder and the SHA-256 of all that belongs there."""
        plans = (g for g in self.generations if "plan" in g.body)
        wanted = {_plan_name(g.number): str(g.body["plan"]) for g in plans}
        if CARD in self.generations[0].body:
            wanted[CARD] = self.generations[0].body[CARD]
        wanted |= {f"recipes/{r.id}{SUFFIX}": r.digest for r in self.plan.recipes}
        if self.settled:
            return wanted
        known = self._known()
        wanted |= {n: h for n, h in known.items() if not n.startswith(f"{MADE}/")}
        for pieces in newest_made(known).values():
            wanted |= pieces
        return wanted

    def _known(self) -> dict[str, str]:
        """Return every file of the cargo that the logbook ever named, with its SHA-256."""
        files: dict[str, str] = {}
        for generation in self.results:
            files |= generation.body.get("files", {})
        return files

    @property
    def settled(self) -> bool:
        """Whether its cargo was removed for good."""
        return any(g.event == SETTLED for g in self.generations)

    def cargo_size(self) -> int:
        """Return the bytes of the cargo and of what programs made."""
        return sum(path.stat().st_size for path in self._grown())

    def _grown(self) -> list[SafePath]:
        top = self.folder / PAYLOAD
        return sorted(p for part in _GROWS for p in (top / part).below() if p.is_file())

    def settle(self, now: datetime) -> None:
        """Remove the cargo for good; plan, recipes and logbook stay.

        Raises:
            Halted: A leg is still to be walked.
        """
        if len(self.legs_done) < len(self.plan.legs):
            todo = "Walk the trail to its end first."
            raise Halted("the cargo is needed still", where=str(self.folder), todo=todo)
        open_bag(self.folder, self.effects)
        if not self.settled:  # first the logbook: cargo that it does not know is simply removed
            self._add(SETTLED, {"time": now.isoformat(timespec="seconds")})
        for path in self._grown():
            self.effects.remove_file(path)
        close_bag(self.folder, self.effects, self.run, now, self._wanted())

    def check_cargo(self, *, begun: bool, read: bool = True) -> tuple[int, int] | None:
        """Read every file of the cargo and compare it with the logbook.

        ``begun`` tells that the due leg was begun and cut off at this station: what that left in
        the parcel is then no fault, and ``begin_leg`` takes it away. Without ``read`` only the
        names and sizes are compared. Return how many files were read, and their bytes.

        Raises:
            ParcelUnusable: One is missing, was touched, or stands there unasked.
            Halted: The medium is gone, or fails.
        """
        if self.torn is not None and not begun and self._stray is None:
            raise ParcelUnusable(
                "the logbook was damaged or touched",
                where=str(self.torn),
                why="its checksum does not fit",
                todo=_PACK_AGAIN,
            )
        with reading(self.folder):
            return self._check_cargo(begun=begun, read=read)

    def _check_cargo(self, *, begun: bool, read: bool) -> tuple[int, int] | None:
        if (self.folder / FETCH).exists():
            raise ParcelUnusable(
                "the parcel says that something is to be fetched",
                where=str(self.folder / FETCH),
                why="a parcel holds all that it needs, and nothing is ever fetched",
                todo=_PACK_AGAIN,
            )
        wanted, known, top = self._wanted(), self._known(), self.folder / PAYLOAD
        found = {p.relative_to(top).as_posix(): p for p in top.below() if not p.is_dir()}
        for name, path in sorted(found.items()):
            ours = (begun and name.startswith(_GROWS)) or name in known or path == self._stray
            if path.is_symlink() or not (ours or name in wanted):
                raise ParcelUnusable(
                    "something stands in the parcel that nobody packed",
                    where=str(path),
                    todo="Take it out of the parcel, then walk again.",
                )
        packed = self._packed()
        segments = packed[-1].body["segments"] if packed else {}
        sizes = {f"cargo/{name}": int(s["stored"]) for name, s in segments.items()}
        for name, sha256 in sorted(wanted.items()):
            if name not in found:
                raise ParcelUnusable(
                    "something is missing", where=str(top / name), todo=_PACK_AGAIN
                )
            size = sizes.get(name, -1)
            other = size >= 0 and found[name].stat().st_size != size
            if other or (read and file_digest(found[name]) != sha256):
                raise self._touched(found[name])
        if not read:
            return None
        return len(wanted), sum(found[name].stat().st_size for name in wanted)

    @property
    def choices(self) -> Choices:
        """What the person chose when the plan was made."""
        return Choices.from_json(self.generations[0].body["choices"])

    def card(self) -> bytes | None:
        """Return the card of new that the plan was made with, or ``None`` where there was none.

        Raises:
            ParcelUnusable: It was touched.
        """
        wanted = self.generations[0].body.get(CARD)
        if wanted is None:
            return None
        data = self._bytes(CARD)
        if digest(data) != wanted:
            raise self._touched(self.folder / PAYLOAD / CARD)
        return data

    def renew(
        self,
        plan: Plan,
        now: datetime,
        seats: Sequence[Mapping[str, Any]] = (),
        again: Sequence[str] = (),
    ) -> None:
        """Put another plan in the place of the one the parcel holds; what was packed stays.

        ``seats`` tell what happened to seats by it, and ``again`` are steps that are to be done
        again: the parcel tells all of it or, where it is cut off, nothing.
        """
        plan = plan.model_copy(update={"sealed": self.seal is not None})
        open_bag(self.folder, self.effects)
        self._remove_stray()
        name = _plan_name(len(self.generations) + 1)
        self.effects.put(self.folder / PAYLOAD / name, plan.encoded(), mode_in(self.folder))
        facts: dict[str, Any] = {"plan": plan.id, "time": now.isoformat(timespec="seconds")}
        if seats or again:
            facts |= {"seats": list(seats), "again": list(again)}
        self._add(PLANNED_ANEW, facts)
        self.plan = plan
        close_bag(self.folder, self.effects, self.run, now, self._wanted())

    def _remove_stray(self) -> None:
        """Remove what ``renew`` left where it was cut off: an entry that is torn, and its plan."""
        if self._stray is None:
            return
        for path in (self.torn, self._stray):
            if path is not None:
                self.effects.remove_file(path)
        self.torn = self._stray = None

    def begin_leg(self) -> None:
        """Take the manifests away, and what a leg that was cut off left before."""
        open_bag(self.folder, self.effects)
        self._remove_stray()
        if self.torn is not None:
            self.effects.remove_file(self.torn)
        self._remove_unwanted()

    def _remove_unwanted(self) -> None:
        """Remove what a leg that was cut off left, and what programs made anew since."""
        kept, top = self._wanted(), self.folder / PAYLOAD
        for path in self._grown():
            if path.relative_to(top).as_posix() not in kept:
                self.effects.remove_file(path)

    def writer(self, now: datetime, kept: Callable[[str], None], seen: Seen) -> CargoWriter:
        """Return what packs the cargo, after what was packed before.

        ``kept`` is told the digest of each generation that says what was packed so far; ``seen``
        knows what of the station's files was read.

        Raises:
            Waiting: The parcel is sealed, and its passphrase was not given.
        """
        entries: tuple[CargoEntry, ...] = ()
        segments: dict[str, dict[str, str | int]] = {}
        packed = self._packed()
        if packed:
            entries = self._entries(packed, PLAINEST, renamed=False)
            segments = dict(packed[-1].body["segments"])

        def commit(writer: CargoWriter, read_back: bool) -> None:
            reached = self.plan.legs[: len(self.legs_done) + 1]
            leg = next(leg.number for leg in reversed(reached) if leg.station == "old")
            told = {"steps": {}, "time": now.isoformat(timespec="seconds"), "leg": leg}
            body = {**told, **self._index(writer, whole=False)}
            unread = self._unread(body["files"])
            if read_back or sum(path.stat().st_size for path in unread) >= COMMIT:
                body["read back"] = self._read_back(unread)
            self._add(PACKED, body)
            kept(self.newest)

        size, files = (sum(getattr(i, name) for i in self.plan.items) for name in ("size", "files"))
        every = max(COMMIT, size // 16), max(COMMIT_FILES, files // 16)
        folder = self.folder / PAYLOAD / "cargo"
        seal = self._opened()
        mode = mode_in(self.folder)
        return CargoWriter(folder, self.effects, entries, segments, commit, every, seal, seen, mode)

    def _index(self, packed: CargoWriter, *, whole: bool) -> dict[str, Any]:
        """Write the index of all that is packed, or of what was since the newest one; return what
        a generation says of it."""
        self._insist_same()
        data = write_index(packed.entries if whole else packed.fresh)
        number = len(self.generations) + 1
        name, sha256 = self._put_sealed(f"index/{number:06d}.json", data)
        cargo = {f"cargo/{n}": s["sha256"] for n, s in packed.segments.items()}
        facts = {"index": name, "whole": whole, "segments": packed.segments}
        return {**facts, "files": {**cargo, name: sha256}}

    def _insist_same(self) -> None:
        """Raise where another parcel lies here than the one that was opened: media get swapped."""
        if not is_newest(self.folder, self.generations[-1]):
            raise Halted(
                "this is not the parcel that was here when the leg began",
                where=str(self.folder),
                why="its logbook is another one",
                todo="Put the right medium back, then walk again.",
            )

    def _add(self, event: str, body: dict[str, Any]) -> None:
        self._insist_same()
        self.generations = add_generation(self.folder, self.effects, self.generations, event, body)

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
            ParcelUnusable: It was damaged or touched; nothing is at ``target`` then.
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
            ParcelUnusable: It was damaged or touched.
        """
        held: dict[tuple[str, str], str] = {}
        for generation in self.results if self.seal is not None and not self.settled else ():
            for name in generation.body.get("files", {}):
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
        return dict([self._put_sealed(name, canonical(rows) + b"\n")])

    def _packed(self) -> tuple[Generation, ...]:
        """Return the generation with the newest whole index, and those after it with more."""
        packed: list[Generation] = []
        for generation in reversed(self.results if not self.settled else ()):
            if "index" in generation.body:
                packed.append(generation)
                if generation.body["whole"]:
                    break
        return tuple(reversed(packed))

    @property
    def packed_by(self) -> str:
        """The digest of the generation that tells what is packed now, or an empty text."""
        packed = self._packed()
        return packed[-1].digest if packed else ""

    def reader(self, platform: Platform) -> CargoReader:
        """Return what reads the cargo, after its index was judged as a whole.

        Raises:
            ParcelUnusable: The index was touched or names what may not be written.
            Waiting: The parcel is sealed, and its passphrase was not given.
        """
        packed, seal = self._packed(), self._opened()
        entries = self._entries(packed, platform, renamed=True) if packed else ()
        return CargoReader(self.folder / PAYLOAD / "cargo", entries, seal)

    def _entries(
        self, packed: tuple[Generation, ...], platform: Platform, *, renamed: bool
    ) -> tuple[CargoEntry, ...]:
        parts = []
        for generation in packed:
            name = str(generation.body["index"])
            if digest(self._bytes(name)) != generation.body["files"][name]:
                raise self._touched(self.folder / PAYLOAD / name)
            parts.append(self._unsealed(name))
        segments = {n: int(s["size"]) for n, s in packed[-1].body["segments"].items()}
        items: dict[str, dict[str, str]] = {i.id: {} for i in self.plan.left}
        items |= {i.id: i.renamed if renamed else {} for i in self.plan.items}
        where = str(self.folder / PAYLOAD / name)
        return read_index(parts, where, items, segments, platform)

    def end_leg(
        self,
        facts: dict[str, Any],
        now: datetime,
        packed: CargoWriter | None,
        made: Mapping[str, str],
        event: str = LEG_DONE,
        secrets: Mapping[tuple[str, str], str] | None = None,
    ) -> None:
        """Write what was done at a station into the logbook, and the manifests anew.

        ``event`` is one of ``LEG_DONE``, ``LEG_HALTED``, ``LEG_MENDED`` and ``TOPPED_UP``;
        ``made`` are the files that programs made, with their SHA-256. ``secrets`` are what was
        asked for, which only a sealed parcel takes along.
        """
        files = {**made, **self._keep_secrets(secrets or {})}
        body: dict[str, Any] = {**facts, "files": files}
        if packed is not None and packed.grew:
            index = self._index(packed, whole=True)
            body |= {**index, "files": {**index["files"], **files}}
        body["read back"] = self._read_back(self._unread(body["files"]))
        self._add(event, body)
        self._remove_unwanted()
        close_bag(self.folder, self.effects, self.run, now, self._wanted())

    def wrong_in_bag(self) -> tuple[str, ...]:
        """Return the derived files that are missing or damaged; they are written anew by a leg."""
        return wrong_in_bag(self.folder, self._wanted())

    def _unread(self, files: Mapping[str, str]) -> dict[SafePath, str]:
        """Return what was written to the medium, ``files`` too, and not read back from it yet."""
        top, known = self.folder / PAYLOAD, set[str]()
        for generation in self.results:
            known |= generation.body["files"].keys() if "read back" in generation.body else set()
        packed = {n: h for g in self.results for n, h in g.body.get("files", {}).items()}
        paths = {top / n: h for n, h in {**packed, **files}.items() if n not in known}
        return {path: sha256 for path, sha256 in paths.items() if path.exists()}

    def _read_back(self, paths: Mapping[SafePath, str]) -> list[int]:
        """Read from the medium what was written to it; return how many files and bytes that were.

        Raises:
            Halted: It does not hold what was written.
        """
        with reading(self.folder), ThreadPoolExecutor(READERS) as pool:
            found = list(pool.map(file_digest, paths))
        for (path, wanted), sha256 in zip(paths.items(), found, strict=True):
            if sha256 != wanted:
                raise Halted(
                    "the medium does not hold what was written to it",
                    where=str(path),
                    why="its SHA-256 differs when it is read again",
                    todo="Take another medium, and plan again into a parcel there.",
                )
        return [len(paths), sum(path.stat().st_size for path in paths)]

    def mend_bag(self, now: datetime) -> None:
        """Write the derived files anew where a leg was cut off before it had written them."""
        if self.wrong_in_bag() or self._stray is not None:
            open_bag(self.folder, self.effects)
            self._remove_stray()
            close_bag(self.folder, self.effects, self.run, now, self._wanted())


READERS = 2
"""Files of a medium that are read at a time."""

CARD = "new.card.json"
SECRETS = "secrets"
SERIAL = "serial"
"""The name of the secret that the serial of a licence is."""

_GROWS = ("cargo/", "index/", f"{MADE}/", f"{SECRETS}/")
"""Where a leg puts files; what a leg that was cut off left there is taken away."""


def _plan_name(generation: int) -> str:
    return "plan.json" if generation == 1 else f"plan-{generation:06d}.json"
