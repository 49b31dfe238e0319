"""The guide says what stands on the pages, and is reached from every stage."""

import re
from itertools import pairwise
from pathlib import Path

import pytest
from markdown_it import MarkdownIt

import zipplumb
from zipplumb.web.guide.pages import WRITTEN
from zipplumb.web.stages import STAGES

ROOT = Path(zipplumb.__file__).parent
SAID = re.findall(r"\*\*([^*]+)\*\*", WRITTEN.read_text())


@pytest.fixture(scope="module")
def on_pages():
    """All that templates and the words of pages say, on one line."""
    files = [*ROOT.glob("web/**/*.html"), *ROOT.glob("web/**/*.py"), *ROOT.glob("jobs/**/*.py")]
    return " ".join(" ".join(path.read_text() for path in files).split())


@pytest.mark.parametrize("words", sorted({*SAID} - {"bold"}))
def test_what_is_printed_bold_stands_on_a_page(on_pages, words):
    assert words.rstrip(":") in on_pages


def test_every_stage_has_its_part_and_leads_to_it(technician, stack):
    page = technician.get("/guide").get_data(as_text=True)
    for key, word in STAGES.items():
        assert f'id="{key}">{word}</h2>' in page
        assert f'/guide#{key}"' in technician.get(f"/jobs/{stack.job}/{key}").get_data(as_text=True)


def test_it_has_a_dozen_lines_for_a_job_at_most():
    tokens = MarkdownIt().parse(WRITTEN.read_text())
    begins = [t.map[0] for t in tokens if t.type == "heading_open"]
    assert len([t for t in tokens if t.type == "heading_open" and t.tag == "h3"]) >= 20
    assert max(b - a for a, b in pairwise(begins)) <= 14
