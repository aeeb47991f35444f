"""Findings of others: columns in any order, places by words and time, nothing sure that is not, nothing told twice."""

from __future__ import annotations

import random
import re
from dataclasses import replace
from pathlib import Path

import pytest

from faithful_reel.core.book.commands import PlaceHearing
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.proofing import Placed as At
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.text.tables import tables_of
from faithful_reel.core.text.words import Chapter, Word, chapter_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.others import Said, here, kind_of, lines_of, placed, seconds_of, taken
from faithful_reel.core.work.reporting import SUFFIXES, report_rows, write_report
from faithful_reel.core.work.timeline import Hearing

RATE, FIRST, STEP, WORD = 44_100, 441_000, 17_640, 15_640
LIST = Path("mara.csv")
ONE = ["The tide had gone out. It left the old ferry in the mud.", "The tide came back at six. Nell counted the green bottles."]
TWO = ["The Clerk wrote the tide down.", "Nobody saw the green boat but the old Clerk."]


class Made:
    """A book whose words stand at even distances, with what is known of each chapter."""

    def __init__(self, *chapters, heard=True):
        self.texts, self.hearings, rows = {}, {}, []
        for k, (title, paragraphs) in enumerate(chapters):
            text = chapter_of(title, paragraphs)
            text = Chapter(text.title, tuple(Word(w.text, w.sentence, w.paragraph, 10 + w.paragraph) for w in text.words))
            count = len(text.words)
            at = tuple(At(FIRST + STEP * i, FIRST + STEP * i + WORD, 0.9) for i in range(count))
            said = tuple(Heard(w.text, p.start, p.stop, 0.9) for w, p in zip(text.words, at, strict=True))
            links = tuple((i, i + 1, i, i + 1, True) for i in range(count))
            length = FIRST + STEP * count + 4 * RATE
            name = f"c{k + 1}"
            rows.append(
                ChapterState(name, title, f"t{name}", f"r{name}", f"h{name}" if heard else "", (), reel_of(f"r{name}", length))
            )
            self.texts[name], self.hearings[name] = text, Hearing(said, at, links) if heard else None
        recordings = tuple(Recording(c.recording, "x", ".wav", RATE, 1, len(c.reel), -3, -62, -24, None) for c in rows)
        self.book = Book(chapters=tuple(rows), recordings=recordings)

    def contents(self, chapter):
        return self.texts[chapter.id], self.hearings[chapter.id]

    def place(self, **said):
        """The place of one line."""
        return placed(self.book, [Said(1, **said)], self.contents, Unwatched())[0]

    def take(self, *lines, who="Mara"):
        """The book with lines taken in at their likeliest places."""
        rows = [(p.said, p.spots[0]) for p in placed(self.book, lines, self.contents, Unwatched())]
        return taken(self.book, rows, who, "mara", self.contents).apply(self.book)

    def ear(self, chapter, word, heard, **more):
        """A finding of the ear on one word."""
        at = self.hearings[chapter].placed[word]
        made = Finding(f"f{word}", Kind.MISREAD, self.texts[chapter].words[word].text, heard, word, 1, at.start, at.stop, 0.9)
        own = lambda c: replace(c, findings=(*c.findings, replace(made, **more)))  # noqa: E731
        self.book = self.book.with_chapter(chapter, own)
        return made

    def word(self, chapter, text, nth=0):
        """The number of a word in a chapter."""
        return [k for k, w in enumerate(self.texts[chapter].words) if w.text.strip(".,") == text][nth]

    def clock(self, chapter, word, off_s=0.0):
        """The time of a word, as somebody writes it."""
        seconds = self.hearings[chapter].placed[word].start / RATE + off_s
        return f"{int(seconds) // 60}:{seconds % 60:05.2f}"


@pytest.fixture
def made():
    return Made(("Chapter One: Low Water", ONE), ("Chapter Two: The Clerk", TWO))


# --- what stands in the list ------------------------------------------------------------------------------------------


