"""A signed envelope in the form of DSSE: what is signed with its kind, and signatures of it.

What is signed is ``DSSEv1 LENGTH KIND LENGTH PAYLOAD``, lengths in bytes as decimal numbers, so
that nothing signed as one kind is taken for another; signatures are Ed25519 (RFC 8032). Source:
the DSSE specification, version 1 (github.com/secure-systems-lab/dsse).
"""

from __future__ import annotations

import json
from base64 import b64decode, b64encode
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

from pydantic import AfterValidator, Field

from widetrail.formats.documents import Model

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import (
        Ed25519PrivateKey,
        Ed25519PublicKey,
    )

LARGEST = 4 * 2**20
"""Bytes of an envelope, at most."""


def _is_base64(text: str) -> str:
    b64decode(text, validate=True)
    return text


Base64 = Annotated[str, AfterValidator(_is_base64)]


class Signature(Model):
    """A signature, and the name of the key that it is said to be by; nothing proves the name."""

    keyid: Annotated[str, Field(max_length=200)] = ""
    sig: Base64


class Envelope(Model):
    """What is signed, in base64, its kind, and who signed it."""

    payload: Base64
    payloadType: str
    signatures: Annotated[tuple[Signature, ...], Field(max_length=100)] = ()

    @property
    def content(self) -> bytes:
        """What is signed."""
        return b64decode(self.payload, validate=True)

    def signed_with(self, public: Ed25519PublicKey, name: str) -> bool:
        """Return whether one of its signatures by that name was made with the key."""
        told = _signed(self.payloadType, self.content)
        return any(
            _holds(public, b64decode(one.sig, validate=True), told)
            for one in self.signatures
            if one.keyid == name
        )

    def and_signed(self, key: Ed25519PrivateKey, name: str) -> Envelope:
        """Return it with one more signature, which takes the place of one of the same name."""
        told = key.sign(_signed(self.payloadType, self.content))
        mine = Signature(keyid=name, sig=b64encode(told).decode())
        others = tuple(one for one in self.signatures if one.keyid != name)
        return self.model_copy(update={"signatures": (*others, mine)})

    def text(self) -> str:
        """Return it as a file has it."""
        return f"{json.dumps(self.model_dump(mode='json'), indent=2)}\n"


def enclosed(kind: str, payload: bytes) -> Envelope:
    """Return an envelope that nobody has signed."""
    return Envelope(payload=b64encode(payload).decode(), payloadType=kind)


def read_envelope(data: bytes) -> Envelope:
    """Return what an envelope holds.

    Raises:
        ValueError: It is none.
    """
    if len(data) > LARGEST:
        raise ValueError(f"it has more than {LARGEST} bytes")
    try:
        return Envelope.model_validate(json.loads(data))
    except RecursionError as error:
        raise ValueError("it is nested too deep") from error


def _signed(kind: str, payload: bytes) -> bytes:
    kept: Sequence[bytes] = (kind.encode(), payload)
    return b" ".join([b"DSSEv1", *(b"%d %s" % (len(one), one) for one in kept)])


def _holds(public: Ed25519PublicKey, signature: bytes, told: bytes) -> bool:
    from cryptography.exceptions import InvalidSignature  # which most walks and plans do without

    try:
        public.verify(signature, told)
    except InvalidSignature:
        return False
    return True
