"""How a trace is shown in the terminal."""

from __future__ import annotations

from collections.abc import Iterator
from importlib.util import find_spec

from widetrail.cli.output import Page
from widetrail.errors import InputUnusable
from widetrail.formats.quantities import show_count, show_size
from widetrail.machine import Machine
from widetrail.tracing import Trace
from widetrail.tracing.classes import TAKEN, Classes, Group, told
from widetrail.tracing.parts import shown
from widetrail.tracing.record import Acted, Part

VALUES = 8
"""Values that are shown, unless all are asked for."""

SHOWN = 30
"""Lines of groups that are shown, unless all are asked for."""


VALUE = 60
"""Characters of a value that are listed."""


def insist_on(package: str) -> None:
    """Raise where an optional package is missing that traces need.

    Raises:
        InputUnusable: It is not installed.
    """
    if find_spec(package) is None:
        raise InputUnusable(
            "an optional package is not installed",
            where=package,
            todo='Install what traces need: pip install "widetrail[trace]".',
        )


def show_trace(trace: Trace, machine: Machine, *, every: bool) -> None:
    """Print what a trace found."""
    page = Page()
    groups = Classes(trace, machine).groups
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
    _show_acts(page, trace, every=every)
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


def _show_acts(page: Page, trace: Trace, *, every: bool) -> None:
    told = [(acted.did, line) for acted in trace.acted for line in _changes(acted)]
    if not told:
        return
    page.title("What was changed")
    last = ""
    for did, line in told if every else told[:VALUES]:
        if did != last:
            page.line(did, indent=2)
            last = did
        page.line(line, "dim", indent=4)
    if not every and len(told) > VALUES:
        page.line(f"and {len(told) - VALUES} more: --all lists them", indent=2)


def _changes(acted: Acted) -> Iterator[str]:
    for old, new, count in acted.renamed:
        many = f", with {show_count(count, 'file')}" if count > 1 else ""
        yield f"{old} is called {new} now{many}"
    for touch in acted.changed:
        for value in touch.values:
            where = shown(Part(touch.path, value.form, value.at))
            was, now = (_short(text) for text in (value.before, value.after))
            yield f"{where}: {was}, then {now}"


def _short(text: str | None) -> str:
    if text is None:
        return "nothing"
    return f'"{text}"' if len(text) <= VALUE else f'"{text[:VALUE]}…"'


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
