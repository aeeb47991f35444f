"""Reading manuscripts: any kind of document to chapters."""

from __future__ import annotations

import re
import struct
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

from lxml.etree import LxmlError

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.jobs import Watch
from faithful_reel.core.text import readers
from faithful_reel.core.text.archives import opened
from faithful_reel.core.text.document import MOST_LETTERS, Document, Paragraph, TooMuch
from faithful_reel.core.text.scripts import refuse_unsettable
from faithful_reel.core.text.words import LONGEST_WORD, Chapter, Manuscript, chapter_of

MAX_BYTES = 64 * 2**20
READERS: dict[str, Callable[[Path], Document]] = {
    ".docx": readers.read_docx,
    ".epub": readers.read_epub,
    ".odt": readers.read_odt,
    ".rtf": readers.read_rtf,
    ".pdf": readers.read_pdf,
    ".html": readers.read_html,
    ".htm": readers.read_html,
    ".xhtml": readers.read_html,
    ".md": readers.read_markdown,
    ".markdown": readers.read_markdown,
    ".txt": readers.read_plain,
    ".text": readers.read_plain,
}
SUFFIXES = tuple(READERS)
KINDS: dict[Callable[[Path], Document], str] = {
    readers.read_docx: "a DOCX document",
    readers.read_epub: "an EPUB",
    readers.read_odt: "an ODT document",
    readers.read_rtf: "an RTF document",
    readers.read_pdf: "a PDF",
    readers.read_html: "an HTML page",
    readers.read_markdown: "Markdown",
    readers.read_plain: "plain text",
}
TITLE_PAGE_WORDS = 30
"""Below the title: names, no text (own rule)."""
MOST_SCRIPT = 300_000
"""Words that one recording may read: more than twenty hours of them."""
_DAMAGE = (
    LxmlError, zipfile.BadZipFile, zlib.error, struct.error, ArithmeticError, AttributeError, EOFError, LookupError,
    NotImplementedError, OSError, RuntimeError, TypeError, ValueError, AssertionError,
)  # fmt: skip
"""What the libraries raise for damaged documents."""
_UNITS = "one|two|three|four|five|six|seven|eight|nine|first|second|third|fourth|fifth|sixth|seventh|eighth|ninth"
_NUMBER = (
    rf"(?:\d+|[ivxlc]+|(?:the\s+)?(?:(?:twenty|thirty|forty|fifty|sixty|seventy|eighty|ninety)(?:[- ](?:{_UNITS}))?|{_UNITS}"
    r"|ten|eleven|twelve|(?:thir|four|fif|six|seven|eigh|nine)teen|tenth|eleventh|twelfth|last))"
)
_NUMBERED = re.compile(
    rf"^(?:chapter|part|book|letter|canto|section|act)\s+{_NUMBER}\b[.:]?|^(?:prologue|epilogue|foreword|afterword|preface|introduction"
    r"|interlude)\b[.:]?$",
    re.IGNORECASE,
)
_ASIDE = re.compile(
    "^(?:(?:table of )?contents|copyright.*|dedication|acknowledge?ments?|about the (?:author|publisher|narrator).*|also by.*"
    "|books by.*|notes?|foot ?notes|end ?notes|index|bibliography|references|glossary|title page|half[- ]title.*|colophon|imprint"
    "|cover|praise for.*|list of (?:illustrations|figures|tables|maps).*|illustrations|further reading|sources|credits)$",
    re.IGNORECASE,
)


def read_manuscript(path: Path) -> Manuscript:
    """Read a manuscript of any kind in `SUFFIXES`.

    Raises
    ------
    FileProblem
        The file is missing, empty, too large, of no kind we read, not of the kind that its name says, locked or damaged.
    """
    manuscript = _assembled(path, read_document(path))
    if not any(c.words for c in manuscript.chapters):
        raise FileProblem(f"{path.name} holds no words. Choose the file with the manuscript's text.")
    return manuscript


def read_apart(path: Path, watch: Watch) -> Manuscript:
    """As `read_manuscript`, as work that is watched."""
    watch.tick(0.0, "reading")
    return read_manuscript(path)


