"""Chapters by hand, and a corrected manuscript laid over work that was done."""

from __future__ import annotations

from dataclasses import replace

import pytest

from faithful_reel.core.book.commands import (
    AddChapters,
    AddRecording,
    Decide,
    LeaveOut,
    MoveChapter,
    PairRecording,
    PlaceHearing,
    PutBack,
    RenameChapter,
)
from faithful_reel.core.book.model import Recording
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.ledger import Pickup, State
from faithful_reel.core.text.revision import revision
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.work.revising import _moved_hearing, decided, join_chapters, reimport, split_chapter
from faithful_reel.core.work.timeline import Hearing, tokens_of

TEXT = "The tide had gone out further than anyone in the harbour could remember. It lay still until the evening."
HOP, LENGTH = 1000, 800


def hearing_for(words: list[str]) -> Hearing:
    heard = tuple(Heard(w, i * HOP, i * HOP + LENGTH, 1.0) for i, w in enumerate(words))
    return Hearing(
        heard,
        tuple(Placed(h.start, h.stop, 1.0) for h in heard),
        tuple((i, i + 1, i, i + 1, True) for i in range(len(words))),
    )


@pytest.fixture
def session(tmp_path):
    with BookStore(tmp_path / "a.reelbook", create=True) as store:
        made = Session(store)
        text = chapter_of("One", [TEXT])
        words = [w.text for w in text.words]
        made.do(
            AddChapters(
                (
                    ("c1", "One", store.put(Chapter, text)),
                    ("c2", "Two", store.put(Chapter, chapter_of("Two", ["Fog lay over the quay."]))),
                ),
                (("x", "Copyright", store.put(Chapter, chapter_of("x", ["All rights."]))),),
            )
        )
        made.do(AddRecording(Recording("r", "r.wav", ".wav", 44_100, 1, len(words) * HOP, -3, -62, -24, None)))
        made.do(PairRecording("c1", "r"))
        found = tuple(Finding(f"f{i}", Kind.MISREAD, words[i], "x", i, 1, i * HOP, i * HOP + LENGTH, 0.9) for i in (1, 5, 10, 14))
        made.do(PlaceHearing("c1", store.put(Hearing, hearing_for(words)), found))
        made.do(Decide("c1", ("f1", "f10"), Decision.STET, "as the author wants it"))
        made.do(
            Decide(
                "c1",
                ("f14",),
                Decision.PICKUP,
                pickup=Pickup("p", "c1", ("f14",), "It lay still until the evening.", "", 13, 6, 0, 10),
            )
        )
        yield made


def text_of(session):
    return lambda chapter: session.store.get(Chapter, chapter.text)


def hearing_of(session):
    return lambda chapter: session.store.get(Hearing, chapter.hearing) if chapter.hearing else None


def same_after_undo(session, command):
    before = session.book
    session.do(command)
    after = session.book
    session.undo()
    assert session.book == before
    session.redo()
    assert session.book == after == session.store.book_at(session.store.head, afresh=True)
    return after


# --- by hand ------------------------------------------------------------------------------------------------------


def test_a_chapter_gets_its_correction_though_a_part_that_was_left_out_is_more_like_it(session):
    text = session.store.get(Chapter, session.book.chapter("c1").text)
    corrected = chapter_of(text.title, [text.text.replace("further", "farther").replace("still", "calm")])
    session.do(AddChapters((("twin", "As it was to be", session.store.put(Chapter, corrected)),)))
    session.do(LeaveOut("twin"))
    found = reimport(session.book, text_of(session), hearing_of(session), (corrected,), session.store.put)
    assert [r.chapter for r in found.chapters] == ["c1"]
    assert "c1" not in {c.id for c in session.book.chapters if c.title in found.gone}


