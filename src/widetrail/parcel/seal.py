"""Sealing a parcel with a passphrase, as ``age`` files (age-encryption.org/v1).

A parcel has a key of its own, which ``key.age`` holds sealed with the passphrase; all else is
sealed for that key as a stream, so that any size takes little memory. ``sealed.txt`` is plain: the
key's public half, a hint, and what whoever finds the medium should know.
"""

from __future__ import annotations

import base64
import hmac
import os
import re
from typing import Protocol

from widetrail.errors import InputUnusable, ParcelUnusable, Waiting
from widetrail.formats.outside import SafePath
from widetrail.lazily import dataclass
from widetrail.machine import Effects
from widetrail.machine.own_folders import own_state
from widetrail.parcel.medium_reading import PACK_AGAIN

ENDING = ".age"
KEY = f"key{ENDING}"
HEADER = "sealed.txt"
SEALED_AS = "age-encryption.org/v1"
_AGE = SEALED_AS.encode()
_SEALED = "sealed"
"""The folder of the tool's own that holds the names of runs whose parcels are sealed."""

_LABELS = {"recipient": "Recipient", "hint": "Hint", "finder": "If-Found"}
_MOST = 64 * 1024
"""Bytes of a header or key that are read, at most."""


class Reader(Protocol):
    """What bytes to seal or to open are read from."""

    def read(self, size: int = ..., /) -> bytes:
        """Return up to ``size`` bytes; none at the end."""


class Writer(Protocol):
    """What sealed or opened bytes are written to."""

    def write(self, data: bytes, /) -> object:
        """Take all of ``data``."""


class WrongPassphrase(Waiting):
    """The passphrase does not open the parcel."""


@dataclass(frozen=True)
class Seal:
    """How a parcel is sealed: its key's public half, and what the plain header says.

    ``secret`` is the key itself, where it was opened.
    """

    recipient: str
    hint: str = ""
    finder: str = ""
    secret: str = ""

    @property
    def is_open(self) -> bool:
        """Whether what is sealed can be read."""
        return bool(self.secret)

    def close(self, reader: Reader, writer: Writer) -> None:
        """Seal what ``reader`` gives.

        Raises:
            OSError, WideTrailError: As ``reader`` and ``writer`` do.
        """
        import pyrage

        recipient = pyrage.x25519.Recipient.from_str(self.recipient)
        source, sink = _Source(reader), _Sink(writer)
        try:
            pyrage.encrypt_io(source, sink, [recipient])
        except (pyrage.EncryptError, OSError) as error:
            raise source.failed or sink.failed or error from error
        _insist(source, sink)

    def open(self, reader: Reader, writer: Writer, where: str) -> None:
        """Write what is sealed in ``reader``; bytes before damage may have been written then.

        Raises:
            ParcelUnusable: It was damaged, touched, or sealed for another key.
            OSError, WideTrailError: As ``reader`` and ``writer`` do.
        """
        import pyrage

        source, sink = _Source(reader), _Sink(writer)
        try:
            identity = pyrage.x25519.Identity.from_str(self.secret)
            pyrage.decrypt_io(source, sink, [identity])
        except (pyrage.DecryptError, pyrage.IdentityError, OSError) as error:
            for failed in (source.failed, sink.failed):
                if failed is not None:
                    raise failed from error
            raise ParcelUnusable(
                "was damaged or changed",
                where=where,
                why=f"it cannot be unsealed: {error}",
                todo=PACK_AGAIN,
            ) from error
        _insist(source, sink)

    def header(self) -> bytes:
        """Return the plain header: a label and a value on each line."""
        lines = [("Sealed", SEALED_AS)]
        lines += [(label, getattr(self, name)) for name, label in _LABELS.items()]
        told = "".join(f"{label}: {value}\n" for label, value in lines if value)
        return told.encode()


def _insist(source: _Source, sink: _Sink) -> None:
    """Raise what failed: the library says nothing of it where its last write was refused."""
    for failed in (source.failed, sink.failed):
        if failed is not None:
            raise failed


