"""The bracket as the stand-in's scanner sees it, from above and leaning: what is pointed at is recognised, and the part is
found from no start; against what the stand-in's part really is, the CAD's own faces, and trimesh's registration."""

from typing import NamedTuple

import numpy as np
import pytest
import trimesh
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from zipplumb.cad import CadModel, read_cad
from zipplumb.cad.near import FacesNear
from zipplumb.cad.surfaces import Surfaces
from zipplumb.core.alignment.anywhere import Samples, anywhere
from zipplumb.core.alignment.surfaces import align_surfaces
from zipplumb.core.cloud.cells import cells_of, together
from zipplumb.core.cloud.deviating import DeviationWork
from zipplumb.core.cloud.growing import surfaces_at
from zipplumb.core.cloud.light import Chunk, seen
from zipplumb.core.cloud.points import CloudPoints
from zipplumb.core.cloud.working import CloudWork
from zipplumb.core.frames import Motion, perpendicular_pair
from zipplumb.core.stripes import packed
from zipplumb.demo import bracket, bracket_real
from zipplumb.demo.real_mesh import real_triangles
from zipplumb.devices.sim.light import LineScanner, Lit
from zipplumb.devices.sim.real_part import RealFace
from zipplumb.devices.sim.stand import Stand

HERE, AWAY, APART, LINES_MM = Motion.identity(), 110.0, 45.0, 2.2
LARGE_MM2, FORM_MM = 800.0, 0.05
APART_MM = 0.6  # of theirs, which is held by where its points happen to lie
ON_TABLE_MM = 1.0  # the table is lit too


@pytest.fixture(scope="module")
def scan(tmp_path_factory):
    """The part's model, and its scan: from above, and leaning to four sides."""
    step = tmp_path_factory.mktemp("bracket") / "bracket.step"
    bracket.write_step(step)
    model = read_cad(step)
    (faces,) = bracket_real.truth(model, step).values()
    real = {face["index"]: RealFace.from_dict(face) for face in faces}
    lit = Lit.of(np.concatenate(real_triangles(model, real)), Stand(HERE), None)
    low, high = model.positions.min(axis=0), model.positions.max(axis=0)
    middle, half = (low + high) / 2, (high - low) / 2 + 20
    random, scanner, lines, poses = np.random.default_rng(5), LineScanner(), [], []
    for lean in range(5):
        back = np.array([np.cos(2.4 * lean), np.sin(2.4 * lean), 1.0]) if lean else np.array([0, 0, 1.0])
        back = back / np.linalg.norm(back)
        u, _ = perpendicular_pair(back)
        turned = np.column_stack([u, np.cross(-back, u), -back])
        quaternion = Rotation.from_matrix(turned).as_quat(scalar_first=True)
        for x in np.arange(-half[0], half[0] + APART, APART):
            for y in np.arange(-half[1], half[1], LINES_MM):
                at = middle + [x, y, 0 if lean else half[2]] + AWAY * back
                if len(line := scanner.line(lit, Motion(turned, at), random)):
                    lines.append(line)
                    poses.append([*at, *quaternion])
    data, counts = packed(lines)
    chunk = Chunk(np.array(poses), data, counts, np.zeros(len(counts), bool), 1, 1)
    cloud = CloudPoints.of_cells(together([cells_of(seen(chunk, HERE, HERE), 1.0)]), 1.0)
    over = cloud.of(np.flatnonzero(cloud.points[:, 2] > ON_TABLE_MM))
    return Seen(model, over, chunk, np.concatenate(real_triangles(model, real)))


class Seen(NamedTuple):
    model: CadModel
    cloud: CloudPoints
    chunk: Chunk
    real: np.ndarray


def test_each_large_face_that_was_seen_is_recognised_where_it_is_pointed_at(scan):
    model, cloud, *_ = scan
    sure = np.isfinite(cloud.normals[:, 0])
    tree, points, normals = cKDTree(cloud.points[sure]), cloud.points[sure], cloud.normals[sure]
    told = []
    for face in model.faces:
        if not face.nominal or face.area_mm2 < LARGE_MM2:
            continue
        corners, ways = (each.astype(float) for each in model.mesh_of(face.index)[:2])
        areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        widest = np.argsort(-areas)
        spots, ways = corners.mean(axis=1)[widest], ways.mean(axis=1)[widest]
        far, near = tree.query(spots)
        lit = (far < 0.6) & (np.einsum("ij,ij->i", normals[near], ways) > 0.95)
        if lit.any():
            found = surfaces_at(cloud, points[near[np.argmax(lit)]])
            told.append((face.nominal["shape"], found[0].kind if found else "", face, found))
    assert {shape for shape, *_ in told} == {"plane", "cylinder", "cone", "sphere", "torus"}
    assert sum(shape == kind for shape, kind, *_ in told) >= len(told) - 1  # where a slot's end meets its side, both are right
    for shape, kind, face, found in told:
        if shape == kind and shape in ("cylinder", "sphere"):
            assert found[0].shape.radius == pytest.approx(
                face.nominal["radius"], abs=0.15
            )  # some are half round, and lit from few sides
            assert found[0].inside == face.inside


