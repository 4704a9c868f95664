"""What a recipe may do, and whether an organisation allows it."""

from widetrail.trust.permissions import (
    COMPUTERS,
    MAY_DO,
    Permission,
    PermissionKind,
    more_than_before,
    permissions_of,
)
from widetrail.trust.policy import NotAllowed, PolicyFile, findings_of, load_policy, not_allowed

__all__ = [
    "COMPUTERS",
    "MAY_DO",
    "NotAllowed",
    "Permission",
    "PermissionKind",
    "PolicyFile",
    "findings_of",
    "load_policy",
    "more_than_before",
    "not_allowed",
    "permissions_of",
]