@pytest.mark.parametrize(
    ("old", "new", "line", "state"),
    [
        ("until", "till", "It lay still till the evening.", State.TO_SEND),  # beside what it is asked for
        ("still", "calm", None, None),  # what it is asked for
        ("evening.", "night.", None, None),  # its end is gone
        ("harbour", "bay", "It lay still until the evening.", State.SENT),  # elsewhere in the chapter
    ],
)
def test_a_line_that_was_corrected_beside_its_words_stays_a_line(session, old, new, line, state):
    book = session.book
    (pickup,) = book.pickups
    sent = replace(pickup, state=State.SENT)
    text = session.store.get(Chapter, book.chapter("c1").text)
    place = next(k for k, w in enumerate(text.words) if w.text == "still")
    finding = replace(book.chapter("c1").findings[-1], word_index=place)
    chapters = tuple(replace(c, findings=(*c.findings[:-1], finding)) if c.id == "c1" else c for c in book.chapters)
    book = replace(book, pickups=(sent,), chapters=chapters)
    corrected = chapter_of(text.title, [text.text.replace(old, new)])
    made = reimport(book, text_of(session), hearing_of(session), (corrected,), session.store.put)
    found = made.command.chapters[0].pickups
    assert [(p.line, p.state) for p in found] == ([(line, state)] if line else [])
    assert bool(made.chapters[0].fallen_pickups) is not bool(line)
    for p in found:
        words = corrected.words[p.first_word : p.first_word + p.word_count]
        assert " ".join(w.text for w in words) == p.line
    if state is State.TO_SEND:  # of two words that it is asked for one was corrected: it is another line
        both = replace(book, pickups=(replace(sent, findings=(*sent.findings, "gone")),))
        made = reimport(both, text_of(session), hearing_of(session), (corrected,), session.store.put)
        assert made.command.chapters[0].pickups == ()


def test_what_was_left_out_stays_so_with_a_corrected_manuscript_and_comes_back_corrected(session):
    session.do(LeaveOut("c1"))
    out = session.book.left_out[-1]
    text = session.store.get(Chapter, out.text)
    corrected = chapter_of(text.title, [text.text.replace("tide", "flood", 1)])
    assert corrected != text
    found = reimport(session.book, text_of(session), hearing_of(session), (corrected,), session.store.put)
    assert [r.chapter for r in found.chapters] == ["c1"]
    after = same_after_undo(session, found.command)
    assert [c.id for c in after.left_out if c.id == "c1"] == ["c1"]
    assert [c.title for c in after.chapters].count(corrected.title) == 0
    back = same_after_undo(session, PutBack("c1", 0)).chapter("c1")
    assert session.store.get(Chapter, back.text) == corrected
    assert len(back.findings) >= len(out.findings) - 1


def test_rename_leave_out_put_back_and_move(session):
    assert same_after_undo(session, RenameChapter("c1", " The Tide ")).chapter("c1").title == "The Tide"
    with pytest.raises(EditRefused, match="needs a title"):
        session.do(RenameChapter("c1", "  "))
    work = session.book.chapter("c1")
    book = same_after_undo(session, LeaveOut("c1"))
    assert [c.id for c in book.chapters] == ["c2"]
    assert [c.id for c in book.left_out] == ["x", "c1"]
    book = same_after_undo(session, PutBack("c1", 1))
    assert [c.id for c in book.chapters] == ["c2", "c1"]
    assert book.chapter("c1") == work  # nothing of the work on it was lost
    book = same_after_undo(session, MoveChapter("c1", -1))
    assert [c.id for c in book.chapters] == ["c1", "c2"]
    assert same_after_undo(session, MoveChapter("c1", -5)) == book
    with pytest.raises(EditRefused, match="no longer left out"):
        session.do(PutBack("c1", 0))


def test_a_split_takes_words_sound_findings_and_pickups_with_it(session):
    chapter = session.book.chapter("c1")
    command = split_chapter(
        session.book,
        chapter,
        text_of(session)(chapter),
        hearing_of(session)(chapter),
        13,
        ("One", "One and a half"),
        session.store.put,
    )
    book = same_after_undo(session, command)
    first, second = book.chapters[0], book.chapters[1]
    assert [c.title for c in book.chapters] == ["One", "One and a half", "Two"]
    words = [text_of(session)(c).text for c in (first, second)]
    assert " ".join(words) == TEXT
    assert [f.id for f in first.findings] == ["f1", "f5", "f10"]
    assert [(f.id, f.word_index) for f in second.findings] == [("f14", 1)]
    assert (book.pickups[0].chapter, book.pickups[0].first_word) == (second.id, 0)
    assert len(first.reel) + len(second.reel) == len(chapter.reel)
    assert len(first.reel) == (12 * HOP + LENGTH + 13 * HOP) // 2  # in the pause before the word
    for part in (first, second):  # every word still stands above its own sound
        spoken = [w.text for w in text_of(session)(part).words]
        tokens = tokens_of(book, part, spoken, hearing_of(session)(part))
        assert all(t.start >= 0 for t in tokens if t.word >= 0)
        assert len([t for t in tokens if t.extra]) == 0 or part is first


