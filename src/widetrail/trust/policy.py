"""What an organisation allows recipes to do: a file that recipes are held against."""

from __future__ import annotations

from collections.abc import Iterator
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Annotated, Literal, NamedTuple

from pydantic import BeforeValidator

from widetrail.findings import Finding
from widetrail.formats.documents import Model, YesNo, load
from widetrail.recipe import Loaded
from widetrail.recipe.conditions import Words, one_or_many
from widetrail.trust.permissions import COMPUTERS, MAY_DO, Permission, permissions_of

Never = Literal["removes", "start-up", "access", "secret", "network"]


class PolicyFile(Model):
    """What stands in ``policy.yaml``.

    ``programs`` are those that may be started, ``folders`` what may be written or removed, folders
    and registry keys: each as a recipe writes it, and any where the key is missing. With
    ``told_places: no`` nothing is written or removed that only a program's settings tell. What
    stands under ``never`` no recipe may do.
    """

    policy: str
    programs: Words | None = None
    folders: Words | None = None
    told_places: YesNo = True
    never: Annotated[tuple[Never, ...], BeforeValidator(one_or_many)] = ()


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


def findings_of(policy: PolicyFile, where: str, loaded: Loaded) -> Iterator[Finding]:
    """Give what a policy, whose file is at ``where``, does not allow, as findings of a recipe."""
    for permission, rule in not_allowed(policy, loaded):
        at = COMPUTERS[permission.station]
        what = f"{MAY_DO[permission.kind]} {permission.what} ({at}): not allowed"
        hint = f"{policy.policy} allows it with {rule} of {where} only"
        yield Finding(loaded.file, 0, 0, "not-allowed", "", what, hint)


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
