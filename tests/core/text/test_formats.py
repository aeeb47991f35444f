"""The same text in every format, hostile files, and mutated ones."""

from __future__ import annotations

import contextlib
import io
import random
import time
import tracemalloc
import zipfile

import docx
import pytest
from odf.opendocument import OpenDocumentText
from odf.text import LineBreak, P
from support.manuscripts import AUTHOR, CHAPTERS, MAKERS, NOTES, TITLE, chapter_words
from support.mutation import mutated

from faithful_reel.core.errors import AppError, FileProblem
from faithful_reel.core.text.manuscript import SUFFIXES, read_manuscript
from faithful_reel.core.text.readers import is_verse


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    folder = tmp_path_factory.mktemp("formats")
    for name, make in MAKERS.items():
        make(folder / name)
    return folder


@pytest.mark.parametrize("name", MAKERS)
def test_the_same_text_gives_the_same_chapters_and_words(made, name):
    book = read_manuscript(made / name)
    assert [[w.text for w in c.words] for c in book.chapters] == chapter_words()
    assert [c.title for c in book.chapters] == [heading for heading, _ in CHAPTERS]


@pytest.mark.parametrize("name", MAKERS)
def test_title_author_and_front_matter(made, name):
    book = read_manuscript(made / name)
    assert book.title == TITLE
    assert book.author == (AUTHOR if name != "book.md" else "")
    assert any("rights" in [w.text for w in c.words] for c in book.left_out)


@pytest.mark.parametrize("name", MAKERS)
def test_paragraphs_and_scene_breaks(made, name):
    chapters = read_manuscript(made / name).chapters
    assert [len(c.paragraphs()) for c in chapters] == [1 + sum(p != "***" for p in ps) for _, ps in CHAPTERS]
    assert [c.breaks for c in chapters] == [(3,), (), ()]


@pytest.mark.parametrize("name", MAKERS)
def test_italics(made, name):
    slanted = [w.text for c in read_manuscript(made / name).chapters for w in c.words if w.italic]
    assert {w.strip(",") for w in slanted} == {"Patience", "why", "not", "aloud"}
    assert len(slanted) == 4


@pytest.mark.parametrize("name", [n for n in MAKERS if n not in ("two.epub", "book.pdf")])  # made without notes
def test_footnotes_stand_apart(made, name):
    kept = [c for c in read_manuscript(made / name).left_out if c.title == "Notes"]
    assert [" ".join(c.words[i].text for i in p) for c in kept for p in c.paragraphs()] == list(NOTES)


@pytest.mark.parametrize(("name", "pages"), [("book.pdf", [2, 3, 4]), ("book.odt", [2, 3, 4]), ("book.rtf", [2, 3, 4])])
def test_pages_where_the_format_has_them(made, name, pages):
    assert [c.words[0].page for c in read_manuscript(made / name).chapters] == pages


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "utf-32", "cp1252", "mac_roman"])
@pytest.mark.parametrize("newline", ["\n", "\r\n", "\r"])
def test_plain_text_in_any_common_encoding(made, tmp_path, encoding, newline):
    text = (made / "book.txt").read_text(encoding="utf-8").replace("\n", newline)
    (tmp_path / "book.txt").write_bytes(text.encode(encoding))
    assert [[w.text for w in c.words] for c in read_manuscript(tmp_path / "book.txt").chapters] == chapter_words()


@pytest.mark.parametrize("name", [n for n in MAKERS if n != "book.md"])  # which is told from text by its name alone
def test_a_file_without_an_extension_is_read_by_its_content(made, tmp_path, name):
    (tmp_path / "book").write_bytes((made / name).read_bytes())
    assert [[w.text for w in c.words] for c in read_manuscript(tmp_path / "book").chapters] == chapter_words()


@pytest.mark.parametrize("name", [n for n in MAKERS if n not in ("book.md", "book.html")])
def test_a_wrong_extension_is_one_clear_message(made, tmp_path, name):
    path = tmp_path / ("book.docx" if name != "book.docx" else "book.txt")
    path.write_bytes((made / name).read_bytes())
    with pytest.raises(FileProblem, match=r"is not what its name says, but .*\. Rename it"):
        read_manuscript(path)


# --- hostile files ----------------------------------------------------------------------------------------------------


