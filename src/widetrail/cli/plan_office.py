"""``widetrail plan --office``: all moves of a table as one round."""

from __future__ import annotations

from pathlib import Path

from widetrail.cli.output import Page, print_json
from widetrail.cli.planning import ask_passphrase
from widetrail.formats.quantities import show_count, show_size
from widetrail.library.offices import plan_office
from widetrail.planning.office_moves import Office, PlannedMove


def plan_and_show_office(
    table: Path,
    media: tuple[Path, ...],
    page: Path | None,
    *,
    sealed: bool,
    answers: Path | None,
    as_json: bool,
) -> None:
    """Plan an office, write its parcels, and show the round."""
    office = plan_office(table, media, passphrase=ask_passphrase(answers) if sealed else "")
    if page is not None:
        from widetrail.reporting.office_page import render_office

        page.write_text(render_office(office), encoding="utf-8")
    if as_json:
        print_json(_as_json(office))
    else:
        _show(office)


def _show(office: Office) -> None:
    page, found = Page(), office.round
    moves = show_count(len(office.moves), "move")
    trips = show_count(len(found.visits), "trip")
    fewest = "as few as can be" if found.exact else f"at least {found.bound} are needed"
    page.line(f"{moves} in {trips}: {fewest}", "bold")
    for number, visit in enumerate(found.visits, start=1):
        page.title(f"{number}. {visit.computer}")
        for name, legs in visit.legs.items():
            move = office.move(name)
            page.line(f"{name}: {_what(move, legs)}", indent=3)
            for call in move.calls(legs):
                page.line(call, "dim", indent=5)
        for name in visit.ends:
            page.line(f"{name} is done: {office.move(name).parcel} may be deleted", indent=3)
    page.title("Parcels")
    rows = [
        [
            one.row.who,
            f"{one.row.old.name} to {one.row.new.name}",
            str(len(one.plan.items)),
            str(len(one.plan.left)),
            show_size(one.plan.parcel_size),
            str(one.parcel),
        ]
        for one in office.moves
    ]
    page.table(["who", "computers", "items", "left behind", "size", "parcel"], rows)


def _what(move: PlannedMove, legs: tuple[int, ...]) -> str:
    steps = len(list(move.steps(legs)))
    told = " and ".join(str(number) for number in legs)
    return f"leg {told} of {len(move.plan.legs)}, {show_count(steps, 'step')}"


def _as_json(office: Office) -> dict[str, object]:
    found = office.round
    return {
        "trips": [
            {
                "computer": visit.computer,
                "legs": visit.legs,
                "begins": visit.begins,
                "ends": visit.ends,
            }
            for visit in found.visits
        ],
        "bound": found.bound,
        "exact": found.exact,
        "moves": [
            {
                "who": one.row.who,
                "plan": one.plan.id,
                "parcel": str(one.parcel),
                "items": len(one.plan.items),
                "left": len(one.plan.left),
                "bytes": one.plan.parcel_size,
            }
            for one in office.moves
        ],
    }
