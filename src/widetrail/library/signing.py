"""Bundles that are signed, and that are used only where enough people signed them who may."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.errors import InputUnusable, not_written
from widetrail.formats.documents import read_document
from widetrail.library.recipes import Where
from widetrail.machine.own_folders import own_state
from widetrail.publishing import Bundle
from widetrail.trust import (
    Signed,
    SignedRecipe,
    load_keyring,
    read_signatures,
    refused,
    statement_of,
    verify,
)
from widetrail.trust.envelope import LARGEST

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

SIGNATURES = ".signatures.json"
"""What the file of a bundle's signatures is called after the bundle's own name."""

_ACCEPTED = "accepted-revisions.json"


def sign_archive(archive: Where, key: Where, name: str, passphrase: str) -> Path:
    """Sign a bundle as ``name``, beside those who signed it before; return the file of the
    signatures.

    Raises:
        InputUnusable: The bundle or the key cannot be read, the passphrase is not the key's, or the
            signatures that are there are of another bundle.
    """
    from widetrail.library.publishing import read_archive  # which no walk needs

    bundle, to = read_archive(archive), signatures_of(archive)
    private = key_in(key, passphrase)
    wanted = statement_of(bundle.sha256, _recipes(bundle))
    if to.exists():
        there, _ = read_signatures(read_file(to), str(to))
        if there.payload != wanted.payload:
            raise refused("other-contents", f"{to} is of another bundle")
        wanted = there
    try:
        to.write_text(wanted.and_signed(private, name).text(), encoding="utf-8")
    except OSError as error:
        raise not_written(to, error) from error
    return to


def key_in(key: Where, passphrase: str) -> Ed25519PrivateKey:
    """Return the key in a file.

    Raises:
        InputUnusable: It cannot be read, or the passphrase is not the key's.
    """
    from widetrail.trust.private_keys import open_key  # which only signing needs

    return open_key(read_file(Path(key)), passphrase, str(key))


def verify_archive(
    bundle: Bundle,
    archive: Where,
    keyring: Where,
    *,
    older: bool = False,
    today: date | None = None,
) -> Signed:
    """Return who signed the ``bundle`` that was read from an archive, where they are enough of
    those who may by a ``keyring``.

    A revision of a recipe that is older than one that was accepted on this computer is refused,
    unless ``older`` allows it.

    Raises:
        InputUnusable: Something cannot be read, or the signatures do not do; its code says why.
        DocumentUnusable: The keyring has findings.
    """
    ring, path = load_keyring(Path(keyring)), signatures_of(archive)
    if not path.exists():
        raise refused("not-signed", f"{path} is not there")
    envelope, _ = read_signatures(read_file(path), str(path))
    day = today or datetime.now(UTC).date()
    known = {} if older else accepted_revisions()
    expected = statement_of(bundle.sha256, _recipes(bundle))
    return verify(envelope, expected, ring, day, known)


def accept(signed: Signed) -> None:
    """Remember which revisions of recipes are used on this computer from now on."""
    newest = dict(accepted_revisions())
    newest |= {one.id: one.revision for one in signed.recipes}
    path = own_state() / _ACCEPTED
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"{json.dumps(newest, indent=1, sort_keys=True)}\n", encoding="utf-8")
    except OSError as error:
        raise not_written(path, error) from error


def accepted_revisions() -> Mapping[str, int]:
    """Return the revision of each recipe that was accepted on this computer last.

    Raises:
        InputUnusable: The file that says so cannot be read.
    """
    path = own_state() / _ACCEPTED
    if not path.exists():
        return {}
    try:
        told = json.loads(read_file(path))
    except (ValueError, RecursionError) as error:
        raise InputUnusable("cannot be read", where=str(path), why="it is no JSON") from error
    if not isinstance(told, dict):
        raise InputUnusable("cannot be read", where=str(path), why="it is no mapping")
    return {str(k): n for k, n in told.items() if isinstance(n, int)}


def signatures_of(archive: Where) -> Path:
    """Return where the signatures of a bundle lie: beside it."""
    path = Path(archive)
    return path.with_name(f"{path.name}{SIGNATURES}")


def keep_signatures(archive: Where, folder: Where) -> None:
    """Copy the signatures of a bundle into the folder it was unpacked into, if there are any, so
    that they can go along where its recipes go.

    Raises:
        InputUnusable: They cannot be read or written.
    """
    source, to = signatures_of(archive), Path(folder) / "signatures.json"
    if source.exists():
        try:
            to.write_bytes(read_file(source))
        except OSError as error:
            raise not_written(to, error) from error


def _recipes(bundle: Bundle) -> list[SignedRecipe]:
    return [
        SignedRecipe(id=one.id, revision=one.revision, sha256=bundle.index.files[one.file].sha256)
        for one in bundle.recipes
    ]


def read_file(path: Path) -> bytes:
    """Return what a file of keys or signatures holds.

    Raises:
        InputUnusable: It cannot be read, or is too large for one.
    """
    return read_document(path, most=LARGEST, named=False)
