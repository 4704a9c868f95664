"""A kind of step that a distribution of somebody else's adds: it labels a folder of new."""

from collections.abc import Iterator, Mapping
from typing import Literal, Protocol

from pydantic import Field

from widetrail.formats.stored_values import Text
from widetrail.recipe.conditions import Condition
from widetrail.recipe.settings import Settings, StepText
from widetrail.recipe.templates import plain
from widetrail.recipe.text_types import ArgumentText, Name, PathText
from widetrail.steps import Act, Done, Facts, Outcome, Rule, Step, Unfolding
from widetrail.steps.contexts import Evidence, OfItem, Work
from widetrail.steps.reading_conditions import missing, telling_of
from widetrail.steps.replacing import put_again, put_file


class LabelSettings(Settings):
    """The settings of ``label``: the file, what is written into it, and what must be there."""

    noticed_by = {"text": "one that expects what the label says"}  # noqa: RUF012

    label: PathText
    text: ArgumentText = "here"
    once: dict[Name, Condition] = Field(default_factory=dict)

    def templates(self) -> Iterator[StepText]:
        yield StepText(("label",), "path", self.label)
        yield StepText(("text",), "written", self.text)

    def conditions(self) -> Mapping[str, Mapping[str, Condition]]:
        return {"once": self.once}

    @property
    def waits(self) -> bool:
        return bool(self.once)


class LabelStep(Step):
    """A file that is written."""

    kind: Literal["label"] = "label"
    file: str
    text: str


class LabelFacts(Facts):
    """The file that was written."""

    labelled: Text = ""


class Has(Work, OfItem, Evidence, Protocol):
    """What labelling takes."""


class Label(Rule[LabelSettings], Act[LabelStep, Has]):
    """Writes a file once what it waits for is there."""

    settings = LabelSettings
    step = LabelStep
    facts = LabelFacts
    needs_closed = True

    def unfold(self, settings: LabelSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        file, text = unfolding.expand(settings.label), unfolding.expand(settings.text)
        return (unfolding.step(LabelStep, file=file, text=text, changes=(file,)),)

    def words(self, step: LabelStep) -> str:
        return f'label {plain(step.file)} with "{plain(step.text)}"'

    def do(self, step: LabelStep, doing: Has) -> Outcome:
        settings = doing.settings(step)
        assert isinstance(settings, LabelSettings)
        with telling_of(doing.finder(step.item), settings):
            doing.await_(
                lambda: "; ".join(missing(doing, step.item, settings.once)), "Put it there."
            )
        path, text = doing.fill(step, step.file), doing.fill(step, step.text)
        before = put_again(step, doing)
        if before is None:
            before = put_file(step, doing, path, text.encode())
        return Done(LabelFacts(labelled=path, backed_up=tuple(before)))


LABEL = Label()
