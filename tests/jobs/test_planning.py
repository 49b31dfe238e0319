"""Planning many rows in one act, and taking the act back."""

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.core.sheet import recipe_from_dict
from zipplumb.demo import carrier
from zipplumb.jobs.plan import adding, listing, picking, sections
from zipplumb.jobs.plan.alike import alike
from zipplumb.store.database import stored, transaction
from zipplumb.store.models import Job, Part, Row


def face(index, center, radius=5.0, depth=20.0, direction=(0, 0, 1), inside=True, halves=False, body=0):
    """A cylinder's face, or half of it on the side of +X."""
    along = np.array(direction, float)
    reach = np.abs(along) * depth / 2 + (1 - np.abs(along)) * radius
    low, high = np.array(center) - reach, np.array(center) + reach
    if halves:
        low[0] = center[0]
    nominal = {"shape": "cylinder", "point": list(center), "direction": list(direction), "radius": radius}
    area = 2 * np.pi * radius * depth / (2 if halves else 1)
    return {"index": index, "body": body, "surface": "cylinder", "nominal": nominal, "inside": inside, "area_mm2": area,
            "box": [*low, *high]}  # fmt: skip


def ring(count, radius=5.0, at=60.0):
    turn = 2 * np.pi * np.arange(count) / count
    return [face(k, (at * np.cos(a), at * np.sin(a), 0), radius) for k, a in enumerate(turn)]


def test_holes_of_a_bolt_circle_are_alike_and_go_round():
    faces = ring(12)
    random = np.random.default_rng(3)
    mixed = [faces[k] for k in random.permutation(12)]
    found = alike([{**f, "index": k} for k, f in enumerate(mixed)], 4)
    assert len(found) == 12 and found[0] == (4,)
    spots = np.array([mixed[thing[0]]["nominal"]["point"] for thing in found])
    steps = np.linalg.norm(np.diff(spots, axis=0), axis=1)
    assert np.allclose(steps, steps[0])  # each is the neighbour of the one before


@pytest.mark.parametrize("other", [
    {"radius": 5.01}, {"depth": 21.0}, {"direction": (1, 0, 0)}, {"inside": False}, {"body": 1},
])  # fmt: skip
def test_what_differs_in_one_thing_is_not_alike(other):
    faces = [face(0, (0, 0, 0)), face(1, (40, 0, 0)), face(2, (80, 0, 0), **other)]
    assert alike(faces, 0, [0]) == [(0,), (1,)]


def test_planes_that_face_each_other_are_not_alike():
    def pad(index, z, up):
        nominal = {"shape": "plane", "point": [0, 0, z], "normal": [0, 0, up]}
        return {"index": index, "body": 0, "surface": "plane", "nominal": nominal, "inside": None, "area_mm2": 100.0,
                "box": [-5, -5, z, 5, 5, z]}  # fmt: skip

    assert alike([pad(0, 0, -1), pad(1, 10, 1), pad(2, 30, 1)], 1) == [(1,), (2,)]


def test_the_halves_of_a_bore_are_one_bore():
    faces = []
    for k, x in enumerate((0.0, 50.0, 100.0)):
        right = face(2 * k, (x, 0, 0), halves=True)
        left = {**right, "index": 2 * k + 1, "box": [x - 5, -5, -10, x, 5, 10]}
        faces += [right, left]
    assert alike(faces, 3) == [(2, 3), (0, 1), (4, 5)]


