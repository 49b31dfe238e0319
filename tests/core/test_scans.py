"""Rows that take their points from a scan: worked out elsewhere, under a key, and evaluated like hits."""

from dataclasses import replace

import numpy as np
import pytest
from block import KIT, UP, WORLD, Bench, block
from scipy.spatial.transform import Rotation

from zipplumb.core.calibration import Light, ProbeCalibration
from zipplumb.core.cloud.light import Chunk
from zipplumb.core.frames import Motion, perpendicular_pair
from zipplumb.core.readings import HitSet
from zipplumb.core.sheet import Kit, Sheet, evaluate
from zipplumb.core.sheet.clouds import FoundCloud
from zipplumb.core.stripes import packed

SCANNER, HIGH, RADIUS = 7, 110.0, 20.1
LIGHT = Light(Motion.identity(), 0.02)
WHOLE = Kit(KIT.stations, {**KIT.calibrations, SCANNER: ProbeCalibration(SCANNER, np.zeros(3), 0.0, 0.0, "", 0.003, LIGHT)})
BORE = {"shape": "cylinder", "point": [0, 0, 30], "direction": [0, 0, 1], "radius": 20}
TOP = {"shape": "plane", "point": [0, 0, 60], "normal": [0, 0, 1]}


def looking(way):
    """w, x, y, z of a scanner whose light goes that way."""
    x, _ = perpendicular_pair(way)
    turned = np.column_stack([x, np.cross(way, x), way])
    return Rotation.from_matrix(turned).as_quat(scalar_first=True)


def faces(points):
    """The wall of the bore (face 4), or the top (face 1) where that is nearer."""
    far = np.linalg.norm(points[:, :2], axis=1)
    on_wall = np.abs(far - 20) < np.abs(points[:, 2] - 60)
    out = np.column_stack([points[:, 0] / far, points[:, 1] / far, 0 * far])
    feet = np.where(on_wall[:, None], 20 * out + points * [0, 0, 1], points * [1, 1, 0] + [0, 0, 60])
    return feet, np.where(on_wall[:, None], -out, UP), np.where(on_wall, 4, 1), np.full(len(points), 9.0)


class Scanned:
    """A block whose datums are touched, with a bore of radius 20.1 and its top scanned; what is asked for is made here."""

    def __init__(self, noise_mm=0.0, seed=2):
        self.bench = bench = Bench()
        top, side, end = block(bench)
        self.active = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
        self.scan = bench.add({"kind": "scan", "system": self.active})
        self.bore = bench.add({"kind": "cylinder", "nominal": BORE, "face": 4, "scans": [self.scan]})
        self.top = bench.add({"kind": "plane", "nominal": TOP, "face": 1, "scans": [self.scan]})
        random = np.random.default_rng(seed)
        turn, deep = np.sort(random.uniform(0, 2 * np.pi, 6000)), random.uniform(20, 55, 6000)
        out = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
        flat = np.column_stack([random.uniform(60, 90, 3000), random.uniform(-20, 20, 3000), np.full(3000, 60.0)])
        points = np.vstack([RADIUS * out + deep[:, None] * UP, flat])
        ways = np.vstack([(out - UP) / np.sqrt(2), np.tile(-UP, (3000, 1))])
        points = WORLD.points(points + noise_mm * random.normal(size=(9000, 1)) * ways)
        ways = WORLD.vectors(ways)
        poses = np.array([[*(at - HIGH * way), *looking(way)] for at, way in zip(points, ways, strict=True)])
        ones = np.ones(9000, int)
        self.readings = dict(bench.readings)
        self.readings[self.scan] = HitSet(
            tuple(f"9.{k}" for k in range(9000)), poses, np.full((9000, 7), np.nan), np.zeros(9000, bool), ones, SCANNER * ones,
            ones.astype(float), u_hit_mm=0.02,
        )  # fmt: skip
        data, counts = packed([np.array([[0.0, HIGH, 1.0]], np.float32)] * 9000)
        self.chunk = Chunk(poses, data, counts, np.zeros(9000, bool), 1, SCANNER)
        self.done, self.asked = {}, []

    def evaluate(self, memory=None, **changed):
        """``changed``: recipes' fields of the scan, or whether it is finished."""
        finished = changed.pop("finished", True)
        rows = [
            row if row.id != self.scan else replace(row, recipe=row.recipe.model_copy(update=changed), finished=finished)
            for row in self.bench.rows
        ]
        return evaluate(Sheet(tuple(rows), self.active), self.readings, WHOLE, memory, None, self.done.get)

    def work(self, memory):
        for key, asked in memory.wanted.items():
            self.asked.append(key)
            self.done[key] = FoundCloud.of(key, asked.lines, asked.work.run([self.chunk], 1, faces))

    def worked_out(self):
        _, memory = self.evaluate()
        self.work(memory)
        return self.evaluate(memory)


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
    assert len(it.asked) == 1


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
    results, _ = it.evaluate()
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
