"""Two copies of a book: what one has more is found, taken over as steps, and never lies over what was done here unasked."""

from __future__ import annotations

import random
import shutil
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from faithful_reel.core.book.commands import (
    EDITION,
    AddChapters,
    AddFinding,
    AddRecording,
    Decide,
    EditReel,
    NoteFinding,
    NoteName,
    PairRecording,
    PlaceHearing,
    RenameChapter,
    Settle,
    SignOff,
)
from faithful_reel.core.book.keeping import archived, opened_apart, recordings_from, unpacked
from faithful_reel.core.book.kept import DescribeChapter, PutOnShelf
from faithful_reel.core.book.model import Shelved
from faithful_reel.core.book.pickups import NotePickup, SendRound
from faithful_reel.core.book.recordings import received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore, Contents
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.pickups.ledger import Pickup, Round, State
from faithful_reel.core.reel.commands import CutAndClose, Paste
from faithful_reel.core.reel.reel import Piece
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.work.copies import What, differences, parted, steps_of
from faithful_reel.core.work.timeline import Hearing

RATE, SECONDS = 44_100, 20
TEXT = chapter_of("One", ["The tide went out. A line of green bottles lay there. Nobody spoke, and nobody came to look."])


def sound(path, seed):
    x = np.random.default_rng(seed).standard_normal(SECONDS * RATE) * 0.05
    soundfile.write(path, x.astype(np.float32), RATE, "PCM_16")
    return path


def finding(chapter, word, kind=Kind.MISREAD):
    start = RATE * (1 + word)
    return Finding(f"f{word}", kind, TEXT.words[word].text, f"heard{word}", word, 1, start, start + 9000, 0.9)


class Copy:
    """One of the two books."""

    def __init__(self, folder: Path, *, create=False):
        self.folder = folder
        self.store = BookStore(folder, create=create, name=folder.stem)
        self.session = Session(self.store)

    @property
    def book(self):
        return self.session.book

    def do(self, *commands):
        for command in commands:
            self.session.do(command)

    def close(self):
        self.store.close()


@pytest.fixture
def pair(tmp_path):
    """A book with two chapters that were heard, and the copy that somebody else works on."""
    here = Copy(tmp_path / "here.reelbook", create=True)
    key = here.store.put(Chapter, TEXT)
    here.do(AddChapters((("c1", "One", key), ("c2", "Two", key))))
    for k in (1, 2):
        recording = received(here.folder, sound(tmp_path / f"r{k}.wav", k), RATE)
        own = tuple(finding(f"c{k}", word) for word in range(6))
        here.do(AddRecording(recording), PairRecording(f"c{k}", recording.hash), PlaceHearing(f"c{k}", "", own, EDITION))
    archived(here.folder, tmp_path / "out.reelarchive")
    there = Copy(unpacked(tmp_path / "out.reelarchive", tmp_path / "there.reelbook"))
    yield Pair(here, there, tmp_path)
    here.close()
    there.close()


class Pair:
    def __init__(self, here, there, folder):
        self.here, self.there, self.folder = here, there, folder
        self.base = here.book

    def compared(self):
        """What the other copy has more, by its archive."""
        out = self.folder / "back.reelarchive"
        archived(self.there.folder, out)
        apart = self.folder / "apart.reelbook"
        shutil.rmtree(apart, ignore_errors=True)
        opened_apart(out, apart)
        copies = parted(self.here.folder, self.here.store.head, apart, "back", Unwatched())
        assert copies.there == self.there.book
        assert copies.base == self.base
        return differences(self.here.book, copies, "back")

    def take(self, rows):
        """Take rows over; each step can be undone and done again."""
        for step in steps_of(rows, "back"):
            recordings_from(self.folder / "back.reelarchive", step.recordings, self.here.folder)
            before = self.here.book
            self.here.do(step)
            after = self.here.book
            self.here.session.undo()
            assert self.here.book == before
            self.here.session.redo()
            assert self.here.book == after


def line(chapter, word):
    return Pickup(f"{chapter}-{word}", chapter, (f"f{word}",), "a line", "", word, 2, 0, 9)


