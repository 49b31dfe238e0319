"""Results brought to 20 °C in a system of datum planes, against ISO 1: ΔL = α · L · ΔT, α of steel 11.7e-6/K (handbook value,
from memory). 300 mm at 23.4 °C are longer by 0.0119 mm; a temperature known to 0.5 °C leaves 0.0018 mm of them uncertain.
"""

import numpy as np
import pytest
from block import KIT, TIP, TURN, Bench, block

from zipplumb.core.sheet import Sheet, evaluate
from zipplumb.core.uncertainty import Source

ALPHA, WARMER = 11.7e-6, 3.4
STEEL = {"material": "carbon steel", "temperature_c": 20 + WARMER, "u_expansion": 0.0}


class Warm(Bench):
    """The same part, longer in every direction; the tip's ball is not."""

    def read(self, centers, outward):
        long = 1 + ALPHA * WARMER
        out = np.atleast_2d(outward)
        off = TIP * out / np.linalg.norm(out, axis=1)[:, None]
        return super().read(long * (centers - off) + off, outward)


def measured(laid="least_squares", **more):
    bench = Warm(u_hit_mm=1e-5)
    top, side, end = block(bench)
    rim = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])
    told = {"shape": "circle", "center": (50, 20, 60), "normal": (0, 0, 1), "radius": 6.0}
    hole = bench.add({"kind": "circle", "nominal": told, "plane": top}, np.array([50, 20, 60]) + (6 - TIP) * rim, -0.3 * rim)
    datums = [{"features": [row], "laid": laid} for row in (top, side, end)]
    system = bench.add({"kind": "datum_features", "datums": datums, **more})
    found = evaluate(Sheet(tuple(bench.rows), system), bench.readings, KIT)[0]
    assert found[system].state == "done", found[system].message
    return found[hole], found[system].alignment


@pytest.mark.parametrize("laid", ["least_squares", "outside"])
def test_lengths_are_told_as_they_are_at_20_degrees(laid):
    warm, _ = measured(laid)
    assert warm.characteristic("x").deviation == pytest.approx(300 * ALPHA * WARMER, abs=1e-5)  # from the end at X -250
    assert warm.characteristic("y").deviation == pytest.approx(160 * ALPHA * WARMER, abs=1e-5)
    assert warm.characteristic("diameter").deviation == pytest.approx(12 * ALPHA * WARMER, abs=1e-5)
    cold, alignment = measured(laid, warm={**STEEL, "u_temperature_c": 0.5})
    assert alignment.scale == pytest.approx(1 / (1 + ALPHA * WARMER), abs=1e-12)
    for key, length in (("x", 300), ("y", 160), ("diameter", 12)):
        told = cold.characteristic(key)
        assert told.deviation == pytest.approx(0, abs=1e-5)
        assert pytest.approx(2 * length * ALPHA * 0.5, rel=0.02, abs=3e-5) == told.U


def test_a_profile_is_as_uncertain_as_the_temperature():
    """A face 500 mm from its datum, in steel known to 0.5 °C: 0.0029 mm of its place, twice that of a zone to both sides."""
    bench = Warm(u_hit_mm=1e-5)
    top, side, end = block(bench)
    far = bench.plane([250, 0, 30], [1, 0, 0])
    datums = [{"features": [row]} for row in (top, side, end)]
    rows = [bench.add({"kind": "surface_profile", "of": [far], "zone_mm": 1.0, **own}) for own in ({}, {"datums": datums})]
    system = bench.add({"kind": "datum_features", "datums": datums, "warm": {**STEEL, "u_temperature_c": 0.5}})
    found = evaluate(Sheet(tuple(bench.rows), system), bench.readings, KIT)[0]
    for row in rows:
        assert found[row].first.actual == pytest.approx(0, abs=1e-3)
        assert found[row].first.uncertainty.share(Source("temperature")) == pytest.approx(2 * 500 * ALPHA * 0.5, rel=0.05)
        assert found[row].first.U > 2 * 2 * 500 * ALPHA * 0.5 * 0.9


def test_only_what_has_no_scale_of_its_own_takes_it():
    from zipplumb.core.errors import PlumbError
    from zipplumb.core.sheet import recipe_from_dict

    raw = {"kind": "reference_points", "name": "R", "points": [1, 2, 3], "warm": STEEL}
    with pytest.raises(PlumbError):
        recipe_from_dict(raw)
    unknown = {"material": "cheese", "temperature_c": 23.0}
    with pytest.raises(AssertionError, match="cheese"):
        measured(warm=unknown)
