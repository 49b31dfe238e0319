"""The stand-in's hand, for the demo: telling it what to touch. It never tells us its truth."""

from __future__ import annotations

import json
import os
import socket
from collections.abc import Callable
from typing import Any

import numpy as np

from ..cad import CadModel
from ..core.errors import DeviceError, InputError
from ..core.features import direction_of, plane_of
from ..core.frames import Array, perpendicular_pair
from ..core.probing.next_place import places_in_order
from ..core.spots import spots_on
from ..store.database import stored, transaction
from ..store.models import Job, Part, Row
from .actor import Actor
from .hand_walls import places_on_its_face, places_on_walls
from .measure import scanning
from .measure.ahead import ahead_of, outline_of
from .place.details import details_of
from .state.part_model import model_of
from .state.recipes import recipe_of
from .state.results import load

OFF_MM, FREE_MM = 0.05, 1e4
KNOCKED_MM = [0.3, -0.2, 0.1]
ANSWER_S = 10.0  # of a stand-in that shares its processor with everything else
NOWHERE = np.empty((0, 3))
HITS, ALONG = 4, 120  # of what asks for none; places along an outline
TRIANGLE_MM = 5.0  # round a place on a surface that is touched more than once
AIMED = 24  # places of a face at which a beam may be aimed by hand


def touchable_faces(model: CadModel) -> list[dict]:
    """Faces as the stand-in wants them: nominal shape, and spots that a hand can reach."""
    faces = []
    room = _room(model)
    for face in model.faces:
        spots, outward = spots_on(*model.mesh_of(face.index), seed=face.index)
        raw = {"index": face.index, "kind": "free", "spots": spots.tolist(), "outward": outward.tolist()}
        if len(spots):
            raw["room_mm"] = room(spots, outward)
        nominal = face.nominal or {}
        if nominal.get("shape") == "plane":
            raw |= {"kind": "plane", "point": nominal["point"], "axis": nominal["normal"]}
        elif nominal.get("shape") == "cylinder":
            raw |= {
                "kind": "cylinder",
                "point": nominal["point"],
                "axis": nominal["direction"],
                "radius": nominal["radius"],
                "inside": face.inside,
            }
        elif nominal:
            raw |= {"kind": "shape", "shape": nominal, "inside": face.inside}
        elif spline := model.splines.get(face.index):
            raw["spline"] = spline.to_data()
        faces.append(raw)
    return faces


def _room(model: CadModel) -> Callable[[Array, Array], float]:
    """How much air there is before some spots of a part, mm, looking outward from them."""
    import trimesh  # heavy, and the product itself has no hand

    corners = model.triangles_of(None).reshape(-1, 3)
    mesh = trimesh.Trimesh(corners, np.arange(len(corners)).reshape(-1, 3), process=False)

    def room(spots: Array, outward: Array) -> float:
        seen, ray, _ = mesh.ray.intersects_location(spots + OFF_MM * outward, outward, multiple_hits=False)
        return float(np.min(np.linalg.norm(seen - spots[ray], axis=1))) if len(seen) else FREE_MM

    return room


def control_address(port: int | None = None) -> tuple[str, int] | None:
    """The control address of the stand-in linked at a port; None where there is none.

    From ZIPPLUMB_SIM_CONTROL, pairs of both ports; by default the first.
    """
    pairs = [pair.split(":") for pair in os.environ.get("ZIPPLUMB_SIM_CONTROL", "").split(",") if ":" in pair]
    found = next((control for link, control in pairs if port is None or int(link) == port), None)
    return ("127.0.0.1", int(found)) if found else None


def tell_hand(order: dict, port: int | None = None) -> dict:
    """Send one order to a stand-in and return its answer. Raises DeviceError."""
    address = control_address(port)
    if address is None:
        raise DeviceError("There is no stand-in here.", "Nothing was changed.", "Start the demo to have one.")
    try:
        with socket.create_connection(address, timeout=ANSWER_S) as connection:
            connection.sendall((json.dumps(order) + "\n").encode())
            answer = json.loads(connection.makefile("rb").readline())
    except (OSError, ValueError):
        raise DeviceError("The stand-in does not answer.", "Nothing was changed.", "Wait a moment; it comes back.") from None
    if not answer["ok"]:
        raise DeviceError(answer["why"] + ".", "Nothing was touched.", "Choose another face.")
    return answer


def move_hand(actor: Actor, job_id: int, do: str, **more) -> dict:
    """Tell the stand-in of the instrument that is at a job what its hand is to do."""
    actor.must_change()
    with transaction() as session:
        here = load(session, job_id).instrument
        kind, port = ("arm", None) if here is None else (here.kind, here.port)
    return MOVES.get(kind, _with_the_part)(job_id, do, port, more)


def _with_a_reflector(job_id: int, do: str, port: int | None, more: dict) -> dict:
    """The current row names the nest to which the reflector is carried; of a detail what is proposed is turned."""
    with transaction() as session:
        state = load(session, job_id)
        if do in ("carry", "knock"):
            if state.current is None:
                raise InputError("No row is current.", "Nothing was moved.", "Press a row of the sheet.")
            name = {"name": state.current.recipe.name}
            do, more = ("nest", name) if do == "carry" else ("knock", {**name, "by": KNOCKED_MM})
        elif do == "turn":
            now = next((each for each in details_of(session, state) if each.id == more.get("detail")), None)
            if now is None or now.plan is None or not now.plan.turns:
                raise InputError("Nothing is proposed there.", "Nothing was turned.", "Look at its targets first.")
            more = {"detail": now.recipe.name, "turns": {turn.name: turn.turns for turn in now.plan.turns}}
    return tell_hand({"do": do, **more}, port)


