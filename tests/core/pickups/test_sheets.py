"""The call sheet in every format, read back by other libraries than wrote it, and what goes out with it."""

from __future__ import annotations

import base64
import csv
import io
import re
import zipfile
from dataclasses import replace

import docx
import numpy as np
import openpyxl
import pytest
import soundfile
from lxml import html as lxml_html
from support.chapters import LENGTH, RATE, TEXT, TOKENS, made, place

from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.pickups.ledger import Pickup, Round, State, Want
from faithful_reel.core.pickups.sheets import FORMATS, HEADINGS, WRITERS, Sheet, SheetLine, html_sheet, sheet_as
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.work.asking import sentence_before
from faithful_reel.core.work.sending import CLIPS, GAP_S, LEAD_S, Sending, sheet_of, write_round

HOSTILE = '=HYPERLINK("x") <b>&amp;</b> \x07 … “quoted” \ud800 \udc80'


def line(number=1, **more):
    row = SheetLine(
        number, "Low Water", 12, "0:01:15", ("Write", "“that”", "down,", "please."), frozenset({1}), "this", Want.EMPHASIS,
        "softer", (("tarrow", "TA-roh"),), "He put the pen down.", "001.wav",
    )  # fmt: skip
    return replace(row, **more)


SHEET = Sheet(
    "The Tide Clerk: call sheet, round 2",
    "2 lines. Due 2026-12-05.",
    (line(), line(2, tokens=("Go", "on."), marked=frozenset(), clip="")),
)


def text_of(data, suffix):
    """All that a reader sees."""
    if suffix == ".csv":
        return data.decode("utf-8-sig")
    if suffix == ".html":
        return lxml_html.fromstring(data).text_content()
    if suffix == ".docx":
        return "\n".join(p.text for p in docx.Document(io.BytesIO(data)).paragraphs)
    if suffix == ".xlsx":
        rows = openpyxl.load_workbook(io.BytesIO(data)).active.iter_rows(values_only=True)
        return "\n".join(" | ".join(str(c) for c in row if c is not None) for row in rows)
    from pdfminer.high_level import extract_text

    return extract_text(io.BytesIO(data))


@pytest.mark.parametrize("suffix", FORMATS)
def test_every_format_says_all_that_the_narrator_needs(suffix):
    told = " ".join(text_of(WRITERS[suffix](SHEET), suffix).split())
    for words in (
        "Low Water", "12", "0:01:15", "Write “that” down, please.", "this", "emphasis", "softer", "tarrow: TA-roh",
        "He put the pen down.", "Go on.",
    ):  # fmt: skip
        assert words in told, words
    if suffix not in (".csv", ".xlsx"):
        assert "call sheet, round 2" in told
        assert "Due 2026-12-05" in told
        assert told.index("Write “that”") < told.index("Go on.")


@pytest.mark.parametrize("suffix", FORMATS)
def test_words_from_outside_do_nothing_but_stand_there(suffix):
    hostile = line(
        tokens=tuple(HOSTILE.split(" ")), marked=frozenset({0}), note=HOSTILE, heard=HOSTILE, chapter=HOSTILE, before=HOSTILE
    )
    data = WRITERS[suffix](Sheet(HOSTILE, HOSTILE, (hostile,)))
    told = text_of(data, suffix)
    assert "<b>&amp;</b>" in told.replace("\n", "")
    if suffix == ".xlsx":
        cells = openpyxl.load_workbook(io.BytesIO(data)).active[2]
        assert all(c.data_type != "f" for c in cells)
    if suffix == ".csv":
        [row] = list(csv.reader(io.StringIO(told)))[1:]
        assert all(not cell.startswith(("=", "+", "-", "@")) for cell in row)


def test_the_words_to_mind_are_marked():
    assert line().runs() == [("Write", False), ("“that”", True), ("down, please.", False)]
    page = lxml_html.fromstring(html_sheet(SHEET))
    assert [m.text for m in page.iter("mark")] == ["“that”"]
    document = docx.Document(io.BytesIO(WRITERS[".docx"](SHEET)))
    marked = [r.text.strip() for p in document.paragraphs for r in p.runs if r.underline]
    assert marked == ["“that”"]
    book = openpyxl.load_workbook(io.BytesIO(WRITERS[".xlsx"](SHEET)), rich_text=True)
    rich = book.active["E2"].value
    assert [str(part).strip() for part in rich if part.font.u] == ["“that”"]