class _Source:
    """Reads on, and keeps the error that the library would only tell as text."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader
        self.failed: BaseException | None = None

    def read(self, size: int = -1) -> bytes:
        try:
            return self._reader.read(size)
        except BaseException as error:
            self.failed = error
            raise OSError(str(error)) from error


class _Sink:
    """Writes on, and keeps the error that the library would only tell as text."""

    def __init__(self, writer: Writer) -> None:
        self._writer = writer
        self.failed: BaseException | None = None

    def write(self, data: bytes) -> int:
        try:
            self._writer.write(data)
        except BaseException as error:
            self.failed = error
            raise OSError(str(error)) from error
        return len(data)

    def flush(self) -> None:
        """Nothing is kept back."""


def make_seal(passphrase: str, hint: str = "", finder: str = "") -> tuple[Seal, bytes]:
    """Make a key for a parcel; return the seal, open, and the sealed key.

    Raises:
        InputUnusable: The passphrase is empty, or a note is more than one line of text.
    """
    import pyrage

    if not passphrase:
        raise InputUnusable("a parcel cannot be sealed with an empty passphrase")
    for note in (hint, finder):
        if re.search(r"[\x00-\x1f\x7f\u2028\u2029]", note):
            raise InputUnusable("the note in a sealed parcel's header must be one line of text")
    if passphrase.casefold() in f"{hint}\n{finder}".casefold():
        raise InputUnusable("the hint must not hold the passphrase")
    identity = pyrage.x25519.Identity.generate()
    seal = Seal(str(identity.to_public()), hint, finder, str(identity))
    return seal, _locked(str(identity).encode() + b"\n", passphrase)


def open_seal(seal: Seal, key: bytes, passphrase: str, where: str) -> Seal:
    """Return the seal with its key.

    Raises:
        WrongPassphrase: It does not open it.
        ParcelUnusable: The key is not that of the header.
    """
    import pyrage

    if not _is_affordable(key):
        why = f"it asks for more than 2^{WORK_MOST} steps of work, or is not a key"
        raise ParcelUnusable("the seal cannot be opened", where=where, why=why)
    try:
        secret = pyrage.passphrase.decrypt(key, passphrase).decode().strip()
        recipient = str(pyrage.x25519.Identity.from_str(secret).to_public())
    except (pyrage.DecryptError, pyrage.IdentityError, ValueError) as error:
        hint = f"; the hint is: {seal.hint}" if seal.hint else ""
        raise WrongPassphrase(
            "the passphrase does not open the parcel",
            where=where,
            why=f"it is another one, or {KEY} was damaged{hint}",
            todo="Try again with the right passphrase.",
        ) from error
    if recipient != seal.recipient:
        why = f"{HEADER} names another key"
        raise ParcelUnusable("the seal was changed", where=where, why=why)
    return Seal(seal.recipient, seal.hint, seal.finder, secret)


WORK_MOST = 18
"""The work that a passphrase costs, and the most that it may, as a power of two: 256 MiB of memory
(age-encryption.org/v1, "scrypt recipient stanza")."""


def _locked(secret: bytes, passphrase: str) -> bytes:
    """Return a short secret as an ``age`` file for a passphrase.

    The library that opens it takes as much work as a second allows, which on a fast computer is
    more than others accept; so what is in front (age-encryption.org/v1) is put together here.
    """
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

    file_key, salt, nonce = os.urandom(16), os.urandom(16), os.urandom(16)
    scrypt = Scrypt(salt=_AGE + b"/scrypt" + salt, length=32, n=1 << WORK_MOST, r=8, p=1)
    wrapped = ChaCha20Poly1305(scrypt.derive(passphrase.encode())).encrypt(bytes(12), file_key, b"")
    header = b"%b\n-> scrypt %b %d\n%b\n---" % (_AGE, _encoded(salt), WORK_MOST, _encoded(wrapped))
    mac = hmac.digest(_derived(file_key, b"", b"header"), header, "sha256")
    last = bytes(11) + b"\x01"  # the first and only chunk
    body = ChaCha20Poly1305(_derived(file_key, nonce, b"payload")).encrypt(last, secret, b"")
    return header + b" " + _encoded(mac) + b"\n" + nonce + body


def _derived(key: bytes, salt: bytes, info: bytes) -> bytes:
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF

    return HKDF(algorithm=SHA256(), length=32, salt=salt, info=info).derive(key)


def _encoded(data: bytes) -> bytes:
    return base64.b64encode(data).rstrip(b"=")


def _is_affordable(key: bytes) -> bool:
    """Return whether opening a key by its passphrase takes no more work than a seal of ours."""
    lines = key[:1024].split(b"\n")
    words = lines[1].split(b" ") if len(lines) > 1 else []
    if lines[0] != _AGE or words[:2] != [b"->", b"scrypt"] or len(words) != 4:
        return False
    return words[3].isdigit() and len(words[3]) <= 2 and int(words[3]) <= WORK_MOST


def read_header(data: bytes, where: str) -> Seal:
    """Read a plain header.

    Raises:
        ParcelUnusable: It is none.
    """
    names = {label: name for name, label in _LABELS.items()}
    try:
        if len(data) > _MOST:
            raise ValueError("it is too long")
        pairs = [line.split(": ", 1) for line in data.decode().splitlines()]
        told = dict(pairs)
        if told.pop("Sealed") != SEALED_AS or len(pairs) != len(told) + 1:
            raise ValueError(f"it is not sealed as {SEALED_AS}")
        return Seal(**{names[label]: value for label, value in told.items()})
    except (ValueError, KeyError, TypeError) as error:
        raise ParcelUnusable("the seal cannot be read", where=where, why=str(error)) from error


def remember_sealed(run: str, effects: Effects) -> None:
    """Remember on this computer that the parcel of a run is sealed, for as long as it is kept."""
    folder = SafePath(os.path.realpath(own_state() / _SEALED))
    effects.make_folders(folder, 0o700, named=True)
    if not (folder / run).exists():
        effects.put(folder / run, b"", 0o600)


def was_sealed(run: str) -> bool:
    """Return whether this computer saw the parcel of a run being sealed."""
    return SafePath(os.path.realpath(own_state() / _SEALED / run)).exists()
