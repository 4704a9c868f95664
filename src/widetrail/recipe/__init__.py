"""The recipe language: its frozen models, its loader with positions, and lint."""

from widetrail.recipe.globs import Globs
from widetrail.recipe.loader import SUFFIX, Kinds, Loaded, examine, load_recipe, load_recipe_text
from widetrail.recipe.models import Existing, Item, Loss, Reading, Recipe, Route, Station

__all__ = [
    "SUFFIX",
    "Existing",
    "Globs",
    "Item",
    "Kinds",
    "Loaded",
    "Loss",
    "Reading",
    "Recipe",
    "Route",
    "Station",
    "examine",
    "load_recipe",
    "load_recipe_text",
]