def _with_a_beam(job_id: int, do: str, port: int | None, more: dict) -> dict:
    """A person aims it: at some places of the current row's face, or where the part is clicked."""
    if do not in ("touch", "touch_at"):
        return tell_hand({"do": do, **more}, port)
    with transaction() as session:
        state = load(session, job_id)
        part, row = state.job.part, state.current
        if do == "touch_at":
            places = np.array([more["point"]])
        elif row is None or row.recipe.cad_face is None:
            raise InputError("The current row has no face to aim at.", "Nothing was read.", "Click on the part to aim there.")
        else:
            model = model_of(part)
            assert model is not None
            spots, _ = spots_on(*model.mesh_of(row.recipe.cad_face), seed=row.recipe.cad_face)
            places = places_in_order(None, spots, AIMED)
        return tell_hand({"do": "patches", "at": places.tolist(), "part": part.sha256}, port)


def on_the_table(job_id: int) -> list[tuple[int, str]]:
    """Faces of the part before the arm that can be touched, as numbers and words, where no CAD shows them; else nothing.

    Raises DeviceError where the stand-in does not answer.
    """
    with transaction() as session:
        state = load(session, job_id)
        here = state.instrument
        if state.job.part.bodies or here is None or MOVES.get(here.kind) is not None:
            return []
    return [(int(index), words) for index, words in tell_hand({"do": "table"})["table"]]


def _with_the_part(job_id: int, do: str, port: int | None, more: dict) -> dict:
    """The job's part is put before the stand-in, if another one stands there; with no CAD, whatever lies there stays."""
    with transaction() as session:
        job = stored(session, Job, job_id)
        row = session.get(Row, job.current_row_id) if job.current_row_id else None
        recipe = recipe_of(row) if row else None
        here = load(session, job_id).instrument
        scans_now = here is not None and scanning.scans(here)
        part = stored(session, Part, job.part_id)
        sha256 = part.sha256
        there = tell_hand({"do": "ask"})
        model = None if there["part"] == sha256 or not part.bodies else model_of(part)
    if model is not None:
        there = tell_hand({"do": "part", "sha256": sha256, "faces": touchable_faces(model)})
    if do == "touch" and recipe is not None and recipe.name in there["nests"]:
        return tell_hand({"do": "nest", "name": recipe.name})
    if do == "touch_at" and scans_now:
        do = "scan_face"
    order = {"do": do, **more}
    if do in ("touch", "clumsy", "sweep") and "face" not in order:
        places = NOWHERE if recipe is None or do != "touch" else _aimed_at(recipe)
        if do == "touch" and recipe is not None and len(recipe.aims_left(0)):
            places = _left_to_take(job_id)[: more.get("hits")]
        if do == "touch" and not len(places):
            places = _beside_the_edge(job_id, int(more.get("hits", HITS)))
        if len(places):
            return tell_hand({"do": "touch_all", "points": places.tolist()})
        if recipe is None or recipe.cad_face is None:
            raise InputError(
                "The current row has no face on the CAD to touch.", "Nothing was touched.",
                "Click on the part to touch there." if part.bodies else "Choose what it is on the table, in the same drawer.",
            )  # fmt: skip
        order["face"] = recipe.cad_face
    return tell_hand(order)


def _aimed_at(recipe: Any) -> Array:
    """The places (n, 3) that a row asks for one by one; none where it asks for some of a face."""
    targets = recipe.targets
    if targets is not None and recipe.on_surface and recipe.wanted_hits > 1:
        u, v = perpendicular_pair(recipe.nominal.normal)
        turn = 2 * np.pi * np.arange(recipe.wanted_hits)[:, None] / recipe.wanted_hits
        return targets + TRIANGLE_MM * (np.cos(turn) * u + np.sin(turn) * v)
    return targets if targets is not None and len(targets) == recipe.wanted_hits else NOWHERE


def _left_to_take(job_id: int) -> Array:
    """The places (n, 3) at which more hits were asked for of the current row, and that are not taken yet."""
    with transaction() as session:
        ahead = ahead_of(load(session, job_id))
        return NOWHERE if ahead is None else ahead.targets


def _beside_the_edge(job_id: int, hits: int) -> Array:
    """Where the current row, planned from an edge, is touched (hits, 3): its plane first, where that is still to be taken."""
    with transaction() as session:
        state = load(session, job_id)
        row, part = state.current, state.job.part
        model = None if row is None or row.recipe.cad_face is not None else model_of(part)
        if row is None or model is None or row.recipe.should_be is None:
            return NOWHERE
        outline = outline_of(state, row).places(ALONG)
        lies_in = [state.row(n.id).recipe.should_be for n in row.needs if n.what == "feature"]  # a line says no plane itself
        flat = next((direction_of(one) for one in (row.recipe.should_be, *lies_in) if plane_of(one) is not None), None)
        first = max(0, row.recipe.hits_of_plane - state.results[row.id].hits)
    on_plane = places_on_its_face(model, outline, flat, min(first, hits))
    return np.vstack([on_plane, places_on_walls(model, outline, flat, hits - len(on_plane))])


MOVES = {"tracker": _with_a_reflector, "radar": _with_a_beam}
