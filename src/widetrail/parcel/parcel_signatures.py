"""The signatures that travel in a parcel: of its recipes, from their bundles, and of itself.

Those of recipes are cargo (``data/signatures``), which the first entry of the logbook tells. Those
of the parcel lie beside it (``signed/000007.json``), since they are made of the newest entry: what
is signed of the parcel is that entry's number and digest.
"""

from __future__ import annotations

from datetime import datetime

from widetrail.formats.outside import read_outside
from widetrail.parcel.bag import close_bag, folder_mode_in, mode_in, open_bag
from widetrail.parcel.parcel_cargo import ParcelCargo
from widetrail.trust import SignedRecipe

SIGNATURES = "signatures"
"""The folder of the signatures of recipes, below the payload."""

SIGNED = "signed"
"""The folder of the signatures of the parcel, beside the payload."""

_MOST = 4 * 2**20


class ParcelSignatures(ParcelCargo):
    """What people signed of a parcel."""

    run: str

    @property
    def signed_recipes(self) -> tuple[SignedRecipe, ...]:
        """The recipes that the parcel was planned with, as they are signed."""
        return tuple(
            SignedRecipe(id=one.id, revision=one.revision, sha256=one.digest)
            for one in self.plan.recipes
        )

    def recipe_signatures(self) -> tuple[bytes, ...]:
        """Return the signatures of its recipes, as their bundles have them.

        Raises:
            ParcelUnusable: One is missing or was touched.
        """
        told = self.generations[0].body.files
        return tuple(self._insist_told(name, told[name]) for name in sorted(told))

    def signed_states(self) -> dict[int, bytes]:
        """Return the signatures of the parcel, by the numbers of the entries that they are of.

        Raises:
            ParcelUnusable: One cannot be read.
        """
        folder = self.folder / SIGNED
        found = {}
        for generation in self.generations if folder.is_dir() else ():
            path = folder / f"{generation.number:06d}.json"
            if path.exists():
                with self._missing_told(path):
                    found[generation.number] = read_outside(path, _MOST)
        return found

    def keep_signature(self, number: int, data: bytes, now: datetime) -> str:
        """Put the signatures of an entry beside the payload; return where."""
        self._insist_same()
        path = self.folder / SIGNED / f"{number:06d}.json"
        open_bag(self.folder, self.effects)
        self.effects.keep_folders(path.parent, folder_mode_in(self.folder))
        if path.exists():  # what was signed before is in ``data`` too
            self.effects.remove_file(path)
        self.effects.put(path, data, mode_in(self.folder))
        close_bag(self.folder, self.effects, self.run, now, self._wanted())
        return str(path)
