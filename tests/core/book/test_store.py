"""The book on disk: nothing is ever lost."""

from __future__ import annotations

import errno
import json
import os
import shutil
import sqlite3
import stat
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule
from support.books import RECORDING, TONE, finding
from support.sounds import noise, speech_like

from faithful_reel.core.book.commands import (
    AddChapters,
    AddFinding,
    AddRecording,
    ChooseTake,
    Decide,
    EditReel,
    MarkSent,
    PairRecording,
    PassPickup,
    PlaceHearing,
    PlaceSplice,
    ReceiveTakes,
    SetDetails,
)  # fmt: skip
from faithful_reel.core.book.condition import APPLICATION_ID
from faithful_reel.core.book.keeping import verified
from faithful_reel.core.book.model import Book
from faithful_reel.core.book.packing import Packing
from faithful_reel.core.book.recordings import decode, faults, overview, path_of, received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import STATE_EVERY, BookStore, Contents
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.errors import AppError, EditRefused, FileProblem, StoreProblem
from faithful_reel.core.pickups.ledger import Pickup, State, Take
from faithful_reel.core.reel.commands import CutAndClose, ReplaceByTake, SetGain
from faithful_reel.core.text.words import Chapter, chapter_of

TAKE = Take("r2", 100, 5000, 0, "a line", ((100, 2000), (2000, 5000)))


def pickup(number: int) -> Pickup:
    return Pickup(f"p{number}", "c1", (f"f{number}",), "a line", "that", number, 2, 0, 10)


def reopened(session) -> Book:
    """The book as another program would find it on disk now."""
    other = sqlite3.connect(f"file:{session.store.folder / 'book.sqlite'}?mode=ro", uri=True)
    head = int(other.execute("SELECT value FROM meta WHERE key = 'head'").fetchone()[0])
    other.close()
    assert head == session.store.head
    return session.store.book_at(head)


def test_every_command_is_on_disk_when_it_shows(session):
    seen = []
    session.listen(lambda before, after: seen.append((after, reopened(session))))
    session.do(SetDetails("Title", "Author", "Narrator"))
    session.do(EditReel("c1", CutAndClose(1000, 2000)))
    session.undo()
    assert all(shown == stored for shown, stored in seen)
    assert len(seen) == 3


def test_undo_and_redo_survive_closing(tmp_path, session):
    before = session.book
    session.do(EditReel("c1", CutAndClose(1000, 2000)))
    edited = session.book
    session.undo()
    session.store._db.close()  # as if the process ended here
    session.store._unlock()
    with BookStore(tmp_path / "a.reelbook") as store:
        again = Session(store)
        assert again.book == before
        assert again.redo() == "Cut and close"
        assert again.book == edited
        assert again.undo() == "Cut and close"
        assert again.book == before
        session.store = store  # the fixture closes it; closing twice is not what is tested here
    session.store = BookStore(tmp_path / "a.reelbook")


def test_going_back_and_doing_something_else_keeps_the_old_branch(session):
    session.do(EditReel("c1", SetGain(0, 100, -3.0)))
    branch, step = session.book, session.store.head
    session.undo()
    session.do(EditReel("c1", CutAndClose(5, 50)))
    assert session.can_redo() == ""
    session.go_to(step)
    assert session.book == branch


def test_redo_goes_where_one_last_was(session):
    session.do(SetDetails("A", "", ""))
    session.do(SetDetails("B", "", ""))
    session.undo()
    session.undo()
    session.redo()
    assert session.book.title == "A"
    session.redo()
    assert session.book.title == "B"


def test_the_history_shows_the_line_and_the_other_ways(session):
    made = session.store.head
    for number in range(3):
        session.do(SetDetails(f"old {number}", "", ""))
    old = session.store.head
    for _ in range(3):
        session.undo()
    session.do(EditReel("c1", CutAndClose(5, 50)))
    line = session.store.history()
    assert [s.label for s in line][-2:] == ["Hear the chapter", "Cut and close"]
    assert {s.id: s.ways for s in line}[made] == 2
    ways = session.store.ways_from(made)
    assert [(first.label, last.id, count) for first, last, count in ways] == [
        ("Cut and close", session.store.head, 1),
        ("Change the book's details", old, 3),
    ]
    session.go_to(old)  # and redo leads along the branch that one stands on
    assert [s.label for s in session.store.history()][-1] == "Change the book's details"
    for _ in range(3):
        session.undo()
    assert session.redo() == "Change the book's details"
    assert session.book.title == "old 0"
    assert all(s.name and s.at for s in line)


