"""A chapter heard as it stands: only where it was changed, and what was found there in recording time."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest
import soundfile

from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import PlaceAsItStands, PlaceHearing
from faithful_reel.core.book.demo import demo_files
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.packing import reel_key
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import SignalError
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import Lane, Piece, Reel, reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.work import hearing_again as work
from faithful_reel.core.work.hearing_again import changed_words, heard_as_it_stands, needs_again
from faithful_reel.core.work.timeline import Hearing, finding_spans, tokens_of

RATE = 44_100
WORD = RATE // 2
TEXT = chapter_of("one", ["one two three four five six seven eight nine ten", "eleven twelve thirteen fourteen fifteen sixteen"])


def made(reel=None):
    """A chapter of sixteen words of half a second each."""
    count = len(TEXT.words)
    heard = tuple(Heard(w.text, k * WORD, k * WORD + WORD * 3 // 4, 1.0) for k, w in enumerate(TEXT.words))
    hearing = Hearing(
        heard, tuple(Placed(h.start, h.stop, 1.0) for h in heard), tuple((k, k + 1, k, k + 1, True) for k in range(count))
    )
    reel = reel or reel_of("r", count * WORD)
    chapter = ChapterState("c1", "one", "t", "r", "h", (), reel)
    book = Book(rate=RATE, chapters=(chapter,), recordings=(Recording("r", "r", ".wav", RATE, 1, count * WORD, 0, 0, 0, None),))
    return book, chapter, hearing


def cut(reel, first, stop):
    """Without the sound of some words, closed up."""
    piece = reel.lanes[0].segments[0]
    parts = (replace(piece, stop=first * WORD), replace(piece, start=stop * WORD))
    return Reel((Lane("one", parts),))


def changed(book, chapter, hearing):
    found = changed_words(chapter.reel, tokens_of(book, chapter, [w.text for w in TEXT.words], hearing), [0] * len(TEXT.words))
    assert {lane for lane, _ in found} <= {0}
    return [words for _, words in found]


def test_what_was_not_touched_is_not_heard():
    book, chapter, hearing = made()
    assert changed(book, chapter, hearing) == []
    assert not needs_again(chapter)


def test_the_words_beside_a_cut_and_those_in_it():
    _, chapter, _ = made()
    book, chapter, hearing = made(cut(chapter.reel, 5, 7))
    assert changed(book, chapter, hearing) == [range(4, 8)]
    assert needs_again(chapter)
    assert not needs_again(replace(chapter, heard_as=reel_key(chapter.reel)))


def test_a_split_changes_nothing():
    _, chapter, _ = made()
    piece = chapter.reel.lanes[0].segments[0]
    split = Reel((Lane("one", (replace(piece, stop=6 * WORD), replace(piece, start=6 * WORD))),))
    book, chapter, hearing = made(split)
    assert changed(book, chapter, hearing) == []
    assert not needs_again(chapter)


def test_a_beginning_or_end_that_is_gone_is_told():
    _, chapter, _ = made()
    piece = chapter.reel.lanes[0].segments[0]
    book, chapter, hearing = made(Reel((Lane("one", (replace(piece, start=2 * WORD, stop=13 * WORD),)),)))
    assert changed(book, chapter, hearing) == [range(3), range(12, 16)]


def test_changes_near_one_another_are_heard_together():
    piece = Piece("r", 0, 16 * WORD)
    parts = (replace(piece, stop=3 * WORD), replace(piece, start=4 * WORD, stop=6 * WORD), replace(piece, start=7 * WORD))
    book, chapter, hearing = made(Reel((Lane("one", parts),)))
    assert changed(book, chapter, hearing) == [range(2, 8)]


def finding(name, word, **more):
    return Finding(name, Kind.SKIPPED, "x", "", word, 1, word * WORD, word * WORD + 99, 0.9, **more)


def test_what_an_earlier_such_hearing_found_gives_way_and_what_was_touched_stays():
    book, _, _ = made()
    before = (finding("f0001", 5), finding("e0001", 5), finding("e0002", 6, note="mind this"), finding("e0003", 12))
    book = PlaceHearing("c1", "h", before, 2).apply(book)
    after = PlaceAsItStands("c1", "key", (finding("", 7),)).apply(book).chapters[0]
    assert [f.id for f in after.findings] == ["f0001", "e0002", "e0004"]
    assert after.heard_as == "key"


def test_a_chapter_that_is_heard_anew_keeps_what_was_found_in_its_reel_and_asks_for_it_again():
    _, chapter, _ = made()
    book, chapter, _ = made(cut(chapter.reel, 5, 7))
    book = PlaceAsItStands("c1", reel_key(chapter.reel), (finding("", 5),)).apply(book)
    assert not needs_again(book.chapters[0])
    book = PlaceHearing("c1", "h2", (finding("f0001", 10),), 2).apply(book)
    assert [f.id for f in book.chapters[0].findings] == ["e0001", "f0001"]
    assert needs_again(book.chapters[0])


def test_what_was_put_back_is_heard_again_so_that_nothing_stale_stays():
    _, whole, _ = made()
    book, chapter, _ = made(cut(whole.reel, 5, 7))
    chapter = PlaceAsItStands("c1", reel_key(chapter.reel), (finding("", 5),)).apply(book).chapters[0]
    back = replace(chapter, reel=whole.reel)
    assert needs_again(back)
    after = PlaceAsItStands("c1", reel_key(back.reel), ()).apply(replace(book, chapters=(back,))).chapters[0]
    assert after.findings == ()
    assert not needs_again(after)


def told_of(monkeypatch, *known, cut_at=(5, 7)):
    """What is told where the ears find word 8 skipped in a chapter in which these findings are known."""
    _, chapter, _ = made()
    book, chapter, hearing = made(cut(chapter.reel, *cut_at))
    chapter = replace(chapter, findings=known)
    here = Finding("", Kind.SKIPPED, "x", "", 8, 1, 32_000, 32_100, 0.9)
    monkeypatch.setattr(work, "_heard", lambda *_: work._Stretch(0, 4 * WORD, (here,)))
    return heard_as_it_stands(book, chapter, TEXT, hearing, None, None, Unwatched()).findings


def test_a_finding_that_is_known_is_not_told_twice(monkeypatch):
    assert told_of(monkeypatch, finding("f0001", 8, decision=Decision.STET)) == ()
    assert told_of(monkeypatch, finding("f0001", 8)) == ()
    assert len(told_of(monkeypatch, finding("f0001", 9))) == 1


def test_a_mend_that_did_not_mend_is_told(monkeypatch):
    assert len(told_of(monkeypatch, finding("f0001", 8, decision=Decision.MEND))) == 1


def test_what_lost_its_sound_or_gives_way_hides_nothing(monkeypatch):
    assert len(told_of(monkeypatch, finding("f0001", 8), cut_at=(8, 10))) == 1
    assert len(told_of(monkeypatch, finding("e0001", 8))) == 1


@pytest.mark.parametrize(("begin", "end", "first"), [(0.9, 1.4, 6), (0.2, 1.05, 0), (1.0, 1.0, 6)])
def test_a_finding_at_a_join_is_still_heard_in_the_reel(monkeypatch, begin, end, first):
    """Words 2 to 5 are cut; of a finding over the join the part that is heard most is told, which no other cut takes."""
    _, chapter, _ = made()
    book, chapter, hearing = made(cut(chapter.reel, 2, 6))
    here = Finding("f1", Kind.MISREAD, "two", "too", 1, 1, round(begin * 16_000), round(end * 16_000), 0.8)
    monkeypatch.setattr(work, "_heard", lambda *_: work._Stretch(0, 0, (here,)))
    (found,) = heard_as_it_stands(book, chapter, TEXT, hearing, None, None, Unwatched()).findings
    assert first * WORD <= found.start < (first + 2) * WORD
    (span,) = finding_spans(chapter, [found])
    assert span is not None
    assert abs(span.start - max(begin, 1.0 if first else 0) * RATE) < 10


def test_findings_without_their_sound_are_counted(monkeypatch):
    _, chapter, _ = made()
    book, chapter, hearing = made(cut(chapter.reel, 5, 7))
    chapter = replace(chapter, findings=(finding("f1", 5), finding("f2", 10), finding("f3", 6, decision=Decision.MEND)))
    monkeypatch.setattr(work, "_heard", lambda *_: work._Stretch(0, 4 * WORD, ()))
    found = heard_as_it_stands(book, chapter, TEXT, hearing, None, None, Unwatched())
    assert found.gone == 1
    assert found.places == 1


def test_places_are_told_in_the_recording_that_is_heard_there(monkeypatch):
    _, chapter, _ = made()
    book, chapter, hearing = made(cut(chapter.reel, 5, 7))
    here = Finding("f1", Kind.MISREAD, "eight", "ate", 7, 1, 32_000, 40_000, 0.8)  # 2.0 s into the stretch, at 16 kHz
    monkeypatch.setattr(work, "_heard", lambda *_: work._Stretch(0, 4 * WORD, (here,)))
    (found,) = heard_as_it_stands(book, chapter, TEXT, hearing, None, None, Unwatched()).findings
    assert found.word_index == 7
    assert found.start == 4 * WORD + 2 * RATE + 2 * WORD  # behind the cut, so two words later in the recording
    assert found.recording == ""


def test_words_that_were_laid_over_with_silence_are_told(monkeypatch):
    _, chapter, _ = made()
    book, chapter, hearing = made(cut(chapter.reel, 5, 7))

    def nobody(*_):
        raise SignalError("Nobody speaks in this recording.")

    monkeypatch.setattr(work, "_heard", nobody)
    (found,) = heard_as_it_stands(book, chapter, TEXT, hearing, None, None, Unwatched()).findings
    assert (found.kind, found.word_index, found.word_count) == (Kind.SKIPPED, 4, 4)
    assert found.written == "five six seven eight"
    assert found.start == 4 * WORD


@pytest.mark.slow
def test_a_word_that_an_edit_took_is_found_by_the_real_ears(ears):
    """The demo's first chapter: a word is cut out of a sentence; the ears find it missing, and only there."""
    files = demo_files()
    text = read_script(files / "chapter-1.txt")
    sound = files / "chapter-1.flac"
    truth = json.loads((files / "truth.json").read_text())["chapter-1"]
    times = {k: (round(a * RATE), round(b * RATE)) for k, a, b in truth["words"]}
    placed = tuple(Placed(*times[k], 1.0) if k in times else None for k in range(len(text.words)))
    hearing = Hearing((), placed, ())
    length = soundfile.info(str(sound)).frames
    word = next(k for k, w in enumerate(text.words) if w.text == "ferry")
    reel = CutAndClose(times[word][0], times[word][1]).apply(reel_of("r", length))
    chapter = ChapterState("c1", "one", "t", "r", "h", (), reel)
    book = Book(rate=RATE, chapters=(chapter,), recordings=(Recording("r", "r", ".flac", RATE, 1, length, 0, 0, 0, None),))
    sources = FileSources(lambda _: sound)
    found = heard_as_it_stands(book, chapter, text, hearing, lambda r: Renderer(r, sources), ears, Unwatched(), Memory())
    sources.close()
    assert [(f.kind, f.word_index) for f in found.findings] == [(Kind.SKIPPED, word)]
    assert abs(found.findings[0].start - times[word][0]) < RATE
    assert found.places == 1
