"""``widetrail demo``: the whole trail on the demo world."""

from __future__ import annotations

import shutil
import tempfile
from itertools import zip_longest
from pathlib import Path

import click

from widetrail.cli.output import Page, now
from widetrail.cli.plan_page import show_plan
from widetrail.cli.report import show_report, write_page
from widetrail.cli.seat import show_ledger
from widetrail.cli.survey import show_survey
from widetrail.cli.walk import show_done
from widetrail.errors import InputUnusable, WentWrong
from widetrail.finding import survey
from widetrail.library.recipes import load_recipes
from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.parcel import Along, Parcel, make_seal, set_out
from widetrail.planning import make_plan
from widetrail.recipe import Loaded
from widetrail.rehearsing import show_screen
from widetrail.walking import Answers, Company, Visit, ledger_of_parcel, make_report

SHOWN = 8
"""Lines of a print-out that are shown side by side."""


@click.command("demo")
@click.argument("folder", required=False, type=click.Path(path_type=Path))
@click.option("--world-only", is_flag=True, help="Only make the demo world.")
def command(folder: Path | None, world_only: bool) -> None:
    """Move a made-up program between two made-up computers, from survey to report.

    The demo world is laid out in FOLDER (a fresh temporary one if it is left out) and stays
    there to be tried on.
    """
    from widetrail_demo.world import build_world

    page = Page()
    here = folder or Path(tempfile.mkdtemp(prefix="widetrail-demo-"))
    if here.exists() and any(here.iterdir()):
        todo = "Name a folder that is empty or not there yet."
        raise InputUnusable("it already exists", where=str(here), todo=todo)
    build_world(here)
    page.line(f"The demo world lies in {here}: machines, recipes and a medium.")
    if world_only:
        return
    for name in WALKED:
        shutil.copytree(here / "machines" / name, here / "walked" / name, symlinks=True)
    shutil.copytree(here / "maker", here / "walked" / "maker")
    _walk_world(page, here)


WALKED = ("potting-shed", "glass-office")
"""The machines that the demo walks on, in copies: rehearsals want those of the world unchanged."""


def _walk_world(page: Page, here: Path) -> None:
    """Walk the whole trail of the demo world in ``here``.

    Raises:
        WentWrong: The program does not print the same on both machines.
    """
    effects = Effects()
    loaded = load_recipes([here / "recipes" / "sporelog.trail.yaml"])
    machines = here / "walked"
    old = FolderMachine(machines / "potting-shed", effects)
    new = FolderMachine(machines / "glass-office", effects)
    show_survey(page, old, survey(old, loaded))
    before = show_screen(old, loaded[0]).output
    parcel = here / "media" / "usb-stick" / "parcel"
    plan = make_plan(loaded, old, new, medium_of(parcel), now())
    set_out(parcel, plan, loaded, plan.id[:12], now(), effects)
    show_plan(page, plan)
    for machine in (old, new):
        done = Visit(Parcel(parcel, effects), machine).walk(now())
        show_done(page, done, make_report(Parcel(parcel, effects)), parcel)
    report = make_report(Parcel(parcel, effects))
    show_report(page, report)
    after = show_screen(new, loaded[0]).output
    same = _show_screens(page, loaded[0], (old.name, before), (new.name, after))
    write_page(report, here / "report.html")
    moved = _move_licence(page, here)
    _show_next(page, here, parcel)
    if not moved:
        raise WentWrong("the licence is not as it should be", where=str(here))
    if not same or not report.well:
        raise WentWrong("the demo did not end as it should", where=str(here))


def _move_licence(page: Page, here: Path) -> bool:
    """Move the licence of Loamlens by way of the stand-in service; return whether new has it."""
    from widetrail.licence.service import Service, serving

    page.title("A licence: released on one computer, claimed on the other")
    machines, answers = here / "walked", Answers({"parcel.seal": PASSPHRASE})
    loaded = load_recipes([here / "recipes" / "loamlens.trail.yaml"])
    service = Service(machines / "maker")
    with serving(service) as address:
        effects = Effects()
        old, new = (FolderMachine(machines / name, effects) for name in WALKED)
        for machine in (old, new):
            machine.given["LICENCE_SERVICE"] = address
        parcel = here / "media" / "usb-stick" / "licence"
        plan = make_plan(loaded, old, new, medium_of(parcel), now(), sealed=True)
        along = Along(sealed=make_seal(PASSPHRASE))
        set_out(parcel, plan, loaded, plan.id[:12], now(), effects, along)
        for leg in plan.legs:
            machine = old if leg.station == "old" else new
            visit = Visit(Parcel(parcel, effects), machine, company=Company(hands=answers))
            done = visit.walk(now())
            page.line(f"{leg.number}. on {done.machine}", indent=2)
            for step in done.steps:
                page.line(f"- {step.words}", "dim", indent=5)
    page.line()
    lines = ledger_of_parcel(Parcel(parcel, effects))
    show_ledger(page, lines)
    return all(line.seat.stage == "claimed" for line in lines)


PASSPHRASE = "goldcrest in the yew"
"""The passphrase of the demo's sealed parcel."""


def _show_screens(page: Page, loaded: Loaded, old: tuple[str, str], new: tuple[str, str]) -> bool:
    screen = loaded.recipe.application.screen
    page.title(f"What {' '.join(screen.run if screen is not None else ())} prints")
    one, other = old[1].splitlines(), new[1].splitlines()
    rows = list(zip_longest(one, other, fillvalue=""))
    page.table([f"{old[0]}, before", f"{new[0]}, after"], [r for r in rows if any(r)][:SHOWN])
    differing = sum(a != b for a, b in rows)
    if differing:
        page.line(f"{differing} of {len(rows)} lines differ", "bold red", indent=2)
    else:
        page.line(f"all {len(rows)} lines are the same on both machines", "bold green", indent=2)
    return not differing


def _show_next(page: Page, here: Path, parcel: Path) -> None:
    page.title("What happened")
    page.line(
        "Sporelog's collection, which its owner had moved to another drive, and her saved views "
        "came to a new computer with another user name; every file was read back and every check "
        "holds. Nothing of hers changed on the old one. The licence of a second program went too, "
        "and was never with two computers.",
        indent=2,
    )
    page.line(
        f"Both machines were walked on in copies, as they are now in {here / 'walked'}; the report "
        f"lies at {here / 'report.html'}",
        indent=2,
    )
    page.title("Try next")
    page.line(f"widetrail report {parcel} --json", indent=2)
    page.line(f"widetrail rehearse {here / 'recipes'}", indent=2)
    page.line(f"widetrail seat {here / 'media' / 'usb-stick' / 'licence'}", indent=2)
    page.line(f"widetrail lint {here / 'recipes' / 'sporelog.trail.yaml'}", indent=2)
    page.line("and read that recipe: it is one short page.", indent=2)
