"""Nearest places on the carrier: exact on its planes and cylinders, not to the triangles that draw them."""

import numpy as np
import pytest
from test_reader import step  # noqa: F401

from zipplumb.cad import read_cad
from zipplumb.cad.surfaces import Surfaces
from zipplumb.core.alignment.surfaces import align_surfaces
from zipplumb.core.frames import Motion
from zipplumb.core.shape_codec import shape_from_data


@pytest.fixture(scope="module")
def model(step):  # noqa: F811
    return read_cad(step)


def test_feet_lie_on_the_surface_and_normals_point_out_of_the_material(model):
    surfaces, random = Surfaces(model), np.random.default_rng(1)
    for face in model.faces:
        shape = shape_from_data(face.nominal)
        mesh, normals = model.mesh_of(face.index)
        weights = random.dirichlet((1, 1, 1), len(mesh))
        on, out = np.einsum("tc,tci->ti", weights, mesh), normals.mean(axis=1)
        feet, found = surfaces.nearest(on + 0.3 * out)
        own = np.abs(shape.distance(feet)) < 1e-9  # near an edge another face may be the nearer
        assert own.mean() > 0.7, face.index
        assert np.all(np.einsum("ti,ti->t", found[own], out[own]) > 0.9), face.index


def test_touches_all_round_the_part_find_where_it_lies(model):
    """Touches on real faces, the part 0.6 mm and 0.3° from where it is thought to be: found to a micrometre."""
    surfaces, random = Surfaces(model), np.random.default_rng(4)
    spots = []
    for face in model.faces:
        if face.area_mm2 < 5000:
            continue
        shape = shape_from_data(face.nominal)
        mesh, _ = model.mesh_of(face.index)
        inner = np.einsum("tc,tci->ti", random.dirichlet((9, 9, 9), len(mesh)), mesh)[:12]
        gradient = np.stack(
            [(shape.distance(inner + 1e-4 * e) - shape.distance(inner - 1e-4 * e)) / 2e-4 for e in np.eye(3)], 1
        )
        spots.append(inner - shape.distance(inner)[:, None] * gradient)
    points = np.vstack(spots)
    lies = Motion.from_quaternion([1, 0.002, -0.001, 0.0015], [0.4, -0.3, 0.3])
    found = align_surfaces(lies.points(points), surfaces.nearest, Motion.identity(), 0.01, reject=False, look_round=False)
    back = found.part_from_world @ lies
    assert np.allclose(back.points([250.0, 140, 60]), [250, 140, 60], atol=1e-3)
    assert found.ledger.rank == 6
