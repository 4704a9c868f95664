"""Where a recipe says that its program keeps things, platform by platform, for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from widetrail.lazily import dataclass
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.recipe import Recipe
from widetrail.recipe.by_platform import PathChoice, on_platform
from widetrail.recipe.lint.whole import texts_of
from widetrail.recipe.places import Place, Recognition
from widetrail.recipe.readings import For, InForm
from widetrail.recipe.templates import plain
from widetrail.steps.commands import show_command


@dataclass(frozen=True)
class Kept:
    """One case: when it holds, the paths or keys, and what else decides. ``when`` and ``how`` may
    be empty; ``where`` has several where one of them is taken."""

    when: str
    where: tuple[str, ...]
    how: tuple[str, ...]


@dataclass(frozen=True)
class KeptPlace:
    """A place with its cases on each platform, in the order of the sheet's platforms."""

    name: str
    cases: tuple[tuple[Kept, ...], ...]

    @property
    def everywhere(self) -> bool:
        """Whether it is the same on all platforms."""
        return all(one == self.cases[0] for one in self.cases)


def platforms_of(recipe: Recipe) -> tuple[Platform, ...]:
    """Return the platforms on which the program can be recognised."""
    return tuple(p for p in PLATFORMS if any(_signs_on(recipe, p)))


def signs_of(recipe: Recipe, platforms: Sequence[Platform]) -> KeptPlace:
    """Return what shows that the program is there."""
    return KeptPlace("", tuple(tuple(_signs_on(recipe, p)) for p in platforms))


def programs_of(recipe: Recipe, platforms: Sequence[Platform]) -> tuple[KeptPlace, ...]:
    """Return each program that the recipe may start."""
    named = recipe.application.programs.items()
    return tuple(
        KeptPlace(name, tuple(tuple(_program_on(program, p)) for p in platforms))
        for name, program in named
    )


def _program_on(program: PathChoice, platform: Platform) -> Iterator[Kept]:
    path = on_platform(program, platform)
    if path is not None:
        yield Kept("", (plain(path),), ())


def places_of(recipe: Recipe, platforms: Sequence[Platform]) -> tuple[KeptPlace, ...]:
    """Return each place of a recipe."""
    return tuple(
        KeptPlace(name, tuple(tuple(_cases_on(cases, p)) for p in platforms))
        for name, cases in recipe.places.items()
    )


def when(case: For | None, *, platform: bool = False) -> str:
    """Return the condition of a case for people; empty where it always holds.

    ``platform`` has the platform told too, where it is not known from what stands around.
    """
    if case is None:
        return ""
    told = {
        "on {}": PLATFORMS[case.platform].title if platform and case.platform else None,
        "version {}": case.release,
        "edition {}": case.edition,
        "system {}": case.system,
    }
    return ", ".join(words.format(value) for words, value in told.items() if value is not None)


def source_on(read: InForm, platform: Platform | None) -> str:
    """Return where a value stands, for people: which one, and in what."""
    if read.command is not None:
        what = f"the output of {show_command(read.command)}"
    elif platform is None:
        what = " or ".join(dict.fromkeys(plain(text) for text in texts_of(read.where)))
    else:
        what = plain(on_platform(read.where, platform) or "")
    at = getattr(read, "at", None)
    return f"{at} in {what}" if at else what


def _signs_on(recipe: Recipe, platform: Platform) -> Iterator[Kept]:
    for case in recipe.recognise:
        sign = case.sign
        if case.for_ is not None and not case.for_.may_hold_on(platform):
            continue
        if sign.registry is not None and "registry" not in PLATFORMS[platform].stores:
            continue
        if sign.where is not None:
            where = on_platform(sign.where, platform)
        elif sign.prints is not None:
            where = source_on(sign.prints, platform)
        else:
            where = sign.registry or sign.command
        if where is not None:
            how = tuple(_told_of(case, platform))
            yield Kept(when(case.for_), (plain(where) if sign.where else where,), how)


def _told_of(case: Recognition, platform: Platform) -> Iterator[str]:
    if case.release is not None:
        yield f"its version is {source_on(case.release, platform)}"
    if case.edition is not None:
        yield f"its edition is {source_on(case.edition, platform)}"


def _cases_on(cases: Sequence[Place], platform: Platform) -> Iterator[Kept]:
    """Give the cases of a place that may hold on a platform, up to the first that always does."""
    for case in cases:
        if case.for_ is not None and not case.for_.may_hold_on(platform):
            continue
        where = tuple(_paths(case, platform))
        if where:
            yield Kept(when(case.for_), where, tuple(_how(case, platform)))
        if where and not when(case.for_):
            return


def _paths(case: Place, platform: Platform) -> Iterator[str]:
    for told in (case.folder, case.file, *case.first_of, case.each):
        path = on_platform(told, platform) if told is not None else None
        if path is not None:
            yield plain(path)
    if "registry" in PLATFORMS[platform].stores:
        yield from (key for key in (case.key, case.value) if key is not None)
    if "dconf" in PLATFORMS[platform].stores and case.dconf is not None:
        yield case.dconf
    for listed in (case.index, case.listed_in):
        if listed is not None:
            yield source_on(listed, platform)


def _how(case: Place, platform: Platform) -> Iterator[str]:
    if case.set_in is not None:
        yield f"unless the program's settings say otherwise: {source_on(case.set_in, platform)}"
    if case.follows is not None:
        yield f"the one at the same place in the list as was taken for {case.follows}"
    elif case.first_of:
        yield "the first of these that is there"
    if case.otherwise is not None:
        yield f"where none is there: {plain(on_platform(case.otherwise, platform) or '')}"
    if case.each is not None:
        yield "each one that is there"
    if case.index is not None or case.listed_in is not None:
        yield "each one that the program lists there"
    if case.contains:
        yield f"only with {' and '.join(case.contains)} in it"
    if case.in_use is not None:
        yield f"the one in use is told by {source_on(case.in_use, platform)}"
