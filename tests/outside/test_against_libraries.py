"""Fits and shapes against general-purpose reference libraries: the same data, the same criterion."""

import cv2
import miniball
import numpy as np
import pytest
import trimesh
from OCP.BRep import BRep_Tool
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_NurbsConvert
from OCP.Geom import Geom_ConicalSurface, Geom_CylindricalSurface, Geom_Plane, Geom_SphericalSurface, Geom_ToroidalSurface
from OCP.GeomAPI import GeomAPI_ProjectPointOnSurf
from OCP.gp import gp_Ax3, gp_Dir, gp_Pnt
from OCP.TopAbs import TopAbs_FACE
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS
from scipy import odr
from scipy.optimize import linprog
from scipy.spatial.transform import Rotation
from skimage.measure import EllipseModel, LineModelND
from skspatial.objects import Cylinder as SkCylinder
from skspatial.objects import Points
from skspatial.objects import Sphere as SkSphere

from zipplumb.core.alignment import similarity
from zipplumb.core.errors import AlignmentError
from zipplumb.core.fitting import fit
from zipplumb.core.shapes import Cone, Cylinder, Plane, Sphere, Torus

FLAT = {"normal": [0, 0, 1]}


def ring(random, n, radius=40.0, noise=0.01):
    turn = random.uniform(0, 2 * np.pi, n)
    rho = radius + random.normal(0, noise, n)
    return np.column_stack([rho * np.cos(turn), rho * np.sin(turn), np.zeros(n)])


@pytest.mark.filterwarnings("ignore:.*scipy.odr.*:DeprecationWarning")
def test_a_circle_against_orthogonal_distance_regression(random):
    """scipy.odr, implicit model: the same orthogonal distances by another road (ODRPACK)."""
    points = ring(random, 30) + [7, -3, 0]
    model = odr.Model(lambda b, x: (x[0] - b[0]) ** 2 + (x[1] - b[1]) ** 2 - b[2] ** 2, implicit=True)
    # an implicit model drives its penalty up until the points lie on the curve: some six digits
    reference = odr.ODR(odr.Data(points[:, :2].T, 1), model, beta0=[7, -3, 40], maxit=500).run()
    circle = fit("circle", points, fixed=FLAT)
    assert [*circle.shape.center[:2], circle.shape.radius] == pytest.approx(reference.beta, abs=2e-5)


def test_a_line_and_an_ellipse_against_scikit_image(random):
    points = np.outer(np.linspace(-90, 90, 25), [0.6, 0.8, 0]) + random.normal(0, 0.02, (25, 3))
    reference = LineModelND.from_estimate(points)
    line = fit("line", points)
    assert abs(line.shape.direction @ reference.direction) == pytest.approx(1, abs=1e-14)
    assert line.shape.distance(reference.origin[None])[0] == pytest.approx(0, abs=1e-10)
    turn = random.uniform(0, 2 * np.pi, 60)
    oval = np.column_stack([60 * np.cos(turn), 35 * np.sin(turn), 0 * turn]) + random.normal(0, 0.002, (60, 3)) * [1, 1, 0]
    model = EllipseModel.from_estimate(oval[:, :2])
    shape = fit("ellipse", oval, fixed=FLAT).shape
    # theirs is algebraic: it agrees only as far as the noise lets the two criteria agree
    assert sorted(model.axis_lengths) == pytest.approx([shape.semi_minor, shape.semi_major], abs=0.002)
    assert model.center == pytest.approx(shape.center[:2], abs=0.002)


