"""What is handed out of recipes: sheets to read, and bundles of a folder of them."""

from widetrail.publishing.bundle import LARGEST, Bundle, BundledRecipe, pack_bundle, read_bundle
from widetrail.publishing.sheet import Sheet, make_sheet
from widetrail.publishing.sheet_places import Kept, KeptPlace
from widetrail.publishing.sheet_routes import SheetItem, SheetLeg, SheetRoute

__all__ = [
    "LARGEST",
    "Bundle",
    "BundledRecipe",
    "Kept",
    "KeptPlace",
    "Sheet",
    "SheetItem",
    "SheetLeg",
    "SheetRoute",
    "make_sheet",
    "pack_bundle",
    "read_bundle",
]
