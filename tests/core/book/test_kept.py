"""Versions of a chapter, the shelf of the book and of the house."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import soundfile

from faithful_reel.core.book.commands import KINDS, Decide, EditReel, JoinChapters, SplitChapter
from faithful_reel.core.book.house import HouseShelf
from faithful_reel.core.book.kept import (
    DescribeChapter,
    DescribeShelved,
    DescribeVersion,
    DropVersion,
    KeepVersion,
    PutOnShelf,
    SwapVersion,
    TakeOffShelf,
    TakeReel,
)
from faithful_reel.core.book.model import Book, ChapterState, Recording, Shelved
from faithful_reel.core.book.packing import adapter
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.errors import EditRefused, StoreProblem
from faithful_reel.core.pickups.ledger import Pickup
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import Lane, Marker, Piece, Reel, Rest, reel_of

ENTRY = Recording("r", "r", ".wav", 44_100, 1, 9000, -3.0, -60.0, -20.0, None)
BOOK = Book(
    chapters=(ChapterState("c1", "One", "t", "r", reel=reel_of("r", 9000)), ChapterState("c2", "Two", "u")), recordings=(ENTRY,)
)
PIECE = Piece("r", 100, 900)


def test_a_version_is_kept_and_swapped_and_nothing_is_lost():
    book = KeepVersion("c1", "v1", "  first  ", "as it came", "2026-01-05T10:00:00").apply(BOOK)
    first = book.chapters[0].reel
    book = EditReel("c1", CutAndClose(10, 500)).apply(book)
    second = book.chapters[0].reel
    book = SwapVersion("c1", "v1", "v2", "before “first”").apply(book)
    assert book.chapters[0].reel == first
    assert [(v.id, v.name, v.reel) for v in book.chapters[0].versions] == [
        ("v1", "first", first),
        ("v2", "before “first”", second),
    ]
    book = SwapVersion("c1", "v2", "v3", "x").apply(book)  # what was is a version already
    assert book.chapters[0].reel == second
    assert [v.id for v in book.chapters[0].versions] == ["v1", "v2"]
    book = DescribeVersion("c1", "v1", "one", "n").apply(book)
    assert (book.chapters[0].versions[0].name, book.chapters[0].versions[0].note) == ("one", "n")
    assert [v.id for v in DropVersion("c1", "v1").apply(book).chapters[0].versions] == ["v2"]


@pytest.mark.parametrize(
    ("command", "told"),
    [
        (KeepVersion("c2", "v1", "x"), "no recording yet"),
        (KeepVersion("c1", "v1", " "), "needs a name"),
        (SwapVersion("c1", "v9", "v2", "x"), "no longer there"),
        (DropVersion("c1", "v9"), "no longer there"),
        (DescribeVersion("c1", "v9", "x", ""), "no longer there"),
        (PutOnShelf(Shelved("s1", "tone", ())), "no sound"),
        (PutOnShelf(Shelved("s1", "", (PIECE,))), "needs a name"),
        (PutOnShelf(Shelved("s1", "x", (replace(PIECE, recording="q"),))), "not in this book"),
        (PutOnShelf(Shelved("s1", "x", (replace(PIECE, gain_db=float("nan")),))), "outside"),
        (TakeOffShelf("s9"), "no longer on the shelf"),
        (DescribeShelved("s9", "x", "", ""), "no longer on the shelf"),
    ],
)
def test_what_does_not_fit_is_refused(command, told):
    with pytest.raises(EditRefused, match=told):
        command.apply(BOOK)


def test_swapping_to_what_is_there_is_refused():
    book = KeepVersion("c1", "v1", "first").apply(BOOK)
    with pytest.raises(EditRefused, match="is as the version “first” already"):
        SwapVersion("c1", "v1", "v2", "x").apply(book)
    with pytest.raises(EditRefused, match="already"):
        KeepVersion("c1", "v1", "again").apply(book)


def test_the_shelf_of_the_book():
    book = PutOnShelf(Shelved("s1", " sea ", (PIECE, PIECE), "blue", "low")).apply(BOOK)
    assert [(s.name.strip(), len(s)) for s in book.shelf] == [("sea", 1600)]
    with pytest.raises(EditRefused, match="already"):
        PutOnShelf(Shelved("s1", "x", (PIECE,))).apply(book)
    book = DescribeShelved("s1", "tide", "red", "n").apply(book)
    assert (book.shelf[0].name, book.shelf[0].color, book.shelf[0].note) == ("tide", "red", "n")
    assert TakeOffShelf("s1").apply(book).shelf == ()
    with pytest.raises(EditRefused, match="needs a name"):
        DescribeShelved("s1", " ", "", "").apply(book)


def test_commands_come_back_from_the_journal_as_they_were():
    for command in (
        KeepVersion("c1", "v1", "x"),
        SwapVersion("c1", "v1", "v2", "y"),
        PutOnShelf(Shelved("s1", "x", (PIECE,))),
        DescribeChapter("c1", "red", "n"),
    ):
        kind = adapter(KINDS[type(command).__name__])
        assert kind.validate_json(kind.dump_json(command)) == command


def test_colours_notes_and_versions_stay_with_a_chapter_that_is_split_or_joined():
    book = DescribeChapter("c1", "red", "hear again").apply(KeepVersion("c1", "v1", "x").apply(BOOK))
    split = SplitChapter("c1", 3, 4000, ("t1", "t2"), ("One", "One b")).apply(book)
    assert [(c.color, c.note, [v.name for v in c.versions]) for c in split.chapters[:2]] == [
        ("red", "hear again", ["x (before the split)"]), ("red", "", []),
    ]  # fmt: skip
    joined = JoinChapters("c1", split.chapters[1].id, "t", "", 3).apply(split)
    assert (joined.chapters[0].color, joined.chapters[0].note, len(joined.chapters[0].versions)) == ("red", "hear again", 1)


def test_chapters_that_are_joined_keep_every_finding_marker_and_level_apart():
    def chapter(name, level, muted=False):
        lanes = (
            Lane("voice", (Piece("r", 0, 5000),), gain_db=level),
            Lane("clerk", (Rest(100), Piece("r", 0, 4000)), muted=muted),
        )
        findings = (Finding("f0001", Kind.MISREAD, "a", "b", 0, 1, 10, 20, 0.9),)
        return ChapterState(name, name, "t", "r", "", findings, Reel(lanes, (Marker("m1", 30),)))

    line = Pickup("p", "c2", ("f0001",), "a line", "b", 0, 1, 0, 9)
    book = Book(chapters=(chapter("c1", 0.0), chapter("c2", -4.0), chapter("c3", 2.0)), pickups=(line,))
    joined = JoinChapters("c1", "c3", "t", "", 2, 2).apply(JoinChapters("c1", "c2", "t", "", 1, 2).apply(book))
    (one,) = joined.chapters
    assert [f.id for f in one.findings] == ["f0001", "f0001-2", "f0001-3"]
    assert [f.word_index for f in one.findings] == [0, 1, 2]
    assert joined.pickups[0].findings == ("f0001-2",)
    stet = Decide("c1", ("f0001",), Decision.STET, edition=2).apply(joined).chapters[0]
    assert [f.decision for f in stet.findings] == [Decision.STET, Decision.OPEN, Decision.OPEN]
    assert [m.at for m in one.reel.markers] == [30, 5030, 10_030]
    assert len({m.id for m in one.reel.markers}) == 3
    assert [s.gain_db for s in one.reel.lanes[0].segments] == [0.0, -4.0, 2.0]
    other = Book(chapters=(chapter("c1", 0.0), chapter("c2", 0.0, muted=True)))
    with pytest.raises(EditRefused, match="clerk is muted"):
        JoinChapters("c1", "c2", "t", "", 1, 2).apply(other)


def test_the_shelf_of_the_house_is_files_that_any_window_reads(tmp_path):
    shelf = HouseShelf(tmp_path / "shelf")
    assert shelf.items() == []
    x = np.random.default_rng(1).uniform(-0.5, 0.5, 5000).astype(np.float32)
    made = shelf.put(" room tone ", [x[:3000], x[3000:]], 44_100, note="the blue room")
    assert (made.name, made.length) == ("room tone", 5000)
    np.testing.assert_allclose(soundfile.read(shelf.sound(made.id), dtype="float32")[0], x, atol=2e-7)
    shelf.put("Credits", [x], 48_000)
    other = HouseShelf(tmp_path / "shelf")
    assert [(i.name, i.rate) for i in other.items()] == [("Credits", 48_000), ("room tone", 44_100)]
    other.describe(made.id, "tone", "red", "n")
    assert [(i.name, i.color, i.length) for i in shelf.items()][1] == ("tone", "red", 5000)
    shelf.remove(made.id)
    assert [i.name for i in other.items()] == ["Credits"]
    assert sorted(p.suffix for p in (tmp_path / "shelf" / "removed").iterdir()) == [".flac", ".json"]
    with pytest.raises(StoreProblem, match="no longer"):
        shelf.describe(made.id, "x", "", "")
    with pytest.raises(StoreProblem, match="needs a name"):
        shelf.put("", [x], 48_000)


def test_the_house_shelf_leaves_nothing_behind_when_it_can_not_write(tmp_path):
    folder = tmp_path / "shelf"
    shelf = HouseShelf(folder)

    def stops():
        yield np.zeros(100, np.float32)
        raise StoreProblem("the disk is full")

    with pytest.raises(StoreProblem, match="“x” could not"):
        shelf.put("x", stops(), 44_100)
    assert list(folder.iterdir()) == []
    (folder / ("0" * 32 + ".json")).write_text('{"name": 3}')
    (folder / "odd.json").write_text("{")
    assert shelf.items() == []
    folder.joinpath("file").write_text("")
    with pytest.raises(StoreProblem):
        HouseShelf(folder / "file").put("x", [np.zeros(10, np.float32)], 44_100)


def test_a_reel_from_outside_is_taken_only_where_it_can_be_played():
    reel = reel_of("r", 9000)
    taken = TakeReel("c1", EditReel("c1", CutAndClose(10, 500)).apply(BOOK).chapters[0].reel, "Bring in a.otio", "v1", "before")
    after = taken.apply(BOOK).chapters[0]
    assert after.reel == taken.reel
    assert [v.reel for v in after.versions] == [reel]
    for wrong in (reel_of("r", 9001), reel_of("q", 10), replace(reel, lanes=())):
        with pytest.raises(EditRefused, match="This reel plays"):
            replace(taken, reel=wrong).apply(BOOK)
