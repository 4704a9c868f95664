"""Parcels that are signed by those who hand them over, with the signatures of their recipes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path

from widetrail.lazily import dataclass
from widetrail.library.recipes import Where
from widetrail.library.signing import accepted_revisions, key_in, read_file
from widetrail.machine import Effects
from widetrail.parcel import Parcel
from widetrail.parcel.events import PLANNED_ANEW, SEAT_TOLD, SERIAL_KEPT
from widetrail.recipe import Loaded
from widetrail.trust import (
    Envelope,
    KeyringFile,
    Signed,
    SignedRecipe,
    Statement,
    insist_same,
    load_keyring,
    read_parcel_signatures,
    read_signatures,
    refused,
    statement_of_parcel,
    verify_parcel,
    verify_recipes,
)
from widetrail.walking import Visit


@dataclass(frozen=True)
class SignedMove:
    """Who signed the recipes of a parcel, each by its id, and the parcel as it was handed over.

    ``accepted`` is what a keyring allows; without one the names are only what is said.
    """

    recipes: Mapping[str, Sequence[str]]
    parcel: Sequence[str]
    accepted: Signed | None

    @property
    def verified(self) -> bool:
        """Whether a keyring was asked."""
        return self.accepted is not None


def sign_parcel(parcel: Where, key: Where, name: str, passphrase: str) -> str:
    """Sign a parcel as it is as ``name``, beside those who signed it so before; return where.

    Raises:
        InputUnusable: The key cannot be read, or the passphrase is not the key's.
        ParcelUnusable: It is not a parcel, or is damaged.
    """
    opened, private = Parcel(Path(parcel), Effects()), key_in(key, passphrase)
    opened.check_cargo(begun=False)
    number = len(opened.generations)
    there = opened.signed_states().get(number)
    envelope = _expected(opened, number)
    if there is not None:
        envelope = _insist_of(opened, number, there)
    data = envelope.and_signed(private, name).text().encode()
    return opened.keep_signature(number, data, datetime.now(UTC))


def verify_signatures(
    visit: Visit, keyring: Where | None, *, older: bool = False, today: date | None = None
) -> SignedMove:
    """Return who signed the parcel of a visit and its recipes.

    With a ``keyring`` they must be enough of those who may. What this machine itself wrote into the
    parcel since it was handed over needs no signature.

    Raises:
        InputUnusable: They are not, or the signatures that travel along are of other recipes; the
            code says why.
        DocumentUnusable: The keyring has findings.
    """
    parcel = visit.parcel
    wanted = parcel.signed_recipes
    carried = _carried(parcel.recipe_signatures(), str(parcel.folder))
    states = parcel.signed_states()
    number = max(states, default=0)
    if keyring is None:
        insist_same(wanted, (statement for _, statement in carried))
        said = [_insist_of(parcel, number, states[number])] if states else []
        return SignedMove(_said(wanted, carried), _names(said), None)
    ring, day = load_keyring(Path(keyring)), today or datetime.now(UTC).date()
    known = {} if older else accepted_revisions()
    signed = verify_recipes(wanted, carried, ring, day, known)
    who = _verified_parcel(visit, states, ring, day)
    return SignedMove(signed.signers, who, signed)


def verify_to_plan(
    recipes: Sequence[Loaded],
    signatures: Sequence[bytes],
    keyring: Where,
    *,
    older: bool = False,
    today: date | None = None,
) -> Signed:
    """Return who signed the recipes that a move is to be planned with.

    Raises:
        InputUnusable: They are not enough who may; the code says why.
        DocumentUnusable: The keyring has findings.
    """
    known = {} if older else accepted_revisions()
    carried = _carried(signatures, "the signatures")
    wanted = [
        SignedRecipe(id=one.id, revision=one.recipe.revision, sha256=one.digest) for one in recipes
    ]
    day = today or datetime.now(UTC).date()
    return verify_recipes(wanted, carried, load_keyring(Path(keyring)), day, known)


def _carried(signatures: Sequence[bytes], where: str) -> tuple[tuple[Envelope, Statement], ...]:
    """Return the signatures of bundles, with what they are of.

    Raises:
        InputUnusable: One is none.
    """
    return tuple(read_signatures(data, where) for data in signatures)


def signatures_in(paths: Sequence[Where]) -> tuple[bytes, ...]:
    """Return what files of signatures hold.

    Raises:
        InputUnusable: One cannot be read, or holds none.
    """
    found = tuple(read_file(Path(path)) for path in paths)
    for path, data in zip(paths, found, strict=True):
        read_signatures(data, str(path))
    return found


def _verified_parcel(
    visit: Visit, states: Mapping[int, bytes], keyring: KeyringFile, day: date
) -> tuple[str, ...]:
    """Return who signed the parcel as it was handed over; nobody, where the keyring asks nobody.

    Raises:
        InputUnusable: Too few did, or somebody wrote into it since.
    """
    parcel, number = visit.parcel, max(states, default=0)
    if not states:
        if keyring.parcel_threshold:
            raise refused("not-signed", "nobody signed the parcel")
        return ()
    envelope = _insist_of(parcel, number, states[number])
    _insist_nothing_since(visit, number)
    return verify_parcel(envelope, _expected(parcel, number), keyring, day)


def _insist_nothing_since(visit: Visit, number: int) -> None:
    """Raise where the logbook has entries after the signed one that this machine did not write."""
    generations, seen = visit.parcel.generations, visit.seen_here
    newest_seen = max((g.number for g in generations if g.digest in seen), default=0)
    ours = (PLANNED_ANEW, SEAT_TOLD, SERIAL_KEPT) if newest_seen >= number else (PLANNED_ANEW,)
    for generation in generations[max(number, newest_seen) :]:
        if generation.event not in ours:
            why = f"entry {generation.number} of the logbook came after entry {number} was signed"
            raise refused("other-contents", why)


def _insist_of(parcel: Parcel, number: int, data: bytes) -> Envelope:
    """Return the signatures of an entry, which must be of that very one."""
    envelope, _ = read_parcel_signatures(data, str(parcel.folder))
    if envelope.payload != _expected(parcel, number).payload:
        raise refused("other-contents", "the signatures are of another parcel, or state of it")
    return envelope


def _expected(parcel: Parcel, number: int) -> Envelope:
    head = parcel.generations[number - 1].digest
    return statement_of_parcel(parcel.run, number, head, parcel.signed_recipes)


def _names(envelopes: Sequence[Envelope]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(one.keyid for e in envelopes for one in e.signatures))


def _said(
    recipes: Sequence[SignedRecipe], carried: Sequence[tuple[Envelope, Statement]]
) -> Mapping[str, Sequence[str]]:
    return {
        recipe.id: _names([e for e, statement in carried if recipe in statement.recipes])
        for recipe in recipes
    }
