"""``widetrail trace``: watch what a program touches, and find out by experiment what matters."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.cli.trace_draft import show_draft
from widetrail.cli.trace_drift import drift
from widetrail.cli.trace_view import SHOWN, insist_on, show_trace
from widetrail.cli.trace_watch import watch
from widetrail.errors import InputUnusable
from widetrail.formats.quantities import show_count
from widetrail.library.machines import open_machine
from widetrail.library.recipes import load_recipe
from widetrail.machine import FolderMachine, Machine
from widetrail.rehearsing.stage import machines_near
from widetrail.tracing import SUFFIX, Trace, load_script, load_trace, run_trace
from widetrail.tracing.classes import Classes, told

if TYPE_CHECKING:
    from widetrail.tracing.proving import Proofs

PATH = click.Path(path_type=Path)
RECORD = ".traced.json"
machines_option = click.option(
    "--machines",
    type=PATH,
    help="The folder that holds the machines; else one called machines beside or above.",
)


@click.group("trace", no_args_is_help=True)
def command() -> None:
    """Watch what a program touches, find out what of it matters, and draft a recipe from that."""


command.add_command(watch)
command.add_command(drift)


@command.command("run")
@click.argument("script", type=PATH)
@machines_option
@click.option(
    "--to", "record", type=PATH, help=f"The file for what is found; else NAME{RECORD} beside it."
)
@json_option
def run(script: Path, machines: Path | None, record: Path | None, as_json: bool) -> None:
    """Run SCRIPT on copies of its machine, and write down what the program touches.

    The machine itself is never changed. The script's commands are started, many times.
    """
    insist_on("scipy")
    wanted = load_script(script)
    to = record or script.with_name(script.name.removesuffix(SUFFIX) + RECORD)
    folder = machines or machines_near(script)
    page = Page(to_errors=True)
    trace = run_trace(wanted, folder, (lambda text: None) if as_json else page.line)
    to.write_text(json.dumps(trace.as_json(), indent=1) + "\n", encoding="utf-8")
    if as_json:
        print_json(_json(trace, _machine(trace, script, folder)))
        return
    show_trace(trace, _machine(trace, script, folder), every=False)
    Page().line(f"Written to {to}.")


@command.command("show")
@click.argument("record", type=PATH)
@machines_option
@click.option("--all", "every", is_flag=True, help=f"List all of it, not the first {SHOWN} lines.")
@click.option("--page", type=PATH, help="Write it as an HTML page with figures.")
@json_option
def show(
    record: Path, machines: Path | None, every: bool, page: Path | None, as_json: bool
) -> None:
    """Show what RECORD tells: what is data, settings, caches and the rest, and why."""
    insist_on("scipy")
    trace = load_trace(record)
    machine = _seen(trace, record, machines)
    if page is not None:
        from widetrail.reporting.trace_page import render_trace

        classes = Classes(trace, machine)
        insist_on("matplotlib")
        page.write_text(render_trace(trace, classes), encoding="utf-8")
    if as_json:
        print_json(_json(trace, machine))
    else:
        show_trace(trace, machine, every=every)


def _seen(trace: Trace, record: Path, machines: Path | None) -> Machine:
    """Return the machine that a trace was made of, this one where it names none."""
    if not trace.machine:
        return open_machine()
    return _machine(trace, record, machines)


@command.command("draft")
@click.argument("record", type=PATH)
@click.argument("folder", type=PATH)
@machines_option
@click.option(
    "--with",
    "others",
    type=PATH,
    multiple=True,
    help="A record of the same program on another platform; may be repeated.",
)
@click.option("--name", default="", help="What the program is called.")
@click.option("--maker", default="", help="Who makes it.")
@click.option("--id", "app", default="", help="Its id: small letters, digits and -.")
@json_option
def draft(
    record: Path,
    folder: Path,
    machines: Path | None,
    others: tuple[Path, ...],
    name: str,
    maker: str,
    app: str,
    as_json: bool,
) -> None:
    """Draft a recipe from RECORD into FOLDER, with a rehearsal and its machines; rehearse it.

    With records of other platforms it is one recipe for all of them, rehearsed on each and from
    each to each. Ends with 1 where the draft does not pass its rehearsal on a platform.
    """
    from widetrail.tracing.draft_files import write_drafts
    from widetrail.tracing.drafting import Draft
    from widetrail.tracing.naming import Naming, usual_naming

    insist_on("scipy")
    drafts = []
    for one in (record, *others):
        trace = load_trace(one)
        usual = usual_naming(trace)
        naming = Naming(app or usual.id, name or usual.name, maker or usual.maker)
        drafts.append(Draft(trace, _machine(trace, one, machines), naming))
    made = write_drafts(drafts, folder)
    app = drafts[0].naming.id
    pages = [
        _evidence(each.trace, each.classes, folder / f"{app}{which}.trace.html")
        for each in drafts
        for which in (f"-{each.machine.platform}" if others else "",)
    ]
    show_draft(made, [page for page in pages if page is not None], as_json=as_json)


def _evidence(trace: Trace, classes: Classes, to: Path) -> Path | None:
    """Write the page of a trace beside its draft, where Matplotlib is installed."""
    from importlib.util import find_spec

    from widetrail.reporting.trace_page import render_trace

    if find_spec("matplotlib") is None:
        return None
    to.write_text(render_trace(trace, classes), encoding="utf-8")
    return to


@command.command("prove")
@click.argument("recipe", type=PATH)
@click.option("--machine", type=PATH, required=True, help="The machine folder that it is tried on.")
@json_option
def prove(recipe: Path, machine: Path, as_json: bool) -> None:
    """Take away, on copies of a machine, what RECIPE takes and what it leaves, and show what the
    program shows then.

    Ends with 1 where something that the recipe leaves is missed.
    """
    from widetrail.tracing.proving import prove as prove_recipe

    loaded = load_recipe(recipe)
    errors = Page(to_errors=True)
    found = prove_recipe(loaded, machine, (lambda text: None) if as_json else errors.line)
    if as_json:
        print_json({"starts": found.starts, "proofs": [asdict(proof) for proof in found.proofs]})
    else:
        _show_proofs(found, recipe)
    if not found.holds:
        click.get_current_context().exit(1)


def _show_proofs(found: Proofs, recipe: Path) -> None:
    page = Page()
    for title, verdicts in (
        ("Left by the recipe, and missed", ("missed",)),
        ("Taken", ("needed", "silent")),
        ("Left, and made again on the new computer", ("made again",)),
        ("Left, and not missed", ("not missed",)),
    ):
        mine = [proof for proof in found.proofs if proof.verdict in verdicts]
        if mine:
            page.title(title)
        for proof in mine:
            many = f" ({show_count(proof.parts, 'part')})" if proof.parts > 1 else ""
            at = f"{recipe.name}:{proof.line} {proof.item}: " if proof.item else ""
            page.line(f"{proof.verdict:10}  {at}{proof.what}{many}", indent=2)
            if proof.verdict in ("needed", "missed", "made again"):
                page.line(f"without it, the program shows {told(proof)}", "dim", indent=14)
    page.line("")
    needed, silent = len(found.needed), len(found.silent)
    page.line(
        f"{show_count(found.starts, 'start')}; of {needed + silent} parts that are taken {needed} "
        f"are needed, each tried alone; for {silent} the print-out is silent, so nothing is proved"
    )


def _machine(trace: Trace, beside: Path, machines: Path | None) -> FolderMachine:
    """Return the folder machine that a trace was made of, below ``machines`` or near ``beside``.

    Raises:
        InputUnusable: It is not there, or the trace was made of this machine.
    """
    if not trace.machine:
        todo = "Make a folder machine with the same in it, and trace that."
        raise InputUnusable("was made of this machine", where=trace.title, todo=todo)
    folder = (machines or machines_near(beside)) / trace.machine
    if not folder.is_dir():
        raise InputUnusable("machine not found", where=str(folder))
    return FolderMachine(folder)


def _json(trace: Trace, machine: Machine) -> dict[str, object]:
    groups = Classes(trace, machine).groups
    return {
        **trace.as_json(),
        "groups": [
            {
                "pattern": group.pattern,
                "kind": group.kind,
                "why": group.why,
                "paths": list(group.paths),
                "size": group.size,
            }
            for group in groups
        ],
    }
