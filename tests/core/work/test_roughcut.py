"""A raw recording becomes its last complete readings."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.findings import AGAIN, READING, SURE, Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.proofing import Placed, proofed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import reel_of, source_at
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.work.one_chapter import rough_of
from faithful_reel.core.work.roughcut import rough_cut
from faithful_reel.core.work.timeline import Hearing, tokens_of

RATE = 44_100
HOP = RATE // 2
SCRIPT = chapter_of("c", ["The tide had gone out"])
TEXT = [w.text for w in SCRIPT.words]
# what was heard: a false start, the first three words twice, and the line; -1 is not written
SPOKEN = [
    ("The", -1),
    ("tie", -1),
    ("The", -1),
    ("tide", -1),
    ("had", -1),
    ("The", 0),
    ("tide", 1),
    ("had", 2),
    ("gone", 3),
    ("out", 4),
]


def made(findings) -> tuple[Book, ChapterState, Hearing]:
    heard = tuple(Heard(w, (1 + i) * HOP, (1 + i) * HOP + HOP * 2 // 3, 1.0) for i, (w, _) in enumerate(SPOKEN))
    placed = [Placed(0, 0, 0.0)] * len(TEXT)
    for h, (_, word) in zip(heard, SPOKEN, strict=True):
        if word >= 0:
            placed[word] = Placed(h.start, h.stop, 1.0)
    links = tuple((w, w + 1, i, i + 1, True) for i, (_, w) in enumerate(SPOKEN) if w >= 0)
    length = (len(SPOKEN) + 3) * HOP
    book = Book(recordings=(Recording("r", "r.wav", ".wav", RATE, 1, length, -3, -62, -24, None),))
    chapter = ChapterState("c", "One", "t", "r", "h", tuple(findings), reel_of("r", length))
    return Book(recordings=book.recordings, chapters=(chapter,)), chapter, Hearing(heard, tuple(placed), links)


def finding(name, kind, first, last, *, confidence=0.9, decision=Decision.OPEN):
    start, stop = (1 + first) * HOP, (1 + last) * HOP + HOP * 2 // 3
    return Finding(name, kind, "", "x", 0, 0, start, stop, confidence, decision=decision)


def test_false_starts_and_repeats_go_in_one_step_and_the_last_reading_stays():
    book, chapter, hearing = made([finding("a", Kind.FALSE_START, 0, 1), finding("b", Kind.REPEATED, 2, 4)])
    command, _ = rough_cut(book, chapter, SCRIPT, hearing)
    after = command.apply(book).chapters[0]
    assert set(command.findings) == {"a", "b"}
    assert {f.decision for f in after.findings} == {Decision.MEND}
    tokens = tokens_of(book, after, TEXT, hearing)
    assert [t.text for t in tokens if t.start >= 0] == TEXT
    assert all(a.stop <= b.start for a, b in itertools.pairwise(tokens))
    assert len(after.reel) == len(chapter.reel) - 5 * HOP  # five words with the pauses that follow them


def test_words_that_run_into_a_repeat_go_with_it_and_others_stay():
    book, chapter, hearing = made([finding("a", Kind.ADDED, 0, 1), finding("b", Kind.REPEATED, 2, 4)])
    assert set(rough_cut(book, chapter, SCRIPT, hearing)[0].findings) == {"a", "b"}
    book, chapter, hearing = made([finding("a", Kind.REPEATED, 0, 1), finding("b", Kind.ADDED, 2, 4)])
    assert rough_cut(book, chapter, SCRIPT, hearing)[0].findings == ("a",)  # an added word is the editor's to decide


LINE = chapter_of("c", ["The tide had gone out."])
TWICE = [*enumerate("The tide had gone out. The tide had won out.".split())]


def read_twice(*findings):
    """The line was read rightly, then again with a misread, which the collation keeps: it is the last."""
    heard = tuple(Heard(w, (1 + i) * HOP, (1 + i) * HOP + HOP * 2 // 3, 1.0) for i, w in TWICE)
    placed = tuple(Placed(h.start, h.stop, 1.0) for h in heard[5:])
    links = tuple((i, i + 1, 5 + i, 6 + i, i != 3) for i in range(5))
    length = 13 * HOP
    repeat = Finding("a", Kind.REPEATED, "", "The tide had gone out.", 0, 5, heard[0].start, heard[4].stop, 0.9)
    misread = Finding("b", Kind.MISREAD, "gone", "won", 3, 1, heard[8].start, heard[8].stop, 0.9)
    chapter = ChapterState("c", "One", "t", "r", "h", (repeat, misread, *findings), reel_of("r", length))
    recordings = (Recording("r", "r.wav", ".wav", RATE, 1, length, -3, -62, -24, None),)
    return Book(recordings=recordings, chapters=(chapter,)), chapter, Hearing(heard, placed, links)


def test_a_better_reading_is_kept_in_the_place_of_the_last():
    book, chapter, hearing = read_twice()
    command, anew = rough_cut(book, chapter, LINE, hearing)
    after = command.apply(book).chapters[0]
    assert [f.decision for f in after.findings] == [Decision.MEND, Decision.MEND]
    assert after.finding("a").heard == "The tide had won out."  # the other reading is the last one now
    tokens = [t for t in tokens_of(book, after, [w.text for w in LINE.words], anew) if t.start >= 0]
    assert [t.text for t in tokens if not t.extra] == [w.text for w in LINE.words]
    assert [source_at(after.reel, t.start)[1] for t in tokens] == [h.start for h in hearing.heard[:5]]
    assert len(after.reel) < len(chapter.reel) - 4 * HOP


def test_what_the_editor_let_stand_is_not_exchanged():
    book, chapter, hearing = read_twice()
    stet = replace(chapter, findings=tuple(replace(f, decision=Decision.STET) if f.id == "b" else f for f in chapter.findings))
    command, _ = rough_cut(replace(book, chapters=(stet,)), stet, LINE, hearing)
    assert command.swapped == ()
    assert command.findings == ("a",)


def test_a_line_whose_kept_reading_was_cut_by_hand_does_not_stop_the_rest():
    book, chapter, hearing = read_twice()
    cut = replace(chapter, reel=CutAndClose(hearing.heard[5].start, hearing.heard[9].stop).apply(chapter.reel))
    told = Evidence(flaw="long pause", usual=0.1)
    pause = Finding("p", Kind.PAUSE, "", "", 0, 0, 0, hearing.heard[0].start, 0.9, told)
    cut = replace(cut, findings=(*cut.findings, pause))
    command, _ = rough_cut(replace(book, chapters=(cut,)), cut, LINE, hearing)
    assert command.swapped == ()
    assert "p" in command.findings


def test_a_reading_with_a_noise_in_it_is_not_better():
    at = 2 * HOP
    book, chapter, hearing = read_twice(Finding("n", Kind.NOISE, "", "", 1, 0, at, at + 900, 0.9))
    command, _ = rough_cut(book, chapter, LINE, hearing)
    assert command.swapped == ()
    after = command.apply(book).chapters[0]
    assert after.finding("b").decision is Decision.OPEN  # the misread is still there, for the editor
    assert after.finding("n").decision is Decision.MEND  # the noise went with the reading that it was in


@pytest.mark.parametrize(
    "findings",
    [
        [],
        [finding("a", Kind.MISREAD, 0, 1)],
        [finding("a", Kind.REPEATED, 0, 1, confidence=0.3)],
        [finding("a", Kind.REPEATED, 0, 1, decision=Decision.STET)],
    ],
)
def test_what_is_decided_doubtful_or_no_retake_stays(findings):
    book, chapter, hearing = made(findings)
    with pytest.raises(EditRefused, match="nothing to cut"):
        rough_cut(book, chapter, SCRIPT, hearing)


def test_a_chapter_that_was_not_heard_is_refused():
    book, chapter, _ = made([])
    with pytest.raises(EditRefused, match="Hear the chapter first"):
        rough_cut(book, chapter, SCRIPT, None)


@pytest.mark.slow
@pytest.mark.parametrize("number", [1, 2, 3])
def test_the_demos_raw_chapters_become_one_reading(demo, ears, proofs, tmp_path, number):
    raw = demo / f"chapter-{number}.flac"
    told, script, proof = proofs[number - 1]
    made_ = rough_of(proof, raw, script, tmp_path / "cut.wav")
    truth = told["planted"]
    planted = [p for p in truth if p["kind"] in ("repeated", "false_start")]
    assert planted
    assert len(made_.cuts) >= len(planted)
    info = soundfile.info(str(tmp_path / "cut.wav"))
    assert info.frames / info.samplerate == pytest.approx(made_.after_s, abs=1e-3)
    assert info.samplerate == soundfile.info(str(raw)).samplerate
    again = proofed(ear_sound(tmp_path / "cut.wav"), script, ears)
    left = [f for f in again.findings if f.confidence >= SURE]
    assert [f for f in left if f.kind in (*AGAIN, Kind.PAUSE)] == []
    # the words are the manuscript's but for what no reading has right
    wrong = [p["word_index"] for p in truth if p["kind"] in ("misread", "skipped", "added")]
    assert [f for f in left if f.kind in READING and all(abs(f.word_index - at) > 1 for at in wrong)] == []
    # and nothing that a reading had right was cut away
    skipped = {f.written for f in left if f.kind is Kind.SKIPPED}
    assert skipped <= {p["written"] for p in truth if p["kind"] == "skipped"}
    assert made_.natural is not None
    for _, seam in made_.joins:
        assert abs(seam.floor_step_db) <= made_.natural.floor_step_db  # no step in the room, nor in the voice
        assert abs(seam.level_step_db) <= made_.natural.level_step_db
        assert seam.tone_step_db <= made_.natural.tone_step_db
        assert seam.click_db <= made_.natural.click_db
        assert seam.click_db < 6  # as where nothing was cut at all: test_seam_tells_a_click


def test_two_cuts_in_a_row_leave_one_join():
    book, chapter, hearing = made([finding("a", Kind.REPEATED, 0, 1), finding("b", Kind.REPEATED, 2, 4)])

    asked = itertools.count()

    def quieter_earlier_each_time(edges):
        peaks = np.ones((2, len(edges) - 1), np.float32)
        first = 20 - 5 * next(asked)
        peaks[:, first : first + 3] = 0
        return peaks

    command, _ = rough_cut(book, chapter, SCRIPT, hearing, lambda _: quieter_earlier_each_time)
    reel = command.apply(book).chapters[0].reel
    assert set(command.findings) == {"a", "b"}
    assert len(reel.lanes[0].segments) == 2


def test_the_shape_of_its_report(tmp_path):
    from faithful_reel.core.splice.seam import Seam
    from faithful_reel.core.work.one_chapter import RoughFile

    report = RoughFile(((finding("a", Kind.REPEATED, 0, 1), 0.5, 1.2),), ((0.5, Seam(1, 2, 3, 4)),), None, 9.0, 8.0).as_json()
    assert set(report) == {"cuts", "joins", "natural", "seconds_before", "seconds_after"}
    assert set(report["cuts"][0]) == {"kind", "heard", "start", "end", "confidence"}
    assert report["joins"][0]["at"] == 0.5
    assert np.isclose(report["joins"][0]["click_db"], 4)