def read_script(path: Path) -> Chapter:
    """Read a whole file as one chapter, headings included: what `proof` and `align` compare with.

    Of plain text every whitespace-separated token is a word, whatever it is.

    Raises
    ------
    FileProblem
        It can not be read, holds no words or more than one recording reads, or can not be set.
    """
    reader = _reader_of(path)
    if reader is not readers.read_plain:
        chapters = read_manuscript(path).chapters
        if sum(len(c.words) for c in chapters) > MOST_SCRIPT:
            raise FileProblem(f"{path.name} holds far more words than one recording. Give the text of this recording alone.")
        return chapter_of(chapters[0].title, [" ".join(c.words[i].text for i in p) for c in chapters for p in c.paragraphs()])
    text = _as_read(path, readers.decoded).replace("\r\n", "\n")
    refuse_unsettable(text, path)
    tokens = text.split() if len(text) <= MOST_LETTERS else []
    if len(text) > MOST_LETTERS or len(tokens) > MOST_SCRIPT:
        raise FileProblem(f"{path.name} holds far more words than one recording. Give the text of this recording alone.")
    if any(len(token) > LONGEST_WORD for token in tokens):
        raise FileProblem(f"{path.name} holds a word of more than {LONGEST_WORD} letters, which no script has. Check the file.")
    chapter = chapter_of(path.stem, [" ".join(p.split()) for p in re.split(r"\n\s*\n", text) if p.strip()])
    if not chapter.words:
        raise FileProblem(f"The script {path.name} holds no words. Choose the file with the chapter's text.")
    return chapter


def read_document(path: Path) -> Document:
    """Read a document of any kind; what goes wrong in its archive, its XML or its parts is one clear problem with the file."""
    document: Document = _as_read(path, _reader_of(path))
    refuse_unsettable(" ".join(p.text for p in document.paragraphs), path)
    return document


def _as_read(path: Path, reader: Callable[[Path], Any]) -> Any:
    """What a reader makes of a file."""
    try:
        return reader(path)
    except TooMuch as problem:
        raise FileProblem(
            f"{path.name} holds far more words than a manuscript, or a word without end. Split it and try again."
        ) from problem
    except _DAMAGE as problem:
        raise FileProblem(
            f"{path.name} is damaged: it is not {KINDS.get(reader, 'a text')}. Save the manuscript again."
        ) from problem