def test_going_back_and_forward_after_closing(tmp_path, session):
    steps, books = [session.store.head], [session.book]
    for number in range(5):
        session.do(EditReel("c1", CutAndClose(100 * number, 100 * number + 9)))
        steps.append(session.store.head)
        books.append(session.book)
    session.close()
    session.store = BookStore(tmp_path / "a.reelbook")
    again = Session(session.store)
    for place in (3, 0, 5, 1):
        again.go_to(steps[place])
        assert again.book == books[place]


def test_a_refused_command_changes_nothing(session):
    head, book = session.store.head, session.book
    with pytest.raises(EditRefused):
        session.do(EditReel("c1", CutAndClose(50, 10**9)))
    assert (session.store.head, session.book) == (head, book)


def test_states_give_the_same_book(session):
    for n in range(STATE_EVERY + 30):
        session.do(EditReel("c1", CutAndClose(10 * n, 10 * n + 3)))
    rows = session.store._db.execute("SELECT count(*) FROM states").fetchone()[0]
    assert rows >= 1
    assert session.store.book_at(session.store.head) == session.book
    session.store._db.execute("DELETE FROM states")
    assert session.store.book_at(session.store.head) == session.book


def test_undo_after_opening_reads_nothing_anew_and_a_damaged_past_is_told_when_it_is_asked_for(session, monkeypatch):
    books = [session.book]
    for n in range(STATE_EVERY + 4):
        session.do(EditReel("c1", CutAndClose(10 * n, 10 * n + 3)))
        books.append(session.book)
    session.store.keep_state(session.book)
    again = Session(session.store)
    again.remember(20)
    with monkeypatch.context() as patch:
        patch.setattr(BookStore, "books_to", lambda *_a, **_k: pytest.fail("the disk was read"))
        for known in books[-2:-22:-1]:
            again.undo()
            assert again.book == known
        for _ in range(20):
            again.redo()
    assert again.book == books[-1]

    session.store._db.execute("UPDATE steps SET body = '{' WHERE id = ?", (session.store.head - 1,))
    opened = Session(session.store)
    opened.remember(20)
    assert opened.book == books[-1]
    with pytest.raises(StoreProblem, match="damaged"):
        opened.undo()
    assert opened.book == books[-1]


def test_values_packed_and_read_elsewhere_are_the_same(session):
    chapter = chapter_of("x", ["Packed beside the work."])
    packing = Packing()
    key = packing(Chapter, chapter)
    with pytest.raises(StoreProblem, match="missing"):
        session.store.get(Chapter, key)
    session.store.put_all(packing.rows)
    assert session.store.put(Chapter, chapter) == key
    contents = Contents(session.store.folder)
    assert contents.get(Chapter, key) == session.store.get(Chapter, key) == chapter
    with pytest.raises(StoreProblem, match="missing"):
        contents.get(Chapter, "nothing")
    session.store._db.execute("UPDATE contents SET body = x'00' WHERE key = ?", (key,))
    with pytest.raises(StoreProblem, match="damaged"):
        contents.get(Chapter, key)
    contents.close()


def test_words_are_counted_without_reading_them(session):
    for text in ("One.", 'He said {"text": "x"} and "{\\"text\\":" too.', "café “quoted” " * 300):
        chapter = chapter_of("x", [text])
        assert session.store.word_count(session.store.put(Chapter, chapter)) == len(chapter.words)


def test_untouched_chapters_are_the_same_objects(session):
    other = session.book.chapters[1]
    session.do(EditReel("c1", CutAndClose(10, 20)))
    assert session.book.chapters[1] is other


def test_contents_are_kept_once_and_come_back(session):
    chapter = chapter_of("x", ["A longer text, with “quotes” and a café."])
    key = session.store.put(Chapter, chapter)
    assert session.store.put(Chapter, chapter) == key
    assert session.store.get(Chapter, key) == chapter
    with pytest.raises(StoreProblem, match="missing"):
        session.store.get(Chapter, "nothing")


# --- decisions and pickups ----------------------------------------------------------------------------------------