def test_all_alike_are_planned_and_taken_back_in_one_act(bench):
    with transaction() as session:
        faces = session.get(Job, bench.job).part.faces
    bolt = next(f["index"] for f in faces if f["nominal"] and f["nominal"].get("radius") == 11 and f["inside"])
    with pytest.raises(NotAllowed):
        picking.plan_alike(REVIEWER, bench.job, bolt)
    kept = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    rows = picking.plan_alike(TECHNICIAN, bench.job, bolt, "Bolt hole")
    names = [bench.state().row(r).recipe.name for r in rows]
    assert names == [f"Bolt hole {k}" for k in range(1, 5)]
    assert len({bench.state().row(r).recipe.nominal.point.tobytes() for r in rows}) == 4
    with pytest.raises(InputError, match="changed meanwhile"):
        adding.take_plan_back(TECHNICIAN, bench.job, rows[:2])
    assert adding.take_plan_back(TECHNICIAN, bench.job, rows) == 4
    assert [row.id for row in bench.state().rows] == [kept]
    with transaction() as session:
        assert adding.last_plan(session, bench.job).rows == (kept,)


def test_a_plan_that_has_hits_or_is_rested_on_is_not_taken_back(bench):
    faces = (("Top", [0, 0, 60], [0, 0, 1]), ("Side", [0, 0, 0], [0, -1, 0]), ("End", [0, 0, 0], [1, 0, 0]))
    top, side, end = (bench.plan_plane(*face) for face in faces)
    system = bench.plan(kind="datum_planes", name="System", primary=top, secondary=side, tertiary=end)
    assert adding.take_plan_back(TECHNICIAN, bench.job, [system]) == 1
    bench.touch_plane(end)
    with pytest.raises(InputError, match="End has hits"):
        adding.take_plan_back(TECHNICIAN, bench.job, [end])


LIST = "B1;10,5;20;60;0;0;1\nB2;20;20;60;0;0;1\nNest 1;0;0;60\n"


def test_a_list_becomes_rows_in_one_act_or_none_at_all(bench):
    rows = [bench.state().row(r) for r in listing.plan_list(TECHNICIAN, bench.job, LIST, "mm")]
    assert [(r.recipe.name, r.recipe.kind) for r in rows] == [
        ("B1", "surface_point"), ("B2", "surface_point"), ("Nest 1", "point"),
    ]  # fmt: skip
    assert rows[0].recipe.nominal.point.tolist() == [10.5, 20.0, 60.0]
    with pytest.raises(InputError, match=r"Line 2: “B2” is on the sheet already\. 1 more"):
        listing.plan_list(TECHNICIAN, bench.job, "B9;1;2;3\nB2;1;2;3\nB7;1;2\n", "mm")
    assert len(bench.state().rows) == 3
    adding.take_plan_back(TECHNICIAN, bench.job, [r.id for r in rows])
    assert bench.state().rows == ()


def test_a_list_in_the_wrong_unit_is_doubted(bench):
    with transaction() as session:
        ask = lambda text, units: listing.doubt_of_units(  # noqa: E731
            session, bench.job, listing.read_list(session, bench.job, text, units), "mm"
        )
        assert ask("A;0;0;60\nB;200;100;60", "mm") == ""
        assert "in inches" in ask("A;0;0;2,3\nB;7,8;3,9;2,3", "mm")
        assert "in this unit" in ask("A;0;0;60\nB;200;100;60", "in")


def test_an_edge_becomes_a_row_in_the_plane_of_its_face(bench):
    with transaction() as session:
        part = session.get(Job, bench.job).part
        faces, edges = part.faces, part.edges
    rim = next(e for e in edges if e["shape"] == "circle" and e["inside"] and e["nominal"]["radius"] == pytest.approx(11))
    planned = picking.plan_from_edge(TECHNICIAN, bench.job, rim["index"])
    row = bench.state().row(planned).recipe
    assert (row.kind, row.plane, row.inside) == ("circle", None, True)
    side = next(e for e in edges if e["shape"] == "line" and e["face"] == rim["face"])
    with pytest.raises(InputError, match="Plan the face beside it first"):
        picking.plan_from_edge(TECHNICIAN, bench.job, side["index"])
    assert faces[rim["face"]]["surface"] == "plane"
    plane = picking.plan_from_face(TECHNICIAN, bench.job, rim["face"])
    planned = picking.plan_from_edge(TECHNICIAN, bench.job, side["index"])
    line = bench.state().row(planned).recipe
    assert (line.kind, line.plane) == ("line", plane)
    with pytest.raises(InputError, match="free curve"):
        picking.plan_from_edge(TECHNICIAN, bench.job, 10**6)


