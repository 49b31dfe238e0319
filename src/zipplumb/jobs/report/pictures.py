"""Pictures that people keep: of what is seen from somewhere, drawn anew as the numbers change; and logos, as they came."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.fingerprints import fingerprint
from ...exchange.picture_svg import PictureShown, picture_svg
from ...exchange.pictures import is_picture
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ...store.reports import Picture
from ..actor import Actor, record
from ..state.results import JobResults, load
from .drawn import draw, round_the_part
from .views import PictureView, view_of

LARGEST_LOGO = 1_000_000
MOST_PICTURES = 60  # of a job
LOGO = "logo"  # what a picture is that is no view
USUAL_CAPTION = "The part"


def pictures_of(session: Session, job_id: int) -> list[Picture]:
    """The views that were kept, in order."""
    mine = Picture.job_id == job_id, Picture.what == "view"
    return list(session.scalars(select(Picture).where(*mine).order_by(Picture.id)))


def key_of(state_of: str, picture: Picture) -> str:
    """Another where it would be drawn otherwise. ``state_of``: the fingerprint of the job's state."""
    return fingerprint(state_of, json.dumps(picture.view, sort_keys=True), picture.caption)


def picture_of(session: Session, job_id: int, picture_id: int) -> Picture:
    """Raises InputError where it is not of the job."""
    picture = session.get(Picture, picture_id)
    if picture is None or picture.job_id != job_id:
        raise InputError("That picture is not in this job any more.", "Nothing was changed.", "Choose another.")
    return picture


def shown(state: JobResults, picture: Picture, number: int = 0) -> PictureShown:
    """As it is now. Raises InputError where it cannot be drawn."""
    if picture.view is not None:
        drawn = draw(state, view_of(picture.view), picture.caption or USUAL_CAPTION)
        return PictureShown(picture.caption, drawn.alt, picture_svg(drawn, number))
    if picture.png is None or not is_picture(picture.png):
        raise InputError("This picture cannot be read.", "The others are there.", "Keep the view again.")
    return PictureShown(picture.caption, picture.caption, "", "", _source(picture.png))


def logo_of(session: Session, job_id: int, picture_id: int) -> str | None:
    """A logo as the address of its data; None where it is gone."""
    picture = session.get(Picture, picture_id)
    there = picture is not None and picture.job_id == job_id and picture.png is not None
    return _source(picture.png) if picture is not None and picture.png is not None and there else None


def _source(png: bytes) -> str:
    return "data:image/png;base64," + base64.b64encode(png).decode()


def keep(actor: Actor, job_id: int, raw: Mapping[str, Any], caption: str) -> int:
    """Keep a view. Returns its id. Raises InputError."""
    actor.must_change()
    view = view_of(raw)
    with transaction() as session:
        state = _room_for(session, job_id, 1)
        draw(state, view, USUAL_CAPTION)
        (picture,) = _kept(session, actor, job_id, {caption.strip() or USUAL_CAPTION: view})
    return picture


def keep_all_round(actor: Actor, job_id: int, raw: Mapping[str, Any], caption: str) -> list[int]:
    """Keep a view from each side, with the tags that are seen from there. Returns their ids. Raises InputError."""
    actor.must_change()
    like = view_of(raw)
    with transaction() as session:
        state = _room_for(session, job_id, 6)
        views = round_the_part(state, like)
        lead = f"{caption.strip()}, " if caption.strip() else ""
        named = {f"{lead}{side[0].lower() if lead else side[0]}{side[1:]}": view for side, view in views.items()}
        return _kept(session, actor, job_id, named)


def _room_for(session: Session, job_id: int, more: int) -> JobResults:
    stored(session, Job, job_id, lock=True)
    there = session.scalar(select(func.count()).select_from(Picture).where(Picture.job_id == job_id)) or 0
    if there + more > MOST_PICTURES:
        raise InputError(f"A job keeps {MOST_PICTURES} pictures.", "No more was kept.", "Drop some that are not needed.")
    return load(session, job_id)


def _kept(session: Session, actor: Actor, job_id: int, views: Mapping[str, PictureView]) -> list[int]:
    found = [Picture(job_id=job_id, view=view.model_dump(mode="json"), caption=name[:120]) for name, view in views.items()]
    session.add_all(found)
    session.flush()
    for picture in found:
        record(session, actor, job_id, "keep picture", picture=picture.id)
    tell(session, job_id, "picture")
    return [picture.id for picture in found]


def keep_logo(actor: Actor, job_id: int, png: bytes) -> int:
    """Keep a shop's logo, a PNG. Returns its id. Raises InputError."""
    actor.must_change()
    if len(png) > LARGEST_LOGO or not is_picture(png):
        raise InputError("A logo is a PNG of up to 1 MB.", "Nothing was kept.", "Save it as PNG, and choose it again.")
    with transaction() as session:
        _room_for(session, job_id, 1)
        picture = Picture(job_id=job_id, png=png, what=LOGO)
        session.add(picture)
        session.flush()
        record(session, actor, job_id, "keep logo", picture=picture.id)
        return picture.id


def move_tag(actor: Actor, job_id: int, picture_id: int, row_id: int, place: tuple[float, float] | None) -> None:
    """Put a tag somewhere, as shares of the picture's width and height; None: where there is room. Raises InputError."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        picture = picture_of(session, job_id, picture_id)
        view = None if picture.view is None else view_of(picture.view)
        if view is None or view.tags is None:
            raise InputError("There are no tags in this picture.", "Nothing was changed.", "Keep a view with tags.")
        moved = {row: at for row, at in view.tags.moved.items() if row != row_id} | ({} if place is None else {row_id: place})
        tags = view.tags.model_dump(mode="json") | {"moved": moved}
        picture.view = view_of(view.model_dump(mode="json") | {"tags": tags}).model_dump(mode="json")
        record(session, actor, job_id, "move tag", picture=picture_id, row=row_id)
        tell(session, job_id, "picture")


def drop(actor: Actor, job_id: int, picture_id: int) -> None:
    actor.must_change()
    with transaction() as session:
        picture = session.get(Picture, picture_id)
        if picture is not None and picture.job_id == job_id:
            session.delete(picture)
            record(session, actor, job_id, "drop picture", picture=picture_id)
            tell(session, job_id, "picture")
