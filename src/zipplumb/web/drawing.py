"""Blocks of JSON by which a fragment of a page asks the stage to draw (docs/formats.md)."""

from __future__ import annotations

from jinja2.utils import htmlsafe_json_dumps
from markupsafe import Markup


def drawing(**what: object) -> Markup:
    """The block, of the names in docs/formats.md; the stage reads all blocks of the slip as one."""
    return Markup('<script type="application/json" data-drawing>{}</script>').format(htmlsafe_json_dumps(what))
