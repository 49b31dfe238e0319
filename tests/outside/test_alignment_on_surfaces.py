"""Alignments on real surfaces and in life's arrangements: each finds the truth of its made-up part.

``nearest`` is the CAD library's own projection in one, a triangle mesh in another.
"""

import numpy as np
import pytest
import trimesh
from flange import flange, on_mesh
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
from OCP.BRepExtrema import BRepExtrema_DistShapeShape, BRepExtrema_SupportType
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepGProp import BRepGProp_Face
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
from OCP.gp import gp_Pnt, gp_Vec
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS
from scipy.spatial.transform import Rotation
from stated import RUNS, Stated

from zipplumb.core.alignment import Hold, align_datum_planes, align_holds
from zipplumb.core.alignment.surfaces import align_surfaces
from zipplumb.core.features import Feature
from zipplumb.core.fitting import fit
from zipplumb.core.frames import Motion
from zipplumb.core.probing import surface_point
from zipplumb.core.shapes import Circle, Plane, Point, Slot
from zipplumb.core.sheet import recipe_from_dict
from zipplumb.core.sheet.bases.systems import ActualFeature, SystemInputs

WORLD = Motion(Rotation.from_euler("xyz", [15, -25, 40], degrees=True).as_matrix(), np.array([600.0, -200, 90]))
UP = np.array([0.0, 0, 1])


def nearby(degrees, mm):
    turn = Rotation.from_rotvec(np.radians(degrees) * np.array([0.6, -0.48, 0.64])).as_matrix()
    return Motion(turn, np.array([0.6, 0, 0.8]) * mm) @ WORLD.inverse()


def test_touches_on_the_cad_librarys_own_surfaces():
    """OCCT projects on a box with one rounded edge; touches come from its own faces."""
    box = BRepPrimAPI_MakeBox(200.0, 120.0, 60.0).Shape()
    fillet = BRepFilletAPI_MakeFillet(box)
    fillet.Add(25.0, TopoDS.Edge(TopExp_Explorer(box, TopAbs_EDGE).Current()))
    part = fillet.Shape()

    def nearest(points):
        feet, normals = [], []
        for point in points:
            found = BRepExtrema_DistShapeShape(BRepBuilderAPI_MakeVertex(gp_Pnt(*point)).Shape(), part)
            foot = found.PointOnShape2(1)
            feet.append([foot.X(), foot.Y(), foot.Z()])
            gap = point - feet[-1]
            if found.SupportTypeShape2(1) == BRepExtrema_SupportType.BRepExtrema_IsInFace:
                across = gp_Vec()
                BRepGProp_Face(TopoDS.Face(found.SupportOnShape2(1))).Normal(*found.ParOnFaceS2(1), gp_Pnt(), across)
                normals.append([across.X(), across.Y(), across.Z()])
            else:  # on an edge: along the gap, or nothing
                normals.append(gap / max(np.linalg.norm(gap), 1e-12))
        return np.array(feet), np.array(normals)

    random = np.random.default_rng(3)
    rough = random.uniform([-10, -10, -10], [210, 130, 70], (60, 3))
    rough = rough[~np.all((rough > 0) & (rough < [200, 120, 60]), axis=1)]
    touches, _ = nearest(rough)
    found = align_surfaces(WORLD.points(touches), nearest, nearby(2, 4), 0.02, reject=False, look_round=False)
    back = found.part_from_world @ WORLD
    assert np.allclose(back.points([200, 120, 60]), [200, 120, 60], atol=1e-3)
    assert found.ledger.rank == 6


def test_a_scan_on_a_mesh():
    """A wavy flange as triangles, scanned with noise, found within what is stated."""
    random = np.random.default_rng(5)
    mesh = flange()
    points, at = trimesh.sample.sample_surface(mesh, 20_000, seed=4)
    points = points + mesh.face_normals[at] * random.normal(0, 0.03, (len(points), 1))
    found = align_surfaces(WORLD.points(points), on_mesh(mesh), nearby(4, 15), 0.03)
    back = found.part_from_world @ WORLD
    for place in mesh.vertices[[0, 48, -1]]:
        assert np.linalg.norm(back.points(place) - place) < 6 * np.sqrt(np.trace(found.solved.point_covariance(place)))
    assert not found.doubt


