"""Somebody's list and somebody's copy in the window: what fails is told, what changes meanwhile is looked at anew, nothing is lost."""

from __future__ import annotations

import pytest
from PyQt6.QtWidgets import QFileDialog, QInputDialog
from support.hands import start
from support.hearing import STEP, lay_hearing
from support.jobs import HeldJobs

from faithful_reel.core.book.commands import EDITION, Decide, NoteFinding, PlaceHearing, SetDetails
from faithful_reel.core.book.keeping import archived, unpacked
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.work.timeline import Hearing


@pytest.fixture
def desk(opened, monkeypatch):
    """A heard chapter at the Proof desk, with what was told."""
    lay_hearing(opened.window.bench)
    opened.do("view.proof")
    opened.told = []
    for name in ("tell", "warn", "report"):
        monkeypatch.setattr(opened.window.bench, name, opened.told.append)
    return opened


def brought(desk, monkeypatch, path, act="others.bring"):
    """A file is chosen for an act, and read; the page of the list that it opens."""
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(path), ""))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("Mara", True))
    desk.do(act)
    desk.idle()
    return desk.window.proof_panel.side.currentWidget().page


def listed(path, *rows):
    path.write_text("chapter,as written,as heard,remark\n" + "".join(f"{row}\n" for row in rows), encoding="utf-8")
    return path


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        ("a.csv", b"green,great\nthat,this\n", "no row that names its columns"),
        ("a.xlsx", b"PK\x03\x04", "damaged"),
        ("a.docx", b"", "a.docx"),
        ("a.pdf", b"%PDF", "lists are read from"),
    ],
)
def test_a_list_that_can_not_be_read_is_told_and_the_page_says_what_a_list_is(desk, monkeypatch, tmp_path, name, content, told):
    (tmp_path / name).write_bytes(content)
    page = brought(desk, monkeypatch, tmp_path / name)
    assert told in desk.told[-1]
    assert "first row names its columns" in page.empty
    assert not page.take_in()


def test_a_list_follows_edits_and_hidden_lists_do_nothing(desk, monkeypatch, tmp_path):
    words = [w.text for w in desk.window.bench.text(desk.window.bench.chapter).words]
    path = listed(
        tmp_path / "l.csv", f'1,"{" ".join(words[60:64])}",,sounds tired', f'1,"{" ".join(words[50:54])}",,slowly', "1,the,a,"
    )
    page = brought(desk, monkeypatch, path)
    rows = {line.key: line for line in page.lines()}
    assert [rows[key].checked for key in ("2", "3", "4")] == [True, True, False]
    page.key = "4"
    desk.window.parts.editing.select_words(31, 31)
    desk.do("others.here")
    page.check("3", on=False)
    length = len(desk.window.bench.chapter.reel)
    desk.window.parts.editing.select_words(20, 29)
    desk.do("edit.cut_close")  # all that follows moves
    desk.idle()
    cut = length - len(desk.window.bench.chapter.reel)
    moved = page._rows["2"].spot
    assert moved.start == start(60) + STEP - cut  # an added word stands before 30
    assert (page._rows["4"].spot.first, page._rows["4"].wanted, page._rows["3"].wanted) == (31, True, False)
    desk.do("list.others")  # closed: its acts do nothing
    before = desk.bookstate
    for act in ("others.take", "others.next", "others.here"):
        desk.do(act)
        assert "is not open" in desk.told[-1]
    assert desk.bookstate is before
    desk.do("list.others")
    desk.do("others.take")
    desk.idle()
    new = [f for f in desk.bookstate.chapter("c1").findings if f.by]
    assert [(f.word_index, f.note) for f in new] == [(31, ""), (60, "sounds tired")]
    where = dict(zip([f.id for f in new], [desk.window.parts.proof.span(f) for f in new], strict=True))
    assert where[new[1].id].start == moved.start
    assert [line.cells[0] for line in page.lines()] == [f"{' '.join(words[50:54])} · slowly"]


