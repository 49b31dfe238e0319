"""The graph: what changed and only that, each fault its own, and the same as a fresh evaluation after any edits."""

from dataclasses import replace

import numpy as np
import pytest
from block import KIT, UP, Bench, block
from hypothesis import given, settings
from hypothesis import strategies as st

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.errors import AlignmentError
from zipplumb.core.frames import Motion
from zipplumb.core.sheet import KINDS, Kit, Sheet, SheetRow, StationPose, evaluate, recipe_from_dict
from zipplumb.core.sheet.graph import Failed, Node, work_out


def node(own, *needs, work=None):
    told = work or (lambda needed: own + "".join(str(needed[n]) for n in needs))
    return Node(own, needs, lambda of, needed: told(needed))


def test_only_what_changed_and_what_rests_on_it_is_worked_out():
    seen = []

    def told(own):
        return lambda needed: seen.append(own) or own

    def graph(b):
        return {"a": node("a", work=told("a")), "b": node(b, work=told(b)), "c": node("c", "a", "b", work=told("c"))}

    first = work_out(graph("b"), {})
    seen.clear()
    again = work_out(graph("b"), first)
    assert seen == []
    assert all(again[n] is first[n] for n in first)
    work_out(graph("B"), first)
    assert seen == ["B", "c"]


def test_nodes_come_after_what_they_need_in_whatever_order_they_are_given():
    nodes = {"c": node("c", "b"), "b": node("b", "a"), "a": node("a")}
    assert work_out(nodes, {})["c"].value == "cba"


@pytest.mark.parametrize("fault", [ValueError("x"), np.linalg.LinAlgError("singular"), ZeroDivisionError(), KeyError(3),
                                   AlignmentError("It slides.", "Kept.", "Hold it.")])  # fmt: skip
def test_a_fault_of_any_kind_is_its_nodes_alone(fault):
    def fails(needed):
        raise fault

    done = work_out({"a": node("a", work=fails), "b": node("b"), "c": node("c", "a", work=lambda n: n["a"])}, {})
    assert isinstance(done["a"].value, Failed)
    assert "kept" in done["a"].value.message.lower()
    assert done["b"].value == "b"
    assert done["c"].value is done["a"].value


def test_what_goes_round_in_a_circle_says_so_and_the_rest_lives():
    nodes = {
        "a": node("a", "b"),
        "b": node("b", "c"),
        "c": node("c", "a"),
        "d": node("d", "a", work=lambda n: n["a"]),
        "e": node("e"),
    }
    done = work_out(nodes, {})
    assert all("rests on itself" in done[n].value.message for n in "abcd")
    assert done["e"].value == "e"
    assert "gone" in work_out({"x": node("x", "y", work=lambda n: n["y"])}, {})["x"].value.message


# ---- a whole sheet ----------------------------------------------------------------------------


def mixed():
    """A sheet with every role: measured, constructed, aligned two ways, compared, dimensioned."""
    bench = Bench()
    top, side, end = block(bench)
    holes = [bench.circle([x, y, 60], 20, top) for x, y in ((-200, -100), (200, -100), (0, 100))]
    far = bench.plane([250, 0, 30], [1, 0, 0], asked=[{"key": "height", "lower": -0.1, "upper": 0.1}])
    nest = bench.point([-250, -140, 60])
    touch = bench.touch([100, 50, 60], UP)
    middle = bench.add({"kind": "construction", "of": [end, far], "make": "middle_plane"})
    bench.add({"kind": "dimension", "of": [middle, far], "measure": "perpendicular_distance"})
    bench.add({"kind": "dimension", "of": holes[:2], "measure": "along_x"})
    bench.add({"kind": "construction", "of": holes, "make": "circle_through_the_centers"})
    planes = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    held = [{"feature": top, "directions": ["own"]}] + [{"feature": h, "directions": ["X", "Y"]} for h in holes]
    best = bench.add({"kind": "holds", "holds": held, "against": planes})
    bench.add({"kind": "level", "plane": top, "origin": nest, "against": best})
    return bench, (planes, best), touch


BENCH, ALIGNED, _ = mixed()
ROWS = {row.id: row for row in BENCH.rows}


def shown(results):
    """Everything that a result says, to compare two by."""

    def plain(value):
        if isinstance(value, np.ndarray):
            return value.round(9).tolist()
        if isinstance(value, dict):
            return {str(k): plain(v) for k, v in value.items()}
        if isinstance(value, list | tuple):
            return [plain(v) for v in value]
        if hasattr(value, "__dataclass_fields__"):
            skipped = ("linear", "doubts_of", "doubts")
            return {f: plain(getattr(value, f)) for f in value.__dataclass_fields__ if f not in skipped}
        return (
            round(value, 9) if isinstance(value, float) else value if isinstance(value, str | int | None) else str(type(value))
        )

    return {k: plain(r) for k, r in results.items()}