def test_a_pickup_decision_puts_its_line_on_the_ledger_once(session):
    session.do(Decide("c1", ("f1",), Decision.PICKUP, pickup=pickup(1)))
    session.do(Decide("c1", ("f2",), Decision.PICKUP, pickup=Pickup("px", "c1", ("f2",), "a line", "", 1, 2, 0, 10)))
    assert [p.findings for p in session.book.pickups] == [("f1", "f2")]
    session.do(Decide("c1", ("f1",), Decision.STET))
    assert session.book.pickups[0].findings == ("f2",)
    session.do(Decide("c1", ("f2",), Decision.OPEN))
    assert session.book.pickups == ()
    session.undo()
    assert session.book.pickups[0].findings == ("f2",)


def test_a_pickup_goes_through_its_states(session):
    session.do(AddRecording(replace(RECORDING, hash="r2")))
    session.do(Decide("c1", ("f1",), Decision.PICKUP, pickup=pickup(1)))
    states = [session.book.pickups[0].state]
    edit = ReplaceByTake(1000, 3000, "r2", 100, 5000, 1.0, TONE, take="p1")
    for command in (
        MarkSent(("p1",)),
        ReceiveTakes("r2", (("p1", (TAKE, TAKE), 1),)),
        ChooseTake("p1", 0),
        PlaceSplice("c1", "p1", edit),
        PassPickup("p1"),
    ):
        session.do(command)
        states.append(session.book.pickups[0].state)
    assert states == [State.TO_SEND, State.SENT, State.IN, State.CHOSEN, State.SPLICED, State.PASSED]
    assert session.store.book_at(session.store.head) == session.book
    with pytest.raises(EditRefused):
        session.do(PlaceSplice("c1", "p1", edit))
    with pytest.raises(EditRefused):
        session.do(ChooseTake("p1", 7))


def test_hearing_again_keeps_decisions_whose_words_are_still_there(session):
    session.do(Decide("c1", ("f2",), Decision.STET, "as the author wants it"))
    session.do(PlaceHearing("c1", "k", (finding(2), finding(9))))
    by_word = {f.word_index: f for f in session.book.chapter("c1").findings}
    assert by_word[2].decision is Decision.STET
    assert by_word[2].note == "as the author wants it"
    assert by_word[9].decision is Decision.OPEN


def test_a_finding_by_hand_stands_in_reading_order(session):
    session.do(AddFinding("c1", Finding("h1", Kind.OTHER, "x", "", 2, 1, 2500, 2600, 1.0)))
    assert [f.id for f in session.book.chapter("c1").findings] == ["f1", "f2", "h1", "f3", "f4", "f5"]


@pytest.mark.parametrize(
    "command",
    [
        PairRecording("c1", "nothing"),
        Decide("c9", ("f1",), Decision.STET),
        Decide("c1", ("zz",), Decision.STET),
        PassPickup("p0"),
    ],
)
def test_commands_on_what_is_not_there_are_refused(session, command):
    with pytest.raises(EditRefused):
        session.do(command)


class Editing(RuleBasedStateMachine):
    """Random work, undo, redo and reopening against a plain list of states."""

    def __init__(self):
        super().__init__()
        import tempfile

        self.folder = Path(tempfile.mkdtemp()) / "m.reelbook"
        self.session = Session(BookStore(self.folder, create=True))
        self.states, self.at = [self.session.book], 0

    @rule(title=st.text(max_size=8))
    def name(self, title):
        self.session.do(SetDetails(title, "", ""))
        self.states = [*self.states[: self.at + 1], self.session.book]
        self.at += 1

    @rule()
    def undo(self):
        if self.session.undo():
            self.at -= 1

    @rule()
    def redo(self):
        if self.session.redo():
            self.at += 1

    @rule()
    def reopen(self):
        self.session.store.close()
        self.session = Session(BookStore(self.folder))

    @invariant()
    def as_the_list_says(self):
        assert self.session.book == self.states[self.at]

    def teardown(self):
        self.session.store.close()


TestEditing = Editing.TestCase
TestEditing.settings = settings(max_examples=15, stateful_step_count=20, deadline=None)


# --- recordings ---------------------------------------------------------------------------------------------------


def test_a_recording_is_copied_hash_named_and_read_only(tmp_path):
    import hashlib

    with BookStore(tmp_path / "a.reelbook", create=True) as store:
        source = tmp_path / "raw.wav"
        soundfile.write(source, np.concatenate([noise(seconds=3, rms_db=-64), speech_like(seconds=6)]), 44_100)
        recording = received(store.folder, source, 44_100)
        copy = path_of(store.folder, recording, 44_100)
        assert recording.hash == hashlib.sha256(source.read_bytes()).hexdigest() == copy.stem
        assert copy.read_bytes() == source.read_bytes()
        assert not stat.S_IMODE(copy.stat().st_mode) & 0o222
        assert recording.tone is not None
        assert received(store.folder, source, 44_100) == recording


