"""Pictures drawn from what they show: as the numbers are now, with no browser."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ...cad.mesh import mesh_of
from ...core.errors import InputError
from ...core.frames import Array
from ...core.pictures.camera import SIDES, Camera
from ...core.pictures.drawing import Mesh, Painted, Sight, edges_seen, seen
from ...core.pictures.tags import Arranged, Laid, lay_out, margins
from ...exchange.map_table import STEPS
from ...exchange.picture_svg import PictureDrawn, TagDrawn, size_of
from ..measure import maps
from ..state.part_model import model_of
from ..state.results import JobResults
from .tagging import Tagged, places_of, tagged
from .views import PictureView, Tags

HIGH_PX = 1000
TYPES_PX = (28.0, 24.0, 20.0, 17.0)  # of tags: smaller where there are many
BASE, UNSEEN, FAINT, PAPER = "#efe4cc", "#a7adab", "#ddd3bf", "#f7f3ea"
TINT = {"in": "#8dbdb2", "close": "#dcb262", "out": "#df8a6a", "not proven": "#a9b1b8"}  # as on the stage
NO_PART = Mesh(
    np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), np.uint32), np.empty(0, int), np.empty((0, 2, 3)), np.empty(0, int)
)
LOOK_PX, STAGE_TYPE_PX, MOST_OVER, BELOW_PX = 420, 14.0, 400, 36.0  # over the stage, above its own words


def draw(state: JobResults, view: PictureView, about: str) -> PictureDrawn:
    """A picture as it is now. Raises InputError where it sees nothing."""
    camera, mesh = view.seen_from, mesh_for(state, view)
    wide = round(HIGH_PX * view.shape)
    painted, scale = _map(state, view.map)
    sight = seen(camera, mesh, wide, HIGH_PX, painted)
    image = _colored(state, sight, bool(painted))
    edges = edges_seen(camera, mesh, sight)
    bare = not len(mesh.triangles)
    dots = camera.on_paper(_all_places(state), wide, HIGH_PX)[:, :2] if bare else np.empty((0, 2))
    drawn = PictureDrawn(wide, HIGH_PX, (0.0, 0.0), image, edges, list(dots), scale=scale, about=about)
    return drawn if view.tags is None else _with_tags(drawn, tagged(state, view.tags, camera, sight, mesh), view.tags, camera)


def mesh_for(state: JobResults, view: PictureView) -> Mesh:
    """The part's mesh, of the bodies that are shown."""
    model = state.remembered.get("part model")
    if model is None:
        model = state.remembered["part model"] = model_of(state.job.part)
    if model is None or not model.faces:
        return NO_PART
    kept = state.job.kept_bodies
    shown = {body.index for body in model.bodies if kept is None or body.index in kept}
    if view.bodies is not None:
        shown &= set(view.bodies)
    return mesh_of(model, None if len(shown) == len(model.bodies) else shown)


def round_the_part(state: JobResults, like: PictureView) -> dict[str, PictureView]:
    """One picture from each side, by what it is called; where tags are wanted, of those sides from which some are seen."""
    mesh = mesh_for(state, like)
    corners = mesh.box if len(mesh.positions) else _all_places(state)
    if not len(corners):
        raise InputError("There is nothing to be seen yet.", "Nothing was kept.", "Measure something, or bring in the CAD.")
    found = {}
    for side, eye in SIDES.items():
        camera = Camera.on(np.array(eye), corners, like.shape)
        view = like.model_copy(update={"camera": camera.data(), "tags": None if like.tags is None else _unmoved(like.tags)})
        if view.tags is None or tags_of(state, view):
            found[f"From {side}"] = view
    if not found:
        raise InputError(
            "From no side is a row to be seen that a tag was asked for.", "Nothing was kept.", "Choose other rows for the tags."
        )
    return found


def tags_of(state: JobResults, view: PictureView) -> list[Tagged]:
    """The rows that have a tag in it."""
    if view.tags is None:
        return []
    camera = view.seen_from
    mesh = mesh_for(state, view)
    return tagged(state, view.tags, camera, seen(camera, mesh, round(HIGH_PX * view.shape), HIGH_PX), mesh)


