"""``widetrail trace``: watch what a program touches, and find out by experiment what matters."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.cli.trace_drift import drift
from widetrail.errors import InputUnusable
from widetrail.formats.quantities import show_count, show_size
from widetrail.library.recipes import load_recipe
from widetrail.machine import FolderMachine
from widetrail.rehearsing.stage import machines_near
from widetrail.tracing import SUFFIX, Trace, load_script, load_trace, run_trace
from widetrail.tracing.classes import TAKEN, Classes, Group, told
from widetrail.tracing.parts import shown

if TYPE_CHECKING:
    from widetrail.tracing.proving import Proofs

PATH = click.Path(path_type=Path)
RECORD = ".traced.json"
VALUES = 8
"""Values that are shown, unless all are asked for."""

SHOWN = 30
"""Lines of groups that are shown, unless all are asked for."""

machines_option = click.option(
    "--machines",
    type=PATH,
    help="The folder that holds the machines; else one called machines beside or above.",
)


@click.group("trace", no_args_is_help=True)
def command() -> None:
    """Watch what a program touches, find out what of it matters, and draft a recipe from that."""


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
    wanted = load_script(script)
    to = record or script.with_name(script.name.removesuffix(SUFFIX) + RECORD)
    folder = machines or machines_near(script)
    page = Page(to_errors=True)
    trace = run_trace(wanted, folder, (lambda text: None) if as_json else page.line)
    to.write_text(json.dumps(trace.as_json(), indent=1) + "\n", encoding="utf-8")
    if as_json:
        print_json(_json(trace, folder))
        return
    _show(trace, folder, every=False)
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
    trace = load_trace(record)
    folder = machines or machines_near(record)
    if page is not None:
        from widetrail.reporting.trace_page import render_trace

        classes = Classes(trace, _machine(trace, folder))
        with _extra():
            page.write_text(render_trace(trace, classes), encoding="utf-8")
    if as_json:
        print_json(_json(trace, folder))
    else:
        _show(trace, folder, every=every)


@command.command("draft")
@click.argument("record", type=PATH)
@click.argument("folder", type=PATH)
@machines_option
@click.option("--name", default="", help="What the program is called.")
@click.option("--maker", default="", help="Who makes it.")
@click.option("--id", "app", default="", help="Its id: small letters, digits and -.")
@json_option
def draft(
    record: Path,
    folder: Path,
    machines: Path | None,
    name: str,
    maker: str,
    app: str,
    as_json: bool,
) -> None:
    """Draft a recipe from RECORD into FOLDER, with a rehearsal and its machines; rehearse it.

    Ends with 1 where the draft does not pass its rehearsal.
    """
    from widetrail.library.rehearsals import rehearse
    from widetrail.tracing.drafting import Draft
    from widetrail.tracing.naming import Naming, usual_naming

    trace = load_trace(record)
    usual = usual_naming(trace)
    naming = Naming(app or usual.id, name or usual.name, maker or usual.maker)
    drafting = Draft(trace, _machine(trace, machines or machines_near(record)), naming)
    made = drafting.write(folder)
    page_at = _evidence(trace, drafting.classes, made.recipe.with_name(f"{naming.id}.trace.html"))
    ran = rehearse([made.rehearsal])
    troubles = [
        f"{d.what}: expected {d.expected}, is {d.found}"
        for result in ran.results
        for d in result.differences
    ]
    troubles += [finding.message for finding in ran.findings]
    if as_json:
        print_json(
            {
                "recipe": str(made.recipe),
                "rehearsal": str(made.rehearsal),
                "machines": [str(made.old), str(made.new)],
                "page": str(page_at or ""),
                "questions": list(made.questions),
                "passed": ran.passed,
                "differences": troubles,
            }
        )
    else:
        page = Page()
        page.line(f"recipe     {made.recipe}")
        page.line(f"rehearsal  {made.rehearsal}: {'it passes' if ran.passed else 'it fails'}")
        page.line(f"machines   {made.old} and {made.new}")
        page.line(f"evidence   {page_at or 'no page, since Matplotlib is not installed'}")
        for title, lines in (
            ("Differences and findings", troubles),
            ("Open questions", made.questions),
        ):
            if lines:
                page.title(title)
            for line in lines:
                page.line(f"- {line}", indent=2)
    if not ran.passed:
        click.get_current_context().exit(1)


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


@contextmanager
def _extra() -> Iterator[None]:
    """Tell which package is not installed, where one is needed.

    Raises:
        InputUnusable: One is not there.
    """
    try:
        yield
    except ModuleNotFoundError as error:
        raise InputUnusable(
            "an optional package is not installed",
            where=error.name or "",
            todo='Install what traces need: pip install "widetrail[trace]".',
        ) from error


def _machine(trace: Trace, folder: Path) -> FolderMachine:
    if not (folder / trace.machine).is_dir():
        raise InputUnusable("machine not found", where=str(folder / trace.machine))
    return FolderMachine(folder / trace.machine)


def _json(trace: Trace, folder: Path) -> dict[str, object]:
    with _extra():
        groups = Classes(trace, _machine(trace, folder)).groups
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


def _show(trace: Trace, folder: Path, *, every: bool) -> None:
    page = Page()
    with _extra():
        groups = Classes(trace, _machine(trace, folder)).groups
    acts = sum(run.kind == "act" for run in trace.runs)
    page.title(f"{trace.title}: {trace.program}")
    page.line(
        f"{show_count(len(trace.runs), 'run')} ({show_count(acts, 'act')}), "
        f"{show_count(trace.experiments, 'start')} in all; seen by {', '.join(trace.eyes)}",
        indent=2,
    )
    for why in trace.blind:
        page.line(f"Not seen by system calls or access times: {why}", "yellow", indent=2)
    if trace.unstable:
        page.line(f"What is printed by chance is not compared: {trace.unstable[0]}", indent=2)
    for title, wanted in (("To be taken", True), ("To be left", False)):
        mine = [group for group in groups if (group.kind in TAKEN) == wanted]
        if mine:
            page.title(title)
            _show_groups(page, mine, every=every)
    _show_places(page, trace)
    settings = {path for g in groups if g.kind in ("setting", "index") for path in g.paths}
    _show_values(page, trace, settings, every=every)


def _show_groups(page: Page, groups: list[Group], *, every: bool) -> None:
    listed = groups if every else groups[:SHOWN]
    for group in listed:
        many = f"{show_count(len(group.paths), 'file')}, " if len(group.paths) > 1 else ""
        page.line(f"{group.kind:9}  {group.pattern}  ({many}{show_size(group.size)})", indent=2)
        page.line(group.why, "dim", indent=13)
    if len(groups) > len(listed):
        page.line(f"and {len(groups) - len(listed)} more: --all lists them", indent=2)


def _show_places(page: Page, trace: Trace) -> None:
    proved = [tells for tells in trace.tells if tells.proved != "no"]
    if not proved:
        return
    page.title("Where places are told")
    for tells in proved:
        page.line(f"{tells.place}", indent=2)
        page.line(f"told by {shown(tells.value)}", indent=4)
        if tells.proved == "whole":
            page.line("moved, and told there: the program shows the same", "dim", indent=4)
        else:
            page.line("moved, and told there: more is shown, other files name it too", "dim", 4)


def _show_values(page: Page, trace: Trace, settings: set[str], *, every: bool) -> None:
    values = [one for one in trace.shows if one.needed and not one.part.is_file]
    values = [v for v in values if v.part.path in settings or v.part.form in ("registry", "dconf")]
    if not values:
        return
    page.title("Values that the program shows")
    listed = values if every else values[:VALUES]
    for one in listed:
        page.line(f"{shown(one.part)}", indent=2)
        page.line(f"without it, it shows {told(one)}", "dim", indent=4)
    if len(values) > len(listed):
        page.line(f"and {len(values) - len(listed)} more: --all lists them", indent=2)