def edit(draw, rows, readings, kit, active):
    """One random edit of a sheet, of whatever a person or an instrument may change."""
    what = draw(st.sampled_from(("aside", "rename", "hits", "remove", "move", "active", "tip", "station", "limits", "take")))
    ids = [r.id for r in rows]
    k = draw(st.integers(0, max(len(rows) - 1, 0)))
    if what == "aside" and readings:
        row = draw(st.sampled_from(sorted(readings)))
        aside = readings[row].aside.copy()
        aside[draw(st.integers(0, len(aside) - 1))] ^= True
        readings[row] = replace(readings[row], aside=aside)
    elif what == "take" and readings:
        row = draw(st.sampled_from(sorted(readings)))
        poses = readings[row].poses + [0, 0, draw(st.sampled_from((0.01, -0.02))), 0, 0, 0, 0]
        readings[row] = replace(readings[row], poses=poses, keys=tuple(f"{key}+" for key in readings[row].keys))
    elif what == "remove" and len(rows) > 4:
        rows.pop(k)
    elif what == "move" and rows:
        rows.insert(draw(st.integers(0, len(rows) - 1)), rows.pop(k))
    elif what == "active":
        active = draw(st.sampled_from((None, *ALIGNED, ids[k] if ids else None)))
    elif what == "tip":
        bigger = draw(st.sampled_from((5.9, 6.0, 6.1)))
        kit = Kit(kit.stations, {1: ProbeCalibration(1, np.zeros(3), bigger, 0.002, "", draw(st.sampled_from((0.0, 0.01))))})
    elif what == "station":
        shift = Motion(np.eye(3), np.array([draw(st.sampled_from((0.0, 5.0))), 0, 0]))
        kit = Kit({1: StationPose(1, shift)}, kit.calibrations)
    elif rows:
        row = rows[k]
        raw = row.recipe.model_dump(mode="json")
        if what == "rename":
            raw["name"] = draw(st.sampled_from(("Left", "Right")))
        elif what == "hits" and row.id in readings:
            rows[k] = SheetRow(row.id, row.recipe, not row.finished)
            return kit, active
        elif what == "limits" and raw["kind"] == "plane":
            raw["asked"] = [{"key": "height", "upper": draw(st.sampled_from((0.05, 0.5)))}]
        rows[k] = SheetRow(row.id, recipe_from_dict(raw), row.finished)
    return kit, active


@settings(max_examples=40, derandomize=True)
@given(st.data())
def test_after_any_edits_the_incremental_result_equals_a_fresh_one(data):
    rows, readings, kit, active = list(BENCH.rows), dict(BENCH.readings), KIT, ALIGNED[0]
    memory = evaluate(Sheet(tuple(rows), active), readings, kit)[1]
    for _ in range(data.draw(st.integers(1, 6))):
        kit, active = edit(data.draw, rows, readings, kit, active)
        sheet = Sheet(tuple(rows), active)
        results, memory = evaluate(sheet, readings, kit, memory)
        fresh, _ = evaluate(sheet, readings, kit)
        assert shown(results) == shown(fresh)


def test_the_mixed_sheet_is_right_and_every_row_says_something():
    results, _ = evaluate(Sheet(tuple(BENCH.rows), ALIGNED[0]), BENCH.readings, KIT)
    assert {r.state for r in results.values()} == {"done"}
    assert all(r.characteristics or r.alignment for r in results.values())
    middle, between, across, bolts = (results[k] for k in (10, 11, 12, 13))
    assert middle.characteristic("height").actual == pytest.approx(0, abs=1e-6)
    assert between.first.actual == pytest.approx(250, abs=1e-6)
    assert across.first.actual == pytest.approx(400, abs=1e-6)
    assert bolts.characteristic("diameter").deviation == pytest.approx(0, abs=1e-6)
    assert np.allclose(results[ALIGNED[1]].system.difference, 0, atol=1e-6)


def test_a_singular_row_leaves_the_page_and_the_other_rows_alive():
    bench, (planes, _), _ = mixed()
    spot = np.tile([[10.0, 10, 63]], (9, 1))
    one = bench.add({"kind": "plane"}, spot, UP)
    bench.add({"kind": "dimension", "of": [1, one], "measure": "perpendicular_distance"})
    results, _ = evaluate(Sheet(tuple(bench.rows), planes), bench.readings, KIT)
    assert results[one].state == "failed"
    assert results[one].hits == 9
    assert results[one + 1].state == "waits"
    assert results[1].state == "done"


def test_every_kind_reads_its_needs_off_its_recipe():
    assert {type(r.recipe).__name__ for r in BENCH.rows} <= {k.__name__ for k in KINDS.values()}
    needs = {r.id: [(n.what, n.id) for n in r.needs] for r in BENCH.rows}
    assert needs[ALIGNED[1]] == [("system", ALIGNED[0]), ("feature", 1), ("feature", 4), ("feature", 5), ("feature", 6)]
