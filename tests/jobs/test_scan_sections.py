"""Sections through a scan in a job: several in a row, drawn flat, measured between two places."""

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN
from scan_bench import ScannedBench

from zipplumb.core.errors import InputError, PlumbError
from zipplumb.exchange.document import Document, Stood
from zipplumb.exchange.pdf_file import page_of, write_pdf
from zipplumb.jobs.measure import maps, scan_sections
from zipplumb.jobs.measure.scan_sections import SectionsAsked
from zipplumb.jobs.report.parts.base import Gathering
from zipplumb.jobs.report.parts.sections import SectionsPart
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot


@pytest.fixture(scope="module")
def cut(stack):
    """The top of the carrier, scanned, and cut across X twice."""
    bench = ScannedBench.aligned(stack)
    bench.scan_row = bench.scan()
    bench.work()
    asked = SectionsAsked("X", -230.0, None, 2, 12.5, 2.0)
    bench.sections = scan_sections.plan(TECHNICIAN, bench.job, bench.scan_row, asked, 0.5)
    return bench


@pytest.fixture
def flat(cut):
    with snapshot() as session:
        state = load(session, cut.job)
        yield state, scan_sections.flat_of(state, cut.sections[0])


def test_several_stand_apart_and_each_is_judged_at_once(cut, flat):
    state, _ = flat
    for row, x in zip(cut.sections, (-230.0, -217.5), strict=True):
        found = state.results[row]
        assert found.state == "done", found.message
        assert found.characteristic("profile").verdict.word == "in"
        places = found.map.found.places.points
        assert np.all(np.abs(places[:, 0] - x) <= 2.01)
        assert np.allclose(places[:, 2], 60, atol=1e-6)
    assert [state.row(i).recipe.name for i in cut.sections] == ["Scan section 1", "Scan section 2"]


def test_it_is_drawn_flat_with_the_cads_curve_the_zone_and_whiskers(flat):
    _, drawn = flat
    assert drawn.axes == ("Y", "Z")
    assert np.allclose(drawn.places[:, 0], -230, atol=1e-6)
    assert np.allclose(drawn.points, drawn.places[:, 1:])
    assert any(np.allclose(line[:, 1], 60) for line in drawn.nominals)
    heights = {round(float(np.mean(line[:, 1])), 1) for line in drawn.zone}
    assert heights == {60 - 50 * 0.25, 60 + 50 * 0.25}
    off = drawn.whiskers[:, 1] - drawn.whiskers[:, 0]
    assert np.all(np.abs(off) < 50 * 0.01)


def test_a_straight_line_between_two_places_is_a_row_of_the_scans_points(cut):
    begin, end = np.array([-230.0, -95, 60]), np.array([-230.0, -70, 60])
    row = scan_sections.measure(TECHNICIAN, cut.job, cut.sections[0], "line", begin, end)
    state = cut.state()
    found = state.results[row]
    assert found.state == "done", found.message
    assert abs(found.feature.feature.shape.direction[1]) == pytest.approx(1, abs=1e-4)
    assert state.row(row).recipe.note == "In Scan section 1"
    assert found.characteristic("straightness").actual < 0.05


def test_what_makes_no_sense_is_refused(cut):
    place = np.array([-230.0, -95, 60])
    for kind, words in (("plane", "a radius, a straight line or a whole circle"), ("arc", "interrupted")):
        with pytest.raises(InputError, match=words):
            scan_sections.measure(TECHNICIAN, cut.job, cut.sections[0], kind, place, place)
    with pytest.raises(InputError, match="no section to be seen"):
        scan_sections.measure(TECHNICIAN, cut.job, cut.scan_row, "line", place, place + 9)
    for asked, words in (
        (SectionsAsked("Q", 0.0), "across X, Y, Z, or"), (SectionsAsked("X", 0.0, None, 99), "1 to 50 sections"),
        (SectionsAsked("X", 0.0, None, 2), "stand apart"), (SectionsAsked("X", 0.0, thick_mm=0.0), "Points within"),
    ):  # fmt: skip
        with pytest.raises(InputError, match=words):
            scan_sections.plan(TECHNICIAN, cut.job, cut.scan_row, asked, None)
    with pytest.raises(PlumbError):
        scan_sections.plan(REVIEWER, cut.job, cut.scan_row, SectionsAsked("X", 0.0), None)


def test_where_nothing_was_scanned_it_says_so_and_the_report_leaves_it_out(cut):
    (row,) = scan_sections.plan(TECHNICIAN, cut.job, cut.scan_row, SectionsAsked("Z", 500.0), None)
    state = cut.state()
    assert "Nothing of the scan lies in this plane" in state.results[row].message
    with snapshot() as session:
        state = load(session, cut.job)
        assert scan_sections.flat_of(state, row) is None
        assert "Scan section 1" in {table.name for table in maps.map_tables(state)}


def test_a_plane_may_stand_square_to_a_row_also_one_that_is_not_along_an_axis(cut):
    """A line of the scanned top that runs askew: the section stands across it, where it was clicked."""
    askew, through = np.array([0.6, 0.8, 0]), np.array([-230.0, -85, 60])
    line = scan_sections.measure(
        TECHNICIAN, cut.job, cut.sections[0], "line", np.array([-230.0, -95, 60]), np.array([-230.0, -70, 60])
    )
    assert (str(line), f"as {cut.state().row(line).recipe.name} points") in scan_sections.names_across(cut.state())
    asked = SectionsAsked(str(line), 0.0, through, thick_mm=2.0)
    (row,) = scan_sections.plan(TECHNICIAN, cut.job, cut.scan_row, asked, 0.5)
    recipe = cut.state().row(row).recipe
    assert np.allclose(np.abs(recipe.across), [0, 1, 0], atol=1e-3)
    assert np.allclose(recipe.point, through)
    state = cut.state()
    turned = scan_sections.Way("askew", through, askew)
    (first, second), across = SectionsAsked("askew", 3.0, None, 2, 5.0).planes({"askew": turned})
    assert np.allclose((first - through) @ askew, 3)
    assert np.allclose(second - first, 5 * askew)
    assert np.array_equal(across, askew)
    assert state.results[row].state == "done", state.results[row].message


def test_a_report_has_the_section_as_it_is_drawn_flat(cut, flat):
    state, _ = flat
    with snapshot() as session:
        told = SectionsPart().gather(Gathering(session, state, None))
        page = page_of(Document("Cut", "mm", [told], Stood(1, "now", "abcd", "proven")))
    assert [name for name, _ in told.shown][:2] == ["Scan section 1", "Scan section 2"]
    assert "Scan section 1, seen across its plane. Y to the right, Z up." in page
    assert write_pdf(Document("Cut", "mm", [told], Stood(1, "now", "abcd", "proven"))).startswith(b"%PDF")
