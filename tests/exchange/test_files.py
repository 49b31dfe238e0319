"""What is written is read back by other people's libraries and is the same."""

import csv
import io

import openpyxl
import pytest
from pypdf import PdfReader

from zipplumb.exchange.csv_file import write_csv
from zipplumb.exchange.pdf_file import write_pdf
from zipplumb.exchange.table import HEADINGS, RowText
from zipplumb.exchange.xlsx_file import write_xlsx


def row(number=1, **more):
    plain = {
        "id": number, "number": number, "name": f"Bore {number}", "kind": "cylinder", "datum": "", "quantity": "diameter",
        "state": "done", "word": "in", "shape": "●", "nominal": "160.000", "actual": "160.019", "deviation": "+0.019",
        "tolerance": "+0.040 / 0", "uncertainty": "0.012", "out_by": "", "form": "0.020", "share": -0.05, "hits": 15,
        "wanted": 15, "message": "", "note": "", "current": False, "doubted": False, "measured": True, "nominal_value": 160.0,
        "actual_value": 160.0187, "deviation_value": 0.0187, "lower_value": 0.0, "upper_value": 0.04,
        "uncertainty_value": 0.012,
    }  # fmt: skip
    return RowText(**(plain | more))


OUT = row(2, word="out", shape="▲", out_by="0.033", deviation="+0.083", deviation_value=0.083, share=1.4)
EMPTY = row(3, word="to do", shape="○", actual="", actual_value=None, deviation="", deviation_value=None, share=None, hits=0)


def read_csv(data):
    return list(csv.DictReader(io.StringIO(data.decode("utf-8-sig"))))


def test_csv_holds_every_row_with_its_unit():
    rows = read_csv(write_csv([row(), OUT, EMPTY], "mm"))
    assert [r["Name"] for r in rows] == ["Bore 1", "Bore 2", "Bore 3"]
    assert float(rows[0]["Actual"]) == 160.0187
    assert rows[2]["Actual"] == ""
    assert {r["Unit"] for r in rows} == {"mm"}
    assert list(rows[0]) == [*HEADINGS, "Unit"]


@pytest.mark.parametrize("name", ["=1+1", "+cmd", "-2", "@x", '=HYPERLINK("http://x")'])
def test_a_name_that_a_spreadsheet_would_run_is_made_harmless(name):
    assert read_csv(write_csv([row(name=name)], "mm"))[0]["Name"] == "'" + name
    sheet = openpyxl.load_workbook(io.BytesIO(write_xlsx([row(name=name)], "mm", [])))["Run sheet"]
    assert sheet["B2"].value == name
    assert sheet["B2"].data_type == "s"


def test_names_with_commas_quotes_and_lines_come_back():
    name = 'Bore "A", left\nside'
    assert read_csv(write_csv([row(name=name)], "in"))[0]["Name"] == name


def test_xlsx_holds_numbers_as_numbers_and_who_made_it():
    book = openpyxl.load_workbook(io.BytesIO(write_xlsx([row(), OUT, EMPTY], "in", [("Made by", "Tamsin Orrell")])))
    sheet = book["Run sheet"]
    assert sheet["F1"].value == "Actual (in)"
    assert sheet["F2"].value == 160.0187
    assert sheet["F4"].value is None
    assert sheet["J3"].value == "out"
    assert sheet["J3"].font.bold
    assert book["About"]["B1"].value == "Tamsin Orrell"


def words(data):
    return " ".join("\n".join(page.extract_text() for page in PdfReader(io.BytesIO(data)).pages).split())


def test_pdf_says_what_is_out_and_by_how_much():
    text = words(write_pdf("Carrier", [row(), OUT], "mm", [("Made by", "Tamsin Orrell")], []))
    assert "1 in" in text
    assert "out by 0.033" in text
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


def test_many_rows_go_over_pages_with_their_heading():
    pages = PdfReader(io.BytesIO(write_pdf("Carrier", [row(k) for k in range(1, 80)], "mm", [], []))).pages
    assert len(pages) > 2
    assert all("Nominal" in page.extract_text() for page in pages)
