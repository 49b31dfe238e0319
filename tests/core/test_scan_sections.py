"""Sections through a scan: the curve, how far it lies off the CAD, and radius, line and angle measured in it."""

from dataclasses import replace

import numpy as np
import pytest
from block import UP, WORLD
from scanned_block import RADIUS, Scanned, faces

from zipplumb.core.cloud.points import CloudPoints
from zipplumb.core.cloud.slicing import between, sliced
from zipplumb.core.sheet import PartSurfaces

BLOCK = PartSurfaces("a block", lambda points: faces(points)[:2], with_faces=lambda points: faces(points)[:3])
HIGH = 40.0
ZONE = [{"key": "profile", "upper": 0.5}, {"key": "largest"}, {"key": "smallest"}]


class Cut(Scanned):
    """The scanned block with a section across its bore, which is too wide."""

    def __init__(self, noise_mm=0.0, seed=2, **fields):
        super().__init__(noise_mm, seed)
        plane = {"point": [0, 0, HIGH], "across": [0, 0, 1], "thick_mm": 2.0, "asked": ZONE}
        self.section = self.bench.add({"kind": "scan_section", "scan": self.scan, **plane, **fields})

    def results(self, surfaces=BLOCK):
        _, memory = self.evaluate(surfaces=surfaces)
        for _ in range(3):
            for key, asked in memory.wanted.items():
                self.done[key] = replace(asked.run([self.chunk], 1, faces, lambda _: None), key=key)
            results, memory = self.evaluate(memory, surfaces=surfaces)
        return results

    def in_it(self, kind, begin, end, **more):
        """A row of the section from one place of the part to another, as degrees round the bore."""
        cut = {**world([0, 0, HIGH], UP), "thick_mm": 2.0, "begin": at(begin), "end": at(end)}
        return self.bench.add({"kind": kind, "scans": [self.scan], "cut": cut, **more})


def world(point, across):
    """A plane told in the part, as it lies in the world."""
    lies = WORLD.points(np.array([point], float))[0], WORLD.vectors(np.array([across], float))[0]
    return dict(zip(("point", "across"), (each.tolist() for each in lies), strict=True))


def at(degrees):
    turn = np.radians(degrees)
    return WORLD.points(np.array([[RADIUS * np.cos(turn), RADIUS * np.sin(turn), HIGH]]))[0].tolist()


def test_a_section_tells_how_far_the_scan_is_off_in_one_plane():
    it = Cut()
    found = it.results()[it.section]
    assert found.state == "done", found.message
    places = found.map.found.places
    assert np.all(np.abs(places.points[:, 2] - HIGH) <= 2.01)
    assert np.allclose(places.means, -0.1, atol=1e-3)  # the bore is wider: into the material
    assert set(places.faces.tolist()) == {4}
    profile = found.characteristic("profile")
    assert profile.actual == pytest.approx(0.2, abs=2e-3)
    assert profile.verdict.word == "in"
    assert len(found.draw.segments) > 100
    whisker = np.linalg.norm(np.diff(found.draw.segments[0], axis=0))
    assert whisker == pytest.approx(50 * 0.1, rel=0.02)


def test_a_profile_judges_each_place_by_half_its_zone():
    it = Cut(asked=[{"key": "profile", "upper": 0.1}])
    found = it.results()[it.section]
    assert found.map.limits.of_all() == (-0.05, 0.05)
    assert found.characteristic("profile").verdict.word in ("out", "not proven")


def test_without_cad_and_without_an_alignment_there_is_still_a_curve():
    it = Cut(
        point=WORLD.points(np.array([[0, 0, HIGH]]))[0].tolist(), across=WORLD.vectors(UP[None])[0].tolist(), in_world=True
    )
    found = it.results(surfaces=None)[it.section]
    assert found.state == "done"
    assert "no CAD to compare" in found.told
    assert found.characteristic("profile").actual is None
    it.active = None
    assert it.results(surfaces=None)[it.section].state == "done"
    part = Cut()
    part.active = None
    assert part.results()[part.section].message == "The part is not aligned yet."


def test_where_nothing_was_scanned_it_says_so():
    it = Cut(point=[0, 0, -500])
    assert "Nothing of the scan lies in this plane" in it.results()[it.section].message


