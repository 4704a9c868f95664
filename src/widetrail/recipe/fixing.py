"""Fixing what lint finds where only one thing can be meant; comments and layout stay.

What is taken out is taken out of the text. A change counts only if lint then finds what it found
before but for that one finding.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

import yaml

from widetrail.findings import Finding
from widetrail.lazily import dataclass
from widetrail.old_words import SPELLINGS
from widetrail.recipe.loader import Kinds, examine

MOST = 200
"""Findings of one recipe that are fixed, at most."""


@dataclass(frozen=True)
class Fixed:
    """A recipe as it was and as it is with what was certain put right, and those findings."""

    file: str
    before: str
    after: str
    findings: tuple[Finding, ...]


def fix(text: str, file: str, kinds: Kinds) -> Fixed:
    """Return a recipe with what is certain put right."""
    now, done, refused = text, list[Finding](), set[tuple[str, str]]()
    for _ in range(MOST):
        findings = examine(now, file, kinds)[1]
        able = (f for f in findings if f.rule in _FIXES and (f.rule, f.where) not in refused)
        finding = next(able, None)
        if finding is None:
            break
        changed = _FIXES[finding.rule](now, finding)
        left = _told(f for f in findings if f is not finding)
        if changed != now and _told(examine(changed, file, kinds)[1]) <= left:
            now = changed
            done.append(finding)
        else:
            refused.add((finding.rule, finding.where))
    return Fixed(file, text, now, tuple(done))


def _told(findings: Iterator[Finding] | tuple[Finding, ...]) -> set[tuple[str, str]]:
    return {(finding.rule, finding.message) for finding in findings}


# Changes of the text


@dataclass(frozen=True)
class _Entry:
    """An entry of a collection in a text: where it, and its value, begin and end; what holds it."""

    start: yaml.Mark
    value: yaml.Mark
    end: yaml.Mark
    holder: yaml.CollectionNode
    number: int
    above: _Entry | None


def _respelled(text: str, finding: Finding) -> str:
    """Return a text with the word at a finding spelt as everywhere in the language."""
    lines = text.splitlines(keepends=True)
    line, at = lines[finding.line - 1], finding.column - 1
    for word, ours in SPELLINGS.items():
        if line[at:].lstrip("'\"").startswith(word):
            lines[finding.line - 1] = f"{line[:at]}{line[at:].replace(word, ours, 1)}"
            return "".join(lines)
    return text


def _taken_out(text: str, finding: Finding) -> str:
    """Return a text without the entry at a finding, and what would be left empty."""
    entry = _entry_at(text, finding.line - 1, finding.column - 1)
    while entry is not None and len(entry.holder.value) == 1 and entry.above is not None:
        entry = entry.above
    if entry is None:
        return text
    start, end = entry.start.index, entry.end.index
    if entry.holder.flow_style:
        others = list(_entries(entry.holder, entry.above))
        if entry.number + 1 < len(others):
            end = others[entry.number + 1].start.index
        elif entry.number:
            start = others[entry.number - 1].end.index
        return text[:start] + text[end:]
    start = text.rfind("\n", 0, start) + 1
    end = len(text[:end].rstrip())
    line_end = text.find("\n", end)
    return text[:start] + (text[line_end + 1 :] if line_end >= 0 else "")


def _entry_at(text: str, line: int, column: int) -> _Entry | None:
    """Return the outermost entry that begins at a position, or whose value does."""
    try:
        top = yaml.compose(text, Loader=yaml.CSafeLoader)
    except yaml.YAMLError:
        return None
    waiting: list[tuple[yaml.Node | None, _Entry | None]] = [(top, None)]
    while waiting:
        node, above = waiting.pop(0)
        if isinstance(node, yaml.CollectionNode):
            for entry in _entries(node, above):
                if (line, column) in {(m.line, m.column) for m in (entry.start, entry.value)}:
                    return entry
                inner = node.value[entry.number]
                waiting.append((inner[1] if isinstance(inner, tuple) else inner, entry))
    return None


def _entries(node: yaml.CollectionNode, above: _Entry | None) -> Iterator[_Entry]:
    for number, one in enumerate(node.value):
        first, last = one if isinstance(one, tuple) else (one, one)
        yield _Entry(first.start_mark, last.start_mark, last.end_mark, node, number, above)


_FIXES: Mapping[str, Callable[[str, Finding], str]] = {
    "spelling": _respelled,
    "needless-excuse": _taken_out,
    "needless-administrator": _taken_out,
}
"""What puts a finding right, by its code: those alone of which only one thing can be meant."""
