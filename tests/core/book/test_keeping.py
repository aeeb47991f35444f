"""Backups, archives, verifying, and recordings that were lost."""

from __future__ import annotations

import json
import shutil
import time
import zipfile

import numpy as np
import pytest
import soundfile
from support.sounds import noise, speech_like

from faithful_reel.core.book import recordings
from faithful_reel.core.book.commands import AddChapters, AddRecording, EditReel, PairRecording, RelinkRecording, SetDetails
from faithful_reel.core.book.condition import whole_backups
from faithful_reel.core.book.keeping import (
    ARCHIVE_SUFFIX,
    KEEP_NEWEST,
    archived,
    backed_up,
    backups,
    restored,
    unpacked,
    verified,
)
from faithful_reel.core.book.model import Stretch
from faithful_reel.core.book.recordings import (
    decode,
    faults,
    found_again,
    joined,
    path_of,
    put_back,
    received,
    stand_in,
    touched_faults,
)
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import AppError, BookDamaged, Cancelled, FileProblem, StoreProblem
from faithful_reel.core.jobs import FlagWatch
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.text.words import Chapter, chapter_of


@pytest.fixture
def book(tmp_path):
    """A closed book with two recordings and a few steps; the sources lie beside it."""
    folder = tmp_path / "b.reelbook"
    for name, seed in (("one.wav", 1), ("two.flac", 2)):
        soundfile.write(
            tmp_path / name, np.concatenate([noise(seconds=2, rms_db=-64), speech_like(seconds=4, seed=seed)]), 44_100
        )
    with BookStore(folder, create=True) as store:
        session = Session(store)
        session.do(AddChapters((("c1", "One", store.put(Chapter, chapter_of("One", ["Words."]))),)))
        for name in ("one.wav", "two.flac"):
            session.do(AddRecording(received(folder, tmp_path / name, 44_100)))
        session.do(PairRecording("c1", session.book.recordings[0].hash))
        session.do(EditReel("c1", CutAndClose(1000, 2000)))
        session.close()
    return folder


def opened(folder):
    with BookStore(folder) as store:
        return Session(store).book


# --- backups ------------------------------------------------------------------------------------------------------


def test_a_backup_brings_the_book_back_after_the_database_was_damaged(book):
    before = opened(book)
    backup = backed_up(book)
    (book / "book.sqlite").write_bytes(b"\0" * 5000)
    with pytest.raises(BookDamaged, match=r"1 of its backups is whole, the newest step at 20.*: restore it"):
        BookStore(book)
    kept = restored(book, backup)
    assert opened(book) == before
    assert kept.read_bytes() == b"\0" * 5000  # the damaged one is kept, for whoever can still read it


