"""What a recipe may do, whether an organisation allows it, and who signed it."""

from widetrail.trust.keyring import KeyringFile, load_keyring
from widetrail.trust.permissions import (
    COMPUTERS,
    MAY_DO,
    Permission,
    PermissionKind,
    more_than_before,
    permissions_of,
)
from widetrail.trust.policy import NotAllowed, PolicyFile, findings_of, load_policy, not_allowed
from widetrail.trust.private_keys import make_key, open_key, public_text
from widetrail.trust.signing import (
    Refusal,
    Signed,
    SignedRecipe,
    Statement,
    read_signatures,
    refused,
    statement_of,
    verify,
)

__all__ = [
    "COMPUTERS",
    "MAY_DO",
    "KeyringFile",
    "NotAllowed",
    "Permission",
    "PermissionKind",
    "PolicyFile",
    "Refusal",
    "Signed",
    "SignedRecipe",
    "Statement",
    "findings_of",
    "load_keyring",
    "load_policy",
    "make_key",
    "more_than_before",
    "not_allowed",
    "open_key",
    "permissions_of",
    "public_text",
    "read_signatures",
    "refused",
    "statement_of",
    "verify",
]