def acts(rng, copy, who):
    """A few acts at random, of either of two people."""
    for number in range(rng.randrange(1, 9)):
        chapter, word = rng.choice(["c1", "c2"]), rng.randrange(6)
        decision = rng.choice(list(Decision))
        asked = line(chapter, word) if decision is Decision.PICKUP else None
        length = len(copy.book.chapter(chapter).reel)
        at = rng.randrange(length - 20_000)
        hand = replace(finding(chapter, word, Kind.OTHER), id=f"h{who}{number}", heard="", note=f"{who} {number}")
        made = rng.choice(
            [
                Decide(chapter, (f"f{word}",), decision, "", asked, EDITION),
                Decide(chapter, (f"f{word}",), decision, "", asked, EDITION),
                NoteFinding(chapter, f"f{word}", f"{who} says {number}"),
                AddFinding(chapter, hand),
                DescribeChapter(chapter, "", f"{who} {number}"),
                NoteName(rng.choice(["Nell", "Tarrow"]), f"{who} {number}"),
                EditReel(chapter, CutAndClose(at, at + rng.randrange(1000, 9000)), edition=EDITION),
            ]
        )
        copy.do(made)


def merged(base, here, there):
    """What stands where: by three values each, told without the code under test.  Theirs only where ours was not touched."""
    if there in (base, here):
        return here
    return there if here == base else here


@pytest.mark.parametrize("seed", range(40))
def test_what_was_not_touched_here_becomes_theirs_and_all_else_stays(pair, seed):
    rng = random.Random(seed)
    acts(rng, pair.here, "ours")
    acts(rng, pair.there, "theirs")
    before, there = pair.here.book, pair.there.book
    rows = pair.compared()
    pair.take([row for row in rows if not row.clash])
    after = pair.here.book
    for own, was, other, now in zip(before.chapters, pair.base.chapters, there.chapters, after.chapters, strict=True):
        told = [{f.id: f for f in c.findings} for c in (was, own, other, now)]
        for name in (f"f{word}" for word in range(6)):
            fs = [rows[name] for rows in told]
            assert fs[3].decision == merged(*(f.decision for f in fs[:3])), name
            assert fs[3].note == merged(*(f.note for f in fs[:3])), name
        by_hand = lambda c: {f.note for f in c.findings if f.id.startswith("h")}  # noqa: E731
        assert by_hand(now) == by_hand(own) | by_hand(other)
        assert now.reel == merged(was.reel, own.reel, other.reel)
        assert now.note == merged(was.note, own.note, other.note)
        asked = {f for p in after.pickups if p.chapter == now.id and p.state is not State.DROPPED for f in p.findings}
        assert asked == {f.id for f in now.findings if f.decision is Decision.PICKUP}
    for word in ("Nell", "Tarrow"):
        assert dict(after.say).get(word) == merged(*(dict(b.say).get(word) for b in (pair.base, before, there)))
    left = pair.compared()
    assert {row.key for row in left} == {row.key for row in rows if row.clash}
    pair.take(left)  # asked for: theirs lies over ours, and our edits are kept as a version
    final = pair.here.book
    for own, other, now in zip(before.chapters, there.chapters, final.chapters, strict=True):
        theirs = {row.key for row in left if row.chapter == now.id}
        if any(key.startswith(f"{now.id} edits") for key in theirs):
            assert now.reel == other.reel
            assert own.reel in [v.reel for v in now.versions]
    assert not [row for row in pair.compared() if not row.why]


def test_a_book_that_was_not_made_from_this_one_is_refused(pair, tmp_path):
    other = Copy(tmp_path / "other.reelbook", create=True)
    other.do(NoteName("Nell", "nel"))
    other.close()
    archived(other.folder, tmp_path / "o.reelarchive")
    opened_apart(tmp_path / "o.reelarchive", tmp_path / "o")
    with pytest.raises(FileProblem, match="no step in common"):
        parted(pair.here.folder, pair.here.store.head, tmp_path / "o", "o", Unwatched())


def test_steps_that_were_undone_here_do_not_part_the_copies_later_than_they_did(pair):
    pair.here.session.undo()
    pair.base = pair.here.book
    pair.here.do(NoteName("Nell", "nel"))
    pair.there.do(Decide("c1", ("f1",), Decision.STET, edition=EDITION))
    rows = pair.compared()
    assert {(row.chapter, row.what) for row in rows} == {("c1", What.DECISION), ("c2", What.FINDING)}
    pair.take(rows)
    assert [c.findings for c in pair.here.book.chapters] == [c.findings for c in pair.there.book.chapters]


