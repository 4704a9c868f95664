"""Wide Trail: migration recipes for programs, from the first lint to the last check.

The packages form a list, and each imports only from those before it:
``formats, machine, recipe, finding, survey, licence, steps, planning, parcel, walking, rehearsing,
testing, reporting, cli``. ``errors`` and ``findings`` stand before all of them.
"""

__version__ = "0.1.0"