def _reader_of(path: Path) -> Callable[[Path], Document]:
    """The reader that the file's first bytes ask for, which must be the one that its name promises."""
    if path.is_dir():
        raise FileProblem(f"{path.name} is a folder. Choose the manuscript's file.")
    if not path.is_file():
        raise FileProblem(f"The manuscript {path.name} is not there. Check the name and the folder.")
    size = path.stat().st_size
    if size == 0:
        raise FileProblem(f"{path.name} is empty. Copy the manuscript again.")
    if size > MAX_BYTES:
        raise FileProblem(f"{path.name} is larger than {MAX_BYTES >> 20} MB. Split the manuscript and try again.")
    with path.open("rb") as file:
        head = file.read(2048)
    if head.startswith(b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"):
        raise FileProblem(f"{path.name} is locked with a password, or of an old kind. Save it as DOCX without a password.")
    suffix = path.suffix.lower()
    promised = READERS.get(suffix)
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    opening = start[:600].lower()
    if head.startswith(b"PK"):
        found = _archive_reader(path)
    elif b"%PDF-" in head[:1024]:
        found = readers.read_pdf
    elif start.startswith(b"{\\rtf"):
        found = readers.read_rtf
    elif opening.startswith((b"<!doctype html", b"<html")) or (opening.startswith(b"<?xml") and b"<html" in start.lower()):
        found = readers.read_html
    else:
        found = promised if promised in (readers.read_html, readers.read_markdown) else readers.read_plain
    if promised and found is not promised:
        raise FileProblem(f"{path.name} is not what its name says, but {KINDS[found]}. Rename it, or save the manuscript again.")
    return found


def _archive_reader(path: Path) -> Callable[[Path], Document]:
    with opened(path) as archive:
        kind = archive.read("mimetype")[:80] if "mimetype" in archive.names else b""
        if kind.startswith(b"application/epub+zip") or "META-INF/container.xml" in archive.names:
            return readers.read_epub
        if kind.startswith(b"application/vnd.oasis.opendocument.text"):
            return readers.read_odt
        if "word/document.xml" in archive.names or "[Content_Types].xml" in archive.names:
            return readers.read_docx
    raise FileProblem(f"{path.name} is an archive without a manuscript in it. Unpack it and choose the manuscript itself.")


def _assembled(path: Path, document: Document) -> Manuscript:
    """Cut at the chapters' headings; front matter, notes and the like stand apart."""
    paragraphs = [p for p in document.paragraphs if p.words]
    _mark_title_page(paragraphs, document.title)
    starts = _starts(paragraphs)
    front = paragraphs[: starts[0]] if starts else []
    title = document.title or next((p.text for p in paragraphs if p.title), "") or (front[0].text if front else "")
    author = document.author or next((p.text[3:] for p in front if p.text.lower().startswith("by ")), "")
    chapters: list[Chapter] = []
    left_out: list[Chapter] = [_chapter("Front matter", front)] if front else []
    if not starts and paragraphs:
        chapters.append(_chapter(path.stem, [p for p in paragraphs if not p.title] or paragraphs))
    pending: list[Paragraph] = []
    for start, stop in zip(starts, [*starts[1:], len(paragraphs)], strict=True) if starts else ():
        body = paragraphs[start:stop]
        if len(body) == 1 and stop < len(paragraphs) and not _ASIDE.match(body[0].text):
            pending += body  # a part's heading is read at the start of its first chapter
            continue
        made = _chapter(_name([*pending, *body]), [*pending, *body])
        (left_out if _ASIDE.match(body[0].text.strip(" .:")) else chapters).append(made)
        pending = []
    if document.notes:
        left_out.append(chapter_of("Notes", document.notes))
    return Manuscript(title or path.stem, author, tuple(chapters), tuple(left_out))


def _mark_title_page(paragraphs: list[Paragraph], title: str) -> None:
    """A first heading that is the book's title, with little more than the author's name below it, begins no chapter."""
    headings = [i for i, p in enumerate(paragraphs) if p.level]
    if len(headings) < 2 or not title or paragraphs[headings[0]].text.casefold() != title.casefold():
        return
    if sum(len(p.words) for p in paragraphs[headings[0] + 1 : headings[1]]) <= TITLE_PAGE_WORDS:
        paragraphs[headings[0]].title = True


def _is_numbered(paragraph: Paragraph) -> bool:
    return len(paragraph.words) <= 12 and bool(_NUMBERED.match(paragraph.text))


def _starts(paragraphs: list[Paragraph]) -> list[int]:
    """Where chapters begin: at headings of the level that chapters have, else where a line says so, else at new pages."""
    levels = Counter(p.level for p in paragraphs if p.level and not p.title)
    numbered = Counter(p.level for p in paragraphs if p.level and not p.title and _is_numbered(p))
    if numbered:
        deepest = max(level for level, count in numbered.items() if count >= max(numbered.values()) / 2)
    else:
        deepest = next((level for level in sorted(levels) if levels[level] > 1), min(levels, default=0))
    starts = [
        i
        for i, p in enumerate(paragraphs)
        if not p.title and (0 < p.level <= deepest or (not p.level and _is_numbered(p) and not _runs_on(paragraphs, i)))
    ]
    if not starts:
        starts = [i for i, p in enumerate(paragraphs) if p.opens_page and len(p.words) <= 8 and p.text[-1] not in ".,;"]
        starts = starts if len(starts) > 1 else []
    return _without_contents(paragraphs, starts)


def _runs_on(paragraphs: list[Paragraph], index: int) -> bool:
    """Whether a short paragraph that begins like a heading is rather a sentence of the text."""
    text = paragraphs[index].text
    match = _NUMBERED.match(text)
    return bool(match and match.end() < len(text) and text[-1] in ".!?…”," and len(text.split()) > 4)


def _without_contents(paragraphs: list[Paragraph], starts: list[int]) -> list[int]:
    """Leave out the lines of a table of contents: headings without a body that come again later."""
    bare = {i: re.sub(r"[\s.·…]*\d*\s*$", "", paragraphs[i].text).lower() for i in starts}
    kept = []
    for place, i in enumerate(starts):
        follows = i + 1 == (starts[place + 1] if place + 1 < len(starts) else len(paragraphs))
        if follows and any(bare[j] == bare[i] for j in starts[place + 1 :]):
            continue
        kept.append(i)
    return kept


def _name(paragraphs: list[Paragraph]) -> str:
    """The heading's words, with a subtitle that stands below it."""
    name = paragraphs[0].text
    for below in paragraphs[1:3]:
        if len(below.words) <= 8 and below.text[-1:] not in '.!?”"’,;' and (below.level or below is paragraphs[1]):
            name += ": " + below.text
        else:
            break
    return name


def _chapter(title: str, paragraphs: list[Paragraph]) -> Chapter:
    made = chapter_of(title, [p.words for p in paragraphs])
    return Chapter(made.title, made.words, tuple(i for i, p in enumerate(paragraphs) if p.scene_break and i))
