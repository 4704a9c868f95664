"""What a recipe may do, and whether an organisation allows it."""

from widetrail.trust.permissions import (
    Permission,
    PermissionKind,
    more_than_before,
    permissions_of,
)

__all__ = [
    "Permission",
    "PermissionKind",
    "more_than_before",
    "permissions_of",
]
