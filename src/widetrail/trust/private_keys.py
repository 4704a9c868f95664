"""Keys to sign with: made here, kept in a file that a passphrase opens."""

from __future__ import annotations

from base64 import b64encode

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
)

from widetrail.errors import InputUnusable


def make_key(passphrase: str) -> bytes:
    """Return a new key as a file has it: PKCS 8, encrypted, in PEM."""
    return Ed25519PrivateKey.generate().private_bytes(
        Encoding.PEM, PrivateFormat.PKCS8, BestAvailableEncryption(passphrase.encode())
    )


def open_key(data: bytes, passphrase: str, where: str) -> Ed25519PrivateKey:
    """Return the key that a file holds.

    Raises:
        InputUnusable: It holds none for signing, or the passphrase is not its own.
    """
    try:
        key = load_pem_private_key(data, passphrase.encode())
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        what, todo = "holds no key that this passphrase opens", "Give its own passphrase."
        raise InputUnusable(what, where=where, todo=todo) from error
    if not isinstance(key, Ed25519PrivateKey):
        raise InputUnusable("is a key of another kind", where=where, why="expected Ed25519")
    return key


def public_text(key: Ed25519PrivateKey) -> str:
    """Return the public half as a keyring has it: its 32 bytes in base64."""
    raw = key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
    return b64encode(raw).decode()