def test_the_table_has_a_cell_for_every_heading():
    rows = list(csv.reader(io.StringIO(WRITERS[".csv"](SHEET).decode("utf-8-sig"))))
    assert rows[0] == list(HEADINGS)
    assert [len(r) for r in rows] == [len(HEADINGS)] * 3
    assert dict(zip(HEADINGS, rows[1], strict=True))["words to watch"] == "“that”"
    assert dict(zip(HEADINGS, rows[2], strict=True))["clip"] == ""


def test_a_page_holds_its_sounds_or_points_to_them():
    alone = lxml_html.fromstring(html_sheet(SHEET, {"001.wav": b"sound"}))
    [source] = [a.get("src") for a in alone.iter("audio")]
    assert base64.b64decode(source.removeprefix("data:audio/mpeg;base64,")) == b"sound"
    beside = lxml_html.fromstring(html_sheet(SHEET, folder="clips"))
    assert [a.get("src") for a in beside.iter("audio")] == ["clips/001.wav"]
    assert list(lxml_html.fromstring(html_sheet(SHEET)).iter("audio")) == []


def test_a_format_that_there_is_not_is_told():
    with pytest.raises(FileProblem, match=r"can not be written as \.odt"):
        sheet_as(SHEET, ".odt")


@pytest.mark.published("RFC 4180, section 2: records, quotes and line ends of comma-separated values")
def test_the_call_sheet_is_comma_separated_as_published():
    words = 'He said, “Low water,” and "no more"; then he left'
    text = WRITERS[".csv"](Sheet("t", "", (line(tokens=tuple(words.split()), heard='no "more", then'),))).decode("utf-8-sig")
    rows = list(csv.reader(io.StringIO(text, newline=""), strict=True))
    assert rows[1][4] == words
    assert rows[1][6] == 'no "more", then'
    assert text.endswith("\r\n")  # each record on a line of its own, ended by CRLF
    assert '""more""' in text  # a quote inside a field is doubled


# --- what goes out ---------------------------------------------------------------------------------------------------


def tone(_recording, start, stop):
    x = np.sin(2 * np.pi * 300 * np.arange(start, stop) / RATE).astype(np.float32) * 0.2
    return np.where(np.arange(start, stop) >= 0, x, 0).astype(np.float32)


@pytest.fixture
def state():
    book, chapter, hearing = made()
    found = Finding("f", Kind.MISREAD, "green", "great", 7, 1, place(7), place(7) + LENGTH, 0.9)
    chapter = replace(chapter, findings=(found,), title="One: Low Water")
    first = Pickup("p", "c1", ("f",), " ".join(TOKENS[4:11]), "great", 4, 7, place(7), place(7) + LENGTH, note="softer")
    last = Pickup("q", "c1", (), " ".join(TOKENS[11:13]), "", 11, 2, place(11), place(12), want=Want.TONE)
    book = replace(book, chapters=(chapter,), pickups=(first, last), title="The Tide Clerk", say=(("green", "GREEN"),))
    return book, hearing, Round(3, ("p", "q"), "2026-11-28", "2026-12-05", note="Mind the wind.")


def render_of(reel):
    return Renderer(reel, tone)


def sent(state, target, sending=None):
    book, hearing, found = state
    return write_round(target, book, found, lambda _: TEXT, lambda _: hearing, render_of, sending)


def test_a_sheet_is_made_of_the_book(state):
    book, hearing, found = state
    sheet = sheet_of(book, found, lambda _: TEXT, lambda _: hearing, ".wav")
    assert sheet.title == "The Tide Clerk: call sheet, round 3"
    assert "2 lines. Due 2026-12-05. Mind the wind." in sheet.told
    first, last = sheet.lines
    assert (first.number, first.chapter, first.note, first.clip) == (1, "One: Low Water", "softer", "001.wav")
    assert [t for k, t in enumerate(first.tokens) if k in first.marked] == ["green"]
    assert first.say == (("green", "GREEN"),)
    assert first.before == "The tide went out."
    assert (last.want, last.before) == (Want.TONE, " ".join(TOKENS[4:11]))
    assert sheet_of(book, found, lambda _: TEXT, lambda _: hearing).lines[0].clip == ""


@pytest.mark.parametrize(
    ("first", "before"), [(0, ""), (3, "She came in."), (7, "He rose, and bowed,"), (8, "He rose, and bowed, for")]
)
def test_what_stands_before_a_line_is_its_own_sentence_up_to_it_or_the_one_before(first, before):
    text = chapter_of("", ["She came in. He rose, and bowed, for he knew."])
    assert sentence_before(text, Pickup("p", "c1", (), "", "", first, 2, 0, 1)) == before


