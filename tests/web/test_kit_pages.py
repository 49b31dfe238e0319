"""The pages of the kit without scripts: what they say, what they ask, what they refuse."""

import asyncio
import json
import re
from types import SimpleNamespace

import numpy as np
import pytest
from sqlalchemy import event, select
from visitor import words

from zipplumb.core.frames import Motion
from zipplumb.core.sheet import PartSurfaces, SheetRow, StationPose, recipe_from_dict
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.kit import instruments, probes
from zipplumb.store.database import engine, transaction
from zipplumb.store.models import Instrument, Probe, Trial
from zipplumb.web.live.hub import Hub
from zipplumb.web.live.listeners import Page, Watched
from zipplumb.web.live.tip import told_of_tip

TECHNICIAN = Actor(1, "Tamsin", "technician")
BALL = {"name": "Paged ball", "kind": "ball", "diameter": "8", "diameter_unit": "mm", "length": "150"}


def post(visitor, path, data=None):
    """As a form does: the whole page comes back."""
    return visitor.post(path, data, headers={"HX-Request": ""}, follow_redirects=True)


def seen(page):
    """What the form of a page was filled with."""
    return {"seen": re.search(r'name="seen" value="([^"]+)"', page.get_data(as_text=True))[1]}


@pytest.fixture
def arm(stack):
    """An arm of its own, so that nothing else stands in the way."""
    number = instruments.add_instrument("Paged arm", "arm", "127.0.0.1", 1, 0.012, instruments.spec_from_form("arm", {}))
    yield number
    with transaction() as session:
        session.get(Instrument, number).trial_id = None


@pytest.fixture
def probe(stack):
    with transaction() as session:
        found = session.scalar(select(Probe.id).where(Probe.name == BALL["name"], Probe.removed_at.is_(None)))
    return found or probes.add_probe(TECHNICIAN, probes.typed_probe(BALL))


def test_every_page_of_the_kit_is_there_for_a_technician_and_a_reviewer(technician, reviewer, arm, probe):
    for visitor in (technician, reviewer):
        for path, said in (
            ("/instruments", "Hall tracker"),
            (f"/instruments/{arm}", "Single point"),
            ("/probes", "38.100 mm (1.5000 in)"),
            (f"/probes/{probe}", "Ø 8.000 mm (0.3150 in)"),
        ):
            page = visitor.get(path)
            assert page.status_code == 200
            assert said in words(page)
    for path in ("/instruments/9999", "/probes/9999", "/trials/9999"):
        assert technician.get(path).status_code == 404


def test_a_reviewer_changes_nothing_of_the_kit(reviewer, arm, probe):
    for path, data in (
        ("/probes", BALL | {"name": "Mine"}),
        (f"/probes/{probe}", BALL),
        (f"/probes/{probe}/remove", {}),
        ("/instruments", {"name": "x", "kind": "arm", "host": "127.0.0.1", "port": "7"}),
        (f"/instruments/{arm}/probe", {"probe": str(probe)}),
        (f"/instruments/{arm}/hand/knock", {}),
        ("/trials", {"kind": "point", "instrument": str(arm)}),
    ):
        assert reviewer.post(path, data).status_code == 403, path


def test_a_probe_in_the_wrong_unit_is_questioned_and_then_corrected(technician):
    typed = BALL | {"name": "Inches", "diameter": "25", "diameter_unit": "in"}
    asked = post(technician, "/probes", typed)
    assert "635.000 mm (25.0000 in)" in words(asked)
    assert 'value="25"' in asked.get_data(as_text=True)  # what was typed is not lost
    with transaction() as session:
        assert session.scalar(select(Probe).where(Probe.name == "Inches")) is None
    page = post(technician, "/probes", typed | {"answer": "likely"})
    assert "Ø 25.000 mm (0.9843 in)" in words(page)
    with transaction() as session:
        number = session.scalar(select(Probe.id).where(Probe.name == "Inches"))
    page = post(technician, f"/probes/{number}", typed | {"diameter": "0.5", "diameter_unit": "in"} | seen(page))
    assert "Ø 12.700 mm (0.5000 in)" in words(page)
    sure = typed | {"diameter": "25", "diameter_unit": "in", "answer": "keep"}
    page = post(technician, f"/probes/{number}", sure | seen(page))
    assert "Ø 635.000 mm" in words(page)  # a person may be sure
    assert "has no name" in words(post(technician, "/probes", BALL | {"name": ""}))
    page = post(technician, f"/probes/{number}/remove", seen(technician.get(f"/probes/{number}")))
    assert "Inches" not in words(page)


