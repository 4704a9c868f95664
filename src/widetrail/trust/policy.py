"""What an organisation allows recipes to do: a file that recipes are held against."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Annotated, Literal, NamedTuple

from pydantic import BeforeValidator, Field, model_validator

from widetrail.findings import Finding
from widetrail.formats.documents import Model, YesNo, load
from widetrail.formats.flaws import flaw
from widetrail.recipe import Loaded
from widetrail.recipe.conditions import Words, one_or_many
from widetrail.trust.permissions import COMPUTERS, MAY_DO, Permission, permissions_of

Never = Literal["removes", "start-up", "access", "secret", "network"]


class PolicyFile(Model):
    """What stands in ``policy.yaml``.

    ``programs`` are those that may be started, ``folders`` what may be written or removed, folders
    and registry keys: each as a recipe writes it, and any where the key is missing. With
    ``told_places: no`` nothing is written or removed that only a program's settings tell. What
    stands under ``never`` no recipe may do. ``owners`` are those who look after recipes, each with
    their ids (``*`` stands for anything); one that nobody has is refused. ``coverage`` is how many
    of a hundred branches rehearsals must have reached, by the ``history`` below its own folder.
    """

    policy: str
    programs: Words | None = None
    folders: Words | None = None
    told_places: YesNo = True
    never: Annotated[tuple[Never, ...], BeforeValidator(one_or_many)] = ()
    owners: Mapping[str, Words] | None = None
    coverage: Annotated[int, Field(ge=0, le=100)] = 0
    history: str = ""

    @model_validator(mode="after")
    def _coverage_is_known(self) -> PolicyFile:
        if self.coverage and not self.history:
            hint = "Name the file that rehearse --coverage --history writes"
            raise flaw("missing-key", "coverage needs a history", hint)
        return self


Rule = Literal["programs", "folders", "told_places", "never"]


class NotAllowed(NamedTuple):
    """A permission of a recipe that a policy does not allow, and the key of it that says so."""

    permission: Permission
    rule: Rule


def load_policy(path: Path) -> PolicyFile:
    """Load a policy.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    return load(PolicyFile, path)


def not_allowed(policy: PolicyFile, loaded: Loaded) -> Iterator[NotAllowed]:
    """Give all that a recipe may do and a policy does not allow, the gravest first."""
    for permission in permissions_of(loaded):
        rule = _against(policy, permission)
        if rule is not None:
            yield NotAllowed(permission, rule)


def findings_of(
    policy: PolicyFile, where: str, loaded: Loaded, covered: int | None
) -> Iterator[Finding]:
    """Give what a policy, whose file is at ``where``, does not allow, as findings of a recipe.

    ``covered`` is how many of a hundred branches of this very recipe rehearsals reached, ``None``
    where that was never measured.
    """

    def finding(what: str, hint: str) -> Finding:
        return Finding(loaded.file, 0, 0, "not-allowed", "", what, hint)

    owned = (fnmatchcase(loaded.id, one) for ids in (policy.owners or {}).values() for one in ids)
    if policy.owners is not None and not any(owned):
        hint = f"{policy.policy} allows it with owners of {where} only"
        yield finding(f"Nobody looks after {loaded.id}: not allowed", hint)
    if covered is None and policy.coverage:
        hint = "Measure it: widetrail rehearse --coverage --history"
        yield finding("How many branches of it are reached was never measured", hint)
    elif covered is not None and covered < policy.coverage:
        hint = "widetrail rehearse --coverage shows which are not"
        yield finding(
            f"{covered} % of its branches are reached; {policy.coverage} % are asked", hint
        )
    for permission, rule in not_allowed(policy, loaded):
        at = COMPUTERS[permission.station]
        what = f"{MAY_DO[permission.kind]} {permission.what} ({at}): not allowed"
        hint = f"{policy.policy} allows it with {rule} of {where} only"
        yield finding(what, hint)


def _against(policy: PolicyFile, permission: Permission) -> Rule | None:
    if permission.kind in policy.never:
        return "never"
    if permission.kind == "starts":
        return None if _is_among(permission.program, policy.programs) else "programs"
    if permission.kind not in ("writes", "removes"):
        return None
    if permission.told:
        return None if policy.told_places else "told_places"
    return None if _is_below(permission.what, policy.folders) else "folders"


def _is_among(what: str, allowed: Words | None) -> bool:
    if allowed is None:
        return True
    return any(fnmatchcase(what, _shown(one)) for one in allowed)


def _is_below(what: str, allowed: Words | None) -> bool:
    below = (pattern for one in allowed or () for pattern in (one, f"{one}/*", f"{one}\\*"))
    return allowed is None or (".." not in what and _is_among(what, tuple(below)))


def _shown(pattern: str) -> str:
    """Return a pattern as permissions are told: braces as marks, ``[`` as itself."""
    return pattern.replace("{", "‹").replace("}", "›").replace("[", "[[]")
