"""Lint rules of common sense about a move: what goes wrong on another computer, or with time."""

from __future__ import annotations

import re
from collections.abc import Iterator

from widetrail.formats.documents import Where
from widetrail.recipe.globs import Globs
from widetrail.recipe.items import Item
from widetrail.recipe.lint.rule import Struck
from widetrail.recipe.lint.whole import SomeStep, Whole, texts_of
from widetrail.recipe.places import Place
from widetrail.recipe.routes import Route
from widetrail.recipe.templates import braces

_ANY = "\u2e3b"
"""What stands for any name in a glob: no one calls a file so."""

_FIXED = re.compile(r"(?:^|[=:,;\s\"'])(?:[A-Za-z]:[\\/]|/(?:home|Users|media|mnt|Volumes)/)")
_SECRET = re.compile(r"passw|secret|token|credential|keyring|vault", re.IGNORECASE)

_SHARED_ROOTS = frozenset({"programs", "shared"})
"""Roots of which an account alone may not change everything."""


def shadowed(whole: Whole) -> Iterator[Struck]:
    """Find what an item takes and leaves at once."""
    for name, item in whole.recipe.items.items():
        left = Globs(item.leave, ignore_case=False)
        for number, glob in enumerate(item.take):
            some = re.sub(r"\*\*", f"{_ANY}/{_ANY}", glob)
            some = re.sub(r"\*|\?|\[[^]]*\]", _ANY, some)
            if item.leave and left(some):
                message = f'"{glob}" is taken, and what it stands for is left'
                hint = "What leave names goes out of what take names"
                where: Where = ("items", name, "take", number)
                yield Struck("shadowed", where, message, hint, "warning")


def overlaps(whole: Whole) -> Iterator[Struck]:
    """Find two items that take everything in one folder."""
    taken: dict[str, str] = {}
    for name, item in whole.recipe.items.items():
        cases = whole.recipe.places.get(item.from_, ())
        if item.take or item.values is not None:
            continue
        texts = [text for case in cases for text in texts_of(case.where) if case.key is None]
        other = next((taken[text] for text in texts if text in taken), None)
        if other is not None:
            message = f'"{name}" and "{other}" take all of one place'
            hint = "Say under take which of it is whose"
            yield Struck("overlap", ("items", name, "from"), message, hint, "warning")
        taken |= dict.fromkeys(texts, name)


def may_be_open(whole: Whole) -> Iterator[Struck]:
    """Find databases of which nothing tells whether a program has them open."""
    application = whole.recipe.application
    if application.programs or application.lock:
        return
    for name, item in whole.recipe.items.items():
        for where, reading in whole.readings:
            used = {b.base for text in texts_of(reading.file_read) for b in braces(text)}
            if reading.form == "sqlite" and item.from_ in used:
                message = f"a database is in it, and nothing tells whether {name} is in use"
                hint = f'Name the program under programs, or a lock (see "{where[1]}")'
                yield Struck("may-be-open", ("items", name, "from"), message, hint, "warning")
                break


def paths_left(whole: Whole) -> Iterator[Struck]:
    """Find readings of paths in an item's files that no rule of paths makes right."""
    recipe = whole.recipe
    for name, cases in recipe.readings.items():
        for number, reading in enumerate(cases):
            if reading.as_ != "path" or not reading.in_file or not isinstance(reading.where, str):
                continue
            for item_name, item in recipe.items.items():
                if not reading.where.startswith(f"{{{item.from_}}}") or not item.from_:
                    continue
                done = {(rule.form, rule.at) for rule in item.paths}
                if (reading.form, reading.at or "") not in done:
                    message = (
                        f'"{name}" reads a path in the files of "{item_name}" that stays as it is'
                    )
                    hint = f"Name it under paths of {item_name}"
                    yield Struck("path-left", ("readings", name, number), message, hint, "warning")


def checks_elsewhere(whole: Whole) -> Iterator[Struck]:
    """Find items that are only copied, and of which every check reads something else."""
    recipe = whole.recipe
    for name, item in recipe.items.items():
        known = item.from_ in recipe.places
        if not known or not item.checks or not _only_copied(item):
            continue
        own = _places_in(whole, item.from_)
        telling = [check for check in item.checks if _reads(whole, check, own)]
        if not telling:
            message = f'no check of "{name}" reads anything of it, so none can fail'
            hint = f"Count what is in {{{item.from_}}}"
            yield Struck("idle-checks", ("items", name, "checks"), message, hint, "warning")


def _only_copied(item: Item) -> bool:
    steps = [step for route in item.routes for leg in route.legs for step in leg.steps]
    return bool(steps) and all(step.kind == "copy" for step in steps)


def _places_in(whole: Whole, place: str) -> set[str]:
    """Return a place and those that are told below it, or from it."""
    found, before = {place}, 0
    while len(found) > before:
        before = len(found)
        for where, text in whole.templates:
            if where[0] == "places" and {b.base for b in braces(text)} & found:
                found.add(str(where[1]))
    return found


def _reads(whole: Whole, reading: str, places: set[str]) -> bool:
    for case in whole.recipe.readings.get(reading, ()):
        if case.command is not None or case.file_read is None:
            return True  # a program's output, or a store: nothing says of what
        if any({b.base for b in braces(text)} & places for text in texts_of(case.file_read)):
            return True
    return False


