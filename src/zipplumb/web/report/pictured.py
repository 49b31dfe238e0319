"""Pictures of a report: kept as they are seen from somewhere, with tags; and tags over the stage."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, Response, g, jsonify, request
from werkzeug.exceptions import NotFound

from ...core.errors import InputError
from ...core.units import number_from_text, written
from ...exchange.picture_svg import picture_svg
from ...jobs.report import documents, pictures
from ...jobs.report.drawn import draw, over_stage
from ...jobs.report.views import PictureView, view_of
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot
from ...store.reports import Picture
from .. import params
from ..answers import done, go_on
from ..doors import changes, reads
from ..sizes import takes

blueprint = Blueprint("pictured", __name__, url_prefix="/jobs/<int:job_id>/pictures")
LEAST_PX, MOST_PX = 50, 20_000
# a picture by itself, which needs and may do nothing
POLICY = "default-src 'none'; img-src data:; style-src 'unsafe-inline'"


@blueprint.post("/keep")
@changes
def keep(job_id: int):
    """What the stage shows now."""
    caption = request.form.get("caption", "")
    if request.form.get("round"):
        pictures.keep_all_round(g.actor, job_id, _view(), caption)
        return done()
    picture = pictures.keep(g.actor, job_id, _view(), caption)
    return done() if request.headers.get("HX-Request") else jsonify(picture=picture)


@blueprint.post("/logo")
@changes
@takes(1)
def logo(job_id: int):
    """A shop's own, for the title block of a report."""
    file = request.files.get("logo")
    kept = pictures.keep_logo(g.actor, job_id, b"" if file is None else file.read())
    return go_on(job_id, "report", report=documents.give_logo(g.actor, job_id, params.one_id("document"), kept))


@blueprint.get("/<int:picture_id>")
@reads
def picture(job_id: int, picture_id: int):
    """As the numbers are now."""
    with snapshot() as session:
        found = session.get(Picture, picture_id)
        if found is None or found.job_id != job_id:
            raise NotFound()
        if found.view is None:
            return Response(found.png or b"", mimetype="image/png", headers=_kept())
        state = as_it_stands(session, job_id)
        values = request.args
        with written(documents.numbers_typed(values.get("decimals", ""), values.get("mark", "."))):
            svg = picture_svg(draw(state, view_of(found.view), found.caption), picture_id)
    return Response(svg, mimetype="image/svg+xml", headers={"Content-Security-Policy": POLICY} | _kept())


def _kept() -> dict[str, str]:
    """An address that names what is drawn is drawn once."""
    return {"Cache-Control": "private, max-age=86400, immutable"} if request.args.get("of") else {}


@blueprint.post("/<int:picture_id>/drop")
@changes
def drop(job_id: int, picture_id: int):
    pictures.drop(g.actor, job_id, picture_id)
    return done()


@blueprint.post("/<int:picture_id>/tag")
@changes
def tag(job_id: int, picture_id: int):
    """A tag is put somewhere by hand, or, without a place, back where there is room."""
    row, place = params.one_id("row"), None
    if row is None:
        raise InputError("No tag was named.", "Nothing was changed.", "Drag a tag.")
    if request.form.get("at"):
        x, y = params.numbers("at", 2)
        place = (x, y)
    pictures.move_tag(g.actor, job_id, picture_id, row, place)
    return done()


@blueprint.get("/tags")
@reads
def tags(job_id: int):
    """Where tags stand over the stage as it is seen now (docs/formats.md)."""
    high = number_from_text(request.args.get("high", ""), "how high the stage is")
    if not LEAST_PX <= high <= MOST_PX:
        raise InputError("So high no stage is.", "No tag is shown.", "Make the window larger.")
    with snapshot() as session:
        rows, laid = over_stage(as_it_stands(session, job_id), view_of(_view()), high)
    shown = [
        {"row": rows[k].row, "at": rows[k].at.round(3).tolist(), "box": box.round(1).tolist(), "port": port.round(1).tolist(),
         "text": "\u2002".join(rows[k].texts), "word": rows[k].word, "hidden": rows[k].hidden}
        for k, box, port in zip(laid.which.tolist(), laid.boxes, laid.ports, strict=True)
    ]  # fmt: skip
    return jsonify(tags=shown, left_out=len(laid.left_out))


def _view() -> dict[str, Any]:
    """What the stage says of itself, and which tags the form wants. Raises InputError."""
    values = request.values
    try:
        raw = json.loads(values.get("seen", ""))
    except (ValueError, RecursionError):
        raw = None
    if not isinstance(raw, dict) or not set(raw) <= set(PictureView.model_fields) - {"tags"}:
        raise InputError(
            "There is no picture of the stage here.", "Nothing was kept.", "Open the job in a browser that draws 3D."
        )
    if not values.get("tagged"):
        return raw
    named = {name: values.get(name, "").strip() for name in ("first", "last", "kind", "word")}
    chosen = params.listed_ids("rows") if values.get("of") == "chosen" else []
    if values.get("of") == "chosen" and not chosen:
        raise InputError("No row is chosen for the tags.", "Nothing was kept.", "Drag round some on the stage with Shift held.")
    shows = [each for each in values.getlist("shows") if each]
    return raw | {"tags": {
        **named, "rows": chosen, "seen": bool(values.get("seen_only")), "shows": shows,
        "arranged": values.get("arranged", "around"),
    }}  # fmt: skip