def test_a_sphere_and_a_cylinder_against_scikit_spatial_and_trimesh(random):
    out = random.normal(size=(40, 3))
    points = out / np.linalg.norm(out, axis=1)[:, None] * 19.05 + random.normal(0, 0.01, (40, 3)) + [5, 6, 7]
    sphere = fit("sphere", points)
    center, radius, _ = trimesh.nsphere.fit_nsphere(points, prior=[5, 6, 7])  # least squares of the same distances
    assert sphere.shape.center == pytest.approx(center, abs=2e-5)  # it stops at its own default tolerances
    assert sphere.shape.radius == pytest.approx(radius, abs=2e-5)
    assert sphere.rms <= np.sqrt(np.mean((np.linalg.norm(points - center, axis=1) - radius) ** 2)) + 1e-12
    algebraic = SkSphere.best_fit(Points(points))
    assert sphere.shape.radius == pytest.approx(float(algebraic.radius), abs=0.005)
    assert sphere.rms <= np.sqrt(np.mean((np.linalg.norm(points - algebraic.point, axis=1) - algebraic.radius) ** 2)) + 1e-12
    tube = ring(random, 60, 26) + np.outer(random.uniform(0, 40, 60), [0, 0, 1])
    cylinder, reference = fit("cylinder", tube), SkCylinder.best_fit(Points(tube))
    assert cylinder.shape.radius == pytest.approx(reference.radius, abs=0.01)
    assert (
        cylinder.rms
        <= np.sqrt(np.mean(Cylinder(reference.point, reference.vector, reference.radius).distance(tube) ** 2)) + 1e-9
    )


def test_circumscribed_shapes_against_opencv_miniball_and_trimesh(random):
    points = ring(random, 30, noise=0.5)
    circle = fit("circle", points, "circumscribed", fixed=FLAT).shape
    (x, y), radius = cv2.minEnclosingCircle(points[:, :2].astype(np.float32))  # single precision
    assert [*circle.center[:2], circle.radius] == pytest.approx([x, y, radius], abs=2e-4)
    cloud = random.normal(size=(40, 3)) * 5
    cloud = cloud / np.linalg.norm(cloud, axis=1)[:, None] * (12 + random.normal(0, 0.3, (40, 1)))
    center, square = miniball.get_bounding_ball(cloud)
    sphere = fit("sphere", cloud, "circumscribed").shape
    assert sphere.center == pytest.approx(center, abs=1e-7)
    assert sphere.radius == pytest.approx(np.sqrt(square), abs=1e-9)
    _, ball_radius, *_ = trimesh.nsphere.minimum_nsphere(cloud)
    assert sphere.radius <= ball_radius + 1e-9
    tube = ring(random, 60, 10, 0.05) + np.outer(random.uniform(0, 60, 60), [0, 0, 1])
    theirs = trimesh.bounds.minimum_cylinder(tube)  # least volume, which for a long tube is least radius
    ours = fit("cylinder", tube, "circumscribed").shape
    assert ours.radius <= theirs["radius"] + 1e-9
    assert ours.radius == pytest.approx(theirs["radius"], rel=0.01)


def test_the_zone_of_a_line_in_a_plane_against_linear_programming(random):
    """scipy.optimize.linprog: the narrowest strip y = a + b x, times the cosine of its lean."""
    points = np.column_stack([random.uniform(-100, 100, 60), random.normal(0, 0.02, 60), np.zeros(60)])
    design = np.column_stack([np.ones(60), points[:, 0]])
    above = np.vstack([np.column_stack([design, -np.ones(60)]), np.column_stack([-design, -np.ones(60)])])
    found = linprog([0, 0, 1], A_ub=above, b_ub=np.concatenate([points[:, 1], -points[:, 1]]), bounds=[(None, None)] * 3)
    strip = 2 * found.fun / np.hypot(1, found.x[1])
    line = fit("line", points, "chebyshev", fixed=FLAT)
    assert line.form == pytest.approx(strip, abs=1e-9)
    assert line.form < fit("line", points, fixed=FLAT).form
    tangent = fit("line", points, "tangent", fixed=FLAT, toward=np.array([0, 1.0, 0]))
    assert tangent.residuals.max() <= 1e-9
    assert np.sum(tangent.residuals > -1e-9) >= 2


def test_the_zone_of_a_line_in_space_against_the_smallest_cylinder(random):
    points = np.column_stack([random.normal(0, 0.05, (30, 2)), np.linspace(0, 200, 30)])
    line = fit("line", points, "chebyshev")
    theirs = trimesh.bounds.minimum_cylinder(points)
    assert line.form == pytest.approx(2 * line.residuals.max())
    assert line.residuals.max() <= theirs["radius"] + 1e-9
    assert line.residuals.max() == pytest.approx(theirs["radius"], rel=0.06)  # theirs is of least volume


