"""What of a recording a chapter hears, and how a pickup recording comes in; the ears are made."""

from __future__ import annotations

import itertools
from contextlib import contextmanager
from dataclasses import replace

import pytest
from support.chapters import LENGTH, RATE, TEXT, TOKENS, made, place
from support.sounds import sine

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.links import Link
from faithful_reel.core.collate.proofing import Placed, Proof
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.pickups.judging import Leftover, LineTakes, Session
from faithful_reel.core.pickups.ledger import Pickup, Take, Unmatched
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.units import EAR_RATE, Span
from faithful_reel.core.work import hearing as hearing_of_chapters
from faithful_reel.core.work import receiving
from faithful_reel.core.work.hearing import heard_chapter, own_stretch

SECOND = Reel((Lane("voice", (Piece("r1", 100_000, 200_000), Piece("r2", 0, 900), Piece("r1", 300_001, 400_001))),))


def test_a_chapter_alone_on_its_recording_hears_all_of_it():
    book, chapter, _ = made()
    assert own_stretch(book, chapter) is None
    elsewhere = replace(chapter, id="c2", recording="r2")
    assert own_stretch(replace(book, chapters=(chapter, elsewhere)), chapter) is None


def test_a_chapter_that_shares_its_recording_hears_its_own_stretch():
    book, chapter, _ = made()
    chapter = replace(chapter, reel=SECOND)
    shared = replace(book, chapters=(chapter, replace(chapter, id="c2")))
    assert own_stretch(shared, chapter) == Span(100_000 * EAR_RATE // RATE, -(-400_001 * EAR_RATE // RATE))
    assert own_stretch(shared, replace(chapter, reel=None)) is None
    take = Reel((Lane("voice", (Piece("r1", 0, 50, take="p"), *SECOND.lanes[0].segments)),))
    assert own_stretch(shared, replace(chapter, reel=take)) == own_stretch(shared, chapter)  # a take is none of it
    cut = replace(chapter, reel=CutAndClose(0, 10).apply(SECOND))
    assert own_stretch(shared, cut).start == 100_010 * EAR_RATE // RATE


@pytest.mark.parametrize("shared", [False, True])
def test_what_is_heard_is_kept_in_time_of_the_whole_recording(monkeypatch, tmp_path, shared):
    """Of a stretch the ears count from its beginning; early proofs as well."""
    book, chapter, _ = made()
    chapter = replace(chapter, reel=SECOND)
    if shared:
        book = replace(book, chapters=(chapter, replace(chapter, id="c2")))
    write_audio(tmp_path / "a.wav", [sine(300, seconds=12, db=-20)[None]], RATE)
    seen = {}

    def proofed(x, text, ears, watch, early, memory, clicks):
        seen.update(samples=len(x), ears=ears, memory=memory, text=text)
        finding = Finding("f1", Kind.MISREAD, "a", "b", 0, 1, 16_000, 17_600, 0.9)
        proof = Proof(
            (Heard("b", 16_000, 17_600, 0.9),), (Placed(16_000, 17_600, 0.9),), (finding,), (Link(range(1), range(1), False),), 1
        )
        if early:
            early(proof)
        return proof

    monkeypatch.setattr(hearing_of_chapters, "proofed", proofed)
    told = []
    made_ = heard_chapter(book, chapter, TEXT, tmp_path / "a.wav", "ears", Unwatched(), told.append, "memory")
    stretch = own_stretch(book, chapter)
    offset = (stretch.start if stretch else 0) * RATE / EAR_RATE
    assert seen["samples"] == (len(stretch) if stretch else 12 * EAR_RATE)
    assert (seen["ears"], seen["memory"], seen["text"]) == ("ears", "memory", TEXT)
    assert made_.findings[0].start == pytest.approx(offset + RATE, abs=3)
    assert made_.hearing.heard[0].start == made_.findings[0].start
    assert made_.hearing.links == ((0, 1, 0, 1, False),)
    assert told == [made_]
    assert heard_chapter(book, chapter, TEXT, tmp_path / "a.wav", "ears", Unwatched()) == made_


# --- receiving --------------------------------------------------------------------------------------------------------

LINE = TOKENS[4:11]


class Ear:
    """Says which passes it was asked for."""

    passes = 0

    @contextmanager
    def busy(self):
        Ear.passes += 1
        yield

    def rest(self):
        pass


def line(name, words=LINE):
    return Pickup(name, "c1", (), " ".join(words), "x", 4, len(words), 0, 1)


@pytest.fixture
def narrator(monkeypatch):
    """What is found in any file: the line twice, the first time with a slip, and a slate."""

    class Asked(list):
        marked = ()

    asked = Asked()

    def session_of(x, lines, ears, recording, rate, watch, memory, marked=()):
        asked.append((len(x), rate, ears))
        asked.marked = list(marked)
        takes = tuple(Take(recording, place(k), place(k) + LENGTH, d, "") for k, d in ((2, 1), (11, 0)))
        rows = tuple(LineTakes(takes, 1) if row == " ".join(LINE) else LineTakes((), -1) for row in lines)
        return Session(rows, (Leftover(0, 900, "take one"),))

    monkeypatch.setattr(receiving, "session_of", session_of)
    return asked


def test_every_line_that_is_read_gets_its_takes_and_what_reads_none_is_told(narrator, tmp_path):
    write_audio(tmp_path / "a.wav", [sine(300, seconds=2, db=-20)[None]], RATE)
    other = line("q", ["Nobody", "mentioned", "umbrellas", "yesterday", "evening"])
    ears = Ear()
    rows, left = receiving.matched_takes(tmp_path / "a.wav", "r9", RATE, [line("p"), other], ears, Unwatched())
    assert narrator == [(2 * EAR_RATE, RATE, ears)]
    [(pickup, takes, best)] = rows
    assert (pickup, best) == ("p", 1)
    assert [t.recording for t in takes] == ["r9", "r9"]
    assert [u.heard for u in left] == ["take one"]


def test_a_recording_is_copied_into_the_book_before_it_is_heard(narrator, tmp_path):
    folder = tmp_path / "a.reelbook"
    BookStore(folder, create=True).close()
    write_audio(tmp_path / "pickups.wav", [sine(300, seconds=2, db=-20)[None]], 48_000)
    chapter = ChapterState("c1", "One", "t", findings=(Finding("f", Kind.MISREAD, "x", "y", 5, 2, 0, 9, 0.9),))
    asked_for = replace(line("p"), findings=("f",))
    book = Book(rate=RATE, chapters=(chapter,))
    got = receiving.received_takes(folder, book, tmp_path / "pickups.wav", [asked_for], Ear, Unwatched())
    assert narrator.marked == [range(1, 3)]
    assert got.recording.name == "pickups.wav"
    assert [row[0] for row in got.matched] == ["p"]
    assert [u.heard for u in got.left] == ["take one"]
    assert {t.recording for t in got.matched[0][1]} == {got.recording.hash}
    assert (folder / "recordings" / got.recording.stored).read_bytes() == (tmp_path / "pickups.wav").read_bytes()
    assert narrator[0][:2] == (29_400, RATE)  # 88,200 samples at 48 kHz, at the rate of the ear


def test_a_recording_without_any_of_the_lines_is_kept_with_its_stretches(narrator, tmp_path):
    folder = tmp_path / "a.reelbook"
    BookStore(folder, create=True).close()
    write_audio(tmp_path / "other.wav", [sine(300, seconds=1, db=-20)[None]], RATE)
    other = line("q", ["Nobody", "mentioned", "umbrellas", "yesterday", "evening"])
    got = receiving.received_takes(folder, Book(rate=RATE), tmp_path / "other.wav", [other], Ear, Unwatched())
    assert got.matched == ()
    assert got.left
    assert (folder / "recordings" / got.recording.stored).is_file()


# --- given by hand ----------------------------------------------------------------------------------------------------

LEFT = Unmatched("r9", RATE, 2 * RATE, "something alike")


@pytest.fixture
def given(monkeypatch, tmp_path):
    """What a stretch of 1 s to 2 s is as a take of four words, of which the ears find those that are told: (start, stop) in s."""
    write_audio(tmp_path / "a.wav", [sine(300, seconds=3, db=-20)[None]], RATE)

    def take(*found):
        def aligned(x, text, ears, watch, memory):
            assert len(x) == pytest.approx(1.3 * EAR_RATE, abs=2)  # with a little on both sides
            assert [w.text for w in text.words] == ["One", "three", "ten", "seventeen"]
            return [f and Placed(*(round((s - 0.85) * EAR_RATE) for s in f), 0.9) for f in found]

        monkeypatch.setattr(receiving, "aligned", aligned)
        got = receiving.given_take(tmp_path / "a.wav", RATE, "One three ten seventeen", LEFT, Ear())
        assert (got.recording, got.start, got.stop, got.heard) == ("r9", RATE, 2 * RATE, "something alike")
        assert all(a <= b for a, b in got.words)
        assert all(a[1] <= b[0] for a, b in itertools.pairwise(got.words))
        return [(round(a / RATE, 3), round(b / RATE, 3)) for a, b in got.words]

    return take


def test_a_stretch_given_by_hand_has_its_words_where_the_ears_find_them(given):
    found = [(1.05, 1.2), (1.2, 1.4), (1.5, 1.6), (1.6, 1.95)]
    assert given(*found) == found


def test_words_that_are_not_found_share_what_is_left_by_their_letters(given):
    assert given((1.05, 1.2), None, None, (1.6, 1.95)) == [(1.05, 1.2), (1.2, 1.45), (1.45, 1.6), (1.6, 1.95)]
    assert given(None, (1.2, 1.4), (1.5, 1.6), None) == [(1.0, 1.2), (1.2, 1.4), (1.5, 1.6), (1.6, 2.0)]


def test_a_stretch_in_which_no_word_is_found_is_shared_by_all(given):
    words = given(None, None, None, None)
    assert (words[0][0], words[-1][1]) == (1.0, 2.0)
    assert [round((b - a) * 20) for a, b in words] == [3, 5, 3, 9]


def test_a_word_found_beside_the_stretch_stays_inside(given):
    assert given((0.9, 1.1), (1.2, 1.4), (1.5, 1.6), (1.9, 2.1)) == [(1.0, 1.1), (1.2, 1.4), (1.5, 1.6), (1.9, 2.0)]
