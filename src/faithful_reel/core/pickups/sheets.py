"""The call sheet of a round: what the narrator is to read again, in the formats that people open.

Every format says the same: numbers in reading order, the line large, the words to mind marked, what was heard instead, what is
wanted, how names are said, and the sentence before for the tone of voice.
"""

from __future__ import annotations

import base64
import csv
import html
import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import beside, harmless, printable
from faithful_reel.core.pickups.ledger import Want

HEADINGS = (
    "number", "chapter", "page", "time", "read this line", "words to watch", "heard instead", "wanted", "note", "how to say it",
    "the sentence before", "clip",
)  # fmt: skip
FORMATS = (".pdf", ".html", ".docx", ".xlsx", ".csv")
_FONTS = Path(str(files("faithful_reel") / "assets" / "fonts"))


@dataclass(frozen=True, slots=True)
class SheetLine:
    """One line of a call sheet; `marked` are the tokens of the line to mind, `clip` the name of the file with its sound."""

    number: int
    chapter: str
    page: int
    time: str
    tokens: tuple[str, ...]
    marked: frozenset[int]
    heard: str
    want: Want
    note: str
    say: tuple[tuple[str, str], ...]
    before: str
    clip: str = ""

    def __post_init__(self) -> None:
        """Hold only what every format can."""
        for name in ("chapter", "time", "heard", "note", "before", "clip"):
            object.__setattr__(self, name, printable(getattr(self, name)))
        object.__setattr__(self, "tokens", tuple(map(printable, self.tokens)))
        object.__setattr__(self, "say", tuple((printable(name), printable(how)) for name, how in self.say))

    @property
    def line(self) -> str:
        """What is to be read."""
        return " ".join(self.tokens)

    def runs(self) -> list[tuple[str, bool]]:
        """The line as runs of words, each with whether it is to be minded."""
        found: list[tuple[str, bool]] = []
        for k, token in enumerate(self.tokens):
            marked = k in self.marked
            if found and found[-1][1] is marked:
                found[-1] = f"{found[-1][0]} {token}", marked
            else:
                found.append((token, marked))
        return found

    def place(self) -> str:
        """Chapter, page and time."""
        page = f"page {self.page}" if self.page else ""
        return " · ".join(filter(None, (self.chapter, page, self.time)))

    def said(self) -> str:
        """How the names in it are spoken."""
        return "; ".join(f"{name}: {how}" for name, how in self.say)

    def cells(self) -> list[str]:
        """All of it as cells of a table."""
        marked = " … ".join(text for text, minded in self.runs() if minded)
        page = str(self.page) if self.page else ""
        want = "" if self.want is Want.WORDS else self.want.value
        return [
            str(self.number), self.chapter, page, self.time, self.line, marked, self.heard, want, self.note, self.said(),
            self.before, self.clip,
        ]  # fmt: skip

    def told(self) -> list[tuple[str, str]]:
        """What stands under the line: (what it is, the words)."""
        want = "" if self.want is Want.WORDS else self.want.value
        rows = (
            ("heard instead", self.heard),
            ("wanted", want),
            ("note", self.note),
            ("say", self.said()),
            ("before it", self.before),
        )
        return [(name, words) for name, words in rows if words]


@dataclass(frozen=True, slots=True)
class Sheet:
    """A call sheet: its title, what is said over the lines, and the lines."""

    title: str
    told: str
    lines: tuple[SheetLine, ...]

    def __post_init__(self) -> None:
        """As `SheetLine`."""
        for name in ("title", "told"):
            object.__setattr__(self, name, printable(getattr(self, name)))


def csv_sheet(sheet: Sheet) -> bytes:
    """As CSV, for any spreadsheet."""
    out = io.StringIO(newline="")
    table = csv.writer(out)
    table.writerow(HEADINGS)
    table.writerows([harmless(cell) for cell in line.cells()] for line in sheet.lines)
    return out.getvalue().encode("utf-8-sig")


_STYLE = (
    "body{font:16px/1.5 Georgia,'Times New Roman',serif;margin:2em auto;max-width:46em;padding:0 1em;color:#222;background:#fff}"
    "h1{font-size:1.4em;margin-bottom:.1em}.quiet{color:#555;font:14px/1.5 sans-serif}"
    "section{border-top:1px solid #ccc;padding:.9em 0;break-inside:avoid}"
    ".number{font:600 14px sans-serif;color:#555}.line{font-size:1.35em;line-height:1.4;margin:.15em 0 .3em}"
    "mark{background:none;border-bottom:3px solid #a33;color:inherit}dl{margin:.2em 0;font:14px/1.5 sans-serif}"
    "dt{float:left;clear:left;width:8em;color:#555}dd{margin-left:8.5em}audio{width:100%;margin-top:.3em}"
    "@media print{audio{display:none}}"
)


