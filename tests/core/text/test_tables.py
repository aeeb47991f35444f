"""Tables that others made, in every format, as other programs write them and as nobody should."""

from __future__ import annotations

import contextlib
import csv
import datetime as dt
import io
import re
import zipfile

import docx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from odf import table as odf_table
from odf import text as odf_text
from odf.opendocument import OpenDocumentSpreadsheet, OpenDocumentText
from openpyxl import Workbook

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.text import tables
from faithful_reel.core.text.tables import tables_of

ROWS = [["chapter", "as written", "as heard"], ["One", "green, or “blue”", "great; or"], ["Two", "=1+1", ""]]


def read(path):
    return tables_of(path, Unwatched())


def written(path, rows=ROWS):
    """The rows as a file, by a library that is not the one that reads it where there is one."""
    if path.suffix == ".xlsx":
        book = Workbook()
        for row in rows:
            book.active.append(row)
        for cells in book.active.iter_rows():
            for cell in cells:
                if isinstance(cell.value, str):
                    cell.data_type = "s"
        book.save(path)
    elif path.suffix == ".docx":
        document = docx.Document()
        document.add_paragraph("Here is what I found.")
        made = document.add_table(len(rows), len(rows[0]))
        for row, cells in zip(made.rows, rows, strict=True):
            for cell, text in zip(row.cells, cells, strict=True):
                cell.text = text
        document.save(path)
    elif path.suffix in (".odt", ".ods"):
        document = OpenDocumentText() if path.suffix == ".odt" else OpenDocumentSpreadsheet()
        made = odf_table.Table(name="findings")
        for cells in rows:
            row = odf_table.TableRow()
            for text in cells:
                cell = odf_table.TableCell()
                cell.addElement(odf_text.P(text=text))
                row.addElement(cell)
            made.addElement(row)
        (document.text if path.suffix == ".odt" else document.spreadsheet).addElement(made)
        document.save(str(path))
    else:
        with path.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file, delimiter="\t" if path.suffix == ".tsv" else ",").writerows(rows)
    return path


@pytest.mark.parametrize("suffix", tables.SUFFIXES)
def test_every_format_gives_the_same_rows(tmp_path, suffix):
    assert read(written(tmp_path / f"list{suffix}")) == [ROWS]


@pytest.mark.parametrize("between", [",", ";", "\t", "|"])
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_csv_of_any_spreadsheet(tmp_path, between, encoding):
    out = io.StringIO(newline="")
    csv.writer(out, delimiter=between).writerows(ROWS)
    path = tmp_path / "list.csv"
    path.write_bytes(out.getvalue().encode(encoding))
    assert read(path) == [ROWS]


def test_times_of_a_spreadsheet_are_a_clock_and_numbers_are_whole(tmp_path):
    book = Workbook()
    book.active.append([dt.time(0, 3, 20), dt.timedelta(minutes=3, seconds=20.5), 12.0, 3.25, None, True])
    book.save(tmp_path / "t.xlsx")
    assert read(tmp_path / "t.xlsx") == [[["0:03:20", "0:03:20.500", "12", "3.25", "", "True"]]]


def test_letters_that_no_document_can_hold_are_left_out(tmp_path):
    (tmp_path / "u.csv").write_text("a\ufffeb,c\uffffd\n", encoding="utf-8")
    assert read(tmp_path / "u.csv") == [[["ab", "cd"]]]


def test_an_apostrophe_that_guards_a_cell_is_none_of_its_words(tmp_path):
    (tmp_path / "g.csv").write_text("a,b\n'=1+1,'tis\n")
    assert read(tmp_path / "g.csv")[0][1] == ["=1+1", "'tis"]


def test_merged_cells_of_a_document(tmp_path):
    document = docx.Document()
    made = document.add_table(3, 3)
    made.cell(0, 0).merge(made.cell(0, 2)).text = "Chapter One"
    made.cell(1, 1).text = "x"
    document.save(tmp_path / "m.docx")
    assert read(tmp_path / "m.docx") == [[["Chapter One"] * 3, ["", "x", ""]]]


def zipped(path, **parts):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in parts.items():
            archive.writestr(name.replace("__", "/").replace("_xml", ".xml"), text)
    return path


BOMB = '<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><x>&b;</x>'


@pytest.mark.parametrize("name", ["a.xlsx", "a.docx", "a.odt", "a.ods", "a.csv", "a.doc"])
@pytest.mark.parametrize("content", [b"", b"PK\x03\x04", b"\0" * 9, b"not what its name says"])
def test_what_is_no_list_is_told_in_one_line(tmp_path, name, content):
    path = tmp_path / name
    path.write_bytes(content)
    if name == "a.csv" and content.startswith(b"not"):  # any text is a table of one column
        assert read(path) == [[[content.decode()]]]
        return
    with pytest.raises(FileProblem, match=re.escape(name)) as told:
        read(path)
    assert "\n" not in str(told.value)


def test_entities_and_repeats_without_end_are_refused_or_bounded(tmp_path):
    with pytest.raises(FileProblem, match="entities"):
        read(zipped(tmp_path / "e.odt", content_xml=BOMB))
    namespaces = 'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"'
    cell = '<table:table-cell table:number-columns-repeated="99999999"><text:p>x</text:p></table:table-cell>'
    row = f'<table:table-row table:number-rows-repeated="99999999">{cell}</table:table-row>'
    made = read(zipped(tmp_path / "r.ods", content_xml=f"<table:table {namespaces}>{row}</table:table>"))
    assert made == [[["x"] * tables.MOST_COLUMNS]]


def test_too_many_rows_are_told_and_not_cut(tmp_path, monkeypatch):
    monkeypatch.setattr(tables, "MOST_ROWS", 3)
    (tmp_path / "long.csv").write_text("a\nb\nc\nd\n")
    with pytest.raises(FileProblem, match="far longer"):
        read(tmp_path / "long.csv")


@settings(deadline=None, max_examples=60)
@given(st.data())
def test_a_damaged_file_never_ends_in_a_traceback(tmp_path_factory, data):
    suffix = data.draw(st.sampled_from(tables.SUFFIXES))
    folder = tmp_path_factory.mktemp("d")
    raw = bytearray(written(folder / f"list{suffix}").read_bytes())
    for _ in range(data.draw(st.integers(1, 6))):
        raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
    del raw[data.draw(st.integers(1, len(raw))) :]
    path = folder / f"damaged{suffix}"
    path.write_bytes(raw)
    with contextlib.suppress(FileProblem):
        assert all(all(isinstance(cell, str) for cell in row) for table in read(path) for row in table)
