"""Bundles of recipes that people signed, and whether enough of them did who may."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import date
from typing import Literal, NamedTuple

from widetrail.errors import InputUnusable
from widetrail.formats import canonical
from widetrail.formats.documents import Model
from widetrail.formats.stored_values import why_not
from widetrail.lazily import dataclass
from widetrail.trust.envelope import Envelope, enclosed, read_envelope
from widetrail.trust.keyring import KeptKey, KeyringFile

KIND = "application/vnd.wide-trail.bundle+json"
"""What a signed statement of a bundle is called in its envelope."""

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


@dataclass(frozen=True)
class Signed:
    """A bundle that enough people signed: its recipes, and who signed each, by its id."""

    statement: Statement
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
    told = Statement(archive=archive, recipes=listed)
    return enclosed(KIND, canonical(told.model_dump(mode="json")))


def read_signatures(data: bytes, where: str) -> tuple[Envelope, Statement]:
    """Return an envelope, and the statement in it.

    Raises:
        InputUnusable: It is no envelope of a bundle's statement.
    """
    try:
        envelope = read_envelope(data)
        if envelope.payloadType != KIND:
            raise ValueError(f"what is signed is no bundle: {envelope.payloadType[:80]}")
        return envelope, Statement.model_validate(json.loads(envelope.content))
    except (ValueError, RecursionError) as error:
        what = "holds no signatures of a bundle"
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
    signers: dict[str, tuple[str, ...]] = {}
    for recipe in statement.recipes:
        judged = [_judge(name, keyring, envelope, recipe.id, today) for name in _names(envelope)]
        good = tuple(sorted(one.name for one in judged if one.code is None))
        if len(good) < keyring.threshold:
            raise _too_few(recipe.id, good, judged, keyring.threshold)
        signers[recipe.id] = good
    for recipe in statement.recipes:
        newest = (known or {}).get(recipe.id, 0)
        if recipe.revision < newest:
            why = f"revision {recipe.revision} of {recipe.id}, and {newest} was accepted before"
            raise refused("older-revision", why)
    return Signed(statement, signers)


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
    name: str, keyring: KeyringFile, envelope: Envelope, recipe: str, today: date
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
    if not key.may(recipe):
        return _Judged(name, "key-of-others", f"{name} may not sign {recipe}")
    return _Judged(name, None, "")


def _too_few(
    recipe: str, good: tuple[str, ...], judged: Iterable[_Judged], threshold: int
) -> InputUnusable:
    """Return the gravest reason why too few signatures count."""
    bad = [one for one in judged if one.code is not None]
    for code in ("forged-signature", "key-revoked", "key-expired", "key-of-others", "unknown-key"):
        for one in bad:
            if one.code == code:
                return refused(one.code, one.why)
    if not good:
        return refused("not-signed", f"nobody signed {recipe}")
    why = f"{recipe} has {len(good)} of {threshold} signatures: {', '.join(good)}"
    return refused("too-few-signatures", why)