@pytest.mark.parametrize("spoil", ["cut", "middle", "gone"])
def test_a_damaged_database_is_told_and_can_be_restored(book, spoil):
    before = opened(book)
    backup = backed_up(book)
    database = book / "book.sqlite"
    raw = bytearray(database.read_bytes())
    if spoil == "cut":
        database.write_bytes(raw[: len(raw) // 3])
    elif spoil == "middle":
        for at in range(4096, len(raw), 4096):
            raw[at : at + 512] = b"\xa5" * 512
        database.write_bytes(raw)
    else:
        database.unlink()
    with pytest.raises(BookDamaged), BookStore(book) as store:
        Session(store)
    restored(book, backup)
    assert opened(book) == before


def test_a_backup_can_be_made_while_the_book_is_at_work(book):
    with BookStore(book) as store:
        session = Session(store)
        session.do(SetDetails("Worked on", "", ""))
        backup = backed_up(book)
        session.do(SetDetails("Later", "", ""))
    restored(book, backup)
    assert opened(book).title == "Worked on"


def test_old_backups_are_thinned_out_but_one_a_day_stays(book, monkeypatch):
    days = [f"202601{day:02}" for day in range(1, 25)]
    for day in days:
        for hour in ("09", "17"):
            at_clock(monkeypatch, f"{day}-{hour}0000")
            backed_up(book)
    names = [p.name for p in backups(book)]
    assert names[0] == "book-000048-20260124-170000.sqlite"
    assert len(names) == KEEP_NEWEST // 2 + 14
    assert "book-000022-20260111-170000.sqlite" in names
    assert "book-000021-20260111-090000.sqlite" not in names


def at_clock(monkeypatch, name):
    monkeypatch.setattr(time, "strftime", lambda _format, *_: name)


def test_a_clock_that_is_set_back_or_ahead_costs_no_backup(book, monkeypatch):
    """A flight west, a dead battery, the zone of another country: the newest by number is the newest, and stays."""
    old = book / "backups" / "book-20991231-235959.sqlite"
    for name in (old, old.with_name("book-20981231-235959.sqlite")):  # of an earlier version, by local time
        backed_up(book).rename(name)
        with BookStore(book) as store:
            Session(store).do(SetDetails(f"step after {name.stem}", "", ""))
    assert [p.name[5:9] for p in backups(book)] == ["2098", "2099"]  # by what they hold
    made = []
    for k, clock in enumerate(
        ("20261201-120000", "20261201-090000", "20261202-180000", "19700101-000000", "20261201-100000") * 3
    ):
        at_clock(monkeypatch, clock)
        with BookStore(book) as store:
            Session(store).do(SetDetails(f"Title {k}", "", ""))
        made.append(backed_up(book))
        assert backups(book)[0] == made[-1]
        assert all(p.exists() for p in made[-KEEP_NEWEST:])
    best = whole_backups(book)[0]
    assert (best.path, best.steps) == (made[-1], store_steps(book))
    (book / "book.sqlite").write_bytes(b"torn")
    restored(book, best.path)
    assert opened(book).title == "Title 14"


def store_steps(book):
    with BookStore(book) as store:
        return store.count()


def test_an_archive_is_written_by_a_clock_that_was_never_set(book, monkeypatch, tmp_path):
    monkeypatch.setattr(time, "gmtime", lambda *_: time.struct_time((1970, 1, 1, 0, 0, 0, 3, 1, 0)))
    assert unpacked(archived(book, tmp_path / "a.reelarchive"), tmp_path / "again.reelbook").is_dir()


def test_a_damaged_backup_is_refused_and_nothing_changes(book):
    before = opened(book)
    backup = backed_up(book)
    backup.write_bytes(b"nothing")
    with pytest.raises(StoreProblem, match="Try an older one"):
        restored(book, backup)
    assert opened(book) == before
    assert not list(book.glob("*.part"))


# --- archives -----------------------------------------------------------------------------------------------------


def test_an_archive_holds_the_whole_book(book, tmp_path):
    before = opened(book)
    out = archived(book, tmp_path / f"b{ARCHIVE_SUFFIX}")
    again = unpacked(out, tmp_path / "again.reelbook")
    assert opened(again) == before
    assert verified(again).sound
    assert {p.name: p.read_bytes() for p in (again / "recordings").iterdir()} == {
        p.name: p.read_bytes() for p in (book / "recordings").iterdir()
    }
    assert zipfile.ZipFile(out).testzip() is None  # any program that knows zip can read it


def test_an_open_book_can_be_archived(book, tmp_path):
    with BookStore(book) as store:
        Session(store).do(SetDetails("Open", "", ""))
        archived(book, tmp_path / "b.reelarchive")
    unpacked(tmp_path / "b.reelarchive", tmp_path / "again.reelbook")
    assert opened(tmp_path / "again.reelbook").title == "Open"


def repacked(source, out, change):
    """An archive with its parts changed by `change(parts)`."""
    with zipfile.ZipFile(source) as archive:
        parts = {n: archive.read(n) for n in archive.namelist()}
    change(parts)
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in parts.items():
            archive.writestr(name, data)


def outside(parts):
    manifest = json.loads(parts["manifest.json"])
    manifest["files"].append({"name": "../outside", "size": 1, "sha256": "x"})
    parts |= {"../outside": b"x", "manifest.json": json.dumps(manifest).encode()}


def bomb(parts):
    parts["book.sqlite"] = bytes(200 * 2**20)


def newer(parts):
    parts["manifest.json"] = parts["manifest.json"].replace(b'"version": 1', b'"version": 2')


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (outside, "holds files that no archive of a book holds"),
        (bomb, "is damaged: book.sqlite"),
        (newer, "newer version"),
        (lambda parts: parts.pop("manifest.json"), "not a whole archive"),
        (lambda parts: parts.pop("book.sqlite"), "not a whole archive"),
        (lambda parts: parts.update({"manifest.json": b"{"}), "not a whole archive"),
        (lambda parts: parts.update({"manifest.json": b"[]"}), "not an archive of a book"),
    ],
)
def test_a_hostile_archive_writes_nothing(book, tmp_path, change, message):
    archived(book, tmp_path / "b.reelarchive")
    repacked(tmp_path / "b.reelarchive", tmp_path / "bad.reelarchive", change)
    before = sorted(p.name for p in tmp_path.iterdir())
    with pytest.raises(FileProblem, match=message):
        unpacked(tmp_path / "bad.reelarchive", tmp_path / "again.reelbook")
    assert sorted(p.name for p in tmp_path.iterdir()) == before
    assert not (tmp_path.parent / "outside").exists()


def test_a_damaged_or_missing_archive_and_a_folder_in_the_way_are_told(book, tmp_path):
    out = archived(book, tmp_path / "b.reelarchive")
    with pytest.raises(StoreProblem, match="there already"):
        unpacked(out, book)
    out.write_bytes(out.read_bytes()[:-3000])
    with pytest.raises(FileProblem, match="Copy it again"):
        unpacked(out, tmp_path / "again.reelbook")
    with pytest.raises(FileProblem, match="not there"):
        unpacked(tmp_path / "none.reelarchive", tmp_path / "again.reelbook")
    with pytest.raises(StoreProblem, match="not a book"):
        archived(tmp_path, tmp_path / "c.reelarchive")


