"""What would lower an uncertainty is said of every source that somebody can do something about, and is true."""

import numpy as np
import pytest
from block import KIT, TIP, Bench

from zipplumb.core.sheet import Sheet, evaluate
from zipplumb.core.uncertainty import Source
from zipplumb.jobs.words._sources import _OF_ROW, _WHAT, remedy_words, source_words


def test_every_source_has_words_and_what_can_be_bettered_a_remedy():
    for what in (*_WHAT, *_OF_ROW):
        source = Source(what, 7)
        assert source_words(source, {7: "Bore"})
        assert bool(remedy_words(source, {7: "Bore"})) == (what != "contradiction")
    assert remedy_words(Source("hits", 7), {7: "Bore"}) == "four times as many hits on Bore"


def test_four_times_as_many_hits_halve_their_share():
    shares, told = [], []
    for count in (12, 48):
        bench, turn = Bench(u_hit_mm=0.01), np.arange(count) * 2 * np.pi / count
        top = bench.plane([0, 0, 60], [0, 0, 1])
        rim = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
        nominal = {"shape": "circle", "center": (0, 0, 60), "normal": (0, 0, 1), "radius": 20}
        hole = bench.add({"kind": "circle", "nominal": nominal, "plane": top}, [0, 0, 60] + (20 - TIP) * rim, -0.3 * rim)
        found = evaluate(Sheet(tuple(bench.rows)), bench.readings, KIT)[0][hole]
        diameter = found.characteristic("diameter")
        told.append((diameter.U, diameter.lowered))
        shares.append(dict(diameter.budget)[Source("hits", hole)])
    assert told[0][1] == (Source("hits", hole), pytest.approx(told[1][0], rel=0.02))  # what was promised of them
    assert shares[1] == pytest.approx(shares[0] / 2, rel=0.02)
