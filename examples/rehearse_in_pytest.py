"""Rehearsals as tests of pytest, beside tests of one's own.

    widetrail demo garden --world-only && cd garden
    pytest ../examples/rehearse_in_pytest.py

Each case of a rehearsal is a test of its own; one more asks that nothing of the recipe is untried.
(With ``widetrail_rehearsals = true`` in pytest's settings, rehearsal files are collected without
any code: see docs/rehearsals.md.)
"""

import pytest

import widetrail

RECIPES = ["recipes/huemoss.trail.yaml"]


@pytest.fixture(scope="module")
def rehearsed():
    return widetrail.rehearse(RECIPES)


def test_each_case_comes_out_as_expected(rehearsed):
    wrong = {result.case: result.told for result in rehearsed.results if not result.passed}
    assert wrong == {}


def test_every_branch_of_the_recipe_is_covered(rehearsed):
    missing = [str(branch) for covered in rehearsed.coverage() for branch in covered.missing]
    assert missing == []


def test_a_recipe_has_no_findings():
    assert [found for each in widetrail.lint(RECIPES).values() for found in each] == []