def test_takes_and_edits_bring_their_recordings_which_are_whole(pair, tmp_path):
    recording = received(pair.there.folder, sound(tmp_path / "pickup.wav", 9), RATE)
    asked = line("c1", 2)
    pair.there.do(Decide("c1", ("f2",), Decision.PICKUP, "", asked, EDITION), AddRecording(recording))
    name = pair.there.book.pickups[0].id
    pair.there.do(
        NotePickup(name, "slowly"),
        SendRound(Round(1, (name,), to="the narrator")),
        EditReel("c1", Paste(RATE, 2 * RATE, ((0, (Piece(recording.hash, 0, 9000),)),), edition=2), edition=EDITION),
    )
    rows = pair.compared()
    kinds = {row.what for row in rows}
    assert kinds == {What.DECISION, What.PICKUP, What.EDITS}
    assert [r.hash for row in rows for r in row.take.recordings] == [recording.hash]
    pair.take(rows)
    assert pair.here.book.chapter("c1").reel == pair.there.book.chapter("c1").reel
    assert pair.here.book.pickups == pair.there.book.pickups
    assert pair.here.book.rounds == pair.there.book.rounds
    copied = pair.here.folder / "recordings" / recording.stored
    assert copied.read_bytes() == (pair.there.folder / "recordings" / recording.stored).read_bytes()
    assert not copied.stat().st_mode & 0o222


def test_a_round_whose_number_is_taken_here_gets_another(pair):
    for copy, word, to in ((pair.here, 1, "Jo"), (pair.there, 2, "Mara")):
        copy.do(Decide("c1", (f"f{word}",), Decision.PICKUP, "", line("c1", word), EDITION))
        copy.do(SendRound(Round(1, (f"c1-{word}",), to=to)))
    pair.take(pair.compared())
    assert {(r.to, r.pickups) for r in pair.here.book.rounds} == {("Jo", ("c1-1",)), ("Mara", ("c1-2",))}
    number = {r.to: r.number for r in pair.here.book.rounds}
    assert {p.id: p.round for p in pair.here.book.pickups} == {"c1-1": number["Jo"], "c1-2": number["Mara"]}
    assert number["Jo"] == 1


def test_a_round_that_went_out_over_two_chapters_comes_once(pair):
    pair.here.do(Decide("c1", ("f1",), Decision.PICKUP, "", line("c1", 1), EDITION), SendRound(Round(1, ("c1-1",), to="Jo")))
    for chapter in ("c1", "c2"):
        pair.there.do(Decide(chapter, ("f2",), Decision.PICKUP, "", line(chapter, 2), EDITION))
    pair.there.do(SendRound(Round(1, ("c1-2", "c2-2"), to="Mara")))
    rows = pair.compared()
    pair.take([row for row in rows if row.chapter == "c1"])
    pair.take(pair.compared())  # the other chapter later
    assert sorted((r.to, r.pickups) for r in pair.here.book.rounds) == [("Jo", ("c1-1",)), ("Mara", ("c1-2", "c2-2"))]
    number = next(r.number for r in pair.here.book.rounds if r.to == "Mara")
    assert {p.id: p.round for p in pair.here.book.pickups} == {"c1-1": 1, "c1-2": number, "c2-2": number}


def test_a_line_that_is_asked_for_in_both_and_reads_other_words_is_told(pair):
    pair.here.do(Decide("c1", ("f1",), Decision.PICKUP, "", line("c1", 1), EDITION))
    longer = replace(line("c1", 1), id="c1-0", first_word=0, word_count=4)
    pair.there.do(Decide("c1", ("f1",), Decision.PICKUP, "", longer, EDITION))
    assert [(row.what, row.id) for row in pair.compared()] == [(What.PICKUP, "c1-0")]


def test_edits_that_are_taken_twice_keep_two_versions(pair):
    for _ in range(2):
        pair.here.do(EditReel("c1", CutAndClose(1000, 3000), edition=EDITION))
        pair.there.do(EditReel("c1", CutAndClose(9000, 9500), edition=EDITION))
        pair.take(pair.compared())
        assert pair.here.book.chapter("c1").reel == pair.there.book.chapter("c1").reel
    versions = pair.here.book.chapter("c1").versions
    assert len({v.id for v in versions}) == len(versions) == 2


def test_other_bytes_under_a_recordings_name_do_not_come_in(pair, tmp_path):
    recording = received(pair.there.folder, sound(tmp_path / "pickup.wav", 9), RATE)
    pair.there.do(AddRecording(recording), PutOnShelf(Shelved("s1", "a sound", (Piece(recording.hash, 0, 9000),))))
    path = pair.there.folder / "recordings" / recording.stored
    path.chmod(0o644)
    path.write_bytes(sound(tmp_path / "other.wav", 10).read_bytes())
    [row] = pair.compared()
    with pytest.raises(FileProblem, match="does not hold the recording"):
        recordings_from(tmp_path / "back.reelarchive", row.take.recordings, pair.here.folder)
    assert not (pair.here.folder / "recordings" / recording.stored).exists()


