"""The proof report: every finding of a chapter or of the book, as a table, a page or a sheet."""

from __future__ import annotations

import csv
import html
import io
from collections.abc import Callable, Sequence
from dataclasses import astuple, dataclass
from pathlib import Path

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Decision, Finding, is_shown
from faithful_reel.core.errors import StoreProblem
from faithful_reel.core.files import beside, harmless, printable, refuse_over
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.times import TimeFormat, time_text
from faithful_reel.core.work.timeline import finding_spans

HEADINGS = ("chapter", "page", "time", "kind", "written", "heard", "the line", "decision", "note", "sure", "said by")
SUFFIXES = (".pdf", ".html", ".xlsx", ".csv", ".docx", ".odt")
"""The last four hold a table that a list of findings can be brought in from, here and elsewhere."""
_FONTS = Path(__file__).parents[2] / "assets" / "fonts"


@dataclass(frozen=True, slots=True)
class Row:
    """One finding.  `time` is where it is heard in the reel, empty where it was cut; `page` 0 where there are none."""

    chapter: str
    page: int
    time: str
    kind: str
    written: str
    heard: str
    line: str
    decision: str
    note: str
    sure: float
    by: str = ""


def report_rows(
    book: Book,
    chapters: Sequence[ChapterState],
    text_of: Callable[[ChapterState], Chapter],
    folded: Callable[[Finding], bool] | None = None,
    times: TimeFormat = TimeFormat.CLOCK,
) -> list[Row]:
    """The findings of chapters in reading order; those that are folded away in the docket are left out here, too."""
    folded = folded or (lambda f: f.decision is Decision.OPEN and not is_shown(f))
    rows = []
    for chapter in chapters:
        text = text_of(chapter)
        sentence_of = {i: s for s in text.sentences() for i in s}
        for finding, span in zip(chapter.findings, finding_spans(chapter, chapter.findings), strict=True):
            if folded(finding):
                continue
            at = min(finding.word_index, len(text.words) - 1)
            line = " ".join(text.words[i].text for i in sentence_of.get(at, ()))
            rows.append(
                Row(
                    chapter.title,
                    text.words[at].page if text.words else 0,
                    time_text(span.start, book.rate, times) if span else "",
                    finding.kind.value.replace("_", " "),
                    finding.written,
                    finding.heard,
                    line,
                    finding.decision.value,
                    finding.note or ("" if finding.by else finding.evidence.note),
                    finding.confidence,
                    ", ".join(finding.by),
                )
            )
    return rows


def write_report(rows: Sequence[Row], title: str, path: Path) -> None:
    """Write a report; its suffix says how: PDF, HTML, XLSX, CSV, DOCX or ODT.  Written beside and renamed.

    Raises
    ------
    StoreProblem
        It can not be written there; what was there before stays.
    """
    writer = {".pdf": _pdf, ".html": _html, ".xlsx": _xlsx, ".csv": _csv, ".docx": _docx, ".odt": _odt}.get(path.suffix.lower())
    if writer is None:
        raise StoreProblem(
            f"{path.name}: reports are written as PDF, HTML, XLSX, CSV, DOCX or ODT. Choose one of these suffixes."
        )
    refuse_over(path)
    part = beside(path, path.suffix)
    try:
        writer(rows, title, part)
        part.replace(path)
    except OSError as problem:
        raise StoreProblem(f"{path.name} could not be written ({problem.strerror}). Choose another place.") from problem
    finally:
        part.unlink(missing_ok=True)


def _cells(row: Row) -> list[str]:
    values = list(astuple(row))
    values[1] = values[1] or ""
    values[-2] = f"{100 * row.sure:.0f} %"
    return [str(v) for v in values]


def _counts(rows: Sequence[Row]) -> str:
    counts = {d.value: sum(r.decision == d.value for r in rows) for d in Decision}
    return f"{len(rows)} findings: " + ", ".join(f"{n} {name}" for name, n in counts.items() if n)


def _csv(rows: Sequence[Row], _title: str, path: Path) -> None:
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(HEADINGS)
    table.writerows([harmless(cell) for cell in _cells(row)] for row in rows)
    path.write_text(out.getvalue(), encoding="utf-8-sig", newline="")


def _html(rows: Sequence[Row], title: str, path: Path) -> None:
    head = "".join(f"<th>{h}</th>" for h in HEADINGS)
    body = "".join("<tr>" + "".join(f"<td>{html.escape(c)}</td>" for c in _cells(row)) + "</tr>\n" for row in rows)
    style = (
        "body{font:15px/1.45 sans-serif;margin:2em;color:#222}table{border-collapse:collapse;width:100%}"
        "th,td{text-align:left;vertical-align:top;padding:.3em .6em;border-bottom:1px solid #ccc}"
        "th{color:#666;font-weight:normal}"
    )
    path.write_text(
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>{html.escape(title)}</title>'
        f"<style>{style}</style></head><body>\n<h1>{html.escape(title)}</h1>\n<p>{_counts(rows)}</p>\n"
        f"<table><thead><tr>{head}</tr></thead>\n<tbody>\n{body}</tbody></table>\n</body></html>\n",
        encoding="utf-8",
    )