def test_what_the_maker_of_a_scanner_states_is_kept_corrected_and_refused_by_its_field(technician):
    typed = {
        "name": "Stated light",
        "kind": "scanner",
        "head_nearest_mm": "70",
        "head_farthest_mm": "6 in",
        "head_width_mm": "70,5",
    }
    page = post(technician, "/probes", typed | {"head_points": "500"})
    assert "clear from 70 to 152.4 mm, a line of 70.5 mm, 500 points a line, one per 0.14 mm" in words(page)
    with transaction() as session:
        number = session.scalar(select(Probe.id).where(Probe.name == "Stated light"))
    for field, wrong, said in (
        ("head_nearest_mm", "200", "the clear range"), ("head_nearest_mm", "far", "where it begins to be clear"),
        ("head_farthest_mm", "", "to where it is clear"), ("head_width_mm", "-3", "width of the line"),
        ("head_points", "1e300", "points a line"), ("head_points", "7.5", "points a line"),
        ("head_lines_s", "0", "lines a second"),
    ):  # fmt: skip
        refused = post(technician, f"/probes/{number}", typed | {field: wrong} | seen(page))
        assert said in words(refused), (field, wrong)
    nothing = {field: "" for field in typed if field.startswith("head_")}
    assert "Its clear range is not stated" in words(post(technician, f"/probes/{number}", typed | nothing | seen(page)))


def test_a_name_is_only_ever_text(technician):
    page = post(technician, "/probes", BALL | {"name": "<script>alert(1)</script>"})
    assert "<script>alert" not in page.get_data(as_text=True)
    assert "&lt;script&gt;" in page.get_data(as_text=True)


def test_lengths_are_shown_in_the_unit_that_was_chosen(technician, stack):
    with transaction() as session:
        ruby = session.scalar(select(Probe.id).where(Probe.name == "6 mm ruby ball"))
    assert "rms 0.011" in words(technician.get(f"/probes/{ruby}"))
    technician.post("/instruments/units", {"units": "in"})
    assert "rms 0.0004" in words(technician.get(f"/probes/{ruby}"))
    technician.post("/instruments/units", {"units": "mm"})


def test_a_trial_page_prompts_and_its_acts_are_refused_in_words_once_it_is_over(technician, arm, probe):
    page = post(technician, "/trials", {"kind": "pivot", "instrument": str(arm), "probe": str(probe), "seat": "cone"})
    assert "Rest the ball in the cone" in words(page)
    assert "The link is lost" in words(page)  # nothing answers at its address
    with transaction() as session:
        number = session.get(Instrument, arm).trial_id
    piece = technician.get(f"/trials/{number}", headers={"HX-Request": "true"}).get_data(as_text=True)
    assert "<html" not in piece
    assert piece.count('class="cell ') == 9
    assert technician.post(f"/trials/{number}/finish").status_code == 204
    with transaction() as session:
        assert session.get(Trial, number).words == "It is not complete yet."
    assert "nothing to take back" in words(technician.post(f"/trials/{number}/undo"))
    assert "cannot be done" in words(technician.post(f"/trials/{number}/dance"))
    assert "under way" in words(technician.post("/trials", {"kind": "point", "instrument": str(arm)}))
    assert technician.post(f"/trials/{number}/end").status_code == 204
    assert "Given up" in words(technician.get(f"/trials/{number}"))
    assert "not under way" in words(technician.post(f"/trials/{number}/finish"))


def test_a_sphere_in_inches_is_questioned_before_anything_begins(technician, arm, probe):
    form = {"kind": "sphere", "instrument": str(arm), "probe": str(probe), "certified": "1", "certified_unit": "mm"}
    asked = post(technician, "/trials", form)
    assert "If the number was meant in inches, it is 25.400 mm (1.0000 in)" in words(asked)
    with transaction() as session:
        assert session.get(Instrument, arm).trial_id is None
    assert "unit of the diameter was not chosen" in words(technician.post("/trials", form | {"certified_unit": ""}))
    post(technician, "/trials", form | {"answer": "likely"})
    with transaction() as session:
        trial = session.get(Trial, session.get(Instrument, arm).trial_id)
        assert trial.settings["certified_mm"] == pytest.approx(25.4)


def test_word_of_a_change_reaches_the_pages_of_the_kit(app):
    hub, written = Hub(app), []

    async def listen():
        page = Page()
        hub.kit.add(page)
        hub._heard("zp_changed", {"job": 0, "what": "kit", "instrument": 3, "tone": "taken"})
        hub._heard("zp_tip", {"instrument": 3, "station": None, "tip": [1.0, 2.0, 3.0]})
        written.extend([await page.events.get() for _ in range(2)])

    asyncio.run(listen())
    assert told(written[0]) == {"job": 0, "what": "kit", "instrument": 3, "tone": "taken"}
    assert told(written[1])["tip"] == [1.0, 2.0, 3.0]


def told(event):
    return json.loads(event.split(b"data: ", 1)[1])