def html_sheet(sheet: Sheet, sounds: Mapping[str, bytes] | None = None, folder: str = "") -> bytes:
    """As one page of HTML.

    `sounds` are MP3 files by the names of their clips, to be put into the page itself; without them the page points to the clips
    in `folder`, where that is given.
    """
    parts = []
    for line in sheet.lines:
        words = " ".join(f"<mark>{html.escape(t)}</mark>" if marked else html.escape(t) for t, marked in line.runs())
        told = "".join(f"<dt>{html.escape(name)}</dt><dd>{html.escape(text)}</dd>" for name, text in line.told())
        source = ""
        if sounds is not None and line.clip in sounds:
            source = "data:audio/mpeg;base64," + base64.b64encode(sounds[line.clip]).decode("ascii")
        elif sounds is None and folder and line.clip:
            source = f"{html.escape(folder)}/{html.escape(line.clip)}"
        sound = f'<audio controls preload="none" src="{source}"></audio>' if source else ""
        parts.append(
            f'<section><div class="number">{line.number} · {html.escape(line.place())}</div>'
            f'<p class="line">{words}</p><dl>{told}</dl>{sound}</section>\n'
        )
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>{html.escape(sheet.title)}</title>'
        f'<meta name="viewport" content="width=device-width"><style>{_STYLE}</style></head><body>\n'
        f'<h1>{html.escape(sheet.title)}</h1>\n<p class="quiet">{html.escape(sheet.told)}</p>\n{"".join(parts)}</body></html>\n'
    ).encode()


def docx_sheet(sheet: Sheet) -> bytes:
    """As a text document."""
    import docx
    from docx.oxml import OxmlElement
    from docx.shared import Pt
    from docx.text.paragraph import Paragraph

    document = docx.Document()
    end = document.element.body.sectPr

    def paragraph() -> Paragraph:  # what `add_paragraph` does, without looking through all that are there already
        made = OxmlElement("w:p")
        end.addprevious(made)
        return Paragraph(made, document._body)

    document.core_properties.title = sheet.title
    document.add_heading(sheet.title, 0)
    document.add_paragraph(sheet.told)
    for line in sheet.lines:
        head = paragraph()
        head.paragraph_format.space_before = Pt(14)
        head.paragraph_format.space_after = Pt(0)
        head.paragraph_format.keep_with_next = True
        small = head.add_run(f"{line.number}   {line.place()}   {line.clip}".strip())
        small.font.size = Pt(9)
        body = paragraph()
        body.paragraph_format.space_after = Pt(2)
        body.paragraph_format.keep_with_next = bool(line.told())
        for number, (text, marked) in enumerate(line.runs()):
            run = body.add_run((" " if number else "") + text)
            run.font.size = Pt(15)
            run.font.underline = marked
            run.bold = marked
        for name, words in line.told():
            row = paragraph()
            row.paragraph_format.space_after = Pt(0)
            row.add_run(f"{name}: ").italic = True
            row.add_run(words)
            for run in row.runs:
                run.font.size = Pt(9.5)
    out = io.BytesIO()
    document.save(out)
    return out.getvalue()


