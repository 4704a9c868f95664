"""The report as one HTML page that needs nothing beside itself."""

from __future__ import annotations

from widetrail.formats.texts import for_people
from widetrail.reporting.html import make_page
from widetrail.steps import Noted
from widetrail.walking import Report

_STYLE = """
table { width: 100%; margin: .5rem 0; }
th, td { text-align: left; padding: .3rem .75rem .3rem 0; border-bottom: 1px solid var(--line);
  vertical-align: top; overflow-wrap: break-word; }
td:first-child { white-space: nowrap; } .wrap td:first-child { white-space: normal; }
.tasks { list-style: none; padding-left: 0; } .tasks label { display: block; }
h3 { font-size: 1rem; margin: .75rem 0 .25rem; }
th { font-weight: 600; color: var(--soft); font-size: .9rem; }
"""

_BODY = """<p class="{{ 'good' if report.well else 'bad' }}">
<strong>{{ report.headline | clean }}</strong></p>
{% if report.tasks_by_program %}<h2>Left for you to do</h2>
{% for program, tasks in report.tasks_by_program %}<h3>{{ (program or "The move") | clean }}</h3>
<ul class="tasks">{% for task in tasks %}<li><label><input type="checkbox"
{%- if task.is_done %} checked{% endif %}> {{ task.words | clean }}</label></li>{% endfor %}</ul>
{% endfor %}{% endif %}
{% for item in report.items %}<section>
<h2>{{ item.title | clean }}</h2>
<p class="{{ 'bad' if item.state == 'failed' else 'good' if item.state == 'carried' else 'soft' }}">
{{ item.outcome }}, route “{{ item.route | clean }}”, {{ item.amount }}
{%- if not item.seat %}, {{ item.size | size }}{% endif %}
{%- if item.verified %}, {{ item.verified }} verified on {{ report.new | clean }}{% endif %}</p>
{% if not item.seat %}<p><code>{{ item.old_path | clean }}</code> →
<code>{{ item.new_path | clean }}</code></p>{% endif %}
{% if item.checks %}<table><tr><th>Check</th><th>{{ report.old | clean }}</th>
<th>{{ report.new | clean }}</th><th></th></tr>
{% for check in item.checks %}<tr><td>{{ check.name | clean }}</td><td>{{ value(check.old) }}</td>
<td>{{ value(check.new) }}</td>
<td class="{{ 'soft' if check.is_empty else 'good' if check.verdict == 'holds' else 'bad' }}">
{{- check.words }}</td></tr>
{% endfor %}</table>{% endif %}
{% if item.rewritten %}<p>{{ item.rewritten | count("path") }} rewritten.</p>{% endif %}
{% for path in item.backed_up %}<p>Backup of what existed there:
<code>{{ path | clean }}</code></p>{% endfor %}
{% for path in item.beside %}<p>Copied beside what existed there, as
<code>{{ path | clean }}</code></p>{% endfor %}
{% for path in item.passed_by %}<p class="soft">Skipped (still in the parcel), since it
existed there: <code>{{ path | clean }}</code></p>{% endfor %}
{% for note in item.notes %}<p>{{ note | clean }}</p>
{% endfor %}
{% for step in item.steps %}<p class="bad">{{ step.reason | clean }}. {{ step.todo | clean }}</p>
{% endfor %}
{% if item.losses %}<table class="wrap"><tr><th>Not transferred</th><th>What to do</th></tr>
{% for loss in item.losses %}<tr><td>{{ loss.what | clean }}</td><td>{{ loss.remedy | clean }}
{%- if loss.proof == "seen" %} <span class="good">Known to be done.</span>{% endif %}
{%- if loss.lacking %} <span class="soft">Known to be done when
{{ loss.lacking | clean }}.</span>{% endif %}</td></tr>
{% endfor %}</table>{% endif %}
</section>{% endfor %}
{% for item in report.left %}<section><h2>{{ item.title | clean }}</h2>
{% if not item.there %}<p class="bad">not transferred</p>{% endif %}
{% for reason in item.reasons %}<p>{{ reason | clean }}</p>{% endfor %}</section>{% endfor %}
{% if report.notices %}<h2>Notes</h2><ul>{% for notice in report.notices %}
<li>{{ notice | clean }}</li>{% endfor %}</ul>{% endif %}
<h2>Legs of the move</h2>
<table><tr><th>Leg</th><th>Station</th><th>Machine</th><th>Walked</th><th>Verified</th></tr>
{% for leg in report.legs %}<tr><td>{{ leg.number }}</td><td>{{ leg.station }}</td>
<td>{{ leg.machine | clean }}</td><td>{{ leg.time | time }}</td>
<td>{% for line in leg.words %}{{ line | clean }}<br>{% endfor %}</td></tr>{% endfor %}</table>
<p class="soft">Run {{ report.run }}, plan {{ report.plan[:16] }}. Files were verified by reading
them again from the medium or the disk, past the system's cache where the system allows that.</p>
"""


def render_page(report: Report) -> str:
    """Return the report as HTML; everything from a machine or recipe is escaped."""
    return make_page(
        f"Move from {report.old} to {report.new}: {', '.join(report.programs)}",
        _BODY,
        _STYLE,
        report=report,
        value=show_answer,
    )


def show_answer(answer: Noted | None) -> str:
    """Return a noted answer for people: a value, or that it is unknown."""
    if answer is None:
        return "not noted"
    if answer.by is not None:
        return ", ".join(f"{part}: {show_answer(one)}" for part, one in answer.by.items()) or "none"
    if answer.value is None:
        return for_people(f"unknown: {answer.unknown}")
    if isinstance(answer.value, tuple):
        return for_people(", ".join(answer.value))
    return for_people(str(answer.value))