def test_columns_in_any_order_and_by_any_of_their_names():
    table = [
        ["Proof of The Tide Clerk", "", "", "", "", ""],
        ["Notes", "Narrator said", "SHOULD BE", "Time stamp", "Ch.", "Proof-listener"],
        ["slowly", "great", "green", "0:03:20", "1", "Mara"],
        ["", "—", "bottles", "", "", ""],
    ]
    assert lines_of([table], LIST) == [
        Said(3, chapter="1", time="0:03:20", written="green", heard="great", remark="slowly", who="Mara"),
        Said(4, chapter="1", written="bottles", kind="", ditto=True),
    ]


def test_a_line_across_the_table_names_the_chapter_and_a_remark_does_not():
    table = [
        ["as written", "as heard", "remark"],
        ["Chapter Two", "", ""],
        ["green", "great", ""],
        ["", "", "Part of it is soft"],
    ]
    assert [(s.chapter, s.written, s.remark) for s in lines_of([table], LIST)] == [
        ("Chapter Two", "green", ""),
        ("Chapter Two", "", "Part of it is soft"),
    ]
    remarks = [["remark", "time"], ["Chapter heading is missing", ""], ["Chapter 3 is soft", ""]]
    assert len(lines_of([remarks], LIST)) == 2
    words = [["as written", "as heard"], ["Part of the harbour", ""], ["green", "great"]]
    assert [(s.chapter, s.written) for s in lines_of([words], LIST)] == [("", "Part of the harbour"), ("", "green")]
    pages = [["page", "as written", "as heard"], ["12", "", ""], ["13", "green", "great"]]
    assert [(s.chapter, s.page) for s in lines_of([pages], LIST)] == [("", "13")]


def test_tables_that_go_on_without_their_columns_lose_no_line():
    head, more, other = [["as written", "as heard"], ["green", "great"]], [["old", "cold"]], [["Jo", "boat", "soft"]]
    assert lines_of([head, more, other], LIST) == [
        Said(2, written="green", heard="great"),
        Said(3, written="old", heard="cold"),
        Said(4, remark="Jo | boat | soft"),
    ]
    title = [["Proof of The Tide Clerk", "by Jo"]]
    assert [s.remark for s in lines_of([title, head], LIST)] == ["Proof of The Tide Clerk | by Jo", ""]


def test_a_list_without_named_columns_is_told():
    with pytest.raises(FileProblem, match="no row that names its columns"):
        lines_of([[["green", "great"], ["a", "b"]]], LIST)
    assert lines_of([[["as written", "as heard"]]], LIST) == []


@pytest.mark.parametrize(
    ("said", "kind"),
    [
        ({"written": "green", "heard": "great"}, Kind.MISREAD),
        ({"heard": "very"}, Kind.ADDED),
        ({"written": "the green boat", "heard": "the boat"}, Kind.SKIPPED),
        ({"written": "the boat", "heard": "the green boat"}, Kind.ADDED),
        ({"written": "bottles", "remark": "omitted"}, Kind.SKIPPED),
        ({"written": "Nell", "heard": "Nail", "remark": "mispronounced"}, Kind.NAME),
        ({"written": "the", "heard": "a", "remark": "click before it"}, Kind.MISREAD),
        ({"remark": "mouth click"}, Kind.NOISE),
        ({"remark": "extra breath"}, Kind.NOISE),
        ({"remark": "long pause"}, Kind.PAUSE),
        ({"kind": "Repeat", "written": "the tide"}, Kind.REPEATED),
        ({"remark": "sounds sad"}, Kind.OTHER),
    ],
)
def test_what_a_line_tells_of(said, kind):
    assert kind_of(Said(1, **said)) is kind


@pytest.mark.parametrize(
    ("time", "seconds"),
    [
        ("3:20", 200.0), ("0:03:20.5", 200.5), ("3m20s", 200.0), ("3 min 20 sec", 200.0), ("1h02m03s", 3723.0), ("200 s", 200.0),
        ("3:20 - 3:24", 200.0), ("3:20–3:24", 200.0), ("00:03:20:00", 200.0), ("about three", None), ("", None), ("4 min", 240.0),
    ],
)  # fmt: skip
def test_times_as_people_write_them(time, seconds):
    assert seconds_of(Said(1, time=time), RATE, 0) == seconds


