"""The recipe language: its frozen models, its loader with positions, and lint."""

from widetrail.recipe.globs import Globs
from widetrail.recipe.items import Item
from widetrail.recipe.loader import SUFFIX, Kinds, Loaded, examine, load_recipe, load_recipe_text
from widetrail.recipe.models import Recipe
from widetrail.recipe.readings import Reading
from widetrail.recipe.routes import Existing, Loss, Route, Station

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
