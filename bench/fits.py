"""Every Gaussian fit against scipy.optimize.least_squares given the same residuals, and against
general libraries that have the same fit, in one run.

Ours finds its own start. The reference is given a start near the answer and is asked for the
same digits (its own finite differences, tolerances 1e-12)."""

from __future__ import annotations

import time
import warnings
from collections.abc import Callable

import numpy as np
import trimesh
from measure import best, row
from scipy.optimize import least_squares
from skimage.measure import CircleModel, EllipseModel
from skspatial.objects import Cylinder, Line, Plane, Points, Sphere

from zipplumb.core.fitting import fit

Array = np.ndarray
COUNTS = (15, 1500, 1_000_000)
REACH = {"xtol": 1e-12, "ftol": 1e-12, "gtol": 1e-12}


def round_(random, n: int) -> tuple[Array, Array]:
    turn = random.uniform(0, 2 * np.pi, n)
    return np.cos(turn), np.sin(turn)


def plane(random, n):
    return np.column_stack([random.uniform(-200, 200, (n, 2)), random.normal(0, 0.01, n)])


def line(random, n):
    return np.column_stack([random.uniform(-300, 300, n), random.normal(0, 0.01, (n, 2))])


def circle(random, n):
    c, s = round_(random, n)
    rho = 80 + random.normal(0, 0.01, n)
    return np.column_stack([rho * c, rho * s, np.zeros(n)])


def ellipse(random, n):
    c, s = round_(random, n)
    return np.column_stack([60 * c, 40 * s, np.zeros(n)]) + random.normal(0, 0.01, (n, 3)) * [1, 1, 0]


def sphere(random, n):
    out = random.normal(size=(n, 3))
    return out / np.linalg.norm(out, axis=1)[:, None] * (25 + random.normal(0, 0.01, (n, 1)))


def cylinder(random, n):
    return circle(random, n) + np.outer(random.uniform(0, 155, n), [0, 0, 1])


def cone(random, n):
    c, s = round_(random, n)
    z = random.uniform(20, 60, n)
    rho = z * np.tan(0.4) + random.normal(0, 0.01, n)
    return np.column_stack([rho * c, rho * s, z])


def torus(random, n):
    c, s = round_(random, n)
    u, v = round_(random, n)
    minor = 15 + random.normal(0, 0.01, n)
    return np.column_stack([(90 + minor * u) * c, (90 + minor * u) * s, minor * v])


def slot(random, n, square=False):
    side, at = random.integers(0, 4, n), random.uniform(-1, 1, n)
    length, width = 40.0, 12.0
    flat = length / 2 if square else (length - width) / 2
    x = np.where(side < 2, at * flat, np.where(side == 2, flat, -flat))
    y = np.where(side == 0, width / 2, np.where(side == 1, -width / 2, at * width / 2))
    if not square:
        turn = at * np.pi / 2
        x = np.where(side > 1, x + np.sign(x) * width / 2 * np.cos(turn), x)
        y = np.where(side > 1, width / 2 * np.sin(turn), y)
    return np.column_stack([x, y, np.zeros(n)]) + random.normal(0, 0.01, (n, 3)) * [1, 1, 0]


# ---- the same residuals, as anyone would write them ---------------------------------------


def axis_frame(p: Array, points: Array) -> tuple[Array, Array]:
    """Distance across and height along an axis through (p0, p1, 0) that leans by p2 and p3."""
    direction = np.array([p[2], p[3], 1.0])
    direction = direction / np.linalg.norm(direction)
    rel = points - [p[0], p[1], 0.0]
    along = rel @ direction
    return np.sqrt(np.maximum(np.einsum("ij,ij->i", rel, rel) - along**2, 0.0)), along


def plane_residuals(p, q):
    return (q[:, 2] - p[0] - p[1] * q[:, 0] - p[2] * q[:, 1]) / np.sqrt(1 + p[1] ** 2 + p[2] ** 2)


def line_residuals(p, q):
    direction = np.array([1.0, p[2], p[3]]) / np.sqrt(1 + p[2] ** 2 + p[3] ** 2)
    return np.cross(q - [0.0, p[0], p[1]], direction).ravel()


def circle_residuals(p, q):
    return np.hypot(q[:, 0] - p[0], q[:, 1] - p[1]) - p[2]


def sphere_residuals(p, q):
    return np.linalg.norm(q - p[:3], axis=1) - p[3]


def cylinder_residuals(p, q):
    return axis_frame(p, q)[0] - p[4]


def cone_residuals(p, q):
    across, along = axis_frame(p, q)
    return (across - p[4]) * np.cos(p[5]) - along * np.sin(p[5])


def torus_residuals(p, q):
    across, along = axis_frame(p, q - [0.0, 0.0, p[6]])
    return np.hypot(across - p[4], along) - p[5]