def test_the_rims_of_all_holes_alike_are_planned_in_one_act(bench):
    """The carrier's drawing: four bolt holes of 22 at the corners of its foot, two dowel holes of 16 between them."""
    with transaction() as session:
        part = session.get(Job, bench.job).part
        faces, edges = part.faces, part.edges
    top = [e for e in edges if e["face"] is not None and faces[e["face"]]["nominal"].get("normal") == [0, 0, 1]]
    for diameter, count in ((22, 4), (16, 2)):
        rim = next(e for e in top if e["shape"] == "circle" and e["nominal"]["radius"] == pytest.approx(diameter / 2))
        planned = picking.plan_edges_alike(TECHNICIAN, bench.job, rim["index"])
        nominals = [bench.state().row(row).recipe.nominal for row in planned]
        assert len(planned) == count
        assert np.allclose(nominals[0].center, rim["nominal"]["center"])
        assert {(abs(x), abs(y), z) for x, y, z in np.round([n.center for n in nominals], 3).tolist()} == (
            {(carrier.BOLT_X, carrier.BOLT_Y, carrier.FOOT)} if diameter == 22 else {(carrier.BOLT_X, 0.0, carrier.FOOT)}
        )
        with transaction() as session:
            assert len(adding.last_plan(session, bench.job).rows) == count
    line = next(e for e in edges if e["shape"] == "line")
    with transaction() as session:
        assert picking.edges_alike(session, bench.job, line["index"]) == [line["index"]]


def test_places_in_a_row_have_a_letter_and_their_numbers(bench):
    with transaction() as session:
        faces = stored(session, Part, bench.part).faces
    top = next(f for f in faces if f["surface"] == "plane" and f["nominal"]["normal"] == [0, 0, 1])
    point = top["box"][:2] + [top["nominal"]["point"][2]]
    for _ in range(3):
        picking.plan_place(TECHNICIAN, bench.job, top["index"], point, [0, 0, 1], "A", 3)
    picking.plan_place(TECHNICIAN, bench.job, top["index"], point, [0, 0, 1], "Rib")
    assert [(r.recipe.name, r.recipe.hits) for r in bench.state().rows] == [("A1", 3), ("A2", 3), ("A3", 3), ("Rib 1", 1)]


def test_a_place_on_an_edge_faces_out_of_the_material(bench):
    with transaction() as session:
        part = stored(session, Part, bench.part)
        edges, faces = part.edges, part.faces
    straight = next(e for e in edges if e["nominal"] and e["nominal"]["shape"] == "line" and e["face"] is not None)
    line = straight["nominal"]
    row = picking.plan_edge_point(TECHNICIAN, bench.job, straight["index"], np.array(line["point"]) + [0.3, 0.2, 0.1])
    recipe = bench.state().row(row).recipe
    surface = faces[straight["face"]]["nominal"]
    assert recipe.plane_hits == 3  # its face has no row yet
    assert abs(recipe.nominal.direction @ line["direction"]) < 1e-9
    assert abs(recipe.nominal.direction @ surface["normal"]) < 1e-9
    top = bench.plan(kind="plane", name="Its face", nominal=surface, face=straight["face"])
    round_ = next(e for e in edges if e["nominal"] and e["nominal"]["shape"] == "circle" and e["inside"])
    center, radius = np.array(round_["nominal"]["center"]), round_["nominal"]["radius"]
    row = picking.plan_edge_point(TECHNICIAN, bench.job, round_["index"], center + [3.0, 0, 0], "Rim")
    recipe = bench.state().row(row).recipe
    assert recipe.name == "Rim 1"
    assert recipe.nominal.direction @ (recipe.nominal.point - center) == pytest.approx(-radius)  # into the hole
    row = picking.plan_edge_point(TECHNICIAN, bench.job, straight["index"], line["point"])
    assert bench.state().row(row).recipe.plane == top
    with pytest.raises(InputError, match="not known"):
        picking.plan_edge_point(TECHNICIAN, bench.job, round_["index"], center)


