"""A job of the carrier, aligned by touch, with a scanner on that was calibrated without an error."""

import itertools

import numpy as np
from job_bench import TECHNICIAN, Bench, batch

from zipplumb.core.frames import Motion
from zipplumb.core.stripes import packed
from zipplumb.devices.hits import HitBatch
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import cloud_work
from zipplumb.jobs.plan import picking
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.models import Calibration, Instrument, Part, Probe
from zipplumb.store.scans import Cloud

HIGH, DOWN = 110.0, (0.0, 1.0, 0.0, 0.0)
numbers = itertools.count(50_000)


def lit(y, x=(-240.0, -200.0), z=60.0, points=400):
    """One line of light over the part's top (part = world) from ``HIGH`` above it."""
    n = next(numbers)
    across = np.linspace(*x, points)
    line = np.column_stack([across - np.mean(x), np.full(points, HIGH + 60 - z), np.ones(points)]).astype(np.float32)
    data, counts = packed([line])
    pose = (float(np.mean(x)), y, 60 + HIGH, *DOWN)
    return HitBatch("stripes", "light", 1, (n,), (float(n),), pose, (float("nan"),) * 7, points=data, counts=counts)


class ScannedBench(Bench):
    """The carrier, aligned by touch, with a scanner on."""

    def with_scanner(self):
        with transaction() as session:
            probe = Probe(name=f"Light of {self.job}", kind="scanner", diameter_mm=0.0, drawn_offset_mm=[0.0, 0.0, 0.0])
            session.add(probe)
            session.flush()
            cal = Calibration(
                probe_id=probe.id, instrument_id=self.arm, offset_mm=[0.0] * 3, diameter_mm=0.0, rms_mm=0.02, u_radius_mm=0.002,
                method="scanner", u_offset_mm=0.002, detail={"axis_from_scanner": Motion.identity().as_list()},
            )  # fmt: skip
            session.add(cal)
            session.flush()
            arm = session.get(Instrument, self.arm)
            self.ball, arm.calibration_id = arm.calibration_id, cal.id

    def scan(self, lines=60):
        for k in range(lines):
            presses.keep(self.arm, lit(-100 + 0.6 * k), next(numbers))
        presses.finish(self.arm, batch("pull_off"), next(numbers))
        return next(row.id for row in self.state().rows if row.recipe.kind == "scan")

    def asked(self):
        with transaction() as session:
            found = session.query(Cloud).filter(Cloud.job_id == self.job, Cloud.state == "making").order_by(Cloud.id)
            return [cloud.id for cloud in found]

    def work(self):
        """What somebody only looks at is worked out."""
        with snapshot() as session:
            load(session, self.job)
        for cloud_id in self.asked():
            cloud_work.work_out(cloud_id)
        return self.state()

    def top(self):
        """A row planned on the top face of the CAD."""
        with transaction() as session:
            part = session.get(Part, self.part)
            face = next(
                f["index"] for f in part.faces
                if (f["nominal"] or {}).get("shape") == "plane" and np.allclose(f["nominal"]["normal"], [0, 0, 1])
            )  # fmt: skip
            return picking.plan_face(session, TECHNICIAN, self.job, face)

    @classmethod
    def aligned(cls, stack):
        bench = cls(stack)
        planes = [
            bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], datum="A"),
            bench.plan_plane("Side", [0, -140, 30], [0, -1, 0], datum="B"),
            bench.plan_plane("Left", [-250, 0, 30], [-1, 0, 0], datum="C"),
        ]
        for row in planes:
            bench.touch_plane(row)
        bench.plan(kind="datum_planes", name="By touch", primary=planes[0], secondary=planes[1], tertiary=planes[2])
        bench.with_scanner()
        return bench