def turned(p, q):
    c, s = np.cos(p[2]), np.sin(p[2])
    x, y = q[:, 0] - p[0], q[:, 1] - p[1]
    return c * x + s * y, c * y - s * x


def ellipse_residuals(p, q):
    """By Newton's method on the foot's angle."""
    x, y = turned(p, q)
    t = np.arctan2(p[3] * y, p[4] * x)
    for _ in range(6):
        c, s = np.cos(t), np.sin(t)
        value = (p[3] ** 2 - p[4] ** 2) * c * s - x * p[3] * s + y * p[4] * c
        slope = (p[3] ** 2 - p[4] ** 2) * (c * c - s * s) - x * p[3] * c - y * p[4] * s
        t = t - value / slope
    c, s = np.cos(t), np.sin(t)
    n = np.hypot(p[4] * c, p[3] * s)
    return ((x - p[3] * c) * p[4] * c + (y - p[4] * s) * p[3] * s) / n


def round_slot_residuals(p, q):
    x, y = turned(p, q)
    return np.hypot(np.maximum(np.abs(x) - (p[3] - p[4]) / 2, 0), y) - p[4] / 2


def square_slot_residuals(p, q):
    x, y = turned(p, q)
    return np.maximum(np.abs(x) - p[3] / 2, np.abs(y) - p[4] / 2)


Case = tuple[Callable[..., Array], Callable[..., Array], list[float], dict[str, Callable[[Array], object]]]
FLAT = {"normal": [0, 0, 1]}
MANAGE_MANY = ("trimesh", "trimesh and its residuals", "scikit-image, algebraic only")  # others want a square of that size


def trimesh_plane(points: Array) -> Array:
    """A plane with what it leaves, as ours gives it."""
    center, normal = trimesh.points.plane_fit(points)
    return (points - center) @ normal


CASES: dict[str, Case] = {
    "line": (line, line_residuals, [0.1, 0.1, 0.001, 0.001], {"scikit-spatial": lambda p: Line.best_fit(Points(p))}),
    "plane": (
        plane, plane_residuals, [0.1, 0.001, 0.001],
        {"scikit-spatial": lambda p: Plane.best_fit(Points(p)), "trimesh and its residuals": trimesh_plane},
    ),
    "circle": (
        circle, circle_residuals, [0.5, -0.5, 79],
        {"scikit-image, algebraic only": lambda p: CircleModel.from_estimate(p[:, :2])},
    ),
    "ellipse": (
        ellipse, ellipse_residuals, [0.5, -0.5, 0.01, 59, 41],
        {"scikit-image, algebraic only": lambda p: EllipseModel.from_estimate(p[:, :2])},
    ),
    "round_slot": (slot, round_slot_residuals, [0.5, -0.5, 0.01, 39, 13], {}),
    "square_slot": (lambda r, n: slot(r, n, True), square_slot_residuals, [0.5, -0.5, 0.01, 39, 13], {}),
    "sphere": (
        sphere, sphere_residuals, [0.5, -0.5, 0.5, 24],
        {"scikit-spatial, algebraic only": lambda p: Sphere.best_fit(Points(p)), "trimesh": trimesh.nsphere.fit_nsphere},
    ),
    "cylinder": (
        cylinder, cylinder_residuals, [0.5, -0.5, 0.01, 0.01, 79],
        {"scikit-spatial": lambda p: Cylinder.best_fit(Points(p))},
    ),
    "cone": (cone, cone_residuals, [0.5, -0.5, 0.01, 0.01, 0.5, 0.39], {}),
    "torus": (torus, torus_residuals, [0.5, -0.5, 0.01, 0.01, 89, 14, 0.5], {}),
}  # fmt: skip


def run() -> None:
    warnings.simplefilter("ignore")
    print("Gaussian fits; × is how many times as fast ours is, then both objectives (root of the sum of squares)")
    for kind, (make, residuals, start, others) in CASES.items():
        flat = FLAT if kind in ("circle", "ellipse", "round_slot", "square_slot") else {}
        for count in COUNTS:
            points = make(np.random.default_rng(5), count)
            many = count > 10_000
            begin = time.perf_counter()
            reference = least_squares(residuals, start, args=(points,), **REACH)
            other = time.perf_counter() - begin  # a million points take seconds: once is enough
            if not many:
                other = best(lambda p=points, r=residuals, s=start: least_squares(r, s, args=(p,), **REACH), 9)
            ours = best(lambda p=points, k=kind, f=flat: fit(k, p, fixed=f), 2 if many else 15)
            row(f"{kind}, {count} points", ours, other, "least_squares")
            found = fit(kind, points, fixed=flat)
            print(f"      {np.linalg.norm(found.residuals):.12g}   {np.sqrt(2 * reference.cost):.12g}")
            for name, call in others.items():
                if not many or name in MANAGE_MANY:
                    row("", ours, best(lambda p=points, c=call: c(p), 1 if many else 5), name)
