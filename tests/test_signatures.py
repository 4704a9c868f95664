"""Bundles that are signed: what counts, and what is refused, each with its own code."""

import json
from base64 import b64decode, b64encode
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from conftest import World, widetrail
from widetrail.errors import InputUnusable
from widetrail.library.publishing import bundle, read_archive
from widetrail.library.signing import (
    accept,
    accepted_revisions,
    sign_archive,
    signatures_of,
    verify_archive,
)
from widetrail.trust import (
    KeyringFile,
    SignedRecipe,
    read_signatures,
    statement_of,
    verify,
)
from widetrail.trust.envelope import enclosed
from widetrail.trust.private_keys import public_text

TODAY = date(2026, 12, 1)
RECIPES = [
    SignedRecipe(id="huemoss", revision=2, sha256="a" * 64),
    SignedRecipe(id="quillbox", revision=7, sha256="b" * 64),
]
KEYS = {name: Ed25519PrivateKey.generate() for name in ("ines", "mira", "tomas")}
BUNDLE = statement_of("c" * 64, RECIPES)


def ring(threshold: int = 1, **more: dict[str, Any]) -> KeyringFile:
    """Return a keyring of all keys, with what else is said of some."""
    keys = {n: {"key": public_text(key), **more.get(n, {})} for n, key in KEYS.items()}
    told = {"keyring": "Marrowfield", "threshold": threshold, "keys": keys}
    return KeyringFile.model_validate(told)


def signed_by(*names: str) -> Any:
    envelope = BUNDLE
    for name in names:
        envelope = envelope.and_signed(KEYS[name], name)
    return envelope


def code_of(envelope: Any, keyring: KeyringFile, known: dict[str, int] | None = None) -> str:
    with pytest.raises(InputUnusable) as raised:
        verify(envelope, BUNDLE, keyring, TODAY, known)
    assert raised.value.todo
    [code] = raised.value.codes
    assert f"({code})" in str(raised.value)
    return code


def test_what_is_signed_is_what_the_form_says() -> None:
    key = KEYS["ines"]
    envelope = enclosed("http://example.com/HelloWorld", b"hello world").and_signed(key, "ines")
    told = b"DSSEv1 29 http://example.com/HelloWorld 11 hello world"  # of the specification
    key.public_key().verify(b64decode(envelope.signatures[0].sig), told)
    assert set(json.loads(envelope.text())) == {"payload", "payloadType", "signatures"}
    assert b64decode(envelope.payload) == b"hello world"


def test_who_may_sign_and_did_is_told() -> None:
    may = {"tomas": {"may_sign": "quill*"}}
    told = verify(signed_by("ines", "tomas"), BUNDLE, ring(1, **may), TODAY, {"huemoss": 2})
    assert told.signers == {"huemoss": ("ines",), "quillbox": ("ines", "tomas")}
    assert verify(signed_by("mira", "tomas"), BUNDLE, ring(2), TODAY).signers == {
        "huemoss": ("mira", "tomas"),
        "quillbox": ("mira", "tomas"),
    }


def test_each_way_to_deceive_is_refused_with_its_code() -> None:
    good = signed_by("ines")
    forged = good.model_copy(
        update={"signatures": (good.signatures[0].model_copy(update={"keyid": "mira"}),)}
    )
    assert code_of(forged, ring()) == "forged-signature"
    assert code_of(BUNDLE, ring()) == "not-signed"  # stripped
    assert code_of(signed_by("ines"), ring(2)) == "too-few-signatures"  # stripped of one
    twice = good.model_copy(update={"signatures": good.signatures * 2})
    assert code_of(twice, ring(2)) == "too-few-signatures"
    other = statement_of("d" * 64, RECIPES).and_signed(KEYS["ines"], "ines")
    assert code_of(other, ring()) == "other-contents"  # swapped
    swapped = other.model_copy(update={"payload": BUNDLE.payload})
    assert code_of(swapped, ring()) == "forged-signature"
    kind = enclosed("text/plain", BUNDLE.content).and_signed(KEYS["ines"], "ines")
    renamed = kind.model_copy(update={"payloadType": BUNDLE.payloadType})
    assert code_of(renamed, ring()) == "forged-signature"
    assert code_of(good, ring(ines={"until": "2026-11-30"})) == "key-expired"
    assert code_of(good, ring(ines={"revoked": "2026-12-01"})) == "key-revoked"
    assert code_of(good, ring(ines={"may_sign": ["quillbox"]})) == "key-of-others"
    assert code_of(BUNDLE.and_signed(KEYS["ines"], "nobody"), ring()) == "unknown-key"
    assert code_of(good, ring(), {"quillbox": 8}) == "older-revision"  # rolled back
    last = ring(ines={"until": "2026-12-01", "revoked": "2026-12-02"})
    assert verify(good, BUNDLE, last, TODAY).signers


