"""The command line: it parses, calls one core function, renders, and sets the exit status.

Commands are imported when they run, so that ``widetrail --help`` stays instant.
"""

from __future__ import annotations

import gc
import sys
from codecs import lookup
from importlib import import_module
from io import TextIOWrapper
from pathlib import Path
from typing import get_args

import click

from widetrail import __version__
from widetrail.cli.manner import Color, manner, set_manner
from widetrail.errors import WideTrailError
from widetrail.lazily import start_without_plugins

COMMANDS = {
    "demo": "Run a whole move on the demo world.",
    "new": "Begin a recipe, with a rehearsal that passes and its machines.",
    "machine": "Look at machine folders, run their programs, save and compare them.",
    "trace": "Find out by experiment where a program keeps things.",
    "lint": "Check recipes without looking at a machine.",
    "format": "Bring recipes into one layout; comments stay.",
    "compare": "Show what another revision of a recipe changes.",
    "sheet": "Write pages of recipes for reviewers and technicians.",
    "key": "Make keys, and sign bundles and parcels with them.",
    "bundle": "Hand recipes out as one archive, and read it.",
    "schema": "Print the JSON Schema of a document, for editors.",
    "survey": "Show what the recipes' applications keep on a machine.",
    "card": "Write the facts of a machine, to plan with where it is out of reach.",
    "plan": "Plan a move, and write the parcel that it travels in.",
    "walk": "Do what is due of a move on this machine.",
    "undo": "Roll back on this machine what a move changed.",
    "settle": "Accept a move, and delete its backups.",
    "forget": "List what the tool keeps on a machine, and remove it.",
    "report": "Show what became of the move of a parcel.",
    "seat": "Show where the seats of licences are, and move them another way.",
    "rehearse": "Test recipes on copies of machines.",
    "catalogue": "Check many recipes as a whole, and read the history of their rehearsals.",
    "help": "Explain a command, a word, a code or an exit status.",
    "completion": "Print the completion script of a shell.",
}
"""The commands with what they do, in the order a newcomer meets them."""


class _Commands(click.Group):
    """A group that imports a command when it is needed, and turns errors into exit statuses."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = import_module(f"widetrail.cli.{cmd_name}").command
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        from widetrail.findings import did_you_mean

        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            hint = did_you_mean(args[0], COMMANDS)
            ctx.fail(f'command not found: "{args[0]}". {hint or "See widetrail --help."}')
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))

    def invoke(self, ctx: click.Context) -> object:
        if (bounded := sys.modules.get("widetrail.formats.parser_process")) is not None:
            bounded.renew()  # another command in this process
        try:
            return super().invoke(ctx)
        except WideTrailError as error:
            import traceback

            from widetrail.cli.output import show_error

            show_error(error, as_json=bool(ctx.meta.get("widetrail.json")))
            if manner().verbose:
                traceback.print_exc()
            ctx.exit(error.status)


@click.group(
    cls=_Commands,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Exit status: 0 all well; 1 it ran and found something wrong; 2 the call or its input "
    "could not be used; 3 nothing can go on without a person, another machine or consent.",
)
@click.option(
    "--color",
    type=click.Choice(get_args(Color)),
    default="auto",
    help="Colour the output; auto does on a terminal, unless NO_COLOR is set.",
)
@click.option("--quiet", is_flag=True, help="Show no progress, only results and errors.")
@click.option(
    "--verbose", is_flag=True, help="Show each step of a walk, and the origin of an error."
)
@click.option(
    "--log",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Append all that is shown to this file too, with times, for support.",
)
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=lambda ctx, _, wanted: _show_version(ctx) if wanted else None,
    help="Show the version, and what is optional and present.",
)
@click.pass_context
def main(
    ctx: click.Context,
    color: Color,
    quiet: bool,
    verbose: bool,
    log: Path | None,
) -> None:
    """Write, rehearse and walk recipes that move programs to a new computer."""
    set_manner(ctx, color, log, quiet=quiet, verbose=verbose)


SELDOM = 100_000
"""New objects between two searches for those that only refer to each other: at the usual 700, a
tenth of a short command is spent on finding none."""


def start() -> None:
    """Run the command line as a program of its own."""
    gc.set_threshold(SELDOM)
    start_without_plugins()
    for stream in (sys.stdout, sys.stderr):  # a pipe of cp1252 or ASCII holds not every name
        if isinstance(stream, TextIOWrapper) and lookup(stream.encoding).name != "utf-8":
            stream.reconfigure(errors="backslashreplace")
    try:
        main()
    finally:
        gc.freeze()  # what is left goes with the process, nobody needs to search it


OPTIONAL = {
    "distributed": "rehearsals on many computers",
    "pandas": "surveys and histories as tables",
    "pytest": "rehearsals in a test run",
}
"""The packages that are used where they are there, and what for."""


def _show_version(ctx: click.Context) -> None:
    from importlib.metadata import PackageNotFoundError, version

    click.echo(f"widetrail {__version__}, Python {sys.version.split()[0]} on {sys.platform}")
    for package, use in OPTIONAL.items():
        try:
            found = version(package)
        except PackageNotFoundError:
            found = "not installed"
        click.echo(f"{package} {found} ({use})")
    ctx.exit()
