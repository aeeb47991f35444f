"""The proof report, read back by other programs' libraries."""

from __future__ import annotations

import csv
import re

import openpyxl
import pypdfium2
import pytest
from lxml import html
from odf.opendocument import load
from odf.table import Table, TableRow

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.errors import StoreProblem
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.text.tables import tables_of
from faithful_reel.core.text.words import Chapter, Word, chapter_of
from faithful_reel.core.work.reporting import HEADINGS, SUFFIXES, report_rows, write_report

RATE = 44_100
TEXT = chapter_of("One", ["The tide had gone out. It lay <still> & grey until the evening bell."])
TEXT = Chapter("One", tuple(Word(w.text, w.sentence, w.paragraph, 12 + w.sentence) for w in TEXT.words))


def finding(number: int, word: int, *, decision=Decision.OPEN, confidence=0.9, note="", written="x", heard="y") -> Finding:
    start = word * RATE
    return Finding(
        f"f{number}", Kind.MISREAD, written, heard, word, 1, start, start + 9000, confidence, decision=decision, note=note
    )


@pytest.fixture
def rows():
    findings = (
        finding(1, 1, written="tide", heard="=1+1", decision=Decision.PICKUP, note="“again”, slowly\nplease"),
        finding(2, 3, confidence=0.2),
        finding(3, 6, written="<still>", heard="", confidence=0.2, decision=Decision.STET),
        finding(4, 8, decision=Decision.MEND),
    )
    reel = CutAndClose(8 * RATE, 8 * RATE + 20_000).apply(reel_of("r", 20 * RATE))
    chapter = ChapterState("c1", "One", "t", "r", "h", findings, reel)
    book = Book(chapters=(chapter,), recordings=(Recording("r", "r.wav", ".wav", RATE, 1, 20 * RATE, -3, -62, -24, None),))
    return report_rows(book, book.chapters, lambda _: TEXT)


def test_rows_say_where_what_and_how_it_was_decided(rows):
    assert [(r.page, r.time, r.decision) for r in rows] == [
        (12, "0:00:01.000", "pickup"),
        (13, "0:00:06.000", "stet"),
        (13, "", "mend"),
    ]
    assert rows[0].line == "The tide had gone out."
    assert rows[1].written == "<still>"  # a doubtful one that was decided is told, an open one is folded away


def expected(rows) -> list[list[str]]:
    return [
        [r.chapter, str(r.page), r.time, r.kind, r.written, r.heard, r.line, r.decision, r.note, f"{100 * r.sure:.0f} %", r.by]
        for r in rows
    ]


def test_csv(rows, tmp_path):
    write_report(rows, "Title", tmp_path / "a.csv")
    with (tmp_path / "a.csv").open(encoding="utf-8-sig", newline="") as file:
        found = list(csv.reader(file))
    wanted = [[cell.replace("=1+1", "'=1+1") for cell in row] for row in expected(rows)]  # no formula
    assert found == [list(HEADINGS), *wanted]


def test_html(rows, tmp_path):
    write_report(rows, "Tide & <Clerk>", tmp_path / "a.html")
    page = html.parse(str(tmp_path / "a.html"), html.HTMLParser(encoding="utf-8"))
    assert page.findtext(".//h1") == "Tide & <Clerk>"
    assert [[c.text_content() for c in r.findall("td")] for r in page.iterfind(".//tbody/tr")] == expected(rows)
    assert page.findtext(".//p") == "3 findings: 1 stet, 1 mend, 1 pickup"


def test_xlsx(rows, tmp_path):
    write_report(rows, "Title", tmp_path / "a.xlsx")
    sheet = openpyxl.load_workbook(tmp_path / "a.xlsx").active
    table = [[c.value for c in row] for row in sheet.iter_rows()]
    assert table[0] == list(HEADINGS)
    assert table[1][4:6] == ["tide", "=1+1"]
    assert sheet["F2"].data_type == "s"  # heard words are never a formula
    assert [row[1] for row in table[1:]] == [12, 13, 13]
    assert sheet.freeze_panes == "A2"


@pytest.mark.parametrize("suffix", [".docx", ".odt"])
def test_documents_hold_the_table(rows, tmp_path, suffix):
    write_report(rows, "Title\x01", tmp_path / f"a{suffix}")
    assert tables_of(tmp_path / f"a{suffix}", Unwatched()) == [
        [list(HEADINGS), *[[" ".join(cell.split()) for cell in row] for row in expected(rows)]]
    ]
    if suffix == ".odt":  # a second reader
        assert [len(t.getElementsByType(TableRow)) for t in load(tmp_path / "a.odt").getElementsByType(Table)] == [1 + len(rows)]


def test_pdf(rows, tmp_path):
    write_report(rows * 40, "Tide Clerk", tmp_path / "a.pdf")
    pdf = pypdfium2.PdfDocument(str(tmp_path / "a.pdf"))
    texts = [page.get_textpage().get_text_bounded() for page in pdf]
    count = len(pdf)
    pdf.close()
    assert count > 2
    assert "120 findings: 40 stet, 40 mend, 40 pickup" in texts[0]
    flat = re.sub(r"\s+", " ", " ".join(texts))
    assert flat.count("The tide had gone out.") == 40
    assert "“again”, slowly please" in flat
    assert all(t.startswith("chapter") or "chapter" in t[:200] for t in texts)  # the heading comes again on every page


def test_an_empty_report_and_a_bad_place_or_suffix(tmp_path):
    for suffix in SUFFIXES:
        write_report([], "Nothing", tmp_path / f"empty{suffix}")
        assert (tmp_path / f"empty{suffix}").stat().st_size > 50
    with pytest.raises(StoreProblem, match="Choose another place"):
        write_report([], "x", tmp_path / "no folder" / "a.pdf")
    with pytest.raises(StoreProblem, match="XLSX, CSV, DOCX or ODT"):
        write_report([], "x", tmp_path / "a.doc")
    assert sorted(p.suffix for p in tmp_path.iterdir()) == sorted(SUFFIXES)
