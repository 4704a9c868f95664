"""Bundles of recipes and parcels that people signed, and whether enough of them did who may."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import date
from typing import Literal, NamedTuple, TypeVar

from widetrail.errors import InputUnusable
from widetrail.formats import canonical
from widetrail.formats.documents import Model
from widetrail.formats.stored_values import why_not
from widetrail.lazily import dataclass
from widetrail.trust.envelope import Envelope, enclosed, read_envelope
from widetrail.trust.keyring import KeptKey, KeyringFile

KIND = "application/vnd.wide-trail.bundle+json"
"""What a signed statement of a bundle is called in its envelope."""

PARCEL_KIND = "application/vnd.wide-trail.parcel+json"
"""What a signed statement of a parcel is called in its envelope."""

T = TypeVar("T", bound=Model)

Refusal = Literal[
    "not-signed",
    "other-contents",
    "forged-signature",
    "unknown-key",
    "key-expired",
    "key-revoked",
    "key-of-others",
    "too-few-signatures",
    "older-revision",
]
"""Why a signed bundle is refused; each is a code that stays."""


class SignedRecipe(Model):
    """A recipe that is signed: its revision, and the SHA-256 of its file."""

    id: str
    revision: int
    sha256: str


class Statement(Model):
    """What is signed of a bundle: the SHA-256 of the whole archive, and its recipes."""

    statement: Literal[1] = 1
    archive: str
    recipes: tuple[SignedRecipe, ...]


class ParcelStatement(Model):
    """What is signed of a parcel: its run, the number and SHA-256 of the newest entry of its
    logbook, which governs all that is in it, and the recipes that it was planned with."""

    statement: Literal[1] = 1
    run: str
    entry: int
    logbook: str
    recipes: tuple[SignedRecipe, ...]


@dataclass(frozen=True)
class Signed:
    """Recipes that enough people signed, and who signed each, by its id."""

    recipes: tuple[SignedRecipe, ...]
    signers: Mapping[str, tuple[str, ...]]


class _Judged(NamedTuple):
    """Whether a signature counts for a recipe: a name, or why not."""

    name: str
    code: Refusal | None
    why: str


def statement_of(archive: str, recipes: Iterable[SignedRecipe]) -> Envelope:
    """Return the statement of a bundle, which nobody has signed yet.

    ``archive`` is the SHA-256 of the whole.
    """
    listed = tuple(sorted(recipes, key=lambda one: one.id))
    return _stated(KIND, Statement(archive=archive, recipes=listed))


def statement_of_parcel(
    run: str, entry: int, logbook: str, recipes: Iterable[SignedRecipe]
) -> Envelope:
    """Return the statement of a parcel, which nobody has signed yet."""
    listed = tuple(sorted(recipes, key=lambda one: one.id))
    told = ParcelStatement(run=run, entry=entry, logbook=logbook, recipes=listed)
    return _stated(PARCEL_KIND, told)


def _stated(kind: str, told: Model) -> Envelope:
    return enclosed(kind, canonical(told.model_dump(mode="json")))


def read_signatures(data: bytes, where: str) -> tuple[Envelope, Statement]:
    """Return an envelope, and the statement in it.

    Raises:
        InputUnusable: It is no envelope of a bundle's statement.
    """
    return _read(Statement, KIND, "bundle", data, where)


def read_parcel_signatures(data: bytes, where: str) -> tuple[Envelope, ParcelStatement]:
    """Return an envelope, and the statement in it.

    Raises:
        InputUnusable: It is no envelope of a parcel's statement.
    """
    return _read(ParcelStatement, PARCEL_KIND, "parcel", data, where)


def _read(model: type[T], kind: str, of: str, data: bytes, where: str) -> tuple[Envelope, T]:
    try:
        envelope = read_envelope(data)
        if envelope.payloadType != kind:
            raise ValueError(f"what is signed is no {of}: {envelope.payloadType[:80]}")
        return envelope, model.model_validate(json.loads(envelope.content))
    except (ValueError, RecursionError) as error:
        what = f"holds no signatures of a {of}"
        raise InputUnusable(what, where=where, why=why_not(error)) from error


def verify(
    envelope: Envelope,
    expected: Envelope,
    keyring: KeyringFile,
    today: date,
    known: Mapping[str, int] | None = None,
) -> Signed:
    """Return who signed a bundle, where they are enough who may.

    ``expected`` is the statement of the bundle as it is, ``known`` the newest revision of each
    recipe that was accepted here before.

    Raises:
        InputUnusable: They are not, or it is older than what is known here; its code says why.
    """
    if envelope.payload != expected.payload:
        raise refused("other-contents", "the signatures are of another bundle")
    statement = Statement.model_validate(json.loads(envelope.content))
    signers = {
        one.id: _enough(envelope, one.id, (one.id,), keyring.threshold, keyring, today)
        for one in statement.recipes
    }
    _insist_newest(statement.recipes, known or {})
    return Signed(statement.recipes, signers)


def verify_recipes(
    recipes: Iterable[SignedRecipe],
    carried: Iterable[tuple[Envelope, Statement]],
    keyring: KeyringFile,
    today: date,
    known: Mapping[str, int] | None = None,
) -> Signed:
    """Return who signed recipes that have left their bundles, whose signatures are ``carried``.

    Raises:
        InputUnusable: One was not signed by enough who may, or is older than what is known here;
            its code says why.
    """
    signers, wanted, there = dict[str, tuple[str, ...]](), tuple(recipes), tuple(carried)
    insist_same(wanted, (statement for _, statement in there))
    for recipe in wanted:
        of = [envelope for envelope, statement in there if recipe in statement.recipes]
        if not of:
            raise refused("not-signed", f"nobody signed {recipe.id}")
        for envelope in of:
            try:
                signers[recipe.id] = _enough(
                    envelope, recipe.id, (recipe.id,), keyring.threshold, keyring, today
                )
                break
            except InputUnusable:
                if envelope is of[-1]:
                    raise
    _insist_newest(wanted, known or {})
    return Signed(wanted, signers)


def insist_same(recipes: Iterable[SignedRecipe], statements: Iterable[Statement]) -> None:
    """Raise where statements that lie with recipes are of others by the same ids.

    Raises:
        InputUnusable: They are.
    """
    said: dict[str, list[SignedRecipe]] = {}
    for statement in statements:
        for one in statement.recipes:
            said.setdefault(one.id, []).append(one)
    for recipe in recipes:
        if recipe.id in said and recipe not in said[recipe.id]:
            why = f"another recipe {recipe.id} was signed than the one that is here"
            raise refused("other-contents", why)


def _insist_newest(recipes: Iterable[SignedRecipe], known: Mapping[str, int]) -> None:
    """Raise where a recipe is older than what is ``known``.

    Raises:
        InputUnusable: One is.
    """
    for recipe in recipes:
        newest = known.get(recipe.id, 0)
        if recipe.revision < newest:
            why = f"revision {recipe.revision} of {recipe.id}, and {newest} was accepted before"
            raise refused("older-revision", why)


def verify_parcel(
    envelope: Envelope, expected: Envelope, keyring: KeyringFile, today: date
) -> tuple[str, ...]:
    """Return who signed a parcel, where they are enough who may sign each of its recipes.

    Raises:
        InputUnusable: They are not; its code says why.
    """
    if envelope.payload != expected.payload:
        raise refused("other-contents", "the signatures are of another state of the parcel")
    told = ParcelStatement.model_validate(json.loads(envelope.content))
    ids = tuple(one.id for one in told.recipes)
    least = max(1, keyring.parcel_threshold)
    return _enough(envelope, "the parcel", ids, least, keyring, today)


def _enough(
    envelope: Envelope,
    what: str,
    ids: tuple[str, ...],
    least: int,
    keyring: KeyringFile,
    today: date,
) -> tuple[str, ...]:
    """Return the names of those whose signatures count, where they are enough.

    Raises:
        InputUnusable: They are not.
    """
    judged = [_judge(name, keyring, envelope, ids, today) for name in _names(envelope)]
    good = tuple(sorted(one.name for one in judged if one.code is None))
    if len(good) < least:
        raise _too_few(what, good, judged, least)
    return good


def refused(code: Refusal, why: str) -> InputUnusable:
    """Return the error of a bundle whose signatures do not do."""
    return InputUnusable(
        "is not signed as it must be", why=f"{why} ({code})", todo=_TODO[code], codes=[code]
    )


_TODO: Mapping[Refusal, str] = {
    "not-signed": "Get the signatures that were published with it.",
    "other-contents": "Get the bundle and its signatures again, from where they are published.",
    "forged-signature": "Do not use it. Tell whoever is said to have signed it.",
    "unknown-key": "Ask who has that key, and add it to the keyring if it is right.",
    "key-expired": "Have it signed again with a key that still holds.",
    "key-revoked": "Do not use it. Have it signed again by somebody else.",
    "key-of-others": "Have it signed by somebody who may sign that recipe.",
    "too-few-signatures": "Have it signed by more of those who may.",
    "older-revision": "Get the newest one; with --older the older one is taken.",
}


def _names(envelope: Envelope) -> tuple[str, ...]:
    return tuple(dict.fromkeys(one.keyid for one in envelope.signatures))


def _judge(
    name: str, keyring: KeyringFile, envelope: Envelope, ids: tuple[str, ...], today: date
) -> _Judged:
    key: KeptKey | None = keyring.keys.get(name)
    if key is None:
        return _Judged(name, "unknown-key", f"no key of {name} is in the keyring")
    if not envelope.signed_with(key.as_key, name):
        return _Judged(name, "forged-signature", f"{name} did not sign it")
    if key.revoked is not None and today >= date.fromisoformat(key.revoked):
        return _Judged(name, "key-revoked", f"the key of {name} was revoked on {key.revoked}")
    if key.until is not None and today > date.fromisoformat(key.until):
        return _Judged(name, "key-expired", f"the key of {name} held until {key.until}")
    for recipe in ids:
        if not key.may(recipe):
            return _Judged(name, "key-of-others", f"{name} may not sign {recipe}")
    return _Judged(name, None, "")


def _too_few(
    what: str, good: tuple[str, ...], judged: Iterable[_Judged], threshold: int
) -> InputUnusable:
    """Return the gravest reason why too few signatures count."""
    bad = [one for one in judged if one.code is not None]
    for code in ("forged-signature", "key-revoked", "key-expired", "key-of-others", "unknown-key"):
        for one in bad:
            if one.code == code:
                return refused(one.code, one.why)
    if not good:
        return refused("not-signed", f"nobody signed {what}")
    why = f"{what} has {len(good)} of {threshold} signatures: {', '.join(good)}"
    return refused("too-few-signatures", why)
