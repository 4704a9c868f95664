"""The parcel: a BagIt bag with the plan, the cargo and a logbook that governs the hand-over."""

from widetrail.parcel.logbook import Generation
from widetrail.parcel.parcel import Parcel
from widetrail.parcel.seal import Seal, make_seal
from widetrail.parcel.setting_out import Along, set_out

__all__ = ["Along", "Generation", "Parcel", "Seal", "make_seal", "set_out"]
