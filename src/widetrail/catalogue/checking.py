"""What is wrong with a catalogue as a whole: told without rehearsing anything.

Two recipes of one application or that claim the same files, recipes that nobody looks after, proofs
that are not of what there is now, and reasons and permissions that nobody needs any more.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from itertools import chain
from pathlib import Path

from widetrail.catalogue.catalogue_file import Catalogue
from widetrail.catalogue.overlaps import Claimed, overlaps
from widetrail.errors import DocumentUnusable, WideTrailError
from widetrail.findings import Finding
from widetrail.formats.documents import read_text
from widetrail.formats.quantities import show_count
from widetrail.lazily import dataclass
from widetrail.machine.platforms import PLATFORMS
from widetrail.recipe import SUFFIX, Loaded, examine
from widetrail.recipe.outline import Outline, outline_of
from widetrail.rehearsing import SUFFIX as REHEARSAL
from widetrail.rehearsing.coverage import UNPROVED, branches_of, load_unproved, show_where
from widetrail.rehearsing.history import History, Standing
from widetrail.rehearsing.inputs import INPUT_WORDS, InputDigests
from widetrail.rehearsing.mutations import changes_of
from widetrail.rehearsing.stage import as_plain
from widetrail.rehearsing.tried import Tried, all_tried, by_recipe
from widetrail.steps import KINDS
from widetrail.workers import readers, workers


@dataclass(frozen=True)
class Read:
    """What a check reads of one recipe: where it lies, its application, the platforms it is
    recognised on, what it claims on each, and what is wrong with the reasons beside it."""

    file: str
    id: str
    outlines: Mapping[str, Outline]
    dead: tuple[Finding, ...]

    @property
    def platforms(self) -> tuple[str, ...]:
        """The platforms on which something shows that its application is there."""
        return tuple(name for name, outline in self.outlines.items() if outline.signs)


@dataclass(frozen=True)
class Checked:
    """What a check found: recipes and rehearsals that were read, those that cannot be, and all
    findings."""

    recipes: int
    rehearsals: int
    broken: tuple[WideTrailError, ...]
    findings: tuple[Finding, ...]

    @property
    def is_well(self) -> bool:
        """Whether nothing is wrong: a warning is no fault."""
        return not self.broken and all(one.severity == "warning" for one in self.findings)


def check_all(
    catalogue: Catalogue, history: History | None = None, cache: Path | None = None
) -> Checked:
    """Check a catalogue, with its history where it has one.

    ``cache`` is a folder that keeps what rehearsals try. What cannot be read is told, and the rest
    is checked all the same.
    """
    files = [f for folder in catalogue.recipe_folders for f in sorted(folder.rglob(f"*{SUFFIX}"))]
    broken: list[WideTrailError] = []
    read: list[Read] = []
    with workers(readers(len(files)), at_once=50) as each:
        for one in each(_read, files):
            if isinstance(one, WideTrailError):
                broken.append(one)
            else:
                read.append(one)
    digests = InputDigests(catalogue.machines)
    named = [f for d in catalogue.recipe_folders for f in sorted(d.rglob(f"*{REHEARSAL}"))]
    engine = digests.engine if cache is not None else ""
    tried, amiss = all_tried(named, cache, engine, digests.know)
    findings = chain(
        _twice(read),
        _unowned(catalogue, read),
        _not_for(catalogue, read),
        _overlapping(catalogue, read),
        _same_names(tried),
        _unproved(read, tried),
        _stale(catalogue, tried, history, digests) if history is not None else (),
        _uncovered(catalogue, read, history) if history is not None else (),
        (finding for one in read for finding in one.dead),
        _of_folders(catalogue),
    )
    return Checked(len(read), len(tried), (*broken, *amiss), tuple(sorted(findings)))


def _read(file: Path) -> Read | WideTrailError:
    try:
        loaded, findings = examine(read_text(file), str(file), KINDS)
        if loaded is None:
            return DocumentUnusable(str(file), findings)
        dead = tuple(_dead_reasons(loaded))
    except WideTrailError as error:
        return error
    outlines = {name: outline_of(loaded.recipe, name) for name in PLATFORMS}
    return Read(str(file), loaded.id, outlines, dead)


def _dead_reasons(loaded: Loaded) -> Iterator[Finding]:
    """Give a finding for each reason of ``NAME.unproved.yaml`` for what the recipe has not."""
    reasons = load_unproved(Path(loaded.file))
    if not reasons:
        return
    branches = {(show_where(one.where), one.name) for one in branches_of(loaded)}
    changes = [(show_where(where), name) for where, name, *_ in changes_of(as_plain(loaded.tree))]
    file = Path(loaded.file)
    beside = file.with_name(file.name.removesuffix(SUFFIX) + UNPROVED)
    for one in reasons:
        is_known = (one.at, one.branch) in branches if one.branch else True
        if one.mutation:
            is_known = any(at == one.at and name.startswith(one.mutation) for at, name in changes)
        if not is_known:
            message = f'the recipe does not have "{one.branch or one.mutation}" ({one.why})'
            hint = "Delete the reason"
            yield Finding(str(beside), 1, 1, "unproved", one.at, message, hint, "warning")


# What recipes are to each other


def _twice(read: Iterable[Read]) -> Iterator[Finding]:
    first: dict[str, str] = {}
    for one in read:
        other = first.setdefault(one.id, one.file)
        if other != one.file:
            message = f'"{one.id}" is also the application of {other}'
            hint = "An application has one recipe"
            yield Finding(one.file, 1, 1, "double-id", "application.id", message, hint)


def _overlapping(catalogue: Catalogue, read: Sequence[Read]) -> Iterator[Finding]:
    files = {one.id: one.file for one in read}
    allowed = {frozenset(one.between): n for n, one in enumerate(catalogue.file.overlaps)}
    needed: set[int] = set()
    told: set[tuple[str, ...]] = set()
    for platform in PLATFORMS:
        claims = [Claimed(one.id, c) for one in read for c in one.outlines[platform].claims]
        for found in overlaps(claims, platform):
            pair = frozenset((found.one.recipe, found.other.recipe))
            items = (f"{found.one.recipe}.{found.one.claim.item}", found.other.recipe)
            if pair in allowed:
                needed.add(allowed[pair])
            elif items not in told:
                told.add(items)
                yield _overlap(files[found.other.recipe], items[0], found.other, found.path)
    for number, one in enumerate(catalogue.file.overlaps):
        if number not in needed:
            message = f"{one.between[0]} and {one.between[1]} do not overlap ({one.why})"
            yield catalogue.finding(
                "dead-excuse", ("overlaps", number), message, "Delete the entry"
            )


def _overlap(file: str, other: str, mine: Claimed, path: str) -> Finding:
    message = f"takes what {other} takes too, such as {path}"
    hint = "Leave it in one of them, or say in catalogue.yaml under overlaps why both may"
    where = f"items.{mine.claim.item}"
    return Finding(file, 1, 1, "recipes-overlap", where, message, hint, "warning")


# Whose they are


def _unowned(catalogue: Catalogue, read: Iterable[Read]) -> Iterator[Finding]:
    file = catalogue.file
    for name, group in file.groups.items():
        if group.owner not in file.owners:
            message = f'"{group.owner}" is not among the owners'
            known = ", ".join(file.owners) or "none"
            yield catalogue.finding(
                "no-owner", ("groups", name, "owner"), message, f"Known: {known}"
            )
    for number, signer in enumerate(file.policy.sign):
        if signer not in file.owners:
            message = f'"{signer}" may sign and is not among the owners'
            yield catalogue.finding("no-owner", ("policy", "sign", number), message, "")
    used: set[str] = set()
    for one in read:
        groups = dict(catalogue.groups_of(one.id))
        used |= groups.keys()
        if not groups:
            message = f'nobody looks after "{one.id}"'
            hint = "Name it in a group of catalogue.yaml"
            yield Finding(one.file, 1, 1, "no-owner", "application.id", message, hint)
    for name in file.groups.keys() - used:
        message = "no recipe is in this group"
        yield catalogue.finding("dead-excuse", ("groups", name), message, "Delete the group")


def _not_for(catalogue: Catalogue, read: Iterable[Read]) -> Iterator[Finding]:
    for one in read:
        for name, group in catalogue.groups_of(one.id):
            lacking = [p for p in group.platforms if p not in one.platforms]
            if lacking:
                message = f"the group {name} is for {', '.join(lacking)}, and nothing shows there"
                message += " that its application is installed"
                hint = "Add a sign for that platform, or say other platforms of the group"
                yield Finding(one.file, 1, 1, "no-platform", "recognise", message, hint)


def _of_folders(catalogue: Catalogue) -> Iterator[Finding]:
    for number, (name, folder) in enumerate(
        zip(catalogue.file.recipes, catalogue.recipe_folders, strict=True)
    ):
        if not folder.is_dir():
            message = f'there is no folder "{name}"'
            yield catalogue.finding("no-folder", ("recipes", number), message, "")


# Their proofs


def _same_names(tried: Iterable[Tried]) -> Iterator[Finding]:
    """A history knows rehearsals by the names of files: two of one name would be one."""
    first: dict[tuple[str, str, str], Path] = {}
    for one in tried:
        other = first.setdefault((one.recipes[0], one.path.name, one.case), one.path)
        if other != one.path:
            message = f"{other} is a rehearsal of that name and recipe too"
            hint = "Rename one: a history knows them by their names"
            yield Finding(str(one.path), 1, 1, "double-name", "", message, hint)


def _unproved(read: Iterable[Read], tried: Iterable[Tried]) -> Iterator[Finding]:
    rehearsed = {file for one in tried for file in one.recipe_files}
    for one in read:
        if Path(one.file) not in rehearsed:
            message = f'no rehearsal tries "{one.id}"'
            hint = "Write one: docs/rehearsals.md"
            yield Finding(one.file, 1, 1, "no-proof", "", message, hint)


def _stale(
    catalogue: Catalogue, tried: Iterable[Tried], history: History, digests: InputDigests
) -> Iterator[Finding]:
    """Give a finding for each recipe of which rehearsals prove nothing of what there is now."""
    days = catalogue.file.policy.proof_days
    oldest = "" if days is None else (datetime.now(UTC) - timedelta(days=days)).isoformat()
    for file, mine in by_recipe(tried).items():
        told: Counter[str] = Counter()
        for one in mine:
            standing = history.standing(digests.of(one))
            if standing.why:
                told[_why_stale(standing)] += 1
            elif standing.passed < oldest:
                told[f"passed more than {days} days ago"] += 1
        if told:
            counts = ", ".join(f"{count} {why}" for why, count in told.most_common())
            message = f"of {show_count(len(mine), 'rehearsal')}: {counts}"
            hint = "widetrail rehearse --changed runs them"
            yield Finding(str(file), 1, 1, "stale-proof", "", message, hint, "warning")


def _why_stale(standing: Standing) -> str:
    if "never" in standing.why:
        return "never run"
    if "failed" in standing.why:
        return "failed last"
    changed = [words for what, words in INPUT_WORDS.items() if what in standing.why]
    return f"passed before {' and '.join(changed)} changed"


def _uncovered(catalogue: Catalogue, read: Iterable[Read], history: History) -> Iterator[Finding]:
    wanted = catalogue.file.policy.coverage
    last = {row["recipe"]: row for row in history.whole("covered")} if wanted else {}
    for one in read if wanted else ():
        row = last.get(one.id)
        if row is None:
            message = "how many of its branches are reached was never measured"
            hint = "Measure it: widetrail rehearse --coverage --history"
            yield Finding(one.file, 1, 1, "coverage", "", message, hint, "warning")
            continue
        percent = 100 * row["reached"] // max(1, row["wanted"])
        if percent < wanted:
            message = f"{percent} % of its branches are reached; {wanted} % are asked"
            hint = "widetrail rehearse --coverage shows which are not"
            yield Finding(one.file, 1, 1, "coverage", "", message, hint)