def _zipped(parts: dict[str, bytes], *, kind=zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", kind) as archive:
        for name, data in parts.items():
            archive.writestr(name, data)
    return out.getvalue()


BOMB = (
    b'<?xml version="1.0"?><!DOCTYPE d [<!ENTITY a "aaaaaaaaaaaaaaaaaaaa">'
    + b"".join(b'<!ENTITY %c "%s">' % (98 + i, b"&%c;" % (97 + i) * 20) for i in range(10))
    + b"]><d>&k;</d>"
)
CONTAINER = b'<container xmlns="urn:oasis:names:tc:opendocument:xmlns:container"><rootfiles><rootfile full-path="b.opf"/></rootfiles></container>'
OPF = (
    b'<package xmlns="http://www.idpf.org/2007/opf"><manifest><item id="a" href="a.xhtml" media-type="application/xhtml+xml"/>'
    b'</manifest><spine><itemref idref="a"/></spine></package>'
)


def _lying_bomb() -> bytes:
    """A zip whose directory says that 300 MB are 100 bytes."""
    raw = bytearray(_zipped({"word/document.xml": bytes(300 * 2**20)}))
    entry = raw.rfind(b"PK\x01\x02")
    raw[entry + 24 : entry + 28] = (100).to_bytes(4, "little")
    return bytes(raw)


def _locked_pdf(tmp_path) -> bytes:
    from reportlab.lib.pdfencrypt import StandardEncryption
    from reportlab.pdfgen.canvas import Canvas

    canvas = Canvas(str(tmp_path / "locked"), encrypt=StandardEncryption("secret", strength=128))
    canvas.drawString(100, 100, "Chapter One")
    canvas.save()
    return (tmp_path / "locked").read_bytes()


def _pictures_pdf(tmp_path) -> bytes:
    from reportlab.pdfgen.canvas import Canvas

    canvas = Canvas(str(tmp_path / "pictures"))
    canvas.rect(100, 100, 50, 50)
    canvas.save()
    return (tmp_path / "pictures").read_bytes()


def _locked_zip() -> bytes:
    raw = bytearray(_zipped({"word/document.xml": b"<x/>", "[Content_Types].xml": b"<x/>"}))
    for mark, offset in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        at = raw.find(mark)
        while at >= 0:
            raw[at + offset] |= 1
            at = raw.find(mark, at + 4)
    return bytes(raw)


HOSTILE = {
    "zip bomb.docx": (
        lambda _: _zipped({"word/document.xml": bytes(300 * 2**20), "[Content_Types].xml": b"<x/>"}),
        "unpacks to far more",
    ),
    "lying bomb.docx": (lambda _: _lying_bomb(), ""),
    "many parts.epub": (lambda _: _zipped({f"{i}": b"" for i in range(6000)}), "unpacks to far more"),
    "entities.docx": (lambda _: _zipped({"word/document.xml": BOMB, "[Content_Types].xml": b"<x/>"}), "entities"),
    "entities.odt": (
        lambda _: _zipped({"mimetype": b"application/vnd.oasis.opendocument.text", "content.xml": BOMB}),
        "entities",
    ),
    "entities.epub": (lambda _: _zipped({"META-INF/container.xml": CONTAINER, "b.opf": OPF, "a.xhtml": BOMB}), "entities"),
    "outside.epub": (lambda _: _zipped({"../../outside.txt": b"x", "META-INF/container.xml": CONTAINER}), "point outside"),
    "absolute.docx": (lambda _: _zipped({"/etc/outside": b"x", "word/document.xml": b"<x/>"}), "point outside"),
    "one line.txt": (lambda _: b"word " * (200 * 2**20 // 5), "larger than"),
    "one long line.txt": (lambda _: b"a" * (60 * 2**20), "far more words"),
    "many words.txt": (lambda _: b"so " * (20 * 2**20), "far more words"),
    "locked.docx": (lambda _: b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(5000), "locked with a password"),
    "locked zip.docx": (lambda _: _locked_zip(), "locked with a password"),
    "locked.pdf": (_locked_pdf, "locked with a password"),
    "pictures.pdf": (_pictures_pdf, "pictures of pages"),
    "cut.pdf": (lambda _: b"%PDF-1.7\n1 0 obj << /Type", "not a readable PDF"),
    "empty.epub": (lambda _: b"", "is empty"),
    "photographs.docx": (lambda _: _zipped({"a.jpg": b"x"}), "without a manuscript"),
    "sound.txt": (lambda _: b"RIFF\x24\x00\x00\x00WAVEfmt " + bytes(range(256)) * 40, "not a text file"),
    "deep.html": (lambda _: b"<html>" + b"<div>" * 200_000, ""),
    "deep.rtf": (lambda _: b"{\\rtf1 " + b"{" * 600_000, "nests too deeply"),
    "no words.html": (lambda _: b"<!DOCTYPE html><html><body><script>x</script></body></html>", "no words"),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_a_hostile_file_is_one_clear_message(tmp_path, name):
    make, words = HOSTILE[name]
    path = tmp_path / name
    path.write_bytes(make(tmp_path))
    tracemalloc.start()
    began = time.process_time()
    try:
        with pytest.raises(FileProblem) as caught:
            read_manuscript(path)
        peak = tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()
    assert name in str(caught.value)
    assert words in str(caught.value)
    assert "\n" not in str(caught.value)
    assert len(str(caught.value)) < 200
    assert peak < 700 * 2**20
    assert time.process_time() - began < 60  # a hang, not a slow machine
    assert not (tmp_path.parent / "outside.txt").exists()


@pytest.mark.slow
@pytest.mark.parametrize("name", MAKERS)
def test_mutated_manuscripts_are_read_or_refused(made, tmp_path, name):
    """Two seconds each; every third file is an archive whose parts were mutated before packing."""
    raw = (made / name).read_bytes()
    rng = random.Random(name)
    until = time.monotonic() + 2
    tried = 0
    while time.monotonic() < until:
        data = mutated(raw, rng)
        if raw.startswith(b"PK") and tried % 3:
            with zipfile.ZipFile(io.BytesIO(raw)) as archive:
                parts = {n: archive.read(n) for n in archive.namelist()}
            victim = rng.choice(sorted(parts))
            parts[victim] = mutated(parts[victim], rng)
            data = _zipped(parts)
        path = tmp_path / name
        path.write_bytes(data)
        tried += 1
        with contextlib.suppress(AppError):  # anything else would be a traceback for the user
            assert any(c.words for c in read_manuscript(path).chapters)
    assert tried > 5


def test_every_suffix_that_is_offered_is_made_here():
    assert {s for n in MAKERS for s in [n[n.rindex(".") :]]} <= set(SUFFIXES)


VERSE = ("The tide is out,", "The lamps are lit,", "— And nobody goes home.")


def write_verse(path):
    """Three lines of verse in one paragraph, between two of prose."""
    if path.suffix == ".docx":
        document = docx.Document()
        document.add_heading("Chapter One", 1)
        document.add_paragraph("She sang it once more.")
        document.add_paragraph("\n".join(VERSE))
        document.add_paragraph("Then she slept.")
        document.save(path)
    elif path.suffix == ".odt":
        made = OpenDocumentText()
        for n, text in enumerate(("She sang it once more.", *VERSE, "Then she slept.")):
            if n in (0, 1, 4):
                row = P()
                made.text.addElement(row)
            else:
                row.addElement(LineBreak())
            row.addText(text)
        made.save(str(path))
    elif path.suffix == ".html":
        body = "".join(f"<p>{text}</p>" for text in ("She sang it once more.", "<br/>".join(VERSE), "Then she slept."))
        path.write_text(f"<html><body>{body}</body></html>", encoding="utf-8")
    else:
        wrapped = "She sang it once more, and the harbour went\non listening, though nobody in it said a\nword."
        path.write_text("\n\n".join((wrapped, "\n".join(VERSE), "Then she slept.")), encoding="utf-8")


@pytest.mark.parametrize("suffix", [".docx", ".odt", ".html", ".txt", ".md"])
def test_lines_of_verse_stay_lines(tmp_path, suffix):
    path = tmp_path / f"verse{suffix}"
    write_verse(path)
    (chapter,) = read_manuscript(path).chapters
    words = chapter.words
    first = next(k for k, w in enumerate(words) if w.text == "The")
    lines = " ".join(w.text if not w.line else f"/ {w.text}" for w in words[first : first + 13])
    if suffix == ".md":  # where two spaces or a backslash end a line, which these do not
        assert not any(w.line for w in words)
    else:
        assert lines.startswith("The tide is out, / The lamps are lit, / —And nobody goes home.")
        assert sum(w.line for w in words) == 2


@pytest.mark.parametrize(
    ("block", "width", "verse"),
    [
        ("The tide is out,\nThe lamps are lit,", 70, True),
        ("The tide is out,\nand the lamps are lit,", 70, False),  # no capital
        ("Nell went to see Mr. Gray, who was the harbour master of\nGreat Sallow.", 58, False),  # prose, wrapped before a name
        ("The tide is out, and all the lamps of the town are lit again\nBy one who waits.", 60, False),
        ("One line", 70, False),
        ("", 70, False),
    ],
)
def test_prose_that_is_wrapped_before_a_capital_is_no_verse(block, width, verse):
    assert is_verse(block, width) is verse