def test_a_radius_between_two_places_is_a_row_that_is_judged():
    it = Cut(noise_mm=0.01)
    arc = it.in_it("arc", 10, 130, asked=[{"key": "diameter", "lower": 0, "upper": 0.1}])
    whole = it.in_it("circle", 10, 10)
    results = it.results()
    found = results[arc]
    assert found.state == "done", found.message
    assert found.feature.feature.shape.radius == pytest.approx(RADIUS, abs=0.02)
    assert np.degrees(found.feature.feature.shape.span_rad) == pytest.approx(120, abs=4)
    assert results[whole].feature.feature.shape.radius == pytest.approx(RADIUS, abs=0.005)
    assert 0 < results[whole].characteristic("diameter").U < 0.1


def test_an_angle_in_a_section_is_of_two_lines_in_it():
    it = Cut()
    lines = []
    for x in (62.0, 78.0):
        place = [WORLD.points(np.array([[x + far, 0.0, 60]]))[0].tolist() for far in (0, 10)]
        cut = {**world([0, 0, 0], [0, 1, 0]), "thick_mm": 2.0, "begin": place[0], "end": place[1]}
        lines.append(it.bench.add({"kind": "line", "scans": [it.scan], "cut": cut}))
    angle = it.bench.add({"kind": "dimension", "of": lines, "measure": "angle"})
    results = it.results()
    assert results[lines[0]].state == "done", results[lines[0]].message
    assert abs(results[lines[0]].feature.feature.shape.direction @ WORLD.vectors(np.array([[1.0, 0, 0]]))[0]) > 0.999
    assert results[angle].state in ("done", "failed")


def test_points_are_slid_along_a_slanted_surface_into_the_plane():
    lean = np.array([0.6, 0, 0.8])
    along, aside = np.array([0.8, 0, -0.6]), np.array([0, 1.0, 0])
    random = np.random.default_rng(1)
    points = random.uniform(-20, 20, (4000, 1)) * along + random.uniform(-20, 20, (4000, 1)) * aside
    cloud = CloudPoints(points, np.tile(lean, (4000, 1)), np.zeros(4000, int), np.ones(4000))
    some, places, _ = sliced(cloud, np.zeros(3), np.array([0, 0, 1.0]), 1.0)
    assert len(some) > 50
    assert np.allclose(places[:, 2], 0, atol=1e-12)
    assert np.allclose(places @ lean, 0, atol=1e-12)  # still on the surface
    assert len(sliced(cloud, np.zeros(3), lean, 1.0)[0]) == 0  # it lies along the plane


def test_a_thin_cloud_that_is_not_sure_of_its_normals_is_cut_all_the_same():
    random = np.random.default_rng(2)
    turn, high = random.uniform(0, 2 * np.pi, 4000), random.uniform(-20, 20, 4000)
    out = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    normals = np.where(random.random(4000)[:, None] < 0.95, np.nan, -out)  # a bore, of which few are sure
    cloud = CloudPoints(15 * out + high[:, None] * UP, normals, np.zeros(4000, int), np.ones(4000))
    some, places, ways = sliced(cloud, np.zeros(3), np.array([0, 0, 1.0]), 1.0)
    assert len(some) > 0.9 * np.count_nonzero(np.abs(high) <= 1)
    assert np.allclose(np.linalg.norm(places, axis=1), 15, atol=0.02)
    assert np.all(np.einsum("ij,ij->i", ways, out[some]) < -0.95)  # into the bore


def test_between_two_places_is_the_shorter_way_and_nothing_across_a_gap():
    turn = np.radians(np.arange(0, 360, 1.0))
    ring = np.column_stack([100 * np.cos(turn), 100 * np.sin(turn), 0 * turn])
    mine = between(ring, ring[10], ring[100], 1.7)
    assert set(range(12, 99)) <= set(mine.tolist()) <= set(range(6, 105))
    assert len(between(ring, ring[10], ring[10], 1.7)) == 360
    gap = ring[(np.degrees(turn) < 40) | ((np.degrees(turn) > 60) & (np.degrees(turn) < 300))]
    assert len(between(gap, ring[10], ring[100], 1.7)) == 0
