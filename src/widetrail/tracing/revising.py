"""A new revision of a recipe, proposed from drift: what the next release has otherwise, as cases.

What the recipe says of earlier releases stays, after a case for the next one. It is text that is
changed, so comments and layout stay.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from difflib import unified_diff
from pathlib import PurePath

from widetrail.finding import Found, Several, find_application
from widetrail.formats.documents import mark_at
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.recipe import Loaded, examine
from widetrail.steps import KINDS
from widetrail.tracing.drift import Drifted, find_drift

_TEMPLATE = re.compile(r"\b(folder|file): *(\"[^\"]*\"|[^,}\n#]+)")
_QUOTED = r"""(?:[^{}"']|"[^"]*"|'[^']*')*"""
_SET_IN = re.compile(rf"\bset_in: *\{{{_QUOTED}\}}")
_OTHERS = re.compile(r"\b(index|contains|first_of|else|pair|in_use|uses):")
"""Keys of a place that a new case cannot do without, and that are not changed by themselves."""


@dataclass(frozen=True)
class Proposal:
    """A new revision as text, as a diff, and what of the drift it does not mend, with why."""

    text: str
    diff: str
    left: tuple[str, ...]


def propose_revision(
    loaded: Loaded, drifted: Sequence[Drifted], before: FolderMachine, after: FolderMachine
) -> Proposal:
    """Propose a revision that finds things on both machines.

    Places that moved are changed first, then what tells places, then readings: what a change makes
    good needs no other. Where the releases of both machines are not known, or the same, nothing is
    proposed.
    """
    was, now = (find_application(machine, loaded).installation for machine in (before, after))
    releases = [found.release if found is not None else None for found in (was, now)]
    if releases[0] is None or releases[1] is None or not releases[0] < releases[1]:
        told = [str(release) if release is not None else "not known" for release in releases]
        why = f"the release is {told[0]} before and {told[1]} after: a case needs a later one"
        return Proposal(loaded.text, "", (why,))
    condition = f'for: {{platform: {after.platform}, release: ">={releases[1]}"}}'
    current, left = loaded, tuple[str, ...]()
    for stage in _STAGES:
        chosen = [one for one in drifted if stage(one)]
        proposed, left = _with_cases(current, chosen, condition)
        if proposed is not current:
            current = proposed
            drifted = find_drift(current, before, after)
    if current is loaded:
        return Proposal(loaded.text, "", left or _told(drifted))
    text = re.sub(
        r"(?m)^revision: *(\d+)", lambda m: f"revision: {int(m[1]) + 1}", current.text, count=1
    )
    name = PurePath(loaded.file).name
    diff = unified_diff(
        loaded.text.splitlines(), text.splitlines(), name, f"{name} (proposed)", lineterm=""
    )
    return Proposal(text, "\n".join(diff), (*left, *_told(drifted)))


_STAGES: tuple[Callable[[Drifted], bool], ...] = (
    lambda one: one.what == "place-gone" and bool(one.template),
    lambda one: one.what == "place-gone" and bool(one.rule),
    lambda one: one.what == "value-renamed" and bool(one.rule),
)


def _told(drifted: Iterable[Drifted]) -> tuple[str, ...]:
    return tuple(f"{one.what} {one.name}: {one.message}" for one in drifted)


def _with_cases(
    loaded: Loaded, drifted: Sequence[Drifted], condition: str
) -> tuple[Loaded, tuple[str, ...]]:
    """Return a recipe with a case for each that drifted, and what could not be changed, with why;
    the same recipe where nothing could."""
    lines, left = loaded.text.splitlines(), list[str]()
    for one in sorted(drifted, key=lambda d: -_line(loaded, d)):
        if why := _change(lines, _line(loaded, one), one, condition):
            left.append(f"{one.what} {one.name}: {why}")
    text = "\n".join(lines) + "\n"
    if text == loaded.text:
        return loaded, tuple(left)
    proposed, findings = examine(text, loaded.file, KINDS)
    if proposed is None:
        told = (f"a new revision cannot be used: {finding}" for finding in findings)
        return loaded, (*left, *told)
    return proposed, tuple(left)


def items_of(loaded: Loaded, machine: FolderMachine) -> list[str]:
    """Return the items that are there on a machine, as a rehearsal names them."""
    finder, found = find_application(machine, loaded), list[str]()
    for name, item in loaded.recipe.items.items():
        where = finder.place(item.from_)
        if isinstance(where, Several):
            found += [f"{name}[{instance.name}]" for instance in where.instances]
        elif isinstance(where, Found):
            found.append(name)
    return found


def _line(loaded: Loaded, one: Drifted) -> int:
    """Return the line of what drifted, from 1."""
    what = "places" if one.what == "place-gone" else "readings"
    return mark_at(loaded.tree, (what, one.name))[0].line


def _change(lines: list[str], line: int, one: Drifted, condition: str) -> str:
    """Put a case for the next release before what stands there; return why not, if so."""
    head = lines[line - 1]
    indent = len(head) - len(head.lstrip())
    end = line
    while end < len(lines) and _belongs(lines[end], indent):
        end += 1
    while end > line and not lines[end - 1].strip():
        end -= 1
    name, _, inline = head.partition(":")
    body = lines[line:end]
    comment = ""
    if inline.strip().startswith("#"):
        inline, comment = "", f"  {inline.strip()}"
    new = _new_case("\n".join([inline, *body]), one, condition)
    if not new:
        return "it is told in a way that is not changed by itself"
    inner = " " * (indent + 2)
    lines[line - 1 : end] = [f"{name}:{comment}", f"{inner}- {new}", *_as_case(inline, body, inner)]
    return ""


def _belongs(line: str, indent: int) -> bool:
    return not line.strip() or len(line) - len(line.lstrip()) > indent


def _as_case(inline: str, body: Iterable[str], inner: str) -> list[str]:
    """Return what stood there as the cases that follow."""
    told = [line for line in body if line.strip()]
    if inline.strip():
        return [f"{inner}- {inline.strip()}", *told]
    if told and told[0].lstrip().startswith("- "):
        return told
    deeper = ["  " + line for line in told]
    first = next((n for n, line in enumerate(told) if not line.lstrip().startswith("#")), 0)
    deeper[first] = f"{inner}- {told[first].lstrip()}"
    return deeper


def _new_case(told: str, one: Drifted, condition: str) -> str:
    """Return the case for the next release, or nothing where it cannot be told."""
    if one.what == "value-renamed":
        taken_as = re.search(r"\bas: *\w+", told)
        more = f", {taken_as[0]}}}" if taken_as else "}"
        return f"{{{condition}, {one.rule[1:-1]}{more}" if one.rule else ""
    found = _TEMPLATE.search(_SET_IN.sub("", told))
    if found is None or _OTHERS.search(told):
        return ""
    template = f'"{one.template}"' if one.template else found[2].strip()
    set_in = _SET_IN.search(told)
    told_in = f", set_in: {one.rule}" if one.rule else f", {set_in[0]}" if set_in else ""
    return f"{{{condition}, {found[1]}: {template}{told_in}}}"
