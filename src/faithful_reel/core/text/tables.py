"""Tables that others made, as rows of text: CSV, XLSX, DOCX, ODT and ODS, read with bounds."""

from __future__ import annotations

import csv
import datetime as dt
import io
import re
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

from faithful_reel.core.errors import AppError, FileProblem
from faithful_reel.core.files import content_of, printable, shown
from faithful_reel.core.jobs import Watch
from faithful_reel.core.text.archives import opened, xml_of
from faithful_reel.core.text.document import TooMuch
from faithful_reel.core.text.readers import decoded

Table = list[list[str]]
"""Rows of cells, all of one length, spaces made plain."""
SUFFIXES = (".csv", ".tsv", ".xlsx", ".docx", ".odt", ".ods")
LARGEST, MOST_ROWS, MOST_COLUMNS, MOST_LETTERS = 64 << 20, 20_000, 64, 20_000
_BAD = (
    OSError, ValueError, LookupError, TypeError, AttributeError, ArithmeticError, SyntaxError, RuntimeError, EOFError,
    AssertionError, RecursionError, csv.Error, zipfile.BadZipFile, zlib.error, struct.error,
)  # fmt: skip
"""What reading a damaged table ends with, in the libraries that read it; their own errors come from these."""


def tables_of(path: Path, watch: Watch) -> list[Table]:
    """The tables of a file, without rows that are empty; at most `MOST_ROWS` rows each.

    To be run apart: it reads what anybody may have made.

    Raises
    ------
    FileProblem
        It can not be read, is too large, or holds no table.
    """
    watch.tick(0.0, shown(path))
    suffix = path.suffix.lower()
    content_of(path, LARGEST)  # an ordinary file of a bearable size
    readers: dict[str, Callable[[Path], Iterable[Iterable[Iterable[str]]]]] = {
        ".csv": _csv, ".tsv": _csv, ".txt": _csv, ".xlsx": _xlsx, ".docx": _docx, ".odt": _odf, ".ods": _odf,
    }  # fmt: skip
    if suffix not in readers:
        raise FileProblem(f"{shown(path)}: lists are read from {', '.join(SUFFIXES)}. Save it as one of these.")
    try:
        found = [_plain(table) for table in readers[suffix](path)]
    except TooMuch as problem:
        raise FileProblem(f"{shown(path)} is far longer than any list of findings. It was not opened.") from problem
    except AppError:
        raise
    except _BAD as problem:
        raise FileProblem(f"{shown(path)} is damaged, or not what its name says. Save it again as CSV or XLSX.") from problem
    found = [table for table in found if table]
    if not found:
        raise FileProblem(f"{shown(path)} holds no table. Put the findings into one, a line for each, and save it again.")
    return found


def _plain(rows: Iterable[Iterable[str]]) -> Table:
    table = []
    for number, row in enumerate(rows):
        if number >= MOST_ROWS:
            raise TooMuch
        cells = [" ".join(printable(cell[:MOST_LETTERS]).split()) for cell in row][:MOST_COLUMNS]
        if any(cells):
            table.append(cells)
    width = max((at + 1 for row in table for at, cell in enumerate(row) if cell), default=0)
    return [[*row, *[""] * (width - len(row))][:width] for row in table]


def _csv(path: Path) -> Iterable[Iterable[Iterable[str]]]:
    text = decoded(path)
    if re.search(r"[\x00-\x08\x0e-\x1f]", text):
        raise ValueError("no text holds these characters")
    try:
        kind: type[csv.Dialect] | csv.Dialect = csv.Sniffer().sniff(text[:20_000], ",;\t|")
        between = kind.delimiter
    except csv.Error:
        between = ","
    first = text.split("\n", 1)[0]
    if first.count(between) < max(first.count(mark) for mark in ",;\t|"):  # commas inside of the words misled it
        between = max(",;\t|", key=first.count)
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=between)
    return [[[_unguarded(cell) for cell in row] for row in rows]]