def test_a_cancelled_archive_leaves_nothing(book, tmp_path):
    before = sorted(p.name for p in tmp_path.iterdir())
    with pytest.raises(Cancelled):
        archived(book, tmp_path / "b.reelarchive", FlagWatch(lambda *_: None, lambda: True))
    assert sorted(p.name for p in tmp_path.iterdir()) == before


# --- verifying ----------------------------------------------------------------------------------------------------


def test_verifying_a_sound_book(book):
    result = verified(book)
    assert result.sound
    assert (result.steps, result.recordings) == (5, 2)


def test_verifying_finds_a_changed_byte_and_a_missing_file(book):
    paths = sorted((book / "recordings").iterdir())
    raw = bytearray(paths[0].read_bytes())
    raw[2000] ^= 1
    paths[0].chmod(0o644)
    paths[0].write_bytes(raw)
    paths[1].unlink()
    result = verified(book)
    assert {f.kind for f in result.faults} == {"changed", "missing"}
    with BookStore(book) as store:  # and the book still opens; at a glance, what is gone or of another size is told
        assert [f.kind for f in faults(book, Session(store).book)] == ["missing"]


def test_a_touched_file_is_read_again_and_an_untouched_one_is_not(book, monkeypatch):
    state = opened(book)
    assert touched_faults(book, state) == []
    read = []
    monkeypatch.setattr(recordings, "hash_of", lambda path, *_: read.append(path.name) or path.stem)
    assert touched_faults(book, state) == []
    assert read == []  # opening again costs nothing
    monkeypatch.undo()
    path = book / "recordings" / state.recordings[0].stored
    raw = bytearray(path.read_bytes())
    raw[2000] ^= 1
    path.chmod(0o644)
    path.write_bytes(raw)  # as many bytes as before
    assert [(f.name, f.kind) for f in touched_faults(book, state)] == [("one.wav", "changed")]
    assert [f.kind for f in touched_faults(book, state)] == ["changed"]  # and it stays told


# --- recordings that were lost ------------------------------------------------------------------------------------


def test_lost_recordings_are_found_again_by_their_bytes(book, tmp_path):
    state = opened(book)
    for recording in state.recordings:
        (book / "recordings" / recording.stored).unlink()
    away = tmp_path / "drive" / "raw"
    away.mkdir(parents=True)
    shutil.copy(tmp_path / "one.wav", away / "renamed by somebody.bin")
    soundfile.write(away / "another.wav", speech_like(seconds=6), 44_100)
    assert found_again(book, state, tmp_path / "drive") == [state.recordings[0].hash]
    assert [f.name for f in faults(book, state, hashes=True)] == ["two.flac"]
    with pytest.raises(StoreProblem, match="its bytes differ"):
        put_back(book, state.recordings[1], tmp_path / "one.wav")
    put_back(book, state.recordings[1], tmp_path / "two.flac")
    assert faults(book, state, hashes=True) == []


def test_another_file_can_stand_in_by_the_editors_word(book, tmp_path):
    state = opened(book)
    lost = state.recordings[0]
    (book / "recordings" / lost.stored).unlink()
    sound, _ = soundfile.read(tmp_path / "one.wav")
    soundfile.write(tmp_path / "short.wav", sound[:-44_100], 44_100)
    with pytest.raises(FileProblem, match="lasted 6"):
        stand_in(book, lost, tmp_path / "short.wav", 44_100)
    soundfile.write(tmp_path / "exported again.flac", sound, 44_100, subtype="PCM_24")
    with BookStore(book) as store:
        session = Session(store)
        session.do(RelinkRecording(stand_in(book, lost, tmp_path / "exported again.flac", 44_100)))
        assert session.book.chapter("c1").recording == lost.hash
        assert session.book.chapter("c1").reel == state.chapter("c1").reel
        assert faults(book, session.book, hashes=True) == []
        assert path_of(book, session.book.recording(lost.hash), 44_100).is_file()
        session.undo()
        assert [f.kind for f in faults(book, session.book)] == ["missing"]
        session.close()


def test_a_missing_recording_can_not_be_decoded_and_says_so(book):
    state = opened(book)
    made = joined(state, (Stretch(state.recordings[0].hash, 0, 1000),), "x")
    (book / "recordings" / state.recordings[0].stored).unlink()
    with pytest.raises(AppError, match="missing"):
        decode(book, state, made)
    assert not list((book / "decoded").iterdir())


def test_stretches_of_recordings_are_joined_sample_for_sample(book, tmp_path):
    state = opened(book)
    one, two = (r.hash for r in state.recordings)
    made = joined(state, (Stretch(two, 500, 90_000), Stretch(one, 0, 44_100)), "both")
    decode(book, state, made)
    sound, rate = soundfile.read(path_of(book, made, 44_100), dtype="float32")
    a, _ = soundfile.read(tmp_path / "one.wav", dtype="float32")
    b, _ = soundfile.read(tmp_path / "two.flac", dtype="float32")
    assert rate == 44_100
    assert len(sound) == made.length == 89_500 + 44_100
    assert np.array_equal(sound, np.concatenate([b[500:90_000], a[:44_100]]))
    assert joined(state, made.parts, "again").hash == made.hash
