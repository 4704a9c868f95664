"""``widetrail new``: a first recipe with its rehearsal and machines, from a few answers."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.errors import InputUnusable
from widetrail.library.schemas import write_schemas
from widetrail.machine.platforms import PLATFORMS
from widetrail.rehearsing.scaffold import (
    SCHEMAS,
    Beginning,
    begin_recipe,
    usual_folder,
    usual_id,
    usual_sign,
)


@click.command("new")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
@click.option("--name", default="", help="What the program is called.")
@click.option("--maker", default="", help="Who makes it.")
@click.option("--id", "app", default="", help="Its id: small letters, digits and -.")
@click.option(
    "--platform", type=click.Choice(list(PLATFORMS)), help="The platform that you know it from."
)
@click.option("--keeps", default="", help="The folder it keeps things in: {documents}/Program.")
@click.option("--sign", default="", help="A file that shows it is there: {programs}/Program/x.exe.")
@json_option
def command(
    folder: Path,
    name: str,
    maker: str,
    app: str,
    platform: str | None,
    keeps: str,
    sign: str,
    as_json: bool,
) -> None:
    """Begin a recipe in FOLDER, with a rehearsal that passes and the machines for it.

    What is not said is asked, where somebody can be asked. No program is started.
    """
    name = name or _ask("--name", "What is the program called")
    app = app or _ask("--id", "Its id", usual_id(name))
    maker = maker or _ask("--maker", "Who makes it", "unknown")
    platform = platform or _ask("--platform", f"Where is it ({', '.join(PLATFORMS)})", "windows")
    if platform not in PLATFORMS:
        raise InputUnusable("platform not found", where=platform)
    on = platform
    keeps = keeps or _ask(
        "--keeps", "Which folder does it keep things in", f"{{documents}}/{usual_folder(name)}"
    )
    sign = sign or _ask("--sign", "Which file shows that it is there", usual_sign(on, name))
    made = begin_recipe(folder, Beginning(app, name, maker, on, keeps, sign))
    recipe, rehearsal, old, new = made
    write_schemas(folder / SCHEMAS, ("recipe", "rehearsal"))
    if as_json:
        names = ("recipe", "rehearsal", "old", "new")
        print_json(dict(zip(names, map(str, made), strict=True)))
        return
    page = Page()
    page.line(f"recipe     {recipe}")
    page.line(f"rehearsal  {rehearsal}: three cases")
    page.line(f"machines   {old} and {new}")
    page.line(f"schemas    {folder / SCHEMAS}: editors show from them what may stand where")
    page.title("Try next")
    page.line(f"widetrail rehearse {rehearsal} --coverage", indent=2)
    page.line(f"Then put samples of what {name} keeps into {old}, and say in the recipe what it")
    page.line("counts; docs/tutorial.md and docs/reference.md show how.")


def _ask(option: str, words: str, usual: str = "") -> str:
    """Ask for one answer.

    Raises:
        InputUnusable: Nobody can be asked, and nothing is usual.
    """
    if sys.stdin.isatty():
        answer: str = click.prompt(words, default=usual or None, err=True)
        return answer
    if usual:
        return usual
    raise InputUnusable(f"{option} is needed", why="standard input is not a terminal")
