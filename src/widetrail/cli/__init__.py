"""The command line: it parses, calls one core function, renders, and sets the exit status.

Commands are imported when they run, so that ``widetrail --help`` stays instant.
"""

from __future__ import annotations

import sys
from importlib import import_module

import click

from widetrail import __version__
from widetrail.errors import WideTrailError

COMMANDS = {
    "demo": "Run the whole trail on the demo world.",
    "new": "Begin a recipe, with a rehearsal that passes and its machines.",
    "lint": "Judge recipes without looking at a machine.",
    "survey": "Tell what of the recipes' applications is on a machine.",
    "card": "Write the facts of a machine, to plan with where it is out of reach.",
    "plan": "Set out: write a parcel with the plan of a move.",
    "walk": "Do the leg that is due on this machine.",
    "undo": "Give back on this machine what was there before a move.",
    "settle": "Accept a move: what was kept of before it goes.",
    "report": "Tell what became of the move that a parcel is for.",
    "seat": "Tell where the seats of licences are, and move them another way.",
    "rehearse": "Try recipes out on copies of machines.",
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
            ctx.fail(f'no such command "{args[0]}". {hint or "See widetrail --help."}')
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
            from widetrail.cli.output import show_error

            show_error(error, as_json=bool(ctx.meta.get("widetrail.json")))
            ctx.exit(error.status)


@click.group(
    cls=_Commands,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Exit status: 0 all well; 1 it ran and found something wrong; 2 the call or its input "
    "could not be used; 3 nothing can go on without a person, another machine or consent.",
)
@click.version_option(__version__, prog_name="widetrail")
def main() -> None:
    """Write, rehearse and walk recipes that move programs to a new computer."""
