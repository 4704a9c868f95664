"""Wide Trail: migration recipes for programs, from the first lint to the last check.

This is the library: ``PUBLIC`` lists every name of it, and each is imported when it is first used.
It prints nothing and asks nothing; what a person decides comes from the caller.

The packages below form a list, and each imports only from those before it:
``formats, machine, recipe, finding, survey, licence, records, steps, planning, parcel, walking,
rehearsing, tracing, testing, publishing, catalogue, reporting, library, cli``. ``errors`` and
``findings`` stand before them all.

Example:
    >>> import widetrail
    >>> [recipe] = widetrail.load_recipes(["recipes/sporelog.trail.yaml"])
    >>> recipe.recipe.application.name
    'Sporelog'
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from widetrail.lazily import lazily

if TYPE_CHECKING:
    from widetrail.errors import (
        Halted,
        InputUnusable,
        Obstructed,
        WentWrong,
        WideTrailError,
    )
    from widetrail.finding import CardFacts, make_card, read_card
    from widetrail.findings import Finding
    from widetrail.library.catalogues import (
        check_catalogue,
        history_frame,
        history_statistics,
        merge_histories,
        quarantine_flaky,
    )
    from widetrail.library.endings import (
        Forgetting,
        ParcelSettling,
        Settling,
        forget,
        open_run,
        settle,
        settle_parcel,
        undo,
    )
    from widetrail.library.folder_machines import (
        Difference,
        add_program,
        machine_differences,
        restore_machine,
        save_machine,
        saved_states,
        share_machine,
        unshare_machine,
    )
    from widetrail.library.machines import open_machine, write_card
    from widetrail.library.moves import (
        Due,
        open_visit,
        planned_again,
        report,
        walk,
        what_is_due,
    )
    from widetrail.library.offices import plan_office
    from widetrail.library.plans import plan
    from widetrail.library.publishing import (
        bundle,
        read_archive,
        sheet,
        sheet_pages,
        sheets,
        unpack_archive,
    )
    from widetrail.library.recipes import lint, load_recipe, load_recipes
    from widetrail.library.rehearsals import Rehearsals, rehearse
    from widetrail.library.seats import letter, replan_seat, seats, write_letter
    from widetrail.library.surveys import open_shelf, survey_frame, survey_machine
    from widetrail.machine import Machine
    from widetrail.planning import Choices, ChoiceWords, Plan, read_choices
    from widetrail.recipe import Loaded
    from widetrail.rehearsing.noting import Known
    from widetrail.rehearsing.scaffold import Beginning, begin_recipe
    from widetrail.reporting.move_page import render_page
    from widetrail.steps import Asked, Hands, Onlooker, Step, Task
    from widetrail.survey import Survey
    from widetrail.walking import (
        Answers,
        Company,
        LegDone,
        Patience,
        Report,
        Visit,
        read_answers,
    )

__version__ = "0.1.0"

PUBLIC = {
    "widetrail.errors": (
        "Halted",
        "InputUnusable",
        "Obstructed",
        "WentWrong",
        "WideTrailError",
    ),
    "widetrail.findings": ("Finding",),
    "widetrail.finding": ("CardFacts", "make_card", "read_card"),
    "widetrail.library.catalogues": (
        "check_catalogue",
        "history_frame",
        "history_statistics",
        "merge_histories",
        "quarantine_flaky",
    ),
    "widetrail.library.endings": (
        "Forgetting",
        "ParcelSettling",
        "Settling",
        "forget",
        "open_run",
        "settle",
        "settle_parcel",
        "undo",
    ),
    "widetrail.library.folder_machines": (
        "Difference",
        "add_program",
        "machine_differences",
        "restore_machine",
        "save_machine",
        "saved_states",
        "share_machine",
        "unshare_machine",
    ),
    "widetrail.library.machines": ("open_machine", "write_card"),
    "widetrail.library.moves": (
        "Due",
        "open_visit",
        "planned_again",
        "report",
        "walk",
        "what_is_due",
    ),
    "widetrail.library.offices": ("plan_office",),
    "widetrail.library.plans": ("plan",),
    "widetrail.library.publishing": (
        "bundle",
        "read_archive",
        "sheet",
        "sheet_pages",
        "sheets",
        "unpack_archive",
    ),
    "widetrail.library.recipes": ("lint", "load_recipe", "load_recipes"),
    "widetrail.library.rehearsals": ("Rehearsals", "rehearse"),
    "widetrail.library.seats": ("letter", "replan_seat", "seats", "write_letter"),
    "widetrail.library.surveys": ("open_shelf", "survey_frame", "survey_machine"),
    "widetrail.machine": ("Machine",),
    "widetrail.planning": ("ChoiceWords", "Choices", "Plan", "read_choices"),
    "widetrail.recipe": ("Loaded",),
    "widetrail.rehearsing.noting": ("Known",),
    "widetrail.rehearsing.scaffold": ("Beginning", "begin_recipe"),
    "widetrail.reporting.move_page": ("render_page",),
    "widetrail.steps": ("Asked", "Hands", "Onlooker", "Step", "Task"),
    "widetrail.survey": ("Survey",),
    "widetrail.walking": (
        "Answers",
        "Company",
        "LegDone",
        "Patience",
        "Report",
        "Visit",
        "read_answers",
    ),
}
"""Every public name of the library, by the module that it is in."""

if not TYPE_CHECKING:
    __getattr__ = lazily(__name__, PUBLIC)

__all__ = [
    "PUBLIC",
    "Answers",
    "Asked",
    "Beginning",
    "CardFacts",
    "ChoiceWords",
    "Choices",
    "Company",
    "Difference",
    "Due",
    "Finding",
    "Forgetting",
    "Halted",
    "Hands",
    "InputUnusable",
    "Known",
    "LegDone",
    "Loaded",
    "Machine",
    "Obstructed",
    "Onlooker",
    "ParcelSettling",
    "Patience",
    "Plan",
    "Rehearsals",
    "Report",
    "Settling",
    "Step",
    "Survey",
    "Task",
    "Visit",
    "WentWrong",
    "WideTrailError",
    "__version__",
    "add_program",
    "begin_recipe",
    "bundle",
    "check_catalogue",
    "forget",
    "history_frame",
    "history_statistics",
    "letter",
    "lint",
    "load_recipe",
    "load_recipes",
    "machine_differences",
    "make_card",
    "merge_histories",
    "open_machine",
    "open_run",
    "open_shelf",
    "open_visit",
    "plan",
    "plan_office",
    "planned_again",
    "quarantine_flaky",
    "read_answers",
    "read_archive",
    "read_card",
    "read_choices",
    "rehearse",
    "render_page",
    "replan_seat",
    "report",
    "restore_machine",
    "save_machine",
    "saved_states",
    "seats",
    "settle",
    "settle_parcel",
    "share_machine",
    "sheet",
    "sheet_pages",
    "sheets",
    "survey_frame",
    "survey_machine",
    "undo",
    "unpack_archive",
    "unshare_machine",
    "walk",
    "what_is_due",
    "write_card",
    "write_letter",
]