def test_a_split_joined_again_is_the_chapter_as_it_was(session):
    chapter = session.book.chapter("c1")
    text = text_of(session)(chapter)
    session.do(split_chapter(session.book, chapter, text, hearing_of(session)(chapter), 13, ("One", "Two"), session.store.put))
    first, second = session.book.chapters[:2]
    texts = tuple(text_of(session)(c) for c in (first, second))
    hearings = tuple(hearing_of(session)(c) for c in (first, second))
    book = same_after_undo(session, join_chapters(first, second, texts, hearings, session.store.put))
    joined = book.chapter("c1")
    assert [w.text for w in text_of(session)(joined).words] == [w.text for w in text.words]
    assert joined.findings == chapter.findings
    assert book.pickups[0].first_word == 13
    assert len(joined.reel) == len(chapter.reel)
    assert hearing_of(session)(joined) == hearing_of(session)(chapter)


def test_what_can_not_be_split_or_joined_says_why(session):
    chapter, other = session.book.chapters
    text = text_of(session)(chapter)
    for at in (0, len(text.words)):
        with pytest.raises(EditRefused, match="between two of its words"):
            split_chapter(session.book, chapter, text, hearing_of(session)(chapter), at, ("a", "b"), session.store.put)
    with pytest.raises(EditRefused, match="Hear the chapter first"):
        split_chapter(session.book, chapter, text, None, 3, ("a", "b"), session.store.put)
    with pytest.raises(EditRefused, match="different recordings"):
        join_chapters(chapter, other, (text, text_of(session)(other)), (hearing_of(session)(chapter), None), session.store.put)


# --- a corrected manuscript ---------------------------------------------------------------------------------------


def taken_over(session, *chapters: Chapter):
    found = reimport(session.book, text_of(session), hearing_of(session), chapters, session.store.put)
    return found, same_after_undo(session, found.command)


def test_work_on_words_that_stayed_is_kept(session):
    new = TEXT.replace("The tide", "At last the tide").replace("anyone in the harbour", "anybody there")
    found, book = taken_over(session, chapter_of("One", [new]), text_of(session)(session.book.chapters[1]))
    chapter = book.chapter("c1")
    words = [w.text for w in text_of(session)(chapter).words]
    assert " ".join(words) == new
    kept = {f.id: (words[f.word_index].lower(), f.decision, f.note) for f in chapter.findings}
    assert kept == {
        "f1": ("tide", Decision.STET, "as the author wants it"),
        "f5": ("further", Decision.OPEN, ""),
        "f14": ("lay", Decision.PICKUP, ""),
    }
    assert [words[p.first_word] for p in book.pickups] == ["It"]
    told = found.chapters[0]
    assert [f.id for f in told.fallen] == ["f10"]
    assert decided(told.fallen) == 1
    assert [(c.old, c.new) for c in told.changes] == [("", "At last"), ("anyone in the harbour", "anybody there")]
    assert len(found.chapters) == 1  # the other chapter is as it was, and nothing is told of it
    tokens = tokens_of(book, chapter, words, hearing_of(session)(chapter))
    by_word = {t.word: t for t in tokens if t.word >= 0}
    assert by_word[0].start == by_word[1].start == -1  # new words were not looked for yet
    assert by_word[words.index("still")].start == 15 * HOP  # the others stand above their own sound
    assert "harbour" in [t.text for t in tokens if t.extra]  # and what was read of the old words is shown as heard only


def test_a_pickup_whose_line_changed_is_told_and_leaves(session):
    found, book = taken_over(session, chapter_of("One", [TEXT.replace("until the evening", "until night")]))
    assert book.pickups == ()
    assert [p.id for p in found.chapters[0].fallen_pickups] == ["p"]
    assert found.gone == ("Two",)
    assert [c.id for c in book.chapters] == ["c1", "c2"]  # a chapter that is not in the new file stays as it is


