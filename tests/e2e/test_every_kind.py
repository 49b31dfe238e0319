"""The bracket that has every kind of feature: measured as planned, and by just touching, against the stand-in's truth."""

import by_hand
import numpy as np
import pytest
from playwright.sync_api import expect
from truth import AT_MOST, must_be_true

from zipplumb.demo import bracket, bracket_real
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.align import systems
from zipplumb.jobs.hand import move_hand, tell_hand
from zipplumb.jobs.kit import stations
from zipplumb.jobs.plan import adding, listing, sections, sheet
from zipplumb.jobs.plan.forms import texts_of
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument, Job, Part, Station

TECHNICIAN = Actor(1, "Tamsin", "technician")
LONG, WIDE, X, Y = bracket.ROUND_SLOT


def turned(x, y, z=0.0):
    """A place of the drawing in the datum system: its side B is not quite square, and the system turns with it."""
    lean = bracket_real.SIDE_TILT_RAD
    return np.array([x + lean * y, y - lean * x, z])


RIM = turned(bracket.BORE[1] + bracket_real.BORE_SHIFT[0], bracket.BORE[2] + bracket_real.BORE_SHIFT[1])
# by row and characteristic, what the stand-in knows
TRUTH = {
    ("Bore", "diameter"): bracket.BORE[0] + bracket_real.BORE_BIGGER,
    ("Boss", "diameter"): bracket.BOSS[0] + bracket_real.BOSS_BIGGER,
    ("Cone seat", "angle"): 2 * (np.radians(bracket.CONE_HALF_DEG) + bracket_real.CONE_WIDER_RAD),
    ("Ball seat", "diameter"): bracket.BALL[0] + bracket_real.BALL_BIGGER,
    ("Ball seat", "z"): bracket.THICK + bracket.BALL_ABOVE,
    ("Groove", "ring_diameter"): bracket.RING[0],
    ("Groove", "tube_diameter"): bracket.RING_TUBE + bracket_real.TUBE_BIGGER,
    ("Bore rim", "diameter"): bracket.BORE[0] + bracket_real.BORE_BIGGER,
    ("Bore rim", "x"): RIM[0],
    ("Bore rim", "y"): RIM[1],
    ("Round slot", "width"): WIDE + bracket_real.SLOT_WIDER,
    ("Round slot", "length"): LONG + bracket_real.SLOT_WIDER,
    ("Round slot", "x"): turned(X, Y)[0],
    ("Square slot", "width"): bracket.SQUARE_SLOT[1],
    ("Square slot", "length"): bracket.SQUARE_SLOT[0],
    ("Opening", "major_diameter"): bracket.ELLIPSE[0] + bracket_real.ELLIPSE_LONGER,
    ("Opening", "minor_diameter"): bracket.ELLIPSE[1],
    ("Opening", "x"): turned(*bracket.ELLIPSE[2:])[0],
    ("Cradle", "diameter"): 2 * bracket.CRADLE_RADIUS + bracket_real.CRADLE_WIDER,
    ("Bolt hole 1", "diameter"): bracket.BOLT,
}  # fmt: skip


def true_of_places(found, targets=("D1", "D2", "D3")):
    """Of what lies where the CAD says: how far the datum system's turn carries it off, along the surface's normal."""
    true = {}
    for name in targets:
        nominal = found[name][0].nominal
        true[name, "off"] = float((turned(*nominal.point) - nominal.point) @ nominal.normal)
    curve = found["Wavy edge"][0].nominal
    off = np.einsum("ij,ij->i", [turned(*p) - p for p in curve.points], curve.normals) + bracket_real.WAVE_OFF_MM
    return {**true, ("Wavy edge", "highest"): off.max(), ("Wavy edge", "lowest"): off.min()}


