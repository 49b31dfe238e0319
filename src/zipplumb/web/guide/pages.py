"""The guide as a page. It is written as Markdown, to which docs/ links; each heading can be gone to by what it says."""

from __future__ import annotations

from functools import cache
from itertools import pairwise
from pathlib import Path

from flask import Blueprint, render_template
from markdown_it import MarkdownIt
from markupsafe import Markup

from ..doors import reads

blueprint = Blueprint("guide", __name__)
WRITTEN = Path(__file__).with_name("guide.md")


@cache
def _rendered() -> Markup:
    """HTML of the guide; a heading's id is what it says, in small letters."""
    reader = MarkdownIt()
    tokens = reader.parse(WRITTEN.read_text())
    for opening, text in pairwise(tokens):
        if opening.type == "heading_open":
            opening.attrSet("id", text.content.lower().replace(" ", "-"))
    return Markup(reader.renderer.render(tokens, reader.options, {}))


@blueprint.get("/guide")
@reads
def guide():
    return render_template("guide.html", guide=_rendered())
