"""A whole office planned from a table: one round for one person, with one medium or several."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

from widetrail.errors import Halted, InputUnusable, Obstructed
from widetrail.finding import CardFacts, read_card
from widetrail.formats.quantities import show_size
from widetrail.library.machines import open_machine
from widetrail.library.plans import plan_sealed
from widetrail.library.recipes import Where, load_recipes
from widetrail.machine import Machine, medium_of
from widetrail.parcel import make_seal
from widetrail.planning import Choices, New, Plan, make_plan, read_choices
from widetrail.planning.office import NoRound, OfficeMove, OfficeRound, find_round
from widetrail.planning.office_moves import Office, PlannedMove
from widetrail.planning.office_table import OfficeRow, read_office
from widetrail.recipe import Loaded, Station


def plan_office(table: Where, media: Sequence[Where], *, passphrase: str = "") -> Office:
    """Plan all moves of a table as one round with the fewest trips, and write a parcel for each on
    one of the media; no machine is changed, and nothing is written where one cannot be planned.

    With a ``passphrase`` the parcels are sealed, which licences need.

    Raises:
        Obstructed: Moves cannot be planned; each obstacle says which and why.
        InputUnusable: The table, a recipe or a machine cannot be used, or a parcel is there
            already.

    Example:
        >>> office = plan_office("office.csv", ["media/usb-stick"])  # doctest: +SKIP
        >>> [visit.computer for visit in office.round.visits]  # doctest: +SKIP
        ['potting-shed', 'glass-office']
    """
    rows, on = read_office(Path(table)), [Path(medium) for medium in media]
    now = datetime.now(UTC)
    obstacles: list[Halted] = []
    drawn: list[tuple[OfficeRow, list[Loaded], Machine, New, Choices, Plan]] = []
    for row in rows:
        try:
            loaded, old, new = load_recipes(row.recipes), open_machine(row.old), _new(row.new)
            chosen = read_choices(loaded, row.choices)
            at = medium_of(on[0] / _folder_name(row.who))
            plan = make_plan(loaded, old, new, at, now, chosen, sealed=bool(passphrase))
        except Obstructed as error:
            obstacles += [_of_row(one, row) for one in error.obstacles]
            continue
        except InputUnusable as error:
            where = f"{table}:{row.line}: {error.where}"
            raise InputUnusable(error.what, where=where, why=error.why, todo=error.todo) from error
        drawn.append((row, loaded, old, new, chosen, plan))
    if obstacles:
        raise Obstructed("the office cannot be planned", obstacles)
    names = _names(plan for *_, plan in drawn)
    found = _round([_move(row, plan, names) for row, *_, plan in drawn], on)
    parcels = [on[found.media[row.who]] / _folder_name(row.who) for row, *_ in drawn]
    for parcel in parcels:
        if parcel.exists() and any(parcel.iterdir()):
            raise InputUnusable(
                "is there already", where=str(parcel), todo="Choose another medium."
            )
    made = []
    for (row, loaded, old, new, chosen, _), parcel in zip(drawn, parcels, strict=True):
        sealing = (lambda: make_seal(passphrase)) if passphrase else None
        card = row.new if isinstance(new, CardFacts) else None
        made.append(
            PlannedMove(row, plan_sealed(loaded, old, new, parcel, chosen, sealing, card), parcel)
        )
    return Office(tuple(made), found, tuple(on))


def _names(plans: Iterable[Plan]) -> dict[tuple[str, str], str]:
    """Return what each computer is called, by its identity and name: no two the same."""
    found: dict[tuple[str, str], str] = {}
    for plan in plans:
        for one in plan.stations:
            name, number = one.machine, 1
            while (one.identity, one.machine) not in found and name in found.values():
                number += 1
                name = f"{one.machine} ({number})"
            found.setdefault((one.identity, one.machine), name)
    return found


def _move(row: OfficeRow, plan: Plan, names: Mapping[tuple[str, str], str]) -> OfficeMove:
    at: dict[Station, str] = {
        one.station: names[one.identity, one.machine] for one in plan.stations
    }
    at["between"] = row.between
    legs = tuple((leg.number, leg.station) for leg in plan.legs)
    return OfficeMove(row.who, legs, at, plan.parcel_size)


def _round(moves: Sequence[OfficeMove], media: Sequence[Path]) -> OfficeRound:
    room = [medium_of(path).free for path in media]
    try:
        return find_round(moves, room)
    except NoRound as error:
        sizes = {move.name: show_size(move.size) for move in moves}
        told = ", ".join(f"{name} ({sizes[name]})" for name in error.moves)
        free = ", ".join(
            f"{path} {show_size(size)}" for path, size in zip(media, room, strict=True)
        )
        raise Halted(
            "there is no round for these moves",
            where=told,
            why=f"they wait for each other, or no medium has room: free are {free}",
            todo="Take another medium, or plan fewer moves at a time.",
        ) from error


def _of_row(obstacle: Halted, row: OfficeRow) -> Halted:
    where = ": ".join(part for part in (row.who, obstacle.where) if part)
    return Halted(
        obstacle.what, where=where, why=obstacle.why, todo=obstacle.todo, codes=obstacle.codes
    )


def _new(path: Path) -> New:
    return read_card(path) if path.is_file() else open_machine(path)


def _folder_name(who: str) -> str:
    return re.sub(r"[^\w-]+", "-", who.casefold()).strip("-") or "move"
