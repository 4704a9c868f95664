"""Whose signatures count: the public keys of people, what each may sign, and until when."""

from __future__ import annotations

from base64 import b64decode
from collections.abc import Mapping
from datetime import date
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from pydantic import AfterValidator, Field

from widetrail.formats.documents import Model, load
from widetrail.formats.flaws import flaw
from widetrail.recipe.conditions import Words

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey


def _public(text: str) -> Ed25519PublicKey:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    return Ed25519PublicKey.from_public_bytes(b64decode(text, validate=True))


def _check_key(text: str) -> str:
    try:
        _public(text)
    except ValueError:
        raise flaw("key", "is no public key", "widetrail key show prints one") from None
    return text


def _check_day(text: str) -> str:
    try:
        date.fromisoformat(text)
    except ValueError:
        raise flaw("day", f'"{text}" is no day', "Write it as 2027-01-31") from None
    return text


Day = Annotated[str, AfterValidator(_check_day)]


class KeptKey(Model):
    """A public key: the 32 bytes in base64, the ids that it may sign (``*`` stands for anything),
    the last day on which it holds, and the day from which nothing it signed counts."""

    public: Annotated[str, AfterValidator(_check_key)] = Field(alias="key")
    may_sign: Words = ("*",)
    until: Day | None = None
    revoked: Day | None = None

    @property
    def as_key(self) -> Ed25519PublicKey:
        """The key itself."""
        return _public(self.public)

    def may(self, recipe: str) -> bool:
        """Return whether it may sign a recipe of that id."""
        return any(fnmatchcase(recipe, pattern) for pattern in self.may_sign)


class KeyringFile(Model):
    """What stands in a keyring: keys by the names of who has them, and how many of them must have
    signed a recipe, and a parcel at each hand-over."""

    keyring: str
    threshold: Annotated[int, Field(ge=1)] = 1
    parcel_threshold: Annotated[int, Field(ge=0)] = 0
    keys: Mapping[str, KeptKey] = Field(default_factory=dict)


def load_keyring(path: Path) -> KeyringFile:
    """Load a keyring.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    return load(KeyringFile, path)
