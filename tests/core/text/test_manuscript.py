"""Reading manuscripts."""

from __future__ import annotations

import contextlib

import docx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_reel.core.errors import AppError, FileProblem
from faithful_reel.core.text.manuscript import read_manuscript, read_script
from faithful_reel.core.text.words import chapter_of


def test_docx_and_text_give_the_same_book(demo):
    word, text = read_manuscript(demo / "manuscript.docx"), read_manuscript(demo / "manuscript.txt")
    assert word.title == text.title == "The Tide Clerk"
    assert word.author == text.author == "Ottoline Varrow"
    assert [c.title for c in word.chapters] == [c.title for c in text.chapters]
    assert [[w.text for w in c.words] for c in word.chapters] == [[w.text for w in c.words] for c in text.chapters]
    assert [c.sentences() for c in word.chapters] == [c.sentences() for c in text.chapters]


def test_chapters_start_at_their_headings_and_front_matter_is_left_out(demo):
    book = read_manuscript(demo / "manuscript.txt")
    assert [c.title for c in book.chapters] == ["Chapter One: Low Water", "Chapter Two: The Visitor", "Chapter Three: High Water"]
    assert [w.text for w in book.chapters[0].words[:5]] == ["Chapter", "One", "Low", "Water", "The"]


def test_a_script_counts_whitespace_tokens(demo):
    path = demo / "chapter-1.txt"
    assert [w.text for w in read_script(path).words] == path.read_text(encoding="utf-8").split()


@pytest.mark.parametrize(
    ("text", "sentences"),
    [
        ("Mr. Gray went out. He came back.", 2),
        ("“Stop!” she said. “Now.”", 2),
        ("“Is it late?” asked Nell. It was.", 2),
        ("He saw J. Tarrow, of No. 4. Then he left.", 2),
        ("Well… perhaps not.", 1),
    ],
)
def test_sentences(text, sentences):
    assert len(chapter_of("x", [text]).sentences()) == sentences


def test_italics_and_runs_inside_a_word_survive(tmp_path):
    document = docx.Document()
    document.add_heading("Chapter One", 1)
    paragraph = document.add_paragraph()
    paragraph.add_run("The ")
    paragraph.add_run("Heron").italic = True
    paragraph.add_run("’s deck was un")
    paragraph.add_run("swept.")
    document.save(tmp_path / "a.docx")
    words = read_manuscript(tmp_path / "a.docx").chapters[0].words
    assert [w.text for w in words] == ["Chapter", "One", "The", "Heron’s", "deck", "was", "unswept."]
    assert [w.italic for w in words].index(True) == 3


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_encodings(tmp_path, encoding):
    (tmp_path / "a.txt").write_bytes("Chapter One\n\nThe café’s door stood open.".encode(encoding))
    assert [w.text for w in read_manuscript(tmp_path / "a.txt").chapters[0].words][3] == "café’s"


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("missing.txt", None),
        ("empty.txt", b""),
        ("blank.txt", b"   \n\n \n"),
        ("not.docx", b"this is plain text"),
        ("cut.docx", b"PK\x03\x04 and no more"),
        ("binary.txt", bytes(range(256)) * 20),
    ],
)
def test_bad_files_are_one_clear_line(tmp_path, name, content):
    path = tmp_path / name
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(FileProblem) as caught:
        read_manuscript(path)
    assert name in str(caught.value)
    assert "\n" not in str(caught.value)


@settings(max_examples=60, deadline=None)
@given(at=st.integers(0, 30_000), junk=st.binary(min_size=1, max_size=40))
def test_a_damaged_docx_is_read_or_refused(tmp_path_factory, demo, at, junk):
    raw = bytearray((demo / "manuscript.docx").read_bytes())
    raw[at : at + len(junk)] = junk
    path = tmp_path_factory.mktemp("docx") / "damaged.docx"
    path.write_bytes(raw)
    with contextlib.suppress(AppError):  # anything else would be a traceback for the user
        assert read_manuscript(path).chapters
