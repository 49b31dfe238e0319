"""What is expected before anything was measured is what many runs then find.

Source: JCGM 101 (propagation of distributions by Monte Carlo); the bounds are those of ``core/stated.py``, the seeds are
fixed. The maker's statement is made up.
"""

import numpy as np
import pytest
from stated import RUNS, Stated

from zipplumb.core.network.observations import InstrumentClass
from zipplumb.core.sheet import Sheet, SheetRow, recipe_from_dict
from zipplumb.core.sheet.proving.rehearsal import ExpectedTouches, RehearsedInstrument, outward_at, rehearse, touches_at

TRACKER = RehearsedInstrument(0.02, InstrumentClass(0.008, 0.0015, 4e-6), 19.05, 0.001)
STAND = np.array([-2500.0, -1800, 900])


NESTS = ((-900.0, -500, 0), (900.0, -450, 40), (850.0, 500, 10), (-800.0, 520, 60), (50.0, 600, 300))


def bench():
    """Nests that hold the part, as 7 parameters less the scale, and a face whose height is judged."""
    nominal = {"shape": "plane", "point": (300, 100, 200), "normal": (0, 0, 1)}
    height = {"kind": "plane", "nominal": nominal, "asked": [{"key": "height", "lower": -0.1, "upper": 0.1}]}
    points = [{"kind": "point", "nominal": {"shape": "point", "position": at}} for at in NESTS]
    raws = [height, *points, {"kind": "reference_points", "points": list(range(2, 2 + len(NESTS)))}]
    rows = tuple(SheetRow(k, recipe_from_dict({"name": f"Row {k}", **raw})) for k, raw in enumerate(raws, 1))
    touched = {k: ExpectedTouches(np.array([at]), np.array([[0.0, 0, 1]])) for k, at in enumerate(NESTS, 2)}
    spots = np.array([[300 + a * 300, 100 + b * 20, 200.0] for a in (-1, 0, 1) for b in (-1, 1)])
    touched[1] = touches_at(spots, outward_at(rows[0].recipe, spots, None), TRACKER)
    return Sheet(rows, len(rows)), touched


def by_the_worst(places, random):
    """Errors (n, 3) as large in all directions as the worst one that is stated for the farthest."""
    return random.normal(0, TRACKER.stated.u_at(places), places.shape)


def along_and_across(places, random):
    """Errors as stated along and across the beam."""
    far = np.linalg.norm(places, axis=1, keepdims=True)
    noise, beam, stated = random.normal(size=places.shape), places / far, TRACKER.stated
    along = np.einsum("ij,ij->i", noise, beam)[:, None] * beam
    return along * (stated.range_mm + stated.range_per_m_mm * far / 1000) + (noise - along) * stated.angle_rad * far


@pytest.mark.parametrize("drawn", [by_the_worst, along_and_across])
def test_the_u_that_is_expected_is_the_one_that_is_found(drawn):
    """The sheet takes the worst that is stated of a row's hits for all of them: then errors are as large as it says; where
    the errors across the beam are smaller, as the maker states, no more of them are larger."""
    sheet, touched = bench()
    expected = rehearse(sheet, touched, STAND, TRACKER)[1].first
    assert expected.deviation == pytest.approx(0, abs=1e-9)
    random, errors = np.random.default_rng(9), Stated()
    for _ in range(RUNS):
        shift = random.normal(0, TRACKER.u_radius_mm)  # the same reflector everywhere
        real = {
            k: ExpectedTouches(t.centers + shift * t.outward + drawn(t.centers - STAND, random), t.outward)
            for k, t in touched.items()
        }
        errors.saw("height", rehearse(sheet, real, STAND, TRACKER)[1].first.deviation, expected.uncertainty.U())
    assert errors.share("height") > 0.93
    if drawn is by_the_worst:
        errors.must_hold("height")


def test_what_is_touched_lies_a_radius_off_and_faces_the_air():
    sheet, touched = bench()
    assert touched[1].outward == pytest.approx(np.tile([0.0, 0, 1], (6, 1)), abs=1e-6)
    assert sheet.rows[0].recipe.nominal.distance(touched[1].centers) == pytest.approx(np.full(6, TRACKER.tip_radius_mm))


@pytest.mark.parametrize("slant_deg", [0, 35, 60, 78])
def test_u_across_a_slanted_surface_is_what_many_sightings_scatter(slant_deg):
    """The range's error grows by one over the cosine (practice), the angles' stay; drawn as range and angles, and told as
    distances from the plane. A count of 20,000 tells a standard deviation to 2 % (4 of its own)."""
    random, stated = np.random.default_rng(4), InstrumentClass(0.01, 0.002, 8e-6)
    far, slant = 6000.0, np.radians(slant_deg)
    outward = np.array([-np.cos(slant), np.sin(slant), 0.0])
    place = np.array([far, 0.0, 0.0])
    ranges = far + random.normal(0, 1, 20_000) * (0.01 + 0.002 * 6) / np.cos(slant)
    azimuth, elevation = random.normal(0, 8e-6, (2, 20_000))
    level = ranges * np.cos(elevation)
    seen = np.column_stack([level * np.cos(azimuth), level * np.sin(azimuth), ranges * np.sin(elevation)])
    assert np.std((seen - place) @ outward) == pytest.approx(stated.u_across(place, outward), rel=0.02)