def test_new_chapters_come_in_and_the_same_manuscript_changes_nothing(session):
    texts = [text_of(session)(c) for c in session.book.chapters]
    found, book = taken_over(session, *texts, chapter_of("Three", ["Nothing of this was there before."]))
    assert [c.title for c in book.chapters] == ["One", "Two", "Three"]
    assert [c.chapter for c in found.chapters] == [""]
    again = reimport(
        book, text_of(session), hearing_of(session), tuple(text_of(session)(c) for c in book.chapters), session.store.put
    )
    assert again.command.chapters == ()


def test_a_finding_by_hand_between_words_stays_between_them(session):
    pause = Finding("p1", Kind.PAUSE, "", "", 13, 0, 12_900, 13_000, 1.0)
    session.do(PlaceHearing("c1", session.book.chapter("c1").hearing, (*session.book.chapter("c1").findings, pause)))
    _, book = taken_over(session, replace(chapter_of("One", ["So. " + TEXT])))
    assert next(f for f in book.chapter("c1").findings if f.id == "p1").word_index == 14


def test_a_link_of_several_words_is_kept_where_they_stay_in_a_row_and_only_there():
    """Forty-two read for two written words: with a new word between them it is no reading of them any more."""
    old = [w.text for w in chapter_of("x", ["The forty two boats lay there."]).words]
    heard = hearing_for(["The", "forty-two", "boats", "lay", "there"])
    linked = replace(
        heard,
        placed=(heard.placed[0], heard.placed[1], heard.placed[1], *heard.placed[2:]),
        links=((0, 1, 0, 1, True), (1, 3, 1, 2, True), (3, 4, 2, 3, True), (4, 5, 3, 4, True), (5, 6, 4, 5, True)),
    )
    moved = _moved_hearing(linked, revision(old, "Well the forty two boats lay there.".split()), 7)
    assert (2, 4, 1, 2, True) in moved.links
    parted = _moved_hearing(linked, revision(old, "The forty and two boats lay there.".split()), 7)
    assert [k for k in parted.links if k[2] == 1] == []
    assert (4, 5, 2, 3, True) in parted.links
    assert parted.placed[2] is None  # the new word was not looked for
    assert parted.placed[1] == heard.placed[1]
    assert parted.heard == heard.heard


def test_a_chapter_that_was_not_heard_takes_its_new_words_and_no_hearing(session):
    found, book = taken_over(
        session, text_of(session)(session.book.chapters[0]), chapter_of("Two", ["Fog lay thick over the quay."])
    )
    assert [c.chapter for c in found.chapters] == ["c2"]
    assert book.chapter("c2").hearing == ""
    assert text_of(session)(book.chapter("c2")).words[2].text == "thick"


def test_chapters_that_were_heard_apart_are_joined_with_their_own_hearings(session):
    first, second = session.book.chapters
    a, b = text_of(session)(first), text_of(session)(second)
    theirs = hearing_for([w.text for w in b.words])
    joined = join_chapters(first, replace(second, recording="r"), (a, b), (hearing_of(session)(first), theirs), session.store.put)
    heard = session.store.get(Hearing, joined.hearing)
    own, n = hearing_of(session)(first), len(a.words)
    assert heard.heard == own.heard + theirs.heard
    assert heard.placed == own.placed + theirs.placed
    assert heard.links[n:] == tuple((i + n, j + n, c + len(own.heard), d + len(own.heard), s) for i, j, c, d, s in theirs.links)
    silent = join_chapters(replace(first, recording=""), replace(second, recording=""), (a, b), (None, None), session.store.put)
    assert silent.hearing == ""


def test_progress_is_told_while_chapters_are_compared(session):
    told = []

    class Watch:
        def tick(self, done, note=""):
            told.append((done, note))

    texts = tuple(text_of(session)(c) for c in session.book.chapters)
    reimport(session.book, text_of(session), hearing_of(session), texts, session.store.put, Watch())
    assert told == [(0.5, "comparing"), (0.75, "comparing")]