def test_a_line_without_a_place_is_not_taken_in_until_it_has_one(desk, monkeypatch, tmp_path):
    page = brought(desk, monkeypatch, listed(tmp_path / "l.csv", ",submarine,x,", ",,,sounds tired"))
    assert [line.checked for line in page.lines()] == [False, False]
    page.check("2", on=True)
    assert "no place yet" in desk.told[-1]
    assert not page.take_in()
    page.key = "3"
    page.hear()
    assert "no place yet" in desk.told[-1]
    assert "Line 3" in page.about()


def second(desk, tmp_path, work):
    """An archive of the book as somebody else left it."""
    first = archived(desk.book, tmp_path / "out.reelarchive")
    folder = unpacked(first, tmp_path / "second.reelbook")
    with BookStore(folder) as store:
        work(Session(store))
    return archived(folder, tmp_path / "second reader.reelarchive")


def test_an_archive_of_another_book_and_a_damaged_one_are_told(desk, monkeypatch, tmp_path):
    with BookStore(tmp_path / "other.reelbook", create=True) as store:
        Session(store).do(SetDetails("Other", "", ""))
    other = archived(tmp_path / "other.reelbook", tmp_path / "other.reelarchive")
    page = brought(desk, monkeypatch, other, "copies.compare")
    assert "was not made from this book" in desk.told[-1]
    assert "No copy is compared" in page.empty
    (tmp_path / "torn.reelarchive").write_bytes(other.read_bytes()[:900])
    desk.do("list.copies")
    brought(desk, monkeypatch, tmp_path / "torn.reelarchive", "copies.compare")
    assert "not a whole archive" in desk.told[-1]


def test_what_clashes_is_left_until_it_is_marked_and_a_copy_that_has_nothing_more_says_so(desk, monkeypatch, tmp_path):
    archive = second(
        desk,
        tmp_path,
        lambda s: [s.do(Decide("c1", ("f3",), Decision.STET, edition=EDITION)), s.do(NoteFinding("c1", "f1", "theirs"))],
    )
    desk.window.parts.proof.choose("f3", "c1")
    assert desk.window.parts.proof.decide(Decision.MEND)
    page = brought(desk, monkeypatch, archive, "copies.compare")
    assert {row.words: page.marked(row) for row in page.rows()} == {row.words: not row.clash for row in page.rows()}
    assert [row.clash for row in page.rows()] == [True, False]
    desk.do("copies.all")
    assert sum(map(page.marked, page.rows())) == 1
    desk.do("copies.take")
    told = {f.id: f for f in desk.bookstate.chapter("c1").findings}
    assert (told["f3"].decision, told["f1"].note) == (Decision.MEND, "theirs")
    [row] = page.rows()
    page.key = row.key
    assert "Both were changed" in page.about()
    desk.do("copies.none")
    desk.do("copies.take")
    assert desk.told[-1] == "Nothing is marked to be taken over."
    page.check(row.key, on=True)
    desk.do("copies.take")
    assert page.rows() == []
    assert "nothing more" in page.empty
    held = page._open.folder
    desk.reopen()
    assert not held.exists()


def test_a_book_that_changes_while_recordings_come_in_is_not_changed_by_them(desk, monkeypatch, tmp_path):
    def work(session):
        chapter = session.book.chapter("c2")
        session.do(PlaceHearing(chapter.id, session.store.put(Hearing, hearing), (), 2))

    hearing = Hearing((), (None,) * desk.window.bench.word_count(desk.bookstate.chapter("c2")), ())
    page = brought(desk, monkeypatch, second(desk, tmp_path, work), "copies.compare")
    [row] = page.rows()
    held = HeldJobs()
    monkeypatch.setattr(desk.window.bench, "jobs", held)
    assert page.take_over()
    page.key = row.key
    page.remove()  # thought better of it
    before = desk.bookstate
    held.finish("Take over")
    assert "Nothing was taken over" in desk.told[-1]
    assert desk.bookstate is before
    page._left.clear()
    assert page.take_over()
    held.finish("Take over")
    assert desk.bookstate.chapter("c2").hearing == row.take.hearing.hearing
    assert desk.window.bench.hearing(desk.bookstate.chapter("c2")) == hearing
