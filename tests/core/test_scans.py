"""Rows that take their points from a scan: worked out elsewhere, under a key, and evaluated like hits."""

from dataclasses import replace

import numpy as np
import pytest
from block import WORLD
from scanned_block import BORE, RADIUS, TOP, Scanned, faces

from zipplumb.core.sheet import PartSurfaces
from zipplumb.core.sheet.clouds import FoundCloud


def test_rows_wait_for_a_scan_and_have_its_points_once_it_is_worked_out():
    it = Scanned()
    results, memory = it.evaluate()
    assert (results[it.scan].state, results[it.scan].message) == ("waits", "It is being worked out.")
    assert results[it.scan].cloud.lines == 9000
    assert results[it.bore].state == "waits"
    assert results[it.active].state == "done"  # what is light does not wait
    again, memory = it.evaluate(memory)
    assert again[it.bore].state == "waits"
    it.work(memory)
    results, memory = it.evaluate(memory)
    assert results[it.scan].state == "done"
    assert not memory.wanted
    bore = results[it.bore]
    assert bore.state == "done", bore.message
    assert bore.characteristic("diameter").actual == pytest.approx(2 * RADIUS, abs=1e-3)
    assert bore.characteristic("off").actual == pytest.approx(0, abs=1e-3)
    assert bore.feature.side.air == -1
    top = results[it.top]
    assert top.state == "done", top.message
    assert top.characteristic("height").actual == pytest.approx(60, abs=1e-3)
    fresh, _ = it.evaluate()
    assert fresh[it.bore].characteristic("diameter").actual == bore.characteristic("diameter").actual
    assert len(it.asked) == 2  # its points, and whose they are


def test_while_it_is_scanned_nothing_is_asked_for_and_a_change_of_it_is_another_work():
    it = Scanned()
    results, memory = it.evaluate(finished=False)
    assert results[it.scan].state == "taking"
    assert not memory.wanted
    results, memory = it.worked_out()
    results, memory = it.evaluate(memory, margin_mm=2.0)
    assert results[it.scan].state == "waits"
    assert set(memory.wanted).isdisjoint(it.asked)
    results, memory = it.evaluate(memory)  # and back: it is there still
    assert results[it.bore].state == "done"


def test_how_points_are_given_changes_without_the_light_being_gone_through_again():
    it = Scanned()
    _, memory = it.worked_out()
    _, memory = it.evaluate(memory, within_mm=0.5)
    assert [asked.what for asked in memory.wanted.values()] == ["rows"]
    _, memory = it.evaluate(memory, grid_mm=2.0)
    assert [asked.what for asked in memory.wanted.values()] == ["points"]


def test_an_alignment_on_a_surface_that_was_pointed_at_may_give_the_scans_points_to_others():
    it = Scanned()
    _, side, end = (row.id for row in it.bench.rows[:3])
    on_it = WORLD.points(np.array([[75.0, 0, 60]]))[0].tolist()
    normal = WORLD.vectors(np.array([[0, 0, 1.0]]))[0].tolist()
    seen = {"shape": "plane", "point": on_it, "normal": normal}
    top = it.bench.add({"kind": "plane", "nominal": TOP, "seen_at": seen, "pointed_at": on_it, "scans": [it.scan]})
    by_scan = it.bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    _, memory = it.evaluate(system=by_scan)
    it.work(memory)
    results, _ = it.evaluate(memory, system=by_scan)
    assert results[by_scan].state == "done", results[by_scan].message
    assert results[it.bore].state == "waits"
    while memory.wanted:
        for key, asked in memory.wanted.items():
            it.done[key] = asked.run([it.chunk], 1, faces, lambda _: None)
        results, memory = it.evaluate(memory, system=by_scan)
    assert results[top].feature.scanned > 200
    assert results[it.bore].state == "done", results[it.bore].message
    assert results[it.bore].characteristic("diameter").actual == pytest.approx(2 * RADIUS, abs=1e-3)


def test_touched_and_scanned_count_together_and_are_told_apart():
    it = Scanned()
    turn = np.linspace(0, 2 * np.pi, 9)[:8]
    rim = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    row = it.bench.add({"kind": "cylinder", "nominal": BORE, "face": 4}, (RADIUS - 3) * rim + [0, 0, 30], -0.3 * rim)
    it.readings[it.bore] = it.bench.readings[row]
    results, _ = it.worked_out()
    bore = results[it.bore]
    assert bore.state == "done", bore.message
    assert bore.characteristic("diameter").actual == pytest.approx(2 * RADIUS, abs=2e-3)
    assert sum(key.startswith("s") for key in bore.feature.counted) == len(bore.feature.counted) - 8


def test_a_head_that_is_no_scanner_and_a_missing_alignment_are_said():
    it = Scanned()
    it.readings[it.scan] = replace(it.readings[it.scan], calibrations=np.ones(9000, int))
    results, _ = it.evaluate()
    assert "not calibrated as a scanner" in results[it.scan].message
    it = Scanned()
    del it.readings[it.bench.rows[0].id]
    results, _ = it.worked_out()
    assert (results[it.scan].state, "not there yet" in results[it.scan].message) == ("waits", True)


def test_many_points_do_not_make_u_small_without_end():
    """The calibration of the head is of one piece: its share of a place stays, however many points there are."""
    results, _ = Scanned(noise_mm=0.02).worked_out()
    bore = results[Scanned().bore]
    assert bore.state == "done", bore.message
    assert abs(bore.characteristic("diameter").deviation - 0.2) < bore.characteristic("diameter").U
    assert bore.characteristic("off").actual < bore.characteristic("off").U
    shares = {source.what: share for source, share in results[Scanned().top].characteristic("height").budget}
    assert shares["offset"] == pytest.approx(2 * 0.003, rel=0.1)
    assert shares["offset"] > shares["hits"] / 4


def test_a_scan_of_edges_only_is_laid_on_nothing_and_that_is_said():
    it = Scanned()
    laid = it.bench.add({"kind": "laid_scan", "scans": [it.scan], "start": it.active})
    nowhere = PartSurfaces("a block", lambda points: faces(points)[:2])
    results, memory = it.evaluate(surfaces=nowhere)
    it.done = dict.fromkeys(memory.wanted, FoundCloud("done", lines=9000))
    results, _ = it.evaluate(memory, surfaces=nowhere)
    assert (results[laid].state, "faces a known way" in results[laid].message) == ("failed", True)
