"""A job of the carrier, an instrument at it, and a person before it."""

import by_hand
import numpy as np
from by_hand import TECHNICIAN
from playwright.sync_api import expect

from zipplumb.core.frames import Motion
from zipplumb.demo import carrier, carrier_real
from zipplumb.jobs.kit import stations
from zipplumb.jobs.plan import picking, sheet
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument

SHOP_FROM_PART = Motion.from_quaternion(carrier_real.PLACE["quaternion"], carrier_real.PLACE["translation_mm"])
CORNERS = np.array([[x, y, z] for x in (-250, 250) for y in (-140, 140) for z in (0, 60.0)])
# a system on the part's own faces turns with its side, 0.012° over 288 mm, and slides with its end, 0.03° over 140 mm
MADE_MM = np.radians(0.012) * 288 + np.radians(0.03) * 140
UP, FRONT, LEFT, REAR = (0, 0, 1), (0, -1, 0), (-1, 0, 0), (0, 1, 0)
NESTS = [f"N{k}" for k in range(1, 7)]


def instrument(name):
    with transaction() as session:
        return session.query(Instrument).filter_by(name=name).one().id


class CarrierBench:
    """A job of the carrier, an instrument at it, and a person before it."""

    def __init__(self, person, name, part, instrument, faces):
        self.person, self.page, self.faces = person, person.page, faces
        self.rows = {}
        self.job = sheet.create_job(TECHNICIAN, name, part)
        stations.bring(TECHNICIAN, self.job, instrument, unmoved=True)
        person.open(self.job, "align")

    def road(self, have):
        self.person.go("Align")
        self.page.get_by_role("button", name=have).click()
        expect(self.page.locator(".road h2")).to_be_visible()

    def face(self, shape, right):
        """The first face of the CAD with such a nominal."""
        return next(f["index"] for f in self.faces if (f["nominal"] or {}).get("shape") == shape and right(f["nominal"]))

    def plane(self, normal, height):
        """That which faces so, at such a height."""
        return self.face(
            "plane", lambda n: np.allclose([*n["normal"], np.dot(n["point"], normal)], [*normal, height], atol=1e-3)
        )

    def hole(self, diameter, x, y):
        """An upright one."""
        wanted = [diameter / 2, x, y, 1.0]
        return self.face(
            "cylinder", lambda n: np.allclose([n["radius"], *n["point"][:2], abs(n["direction"][2])], wanted, atol=1e-3)
        )

    def picked_places(self):
        """Places clicked on the part, and the ringed ones until there is something that proves them. Returns how many."""
        self.road("CAD, and nothing measured yet")
        taken, box = self.page.locator("form.rough b"), self.page.locator("#canvas").bounding_box()
        for number, (across, down) in enumerate(((0.40, 0.42), (0.62, 0.45), (0.45, 0.78), (0.30, 0.68)), start=1):
            self.page.mouse.click(box["x"] + across * box["width"], box["y"] + down * box["height"])
            expect(taken).to_contain_text(f"{number} place")
        expect(self.page.locator(".picks li").nth(2)).to_contain_text("holds one more freedom")
        for number in range(5, 9):
            self.page.get_by_role("button", name="Take the ringed place too").click()
            expect(taken).to_contain_text(f"{number} places")
            if "6 of 6 held, 1 spare" in taken.inner_text():
                break
        return number

    def planned(self, name, face, hits, datum=None):
        row = picking.plan_from_face(TECHNICIAN, self.job, face)
        self.rows[name] = row
        sheet.edit_row(TECHNICIAN, self.job, row, {"name": name, "hits": str(hits), **({"datum": datum} if datum else {})})
        return row

    def datums(self):
        self.planned("Top", self.plane(UP, carrier.FOOT), 9, "A")
        self.planned("Side", self.plane(FRONT, carrier.WIDTH / 2), 6, "B")
        self.planned("End", self.plane(LEFT, carrier.LENGTH / 2), 4, "C")

    def measure(self, *names):
        """While nobody looks; then the page shows them."""
        self.person.leave()
        for name in names:
            by_hand.measured(self.job, self.rows[name])
        self.person.open(self.job)
        for name in names:
            expect(self.person.row(name).locator(".mark")).not_to_have_text("○")

    @property
    def active(self):
        with transaction() as session:
            return load(session, self.job).alignment

    def shown(self):
        self.person.go("Align")
        return self.page.locator(".align-shown")

    def choose(self, name):
        self.person.go("Align")
        self.page.get_by_role("button", name=name, exact=True).click()
        expect(self.page.locator(".align-shown h2").first).to_contain_text(name)

    def solved(self, name):
        with transaction() as session:
            state = load(session, self.job)
            return next(state.results[row.id].alignment for row in state.rows if row.recipe.name == name)

    def lies_right(self, extra_mm=MADE_MM, shop_from_part=SHOP_FROM_PART):
        """The corners of the part are where they really are, within U and what the part's own faces are off."""
        alignment = self.active
        off = np.linalg.norm(alignment.points(shop_from_part.points(CORNERS)) - CORNERS, axis=1)
        assert np.all(off <= 2 * alignment.u_at(CORNERS) + extra_mm), off
        return off.max()