def test_another_rate_is_decoded_beside_the_original(tmp_path):
    with BookStore(tmp_path / "a.reelbook", create=True) as store:
        soundfile.write(tmp_path / "raw.wav", speech_like(seconds=4, rate=48_000), 48_000)
        recording = received(store.folder, tmp_path / "raw.wav", 44_100)
        assert recording.length == pytest.approx(4 * 44_100, abs=2)
        decode(store.folder, Book(), recording)
        assert soundfile.info(str(path_of(store.folder, recording, 44_100))).frames == recording.length
        first = overview(store.folder, Book(), recording)
        assert first.length == recording.length
        again = overview(store.folder, Book(), recording)
        assert all(np.array_equal(a, b) for a, b in zip(first.levels, again.levels, strict=True))


def test_a_bad_recording_leaves_nothing_behind(tmp_path):
    with BookStore(tmp_path / "a.reelbook", create=True) as store:
        (tmp_path / "bad.wav").write_bytes(b"no sound")
        with pytest.raises(FileProblem):
            received(store.folder, tmp_path / "bad.wav", 44_100)
        assert list((store.folder / "recordings").iterdir()) == []


# --- trouble ------------------------------------------------------------------------------------------------------


def test_the_database_says_whose_it_is(session):
    db = sqlite3.connect(session.store.folder / "book.sqlite")
    assert db.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
    assert db.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    db.close()


def test_who_has_the_book_open_is_told(session):
    with pytest.raises(StoreProblem, match=rf"open already: by .+ on .+, process {os.getpid()}, since 20\d\d-") as caught:
        BookStore(session.store.folder)
    assert "Close it there first" in str(caught.value)


def test_folders_that_are_no_books_are_told(tmp_path):
    with pytest.raises(StoreProblem, match="not a book"):
        BookStore(tmp_path)
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "file").write_text("x")
    with pytest.raises(StoreProblem, match="there already"):
        BookStore(tmp_path / "full", create=True)


def test_a_newer_book_a_foreign_one_and_a_damaged_one_are_told(tmp_path):
    for name, spoil, message in (
        ("new", lambda db: db.execute("PRAGMA user_version = 99"), "newer version"),
        ("foreign", lambda db: db.execute("PRAGMA application_id = 7"), "another program"),
    ):
        BookStore(tmp_path / name, create=True).close()
        db = sqlite3.connect(tmp_path / name / "book.sqlite")
        spoil(db)
        db.commit()
        db.close()
        with pytest.raises(StoreProblem, match=message):
            BookStore(tmp_path / name)
    BookStore(tmp_path / "bad", create=True).close()
    (tmp_path / "bad" / "book.sqlite").write_bytes(b"garbage " * 4000)
    with pytest.raises(StoreProblem, match="damaged and can not be opened"):
        BookStore(tmp_path / "bad")


def test_a_full_disk_changes_nothing_and_says_so(session):
    pages = session.store._db.execute("PRAGMA page_count").fetchone()[0]
    session.store._db.execute(f"PRAGMA max_page_count = {pages}")
    head, book = session.store.head, session.book
    with pytest.raises(StoreProblem, match="Nothing was changed"):
        session.store.put(
            Chapter, chapter_of("x", [" ".join(str(n) for n in np.random.default_rng(1).integers(0, 10**9, 40_000))])
        )
    assert (session.store.head, session.book) == (head, book)
    session.store._db.execute("PRAGMA max_page_count = 1000000")
    session.do(SetDetails("after", "", ""))
    assert session.book.title == "after"


def test_a_folder_that_can_not_be_written_to_is_told(session):
    session.store._db.execute("PRAGMA query_only = 1")  # what SQLite answers when a folder was made read-only meanwhile
    head, book = session.store.head, session.book
    with pytest.raises(StoreProblem, match="Nothing was changed"):
        session.do(SetDetails("x", "", ""))
    assert (session.store.head, session.book) == (head, book)
    session.store._db.execute("PRAGMA query_only = 0")


