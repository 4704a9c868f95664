"""``copy``: an item's files to its place, or to a path; packing at old, publishing at new."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field

from widetrail.formats.checked import Model
from widetrail.recipe.templates import check_path, literal
from widetrail.steps.interface import Step, Unfolding


def _check_target(text: str) -> str:
    return check_path(text) if text else text


class CopyRule(Model):
    """The settings of ``copy``: the path it goes to, if that is not the item's place."""

    to: Annotated[str, AfterValidator(_check_target)] = Field("", alias="copy")


class Copy:
    """Unfolds into ``pack`` and ``publish``."""

    schema = CopyRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule, subject = unfolding.rule, unfolding.subject
        assert isinstance(rule, CopyRule)
        source, parcel = literal(unfolding.old_path), "{parcel}"
        target = unfolding.expand(rule.to) if rule.to else literal(unfolding.new_path)
        pack = Step(
            id=unfolding.step_id("pack"),
            kind="pack",
            station="old",
            item=subject,
            number=unfolding.number,
            arguments={"from": source},
            reads=(source,),
            writes=(parcel,),
        )
        if unfolding.store:
            enter = Step(
                id=unfolding.step_id("enter"),
                kind="enter",
                station="new",
                item=subject,
                number=unfolding.number,
                arguments={
                    "to": literal(unfolding.new_path),
                    "existing": unfolding.existing,
                    "store": unfolding.store,
                },
                after=(pack.id,),
                reads=(parcel,),
                writes=(literal(unfolding.new_path),),
            )
            return pack, enter
        publish = Step(
            id=unfolding.step_id("publish"),
            kind="publish",
            station="new",
            item=subject,
            number=unfolding.number,
            arguments={
                "to": target,
                "existing": unfolding.existing,
                "given": rule.to,
                "single": "yes" if unfolding.single else "",
                **({"shared": "yes"} if unfolding.shared else {}),
            },
            after=(pack.id,),
            reads=(parcel,),
            writes=(target,),
            changes=(target,),
        )
        return pack, publish