def test_a_map_tells_every_place_as_the_part_really_is_there(scan):
    """By rays of embree on the stand-in's real part, beside a scanner that errs by 0.02 mm and an arm that does by 0.012."""
    work = DeviationWork(CloudWork({1: HERE}, {1: HERE}), HERE, 1.0, 0.5)
    places = work.run([scan.chunk], 1, FacesNear(scan.model, None)).places
    mesh = trimesh.Trimesh(**trimesh.triangles.to_kwargs(scan.real))
    hit, ray, _ = mesh.ray.intersects_location(places.points + places.normals, -places.normals, multiple_hits=False)
    true = np.full(len(places), np.nan)
    true[ray] = 1 - np.linalg.norm(hit - places.points[ray] - places.normals[ray], axis=1)
    there = np.abs(true) < 0.9  # else the ray met something else
    assert there.mean() > 0.97
    off = places.means[there] - true[there]
    U = 2 * np.sqrt(0.02**2 / places.counts[there] + 0.012**2)
    assert (np.abs(off) < U).mean() > 0.95
    assert abs(off.mean()) < 0.002
    faces = places.faces[there]
    worst = {face: abs(float(off[faces == face].mean())) for face in np.unique(faces).tolist() if np.sum(faces == face) > 200}
    assert max(worst.values()) < 0.01, worst  # nothing systematic, on whatever shape of face


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_part_is_found_from_no_start_and_laid_as_it_is(scan, seed):
    model, cloud, *_ = scan
    random, surfaces = np.random.default_rng(seed), Surfaces(model)
    lies = Motion(Rotation.random(random_state=random).as_matrix(), random.uniform(-2000, 2000, 3))
    sure = np.isfinite(cloud.normals[:, 0])
    points, normals = lies.points(cloud.points[sure]), lies.vectors(cloud.normals[sure])
    (found,) = anywhere(Samples(points, normals), Samples(*surfaces.spread(20_000)), surfaces.nearest, FORM_MM, seed)
    assert found.lies > 0.9
    laid = align_surfaces(points, surfaces.nearest, found.part_from_world, FORM_MM)
    assert not laid.doubt
    corners = np.array([[x, y, z] for x in (-180, 180) for y in (-120, 120) for z in (0, 40.0)])
    off = np.linalg.norm((laid.part_from_world @ lies).points(corners) - corners, axis=1)
    assert off.max() < 3 * FORM_MM  # what its faces are really off
    # trimesh begins at the true place, with what is of the part, and matches points to points: it comes no nearer
    good, dense = points[laid_on(laid.part_from_world, points, surfaces)], surfaces.spread(200_000)[0]
    some = good[random.permutation(len(good))[:3000]]
    only = {"max_iterations": 30, "scale": False, "reflection": False}
    theirs, _, _ = trimesh.registration.icp(some, dense, initial=_matrix(lies.inverse()), **only)
    theirs = Motion(theirs[:3, :3], theirs[:3, 3])
    assert _leaves(laid.part_from_world, some, surfaces) <= 1.02 * _leaves(theirs, some, surfaces)
    assert np.linalg.norm(laid.part_from_world.points(some) - theirs.points(some), axis=1).max() < APART_MM


def laid_on(part_from_world, points, surfaces):
    placed = part_from_world.points(points)
    return np.linalg.norm(placed - surfaces.nearest(placed)[0], axis=1) < APART_MM


def _matrix(motion):
    found = np.eye(4)
    found[:3, :3], found[:3, 3] = motion.rotation, motion.translation
    return found


def _leaves(part_from_world, points, surfaces):
    placed = part_from_world.points(points)
    feet, normals = surfaces.nearest(placed)
    return float(np.median(np.abs(np.einsum("ij,ij->i", placed - feet, normals))))