class Walls:
    """The faces of the bracket, by what a row of them is called."""

    def __init__(self, faces):
        self.faces = faces

    def near(self, surface, x, y, reach):
        """Faces of a kind whose boxes have their middle near a place."""
        boxes = {f["index"]: np.array(f["box"]) for f in self.faces if f["surface"] == surface}
        middle = {i: (box[:2] + box[3:5]) / 2 for i, box in boxes.items()}
        return [i for i, at in middle.items() if np.hypot(*(at - [x, y])) < reach and boxes[i][5] - boxes[i][2] > 1]

    def of(self, surface):
        return next(f["index"] for f in self.faces if f["surface"] == surface)

    def round(self, radius, x, y):
        upright = [f for f in self.faces if f["surface"] == "cylinder" and abs(f["nominal"]["radius"] - radius) < 1e-6]
        return min(upright, key=lambda f: np.hypot(f["nominal"]["point"][0] - x, f["nominal"]["point"][1] - y))["index"]

    def slot(self, length, width, x, y):
        """The walls of a slot: its sides and its ends."""
        ends = [i for end in (-1, 1) for i in self.near("cylinder", x + end * (length - width / 2) / 2, y, width / 2)]
        return [*self.near("plane", x, y, length / 2 + 1), *ends]

    def outlines(self):
        """What is touched of each row that lies in a plane, and how often."""
        flank = next(f["index"] for f in self.faces if f["surface"] == "plane" and f["nominal"]["normal"][1] < -0.99
                     and f["nominal"]["point"][1] < -100)  # fmt: skip
        return {
            "Bore rim": [(self.round(15, *bracket.BORE[1:]), 8)],
            "Round slot": [(i, 4) for i in self.slot(*bracket.ROUND_SLOT)],
            "Square slot": [(i, 3) for i in self.slot(*bracket.SQUARE_SLOT)],
            "Opening": [(self.near("free surface", *bracket.ELLIPSE[2:], 5)[0], 14)],
            "Cradle": [(self.round(bracket.CRADLE_RADIUS, bracket.CRADLE_X, 150), 9)],
            "Front edge": [(flank, 5)],
            "Lip 1": [(flank, 1)],
        }


@pytest.fixture
def bench(tamsin, running):
    """The arm at a job of the bracket, and back where it was."""
    with transaction() as session:
        arm = session.query(Instrument).filter_by(name="Workshop arm").one()
        number = arm.id
        place = session.get(Station, arm.station_id).job_id if arm.station_id else running.job
        part = session.get(Job, running.bracket_job).part_id
        faces = session.get(Part, part).faces

    yield lambda job: stations.bring(TECHNICIAN, job, number, unmoved=True), part, Walls(faces)
    tamsin.until_hand_rests()
    stations.bring(TECHNICIAN, place, number, unmoved=True)


def results(job):
    with transaction() as session:
        state = load(session, job)
    return state, {row.recipe.name: (row.recipe, state.results[row.id]) for row in state.rows}


