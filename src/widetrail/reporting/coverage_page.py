"""What rehearsals reached of recipes as one HTML page: each recipe by line, and who reached what.

The figure is a matrix: a row for each arm, a column for each rehearsal, a mark where it came there.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from widetrail.rehearsing.coverage import Arm, Coverage
from widetrail.reporting.html import make_page

STEP, LEFT, TOP = 14, 400, 190
"""Pixels: of a cell, of the room for the names of arms, and for the names of rehearsals."""

_STYLE = """
:root { --miss: #fbe9e5; --hit: #eaf3ea; }
@media (prefers-color-scheme: dark) { :root { --miss: #43231f; --hit: #1e3324; } }
body { max-width: 76rem; } section h2 { margin: 0 0 .5rem; }
td, th { text-align: left; padding: .15rem .9rem .15rem 0; }
.source { font: 13px/1.45 ui-monospace, monospace; width: 100%; border: 1px solid var(--line);
  table-layout: fixed; }
.source td { padding: 0 .6rem; vertical-align: top; white-space: pre-wrap;
  overflow-wrap: anywhere; }
.source .n { width: 3.2rem; text-align: right; color: var(--soft); }
.source .a { width: 34%; color: var(--soft); font-size: 12px; }
.source tr.hit td { background: var(--hit); } .source tr.miss td { background: var(--miss); }
.source b { color: var(--bad); font-weight: 600; }
.figure { overflow-x: auto; } svg text { fill: var(--ink); font: 11px system-ui, sans-serif; }
svg .soft { fill: var(--soft); } svg .dot { fill: var(--good); } svg .none { fill: var(--bad); }
svg line { stroke: var(--line); } details { margin: .75rem 0; } summary { cursor: pointer; }
"""

_BODY = """<table>{% for one in pages %}<tr><td><a href="#{{ one.covered.recipe }}">
{{ one.covered.recipe }}</a>
</td><td class="{{ 'good' if not one.covered.missing else 'bad' }}">
{{ one.covered.wanted | length - one.covered.missing | length }} of
{{ one.covered.wanted | length }} arms</td><td class="soft">{{ one.apart }}</td></tr>
{% endfor %}</table>
{% for one in pages %}<section id="{{ one.covered.recipe }}">
<h2>{{ one.covered.recipe }}: {{ '%.0f' | format(one.covered.percent) }} %</h2>
{% if one.covered.missing %}<p class="bad">No rehearsal reached:</p>
<ul>{% for arm in one.covered.missing %}<li>line {{ arm.line }}: {{ arm.words | clean }}</li>
{% endfor %}</ul>{% endif %}
<div class="figure"><svg width="{{ one.width }}" height="{{ one.height }}" role="img"
aria-label="Arms of {{ one.covered.recipe }} by rehearsal">
{% for column in one.columns %}<line x1="{{ column.x }}" y1="{{ top - 8 }}" x2="{{ column.x }}"
y2="{{ one.height }}"/><text transform="translate({{ column.x + 4 }},{{ top - 14 }}) rotate(-50)">
{{- column.name | clean }}</text>{% endfor %}
{% for row in one.rows %}<text x="{{ left - 10 }}" y="{{ row.y + 4 }}" text-anchor="end">
<tspan class="soft">{{ row.arm.line }}</tspan> {{ row.name | clean }}
<title>{{ row.arm.words | clean }}</title></text>
<line x1="{{ left - 6 }}" y1="{{ row.y }}" x2="{{ one.right }}" y2="{{ row.y }}"/>
{% for x in row.dots %}<circle class="dot" cx="{{ x }}" cy="{{ row.y }}" r="4.5"/>{% endfor %}
{% if not row.dots and not row.apart %}<rect class="none" x="{{ left - 4 }}" y="{{ row.y - 4 }}"
width="8" height="8"/>{% endif %}{% endfor %}
</svg></div>
<details><summary>By line of the recipe</summary>
<table class="source">{% for line in one.lines %}
<tr class="{{ line.kind }}"><td class="n">{{ line.number }}</td><td>{{ line.text | clean }}</td>
<td class="a">{% for arm in line.arms %}{% if arm.missing %}<b>{{ arm.name | clean }}</b>
{%- else %}{{ arm.name | clean }}{% endif %}{% if arm.why %} ({{ arm.why | clean }}){% endif %}
{%- if arm.count %} ×{{ arm.count }}{% endif %}{% if not loop.last %}, {% endif %}
{%- endfor %}</td></tr>{% endfor %}</table></details>
</section>{% endfor %}
<p class="soft">A dot is an arm that a rehearsal reached; a square is one that none did. Arms that
the recipe itself rules out, and those with a reason written down, have neither.</p>
"""


@dataclass(frozen=True, slots=True)
class _Column:
    name: str
    x: int


@dataclass(frozen=True, slots=True)
class _Row:
    arm: Arm
    name: str
    y: int
    dots: tuple[int, ...]
    apart: bool


@dataclass(frozen=True, slots=True)
class _OnLine:
    name: str
    missing: bool
    why: str
    count: int


@dataclass(frozen=True, slots=True)
class _Line:
    number: int
    text: str
    arms: tuple[_OnLine, ...]

    @property
    def kind(self) -> str:
        """How the line is shown."""
        if any(arm.missing for arm in self.arms):
            return "miss"
        return "hit" if any(arm.count for arm in self.arms) else ""


class _Drawn:
    """One recipe's coverage with where each mark of its figure is."""

    def __init__(self, covered: Coverage) -> None:
        self.covered = covered
        names = [_cut(name.replace(".rehearsal.yaml", "")) for name in covered.rehearsals]
        self.columns = [_Column(n, LEFT + 10 + STEP * k) for k, n in enumerate(names)]
        at = dict(zip(covered.rehearsals, (c.x for c in self.columns), strict=True))
        self.rows = [
            _Row(
                arm,
                _short(arm),
                TOP + STEP * number,
                tuple(at[name] for name in covered.reached[arm]),
                bool(arm.unreachable or arm.unproved),
            )
            for number, arm in enumerate(covered.arms)
        ]
        self.right = LEFT + 10 + STEP * len(names)
        self.width = self.right + TOP - 40
        self.height = TOP + STEP * len(self.rows)
        self.lines = list(_lines(covered))

    @property
    def apart(self) -> str:
        """What does not count, in words."""
        ruled_out, explained = self.covered.ruled_out, self.covered.explained
        told = [f"{ruled_out} cannot be reached"] if ruled_out else []
        told += [f"{explained} explained"] if explained else []
        return ", ".join(told)


def _cut(name: str) -> str:
    """Return the name of a rehearsal in the room there is."""
    return name if len(name) < 32 else f"{name[:30]}…"


def _short(arm: Arm) -> str:
    """Return an arm in the room there is, from its end."""
    return arm.words if len(arm.words) < 62 else f"…{arm.words[-61:]}"


def _lines(covered: Coverage) -> Iterator[_Line]:
    by_line: dict[int, list[_OnLine]] = {}
    missing = set(covered.missing)
    for arm in covered.arms:
        mine = _OnLine(
            arm.name, arm in missing, arm.unreachable or arm.unproved, len(covered.reached[arm])
        )
        by_line.setdefault(arm.line, []).append(mine)
    for number, text in enumerate(covered.lines, start=1):
        yield _Line(number, text, tuple(by_line.get(number, ())))


def render_coverage(covered: Sequence[Coverage]) -> str:
    """Return what rehearsals reached of each recipe as HTML that needs nothing beside itself."""
    pages = [_Drawn(one) for one in covered]
    return make_page("What the rehearsals reached", _BODY, _STYLE, pages=pages, left=LEFT, top=TOP)
