"""``widetrail plan``: its options."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click

from widetrail.cli.output import json_option
from widetrail.cli.signing_options import keyring_option, older_option
from widetrail.formats import parser_process

PATH = click.Path(path_type=Path)


@click.command("plan")
@click.argument("recipes", nargs=-1, type=PATH)
@click.option("--old", type=PATH, help="The machine folder of the old computer; else this machine.")
@click.option(
    "--new",
    type=PATH,
    help="The machine folder or the card of the new computer; else this machine.",
)
@click.option(
    "--new-later",
    is_flag=True,
    help="The new computer is out of reach, and there is no card of it.",
)
@click.option(
    "--parcel", type=PATH, help="The parcel's folder on the medium; it must not exist yet."
)
@click.option(
    "--office",
    type=PATH,
    help="A table (CSV) of moves that are planned as one round: who, old, new, recipes, choices.",
)
@click.option(
    "--medium", "media", multiple=True, type=PATH, help="A medium for the parcels of an office."
)
@click.option(
    "--page",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write the round of an office as an HTML page.",
)
@click.option("--only", multiple=True, metavar="ITEM", help="Move these items only.")
@click.option("--without", multiple=True, metavar="ITEM", help="Leave these items out.")
@click.option(
    "--choose", multiple=True, metavar="ITEM.PART=VALUE,…", help="Move these values of a part only."
)
@click.option(
    "--outside",
    multiple=True,
    metavar="ITEM=carry|leave",
    help="Whether files outside the item that it refers to are copied too.",
)
@click.option(
    "--route", "routes", multiple=True, metavar="ITEM=ROUTE", help="The route that an item takes."
)
@click.option(
    "--duplicates",
    multiple=True,
    metavar="ITEM=WORD",
    help="What becomes of records that are there with another content: replace, keep both, skip "
    "or merge fields.",
)
@click.option(
    "--to",
    multiple=True,
    metavar="ITEM=FOLDER",
    help="The folder on the new computer for an item; its program's setting is changed.",
)
@click.option(
    "--real",
    multiple=True,
    metavar="PLACE=NAME",
    help="Which of several on the old computer is the real one.",
)
@click.option(
    "--release-after",
    type=click.Choice(["verifying", "packing"]),
    default="verifying",
    help="When licences are released on the old computer: after the files are verified on the new "
    "computer, or, to save trips, after they are packed: then the licence is gone before "
    "anything has arrived.",
)
@click.option("--ask", is_flag=True, help="Ask at the terminal what is to be moved.")
@click.option(
    "--ask-programs",
    is_flag=True,
    help="Read what programs print, here and in walks, where a recipe says so.",
)
@click.option("--yes", is_flag=True, help="Consent to starting the programs that are listed.")
@click.option("--account", default="", help="The account on this machine.")
@click.option("--policy", type=PATH, help="A file that says what recipes may do, as lint has it.")
@click.option(
    "--signatures",
    multiple=True,
    type=PATH,
    help="The signatures of a bundle that recipes are from; they go along in the parcel.",
)
@keyring_option
@older_option
@click.option(
    "--allow",
    type=click.Choice(["more"]),
    multiple=True,
    help="Consent without being asked to recipes that may do more than when they were used on this"
    " computer last.",
)
@click.option("--seal", is_flag=True, help="Seal the parcel with a passphrase.")
@click.option("--hint", default="", help="A hint at the passphrase; anyone can read it.")
@click.option("--if-found", default="", help="A line for whoever finds the medium.")
@click.option("--answers", type=PATH, help="A file with the passphrase, as the answer parcel.seal.")
@click.option("--details", is_flag=True, help="Show every path, rejected route and step.")
@json_option
def command(office: Path | None, media: tuple[Path, ...], page: Path | None, **given: Any) -> None:
    """Plan the move of the applications of RECIPES and write the parcel it travels in.

    Nothing on either machine is changed, and no program is started unless --ask-programs says so.
    With --office all moves of a table are planned, as one round with the fewest trips.
    """
    if office is not None:
        _insist_of_office(given, media)
        from widetrail.cli.plan_office import plan_and_show_office

        sealing = given["answers"] if given["seal"] else None
        plan_and_show_office(
            office, media, page, sealed=given["seal"], answers=sealing, as_json=given["as_json"]
        )
        return
    if media or page is not None:
        raise click.UsageError("--medium and --page are for --office.")
    if not given["recipes"] or given["parcel"] is None:
        raise click.UsageError("Recipes and --parcel are needed, or --office.")
    if given["old"] is not None and (given["new"] is not None or given["new_later"]):
        parser_process.begin()  # beside what is imported now; nothing here gives rights up first
    from widetrail.cli.planning import Given, plan_and_show

    plan_and_show(Given(**given))


_OF_OFFICE = frozenset({"seal", "answers", "as_json", "release_after"})


def _insist_of_office(given: Mapping[str, Any], media: tuple[Path, ...]) -> None:
    """Raise where a call says beside its table what the table says, or no medium."""
    said = [name for name, value in given.items() if value and name not in _OF_OFFICE]
    if said:
        options = ", ".join(f"--{name.replace('_', '-')}" for name in said if name != "recipes")
        told = "; ".join(filter(None, ("recipes" if "recipes" in said else "", options)))
        raise click.UsageError(f"The table of --office says it for each move: {told}.")
    if not media:
        raise click.UsageError("--office needs a --medium.")
