"""What is written is read back by other people's libraries and is the same."""

import csv
import io
import json
from pathlib import Path

import jsonschema
import numpy as np
import openpyxl
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from pypdf import PdfReader

from zipplumb.exchange.columns import HEADINGS, rows_sheet
from zipplumb.exchange.csv_file import write_csv
from zipplumb.exchange.document import DataSheet, Document, Section, Stood
from zipplumb.exchange.json_file import write_json
from zipplumb.exchange.map_table import MapLine, MapTable, maps_sheet
from zipplumb.exchange.pdf_file import write_pdf
from zipplumb.exchange.picture_svg import PictureShown
from zipplumb.exchange.pictures import is_picture
from zipplumb.exchange.ply_file import write_ply
from zipplumb.exchange.table import CharacteristicText, RowText
from zipplumb.exchange.text_file import write_text
from zipplumb.exchange.xlsx_file import write_xlsx

ROOT = Path(__file__).parents[2]


def characteristic(**more):
    plain = {
        "key": "diameter", "label": "diameter", "unit": "mm", "word": "in", "shape": "●", "nominal": "160.000",
        "actual": "160.019", "deviation": "+0.019", "tolerance": "+0.040 / 0", "uncertainty": "0.012", "out_by": "",
        "share": -0.05, "nominal_value": 160.0, "actual_value": 160.0187, "deviation_value": 0.0187, "lower_value": 0.0,
        "upper_value": 0.04, "uncertainty_value": 0.012,
    }  # fmt: skip
    return CharacteristicText(**(plain | more))


def row(number=1, characteristics=(characteristic(),), **more):
    plain = {
        "id": number, "number": number, "name": f"Bore {number}", "kind": "cylinder", "datum": "", "state": "done",
        "word": "in", "shape": "●", "line": "cylinder", "form": "0.020", "hits": 15, "wanted": 15, "message": "", "note": "",
        "current": False, "doubted": False, "takes_hits": True, "is_system": False, "told": "",
    }  # fmt: skip
    return RowText(tell=lambda: tuple(characteristics), **(plain | more))


OFF = characteristic(word="out", shape="▲", out_by="0.033", deviation="+0.083", deviation_value=0.083, share=1.4)
TILT = characteristic(key="tilt", label="tilt", unit="°", word="", actual="0.0120°", actual_value=0.012)
OUT = row(2, (OFF, TILT), word="out", shape="▲")
NOTHING = characteristic(word="", actual="", actual_value=None, deviation="", deviation_value=None, share=None)
EMPTY = row(3, (NOTHING,), word="to do", shape="○", hits=0)
SYSTEM = row(4, (), word="done", line="6 held, 0 spare", is_system=True, takes_hits=False)


def report(rows, facts=(), maps=(), pictures=(), units="mm", title="Carrier", paper="A4"):
    """A report of these, as it is put together."""
    about = DataSheet("About", ("What", "Told"), (22, 70), facts)
    found = [
        Section("summary", "", [("in", sum(each.word == "in" for each in rows))]),
        Section("pictures", "", [PictureShown(*each) for each in pictures]), Section("about", "", facts, (about,)),
        Section("rows", "", [("", rows)], (rows_sheet(rows),)),
        Section("maps", "", maps, (maps_sheet(maps),) if maps else ()),
    ]  # fmt: skip
    found = [section for section in found if section.shown]
    return Document(title, units, found, Stood(3, "2026-01-02 03:04 UTC", "abcd-ef01-2345", "ISO 14253-1"), paper)


def read_csv(data):
    return list(csv.DictReader(io.StringIO(data.decode("utf-8-sig"))))


def test_csv_holds_every_characteristic_with_its_unit():
    rows = read_csv(write_csv(report([row(), OUT, EMPTY, SYSTEM])))
    assert [r["Name"] for r in rows] == ["Bore 1", "Bore 2", "Bore 2", "Bore 3", "Bore 4"]
    assert float(rows[0]["Actual"]) == 160.0187
    assert rows[3]["Actual"] == ""
    assert [r["Unit"] for r in rows] == ["mm", "mm", "°", "mm", ""]
    assert [r["Quantity"] for r in rows] == ["diameter", "diameter", "tilt", "diameter", "6 held, 0 spare"]
    assert list(rows[0]) == list(HEADINGS)


def line(name, places, shares=(0.9, 0.06, 0.04)):
    numbers = (0.01, 0.02, -0.03, 0.04, -0.05, 0.06)
    return MapLine(name, places, numbers, tuple(f"{n:+.3f}" for n in numbers), shares)