def test_a_folder_holds_sheets_clips_and_all_clips_in_one(state, tmp_path):
    target = tmp_path / "round-3"
    names = sent(state, target)
    assert sorted(names) == sorted(str(p.relative_to(target)) for p in target.rglob("*") if p.is_file())
    assert {f"call-sheet{s}" for s in FORMATS} <= set(names)
    clips = [soundfile.read(target / CLIPS / f"00{k}.wav") for k in (1, 2)]
    start = max(0, place(4) - round(LEAD_S * RATE))
    x = tone("r1", start, start + len(clips[0][0]))
    assert clips[0][1] == RATE
    assert np.allclose(clips[0][0][2000:-2000], x[2000:-2000], atol=2**-22)
    assert clips[0][0][0] == 0  # no click where it begins
    assert len(clips[0][0]) == place(10) + LENGTH + 2 * RATE - start
    all_, _ = soundfile.read(target / "all-clips.wav")
    assert len(all_) == sum(len(c) for c, _ in clips) + 2 * round(GAP_S * RATE)
    assert not [p for p in tmp_path.iterdir() if p != target]  # nothing half-written is left


def test_numbers_are_said_before_the_clips_in_the_long_one_where_a_voice_can(state, tmp_path):
    sending = Sending((".csv",), spoken=True)
    book, hearing, found = state
    args = (book, found, lambda _: TEXT, lambda _: hearing, render_of, sending, None)
    write_round(tmp_path / "a", *args, lambda k: np.full(RATE // 2, 0.25, np.float32) if k == 1 else None)
    write_round(tmp_path / "b", *args)
    with_number, without = (soundfile.read(tmp_path / n / "all-clips.wav")[0] for n in ("a", "b"))
    more = RATE // 2 + round(GAP_S * RATE)
    assert len(with_number) == len(without) + more
    assert np.allclose(with_number[1000 : RATE // 2 - 1000], 0.25, atol=1e-3)
    assert np.array_equal(with_number[more:], without)


def test_one_zip_and_a_page_that_holds_its_sounds(state, tmp_path):
    sending = Sending((".html",), ".flac", long_clip=False, as_zip=True, page_with_sounds=True)
    names = sent(state, tmp_path / "r.zip", sending)
    with zipfile.ZipFile(tmp_path / "r.zip") as packed:
        assert sorted(packed.namelist()) == sorted(names)
        assert packed.testzip() is None
        page = packed.read("call-sheet-with-sounds.html").decode()
    assert len(re.findall("data:audio/mpeg;base64,", page)) == 2
    assert not any(n.startswith("all-clips") for n in names)


def test_a_line_that_is_not_heard_has_no_clip_but_stands_on_the_sheet(state, tmp_path):
    book, hearing, found = state
    cut = CutAndClose(place(11) - 500, place(13)).apply(book.chapters[0].reel)
    book = replace(book, chapters=(replace(book.chapters[0], reel=cut),))
    names = write_round(tmp_path / "r", book, found, lambda _: TEXT, lambda _: hearing, render_of)
    assert [n for n in names if n.startswith(CLIPS)] == [f"{CLIPS}/001.wav"]
    assert " ".join(TOKENS[11:13]) in (tmp_path / "r" / "call-sheet.csv").read_text(encoding="utf-8-sig")
    assert book.pickups[0].state is State.TO_SEND


def test_nothing_is_written_over_and_a_folder_that_is_not_there_is_told(state, tmp_path):
    (tmp_path / "r").mkdir()
    (tmp_path / "r" / "mine.txt").write_text("mine")
    with pytest.raises(FileProblem, match="there already"):
        sent(state, tmp_path / "r")
    assert [p.name for p in (tmp_path / "r").iterdir()] == ["mine.txt"]
    with pytest.raises(FileProblem, match="could not be written"):
        sent(state, tmp_path / "no" / "r")


def test_a_disk_that_fails_leaves_nothing(state, tmp_path, monkeypatch):
    from faithful_reel.core.work import sending

    def full(*_a, **_k):
        raise FileProblem("The disk is full.")

    monkeypatch.setattr(sending, "write_bytes", full)
    with pytest.raises(FileProblem, match="disk is full"):
        sent(state, tmp_path / "r")
    assert list(tmp_path.iterdir()) == []