def test_a_recording_that_the_archive_does_not_hold_is_told_and_nothing_is_left_half(pair, tmp_path):
    recording = received(pair.there.folder, sound(tmp_path / "pickup.wav", 9), RATE)
    pair.there.do(AddRecording(recording), PutOnShelf(Shelved("s1", "a sound", (Piece(recording.hash, 0, 9000),))))
    (pair.there.folder / "recordings" / recording.stored).unlink()
    [row] = pair.compared()
    before = sorted(p.name for p in (pair.here.folder / "recordings").iterdir())
    with pytest.raises(FileProblem, match="does not hold the recording"):
        recordings_from(tmp_path / "back.reelarchive", row.take.recordings, pair.here.folder)
    assert sorted(p.name for p in (pair.here.folder / "recordings").iterdir()) == before


def test_what_was_heard_there_comes_with_its_findings_and_what_was_decided_here_stays(pair):
    pair.here.do(Decide("c1", ("f1",), Decision.STET, edition=EDITION), NoteFinding("c1", "f1", "ours"))
    heard = (*(finding("c1", word) for word in range(6)), finding("c1", 8))
    said = Hearing((), (None,) * len(TEXT.words), ())
    key = pair.there.store.put(Hearing, said)
    pair.there.do(PlaceHearing("c1", key, heard, EDITION), Decide("c1", ("f8",), Decision.STET, edition=EDITION))
    rows = pair.compared()
    assert [(row.what, bool(row.why)) for row in rows] == [(What.DECISION, True), (What.HEARING, False)]
    with closing(Contents(pair.folder / "apart.reelbook")) as contents:
        pair.here.store.put(Hearing, contents.get(Hearing, key))
    pair.take(rows)
    now = pair.here.book.chapter("c1")
    assert now.hearing == key
    assert [(f.id, f.decision, f.note) for f in now.findings if f.id in ("f1", "f8")] == [
        ("f1", Decision.STET, "ours"),
        ("f8", Decision.OPEN, ""),
    ]
    [again] = pair.compared()  # now that it is here, what was decided of it can be taken over
    assert (again.what, again.why, again.there) == (What.DECISION, "", "stet")


def test_what_has_to_be_done_by_hand_is_told_and_takes_nothing(pair):
    pair.there.do(RenameChapter("c2", "Two: High Water"), SignOff("c1", "key"), Settle("c1", "f3", kept=True))
    rows = pair.compared()
    assert [(row.what, bool(row.why)) for row in rows] == [
        (What.DECISION, False), (What.DECISION, False), (What.OTHER, True),
    ]  # fmt: skip
    assert steps_of([row for row in rows if row.why], "back") == []
    pair.take(rows)
    assert pair.here.book.chapter("c2").title == "Two"
    assert pair.here.book.chapter("c1").signed == "key"


def test_a_chapter_with_another_text_gives_nothing_over(pair):
    other = pair.here.store.put(Chapter, chapter_of("One", ["Other words."]))
    with closing(pair.here.store):
        chapter = replace(pair.here.book.chapter("c1"), text=other)
        here = pair.here.book.with_chapter("c1", lambda _: chapter)
        pair.there.do(Decide("c1", ("f1",), Decision.STET, edition=EDITION), NoteName("Nell", "nel"))
        pair.compared()
        copies = parted(pair.here.folder, pair.here.store.head, pair.folder / "apart.reelbook", "back", Unwatched())
        rows = differences(here, copies, "back")
    assert [(row.what, bool(row.why)) for row in rows] == [(What.DECISION, True), (What.NAMES, False)]


def test_a_name_that_is_taken_here_is_no_other_finding(pair):
    ours = replace(finding("c1", 4, Kind.OTHER), id="h0001", note="ours", heard="")
    theirs = replace(finding("c1", 9, Kind.OTHER), id="h0001", note="theirs", heard="", decision=Decision.PICKUP)
    pair.here.do(AddFinding("c1", ours))
    pair.there.do(AddFinding("c1", replace(theirs, decision=Decision.OPEN)))
    pair.there.do(Decide("c1", ("h0001",), Decision.PICKUP, "", replace(line("c1", 9), findings=("h0001",)), EDITION))
    rows = pair.compared()
    pair.take(rows)
    notes = {f.note: (f.id, f.decision) for f in pair.here.book.chapter("c1").findings if f.note}
    assert notes["ours"] == ("h0001", Decision.OPEN)
    name, decision = notes["theirs"]
    assert (name != "h0001", decision) == (True, Decision.PICKUP)
    assert [p.findings for p in pair.here.book.pickups] == [(name,)]
    with pytest.raises(EditRefused, match="Compare them again"):
        pair.here.do(*steps_of(rows, "back"))
