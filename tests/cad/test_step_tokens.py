"""Numbers that are none are found by their value and place, not by how they are spelled (ISO 10303-21, clause 6)."""

import pytest

from zipplumb.cad.library.step_tokens import no_number, plainly

GOOD = (
    "#1=CARTESIAN_POINT('',(0.E+000,1.E+002,1.5E-010));",
    "#1=CARTESIAN_POINT('',(0.000000000000000000001,12345678901234567890.E-10,+1.E00));",
    "#1=PRODUCT('(NAN)','(INF,','1.E308',(#2));",
    "/* (INF, CARTESIAN_POINT('',(1.E99)) it's */#1=A(.NAN.);",
    "#1=PARAMETER_VALUE(1.E+100);",
    "#1=CARTESIAN_POINT('CARTESIAN_POINT(1.E99)',(1.,2.,3.));#2=X(1.E99);",
    "#1=CARTESIAN_POINT('a''(NAN,',(1.,2.,3.));",
    "#1=INDEX(#2);#3=INF(#1);#4=NAN(1.);",
)
BAD = {
    "#1=CARTESIAN_POINT('',(NAN,0.,0.));": "NAN",
    "#1=CARTESIAN_POINT('',(0.,-INF,0.));": "-INF",
    "#1=CARTESIAN_POINT('',(1.#QNAN,0.,0.));": "1.#QNAN",
    "#1=DIRECTION('',(0.,-1.#IND,0.));": "-1.#IND",
    "#1 = CARTESIAN_POINT ( 'x' , ( /*a*/ nan /* b */ , 0., 0.));": "nan",
    "#1=CARTESIAN_POINT('',(1.E308,0.,0.));": "1.E308",
    "#1=CARTESIAN_POINT('',(1.E0999,0.,0.));": "1.E0999",
    "#1=CARTESIAN_POINT('',(0.,10000000000000000000.,0.));": "10000000000000000000.",
}


@pytest.mark.parametrize("text", GOOD)
def test_what_the_standard_allows(text):
    assert no_number(text.encode()) is None


@pytest.mark.parametrize("text", BAD)
def test_what_is_no_place(text):
    assert no_number(text.encode()) == BAD[text]


@pytest.mark.timeout(5)
@pytest.mark.parametrize("end", ["E", "1.E", "1.E0", "1.E+", "1.E000", "2.E+00", "#1=A(1.E1", ""])
def test_a_file_may_end_anywhere(end):
    assert no_number(end.encode()) is None


def test_comments_tabs_and_breaks_before_an_equals_sign_are_blanks():
    given = b"#1 \n =/* a */A('/* stays \t */'\t,/**/2.);"
    assert plainly(given) == b"#1= A('/* stays \t */' , 2.);"
    assert plainly(b"#1=A('it''s');") == b"#1=A('it''s');"
