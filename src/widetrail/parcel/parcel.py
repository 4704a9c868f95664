"""The parcel: the container that travels, with plan, recipes, cargo and logbook.

::

    bagit.txt, bag-info.txt, manifest-sha256.txt, tagmanifest-sha256.txt   (RFC 8493)
    data/plan.json                 the plan in canonical form
    data/recipes/ID.trail.yaml     the recipes it was made from
    data/signatures/000001.json    who signed them
    data/cargo/000001.tar …        the segments
    data/made/ITEM/000002/NAME     what programs made, as they made it
    data/index/000002.json …       the index that a generation of the logbook names
    logbook/000001.json …          the generations
    signed/000002.json …           who signed the parcel, as a generation left it

A sealed one has ``sealed.txt`` and ``key.age`` beside ``bagit.txt``, and in ``data/secrets`` what
was asked for; segments, indices, secrets and what programs made are ``age`` files then, with
``.age`` at the end of their names. Plan, recipes and logbook are plain.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path

from widetrail.errors import Halted, ParcelUnusable
from widetrail.formats.outside import SafePath
from widetrail.formats.stored_values import why_not
from widetrail.machine import Effects, file_digest
from widetrail.machine.platforms import PLAINEST
from widetrail.parcel.bag import (
    FETCH,
    PAYLOAD,
    close_bag,
    mode_in,
    open_bag,
)
from widetrail.parcel.cargo import COMMIT, COMMIT_FILES, MOST_FILES, CargoWriter, Hold, Seen
from widetrail.parcel.cargo_runs import Run
from widetrail.parcel.events import (
    PACKED,
    PLANNED_ANEW,
    SEAT_TOLD,
    SERIAL_KEPT,
    SETTLED,
    TOPPING_UP,
    UNDONE,
)
from widetrail.parcel.layout import CARD, GROWS, SERIAL, plan_name
from widetrail.parcel.logbook import Entry, read_logbook
from widetrail.parcel.medium_reading import PACK_AGAIN, reading
from widetrail.parcel.parcel_signatures import ParcelSignatures
from widetrail.parcel.seal import was_sealed
from widetrail.parcel.seat_record import SeatRecord
from widetrail.parcel.segments import StoredSegment
from widetrail.planning import Plan
from widetrail.recipe import SUFFIX, Kinds, Loaded, Station, load_recipe_text
from widetrail.steps import Outcome


class Parcel(ParcelSignatures):
    """An opened parcel: its plan, and what its logbook tells."""

    def __init__(self, folder: Path, effects: Effects) -> None:
        """Open the parcel in ``folder``.

        Raises:
            ParcelUnusable: It is not a parcel, or its logbook, plan or recipes were touched.
        """
        self.folder, self.effects = SafePath(os.path.realpath(folder)), effects
        self._insist_plain()
        self.generations, self.torn = read_logbook(self.folder)
        stray = self.folder / PAYLOAD / plan_name(len(self.generations) + 1)
        self._stray = stray if stray.is_file() else None
        """The plan that was being put in when that was cut off: no entry of the logbook knows it,
        and one that is torn after it was to be its own."""
        first = self.generations[0]
        self.seal = self._read_seal(first.body.seal)
        newest = next(g for g in reversed(self.generations) if g.body.plan)
        name = plan_name(newest.number)
        data = self._insist_told(name, newest.body.plan)
        try:
            self.plan = Plan.read(data)
        except (ValueError, RecursionError) as error:
            raise ParcelUnusable(
                "the plan cannot be read",
                where=str(folder),
                why=why_not(error),
                todo="Walk it with the release that made it, or plan and pack again.",
            ) from error
        self.run = first.body.run
        if self.seal is None and (self.plan.sealed or was_sealed(self.run)):
            raise ParcelUnusable(
                "the parcel was sealed and is not any more",
                where=str(folder),
                why="its plan says so" if self.plan.sealed else "it was, when it was planned here",
                todo="Use the sealed one; somebody unsealed this copy.",
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
            for step, told in generation.body.steps.items():
                if told.kind != kinds.get(step, told.kind):
                    raise self._untold(step, f"its kind is {kinds[step]}")

    def recipes(self, kinds: Kinds) -> tuple[Loaded, ...]:
        """Return the recipes that travel along.

        Raises:
            ParcelUnusable: One is missing or was touched.
        """
        loaded = []
        for planned in self.plan.recipes:
            name = f"recipes/{planned.id}{SUFFIX}"
            data = self._insist_told(name, planned.digest)
            path = self.folder / PAYLOAD / name
            loaded.append(load_recipe_text(data.decode(), str(path), kinds))
        return tuple(loaded)

    def tell_seats(self, seats: Sequence[SeatRecord], machine: str) -> None:
        """Write what happened to seats into the logbook before the leg ends, or outside of one."""
        self._add(Entry(event=SEAT_TOLD, seats=tuple(seats), machine=machine, read_back=(0, 0)))

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
        entry = Entry(event=SERIAL_KEPT, time=now.isoformat(timespec="seconds"), files=files)
        self._add(entry.with_(read_back=self._read_back(self._unread(files))))

    def begin_top_up(self, now: datetime) -> None:
        """Write down that the cargo is changed, so that no other station takes it half-way."""
        if self.is_topped_up:
            self._add(Entry(event=TOPPING_UP, time=now.isoformat(timespec="seconds")))

    def tell_undone(self, station: Station, machine: str, now: datetime) -> None:
        """Write into the logbook that the move was undone at a station, once."""
        if station in self.undone_at or self.torn is not None:
            return
        open_bag(self.folder, self.effects)
        when = now.isoformat(timespec="seconds")
        self._add(Entry(event=UNDONE, station=station, machine=machine, time=when))
        close_bag(self.folder, self.effects, self.run, now, self._wanted())

    def settle(self, now: datetime) -> None:
        """Remove the cargo for good; plan, recipes and logbook stay.

        Raises:
            Halted: A leg is still to be walked.
        """
        if len(self.legs_done) < len(self.plan.legs):
            todo = "Complete the move first."
            raise Halted("the cargo is still needed", where=str(self.folder), todo=todo)
        open_bag(self.folder, self.effects)
        if not self.settled:  # first the logbook: cargo that it does not know is simply removed
            self._add(Entry(event=SETTLED, time=now.isoformat(timespec="seconds")))
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
                "the logbook was damaged or changed",
                where=str(self.torn),
                why="its checksum does not match",
                todo=PACK_AGAIN,
            )
        with reading(self.folder):
            return self._check_cargo(begun=begun, read=read)

    def _check_cargo(self, *, begun: bool, read: bool) -> tuple[int, int] | None:
        if (self.folder / FETCH).exists():
            raise ParcelUnusable(
                "the parcel says that something is to be fetched",
                where=str(self.folder / FETCH),
                why="a parcel holds all that it needs, and nothing is ever fetched",
                todo=PACK_AGAIN,
            )
        wanted, known, top = self._wanted(), self._known(), self.folder / PAYLOAD
        found = {p.relative_to(top).as_posix(): p for p in top.below() if not p.is_dir()}
        for name, path in sorted(found.items()):
            ours = (begun and name.startswith(GROWS)) or name in known or path == self._stray
            if path.is_symlink() or not (ours or name in wanted):
                raise ParcelUnusable(
                    "the parcel contains a file that was not packed",
                    where=str(path),
                    todo="Remove it from the parcel, then walk again.",
                )
        packed = self._packed()
        segments = packed[-1].body.segments if packed else {}
        sizes = {f"cargo/{name}": s.stored for name, s in segments.items()}
        for name, sha256 in sorted(wanted.items()):
            if name not in found:
                raise ParcelUnusable("a file is missing", where=str(top / name), todo=PACK_AGAIN)
            size = sizes.get(name, -1)
            other = size >= 0 and found[name].stat().st_size != size
            if other or (read and file_digest(found[name]) != sha256):
                raise self._touched(found[name])
        if not read:
            return None
        return len(wanted), sum(found[name].stat().st_size for name in wanted)

    def card(self) -> bytes | None:
        """Return the card of new that the plan was made with, or ``None`` where there was none.

        Raises:
            ParcelUnusable: It was touched.
        """
        wanted = self.generations[0].body.card
        if wanted is None:
            return None
        return self._insist_told(CARD, wanted)

    def renew(
        self,
        plan: Plan,
        now: datetime,
        seats: Sequence[SeatRecord] = (),
        again: Sequence[str] = (),
    ) -> None:
        """Put another plan in the place of the one the parcel holds; what was packed stays.

        ``seats`` tell what happened to seats by it, and ``again`` are steps that are to be done
        again: the parcel tells all of it or, where it is cut off, nothing.
        """
        plan = plan.model_copy(update={"sealed": self.seal is not None})
        open_bag(self.folder, self.effects)
        self._remove_stray()
        name = plan_name(len(self.generations) + 1)
        self.effects.put(self.folder / PAYLOAD / name, plan.encoded(), mode_in(self.folder))
        entry = Entry(event=PLANNED_ANEW, plan=plan.id, time=now.isoformat(timespec="seconds"))
        self._add(entry.with_(seats=tuple(seats), again=tuple(again)))
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
        runs: dict[str, Run] = {}
        segments: dict[str, StoredSegment] = {}
        packed = self._packed()
        if packed:
            runs = self._runs(packed, PLAINEST, renamed=False)
            segments = dict(packed[-1].body.segments)

        def commit(writer: CargoWriter, read_back: bool) -> None:
            reached = self.plan.legs[: len(self.legs_done) + 1]
            leg = next(leg.number for leg in reversed(reached) if leg.station == "old")
            time = now.isoformat(timespec="seconds")
            entry = self._indexed(Entry(event=PACKED, steps={}, time=time, leg=leg), writer)
            unread = self._unread(entry.files)
            if read_back or sum(path.stat().st_size for path in unread) >= COMMIT:
                entry = entry.with_(read_back=self._read_back(unread))
            self._add(entry)
            kept(self.newest)

        size, files = (sum(getattr(i, name) for i in self.plan.items) for name in ("size", "files"))
        every = max(COMMIT, size // 16), min(max(COMMIT_FILES, files // 16), MOST_FILES)
        folder = self.folder / PAYLOAD / "cargo"
        seal = self._opened()
        mode = mode_in(self.folder)
        hold = Hold(folder, self.effects, seal, mode)
        return CargoWriter(hold, runs, segments, commit, every, seen)

    def end_leg(
        self,
        entry: Entry,
        now: datetime,
        packed: CargoWriter | None,
        made: Mapping[str, str],
        secrets: Mapping[tuple[str, str], str] | None = None,
    ) -> None:
        """Write what was done at a station into the logbook, and the manifests anew.

        The event of ``entry`` is one of ``LEG_DONE``, ``LEG_HALTED``, ``LEG_MENDED`` and
        ``TOPPED_UP``; ``made`` are the files that programs made, with their SHA-256. ``secrets``
        are what was asked for, which only a sealed parcel takes along.
        """
        entry = entry.with_(files={**made, **self._keep_secrets(secrets or {})})
        if packed is not None and packed.grew:
            entry = self._indexed(entry, packed, whole=True)
        self._add(entry.with_(read_back=self._read_back(self._unread(entry.files))))
        self._remove_unwanted()
        close_bag(self.folder, self.effects, self.run, now, self._wanted())

    def mend_bag(self, now: datetime) -> None:
        """Write the derived files anew where a leg was cut off before it had written them."""
        if self.wrong_in_bag() or self._stray is not None:
            open_bag(self.folder, self.effects)
            self._remove_stray()
            close_bag(self.folder, self.effects, self.run, now, self._wanted())
