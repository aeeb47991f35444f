"""Every document reader against a second library: what that library writes, we read; what we read, it reads as well."""

from __future__ import annotations

import pypandoc
import pytest
from pdfminer.high_level import extract_pages
from pdfminer.layout import LTTextContainer
from support.manuscripts import AUTHOR, CHAPTERS, MAKERS, TITLE, chapter_words

from faithful_reel.core.text.manuscript import read_document, read_manuscript

MARKDOWN = f"% {TITLE}\n% {AUTHOR}\n\n" + "\n\n".join(
    f"# {heading}\n\n" + "\n\n".join("* * *" if p == "***" else p.replace("^1", "[^1]").replace("^2", "[^2]") for p in paragraphs)
    for heading, paragraphs in CHAPTERS
)
NOTES = "\n\n[^1]: A ferryman’s half past six is a quarter to seven.\n\n[^2]: The sum was never settled.\n"


def written_by_pandoc(folder, suffix, to):
    path = folder / f"book.{suffix}"
    pypandoc.convert_text(MARKDOWN + NOTES, to, format="markdown", outputfile=str(path), extra_args=["--standalone"])
    return path


def read_by_pandoc(path, kind):
    return pypandoc.convert_file(str(path), "plain", format=kind, extra_args=["--wrap=none"])


def holds_the_book(folder, suffix, to):
    book = read_manuscript(written_by_pandoc(folder, suffix, to))
    assert [[w.text for w in c.words] for c in book.chapters] == chapter_words()
    slanted = [w.text.strip(",") for c in book.chapters for w in c.words if w.italic]
    assert slanted == ["Patience", "why", "not", "aloud"]
    return book


@pytest.mark.published("ECMA-376 (DOCX), written by pandoc 3.9")
def test_docx_from_another_writer(tmp_path):
    book = holds_the_book(tmp_path, "docx", "docx")
    assert (book.title, book.author) == (TITLE, AUTHOR)


@pytest.mark.published("ISO/IEC 26300 (ODT), written by pandoc 3.9")
def test_odt_from_another_writer(tmp_path):
    book = holds_the_book(tmp_path, "odt", "odt")
    assert (book.title, book.author) == (TITLE, AUTHOR)


@pytest.mark.published("EPUB 2.0.1 and 3.3, written by pandoc 3.9")
@pytest.mark.parametrize("to", ["epub2", "epub3"])
def test_epub_from_another_writer(tmp_path, to):
    book = holds_the_book(tmp_path, "epub", to)
    assert (book.title, book.author) == (TITLE, AUTHOR)


@pytest.mark.published("RTF 1.9.1, written by pandoc 3.9")
def test_rtf_from_another_writer(tmp_path):
    holds_the_book(tmp_path, "rtf", "rtf")


@pytest.mark.published("HTML 5, written by pandoc 3.9")
def test_html_from_another_writer(tmp_path):
    book = holds_the_book(tmp_path, "html", "html5")
    assert (book.title, book.author) == (TITLE, AUTHOR)


@pytest.mark.published("CommonMark 0.31, written by pandoc 3.9")
def test_markdown_from_another_writer(tmp_path):
    holds_the_book(tmp_path, "md", "commonmark_x-smart")


@pytest.mark.published("pandoc 3.9, readers of DOCX, ODT, EPUB and HTML")
@pytest.mark.parametrize(
    ("name", "kind"),
    [("book.docx", "docx"), ("book.odt", "odt"), ("two.epub", "epub"), ("three.epub", "epub"), ("book.html", "html")],
)
def test_the_same_words_as_another_reader(tmp_path, name, kind):
    MAKERS[name](tmp_path / name)
    theirs = read_by_pandoc(tmp_path / name, kind)
    for paragraph in read_document(tmp_path / name).paragraphs:
        if paragraph.scene_break or paragraph.title or not paragraph.words:
            continue
        without_marks = theirs.replace("[1]", "").replace("[2]", "").replace("_", "").replace(" — ", "— ")
        assert paragraph.text.replace(" — ", "— ") in without_marks


@pytest.mark.published("pdfminer.six 20260107: words and pages of a PDF (ISO 32000-1)")
def test_the_same_words_as_another_reader_of_pdf(tmp_path):
    MAKERS["book.pdf"](tmp_path / "book.pdf")
    book = read_manuscript(tmp_path / "book.pdf")
    pages = [
        " ".join(box.get_text() for box in page if isinstance(box, LTTextContainer)).split()
        for page in extract_pages(tmp_path / "book.pdf")
    ]
    for chapter in book.chapters:
        page = pages[chapter.words[0].page - 1]
        ours = [w.text.replace("—", "") for w in chapter.words]
        theirs = [w.replace("—", "") for w in page if w != "—"]
        assert [w for w in theirs if w in ours] == ours


@pytest.mark.parametrize("text", ["A word or two, and the story is under way. " * 8, ""])
def test_a_first_chapter_called_as_the_book_is_kept_where_it_holds_text(tmp_path, text):
    """A title page is left out; a title story is not."""
    body = f"<h1>The Ferry</h1><p>{text or 'by Imre Oakshott'}</p><h1>The Ledger</h1><p>Ada read it.</p>"
    (tmp_path / "book.html").write_text(
        f"<html><head><title>The Ferry</title></head><body>{body}</body></html>", encoding="utf-8"
    )
    titles = [c.title for c in read_manuscript(tmp_path / "book.html").chapters]
    assert titles == (["The Ferry", "The Ledger"] if text else ["The Ledger"])
