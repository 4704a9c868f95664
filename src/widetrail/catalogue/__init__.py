"""Catalogues: thousands of recipes, what is wrong with them as a whole, and many machines."""
