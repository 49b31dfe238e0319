"""A job to try things on, and a hand that touches its planes."""

import itertools

import numpy as np

from zipplumb.demo.seed import DIAMETER_MM, OFFSET_MM
from zipplumb.devices.hits import HitBatch
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.kit import instruments, stations
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.plan import adding, sheet
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Job

TECHNICIAN, REVIEWER = Actor(1, "Tamsin", "technician"), Actor(2, "Rafe", "reviewer")
numbers = itertools.count(1)


def upright_at(center):
    """The last axis, upright, for a tip at ``center``."""
    return [*(np.array(center, float) - OFFSET_MM).tolist(), 1.0, 0.0, 0.0, 0.0]


def batch(kind="press", session=None, center=(0.0, 0.0, 0.0), sweep=None, many=1, came_from=None):
    n = next(numbers)
    ns = tuple(range(1000 * n, 1000 * n + many))
    way_in = (float("nan"),) * 7 if came_from is None else tuple(upright_at(came_from))
    return HitBatch(
        kind, session or "s", sweep or ns[0], ns, tuple(float(k) for k in ns), tuple(upright_at(center)) * many, way_in * many
    )


class Bench:
    """A job on the carrier with an arm of its own standing at it, and a hand that touches its planes."""

    def __init__(self, stack):
        with transaction() as session:
            self.part = session.get(Job, stack.job).part_id
        self.job = sheet.create_job(TECHNICIAN, "Test", self.part)
        self.arm = instruments.add_instrument(f"Arm of job {self.job}", "arm", "127.0.0.1", 1, 0.012)
        instruments.add_calibrated_probe(self.arm, "ball", OFFSET_MM, DIAMETER_MM, 0.01, 0.002, "")
        stations.bring(TECHNICIAN, self.job, self.arm)

    def plan(self, **raw) -> int:
        with transaction() as session:
            return adding.add_row(session, TECHNICIAN, self.job, raw)

    def plan_plane(self, name, point, normal, **more) -> int:
        nominal = {"shape": "plane", "point": point, "normal": normal}
        return self.plan(kind="plane", name=name, nominal=nominal, **more)

    def touch_plane(self, row, offset=0.0) -> None:
        """Four hits on the nominal plane of a row (part = world), moved out by ``offset``, and a finish."""
        measuring.make_current(TECHNICIAN, self.job, row)
        nominal = self.state().row(row).recipe.nominal
        u, v = np.linalg.svd(nominal.normal[None])[2][1:]
        for a, b in ((-20, -20), (20, -20), (20, 20), (-20, 20)):
            center = nominal.point + a * u + b * v + (DIAMETER_MM / 2 + offset) * nominal.normal
            hit = batch(center=center, came_from=center + 15 * nominal.normal)
            presses.keep(self.arm, hit, next(numbers))
        away = nominal.point + 30 * nominal.normal
        assert presses.finish(self.arm, batch("pull_off", center=away), next(numbers)) != "asks"

    def touch_bore(self, name, point, direction, radius=10.0, **more) -> int:
        """A bore planned and touched twelve times from within (part = world), and finished."""
        nominal = {"shape": "cylinder", "point": point, "direction": direction, "radius": radius}
        row = self.plan(kind="cylinder", name=name, nominal=nominal, hits=12, **more)
        measuring.make_current(TECHNICIAN, self.job, row)
        axis = np.array(direction, float) / np.linalg.norm(direction)
        u, v = np.linalg.svd(axis[None])[2][1:]
        for k in range(12):
            out = np.cos(k * np.pi / 3) * u + np.sin(k * np.pi / 3) * v
            at = np.array(point, float) + 15 * (k // 6) * axis
            center = at + (radius - DIAMETER_MM / 2) * out
            presses.keep(self.arm, batch(center=center, came_from=at), next(numbers))
        assert measuring.finish(TECHNICIAN, self.job) != "asks"
        return row

    def state(self):
        with transaction() as session:
            return load(session, self.job)