def test_measured_as_planned(tamsin, running, bench):
    come, _, walls = bench
    job = running.bracket_job
    come(job)
    outlines = walls.outlines()
    state, _ = results(job)
    for row in state.measured:
        name = row.recipe.name
        assert by_hand.current(job) == row.id
        if row.recipe.kind == "surface_point":
            u, v = np.linalg.svd(row.recipe.nominal.normal[None])[2][1:]
            face = next(f["index"] for f in walls.faces if f["surface"] == "plane"
                        and np.allclose(f["nominal"]["normal"], row.recipe.nominal.normal))  # fmt: skip
            for turn in (0.1, 2.2, 4.3):
                at = row.recipe.nominal.point + 6 * (np.cos(turn) * u + np.sin(turn) * v)
                move_hand(TECHNICIAN, job, "touch_at", face=face, point=at.tolist())
        elif row.recipe.kind == "section_curve":
            move_hand(TECHNICIAN, job, "touch")  # each of its targets
        else:
            hits = 8 if name.startswith("Bolt hole") else row.recipe.hits
            by_hand.touch(job, outlines.get(name, [(row.recipe.cad_face, hits)]))
        by_hand.finish(job)
    tamsin.open(job)
    for row in state.measured:
        expect(tamsin.row(row.recipe.name).locator(".mark")).not_to_have_text("○")
    _, found = results(job)
    assert {name: r.message for name, (_, r) in found.items() if r.state != "done"} == {}
    apart = {}
    for (name, key), true in {**TRUTH, **true_of_places(found)}.items():
        actual = found[name][1].characteristic(key)
        apart[name, key] = (actual.actual - true) / actual.U
    print(apart)  # whole, for who reads of a failure
    holes = [found[f"Bolt hole {k + 1}"][1].feature_part.shape.point[:2] for k in range(bracket.BOLTS)]
    shifted = [np.linalg.norm(p - q) for p, q in zip(holes, ring(), strict=True)]
    assert shifted[0] == pytest.approx(np.hypot(*bracket_real.BOLT_SHIFT), abs=0.1)
    assert max(shifted[1:]) < 0.1  # arm, alignment, and a short bore
    loose = {k: found[k[0]][1].characteristic(k[1]).U for k in apart}
    assert 0.2 < loose.pop(("Cradle", "diameter")) < 2  # an arc of less than 50° tells little of its diameter
    assert max(loose.values()) < 0.7, loose  # mm, or rad
    assert max(loose[name, "off"] for name in ("D1", "D2", "D3")) < 0.1
    assert max(map(abs, apart.values())) < AT_MOST, apart
    assert np.mean(np.abs(list(apart.values())) < 1) > 0.85, apart


def ring():
    turn = 2 * np.pi * np.arange(bracket.BOLTS) / bracket.BOLTS
    return np.array(bracket.CIRCLE[1:]) + bracket.CIRCLE[0] / 2 * np.column_stack([np.cos(turn), np.sin(turn)])


def test_just_touched_with_no_plan(tamsin, running, bench):
    come, part, walls = bench
    job = sheet.create_job(TECHNICIAN, "Just touched", part)
    come(job)
    tamsin.open(job)
    page = tamsin.page
    page.keyboard.press("r")
    expect(page.locator("#now .say .ask")).to_contain_text("Just touch, in space")
    in_space = [
        ("plane", flat_top(walls), 7, None, None),
        ("cylinder", walls.round(15, *bracket.BORE[1:]), 12, "diameter", TRUTH["Bore", "diameter"]),
        ("cylinder", walls.round(20, *bracket.BOSS[1:]), 12, "diameter", TRUTH["Boss", "diameter"]),
        ("cone", walls.of("cone"), 14, "angle", TRUTH["Cone seat", "angle"]),
        ("sphere", walls.of("sphere"), 12, "diameter", TRUTH["Ball seat", "diameter"]),
        ("torus", walls.of("torus"), 18, "tube_diameter", TRUTH["Groove", "tube_diameter"]),
    ]
    for number, (kind, face, hits, key, true) in enumerate(in_space):
        touched(tamsin, job, [(face, hits)], number, kind, key, true)
    page.reload()  # in the middle of it
    tamsin.open(job)
    page.keyboard.press("r")
    expect(page.locator("#now .say .ask")).to_contain_text("Just touch, in the plane of Plane 1")
    outlines = walls.outlines()
    in_a_plane = [
        ("circle", "Bore rim", "diameter"), ("slot", "Round slot", "width"), ("slot", "Square slot", "width"),
        ("ellipse", "Opening", "major_diameter"), ("arc", "Cradle", "diameter"),
    ]  # fmt: skip
    for number, (kind, name, key) in enumerate(in_a_plane, start=len(in_space)):
        touched(tamsin, job, outlines[name], number, kind, key, TRUTH[name, key])


def flat_top(walls):
    return next(f["index"] for f in walls.faces if f["surface"] == "plane" and f["nominal"]["normal"][2] > 0.99
                and f["area_mm2"] > 50_000)  # fmt: skip


