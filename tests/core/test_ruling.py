"""The rule by which a job decides: only beyond U (ISO 14253-1), or by the value alone (simple acceptance, JCGM 106)."""

import numpy as np
import pytest
from block import KIT, TIP, TURN, Bench, block

from zipplumb.core.sheet import Sheet, evaluate

RIM = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])


@pytest.fixture
def bench():
    """Holes 0, 0.04 and 0.06 off in a position of 0.1, each known to some hundredths."""
    bench = Bench(u_hit_mm=0.02)
    top, side, end = block(bench)
    holes = []
    for x, off in ((0, 0.0), (50, 0.04), (100, 0.06)):
        nominal = {"shape": "circle", "center": (x, 20, 60), "normal": (0, 0, 1), "radius": 8}
        hits = np.array([x + off, 20, 60]) + (8 - TIP) * RIM
        holes.append(bench.add({"kind": "circle", "nominal": nominal, "plane": top}, hits, -0.3 * RIM))
    datums = [{"features": [row]} for row in (top, side, end)]
    bench.row = bench.add({"kind": "position", "of": holes, "zone_mm": 0.1, "datums": datums})
    bench.loose = bench.add({"kind": "position", "of": holes[:1], "zone_mm": 0.1, "datums": datums[:1]})
    return bench


def found(bench, rule, previous=None):
    return evaluate(Sheet(tuple(bench.rows), None, rule), bench.readings, KIT, previous)


def words(result):
    return [c.verdict.word for c in result.characteristics]


def test_by_the_value_alone_what_was_not_proven_is_decided(bench):
    proven, simple = (found(bench, rule)[0][bench.row] for rule in ("proven", "simple"))
    assert words(proven) == ["not proven", "in", "not proven", "not proven"]
    assert words(simple) == ["out", "in", "close", "out"]
    assert simple.first.actual == pytest.approx(0.12, abs=1e-4)  # the worst by this rule comes first
    assert simple.verdict.out_by == pytest.approx(0.02, abs=1e-4)
    assert [c.U for c in simple.characteristics[1:]] == [c.U for c in proven.characteristics[1:]]


def test_what_is_not_known_at_all_stays_not_proven(bench):
    loose = found(bench, "simple")[0][bench.loose]
    assert words(loose) == ["not proven"]
    assert "not known" in loose.first.unproven


def test_another_rule_changes_what_it_decides_and_the_same_changes_nothing(bench):
    before, memory = found(bench, "proven")
    after, memory = found(bench, "simple", memory)
    assert set(after.differing(before)) == {bench.row}
    again, _ = found(bench, "simple", memory)
    assert set(again.differing(after)) == set()
