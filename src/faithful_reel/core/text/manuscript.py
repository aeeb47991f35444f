"""Reading manuscripts: plain text and DOCX to chapters."""

from __future__ import annotations

import re
import struct
import zipfile
import zlib
from pathlib import Path

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.text.words import Chapter, Manuscript, Word, chapter_of

MAX_BYTES = 64 * 2**20
_CHAPTER = re.compile(
    r"^(chapter|part|book)\s+([\divxlc]+|[a-z]+(?:[- ][a-z]+)?)\b[.:]?|^(prologue|epilogue|foreword|afterword)\b[.:]?$",
    re.IGNORECASE,
)
_W = "{http://schemas.openxmlformats.org/wordprocessingml/2006/main}"


def read_manuscript(path: Path) -> Manuscript:
    """Read a manuscript by what the file is, not by its name alone.

    Raises
    ------
    FileProblem
        The file is missing, empty, too large, of no kind we read, or damaged.
    """
    if not path.is_file():
        raise FileProblem(f"The manuscript {path.name} is not there. Check the name and the folder.")
    if path.stat().st_size > MAX_BYTES:
        raise FileProblem(f"{path.name} is larger than {MAX_BYTES >> 20} MB. Split the manuscript and try again.")
    manuscript = _read_docx(path) if path.suffix.lower() == ".docx" or zipfile.is_zipfile(path) else _read_text(path)
    if not any(c.words for c in manuscript.chapters):
        raise FileProblem(f"{path.name} holds no words. Choose the file with the manuscript's text.")
    return manuscript


def read_script(path: Path) -> Chapter:
    """Read a whole file as one chapter, headings included: what `proof` and `align` compare with."""
    if path.suffix.lower() == ".docx" or (path.is_file() and zipfile.is_zipfile(path)):
        chapters = read_manuscript(path).chapters
        return chapter_of(chapters[0].title, [" ".join(c.words[i].text for i in p) for c in chapters for p in c.paragraphs()])
    text = _decoded(path)
    chapter = chapter_of(path.stem, _text_paragraphs(text))
    if not chapter.words:
        raise FileProblem(f"The script {path.name} holds no words. Choose the file with the chapter's text.")
    return chapter


def _decoded(path: Path) -> str:
    if not path.is_file():
        raise FileProblem(f"The script {path.name} is not there. Check the name and the folder.")
    raw = path.read_bytes()
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        return raw.decode("utf-16", errors="replace")
    if b"\0" in raw[:4096]:
        raise FileProblem(f"{path.name} is not a text file. Choose the manuscript as text or DOCX.")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("cp1252", errors="replace")


def _text_paragraphs(text: str) -> list[str]:
    return [" ".join(p.split()) for p in re.split(r"\n\s*\n", text.replace("\r\n", "\n")) if p.strip()]


def _read_text(path: Path) -> Manuscript:
    text = _decoded(path)
    paragraphs = [[Word(t, 0, 0) for t in p.split()] for p in _text_paragraphs(text)]
    heads = [bool(_CHAPTER.match(" ".join(w.text for w in p))) and len(p) <= 12 for p in paragraphs]
    return _assembled(path, paragraphs, heads, title="", author="")


def _read_docx(path: Path) -> Manuscript:
    """Read a DOCX; what goes wrong in its archive, its XML or its parts is one clear problem with the file."""
    from docx.exceptions import PythonDocxError
    from docx.opc.exceptions import OpcError
    from lxml.etree import LxmlError

    try:
        with zipfile.ZipFile(path) as archive:
            if sum(info.file_size for info in archive.infolist()) > 4 * MAX_BYTES:
                raise FileProblem(f"{path.name} unpacks to far more than a manuscript. It was not opened.")
        return _docx_chapters(path)
    except (
        zipfile.BadZipFile, zlib.error, OpcError, PythonDocxError, LxmlError, KeyError, ValueError, IndexError,
        AttributeError, TypeError, NotImplementedError, RuntimeError, EOFError, OSError, struct.error,
    ) as problem:  # fmt: skip
        raise FileProblem(f"{path.name} is not a readable DOCX file. Save the manuscript again as DOCX or text.") from problem


def _docx_chapters(path: Path) -> Manuscript:
    from docx import Document

    document = Document(str(path))
    paragraphs: list[list[Word]] = []
    heads: list[bool] = []
    page, title = 1, ""
    for paragraph in document.paragraphs:
        words: list[Word] = []
        glued = False
        for run in paragraph.runs:
            page += len(run._element.findall(f"{_W}lastRenderedPageBreak"))  # python-docx has no public call for it
            pieces = run.text.split()
            for i, piece in enumerate(pieces):
                if i == 0 and glued and not run.text[0].isspace() and words:
                    words[-1] = Word(words[-1].text + piece, 0, 0, page, words[-1].italic)
                else:
                    words.append(Word(piece, 0, 0, page, bool(run.italic)))
            if run.text:
                glued = not run.text[-1].isspace()
        style = (paragraph.style.name or "").lower() if paragraph.style else ""
        text = " ".join(w.text for w in words)
        if style == "title":
            title = text
        if words:
            paragraphs.append(words)
            heads.append(style.startswith("heading 1") or (bool(_CHAPTER.match(text)) and len(words) <= 12))
    core = document.core_properties
    return _assembled(path, paragraphs, heads, title=core.title or title, author=core.author or "")


def _assembled(path: Path, paragraphs: list[list[Word]], heads: list[bool], *, title: str, author: str) -> Manuscript:
    """Cut at the headings; what stands before the first is front matter and is left out."""
    starts = [i for i, head in enumerate(heads) if head]
    front = paragraphs[: starts[0]] if starts else []
    if not title and front:
        title = " ".join(w.text for w in front[0])
    if not author:
        lines = [" ".join(w.text for w in p) for p in front]
        author = next((line[3:] for line in lines if line.lower().startswith("by ")), "")
    if not starts:
        return Manuscript(title or path.stem, author, (chapter_of(path.stem, paragraphs),))
    chapters = []
    for start, stop in zip(starts, [*starts[1:], len(paragraphs)], strict=True):
        name = " ".join(w.text for w in paragraphs[start])
        if start + 1 < stop and len(paragraphs[start + 1]) <= 8 and paragraphs[start + 1][-1].text[-1:] not in '.!?”"':
            name += ": " + " ".join(w.text for w in paragraphs[start + 1])
        chapters.append(chapter_of(name, paragraphs[start:stop]))
    return Manuscript(title or path.stem, author, tuple(chapters))
