"""``widetrail card``: the facts of a machine, to plan with where it is out of reach."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.asking_programs import may_ask
from widetrail.cli.output import Page, json_option, machine_options, print_json
from widetrail.library.machines import open_machine, write_card
from widetrail.library.recipes import load_recipes


@click.command("card")
@click.argument("recipes", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--to",
    required=True,
    type=click.Path(path_type=Path),
    help="The file to write; it must not exist yet.",
)
@machine_options
@json_option
def command(
    recipes: tuple[Path, ...],
    to: Path,
    machine: Path | None,
    account: str,
    ask_programs: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """Write the card of a machine for RECIPES: what is installed, and where things would go.

    Carry the file to where the move is planned. It holds no contents, only paths, versions and
    editions.
    """
    here, loaded = open_machine(machine, account), load_recipes(recipes)
    asked = ask_programs and may_ask(here, loaded, yes)
    facts = write_card(to, loaded, here, ask_programs=asked)
    if as_json:
        print_json({"card": str(to), "facts": facts.model_dump(mode="json", by_alias=True)})
        return
    page = Page()
    page.line(f"The card of {here.name} (account {here.user}) lies at {to}")
    for application in facts.applications:
        releases = [i.release or "unknown" for i in application.installations]
        page.line(f"{application.name}: {', '.join(releases) or 'not here'}", indent=2)