def touched(tamsin, job, what, number, kind, key, true):
    by_hand.touch(job, what)
    tell_hand({"do": "click", "button": "finish"})
    state = tamsin.until(lambda: (s := results(job)[0]) and len(s.rows) > number and s.rows[number].finished and s, 60)
    row = state.rows[number]
    assert row.recipe.kind == kind, (row.recipe, state.results[row.id].message)
    if key is not None:
        found = state.results[row.id].characteristic(key)
        assert abs(found.actual - true) < 2 * found.U + 0.01, (row.recipe.name, found.actual, true, found.U)


IN_SPACE = {"Cone seat": ("cone", 14), "Ball seat": ("sphere", 12), "Groove": ("torus", 18)}
IN_A_PLANE = ("Round slot", "Square slot", "Opening", "Cradle", "Front edge")


def as_drawn(recipe, name, top):
    """The form of a row as somebody types it from the drawing, in inches; the top is the plane that 2D shapes lie in."""
    texts = {k: v for k, v in texts_of(recipe, "in").items() if k not in ("cad_face", "cad_edge") and not k.startswith("asked")}
    for path in [k for k in texts if k.split(".")[0] in ("plane", "laid_by", "plane_hits")]:
        del texts[path]
    return {**texts, **({"plane": str(top)} if name in IN_A_PLANE else {})}


TYPED = {
    "Top": ("plane", {"nominal.point.2": bracket.THICK, "nominal.normal.2": 1}, "A"),
    "Side": ("plane", {"nominal.point.1": -bracket.WIDTH / 2, "nominal.normal.1": -1}, "B"),
    "End": ("plane", {"nominal.point.0": -bracket.LENGTH / 2, "nominal.normal.0": -1}, "C"),
    "Bore rim": ("circle", {"nominal.center.0": bracket.BORE[1], "nominal.center.1": bracket.BORE[2],
                            "nominal.center.2": bracket.THICK, "nominal.normal.2": 1, "nominal.radius": bracket.BORE[0]}, ""),
    "Boss": ("cylinder", {"nominal.point.0": bracket.BOSS[1], "nominal.point.1": bracket.BOSS[2], "nominal.direction.2": 1,
                          "nominal.radius": bracket.BOSS[0], "inside": "0"}, ""),
}  # fmt: skip


def typed(fields, inches):
    """As a person types them: zeros where nothing is said, in inches where the job is."""
    axes = {path[:-2] for path in fields if path[-2] == "."}
    blank = {f"{path}.{k}": 0.0 for path in axes for k in range(3)}
    lengths = ("point", "center", "radius")
    return {
        path: str(value / 25.4 if inches and any(name in path for name in lengths) else value)
        for path, value in {**blank, **fields}.items()
    }


