"""``widetrail seat``: where the seats of licences are, other ways for them, a stand-in service."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import click

from widetrail.cli.output import Page, consent, json_option, print_json
from widetrail.cli.plan_page import show_legs
from widetrail.cli.terminal_person import make_company
from widetrail.errors import InputUnusable
from widetrail.formats.quantities import show_time
from widetrail.library import seats as library
from widetrail.library.machines import open_machine
from widetrail.library.seats import SeatWay, replan_seat, seats
from widetrail.machine import Effects
from widetrail.parcel import Parcel
from widetrail.walking import SeatLine, seat_line

PATH = click.Path(path_type=Path)
SHOW = "show"


class _ShowsAtOnce(click.Group):
    """A group whose command ``show`` is meant where none is named."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in self.commands:
            args = [SHOW, *args]
        return super().resolve_command(ctx, args)


@click.group(
    "seat",
    cls=_ShowsAtOnce,
    no_args_is_help=True,
    context_settings={
        "ignore_unknown_options": True,
        "allow_extra_args": True,
    },
)
def command() -> None:
    """Show where the seats of licences are, and move them another way than planned.

    `widetrail seat PARCEL` shows what the parcel records, `widetrail seat --machine FOLDER` what a
    machine itself does.
    """


@command.command(SHOW)
@click.argument("parcel", required=False, type=PATH)
@click.option("--machine", type=PATH, help="Show what this machine records.")
@json_option
def show(parcel: Path | None, machine: Path | None, as_json: bool) -> None:
    """Show where seats are, and what to do next.

    That is what a parcel records, what a machine records, or both.
    """
    if parcel is None and machine is None:
        raise InputUnusable(
            "specify a parcel or a machine", todo="Name a parcel, or --machine FOLDER."
        )
    found: dict[str, tuple[SeatLine, ...]] = {}
    if parcel is not None:
        found["parcel"] = seats(parcel)
    if machine is not None:
        here = open_machine(machine)
        found[here.name] = seats(here)
    if as_json:
        print_json({of: [line.as_json() for line in lines] for of, lines in found.items()})
        return
    page = Page()
    for of, lines in found.items():
        page.title("What the parcel records" if of == "parcel" else f"What {of} records")
        show_ledger(page, lines)


def show_ledger(page: Page, lines: Iterable[SeatLine]) -> None:
    """Show seats: how each stands, what happened, and what to do next."""
    none = True
    for line in lines:
        none = False
        style = "yellow" if line.seat.in_doubt else "" if line.todo else "green"
        page.line(f"{line.title}, from {line.old} to {line.new}", "bold", indent=2)
        page.line(f"It is {line.words}.", style, indent=4)
        for time, machine, words in line.history:
            page.line(f"{show_time(time)}  {machine}: {words}", "dim", indent=4)
        if line.todo:
            page.line(f"Next: {line.todo}", "bold", indent=4)
            page.line(line.meanwhile, indent=4)
    if none:
        page.line("no seats", indent=2)


@command.command("return")
@click.argument("parcel", type=PATH)
@click.argument("item", default="")
@click.option(
    "--new-is-gone", is_flag=True, help="The new computer cannot be walked on; you answer for it."
)
@click.option("--yes", is_flag=True, help="Consent without being asked.")
def return_(parcel: Path, item: str, new_is_gone: bool, yes: bool) -> None:
    """Plan to bring a released seat back to the old computer.

    The new computer first records that it will not claim the seat. Where it is broken, wiped or
    lost, add --new-is-gone: on the old computer you are asked to answer for that then.
    """
    _plan_anew(parcel, item, yes, "return", new_is_gone=new_is_gone)