def over_stage(state: JobResults, view: PictureView, high: float) -> tuple[list[Tagged], Laid]:
    """Rows with tags, and where these stand on a stage so many pixels high."""
    wide, camera = high * view.shape, view.seen_from
    mesh = mesh_for(state, view)
    sight = seen(camera, mesh, round(LOOK_PX * view.shape), LOOK_PX)
    rows = [] if view.tags is None else tagged(state, view.tags, camera, sight, mesh)[:MOST_OVER]
    sizes = np.array([size_of(row.texts, STAGE_TYPE_PX) for row in rows]).reshape(-1, 2)
    places = camera.on_paper(np.array([row.at for row in rows]).reshape(-1, 3), wide, high)[:, :2]
    arranged: Arranged = "around" if view.tags is None else view.tags.arranged
    return rows, lay_out(places, sizes, (wide, high - BELOW_PX), arranged)


def _unmoved(tags: Tags) -> Tags:
    return tags.model_copy(update={"moved": {}})


def _all_places(state: JobResults) -> Array:
    return np.vstack([np.empty((0, 3)), *(places_of(state, row.id)[0] for row in state.rows)])


def _map(state: JobResults, row_id: int | None) -> tuple[tuple[Painted, ...], list[str]]:
    """What is painted, and the words of its scale, the largest first; nothing of a row that is no map, or not there yet."""
    if row_id is None or row_id not in state.sheet.index:
        return (), []
    try:
        judged = maps.map_of(state, row_id)
        places, size = maps.drawn_of(state, row_id)
    except InputError:
        return (), []
    values = places[:, 3].astype(float)
    colors = np.where(values > maps.ALL, len(STEPS), np.searchsorted(maps.steps_of(judged), values)).astype(np.int32)
    painted = Painted(places[:, :3].astype(float), colors, size)
    return (painted,), maps.scale_of(judged, state.job.units)[::-1]


def _colored(state: JobResults, sight: Sight, mapped: bool) -> NDArray[np.uint8]:
    """(h, w, 3) the faces in their tints and light, and what is painted on them."""
    faces = np.full((max(int(sight.faces.max()) + 1, 1), 3), _rgb(UNSEEN if mapped else BASE))
    for row in () if mapped else state.rows:
        face, verdict = row.recipe.cad_face, state.results[row.id].verdict
        if face is not None and face < len(faces) and verdict is not None and verdict.word in TINT:
            faces[face] = _rgb(TINT[verdict.word])
    steps = np.array([_rgb(color) for color in (*STEPS, FAINT)], np.uint8)
    return sight.tinted(faces, steps, _rgb(PAPER).astype(np.uint8))


def _rgb(color: str) -> Array:
    return np.array([int(color[k : k + 2], 16) for k in (1, 3, 5)], float)


def _with_tags(drawn: PictureDrawn, rows: list[Tagged], tags: Tags, camera: Camera) -> PictureDrawn:
    """The picture made larger, so that tags stand in margins of its own; in smaller type where there are many."""
    if not rows:
        return drawn
    places = camera.on_paper(np.array([row.at for row in rows]), drawn.wide, drawn.high)[:, :2]
    for type_px in TYPES_PX:
        sizes = np.array([size_of(row.texts, type_px) for row in rows])
        side, above = margins(sizes, tags.arranged)
        wide, high = drawn.wide + 2 * side, drawn.high + 2 * above
        at = places + [side, above]
        moved = {
            k: (tags.moved[row.row][0] * wide, tags.moved[row.row][1] * high)
            for k, row in enumerate(rows)
            if row.row in tags.moved
        }
        laid = lay_out(at, sizes, (wide, high), tags.arranged, moved)
        if not len(laid.left_out):
            break
    found = [
        TagDrawn(rows[k].row, box, port, at[k], rows[k].texts, rows[k].word, rows[k].hidden)
        for k, box, port in zip(laid.which.tolist(), laid.boxes, laid.ports, strict=True)
    ]
    told = f"{len(laid.left_out)} more found no room: choose fewer" if len(laid.left_out) else ""
    return replace(drawn, wide=wide, high=high, at=(side, above), tags=found, type_px=type_px, told=told)
