"""Recognising an application on a machine: a value, of which places and readings then follow."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from widetrail.errors import MachineUnusable
from widetrail.finding.finder import Finder
from widetrail.finding.globbing import has_glob, kind_at, matching
from widetrail.finding.values import Installation, Known, Recognised, Said, Unknown
from widetrail.formats import Unreadable
from widetrail.machine import Machine
from widetrail.recipe import Loaded, Reading
from widetrail.recipe.decisions import Decisions
from widetrail.recipe.places import Sign
from widetrail.recipe.releases import Release, parse_release
from widetrail.recipe.text_types import is_command


def find_application(
    machine: Machine,
    loaded: Loaded,
    *,
    ask_programs: bool = False,
    lenders: Mapping[str, Finder] | None = None,
    pinned: Mapping[str, str] | None = None,
    decisions: Decisions | None = None,
    said: Said | None = None,
) -> Finder:
    """Recognise the application of a recipe; return a finder of its things.

    ``lenders`` are the finders of other recipes by their ids: those that this one uses lend it
    their places. ``pinned`` are the paths of places that were found before. ``decisions``
    keeps what is decided by the recipe's rules, and ``said`` is what a person said of places.
    """
    used = {i: f for i, f in (lenders or {}).items() if i in loaded.recipe.relies_on}
    stranger = Finder(
        machine,
        loaded,
        lenders={i.replace("-", "_"): f for i, f in used.items()},
        pinned=dict(pinned or {}),
        decisions=decisions,
        by_person=said or Said(),
        ask_programs=ask_programs,
    )
    return replace(stranger, recognised=recognise(stranger))


def recognise(stranger: Finder) -> Recognised:
    """Return every installation that the first matching case finds, in the order of signs.

    ``stranger`` is a finder of a machine on which nothing was recognised.
    """
    for number, case in enumerate(stranger.loaded.recipe.recognise):
        if not stranger.holds(case.for_):
            continue
        found = []
        for sign in _signs(stranger, case.sign):
            bare = Installation(number, sign, None, "")
            here = replace(stranger, recognised=Recognised((bare,)))
            unknown: list[str] = []
            release = _release(here, case.release, unknown)
            edition = _edition(here, case.edition, unknown)
            found.append(Installation(number, sign, release, edition, tuple(unknown)))
        if found:
            stranger.decide(case, "taken")
            return Recognised(tuple(found))
    return Recognised()


def why_not_here(here: Finder) -> tuple[str, ...]:
    """Return what was looked for of an application that was not recognised, and was not found."""
    cases = [case for case in here.loaded.recipe.recognise if here.holds(case.for_)]
    if not cases:
        return (f"the recipe does not say what shows it on {here.machine.platform}",)
    return tuple(_missing(here, case.sign) for case in cases)


def _missing(here: Finder, sign: Sign) -> str:
    if sign.prints is not None:
        return str(here.take(sign.prints))
    if sign.registry is not None:
        view = f" ({sign.view} bit)" if sign.view else ""
        return f"registry key not found: {sign.registry}{view}"
    if sign.command is not None and is_command(sign.command):
        return f"command not found: {sign.command}"
    path = here.program_at(sign.command) if sign.command is not None else here.choice(sign.where)
    if path is None:
        return here.why_not(sign.where)
    what = "file" if sign.folder is None else "folder"
    return f"{what} not found: {path}"


def _signs(here: Finder, sign: Sign) -> list[str]:
    if sign.prints is not None:
        name = (sign.prints.command or ("",))[0]
        return [here.programs()[name]] if isinstance(here.take(sign.prints), Known) else []
    if sign.registry is not None:
        try:
            key = here.machine.registry.key(sign.registry, sign.view or "64")
        except Unreadable:
            return []
        return [sign.registry] if key is not None else []
    if sign.command is not None:
        path = here.program_at(sign.command)
        return [path] if path is not None and kind_at(here.machine, path) is not None else []
    path = here.choice(sign.where)
    wanted = "file" if sign.file is not None else "folder"
    if path is None:
        return []
    if not has_glob(path):
        return [path] if kind_at(here.machine, path) == wanted else []
    try:
        return [p for p, entry in matching(here.machine, path) if entry.kind == wanted]
    except MachineUnusable:
        return []


def _release(here: Finder, reading: Reading | None, unknown: list[str]) -> Release | None:
    if reading is None:
        return None
    answer = here.take(reading)
    release = parse_release(str(answer.value)) if isinstance(answer, Known) else None
    if release is None:
        reason = answer.reason if isinstance(answer, Unknown) else f'"{answer}" is not a version'
        unknown.append(f"release: {reason}")
    return release


def _edition(here: Finder, reading: Reading | None, unknown: list[str]) -> str:
    if reading is None:
        return ""
    answer = here.take(reading)
    if isinstance(answer, Unknown):
        unknown.append(f"edition: {answer.reason}")
        return ""
    return str(answer.value)