def test_another_signature_that_does_not_count_takes_nothing_away() -> None:
    added = signed_by("ines").and_signed(Ed25519PrivateKey.generate(), "mira")
    assert set(verify(added, BUNDLE, ring(), TODAY).signers.values()) == {("ines",)}


@given(data=st.binary(max_size=60) | st.text(max_size=60).map(str.encode))
def test_what_is_no_envelope_ends_in_an_error_of_ours(data: bytes) -> None:
    with pytest.raises(InputUnusable):
        read_signatures(data, "x")


@pytest.mark.parametrize(
    "change",
    [
        {"payload": "*"},
        {"payload": b64encode(b"{}").decode()},
        {"payloadType": "text/plain"},
        {"signatures": [{"keyid": "ines", "sig": "*"}]},
        {"signatures": [{"keyid": "ines"}] * 3},
        {"signatures": [{"keyid": "x", "sig": "QQ=="}] * 101},
        {"more": 1},
    ],
)
def test_an_envelope_that_was_tampered_with_is_none(change: dict[str, Any]) -> None:
    told = {**json.loads(signed_by("ines").text()), **change}
    with pytest.raises(InputUnusable):
        read_signatures(json.dumps(told).encode(), "x")


def test_a_bundle_is_signed_by_two_and_unpacked(archive: Path) -> None:
    folder = archive.parent
    keyring = ("--keyring", folder / "keyring.yaml")
    assert "nobody signed it" in widetrail("bundle", "show", archive).out
    assert "(not-signed)" in widetrail("bundle", "unpack", archive, folder / "a", *keyring).err
    for name in ("ines", "tomas"):
        said = ("--passphrase-from", folder / f"{name}.txt")
        key = ("--key", folder / f"{name}.key", "--as", name)
        assert widetrail("key", "sign", archive, *key, *said).status == 0
        if name == "ines":
            assert "(too-few-signatures)" in widetrail("bundle", "show", archive, *keyring).err
    assert "nobody's signature was looked at" in widetrail("bundle", "show", archive).out
    assert accepted_revisions() == {}
    ran = widetrail("bundle", "unpack", archive, folder / "a", *keyring)
    assert "1 recipe signed by ines and tomas: huemoss" in ran.out
    assert (folder / "a/recipes/huemoss.trail.yaml").is_file()
    assert accepted_revisions() == {"huemoss": 2}
    wrong = (
        "--key",
        folder / "ines.key",
        "--as",
        "ines",
        "--passphrase-from",
        folder / "tomas.txt",
    )
    assert "no key that this passphrase opens" in widetrail("key", "sign", archive, *wrong).err


def test_what_is_older_than_what_was_accepted_is_told(archive: Path, world: World) -> None:
    ring_file = archive.parent / "keyring.yaml"
    ring_file.write_text(ring_file.read_text().replace("threshold: 2", "threshold: 1"))
    older = archive.parent / "older.zip"
    older.write_bytes(archive.read_bytes())
    world.edit("recipes/huemoss.trail.yaml", lambda t: t.replace("revision: 2", "revision: 3"))
    archive.write_bytes(bundle([world.folder / "recipes/huemoss.trail.yaml"]))
    for path in (archive, older):
        sign_archive(path, archive.parent / "ines.key", "ines", "the words of ines")
    accept(verify_archive(read_archive(archive), archive, ring_file))
    ran = widetrail("bundle", "unpack", older, archive.parent / "b", "--keyring", ring_file)
    assert ran.status == 2
    assert "revision 2 of huemoss, and 3 was accepted before (older-revision)" in ran.err
    assert not (archive.parent / "b").exists()
    anyway = ("--keyring", ring_file, "--older")
    assert widetrail("bundle", "unpack", older, archive.parent / "b", *anyway).status == 0
    assert accepted_revisions() == {"huemoss": 2}


def test_signatures_of_another_bundle_are_not_added_to(archive: Path) -> None:
    key = archive.parent / "ines.key"
    to = sign_archive(archive, key, "ines", "the words of ines")
    other = archive.parent / "other.zip"
    other.write_bytes(bundle([archive.parent / "recipes/tillbook.trail.yaml"]))
    signatures_of(other).write_bytes(to.read_bytes())
    with pytest.raises(InputUnusable) as raised:
        sign_archive(other, key, "ines", "the words of ines")
    assert raised.value.codes == ("other-contents",)
