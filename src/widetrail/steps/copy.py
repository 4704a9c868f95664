"""``copy``: the item's files to its place; packing at old, publishing at new."""

from __future__ import annotations

from widetrail.formats.checked import Model
from widetrail.steps.interface import Step, Unfolding


class CopyRule(Model):
    """The settings of ``copy``; it has none of its own yet."""

    copy_: str = ""

    @classmethod
    def known_keys(cls) -> frozenset[str]:
        return frozenset({"copy"})


class Copy:
    """Unfolds into ``pack`` and ``publish``."""

    schema = CopyRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        subject = unfolding.subject
        pack = Step(
            id=unfolding.step_id("pack"),
            kind="pack",
            station="old",
            item=subject,
            arguments={"from": unfolding.old_path},
            reads=(unfolding.old_path,),
            writes=(f"{{parcel}}/{subject}",),
        )
        publish = Step(
            id=unfolding.step_id("publish"),
            kind="publish",
            station="new",
            item=subject,
            arguments={"to": unfolding.new_path, "existing": unfolding.existing},
            after=(pack.id,),
            reads=(f"{{parcel}}/{subject}",),
            writes=(unfolding.new_path,),
            changes=(unfolding.new_path,),
        )
        return pack, publish