@command.command("claim")
@click.argument("parcel", type=PATH)
@click.argument("item", default="")
@click.option(
    "--old-is-gone", is_flag=True, help="The old computer cannot be walked on; you answer for it."
)
@click.option("--yes", is_flag=True, help="Consent without being asked.")
def claim(parcel: Path, item: str, old_is_gone: bool, yes: bool) -> None:
    """Plan to claim a seat on the new computer after all.

    That is for a seat that was to come back, or where the old computer is wiped or lost
    (--old-is-gone): on the new one you are asked to answer for that then.
    """
    _plan_anew(parcel, item, yes, "claim", old_is_gone=old_is_gone)


@command.command("give-up")
@click.argument("parcel", type=PATH)
@click.argument("item", default="")
@click.option("--yes", is_flag=True, help="Consent without being asked.")
def give_up_(parcel: Path, item: str, yes: bool) -> None:
    """Do nothing more with a seat in this move.

    It stays as it is: where it was released, no computer has the licence then. `seat claim` or
    `seat return` takes it up again.
    """
    _plan_anew(parcel, item, yes, "give up")


@command.command("fetch")
@click.argument("parcel", type=PATH)
@click.argument("item", default="")
@click.option("--yes", is_flag=True, help="Consent without being asked.")
def fetch(parcel: Path, item: str, yes: bool) -> None:
    """Have the maker's answer fetched once more.

    That is for an answer that was damaged, or is only half there: the machine between asks for the
    same request again.
    """
    _plan_anew(parcel, item, yes, "fetch")


def _plan_anew(folder: Path, item: str, yes: bool, way: SeatWay, **gone: bool) -> None:
    messages, parcel = Page(to_errors=True), Parcel(folder, Effects())
    line = seat_line(parcel, item)
    messages.line(f"{line.title}: {line.words}")
    consent(yes, "Plan the rest again?")
    plan = replan_seat(folder, item, way, **gone)
    page, walked = Page(), len(parcel.legs_done)
    show_legs(page, plan, walked=walked)
    page.title("Now")
    show_ledger(page, [seat_line(Parcel(folder, Effects()), line.item)])
    if walked < len(plan.legs):
        page.line(f"Next: widetrail walk {folder}", "bold", indent=2)


@command.command("letter")
@click.argument("parcel", type=PATH)
@click.argument("item", default="")
@click.option("--to", type=PATH, help="Write it to this file, with the serial in it.")
@click.option("--answers", type=PATH, help="A file with the passphrase, as the answer parcel.seal.")
def letter(parcel: Path, item: str, to: Path | None, answers: Path | None) -> None:
    """Write a text to the maker about a seat.

    It holds what they need to find or move it. It is shown without the serial; a file that --to
    names holds it, and only you can read that.
    """
    if to is None:
        page = Page()
        for text in library.letter(parcel, item).splitlines():
            page.line(text or " ")
        return
    company = make_company(Page(to_errors=True), answers, waits=False)
    library.write_letter(parcel, item, to, company)
    Page().line(f"The letter lies in {to}; it holds the serial, so remove it when it is sent.")


@command.command("serve")
@click.argument("folder", type=PATH)
@click.option("--port", default=0, help="The port on the loopback interface; else the usual one.")
@click.option(
    "--fault",
    "faults",
    multiple=True,
    metavar="NAME[:TIMES]",
    help="What is to go wrong: slow, cut, refused, clock or taken.",
)
def serve(folder: Path, port: int, faults: tuple[str, ...]) -> None:
    """Run the stand-in licence service of FOLDER.

    With it a licence can be moved by hand without a maker. It answers on this machine only, until
    it is interrupted.
    """
    from widetrail.licence.service import PORT, Service, open_server, read_faults

    service = Service(folder, read_faults(faults))
    server = open_server(service, port or PORT)
    page = Page()
    page.line(f"The licence service of {folder} answers at {server.address} (end it with Ctrl-C).")
    page.line(f"What goes wrong is changed with the token {service.token}")
    if faults:
        page.line(f"It goes wrong: {', '.join(faults)}", "yellow")
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        page.line()
    finally:
        server.server_close()
