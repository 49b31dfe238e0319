"""What is written is read back by other people's libraries and is the same."""

import csv
import io

import numpy as np
import openpyxl
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from pypdf import PdfReader

from zipplumb.exchange.columns import HEADINGS
from zipplumb.exchange.csv_file import write_csv
from zipplumb.exchange.map_table import MapLine, MapTable
from zipplumb.exchange.pdf_file import write_pdf
from zipplumb.exchange.pictures import is_picture
from zipplumb.exchange.ply_file import write_ply
from zipplumb.exchange.table import CharacteristicText, RowText
from zipplumb.exchange.xlsx_file import write_xlsx


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


def read_csv(data):
    return list(csv.DictReader(io.StringIO(data.decode("utf-8-sig"))))


def test_csv_holds_every_characteristic_with_its_unit():
    rows = read_csv(write_csv([row(), OUT, EMPTY, SYSTEM]))
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
    book = openpyxl.load_workbook(io.BytesIO(write_xlsx([row()], "mm", [], (), [found, surface_map(1)])))
    cells = list(book["Surface maps"].values)
    assert cells[0][:3] == ("Map", "Face", "Places")
    assert len(cells) == 1 + 31 + 2
    assert cells[1][1:4] == ("all that was seen", 500, 0.01)
    assert cells[1][-3:] == pytest.approx((90, 6, 4))
    bare = openpyxl.load_workbook(io.BytesIO(write_xlsx([row()], "mm", [])))
    assert "Surface maps" not in bare.sheetnames
    pages = PdfReader(io.BytesIO(write_pdf("Job", [row()], "mm", [], [], (), [found]))).pages
    text = "".join(page.extract_text() for page in pages)
    assert "90.0 % of what was seen is in." in text
    assert "face 23" in text and "face 24" not in text
    assert "6 more faces are in the XLSX." in text


@pytest.mark.parametrize("name", ["=1+1", "+cmd", "-2", "@x", '=HYPERLINK("http://x")'])
def test_a_name_that_a_spreadsheet_would_run_is_made_harmless(name):
    assert read_csv(write_csv([row(name=name)]))[0]["Name"] == "'" + name
    sheet = openpyxl.load_workbook(io.BytesIO(write_xlsx([row(name=name)], "mm", [])))["Run sheet"]
    assert sheet["B2"].value == name
    assert sheet["B2"].data_type == "s"


def test_names_with_commas_quotes_and_lines_come_back():
    name = 'Bore "A", left\nside'
    assert read_csv(write_csv([row(name=name)]))[0]["Name"] == name


def test_xlsx_holds_numbers_as_numbers_and_who_made_it():
    book = openpyxl.load_workbook(io.BytesIO(write_xlsx([row(), OUT, EMPTY], "in", [("Made by", "Tamsin Orrell")])))
    sheet = book["Run sheet"]
    assert sheet["F1"].value == "Actual"
    assert sheet["F2"].value == 160.0187
    assert sheet["F5"].value is None
    assert sheet["M4"].value == "°"
    assert sheet["J3"].value == "out"
    assert sheet["J3"].font.bold
    assert book["About"]["B1"].value == "Tamsin Orrell"


def words(data):
    return " ".join("\n".join(page.extract_text() for page in PdfReader(io.BytesIO(data)).pages).split())


def test_pdf_says_what_is_out_and_by_how_much():
    text = words(write_pdf("Carrier", [row(), OUT], "mm", [("Made by", "Tamsin Orrell")], []))
    assert "1 in" in text
    assert "out by 0.033" in text
    assert "tilt" in text
    assert "Tamsin Orrell" in text
    assert "Lengths in millimetres" in text


def test_pdf_carries_the_applications_own_type():
    pages = PdfReader(io.BytesIO(write_pdf("Carrier", [row()], "mm", [], []))).pages
    fonts = {f.get_object()["/BaseFont"] for p in pages for f in p["/Resources"]["/Font"].values()}
    assert any("Atkinson" in name for name in fonts)


def test_markup_in_a_name_stays_text():
    text = words(write_pdf('<img src="file:///etc/passwd">', [row(name="<b>bold</b>")], "mm", [], []))
    assert "<b>bold</b>" in text
    assert "root:" not in text


def a_png(size=(8, 6)) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", size, "white").save(out, "PNG")
    return out.getvalue()


def test_a_picture_that_is_none_is_told_in_the_report():
    good = a_png()
    for bad in (b"", b"\x89PNG\r\n\x1a\n", good[:45], good[:40] + b"\0" + good[41:], b"GIF89a", b"<svg/>"):
        assert not is_picture(bad)
    assert is_picture(good) and is_picture(a_png((1, 1)))
    said = words(write_pdf("Carrier", [row()], "mm", [], [(good, "From above"), (good[:45], "From the left")]))
    assert said.count("This picture cannot be read") == 1
    assert "From above" in said and "From the left" in said


def test_many_rows_go_over_pages_with_their_heading():
    pages = PdfReader(io.BytesIO(write_pdf("Carrier", [row(k) for k in range(1, 80)], "mm", [], []))).pages
    assert len(pages) > 2
    assert all("Nominal" in page.extract_text() for page in pages)


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
