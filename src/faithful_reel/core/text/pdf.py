"""Text, pages and italics from a PDF: lines found from the characters' places, then joined to paragraphs."""

from __future__ import annotations

import ctypes
import itertools
import re
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median
from typing import Any

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.text.document import MOST_LETTERS, Document, Writer

MOST_PAGES = 3_000
_ITALIC_FLAG = 64
"""Bit 7 of a font's flags (ISO 32000-1, 9.8.2, table 123)."""


@dataclass(slots=True)
class _Line:
    page: int
    left: float = 0.0
    right: float = 0.0
    base: float = 0.0
    size: float = 0.0
    runs: list[tuple[str, bool]] = field(default_factory=list)

    @property
    def text(self) -> str:
        return "".join(t for t, _ in self.runs).strip()


def pdf_document(path: Path) -> Document:
    """Read a PDF.

    Raises
    ------
    FileProblem
        It is damaged, locked with a password, holds no text, or far too much.
    """
    import pypdfium2 as pdfium

    try:
        pdf = pdfium.PdfDocument(path.read_bytes())
    except pdfium.PdfiumError as problem:
        if "password" in str(problem).lower():
            raise FileProblem(f"{path.name} is locked with a password. Save it without one.") from problem
        raise FileProblem(f"{path.name} is not a readable PDF. Ask for the manuscript as DOCX or text.") from problem
    try:
        if len(pdf) > MOST_PAGES:
            raise FileProblem(f"{path.name} has {len(pdf)} pages, far more than a manuscript. It was not opened.")
        lines: list[_Line] = []
        letters = 0
        for number in range(len(pdf)):
            try:
                page = pdf[number]
                text = page.get_textpage()
            except pdfium.PdfiumError as problem:
                raise FileProblem(f"{path.name} is damaged on page {number + 1}. Ask for it again.") from problem
            found = _lines(text, number + 1)
            letters += sum(len(line.text) for line in found)
            if letters > MOST_LETTERS:
                raise FileProblem(f"{path.name} holds far more text than a manuscript. It was not opened.")
            lines += found
            text.close()
            page.close()
        meta = pdf.get_metadata_dict(skip_empty=True)
    finally:
        pdf.close()
    if not lines:
        raise FileProblem(f"{path.name} holds pictures of pages, no text. Ask for the manuscript as DOCX or text.")
    document = _paragraphs(_without_running_heads(lines))
    title, author = meta.get("Title", ""), meta.get("Author", "")
    document.title = "" if title.lower() in ("untitled", "(anonymous)") else title
    document.author = "" if author.lower() in ("anonymous", "(anonymous)") else author
    return document


def _lines(text: Any, number: int) -> list[_Line]:
    import pypdfium2.raw as pdfium

    lines: list[_Line] = []
    line = _Line(number)
    x, y = ctypes.c_double(), ctypes.c_double()
    flags = ctypes.c_int()
    name = ctypes.create_string_buffer(80)
    italic = False
    for i in range(text.count_chars()):
        letter = chr(pdfium.FPDFText_GetUnicode(text, i))
        if letter in "\r\n":
            if line.text:
                lines.append(line)
            line = _Line(number)
            continue
        if letter in "\x02\ufffe\xad":  # a hyphen at a line's end
            letter = "\xad"
        elif not letter.isprintable():
            continue
        if not letter.isspace():
            pdfium.FPDFText_GetCharOrigin(text, i, x, y)
            if not line.text:
                line.left, line.base = x.value, y.value
            line.right = x.value
            line.size = max(line.size, pdfium.FPDFText_GetFontSize(text, i))
            pdfium.FPDFText_GetFontInfo(text, i, name, len(name), flags)
            italic = bool(flags.value & _ITALIC_FLAG) or b"Italic" in name.value or b"Oblique" in name.value
        if line.runs and line.runs[-1][1] == italic:
            line.runs[-1] = (line.runs[-1][0] + letter, italic)
        else:
            line.runs.append((letter, italic))
    if line.text:
        lines.append(line)
    return lines


def _without_running_heads(lines: list[_Line]) -> list[_Line]:
    """Leave out page numbers, and first or last lines that come again and again."""
    pages: dict[int, list[_Line]] = {}
    for line in lines:
        pages.setdefault(line.page, []).append(line)
    edges = [edge for page in pages.values() for edge in {id(page[0]): page[0], id(page[-1]): page[-1]}.values()]
    often = Counter(re.sub(r"\d+", "#", e.text.lower()) for e in edges)
    gone = {
        id(e)
        for e in edges
        if re.fullmatch(r"[-–—\s]*(page\s+)?(\d+|[ivxlc]+)[-–—\s]*", e.text.lower())
        or (len(pages) >= 4 and often[re.sub(r"\d+", "#", e.text.lower())] >= max(3, len(pages) // 4))
    }
    return [line for line in lines if id(line) not in gone]


def _paragraphs(lines: list[_Line]) -> Document:
    body = Counter(round(line.size, 1) for line in lines for _ in range(len(line.text))).most_common(1)[0][0]
    gaps = [a.base - b.base for a, b in itertools.pairwise(lines) if a.page == b.page and 0 < a.base - b.base < 6 * body]
    usual = median(gaps) if gaps else 1.2 * body
    margins = {
        page: Counter(round(line.left / 3) * 3 for line in lines if line.page == page).most_common(1)[0][0]
        for page in {line.page for line in lines}
    }
    widest = sorted(line.right for line in lines)[int(0.9 * (len(lines) - 1))]
    sizes = sorted({round(line.size, 1) for line in lines if line.size > 1.12 * body}, reverse=True)
    writer = Writer()
    before: _Line | None = None
    for line in lines:
        level = sizes.index(round(line.size, 1)) + 1 if round(line.size, 1) in sizes else 0
        if before is not None:
            gap = before.base - line.base
            head = before.size > 1.12 * body
            indented = line.left > margins[line.page] + 0.6 * body
            turned = line.page != before.page
            short = before.right < widest - 3 * body and before.text[-1:] in '.!?…”"’:'
            if (
                bool(level) != head
                or (not turned and (gap > 1.45 * usual or gap < -usual))
                or (indented and not level)
                or (short and (turned or gap > 1.15 * usual))
                or (not turned and level and gap > 2 * line.size)
            ):
                writer.end(level=sizes.index(round(before.size, 1)) + 1 if head else 0)
        if line.page != writer.page:
            writer.new_page(line.page)
        for i, (text, italic) in enumerate(line.runs):
            last = i == len(line.runs) - 1
            writer.run(
                text.replace("\xad", "") if not last else text.rstrip().removesuffix("\xad").replace("\xad", ""), italic=italic
            )
        if not line.text.endswith("\xad"):
            writer.space()
        before = line
    if before is not None:
        writer.end(level=sizes.index(round(before.size, 1)) + 1 if before.size > 1.12 * body else 0)
    return writer.document