def test_a_similarity_keeps_reflections_out():
    """Published: Umeyama, IEEE PAMI 13 (1991): R = [[.832, .555], [-.555, .832]], t = (-.8, .4), c = .721."""
    found = similarity([[0, 0], [1, 0], [0, 2]], [[0, 0], [-1, 0], [0, 2]], scale=None)
    assert np.allclose(found.rotation, [[0.83205, 0.55470], [-0.55470, 0.83205]], atol=5e-6)
    assert found.translation == pytest.approx([-0.8, 0.4])
    assert found.scale == pytest.approx(0.72111, abs=5e-6)


def test_a_similarity_without_scale_is_the_best_rotation(random):
    """scipy's Rotation.align_vectors on centered points is the same least-squares problem."""
    points = random.normal(size=(9, 3)) * 300
    turn = Rotation.random(random_state=4)
    targets = turn.apply(points) + [10, -20, 30] + random.normal(0, 0.02, (9, 3))
    weights = random.uniform(0.5, 2, 9)
    found = similarity(points, targets, weights)
    middle = (weights @ targets) / weights.sum(), (weights @ points) / weights.sum()
    reference, _ = Rotation.align_vectors(targets - middle[0], points - middle[1], weights=weights)
    assert np.allclose(found.rotation, reference.as_matrix(), atol=1e-12)
    with pytest.raises(AlignmentError, match="one line"):
        similarity(np.outer(np.arange(4), [1.0, 2, 3]), np.outer(np.arange(4), [1.0, 2, 3]))


AXES = gp_Ax3(gp_Pnt(3, -4, 5), gp_Dir(0.2, 0.3, 0.9))
AT, UP = np.array([3.0, -4, 5]), np.array([0.2, 0.3, 0.9]) / np.linalg.norm([0.2, 0.3, 0.9])
SURFACES = {
    "plane": (lambda: Geom_Plane(AXES), Plane(AT, UP)),
    "cylinder": (lambda: Geom_CylindricalSurface(AXES, 25.0), Cylinder(AT, UP, 25.0)),
    "sphere": (lambda: Geom_SphericalSurface(AXES, 12.7), Sphere(AT, 12.7)),
    "cone": (lambda: Geom_ConicalSurface(AXES, 0.5, 20.0), Cone(AT - UP * 20 / np.tan(0.5), UP, 0.5)),
    "torus": (lambda: Geom_ToroidalSurface(AXES, 60.0, 9.0), Torus(AT, UP, 60.0, 9.0)),
}


@pytest.mark.parametrize("kind", SURFACES)
def test_distances_against_the_cad_library(random, kind):
    """OCCT's own projection of points on the exact surface, and on the same surface as a B-spline."""
    surface, shape = SURFACES[kind][0](), SURFACES[kind][1]
    points = AT + random.normal(size=(25, 3)) * 30
    if kind == "cone":  # on the apex's far side the nearest place is the apex itself
        points = points[(points - shape.apex) @ UP > 30]
    for point in points:
        found = GeomAPI_ProjectPointOnSurf(gp_Pnt(*point), surface)
        assert abs(shape.distance(point[None])[0]) == pytest.approx(found.LowerDistance(), abs=1e-9)
    if kind == "plane":
        return
    low, high = (-1.0, 40.0) if kind in ("cylinder", "cone") else (None, None)
    maker = (
        BRepBuilderAPI_MakeFace(surface, 0, 2 * np.pi, low, high, 1e-6)
        if low is not None
        else BRepBuilderAPI_MakeFace(surface, 1e-6)
    )
    faces = TopExp_Explorer(BRepBuilderAPI_NurbsConvert(maker.Face()).Shape(), TopAbs_FACE)
    spline = BRep_Tool.Surface_s(TopoDS.Face(faces.Current()))
    near = points - (shape.distance(points) * 0.9)[:, None] * _outward(shape, points)
    for point in near:
        if kind in ("cylinder", "cone") and not 0 < (point - AT) @ UP < 30:
            continue
        found = GeomAPI_ProjectPointOnSurf(gp_Pnt(*point), spline)
        assert abs(shape.distance(point[None])[0]) == pytest.approx(found.LowerDistance(), abs=1e-6)


def _outward(shape, points, step=1e-6):
    slopes = [(shape.distance(points + step * e) - shape.distance(points - step * e)) / (2 * step) for e in np.eye(3)]
    return np.column_stack(slopes)
