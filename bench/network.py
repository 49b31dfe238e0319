"""The network against scipy.optimize.least_squares with a sparse Jacobian, and its growth."""

from __future__ import annotations

import time

import numpy as np
from measure import best
from scipy.optimize import least_squares
from scipy.sparse import csr_matrix
from scipy.spatial.transform import Rotation

from zipplumb.core.frames import Motion
from zipplumb.core.network import Observation, adjust

NOISE = 0.02
EXACT = {"atol": 1e-13, "btol": 1e-13, "maxiter": 400}  # or its steps are too rough for the same answer


def shop(stations: int, points: int):
    random = np.random.default_rng(7)
    places = random.uniform([-8000, -5000, 0], [8000, 5000, 4000], (points, 3))
    poses = [Motion.identity()] + [
        Motion(Rotation.from_rotvec(random.normal(0, 1, 3)).as_matrix(), random.uniform(-6000, 6000, 3))
        for _ in range(stations - 1)
    ]
    local = np.array([p.inverse().points(places) for p in poses]) + random.normal(0, NOISE, (stations, points, 3))
    spread = np.eye(3) * NOISE**2
    seen = [Observation(f"S{k}", f"P{j}", local[k, j], spread) for k in range(stations) for j in range(points)]
    return poses, places, local, seen


def reference(poses, places, local, analytic: bool):
    """The same residuals, started at the truth (ours finds its own start).

    Its sparse Jacobian by grouped differences, as SciPy's cookbook adjusts bundles
    ("Large-scale bundle adjustment in scipy"), or analytic, which is the best that can be done for it.
    """
    stations, points = local.shape[:2]
    unknown = 6 * (stations - 1)
    rows = np.arange(stations * points * 3).reshape(stations, points, 3)

    def unpacked(p):
        moves = p[:unknown].reshape(-1, 6)
        turns = np.concatenate(
            [np.eye(3)[None], Rotation.from_rotvec(moves[:, 3:]).as_matrix() @ [q.rotation for q in poses[1:]]]
        )
        shifts = np.concatenate([np.zeros((1, 3)), moves[:, :3] + [q.translation for q in poses[1:]]])
        return turns, shifts, p[unknown:].reshape(-1, 3)

    def residuals(p):
        turns, shifts, spots = unpacked(p)
        return ((np.einsum("sji,spj->spi", turns, spots - shifts[:, None]) - local) / NOISE).ravel()

    def jacobian(p):
        turns, shifts, spots = unpacked(p)
        back = np.swapaxes(turns, 1, 2) / NOISE
        data, at_rows, at_columns = [], [], []
        each = np.broadcast_to(back[:, None], (stations, points, 3, 3))
        columns = unknown + np.arange(3 * points).reshape(points, 3)
        data.append(each.ravel())
        at_rows.append(np.broadcast_to(rows[..., None], each.shape).ravel())
        at_columns.append(np.broadcast_to(columns[None, :, None, :], each.shape).ravel())
        rel = spots - shifts[:, None]
        o = np.zeros(rel.shape[:2])
        x, y, z = np.moveaxis(rel, -1, 0)
        cross = np.stack([np.stack([o, -z, y], -1), np.stack([z, o, -x], -1), np.stack([-y, x, o], -1)], axis=-2)
        # turns are small vectors on top of the start: their Jacobian near the start
        by_station = np.concatenate([-each, each @ cross], axis=-1)[1:]
        columns = np.arange(unknown).reshape(-1, 6)
        data.append(by_station.ravel())
        at_rows.append(np.broadcast_to(rows[1:, :, :, None], by_station.shape).ravel())
        at_columns.append(np.broadcast_to(columns[:, None, None, :], by_station.shape).ravel())
        shape = (rows.size, unknown + 3 * points)
        return csr_matrix((np.concatenate(data), (np.concatenate(at_rows), np.concatenate(at_columns))), shape=shape)

    start = np.concatenate([np.zeros(unknown), places.ravel()])
    how = {"jac": jacobian} if analytic else {"jac_sparsity": jacobian(start) != 0}
    found = least_squares(
        residuals, start, x_scale="jac", tr_solver="lsmr", xtol=1e-12, ftol=1e-15, gtol=1e-12, tr_options=dict(EXACT), **how
    )
    return found.x[unknown:].reshape(-1, 3), 2 * found.cost


def run() -> None:
    poses, places, local, seen = shop(20, 1000)
    print("Network of 20 stations and 1,000 points that all see")
    ours = best(lambda: adjust(seen), 3)
    found = adjust(seen)
    print(f"  ours {1e3 * ours:.0f} ms, from no start, with covariances and outliers")
    for words, analytic in (("with its sparse Jacobian by differences", False), ("with an analytic sparse Jacobian", True)):
        begin = time.perf_counter()
        theirs, cost = reference(poses, places, local, analytic)
        other = time.perf_counter() - begin
        same, square = np.abs(found.places - theirs).max(), np.sum((found.residuals / NOISE) ** 2)
        print(f"  {other / ours:.1f} × as fast as least_squares {words}, started at the truth")
        print(f"      same points to {same:.1e} mm; sums of squares {square:.9g}  {cost:.9g}")
    for stations in (5, 10, 20, 40):
        *_, some = shop(stations, 1000)
        print(f"  {stations:3} stations {1e3 * best(lambda s=some: adjust(s), 1):8.0f} ms", flush=True)