def surface_map(faces=30, **more):
    each = tuple(line(f"face {k}", 10 + k) for k in range(faces))
    bars = tuple((k / 54, k // 6) for k in range(54))
    return MapTable(
        "Surface map 1", "90.0 % of what was seen is in.", line("all that was seen", 500), each, bars, tuple("abcdefgh")
    )


def test_a_map_is_told_face_by_face_in_xlsx_and_pdf():
    found = surface_map()
    book = openpyxl.load_workbook(io.BytesIO(write_xlsx(report([row()], maps=[found, surface_map(1)]))))
    cells = list(book["Surface maps"].values)
    assert cells[0][:3] == ("Map", "Face", "Places")
    assert len(cells) == 1 + 31 + 2
    assert cells[1][1:4] == ("all that was seen", 500, 0.01)
    assert cells[1][9:12] == pytest.approx((90, 6, 4))
    bare = openpyxl.load_workbook(io.BytesIO(write_xlsx(report([row()]))))
    assert "Surface maps" not in bare.sheetnames
    pages = PdfReader(io.BytesIO(write_pdf(report([row()], maps=[found])))).pages
    text = "".join(page.extract_text() for page in pages)
    assert "90.0 % of what was seen is in." in text
    assert "face 23" in text and "face 24" not in text
    assert "6 more faces are in the XLSX." in text


@pytest.mark.parametrize("name", ["=1+1", "+cmd", "-2", "@x", '=HYPERLINK("http://x")'])
def test_a_name_that_a_spreadsheet_would_run_is_made_harmless(name):
    assert read_csv(write_csv(report([row(name=name)])))[0]["Name"] == "'" + name
    sheet = openpyxl.load_workbook(io.BytesIO(write_xlsx(report([row(name=name)]))))["Run sheet"]
    assert sheet["B2"].value == name
    assert sheet["B2"].data_type == "s"


def test_names_with_commas_quotes_and_lines_come_back():
    name = 'Bore "A", left\nside'
    assert read_csv(write_csv(report([row(name=name)])))[0]["Name"] == name


def test_xlsx_holds_numbers_as_numbers_and_who_made_it():
    book = openpyxl.load_workbook(
        io.BytesIO(write_xlsx(report([row(), OUT, EMPTY], [("Made by", "Tamsin Orrell")], units="in")))
    )
    sheet = book["Run sheet"]
    assert sheet["F1"].value == "Actual"
    assert sheet["F2"].value == 160.0187
    assert sheet["F5"].value is None
    assert sheet["M4"].value == "°"
    assert sheet["J3"].value == "out"
    assert sheet["J3"].font.bold
    assert book["About"]["B2"].value == "Tamsin Orrell"


def words(data):
    return " ".join("\n".join(page.extract_text() for page in PdfReader(io.BytesIO(data)).pages).split())


def test_pdf_says_what_is_out_and_by_how_much():
    text = words(write_pdf(report([row(), OUT], [("Made by", "Tamsin Orrell")])))
    assert "1 in" in text
    assert "out by 0.033" in text
    assert "tilt" in text
    assert "Tamsin Orrell" in text
    assert "Lengths in millimetres" in text


def test_pdf_carries_the_applications_own_type():
    pages = PdfReader(io.BytesIO(write_pdf(report([row()])))).pages
    fonts = {f.get_object()["/BaseFont"] for p in pages for f in p["/Resources"]["/Font"].values()}
    assert any("Atkinson" in name for name in fonts)


def test_markup_in_a_name_stays_text():
    text = words(write_pdf(report([row(name="<b>bold</b>")], title='<img src="file:///etc/passwd">')))
    assert "<b>bold</b>" in text
    assert "root:" not in text


def a_png(size=(8, 6)) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", size, "white").save(out, "PNG")
    return out.getvalue()


def test_a_picture_that_is_none_is_known():
    good = a_png()
    for bad in (b"", b"\x89PNG\r\n\x1a\n", good[:45], good[:40] + b"\0" + good[41:], b"GIF89a", b"<svg/>"):
        assert not is_picture(bad)
    assert is_picture(good) and is_picture(a_png((1, 1)))


def test_many_rows_go_over_pages_with_their_heading():
    pages = PdfReader(io.BytesIO(write_pdf(report([row(k) for k in range(1, 80)])))).pages
    assert len(pages) > 2
    assert all("Nominal" in page.extract_text() for page in pages)


def test_a_pdf_is_tagged_has_bookmarks_and_is_on_the_paper_that_was_chosen():
    """Outside: pypdf, and what ISO 14289-1 asks of the catalogue: a tree of structure, a language, a title that is shown."""
    pictures = [("From above", "The part from above. Tags: S1 +0.010", "<svg xmlns='http://www.w3.org/2000/svg'/>")]
    for paper, size in (("A4", (595, 842)), ("Letter", (612, 792))):
        read = PdfReader(io.BytesIO(write_pdf(report([row(), OUT], [("Made by", "T")], pictures=pictures, paper=paper))))
        assert tuple(round(float(v)) for v in read.pages[0].mediabox[2:]) == size
        catalogue = read.trailer["/Root"]
        assert catalogue["/MarkInfo"]["/Marked"]
        assert catalogue["/Lang"] == "en-GB"
        assert catalogue["/ViewerPreferences"]["/DisplayDocTitle"]
        assert [each["/Title"] for each in flat(read.outline)] == ["Carrier", "Pictures", "Who, when, with what", "Rows"]
        told = [each for each in structure(catalogue["/StructTreeRoot"]) if "/S" in each]
        assert {"/H1", "/H2", "/Table", "/TR", "/TH", "/TD", "/Figure"} <= {each["/S"] for each in told}
        assert "The part from above. Tags: S1 +0.010" in {each.get("/Alt") for each in told}
        foot = read.pages[0].extract_text()
        assert "abcd-ef01-2345" in foot
        assert "ISO 14253-1" in foot


def flat(outline):
    for each in outline:
        yield from flat(each) if isinstance(each, list) else [each]


def structure(element):
    """The elements of a tree of structure, in reading order."""
    element = element.get_object()
    if not hasattr(element, "get"):
        return
    yield element
    kids = element.get("/K", [])
    for kid in kids if isinstance(kids, list) else [kids]:
        if hasattr(kid.get_object(), "get"):
            yield from structure(kid)


def test_an_xlsx_says_of_which_state_it_is_and_draws_how_far_faces_are_off():
    book = openpyxl.load_workbook(io.BytesIO(write_xlsx(report([row()], maps=[surface_map()]))))
    assert dict(list(book["State"].values)[1:])["State"] == "abcd-ef01-2345"
    assert len(book["Surface maps"]._charts) == 1


def test_json_is_as_its_published_schema_says():
    """Outside: jsonschema, by docs/report.schema.json."""
    schema = json.loads((ROOT / "docs/report.schema.json").read_text())
    jsonschema.Draft202012Validator.check_schema(schema)
    told = json.loads(write_json(report([row(), OUT, EMPTY, SYSTEM], [("Made by", "=1+1")], maps=[surface_map()])))
    jsonschema.validate(told, schema)
    (table,) = next(each for each in told["sections"] if each["kind"] == "rows")["tables"]
    assert all(len(each) == len(table["columns"]) for each in table["lines"])
    assert table["lines"][0][table["columns"].index("Actual")] == 160.0187
    assert table["lines"][3][table["columns"].index("Actual")] is None
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(told | {"more": 1}, schema)


def test_text_stands_in_columns_with_numbers_to_the_right():
    told = write_text(report([row(), OUT, row(12, name="two\nlines")], [("Made by", "Tamsin Orrell")])).decode().splitlines()
    assert told[0] == "Carrier"
    assert "state abcd-ef01-2345" in told[2]
    head = next(k for k, each in enumerate(told) if each.startswith("No"))
    lines = told[head : head + 5]
    end = lines[0].index("Actual") + len("Actual")
    assert [each[:end].split()[-1] for each in lines[1:3]] == ["160.0187", "160.0187"]
    assert "two lines" in lines[4]


def test_thousands_of_rows_are_lines_of_one_width_under_their_head_on_every_page():
    rows = [row(k) for k in range(1, 900)] + [OUT, SYSTEM]
    pages = PdfReader(io.BytesIO(write_pdf(report(rows)))).pages
    assert len(pages) < 20
    told = [" ".join(page.extract_text().split()) for page in pages]
    assert all("No Feature Quantity Nominal Actual" in each for each in told[1:-1])
    assert all(f"Bore {k} diameter 160.000 160.019" in " ".join(told) for k in (1, 450, 899))
    assert "out by 0.033" in " ".join(told)


NUMBERS = st.floats(allow_nan=False, allow_infinity=False, width=64)


@given(st.lists(st.tuples(NUMBERS, NUMBERS, NUMBERS, st.integers(-(2**31), 2**31 - 1)), min_size=1, max_size=40))
def test_points_written_as_ply_come_back_equal(points):
    """Outside: trimesh reads what was written."""
    x, y, z, number = (np.array(column) for column in zip(*points, strict=True))
    columns = {"x": x, "y": y, "z": z, "off": x.clip(-1e30, 1e30).astype("f4"), "n": number}
    data = write_ply(columns, ["Übersicht\nof a job"])
    read = trimesh.load(io.BytesIO(data), file_type="ply").metadata["_ply_raw"]["vertex"]["data"]
    for name, values in columns.items():
        assert np.array_equal(read[name], values), name
    assert data.splitlines()[2] == b"comment ?bersicht of a job"
