"""``copy``: an item's files to its place, or to a path; packing at old, publishing at new."""

from __future__ import annotations

from widetrail.recipe.templates import literal
from widetrail.steps.copy_settings import PARCEL, CopySettings
from widetrail.steps.enter import EnterStep
from widetrail.steps.kind import Rule
from widetrail.steps.pack import PackStep
from widetrail.steps.publish_step import PublishStep
from widetrail.steps.step import Step, Unfolding


class Copy(Rule[CopySettings]):
    """Unfolds into a packing, and a publishing or, where the item is values, an entering."""

    settings = CopySettings
    carries = True

    def unfold(self, settings: CopySettings, unfolding: Unfolding) -> tuple[Step, ...]:
        source, place = literal(unfolding.old_path), literal(unfolding.new_path)
        pack = unfolding.step(
            PackStep, station="old", source=source, reads=(source,), writes=(PARCEL,)
        )
        taken = {"after": (pack.id,), "reads": (PARCEL,), "station": "new"}
        existing = unfolding.existing
        if unfolding.store:
            store = unfolding.store
            return pack, unfolding.step(
                EnterStep, taken, target=place, existing=existing, store=store, writes=(place,)
            )
        target = unfolding.expand(settings.to) if settings.to else place
        return pack, unfolding.step(
            PublishStep,
            taken,
            target=target,
            existing=existing,
            elsewhere=bool(settings.to),
            single=unfolding.single,
            shared=unfolding.shared,
            writes=(target,),
            changes=(target,),
        )