def _xlsx(rows: Sequence[Row], title: str, path: Path) -> None:
    from openpyxl import Workbook
    from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE
    from openpyxl.styles import Alignment, Font

    book = Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "findings"
    book.properties.title = title
    sheet.append(list(HEADINGS))
    for row in rows:
        sheet.append([ILLEGAL_CHARACTERS_RE.sub("", c) if isinstance(c, str) else c for c in astuple(row)])
    for cells in sheet.iter_rows():
        for cell in cells:
            cell.alignment = Alignment(wrap_text=True, vertical="top")
            if isinstance(cell.value, str):
                cell.data_type = "s"  # a line that begins with "=" is no formula
    for cell in sheet[1]:
        cell.font = Font(bold=True)
    for column, width in zip("ABCDEFGHIJK", (24, 7, 13, 12, 22, 22, 60, 10, 26, 7, 16), strict=True):
        sheet.column_dimensions[column].width = width
    sheet.freeze_panes = "A2"
    sheet.auto_filter.ref = sheet.dimensions
    book.save(path)


def _docx(rows: Sequence[Row], title: str, path: Path) -> None:
    import docx
    from docx.enum.section import WD_ORIENT
    from docx.shared import Pt

    document = docx.Document()
    section = document.sections[0]
    section.orientation = WD_ORIENT.LANDSCAPE
    section.page_width, section.page_height = section.page_height, section.page_width
    document.core_properties.title = printable(title)
    document.styles["Normal"].font.size = Pt(9)
    document.add_heading(printable(title), 1)
    document.add_paragraph(_counts(rows))
    table = document.add_table(1 + len(rows), len(HEADINGS), "Light List")
    cells = iter(table._cells)  # by its rows each cell would be looked for anew
    for values in (HEADINGS, *map(_cells, rows)):
        for text in values:
            next(cells).text = printable(text)
    document.save(str(path))


def _odt(rows: Sequence[Row], title: str, path: Path) -> None:
    from odfdo import Cell, Document, Header, Paragraph, Table
    from odfdo import Row as OdfRow

    document = Document("text")
    document.meta.title = printable(title)
    body = document.body
    body.clear()
    body.append(Header(1, printable(title)))
    body.append(Paragraph(_counts(rows)))
    table = Table("findings")
    for values in (HEADINGS, *map(_cells, rows)):
        row = OdfRow()
        for text in values:
            row.append_cell(Cell(printable(text), cell_type="string"), _repeated=1, clone=False)
        table.append_row(row, clone=False)
    body.append(table)
    document.save(path)


def _pdf(rows: Sequence[Row], title: str, path: Path) -> None:
    from reportlab.lib import colors
    from reportlab.lib.pagesizes import A4, landscape
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont
    from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

    for name, file in (("Inter", "Inter_400Regular.ttf"), ("Inter-Bold", "Inter_600SemiBold.ttf")):
        pdfmetrics.registerFont(TTFont(name, str(_FONTS / file)))
    small = ParagraphStyle("small", fontName="Inter", fontSize=7.5, leading=10)
    bold = ParagraphStyle("bold", parent=small, fontName="Inter-Bold")
    large = ParagraphStyle("large", fontName="Inter-Bold", fontSize=15, leading=20)
    table = [[Paragraph(h, bold) for h in HEADINGS]]
    table += [[Paragraph(html.escape(c), small) for c in _cells(row)] for row in rows]
    widths = [72, 28, 54, 48, 78, 78, 196, 44, 90, 34, 48]
    made = Table(table, colWidths=widths, repeatRows=1)
    made.setStyle(TableStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LINEBELOW", (0, 0), (-1, -1), 0.25, colors.lightgrey)]))

    def number(canvas: object, document: object) -> None:
        canvas.setFont("Inter", 8)  # type: ignore[attr-defined]
        canvas.drawRightString(landscape(A4)[0] - 36, 22, f"{document.page}")  # type: ignore[attr-defined]

    document = SimpleDocTemplate(
        str(path), pagesize=landscape(A4), title=title, leftMargin=36, rightMargin=36, topMargin=36, bottomMargin=40
    )
    document.build(
        [Paragraph(html.escape(title), large), Paragraph(_counts(rows), small), Spacer(1, 10), made],
        onFirstPage=number,
        onLaterPages=number,
    )