def test_minutes_that_a_spreadsheet_took_for_hours_and_a_list_that_counts_samples():
    assert seconds_of(Said(1, time="3:20:00"), RATE, 600 * RATE) == 200.0
    assert seconds_of(Said(1, time="3:20:00"), RATE, 5 * 3600 * RATE) == 12_000.0
    assert seconds_of(Said(1, time="8820000"), RATE, 600 * RATE) == 200.0


# --- where it is ------------------------------------------------------------------------------------------------------


def test_by_words_in_the_chapter_that_is_named(made):
    for name in ("Chapter One", "1", "01.wav", "Low Water", "chapter one: low water", "Ch. 1"):
        found = made.place(chapter=name, written="green bottles", heard="great bottles")
        assert (found.sure, found.spots[0].chapter, found.spots[0].first, found.spots[0].count) == (
            True, "c1", made.word("c1", "green"), 1,
        ), name  # fmt: skip


def test_several_places_are_asked_about_unless_the_time_tells(made):
    first, second = made.word("c1", "tide"), made.word("c1", "tide", 1)
    found = made.place(chapter="1", written="tide", heard="time")
    assert not found.sure
    assert {s.first for s in found.spots} == {first, second}
    # one line alone does not tell that the list's times still hold, and the likelier place stands first
    lonely = made.place(chapter="1", written="tide", heard="time", time=made.clock("c1", second, 0.4))
    assert not lonely.sure
    assert lonely.spots[0].first == second
    around = [
        Said(2, chapter="1", written="The tide had gone", time=made.clock("c1", first - 1)),
        Said(3, chapter="1", written="counted the green bottles", time=made.clock("c1", made.word("c1", "counted"))),
    ]
    line = Said(1, chapter="1", written="tide", heard="time", time=made.clock("c1", second, 0.4))
    told = placed(made.book, [line, *around], made.contents, Unwatched())[0]
    assert (told.sure, told.spots[0].first) == (True, second)


def test_the_times_of_a_list_follow_a_chapter_that_was_edited_since():
    made = Made(("One", [" ".join(f"w{k} sea" for k in range(60))]))
    cut = CutAndClose(FIRST + 20 * STEP, FIRST + 80 * STEP)  # 24 s go
    lines = [
        Said(k, chapter="One", written=f"w{k} sea w{k + 1}", time=made.clock("c1", made.word("c1", f"w{k}"))) for k in (42, 58)
    ]
    wanted = made.word("c1", "sea", 50)
    line = Said(1, chapter="One", written="sea", heard="see", time=made.clock("c1", wanted))
    made.book = made.book.with_chapter("c1", lambda c: replace(c, reel=cut.apply(c.reel)))
    found = placed(made.book, [line, *lines], made.contents, Unwatched())
    assert found[0].spots[0].first == wanted
    assert "off" in found[1].why or found[1].spots[0].off_s < 1


def test_a_chapter_that_is_not_repeated_is_not_sure_where_the_words_stand_in_another_as_well():
    made = Made(("One", ["The tide went out.", "The bell rang."]), ("Two", ["A bell rang."]))
    assert made.place(chapter="One", written="bell rang", heard="ball rang").sure
    assert not made.place(chapter="One", written="bell rang", heard="ball rang", ditto=True).sure
    assert made.place(chapter="One", written="tide went", heard="tide when", ditto=True).sure


def test_words_that_stand_nowhere_just_so_are_asked_about(made):
    nearly = {"chapter": "1", "written": "Nell found the green bottles", "heard": "x"}
    word = made.word("c1", "Nell")
    found = made.place(**nearly)
    assert (found.sure, found.spots[0].first) == (False, word)
    assert made.place(**nearly, time=made.clock("c1", word)).sure  # at its time as well


def test_the_wrong_chapter_or_none_is_asked_about(made):
    other = made.place(chapter="2", written="Nell counted", heard="Nell found")
    assert not other.sure
    assert other.spots[0].chapter == "c1"
    assert not made.place(written="old", heard="odd").sure
    assert made.place(written="Nell counted the green", heard="x").sure  # four words that stand in one place of the book
    assert made.place(written="submarine", heard="x", chapter="1") == replace(
        made.place(written="submarine", heard="x", chapter="1"), spots=(), sure=False
    )


