"""A save that is refused leaves a book that opens as it was; states that can not be read are no loss."""

from __future__ import annotations

import itertools
import math
import sqlite3

import pytest
from support.books import RECORDING, TONE

from faithful_reel.core.book.commands import EditReel, PairRecording, SetDetails
from faithful_reel.core.book.condition import whole_backups
from faithful_reel.core.book.keeping import backed_up
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import STATE_EVERY, BookStore
from faithful_reel.core.errors import AppError, EditRefused, StoreProblem
from faithful_reel.core.reel.commands import (
    AddLane,
    CutAndClose,
    CutAndFill,
    MoveJoin,
    PutMarker,
    ReplaceByTake,
    SetFade,
    SetGain,
    SetJoin,
    SetLaneTone,
    SplitAt,
    ToneSource,
)
from faithful_reel.core.reel.reel import Fade, Join, Lane, Marker, Piece


class Failing:
    """A database whose n-th write fails, and every later one of the same step."""

    def __init__(self, db):
        self.db, self.left = db, -1

    def execute(self, query, *values):
        writes = query.split()[0] in ("INSERT", "UPDATE", "COMMIT", "BEGIN", "DELETE")
        if writes and self.left >= 0:
            self.left -= 1
            if self.left < 0:
                raise sqlite3.OperationalError("database or disk is full")
        return self.db.execute(query, *values)

    def __getattr__(self, name):
        return getattr(self.db, name)


def opened_again(folder):
    with BookStore(folder) as store:
        session = Session(store)
        assert store.book_at(store.head, afresh=True) == session.book
        return session.book, store.head


@pytest.mark.parametrize("nth", range(12))
def test_whatever_write_fails_the_book_opens_and_the_second_try_is_kept(session, nth):
    """At a step at which a whole state is kept, the first and the second try."""
    while session.store.count() % STATE_EVERY != STATE_EVERY - 1:
        session.do(EditReel("c1", SplitAt(100 + session.store.count())))
    failing = session.store._db = Failing(session.store._db)
    before = session.book
    failing.left = nth
    try:
        session.do(EditReel("c1", CutAndClose(1000, 2000)))
    except StoreProblem:
        assert session.book is before
    refused = session.book is before
    failing.left = -1
    session.do(EditReel("c1", CutAndClose(3000, 4000)))
    expected, head = session.book, session.store.head
    assert session.store.count() % STATE_EVERY == (0 if refused else 1)
    session.store._db = failing.db
    session.store._let_go()  # as if the process ended here
    assert opened_again(session.store.folder) == (expected, head)
    session.store = BookStore(session.store.folder)  # the fixture closes it


def test_some_write_failed_and_some_did_not(session):
    """The test above meets both kinds."""
    failing = session.store._db = Failing(session.store._db)
    for nth in itertools.count():
        failing.left = nth
        try:
            session.do(SetDetails(f"title {nth}", "", ""))
        except StoreProblem:
            continue
        break
    assert 3 <= nth < 12
    failing.left = -1


def spoilt_state(folder):
    """A book whose latest state names a value that was never written."""
    with BookStore(folder) as store:
        session = Session(store)
        session.do(EditReel("c1", CutAndClose(10, 20)))
        store.keep_state(session.book)
        expected = session.book
    with sqlite3.connect(folder / "book.sqlite") as db:
        step, keys = db.execute("SELECT step, chapters FROM states ORDER BY step DESC").fetchone()
        db.execute("UPDATE states SET chapters = ? WHERE step = ?", ("f" * 32 + " " + keys.partition(" ")[2], step))
    db.close()
    return expected


def test_a_state_that_names_what_was_never_written_is_passed_over_and_mended(session):
    folder = session.store.folder
    session.store.close()
    expected = spoilt_state(folder)
    assert opened_again(folder)[0] == expected
    with BookStore(folder) as store:
        assert store.book_at(store.head) == expected
        assert store.unread == []
    session.store = BookStore(folder)