def _unguarded(cell: str) -> str:
    """A cell without the apostrophe that keeps a spreadsheet from taking it for a formula."""
    return cell[1:] if cell[:1] == "'" and cell[1:2] in set("=+-@") else cell


def _xlsx(path: Path) -> Iterable[Iterable[Iterable[str]]]:
    from openpyxl import load_workbook

    with opened(path):  # bounded, and whole
        pass
    book = load_workbook(path, read_only=True, data_only=True)
    try:
        return [
            [
                [_cell(value) for value in row]
                for row in sheet.iter_rows(max_row=MOST_ROWS + 1, max_col=MOST_COLUMNS, values_only=True)
            ]
            for sheet in book.worksheets
        ]
    finally:
        book.close()


def _cell(value: object) -> str:
    """A cell of a spreadsheet as it is read: times as a clock, whole numbers without a point."""
    match value:
        case None:
            return ""
        case dt.datetime():  # a time of day that the spreadsheet counts from its first day
            return _clock(value.hour * 3600 + value.minute * 60 + value.second + value.microsecond / 1e6)
        case dt.time():
            return _clock(value.hour * 3600 + value.minute * 60 + value.second + value.microsecond / 1e6)
        case dt.timedelta():
            return _clock(value.total_seconds())
        case float() if value.is_integer():
            return str(int(value))
    return _unguarded(str(value))


def _clock(seconds: float) -> str:
    ms = round(1000 * max(0.0, seconds))
    return f"{ms // 3_600_000}:{ms // 60_000 % 60:02d}:{ms // 1000 % 60:02d}" + (f".{ms % 1000:03d}" if ms % 1000 else "")


def _docx(path: Path) -> Iterable[Iterable[Iterable[str]]]:
    import docx

    with opened(path) as archive:
        for name in archive.names:
            if name.endswith((".xml", ".rels")):
                xml_of(archive.read(name), path)
    with path.open("rb") as file:
        document = docx.Document(file)
    return [[[cell.text for cell in row.cells] for row in table.rows[: MOST_ROWS + 1]] for table in document.tables]


_TABLE = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
_TEXT = "{urn:oasis:names:tc:opendocument:xmlns:text:1.0}"


def _odf(path: Path) -> Iterable[Iterable[Iterable[str]]]:
    """Read by its XML: a library unfolds cells that say that they are repeated a million times (OpenDocument 1.3, 19.675)."""
    with opened(path) as archive:
        if b"encryption-data" in (archive.read("META-INF/manifest.xml") if "META-INF/manifest.xml" in archive.names else b""):
            raise FileProblem(f"{shown(path)} is locked with a password. Save it without one.")
        root = archive.xml("content.xml")
    return [[_odf_cells(row) for row in _odf_rows(table)] for table in root.iter(f"{_TABLE}table")]


def _odf_rows(element: Any) -> Iterator[Any]:
    """The rows of a table, also those in groups; one that is repeated counts once: what follows it is empty, or the same."""
    for child in element:
        if child.tag == f"{_TABLE}table-row":
            yield child
        elif child.tag in (f"{_TABLE}table-header-rows", f"{_TABLE}table-rows", f"{_TABLE}table-row-group"):
            yield from _odf_rows(child)


def _odf_cells(row: Any) -> list[str]:
    cells: list[str] = []
    for cell in row.iterchildren(f"{_TABLE}table-cell", f"{_TABLE}covered-table-cell"):
        text = " ".join(" ".join(p.itertext()) for p in cell.iterchildren(f"{_TEXT}p", f"{_TEXT}h"))
        times = cell.get(f"{_TABLE}number-columns-repeated") or "1"
        cells += [text] * (min(int(times), MOST_COLUMNS) if times.isdecimal() else 1)
        if len(cells) >= MOST_COLUMNS:
            break
    return cells