def test_the_ears_finding_tells_which_place_is_meant(made):
    made.ear("c1", made.word("c1", "the", 1), "a")
    found = made.place(chapter="1", written="the", heard="a")
    assert (found.sure, found.spots[0].double) == (True, f"f{made.word('c1', 'the', 1)}")
    assert not made.place(chapter="1", written="the", heard="some").sure


def test_by_time_alone_and_by_page_alone(made):
    word = made.word("c1", "ferry")
    found = made.place(chapter="1", time=made.clock("c1", word, 0.1), remark="click")
    assert (found.sure, found.spots[0].first, found.spots[0].count) == (True, word, 0)
    assert not made.place(chapter="1", page="p. 11", remark="sounds tired").sure
    assert made.place(chapter="1", time="59:00", remark="click").spots == ()
    assert made.place(remark="sounds tired").spots == ()


def test_a_chapter_that_was_not_heard_yet_is_told_and_nothing_is_put_at_its_beginning():
    found = Made(("One", ONE), heard=False).place(chapter="One", written="green bottles", heard="x")
    assert (found.spots, found.sure) == ((), False)
    assert "not heard yet" in found.why


def test_no_line_is_sure_of_a_place_that_it_does_not_mean():
    """Lists of which the truth is known, with any columns, over chapters that share their paragraphs."""
    paragraphs = [re.sub(r"\s+", " ", p) for p in Path("demo/text.txt").read_text(encoding="utf-8").split("\n\n") if p.strip()]
    sure = 0
    for seed in range(25):
        rng = random.Random(seed)
        made = Made(*((f"Chapter {name}", rng.sample(paragraphs, len(paragraphs))) for name in ("One", "Two", "Three")))
        columns = [c for c in ("chapter", "time") if rng.random() < 0.8]
        lines, truth = [], []
        for number in range(20):
            name, count = rng.choice(["c1", "c2", "c3"]), rng.choice([1, 1, 2, 3, 6])
            words = [w.text for w in made.texts[name].words]
            first = rng.randrange(len(words) - count)
            wrong = rng.randrange(count)
            heard = [*words[first : first + wrong], "zzyx", *words[first + wrong + 1 : first + count]]
            off = 30.0 if first > len(words) // 2 else 0.0  # so much was cut since the list was written
            cells = {"chapter": made.book.chapter(name).title, "time": made.clock(name, first, off + rng.uniform(-2, 2))}
            written = " ".join(words[first : first + count])
            lines.append(Said(number, written=written, heard=" ".join(heard), **{c: cells[c] for c in columns}))
            truth.append((name, first + wrong))
        for found, (name, word) in zip(placed(made.book, lines, made.contents, Unwatched()), truth, strict=True):
            if found.sure:
                sure += 1
                spot = found.spots[0]
                assert spot.chapter == name
                assert spot.first == word or word in range(spot.first, spot.first + spot.count), (found, word)
    assert sure > 100


# --- taken in ---------------------------------------------------------------------------------------------------------


def test_new_ones_stand_with_who_said_so_and_doubles_are_joined(made):
    ear = made.ear("c1", made.word("c1", "green"), "great", decision=Decision.STET)
    lines = (
        Said(1, chapter="1", written="green", heard="great", remark="please redo", who="Jo"),
        Said(2, chapter="2", written="the old Clerk", heard="the cold Clerk"),
        Said(3, chapter="2", written="old", heard="cold", remark="again", who="Jo"),
    )
    after = made.take(*lines)
    [joined] = after.chapter("c1").findings
    assert joined == replace(ear, by=("Jo",), note="please redo", kept=True, decision=Decision.STET)
    [new] = after.chapter("c2").findings
    assert (new.kind, new.written, new.heard, new.word_count, new.by) == (Kind.MISREAD, "old", "cold", 1, ("Mara", "Jo"))
    at = made.hearings["c2"].placed[new.word_index]
    assert (new.start, new.stop, new.decision, new.note) == (at.start, at.stop, Decision.OPEN, "again")
    made.book = after  # the same list once more adds nothing
    again = made.take(*lines)
    assert [c.findings for c in again.chapters] == [c.findings for c in after.chapters]