def test_a_backup_is_whole_when_it_leads_to_a_book(session):
    folder = session.store.folder
    session.store.close()
    good = backed_up(folder)
    with sqlite3.connect(folder / "book.sqlite") as db:
        db.execute("DELETE FROM states")
        db.execute("UPDATE steps SET body = '{}' WHERE id = 2")
    db.close()
    with pytest.raises(StoreProblem, match="No backup"):
        backed_up(folder)
    bad = good.with_name("book-29991231-235959.sqlite")
    bad.write_bytes((folder / "book.sqlite").read_bytes())  # SQLite finds nothing wrong with it
    assert [b.path for b in whole_backups(folder)] == [good]
    with pytest.raises(StoreProblem, match="is damaged"), BookStore(folder) as store:
        Session(store)
    good.replace(folder / "book.sqlite")
    session.store = BookStore(folder)


HUGE = ToneSource("r1", 0, 2_000_000)
NAN, INFINITE = math.nan, math.inf
HOSTILE = {
    "a gain that is no number": SetGain(0, 100, NAN),
    "a take's gain that is no number": ReplaceByTake(0, 100, "r1", 0, 50, NAN, TONE),
    "a take's endless gain": ReplaceByTake(0, 100, "r1", 0, 50, INFINITE, TONE),
    "a take's crossfade": ReplaceByTake(0, 100, "r1", 0, 50, 0.0, TONE, Join(10, "equal_power", NAN)),
    "a crossfade's bend": SetJoin(1, Join(100, "equal_gain", NAN)),
    "a crossfade's endless bend": SetJoin(1, Join(100, "equal_gain", INFINITE)),
    "a cut's join": CutAndClose(0, 100, Join(100, "equal_gain", NAN)),
    "a fade": SetFade(0, Fade(10, NAN)),
    "a join beyond the recording": MoveJoin(1, 60_000),
    "room tone beyond the recording": CutAndFill(0, 100, HUGE),
    "room tone backwards": CutAndFill(0, 100, ToneSource("r1", 500, 400)),
    "a lane's room tone beyond the recording": SetLaneTone(0, HUGE),
    "a lane's room tone from nowhere": SetLaneTone(0, ToneSource("none", 0, 10)),
    "a lane of an unknown recording": AddLane(Lane("music", (Piece("none", 0, 100),))),
    "a lane beyond its recording": AddLane(Lane("music", (Piece("r1", 0, 1_000_001),))),
    "a lane's level": AddLane(Lane("music", (Piece("r1", 0, 100),), gain_db=NAN)),
    "a marker beyond the end": PutMarker(Marker("m1", 2_000_000)),
}


@pytest.mark.parametrize("what", HOSTILE)
def test_what_can_not_be_played_or_read_again_is_refused(session, what):
    session.do(EditReel("c1", CutAndClose(RECORDING.length - 100_000, RECORDING.length - 50_000)))
    before, steps = session.book, session.store.count()
    with pytest.raises(EditRefused):
        session.do(EditReel("c1", HOSTILE[what]))
    assert (session.book, session.store.count()) == (before, steps)
    session.do(EditReel("c1", SplitAt(77)))  # and the chapter can be edited as before


def test_a_value_that_would_not_be_read_again_is_refused_for_what_it_is(session):
    with pytest.raises(AppError, match="no number"):
        session.store.append(EditReel("c1", SetGain(0, 1, NAN)), session.book)


def test_steps_that_are_taken_while_somebody_is_asked_are_not_lost(session):
    """A job comes to its end while the question stands: the journal and the book in hand tell the same, and hold both steps."""
    session.do(EditReel("c1", CutAndClose(1000, 2000)), may=lambda *_: session.do(SetDetails("Heard meanwhile", "", "")))
    assert session.book.title == "Heard meanwhile"
    assert len(session.book.chapter("c1").reel) == RECORDING.length - 1000
    assert session.store.book_at(session.store.head, afresh=True) == session.book


def test_a_cut_that_was_asked_about_is_not_made_where_other_sound_stands_by_then(session):
    before = session.book
    with pytest.raises(EditRefused, match="changed while you were asked"):
        session.do(EditReel("c1", CutAndClose(1000, 2000)), may=lambda *_: session.do(EditReel("c1", CutAndClose(0, 500))))
    assert len(session.book.chapter("c1").reel) == RECORDING.length - 500
    assert session.store.book_at(session.store.head, afresh=True) == session.book
    session.undo()
    assert session.book == before


def test_another_chapter_may_change_while_somebody_is_asked(session):
    session.do(EditReel("c1", CutAndClose(1000, 2000)), may=lambda *_: session.do(PairRecording("c2", "r1")))
    assert [len(c.reel) for c in session.book.chapters] == [RECORDING.length - 1000, RECORDING.length]
