"""Align: what is loose, in doubt or in several places is said, and a person settles it."""

import html
import re

import pytest
from job_bench import TECHNICIAN, Bench
from visitor import words

from zipplumb.core.errors import InputError
from zipplumb.jobs.align import systems
from zipplumb.jobs.state.rows_text import row_texts


@pytest.fixture
def crossing(stack):
    """Two bores that cross: the part may lie in four ways."""
    bench = Bench(stack)
    first = bench.touch_bore("Long bore", [0, 0, 0], [1, 0, 0])
    second = bench.touch_bore("Cross bore", [0, 0, 0], [0, 1, 0])
    holds = [{"feature": row, "directions": ["own"]} for row in (first, second)]
    bench.holds = bench.plan(kind="holds", name="By the bores", holds=holds)
    systems.activate(TECHNICIAN, bench.job, bench.holds)
    return bench


def places(page):
    return re.findall(r'"turn": "([^"]+)"', html.unescape(page.get_data(as_text=True)))


def test_several_places_are_told_and_a_person_chooses_one(crossing, technician):
    page = technician.get(f"/jobs/{crossing.job}/align")
    said = words(page)
    assert "4 places equally well" in said
    assert "How does the part lie?" in said
    assert len(places(page)) == 4
    judged = crossing.touch_bore("Far bore", [60, 40, 0], [0, 0, 1], asked=[{"key": "off", "lower": -0.05, "upper": 0.05}])
    text = row_texts(crossing.state())[judged]
    assert text.word == "not proven"
    assert "4 places equally well" in text.message
    assert row_texts(crossing.state())[crossing.holds].word == "not proven"
    assert text.first.uncertainty == "∞"

    other = places(page)[1]
    assert technician.post(f"/jobs/{crossing.job}/alignments/{crossing.holds}/place", {"turn": other}).status_code == 204
    page = technician.get(f"/jobs/{crossing.job}/align")
    assert "equally well" not in words(page)
    assert not places(page)
    turn = crossing.state().row(crossing.holds).recipe.settled_turn
    assert turn == pytest.approx([float(v) for v in other.split(",")], abs=1e-3)
    answer = technician.post(f"/jobs/{crossing.job}/alignments/{crossing.holds}/place", {"turn": other})
    assert "one place only" in words(answer)


def test_only_an_alignment_in_several_places_is_settled(crossing):
    with pytest.raises(InputError, match="one place only"):
        systems.settle(TECHNICIAN, crossing.job, next(iter(crossing.state().results)), [0, 0, 1])


def test_the_list_of_jobs_counts_what_is_measured_and_nothing_else(crossing, technician):
    """Two bores of two; the alignment is no row to measure."""
    page = technician.get("/")
    assert page.status_code == 200
    line = re.search(
        rf'<div class="job-line">\s*<a[^>]*href="/jobs/{crossing.job}/.*?</div>', page.get_data(as_text=True), re.S
    )
    assert line and re.search(r"\b2 of 2\b", re.sub(r"<[^>]+>", " ", line[0])), words(page)[-600:]