def xlsx_sheet(sheet: Sheet) -> bytes:
    """As a spreadsheet."""
    from openpyxl import Workbook
    from openpyxl.cell.rich_text import CellRichText, TextBlock
    from openpyxl.cell.text import InlineFont
    from openpyxl.styles import Alignment, Font

    book = Workbook()
    table = book.active
    assert table is not None
    table.title = "call sheet"
    book.properties.title = sheet.title
    table.append(list(HEADINGS))
    for line in sheet.lines:
        table.append(line.cells())
        row = table.max_row
        table.cell(row, 1).value = line.number
        rich = CellRichText()
        for number, (text, marked) in enumerate(line.runs()):
            font = InlineFont(b=True, u="single", sz=14) if marked else InlineFont(sz=14)
            rich.append(TextBlock(font, (" " if number else "") + text))
        table.cell(row, 5).value = rich
    for cells in table.iter_rows():
        for cell in cells:
            cell.alignment = Alignment(wrap_text=True, vertical="top")
            if isinstance(cell.value, str):
                cell.data_type = "s"  # a line that begins with "=" is no formula
    for cell in table[1]:
        cell.font = Font(bold=True)
    for column, width in zip("ABCDEFGHIJKL", (8, 20, 6, 9, 60, 20, 20, 11, 26, 22, 44, 12), strict=True):
        table.column_dimensions[column].width = width
    table.freeze_panes = "B2"
    table.page_setup.orientation = "landscape"
    table.page_setup.fitToWidth, table.page_setup.fitToHeight = 1, 0
    table.sheet_properties.pageSetUpPr.fitToPage = True
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def pdf_sheet(sheet: Sheet) -> bytes:
    """As PDF, to print or to read from a screen in the booth."""
    from reportlab.lib import colors
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont
    from reportlab.platypus import HRFlowable, KeepTogether, Paragraph, SimpleDocTemplate, Spacer

    for name, file in (
        ("Inter", "Inter_400Regular.ttf"), ("Inter-Bold", "Inter_600SemiBold.ttf"), ("Literata", "Literata_400Regular.ttf"),
        ("Literata-Bold", "Literata_600SemiBold.ttf"),
    ):  # fmt: skip
        pdfmetrics.registerFont(TTFont(name, str(_FONTS / file)))
    quiet = ParagraphStyle("quiet", fontName="Inter", fontSize=9, leading=13, textColor=colors.HexColor("#555555"))
    told = ParagraphStyle("told", parent=quiet, textColor=colors.HexColor("#222222"), leftIndent=0)
    title = ParagraphStyle("title", fontName="Literata-Bold", fontSize=18, leading=24)
    read = ParagraphStyle("read", fontName="Literata", fontSize=16, leading=23, spaceBefore=2, spaceAfter=4)
    body = [Paragraph(html.escape(sheet.title), title), Paragraph(html.escape(sheet.told), quiet), Spacer(1, 10)]
    for line in sheet.lines:
        words = " ".join(
            f'<font name="Literata-Bold"><u color="#a33" width="1.4">{html.escape(t)}</u></font>' if marked else html.escape(t)
            for t, marked in line.runs()
        )
        clip = f" · {html.escape(line.clip)}" if line.clip else ""
        rows = [
            HRFlowable(width="100%", thickness=0.4, color=colors.lightgrey, spaceBefore=6, spaceAfter=6),
            Paragraph(f'<font name="Inter-Bold">{line.number}</font> · {html.escape(line.place())}{clip}', quiet),
            Paragraph(words, read),
        ]
        for name, text in line.told():
            rows.append(Paragraph(f'<font color="#555555">{html.escape(name)}:</font> {html.escape(text)}', told))
        body.append(KeepTogether(rows))

    def number(canvas: object, document: object) -> None:
        canvas.setFont("Inter", 8)  # type: ignore[attr-defined]
        canvas.drawRightString(A4[0] - 54, 30, f"{document.page}")  # type: ignore[attr-defined]

    out = io.BytesIO()
    document = SimpleDocTemplate(
        out, pagesize=A4, title=sheet.title, leftMargin=54, rightMargin=54, topMargin=48, bottomMargin=52
    )
    document.build(body, onFirstPage=number, onLaterPages=number)
    return out.getvalue()


WRITERS: dict[str, Callable[[Sheet], bytes]] = {
    ".pdf": pdf_sheet,
    ".html": html_sheet,
    ".docx": docx_sheet,
    ".xlsx": xlsx_sheet,
    ".csv": csv_sheet,
}


def sheet_as(sheet: Sheet, suffix: str) -> bytes:
    """A sheet in a format, by its file's suffix.

    Raises
    ------
    FileProblem
        There is no such format.
    """
    if suffix not in WRITERS:
        raise FileProblem(f"A call sheet can not be written as {suffix or 'a file without a suffix'}. Use {', '.join(FORMATS)}.")
    return WRITERS[suffix](sheet)


def write_bytes(path: Path, data: bytes) -> None:
    """Write a file beside and rename it.

    Raises
    ------
    FileProblem
        It can not be written there; what was there before stays.
    """
    part = beside(path)
    try:
        part.write_bytes(data)
        part.replace(path)
    except OSError as problem:
        raise FileProblem(f"{path.name} could not be written ({problem.strerror}). Choose another folder.") from problem
    finally:
        part.unlink(missing_ok=True)


def numbered(lines: Sequence[SheetLine]) -> str:
    """How many lines there are, in words."""
    return "1 line" if len(lines) == 1 else f"{len(lines)} lines"