NORMALS = np.array([[0, 0, 1.0]] * 3 + [[0, -1.0, 0]] * 2 + [[-1.0, 0, 0]])
PLACES = np.array([[-200, -100, 60], [200, -100, 60], [0, 100, 60], [-200, -140, 30], [200, -140, 30], [-250, 0, 30.0]])


def six_touches(random):
    off = NORMALS * random.normal(0, 0.02, (6, 1))
    holds = [
        Hold(str(k), Plane(p, n), Point(p + o), ("own",)) for k, (p, n, o) in enumerate(zip(PLACES, NORMALS, off, strict=True))
    ]
    return align_holds(holds, Motion.identity())


def tilted_targets(random):
    """Six faces square to nothing, each touched by three hits in a small triangle, the tip taken off along their normal."""
    holds = []
    for k, normal in enumerate(
        np.array([[0.5, 0.2, 1], [-0.6, 0.3, 1], [0.1, -0.7, 0.9], [-1, 0.4, 0.3], [0.8, 1, 0.2], [0.2, 0.9, -0.6]])
    ):
        normal = normal / np.linalg.norm(normal)
        place = 200 * np.array([np.cos(k), np.sin(k), 0.3 * (k % 3)])
        u = np.cross(normal, [1, 0, 0]) / np.linalg.norm(np.cross(normal, [1, 0, 0]))
        v = np.cross(normal, u)
        hits = np.array([place + 4 * (np.cos(t) * u + np.sin(t) * v) for t in np.radians([0, 120, 240])])
        centers = hits + 3 * normal + normal * random.normal(0, 0.02, (3, 1))
        seen = surface_point(centers, 3.0, normal, 0.02)
        holds.append(Hold(f"A{k + 1}", Plane(place, normal), Point(seen.position), ("own",), seen.u_mm))
    return align_holds(holds, Motion.identity())


@pytest.mark.parametrize("arrangement", [six_touches, tilted_targets])
def test_regions_of_the_place_hold_in_life_like_arrangements(arrangement):
    random, errors, far = np.random.default_rng(12), Stated(), np.array([150.0, 80, 40])
    for _ in range(RUNS):
        found = arrangement(random)
        errors.saw_place("far", found.solved.pose.points(far[None])[0] - far, found.solved.point_covariance(far))
    errors.must_hold()


def test_regions_of_three_fitted_planes_hold():
    """The same for three datum planes, each fitted to nine hits."""
    random, errors, far = np.random.default_rng(13), Stated(), np.array([150.0, 80, 40])
    planes = [Plane([0, 0, 60], [0, 0, 1]), Plane([0, -140, 30], [0, -1, 0]), Plane([-250, 0, 30], [-1, 0, 0])]
    grids = []
    for plane, (a, b) in zip(planes, ((200, 100), (200, 25), (100, 25)), strict=True):
        u = np.array([0, 1.0, 0]) if abs(plane.normal[0]) > 0.5 else np.array([1.0, 0, 0])
        v = np.cross(plane.normal, u)
        grids.append(np.array([plane.point + i * a * u + j * b * v for i in (-1, 0, 1) for j in (-1, 0, 1)]))
    for _ in range(RUNS):
        fits = [
            fit("plane", g + p.normal * random.normal(0, 0.02, (9, 1)), toward=p.normal)
            for g, p in zip(grids, planes, strict=True)
        ]
        found = align_datum_planes(
            planes,
            [f.shape for f in fits],
            features=[Feature.of_fit(str(k), f, 0.02) for k, f in enumerate(fits)],
        )
        x, y, z = far
        lever = np.hstack([np.eye(3), np.array([[0, z, -y], [-z, 0, x], [y, -x, 0]])])
        errors.saw_place("far", found.part_from_world.points(far) - far, lever @ found.covariance @ lever.T)
    errors.must_hold()