def test_with_no_cad_at_all_from_typed_nominals_and_a_list_in_inches(tamsin, running, bench):
    come, _, walls = bench
    page = tamsin.page
    page.goto(running.url + "/")
    page.fill("form.stack input[name=name][required]", "Bare bracket")
    page.click("text=Begin without CAD")
    expect(page.locator("#slip")).to_contain_text("There is no CAD of it")
    job = int(page.url.split("/jobs/")[1].split("/")[0])
    sheet.set_units(TECHNICIAN, job, "in")
    rows = {}
    for name, (kind, fields, letter) in TYPED.items():
        texts = {"name": name, "datum": letter, "hits": "7", **typed(fields, True)}
        if kind == "circle":
            texts["plane_hits"] = "3"  # its plane is taken first, in the same row
        rows[name] = adding.plan_typed(TECHNICIAN, job, kind, texts)
    systems.plan_lettered(TECHNICIAN, job)
    drawn = {row.recipe.name: row.recipe for row in results(running.bracket_job)[0].measured}
    for name in (*IN_SPACE, *IN_A_PLANE):
        rows[name] = adding.plan_typed(TECHNICIAN, job, drawn[name].kind, as_drawn(drawn[name], name, rows["Top"]))
    spots = [(-150.0, -90.0), (-60.0, -90.0), (30.0, 90.0)]
    lines = [f"P{k + 1};{x / 25.4:.6f};{y / 25.4:.6f};{bracket.THICK / 25.4:.6f};0;0;1" for k, (x, y) in enumerate(spots)]
    listing.plan_list(TECHNICIAN, job, "\n".join(lines), "in")
    curve = drawn["Wavy edge"].nominal
    listed = [
        ";".join((f"W{k}", *(f"{v / 25.4:.7f}" for v in at), *(f"{v:.7f}" for v in normal)))
        for k, (at, normal) in enumerate(zip(curve.points, curve.normals, strict=True))
    ]
    every = {"every": "0.8 in", "stem": "Wavy edge"}
    sections.plan_listed_curve(TECHNICIAN, job, "\n".join(listed), "in", every)
    with transaction() as session:
        wave = next(r.recipe for r in load(session, job).rows if r.recipe.name.startswith("Wavy"))
    tamsin.leave()
    come(running.bracket_job)
    move_hand(TECHNICIAN, running.bracket_job, "ask")  # so that the stand-in has the bracket before it
    come(job)
    top, outlines = flat_top(walls), walls.outlines()
    for name, what in (
        ("Top", [(top, 7)]), ("Side", [(outlines["Lip 1"][0][0], 7)]), ("End", [(end_of(walls), 7)]),
        ("Bore rim", [(top, 3), *[(face, 7) for face, _ in outlines["Bore rim"]]]),
        ("Boss", [(walls.round(20, *bracket.BOSS[1:]), 7)]),
        *((name, [(walls.of(shape), hits)]) for name, (shape, hits) in IN_SPACE.items()),
        *((name, outlines[name]) for name in IN_A_PLANE),
    ):  # fmt: skip
        assert by_hand.current(job) == rows[name]
        for face, hits in what:
            tell_hand({"do": "touch", "face": face, "hits": hits})
        by_hand.finish(job)
    for x, y in spots:
        tell_hand({"do": "touch_at", "face": top, "point": [x, y, bracket.THICK]})
        by_hand.finish(job)
    tamsin.open(job)
    for name in (*rows, "P1", "P2", "P3"):
        expect(tamsin.row(name).locator(".mark")).not_to_have_text("○")
    expect(page.locator("#now .say .ask")).to_contain_text(wave.name)
    free = next(f["index"] for f in walls.faces if f["surface"] == "free surface" and f["box"][4] > bracket.WIDTH / 2 - 1)
    for target in wave.targets:
        tell_hand({"do": "touch_at", "face": free, "point": target.tolist()})
    tamsin.until(lambda: tamsin.hits[0] >= len(wave.targets), 60)
    tamsin.until_hand_rests()
    tell_hand({"do": "click", "button": "finish"})
    expect(tamsin.row(wave.name).locator(".mark")).not_to_have_text("○")
    _, found = results(job)
    assert {name: r.message for name, (_, r) in found.items() if r.state != "done"} == {}
    drawn_too = {key for key in TRUTH if key[0] in rows}
    assert {name for name, _ in drawn_too} == {"Bore rim", "Boss", *IN_SPACE, *IN_A_PLANE} - {"Front edge"}
    for name, key in drawn_too:
        actual = found[name][1].characteristic(key)
        must_be_true(actual, TRUTH[name, key])
    for key, true in true_of_places({**found, "Wavy edge": found[wave.name]}, targets=()).items():
        actual = found[wave.name][1].characteristic(key[1])
        must_be_true(actual, true)
    for k in range(3):
        off = found[f"P{k + 1}"][1].characteristic("off")
        assert abs(off.actual) < 2 * off.U + 0.02
    assert page.evaluate("window.zipplumb.stage.bare && window.zipplumb.stage.marks.hits.visible")


def end_of(walls):
    return next(f["index"] for f in walls.faces if f["surface"] == "plane" and f["nominal"]["normal"][0] < -0.99
                and f["area_mm2"] > 9_000)  # fmt: skip
