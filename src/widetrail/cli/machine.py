"""``widetrail machine``: look at machine folders, run their programs, save and compare them."""

from __future__ import annotations

import sys
from functools import cache
from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.errors import InputUnusable
from widetrail.formats.quantities import show_count, show_size
from widetrail.library.folder_machines import (
    add_program,
    machine_differences,
    restore_machine,
    save_machine,
    saved_states,
    share_machine,
    unshare_machine,
)
from widetrail.machine import Channels, FolderMachine
from widetrail.machine.packages import installed_version
from widetrail.machine.paths import base

PATH = click.Path(path_type=Path)
SIGNS = {"added": "+", "removed": "-", "changed": "~"}


@click.group("machine", no_args_is_help=True)
def command() -> None:
    """Look at machine folders, run their programs, save and compare them."""


@command.command("show")
@click.argument("folder", type=PATH)
@json_option
def show(folder: Path, as_json: bool) -> None:
    """Show what computer FOLDER plays: its account, disks, programs and saved states."""
    machine, saved = FolderMachine(folder), saved_states(folder)
    told = {
        "name": machine.name,
        "platform": machine.platform,
        "system": machine.system,
        "account": machine.user,
        "home": machine.root("home"),
        "disks": list(machine.disks()),
        "programs": [
            {"path": one.path, "package": one.package, "version": one.version}
            for one in machine.file.programs
        ],
        "isolated": not machine.not_isolated,
        "why not isolated": machine.not_isolated,
        "saved": list(saved),
    }
    if as_json:
        print_json(told)
        return
    page = Page()
    page.title(f"{machine.name}: {machine.platform} {machine.system}")
    page.line(f"Account   {machine.user}, at home in {machine.root('home')}", indent=2)
    page.line(f"Disks     {', '.join(machine.disks())}", indent=2)
    page.line(f"Programs  {_isolation(machine)}", indent=2)
    for program in machine.file.programs:
        page.line(f"- {program.path}{_package(program.package, program.version)}", indent=4)
    if saved:
        page.line(f"Saved     {', '.join(saved)}", indent=2)


def _isolation(machine: FolderMachine) -> str:
    if not machine.file.programs:
        return "none"
    if not machine.not_isolated:
        return "started in isolation: they see this machine, and of this computer only /usr"
    return f"started without isolation, since {machine.not_isolated}"


@cache
def _package(package: str, version: str) -> str:
    if not package:
        return ""
    now = installed_version(package)
    if now == version:
        return f"  ({package} {version})"
    here = f"{now} is installed here" if now else "it is not installed here"
    return f"  ({package} {version}; {here})"


@command.command(
    "run", context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False}
)
@click.argument("folder", type=PATH)
@click.argument("program")
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
@click.option("--stdin", is_flag=True, help="Give it the standard input, read to its end first.")
@click.pass_context
def run(
    ctx: click.Context, folder: Path, program: str, arguments: tuple[str, ...], stdin: bool
) -> None:
    """Run PROGRAM of the machine in FOLDER, by its name or path, with ARGUMENTS.

    The exit status is the program's. At a terminal it has the terminal, where the machine is
    isolated. Options stand before FOLDER.
    """
    machine = FolderMachine(folder)
    found = _installed(machine, program)
    if sys.stdin.isatty() and sys.stdout.isatty() and not machine.not_isolated:
        ctx.exit(machine.attend(found, arguments))
    given = sys.stdin.buffer.read() if stdin else b""
    done = machine.start(found, arguments, seconds=3600, channels=Channels(given))
    click.echo(done.printed, nl=False)
    click.echo(done.errors, nl=False, err=True)
    ctx.exit(done.status if done.status >= 0 else 128 - done.status)


def _installed(machine: FolderMachine, wanted: str) -> str:
    """Return the path of a program that is installed, by its name or path."""
    known = {name: p.path for p in machine.file.programs for name in (p.path, base(p.path))}
    if wanted not in known:
        there = ", ".join(base(p.path) for p in machine.file.programs) or "none"
        todo = f"Available: {there}. widetrail machine add-program registers one."
        raise InputUnusable("program not found", where=wanted, todo=todo)
    return known[wanted]


@command.command("shell")
@click.argument("folder", type=PATH)
@click.pass_context
def shell(ctx: click.Context, folder: Path) -> None:
    """Open a shell on the machine in FOLDER, in isolation.

    It sees the machine's disks where they belong, and of this computer only /usr.
    """
    machine = FolderMachine(folder)
    if machine.not_isolated:
        raise InputUnusable(
            "a shell needs isolation",
            where=str(folder),
            why=machine.not_isolated,
            todo="Say isolated: yes in machine.yaml, and install bubblewrap.",
        )
    ctx.exit(machine.attend("", ("-i", "+m")))


@command.command("add-program")
@click.argument("folder", type=PATH)
@click.argument("package")
@json_option
def add(folder: Path, package: str, as_json: bool) -> None:
    """Register the programs of the Debian PACKAGE that is installed here in machine.yaml."""
    added = add_program(folder, package)
    if as_json:
        print_json([one.model_dump(mode="json") for one in added])
        return
    page = Page()
    for one in added:
        page.line(f"added {one.path} ({one.package} {one.version})")
    if not added:
        page.line(f"the programs of {package} are registered already")


@command.command("save")
@click.argument("folder", type=PATH)
@click.argument("name")
def save(folder: Path, name: str) -> None:
    """Save the state of the machine in FOLDER as NAME, to come back to it."""
    Page().line(f"saved in {save_machine(folder, name)}")


@command.command("restore")
@click.argument("folder", type=PATH)
@click.argument("name")
def restore(folder: Path, name: str) -> None:
    """Make the machine in FOLDER what it was when NAME was saved; what it is now is lost."""
    restore_machine(folder, name)
    Page().line(f"{folder} is what it was when {name} was saved")


@command.command("share")
@click.argument("folders", nargs=-1, required=True, type=PATH)
@click.option("--base", type=PATH, help="A machine stored so; only what differs is listed.")
def share(folders: tuple[Path, ...], base: Path | None) -> None:
    """Store the files of the machines in FOLDERS by content, once for all machines beside them.

    They can be rehearsed on as before; unshare brings their files back.
    """
    page = Page()
    for folder in folders:
        added = share_machine(folder, base)
        page.line(f"{folder} is stored by content; {show_size(added)} were not there yet")


@command.command("unshare")
@click.argument("folders", nargs=-1, required=True, type=PATH)
def unshare(folders: tuple[Path, ...]) -> None:
    """Bring the files of the machines in FOLDERS back, which were stored by content."""
    page = Page()
    for folder in folders:
        freed = unshare_machine(folder)
        page.line(f"{folder} has its files again; {show_size(freed)} are stored no more")


@command.command("diff")
@click.argument("one", type=PATH)
@click.argument("other", type=PATH)
@click.option("--lines", "with_lines", is_flag=True, help="Show the lines of texts that differ.")
@json_option
def diff(one: Path, other: Path, with_lines: bool, as_json: bool) -> None:
    """Show which files the machines in ONE and OTHER do not have alike.

    Either may be a saved state: .saved/MACHINE/NAME beside the machine's folder.
    """
    found = machine_differences(one, other)
    if as_json:
        print_json([vars(difference) for difference in found])
        return
    page = Page()
    for difference in found:
        size = "" if difference.change == "removed" else f"  {show_size(difference.size)}"
        page.columns(f"{SIGNS[difference.change]} {difference.path}{size}")
        for line in difference.lines if with_lines else ():
            page.columns(line, indent=4)
    page.line(show_count(len(found), "difference") if found else "no differences")
