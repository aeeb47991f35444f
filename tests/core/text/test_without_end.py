"""Texts that no manuscript is: too long, words without end, numbers that no one can say, digits of other scripts."""

from __future__ import annotations

import docx
import pytest
from docx.enum.style import WD_STYLE_TYPE

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.text.document import MOST_LETTERS
from faithful_reel.core.text.manuscript import MOST_SCRIPT, read_manuscript, read_script
from faithful_reel.core.text.spoken import spoken_forms
from faithful_reel.core.text.words import LONGEST_WORD


@pytest.mark.parametrize("token", ["➃", "1➃", "➃th", "£➃", "➃%", "➃:➃", "²", "½➃", "٣٤", "४२", "٣", "x²", "①②", "Ⅻ", "１２"])
def test_digits_of_other_scripts_have_forms_and_raise_nothing(token):
    forms = spoken_forms(token)
    assert forms
    assert all(isinstance(word, str) for form in forms for word in form)


@pytest.mark.parametrize("size", [15, 16, 40, 41, 400, 3_000, 5_000])
@pytest.mark.parametrize("shape", ["{}", "£{}", "{}.{}", "{}/{}", "{}th", "{}s", "-{}", "{}-{}", "a{}b", "{}%", "1,{}", "{}'5"])
def test_numbers_of_any_length_raise_nothing(shape, size):
    number = "7" * size
    forms = spoken_forms(shape.replace("{}", number))
    assert forms
    assert all(len(form) < 6 * LONGEST_WORD for form in forms)


def test_what_can_be_said_is_said_as_before():
    assert ("forty", "two") in spoken_forms("42")
    assert ("nine",) * 16 in spoken_forms("9" * 16)


@pytest.mark.parametrize(
    "content",
    ["w" * 50_000, "word " * (MOST_LETTERS // 5 + 10), "a\n\n" * (MOST_LETTERS // 3 + 10)],
    ids=["one word", "too many words", "too many lines"],
)
@pytest.mark.parametrize("read", [read_script, read_manuscript])
def test_a_text_without_end_is_one_clear_line(tmp_path, content, read):
    path = tmp_path / "a.txt"
    path.write_text(content)
    with pytest.raises(FileProblem, match=r"far more|word of more than") as caught:
        read(path)
    assert "\n" not in str(caught.value)


def test_a_script_is_no_library(tmp_path):
    path = tmp_path / "a.txt"
    path.write_text("to " * (MOST_SCRIPT + 1))
    with pytest.raises(FileProblem, match="text of this recording alone"):
        read_script(path)


@pytest.mark.parametrize("body", ["\\'e9" * 5_000, "a" * 5_000, "\\u8212?" * 5_000])
def test_a_word_without_end_in_rtf_is_told(tmp_path, body):
    (tmp_path / "a.rtf").write_text("{\\rtf1 " + body + " hello}")
    with pytest.raises(FileProblem, match="word without end"):
        read_manuscript(tmp_path / "a.rtf")


@pytest.mark.parametrize("body", ["\\b" * 100_000, "\\s1 " * 100_000, "{" * 50_000, "\\s1 heading " * 40_000])
def test_rtf_of_control_words_ends_soon(tmp_path, body):
    """Quadratic reading would take minutes: the suite would run out of time."""
    (tmp_path / "a.rtf").write_text("{\\rtf1 " + body + " hello there}")
    try:
        made = read_manuscript(tmp_path / "a.rtf")
    except FileProblem:
        return
    assert any(w.text == "there" for c in made.chapters for w in c.words)


def test_a_document_with_many_styles_looks_them_up_once(tmp_path, monkeypatch):
    made = docx.Document()
    for k in range(60):
        made.styles.add_style(f"S{k}", WD_STYLE_TYPE.PARAGRAPH)
    for k in range(200):
        made.add_paragraph(f"Paragraph {k} with words.", style=f"S{k % 60}")
    made.save(tmp_path / "a.docx")
    from docx.styles.styles import Styles

    counted = []
    real = Styles.__iter__
    monkeypatch.setattr(Styles, "__iter__", lambda self: counted.append(1) or real(self))
    assert len(read_manuscript(tmp_path / "a.docx").chapters[0].words) == 800
    assert len(counted) == 1