def ring(center, radius, random, count=9):
    turn = np.linspace(0, 2 * np.pi, count, endpoint=False)
    rim = np.array([np.cos(turn), np.sin(turn), 0 * turn]).T
    return center + rim * (radius + random.normal(0, 0.02, (count, 1)))


def outline(center, random):
    """Hits round a slot of 40 x 12."""
    x = np.array([-14.0, -5, 5, 14])
    sides = [[a, s * (6 + random.normal(0, 0.02)), 0] for a in x for s in (1, -1)]
    ends = []
    for s in (1, -1):
        for a in (-0.9, 0.0, 0.9):
            r = 6 + random.normal(0, 0.02)
            ends.append([s * (14 + r * np.cos(a)), r * np.sin(a), 0])
    return center + np.array(sides + ends)


def around(center, random):
    """Nine hits on the face round a hole, each hole its own."""
    spots = np.array([[x, y, 0] for x in (-30, 0, 30) for y in (-30, 0, 30)], float)
    return center + spots + np.outer(random.normal(0, 0.02, 9), [0, 0, 1])


def test_regions_of_two_circles_and_a_slot_hold():
    """Held just enough: a circle in X, Y, Z, a slot in two, a circle in one; each fitted to its hits in its own plane."""
    random, errors, far = np.random.default_rng(14), Stated(), np.array([150.0, 80, 40])
    nominal = [Circle([-200, 0, 0], UP, 10), Slot([200, 0, 0], UP, [1, 0, 0], 40, 12), Circle([0, 120, 0], UP, 8)]
    for _ in range(RUNS):
        named = {}
        for k, (shape, kind) in enumerate(zip(nominal, ("circle", "round_slot", "circle"), strict=True)):
            hits = outline(shape.center, random) if kind == "round_slot" else ring(shape.center, shape.radius, random)
            plane = fit("plane", around(shape.center, random), toward=UP, u_hits_mm=0.02)
            found = fit(kind, hits, fixed={"plane": plane}, u_hits_mm=0.02)
            named[k + 1] = ActualFeature(f"F{k}", shape, Feature.of_fit(f"F{k}", found, 0.02), hits, f"F{k}")
        ways = (("X", "Y", "Z"), ("Y", "Z"), ("Z",))
        holds = [{"feature": k, "directions": d} for k, d in enumerate(ways, start=1)]
        aligned = recipe_from_dict({"kind": "holds", "name": "Fit", "holds": holds}).solve(SystemInputs(named))
        errors.saw_place("far", aligned.points(far) - far, aligned.point_covariance(far))
    errors.must_hold()


def test_regions_of_points_laid_on_surfaces_hold():
    """The same for a scan, thinned to 60 points on three faces of a block, with nearest points told by hand."""
    random, errors, far = np.random.default_rng(15), Stated(), np.array([150.0, 80, 40])
    faces = ((2, 60.0, 1.0), (1, -140.0, -1.0), (0, -250.0, -1.0))
    spots = random.uniform([-240, -130, 5], [240, 130, 55], (60, 3))
    for k, (axis, at, _) in enumerate(faces):
        spots[20 * k : 20 * k + 20, axis] = at

    def nearest(points):
        which = np.argmin([np.abs(points[:, axis] - at) for axis, at, _ in faces], axis=0)
        feet, normals = points.copy(), np.zeros_like(points)
        for k, (axis, at, sign) in enumerate(faces):
            feet[which == k, axis], normals[which == k, axis] = at, sign
        return feet, normals

    _, normals = nearest(spots)
    for _ in range(RUNS):
        noisy = spots + normals * random.normal(0, 0.02, (60, 1))
        found = align_surfaces(noisy, nearest, Motion.identity(), 0.02, reject=False, look_round=False)
        errors.saw_place("far", found.points(far) - far, found.point_covariance(far))
    errors.must_hold()