ARC = np.linspace(0, 1, 12)
BOWED = np.column_stack([40 * np.sin(ARC), np.full(12, 5.0), 40 * np.cos(ARC)])
OUTWARD = (BOWED - [0, 5, 0]) / 40


def as_list(points, normals):
    rows = zip(points, normals, strict=True)
    return "\n".join(";".join((f"W{k}", *(f"{v:.6f}" for v in (*p, *n)))) for k, (p, n) in enumerate(rows))


def test_a_listed_curve_is_one_row_in_its_plane(bench):
    told = {"every": "4", "stem": "Rib"}
    (row,) = sections.plan_listed_curve(TECHNICIAN, bench.job, as_list(BOWED, OUTWARD), "mm", told)
    with transaction() as session:
        curve = recipe_from_dict(stored(session, Row, row).recipe)
    assert curve.name.startswith("Rib") and abs(curve.nominal.across[1]) == pytest.approx(1)
    assert curve.nominal.length == pytest.approx(40, rel=1e-3) and len(curve.targets) == 10
    assert np.linalg.norm(curve.targets - [0, 5, 0], axis=1) == pytest.approx(40, abs=1e-3)


@pytest.mark.parametrize(
    ("text", "every", "words"),
    [
        (as_list(BOWED + np.eye(12)[4][:, None] * [0, 0.3, 0], OUTWARD), "4", "is 0.2.. mm beside it"),
        ("A;0;0;0;0;0;1\nB;9;0;0;0;0;1\nC;9;x;0;0;0;1", "4", "Line 3: "),
        ("A;0;0;0\nB;9;0;0", "4", "Line 1 tells no direction"),
        ("A;0;0;0;0;0;1", "4", "one point only"),
        ("A;0;0;0;1;0;0\nB;9;0;0;1;0;0", "4", "along their own direction"),
        ("A;0;0;0;0;0;1\nB;0;0;0;0;0;1", "4", "make no curve|along their own direction"),
        (as_list(BOWED, OUTWARD), "0", "lie on one another"),
        (as_list(BOWED, OUTWARD), "0.011", "more than 2000 targets"),
    ],
)
def test_a_listed_curve_that_is_none_is_refused_whole(bench, text, every, words):
    before = len(bench.state().rows)
    with pytest.raises(InputError, match=words.replace(" mm", "\xa0mm")):
        sections.plan_listed_curve(TECHNICIAN, bench.job, text, "mm", {"every": every, "stem": ""})
    assert len(bench.state().rows) == before


@pytest.mark.parametrize(
    ("texts", "across", "at"),
    [
        ({"across": "Y", "at": "3"}, (0, 1, 0), 3.0),
        ({"across": "other", "i": "1", "k": "1", "at": "3"}, (0.5**0.5, 0, 0.5**0.5), 3.0),
        ({"across": "other", "i": "0", "j": "0", "k": "-2", "at": "", "through": "1,2,3"}, (0, 0, -1), -3.0),
    ],
)
def test_the_plane_of_a_section_is_typed_or_goes_through_what_was_picked(texts, across, at):
    asked = sections.SectionAsked.typed([1], {"every": "1", **texts}, "mm")
    assert asked.across == pytest.approx(across) and asked.at_mm == pytest.approx(at)


@pytest.mark.parametrize("texts", [{"across": "other"}, {"across": "other", "i": "x"}, {"across": "Q"}, {"through": "1,2"}])
def test_a_plane_that_is_none_is_refused(texts):
    with pytest.raises(InputError):
        sections.SectionAsked.typed([1], {"every": "1", "at": "", "across": "X", **texts}, "mm")