def secrets_left(whole: Whole) -> Iterator[Struck]:
    """Find secrets that an item leaves without a word to the person."""
    if any(item.kind == "secret" for item in whole.recipe.items.values()):
        return  # they travel as an item of their own
    for name, item in whole.recipe.items.items():
        told = bool(item.losses) or any(route.losses for route in item.routes)
        for number, glob in enumerate(item.leave):
            if _SECRET.search(glob) and not told:
                message = f'"{glob}" is left, and nobody is told that it is'
                hint = "Say it under losses, with what to do about it"
                where: Where = ("items", name, "leave", number)
                yield Struck("no-loss", where, message, hint, "warning")


def fixed_paths(whole: Whole) -> Iterator[Struck]:
    """Find texts for programs that hold a path of one computer."""
    for step in whole.steps:
        for text in step.rule.templates():
            if text.role in ("argument", "environment", "input", "written") and _FIXED.search(
                text.text
            ):
                message = "it holds a path of one computer"
                hint = "Begin the path with a root or a place in braces"
                yield Struck("fixed-path", (*step.where, *text.at), message, hint, "warning")


def named_accounts(whole: Whole) -> Iterator[Struck]:
    """Find paths that hold the name of the account that wrote the recipe: no other has them."""
    if not whole.account:
        return
    named = re.compile(rf"(?<![^\W_]){re.escape(whole.account)}(?![^\W_])", re.IGNORECASE)
    globs = [
        (("items", name, key, number), glob)
        for name, item in whole.recipe.items.items()
        for key, some in (("take", item.take), ("leave", item.leave))
        for number, glob in enumerate(some)
    ]
    for where, text in (*whole.templates, *globs):
        if named.search(text):
            message = f'"{whole.account}" is the name of an account, and stands in a path'
            hint = "Have the program's settings tell the path (set_in), or use a glob"
            yield Struck("account-name", where, message, hint, "warning")


def unsaid_changes(whole: Whole) -> Iterator[Struck]:
    """Find commands on new of which the recipe does not say what they change."""
    for step in whole.steps:
        undone = getattr(step.rule, "undo", ())
        said = undone or list(step.rule.places()) or step.rule.may_repeat
        if step.kind == "run" and _on_new(step) and not step.of_licence and not said:
            message = "what this command changes is not said, so it cannot be taken back"
            hint = "Name the places it writes to under changes; if it only looks, say repeat: safe"
            yield Struck("no-changes", step.where, message, hint, "warning")


def _on_new(step: SomeStep) -> bool:
    return "new" in step.where


def needless_administrator(whole: Whole) -> Iterator[Struck]:
    """Find routes that ask for an administrator, and only copy what is the account's."""
    for name, item in whole.recipe.items.items():
        cases = whole.recipe.places.get(item.from_, ())
        if not cases or not _only_copied(item) or not all(_is_own(case) for case in cases):
            continue
        for number, route in enumerate(item.routes):
            for station in ("old", "new"):
                if _asks_for_one(route, station):
                    where: Where = ("items", name, "routes", number, "needs", station)
                    message = "copying what is the account's own needs no administrator"
                    hint = "Leave it out"
                    spot = (*where, "administrator")
                    yield Struck("needless-administrator", spot, message, hint, "warning")


def _asks_for_one(route: Route, station: str) -> bool:
    needs = getattr(route.needs, station)
    return needs is not None and needs.administrator is not None


def _is_own(case: Place) -> bool:
    if case.kind not in ("folder", "file"):
        return False
    roots = {brace.base for text in texts_of(case.where) for brace in braces(text)}
    return bool(roots) and not roots & _SHARED_ROOTS


def start_up(whole: Whole) -> Iterator[Struck]:
    """Find items that put something where programs start by themselves."""
    from widetrail.machine.platforms import PLATFORMS

    starts = {f"{{{root}}}/{name}" for p in PLATFORMS.values() for root, name in p.sensitive.starts}
    for name, item in whole.recipe.items.items():
        for case in whole.recipe.places.get(item.from_, ()):
            texts = [f"{text}/" for text in texts_of(case.where)]
            inside = any(text.startswith(f"{at}/") for text in texts for at in starts)
            if inside or (case.key is not None and _is_start_up(case.key)):
                message = "programs are started from there by themselves"
                hint = "Its person is asked for consent; have the program enter itself instead"
                yield Struck("start-up", ("items", name, "from"), message, hint, "warning")


def _is_start_up(key: str) -> bool:
    from widetrail.machine.sensitive import attention_key  # few recipes name a key

    return attention_key(key) == "start-up"


def one_way(whole: Whole) -> Iterator[Struck]:
    """Find licences by serial that move in one way only: where it fails, nothing else is left."""
    for name, licence in whole.recipe.licences.items():
        if len(licence.routes) == 1 and licence.serial is not None:
            message = "the licence has one route: where that fails, there is no way back"
            hint = "Add a route by a person, such as writing to the maker"
            yield Struck("one-way-licence", ("items", name, "routes"), message, hint, "warning")
