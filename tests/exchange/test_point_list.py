"""Lists of points in every dress that they come in; a line that does not read is named."""

import csv
import io
import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zipplumb.exchange.point_list import LONGEST_NAME, read_points, text_of

PLAIN = [("B1", (1.5, -2.25, 30.0), (0.0, 0.0, 1.0)), ("B2", (100.0, 0.5, 30.0), (0.6, 0.0, 0.8))]
DRESSES = {
    "commas": "B1,1.5,-2.25,30,0,0,1\nB2,100,0.5,30,0.6,0,0.8\n",
    "semicolons and decimal commas": "B1;1,5;-2,25;30;0;0;1\nB2;100;0,5;30;0,6;0;0,8\n",
    "tabs, decimal commas, a header": "Name\tX\tY\tZ\tI\tJ\tK\nB1\t1,5\t-2,25\t30\t0\t0\t1\nB2\t100\t0,5\t30\t0,6\t0\t0,8\n",
    "blanks": "B1  1.5  -2.25 30 0 0 1\n\n# a word\nB2 100 .5 3e1 0.6 0 0.8",
    "blanks and decimal commas": "B1 1,5 -2,25 30 0 0 1\nB2 100 0,5 30 0,6 0 0,8\n",
    "a header in another order, with units": "X (mm),Y (mm),Z (mm),nx,ny,nz,Point\n1.5,-2.25,30,0,0,1,B1\n"
    "100,.5,30,.6,0,.8,B2\n",
    "quoted": '"B1","1.5","-2.25","30","0","0","1"\r\n"B2","100","0.5","30","0.6","0","0.8"\r\n',
}


@pytest.mark.parametrize("dress", DRESSES)
def test_a_list_in_any_dress_is_the_same_list(dress):
    found = read_points(DRESSES[dress], "mm")
    assert found.faults == ()
    assert [(p.name, p.at) for p in found.points] == [(name, at) for name, at, _ in PLAIN]
    assert np.allclose([p.normal for p in found.points], [n for _, _, n in PLAIN])


def test_inches_and_points_without_directions_or_names():
    (point,) = read_points("Nest 1, 1, 2, 3", "in").points
    assert point.at == pytest.approx((25.4, 50.8, 76.2)) and point.normal is None
    assert [p.name for p in read_points("1 2 3\n4 5 6", "mm").points] == ["Point 1", "Point 2"]


BAD = {
    "B2,1,2": "has 3 columns|y is|no number",
    "B2,1,2,x": "z is “x”",
    "B2,1,2,NaN": "z is “NaN”",
    "B2,1,2,": "z is missing",
    "B2,1,2,3,0,0": "has 6 columns|no number",
    "B2,1,2,3,0,0,0": "length 0",
    "B2,1,2,3,1,1,1": "length 1.73",
    "B2,1,2,3,,0,1": "some are missing",
    "B1,1,2,3": "“B1” is the name of line 1",
    ",1,2,3": "no name",
    "B2,1e9,2,3": "beyond a kilometre",
    "x" * 81 + ",1,2,3": f"more than {LONGEST_NAME}",
    "B2,1.000,5,2,3,4,5,6,7": "has 9 columns",
    "B2,1e999,2,3": "no number|kilometre",
    "²,²,2,3": "no number",
}


@pytest.mark.parametrize("line", BAD)
def test_a_bad_line_is_named_and_the_others_stay_good(line):
    found = read_points(f"B1,1,2,3\n{line}\nB3,4,5,6\n", "mm")
    (fault,) = found.faults
    assert fault.line == 2 and re.search(BAD[line], fault.words), fault
    assert [p.name for p in found.points] == ["B1", "B3"]


def test_nothing_a_header_alone_and_too_much():
    assert "empty" in read_points("\n # only words\n", "mm").faults[0].words
    assert "no point below" in read_points("name,x,y,z", "mm").faults[0].words
    assert "5001 lines" not in str(read_points("\n".join(f"P{k},1,2,3" for k in range(5000)), "mm").faults)
    assert "points are the most" in read_points("\n".join(f"P{k},1,2,3" for k in range(5002)), "mm").faults[0].words


def test_text_of_old_and_new_files():
    assert (
        text_of("Ä1;1;2;3".encode("cp1252"))
        == text_of("Ä1;1;2;3".encode())
        == text_of("Ä1;1;2;3".encode("utf-16"))
        == "Ä1;1;2;3"
    )


NAMES = st.text(st.characters(categories=("L", "N", "P", "Zs"), max_codepoint=0x2FF), min_size=1, max_size=20)
NUMBERS = st.floats(-9e5, 9e5).map(lambda v: round(v, 4))


@given(
    st.dictionaries(
        NAMES.map(str.strip).filter(lambda n: n and n[0] != "#"), st.tuples(NUMBERS, NUMBERS, NUMBERS), min_size=2, max_size=9
    )
)
def test_what_was_written_comes_back(points):
    written = io.StringIO()
    table = csv.writer(written, delimiter=";", quoting=csv.QUOTE_NONNUMERIC)
    table.writerows([name, *at] for name, at in points.items())
    found = read_points(written.getvalue(), "mm")
    assert found.faults == ()
    assert {p.name: p.at for p in found.points} == points


@given(st.text(max_size=300))
def test_no_text_does_more_than_be_named(text):
    found = read_points(text, "mm")
    assert found.points or found.faults


def test_minus_signs_of_printed_tables_and_exponents_of_fortran_are_numbers():
    found = read_points("P1 −1.5 2.5D+01 3d-1\nP2 1 2 3\n", "mm")
    assert found.points[0].at == (-1.5, 25.0, 0.3) and not found.faults
