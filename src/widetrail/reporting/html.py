"""What every page is made with: one file that needs nothing beside itself, all of it escaped."""

from __future__ import annotations

from widetrail.formats.quantities import show_count, show_files, show_size, show_time
from widetrail.formats.texts import for_people


def make_page(template: str, title: str, **values: object) -> str:
    """Return a page as HTML from a Jinja template, which ``values`` fill.

    ``template`` is the name of one in ``pages/``, or the text of one, which begins with a tag such
    as ``{% extends "page.html" %}``. Everything that is filled in is escaped; what machines and
    recipes say goes through the filter ``clean`` as well, which shows control characters. ``size``
    (bytes), ``files``, ``count`` and ``time`` show numbers.
    """
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("widetrail.reporting", "pages"),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
    )
    environment.filters |= {
        "clean": for_people,
        "size": show_size,
        "files": show_files,
        "count": show_count,
        "time": show_time,
    }
    found = environment.from_string if template.startswith("{%") else environment.get_template
    return found(template).render(title=title, **values)
