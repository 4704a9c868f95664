"""What a recipe may do, whether an organisation allows it, and who signed it."""

from widetrail.trust.envelope import Envelope
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
from widetrail.trust.signing import (
    Refusal,
    Signed,
    SignedRecipe,
    Statement,
    insist_same,
    read_parcel_signatures,
    read_signatures,
    refused,
    statement_of,
    statement_of_parcel,
    verify,
    verify_parcel,
    verify_recipes,
)

__all__ = [
    "COMPUTERS",
    "MAY_DO",
    "Envelope",
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
    "insist_same",
    "load_keyring",
    "load_policy",
    "more_than_before",
    "not_allowed",
    "permissions_of",
    "read_parcel_signatures",
    "read_signatures",
    "refused",
    "statement_of",
    "statement_of_parcel",
    "verify",
    "verify_parcel",
    "verify_recipes",
]
