"""Lint rules of licences: their own names, their readings, texts, exchanges and files."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from widetrail.findings import did_you_mean
from widetrail.formats.documents import Where
from widetrail.recipe.globs import Globs
from widetrail.recipe.licence_models import Licence, LicenceRoute
from widetrail.recipe.lint.rule import Struck
from widetrail.recipe.lint.whole import OF_LICENCES, Whole, texts_of
from widetrail.recipe.models import Recipe
from widetrail.recipe.templates import braces


def licences(whole: Whole) -> Iterator[Struck]:
    """Give the findings of every licence of a recipe that is sound in its parts."""
    recipe = whole.recipe
    if recipe.licences:
        for kind in ("places", "readings", "asks"):
            for name in sorted(OF_LICENCES & getattr(recipe, kind).keys()):
                message = f'"{name}" is a name that licences use'
                yield Struck("name-taken", (kind, name), message, "Use another name")
    for name, licence in recipe.licences.items():
        where: Where = ("items", name)
        yield from _readings(recipe, licence, where)
        yield from _carried(recipe, licence, where)
        for number, route in enumerate(licence.routes):
            yield from _exchange(licence, route, (*where, "routes", number))


def _readings(recipe: Recipe, licence: Licence, where: Where) -> Iterator[Struck]:
    """Find readings that cannot be what they are for, and conditions on readings unknown."""
    active = licence.active
    for number, kept in enumerate(licence.keep):
        if kept not in recipe.readings:
            hint = did_you_mean(kept, recipe.readings)
            yield Struck(
                "unknown-reading", (*where, "keep", number), f'"{kept}" is not a reading', hint
            )
    if licence.serial is None:
        for at, text in _texts(licence, where):
            if "serial" in {b.name for b in braces(text)}:
                message = "the licence has no serial"
                hint = 'Say under "serial" where the program keeps it'
                yield Struck("no-serial", at, message, hint)
    if active.command is not None and active.home != "real":
        message = "the program is asked about its licence in a home that is not the account's"
        yield Struck("licence-home", (*where, "active"), message, "Say home: real", "warning")
    if active.is_ in active.not_:
        message = '"is" and "not" are the same'
        yield Struck("contradiction", (*where, "active", "not"), message)
    losses = [(where, licence.losses)]
    losses += [((*where, "routes", n), r.losses) for n, r in enumerate(licence.routes)]
    for at, listed in losses:
        for number, loss in enumerate(listed):
            for key in ("when", "proof"):
                for reading in getattr(loss, key):
                    if reading not in recipe.readings:
                        spot = (*at, "losses", number, key, reading)
                        hint = did_you_mean(reading, recipe.readings)
                        yield Struck("unknown-reading", spot, f'"{reading}" is not a reading', hint)


def _texts(licence: Licence, where: Where) -> Iterator[tuple[Where, str]]:
    """Give every text in which a licence's steps may name what is put in, with where it stands."""
    for number, route in enumerate(licence.routes):
        for key in ("ready", "free", "claim"):
            for leg_number, leg in enumerate(getattr(route, key)):
                for step_number, step in enumerate(leg.steps):
                    at = (*where, "routes", number, key, leg_number, leg.station, step_number)
                    yield from ((at, one.text) for one in step.rule.templates())


def _exchange(licence: Licence, route: LicenceRoute, where: Where) -> Iterator[Struck]:
    """Find answers that cannot be told from another's, and requests that nothing comes of."""
    for key in ("free", "claim"):
        made, used = set[str](), set[str]()
        for leg in getattr(route, key):
            for step in leg.steps:
                for one in step.rule.templates():
                    if one.role in ("argument", "made"):
                        named = made if one.role == "made" else used
                        named |= {b.name for b in braces(one.text)}
        if "answer" in made and licence.exchange is None:
            message = "an answer to another request cannot be recognised"
            hint = 'Add "exchange": how a request and its answer refer to each other'
            yield Struck("no-exchange", (*where, key), message, hint, "warning")
        for name in sorted({"request", "answer"} & used - made):
            message = f'no step makes "{{{name}}}"'
            hint = f'Say makes: "{{{name}}}" at the step that writes it'
            yield Struck("unmade", (*where, key), message, hint)


def _carried(recipe: Recipe, licence: Licence, where: Where) -> Iterator[Struck]:
    """Find items that would carry the licence's own files: that would be a second licence."""
    read = (("serial", licence.serial), ("active", licence.active))
    listed = [(key, reading.file_read) for key, reading in read if reading is not None]
    for key, choice in (*listed, *(("files", choice) for choice in licence.files)):
        for text in texts_of(choice):
            first, *_ = braces(text)
            rest = text.partition("}/")[2]
            for name, item in recipe.items.items():
                inside = item.from_ == first.name and rest
                taken = not item.take or _named(item.take, rest)
                if inside and taken and not _named(item.leave, rest):
                    message = f'"{name}" would copy {rest}, which holds the licence'
                    hint = f"Name it under leave of {name}"
                    yield Struck("licence-carried", (*where, key), message, hint)


def _named(globs: Iterable[str], path: str) -> bool:
    """Return whether one of ``globs`` matches a path or a folder above it."""
    matches, names = Globs(globs, ignore_case=True), path.split("/")
    return any(matches("/".join(names[: n + 1])) for n in range(len(names)))
