"""Results of rehearsals as JUnit XML, the form that build servers read.

There is no one standard; this is the part that the common readers share: ``testsuites``,
``testsuite``, ``testcase`` with ``classname``, ``name`` and ``time`` in seconds, ``failure``.
"""

from __future__ import annotations

from collections.abc import Iterable
from xml.etree import ElementTree

from widetrail.rehearsing import Rehearsed
from widetrail.reporting.xml_text import plain


def render_junit(results: Iterable[Rehearsed]) -> bytes:
    """Return ``results`` as one XML document, a suite for each recipe."""
    suites: dict[str, list[Rehearsed]] = {}
    for result in results:
        suites.setdefault(result.recipes[0] if result.recipes else "", []).append(result)
    top = ElementTree.Element("testsuites")
    for recipe, mine in suites.items():
        failures = sum(not result.passed for result in mine)
        suite = ElementTree.SubElement(
            top,
            "testsuite",
            name=recipe,
            tests=str(len(mine)),
            failures=str(failures),
            errors="0",
            skipped="0",
            time=f"{sum(result.seconds for result in mine):.3f}",
        )
        for result in mine:
            _case(suite, result)
    ElementTree.indent(top)
    data: bytes = ElementTree.tostring(top, encoding="utf-8", xml_declaration=True)
    return data


def _case(suite: ElementTree.Element, result: Rehearsed) -> None:
    case = ElementTree.SubElement(
        suite,
        "testcase",
        classname=plain(result.short),
        name=plain(result.title),
        time=f"{result.seconds:.3f}",
    )
    if result.passed:
        return
    first = result.differences[0]
    told = f"{first.what}: expected {first.expected}, found {first.found}"
    failure = ElementTree.SubElement(case, "failure", message=plain(told))
    failure.text = plain(result.told)
