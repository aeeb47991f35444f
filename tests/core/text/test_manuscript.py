"""Reading manuscripts."""

from __future__ import annotations

import contextlib

import docx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_reel.core.errors import AppError, FileProblem
from faithful_reel.core.text.manuscript import read_manuscript, read_script
from faithful_reel.core.text.words import Word, chapter_of, closed_up, ends_sentence


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


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("« Bonjour », dit-elle.", ["«Bonjour»,", "dit-elle."]),
        ("The harbour – and the wall", ["The", "harbour–", "and", "the", "wall"]),
        ("— Who is there ?", ["—Who", "is", "there?"]),
        ("« — Oui »", ["«—Oui»"]),
        ("wait …", ["wait…"]),
        ("— …", []),
        ("A & B + 5 %", ["A", "&", "B", "+", "5", "%"]),
        ("¿ Quién ?", ["¿Quién?"]),
    ],
)
def test_marks_that_stand_alone_are_no_words(line, words):
    assert [w.text for w in closed_up([Word(t, 0, 0) for t in line.split()])] == words


@given(st.lists(st.text("ab«»–—.… ,!'()", min_size=1, max_size=4).filter(lambda t: not any(c.isspace() for c in t)), max_size=8))
def test_closing_up_loses_no_letter_and_no_word(tokens):
    spoken = [t for t in tokens if any(c.isalnum() for c in t)]
    made = [w.text for w in closed_up([Word(t, 0, 0) for t in tokens])]
    assert len(made) == len(spoken)
    assert all(s in m for s, m in zip(spoken, made, strict=True))


@pytest.mark.published("Unicode Standard Annex 9: bidirectional classes R and AL")
@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("הים נסוג רחוק מכפי שמישהו בנמל יכול היה לזכור", "from right to left"),
        ("ابتعد المد أكثر مما يتذكره أي شخص في الميناء", "from right to left"),
        ("潮は港の誰もが覚えているよりも遠くまで引いていた。", "without spaces"),
        ("น้ำลงไปไกลกว่าที่ใครในท่าเรือจะจำได้", "without spaces"),
    ],
)
def test_what_can_not_be_set_is_refused_in_one_line(tmp_path, text, why):
    path = tmp_path / "m.txt"
    path.write_text(f"Chapter One\n\n{text}\n", encoding="utf-8")
    for reader in (read_manuscript, read_script):
        with pytest.raises(FileProblem, match=why) as told:
            reader(path)
        assert "m.txt" in str(told.value)
        assert "\n" not in str(told.value)


def test_a_quotation_in_another_script_is_no_reason_to_refuse(tmp_path):
    path = tmp_path / "m.txt"
    path.write_text(
        "Chapter One\n\nShe read the word שלום on the wall, and under it 潮, and went on along the harbour.\n", "utf-8"
    )
    assert len(read_manuscript(path).chapters[0].words) == 20


@pytest.mark.parametrize(
    ("token", "following", "ends"),
    [
        ("late.", "41", True),
        ("late.", "“41", True),
        ("late.", "He", True),
        ("late.", "he", False),
        ("late.”", "he", False),
        ("late.", "“he", True),
        ("late.", "—He", True),
        ("late", "He", False),
        ("Mr.", "41", False),
        ("J.", "41", False),
        ("late?", "4", True),
        ("late.", None, True),
        ("late", None, True),
    ],
)
def test_where_a_sentence_ends(token, following, ends):
    assert ends_sentence(token, following) is ends