def test_a_remark_on_a_sentence_is_not_joined_with_a_misread_in_it(made):
    word = made.word("c1", "green")
    made.ear("c1", word, "great")
    after = made.take(Said(1, chapter="1", written="Nell counted the green bottles", remark="sounds tired"))
    assert [(f.word_index, f.kind, f.by) for f in after.chapter("c1").findings] == [
        (word - 3, Kind.OTHER, ("Mara",)),
        (word, Kind.MISREAD, ()),
    ]
    made.book = made.take(Said(1, chapter="1", written="green", remark="please redo"))  # of that word itself
    assert [f.by for f in made.book.chapter("c1").findings] == [("Mara",)]


def test_words_that_are_not_heard_stand_between_those_that_are(made):
    word = made.word("c1", "old")
    own = made.hearings["c1"]
    made.hearings["c1"] = replace(own, placed=tuple(None if k == word else p for k, p in enumerate(own.placed)))
    [finding] = made.take(Said(1, chapter="1", written="old", heard="", kind="missing")).chapter("c1").findings
    assert finding.kind is Kind.SKIPPED
    assert own.placed[word - 1].stop <= finding.start <= finding.stop <= own.placed[word + 1].start


def test_a_place_by_hand_and_names_that_are_taken_meanwhile(made):
    said = Said(7, chapter="1", remark="sounds tired", who="Jo")
    spot = here(made.book, made.book.chapters[0], said, range(4, 6), made.contents)
    assert (spot.first, spot.count, spot.start) == (4, 2, FIRST + 4 * STEP)
    sound = here(made.book, made.book.chapters[0], said, Span(FIRST + 5 * STEP + 9, FIRST + 6 * STEP), made.contents)
    assert (sound.first, sound.count, sound.start) == (5, 0, FIRST + 5 * STEP + 9)
    step = taken(made.book, [(said, spot)], "", "mara", made.contents)
    busy = step.apply(made.book)  # another finding has that name by now
    twice = step.apply(busy).chapter("c1").findings
    assert len({f.id for f in twice}) == 2
    with pytest.raises(EditRefused):
        taken(made.book, [], "", "mara", made.contents).apply(made.book)


@pytest.mark.parametrize("suffix", SUFFIXES[2:])
def test_a_docket_that_goes_out_comes_in_again_at_its_places(made, tmp_path, suffix):
    for chapter, word, heard in (("c1", 3, "hat"), ("c1", 9, "cold"), ("c2", 4, "rote")):
        made.ear(chapter, word, heard)
    made.book = made.take(Said(1, chapter="1", written="Nell counted", heard="Nell found", remark="= no formula"))
    rows = report_rows(made.book, made.book.chapters, lambda c: made.texts[c.id])
    write_report(rows, "docket", tmp_path / f"docket{suffix}")
    lines = lines_of(tables_of(tmp_path / f"docket{suffix}", Unwatched()), LIST)
    found = placed(made.book, lines, made.contents, Unwatched())
    every = [(c.id, f.id) for c in made.book.chapters for f in c.findings]
    assert [(p.spots[0].chapter, p.spots[0].double) for p in found] == every
    assert all(p.sure for p in found)
    bare = replace(made.book, chapters=tuple(replace(c, findings=()) for c in made.book.chapters))
    fresh = placed(bare, lines, made.contents, Unwatched())
    after = taken(bare, [(p.said, p.spots[0]) for p in fresh], "Jo", "docket", made.contents).apply(bare)
    told = lambda book: [(c.id, f.kind, f.written, f.heard, f.word_index) for c in book.chapters for f in c.findings]  # noqa: E731
    assert told(after) == told(made.book)


def test_what_others_said_outlasts_a_new_hearing(made):
    made.ear("c1", 2, "hat")
    after = made.take(Said(1, chapter="1", written="had", heard="hat"), Said(2, chapter="1", written="ferry", heard="fairy"))
    heard = replace(after.chapter("c1").findings[0], by=(), kept=False, note="", evidence=Evidence())
    again = PlaceHearing("c1", "h2", (heard,), 2).apply(after).chapter("c1").findings
    assert [(f.word_index, f.by) for f in again] == [(2, ("Mara",)), (made.word("c1", "ferry"), ("Mara",))]
