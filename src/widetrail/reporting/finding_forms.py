"""Findings in the forms that people, editors and build servers read.

Sources: SARIF 2.1.0 (OASIS Standard, March 2020); the workflow commands of GitHub Actions; JUnit as
``junit`` says.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from pathlib import Path
from urllib.parse import quote
from xml.etree import ElementTree

from widetrail import __version__
from widetrail.findings import Finding
from widetrail.reporting.explained import explained
from widetrail.reporting.findings import Found
from widetrail.reporting.xml_text import plain

_SARIF = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"


def _json(found: Found) -> str:
    findings = [finding.as_json() for some in found.values() for finding in some]
    told = {"files": [str(file) for file in found], "findings": findings}
    return json.dumps(told, indent=2, ensure_ascii=False)


def _sarif(found: Found) -> str:
    every = [finding for some in found.values() for finding in some]
    codes = sorted({finding.rule for finding in every})
    run = {
        "tool": {
            "driver": {
                "name": "widetrail",
                "version": __version__,
                "rules": [_rule(code) for code in codes],
            }
        },
        "columnKind": "unicodeCodePoints",
        "artifacts": [{"location": {"uri": _uri(str(file))}} for file in found],
        "results": [_result(finding, codes) for finding in every],
    }
    return json.dumps({"$schema": _SARIF, "version": "2.1.0", "runs": [run]}, indent=2)


def _rule(code: str) -> dict[str, object]:
    told = explained().get(code)
    if told is None:
        return {"id": code}
    rule: dict[str, object] = {"id": code, "shortDescription": {"text": told.meaning}}
    if told.good:
        shown = {"Instead of": told.bad, "write": told.good}
        text = "\n".join(f"{title}:\n\n{example}" for title, example in shown.items())
        marked = "\n".join(f"{t}:\n\n```yaml\n{e}```\n" for t, e in shown.items())
        rule["help"] = {"text": text, "markdown": marked}
    return rule


def _result(finding: Finding, codes: list[str]) -> dict[str, object]:
    location: dict[str, object] = {"artifactLocation": {"uri": _uri(finding.file)}}
    if finding.line:
        region = {"startLine": finding.line, "startColumn": max(1, finding.column)}
        location["region"] = region
    places: list[dict[str, object]] = [{"physicalLocation": location}]
    if finding.where:
        places[0]["logicalLocations"] = [{"fullyQualifiedName": finding.where}]
    return {
        "ruleId": finding.rule,
        "ruleIndex": codes.index(finding.rule),
        "level": finding.severity,
        "message": {"text": _message(finding)},
        "locations": places,
    }


def _uri(file: str) -> str:
    path = Path(file)
    return path.as_uri() if path.is_absolute() else quote(path.as_posix())


def _message(finding: Finding) -> str:
    hint = f". {finding.hint}" if finding.hint else ""
    return f"{finding.message}{hint}"


def _github(found: Found) -> str:
    lines = []
    for finding in (finding for some in found.values() for finding in some):
        facts = {"file": finding.file, "title": finding.rule}
        if finding.line:
            facts |= {"line": str(finding.line), "col": str(max(1, finding.column))}
        told = ",".join(f"{name}={_escaped(text, ':,')}" for name, text in facts.items())
        lines.append(f"::{finding.severity} {told}::{_escaped(_message(finding), '')}")
    return "\n".join(lines)


def _escaped(text: str, more: str) -> str:
    """Return a text as a workflow command takes it; ``more`` characters are escaped too."""
    for sign in f"%\r\n{more}":
        text = text.replace(sign, f"%{ord(sign):02X}")
    return text


def _junit(found: Found) -> str:
    top = ElementTree.Element("testsuites")
    for file, findings in found.items():
        suite = ElementTree.SubElement(
            top,
            "testsuite",
            name=plain(str(file)),
            tests=str(max(1, len(findings))),
            failures=str(len(findings)),
        )
        if not findings:
            ElementTree.SubElement(suite, "testcase", classname=plain(str(file)), name="lint")
        for finding in findings:
            case = ElementTree.SubElement(
                suite,
                "testcase",
                classname=plain(str(file)),
                name=plain(f"{finding.rule}:{finding.line}:{finding.column}"),
            )
            failure = ElementTree.SubElement(
                case, "failure", type=finding.severity, message=plain(_message(finding))
            )
            failure.text = plain(str(finding))
    ElementTree.indent(top)
    told: str = ElementTree.tostring(top, encoding="unicode", xml_declaration=True)
    return told


FORMS: Mapping[str, Callable[[Found], str]] = {
    "json": _json,
    "sarif": _sarif,
    "github": _github,
    "junit": _junit,
}
"""The forms by their names, each with what gives the findings in it."""
