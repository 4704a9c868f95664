"""What a recipe says of ``person``."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from widetrail.recipe.conditions import Condition
from widetrail.recipe.settings import Settings, StepText
from widetrail.recipe.templates import parse_template
from widetrail.recipe.text_types import ArgumentText, Name, Said


def _check_words(text: str) -> str:
    parse_template(text)
    return text


class PersonSettings(Settings):
    """The settings of ``person``; by ``name`` a rehearsal or an answers file plays it."""

    for_licences = True

    person: Annotated[Said, AfterValidator(_check_words)] | ArgumentText
    name: Name | None = None
    makes: Literal["{request}", "{answer}"] | None = None
    proof: dict[Name, Condition] = Field(default_factory=dict)

    def templates(self) -> Iterator[StepText]:
        yield StepText(("person",), "words", self.person)
        if self.makes is not None:
            yield StepText(("makes",), "made", self.makes)

    def conditions(self) -> Mapping[str, Mapping[str, Condition]]:
        return {"proof": self.proof}

    @property
    def waits(self) -> bool:
        return bool(self.proof)