@pytest.mark.parametrize("why", [errno.EROFS, errno.EACCES])
def test_a_read_only_folder_is_told_at_opening(tmp_path, monkeypatch, why):
    BookStore(tmp_path / "a", create=True).close()

    def refused(*_args, **_kwargs):
        raise OSError(why, os.strerror(why))

    monkeypatch.setattr("faithful_reel.core.book.store.os.open", refused)
    with pytest.raises(StoreProblem, match=r"can not be written to .* Copy it to a folder of your own"):
        BookStore(tmp_path / "a")


def test_a_disk_that_goes_away_is_told_and_the_last_state_kept(session):
    session.do(SetDetails("kept", "", ""))
    book, store = session.book, session.store
    real = store._db
    store._db = sqlite3.connect(":memory:", isolation_level=None)  # what was there is there no longer
    with pytest.raises(StoreProblem, match="Nothing was changed"):
        session.do(SetDetails("lost", "", ""))
    assert session.book == book
    store._db.close()
    store._db = real
    assert reopened(session) == book


def test_a_damaged_step_is_told(session):
    session.store._db.execute("UPDATE steps SET body = '{' WHERE id = 2")
    with pytest.raises(StoreProblem, match="damaged"):
        session.store.book_at(session.store.head)


@pytest.mark.slow
def test_two_hundred_kills_at_random_moments_lose_nothing_that_had_returned(tmp_path):
    folder = tmp_path / "k.reelbook"
    sound = tmp_path / "raw.wav"
    soundfile.write(sound, np.concatenate([noise(seconds=2, rms_db=-64), speech_like(seconds=20)]), 44_100)
    with BookStore(folder, create=True) as store:
        session = Session(store)
        session.do(AddChapters((("c1", "One", store.put(Chapter, chapter_of("One", ["Words."]))),)))
        recording = received(folder, sound, 44_100)
        session.do(AddRecording(recording))
        session.do(PairRecording("c1", recording.hash))
    script = Path(__file__).parents[2] / "support" / "killed.py"
    process = subprocess.Popen(
        [sys.executable, str(script), str(folder), "200"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert process.stdin is not None
    assert process.stdout is not None
    steps = 0
    for turn in range(200):
        told = json.loads(process.stdout.readline())
        steps += told["steps"]
        with BookStore(folder) as store:
            assert store.crashed
            assert store.integrity() == []
            last = told["head"]  # at most one command more was on disk and not told yet: a step from there, or an undo
            assert store.head in (last, store.step(last).parent) or store.step(store.head).parent == last
            at = store.book_at(told["head"])
            assert at.chapters[0].reel is not None
            assert (len(at.chapters[0].reel), len(at.chapters[0].findings)) == (told["length"], told["findings"])
            if turn % 100 == 99:
                assert store.book_at(store.head, afresh=True) == store.book_at(store.head)
                assert faults(folder, store.book_at(store.head), hashes=True) == []
        process.stdin.write("\n")
        process.stdin.flush()
    process.stdin.close()
    process.stdout.close()
    assert process.wait() == 0
    assert steps > 200
    assert verified(folder).sound


def test_an_app_error_is_one_sentence(tmp_path):
    with pytest.raises(AppError) as caught:
        BookStore(tmp_path / "nothing.reelbook")
    assert "\n" not in str(caught.value)


# --- older books --------------------------------------------------------------------------------------------------


def test_a_book_of_version_1_opens_with_all_its_history(tmp_path):
    """The fixture was made by the program of that version: see tests/data/README.md."""
    shutil.copytree(Path(__file__).parents[2] / "data" / "books" / "v1.reelbook", tmp_path / "v1.reelbook")
    with BookStore(tmp_path / "v1.reelbook") as store:
        session = Session(store)
        assert session.book.title == "The Ferry Ledger"
        assert [c.id for c in session.book.chapters] == ["c1", "c2"]
        assert store.head == 116
        assert len(session.book.chapter("c1").reel.lanes[0].segments) == 218
        assert session.book.chapter("c1").finding("f1").decision is Decision.STET
        assert len(store.history()) == store.following(116) == 117  # one step was undone when it was closed
        assert store._db.execute("PRAGMA user_version").fetchone()[0] == 2
        assert session.undo()
        assert session.redo()
        session.do(SetDetails("Renamed", "", ""))
        session.close()
    with BookStore(tmp_path / "v1.reelbook") as store:
        assert Session(store).book.title == "Renamed"
        assert store.step(store.head).name