BORE = {"shape": "cylinder", "point": (0, 0, 0), "direction": (0, 0, 1), "radius": 20.0}


@pytest.mark.parametrize(
    ("raw", "radius", "off"),
    [
        ({"kind": "plane", "nominal": {"shape": "plane", "point": (0, 0, 60), "normal": (0, 0, 1)}}, 3.0, 7.0),
        ({"kind": "plane", "nominal": {"shape": "plane", "point": (0, 0, 60), "normal": (0, 0, 1)}}, 8.0, 2.0),
        ({"kind": "cylinder", "nominal": BORE, "inside": True}, 3.0, 12.0),
        ({"kind": "cylinder", "nominal": BORE, "inside": False}, 3.0, -18.0),
        ({"kind": "plane", "nominal": None}, 3.0, None),
        ({"kind": "proof"}, 3.0, 7.0),
        ({"kind": "plane", "nominal": {"shape": "plane", "point": (0, 0, 60), "normal": (0, 0, 1)}}, None, None),
    ],
)
def test_the_tip_comes_with_how_far_its_surface_is_from_the_nominal(app, raw, radius, off):
    """A tip at (3, 4, 70): 10 mm over the plane at 60, 5 mm from the axis; its radius is that of the probe in the hand."""
    hub = Hub(app)
    row = SheetRow(1, recipe_from_dict({"name": "F", **raw}), False)
    state = SimpleNamespace(
        stations={1: StationPose(1, Motion.identity())},
        alignment=Motion.identity(),
        job=SimpleNamespace(units="mm", placing={}),
        sheet=None,
        measured=[row],
        remembered={},
        current=row,
        stood={},
        surfaces=PartSurfaces(
            "a top", lambda points: (points * [1, 1, 0] + [0, 0, 60], np.tile([0.0, 0, 1], (len(points), 1)))
        ),
    )

    async def listen():
        page = Page()
        hub.jobs[7] = Watched(pages={page}, state=state)
        hub._heard("zp_tip", {"instrument": 3, "station": 1, "tip": [3.0, 4.0, 70.0], "radius": radius})
        return told(await asyncio.wait_for(page.events.get(), 20))

    word = asyncio.run(listen())
    assert np.allclose(word["tip"], [3.0, 4.0, 70.0])
    assert word.get("off") == off


def test_with_the_tip_comes_how_a_scanner_is_held(app):
    state = SimpleNamespace(alignment=None, job=SimpleNamespace(units="in"))
    word = {"tip": [0.0, 0.0, 0.0]}
    here = StationPose(1, Motion.identity())
    light = told_of_tip(state, here, word | {"light": [110.0, 70.0, 150.0]})[0]["light"]
    assert (light["held"], light["share"], light["text"]) == ("right", 0.5, "4.3307")
    gone = told_of_tip(state, here, word | {"light": [None, 70.0, 150.0]})[0]["light"]
    assert (gone["word"], gone["share"], gone["text"]) == ("Nothing comes back", None, "")
    assert "light" not in told_of_tip(state, here, word | {"light": None})[0]


def test_a_job_whose_tip_cannot_be_told_is_said_once_and_keeps_no_other_page_from_its_own(app, caplog):
    hub = Hub(app)
    broken = SimpleNamespace(stations={1: StationPose(1, Motion.identity())}, alignment=None)  # it lacks what is asked of it

    async def listen():
        kit, page = Page(), Page()
        hub.kit.add(kit)
        hub.jobs[7] = Watched(pages={page}, state=broken)
        for _ in range(3):
            hub._heard("zp_tip", {"instrument": 3, "station": 1, "tip": [3.0, 4.0, 70.0]})
            told(await asyncio.wait_for(kit.events.get(), 20))
        hub._heard("zp_changed", {"job": 7, "what": "kit", "instrument": 3})
        return told(await asyncio.wait_for(kit.events.get(), 20))

    assert asyncio.run(listen())["what"] == "kit"
    assert caplog.text.count("the tip could not be told") == 1


def test_pages_of_the_kit_ask_the_database_as_often_for_many_as_for_few(technician, app):
    def questions(path):
        asked = []

        def count(*call):
            asked.append(call[2])

        event.listen(engine(), "before_cursor_execute", count)
        assert technician.get(path).status_code == 200
        event.remove(engine(), "before_cursor_execute", count)
        return len(asked)

    before = [questions(path) for path in ("/instruments", "/probes")]
    for k in range(5):
        added = instruments.add_instrument(
            f"One of many {k}", "arm", "127.0.0.1", 1, 0.01, instruments.spec_from_form("arm", {})
        )
        instruments.add_calibrated_probe(added, f"Ball of many {k}", [0.0, 0.0, 180.0], 6.0, 0.01, 0.002, "", ((3, 0.01),))
    assert [questions(path) for path in ("/instruments", "/probes")] == before
