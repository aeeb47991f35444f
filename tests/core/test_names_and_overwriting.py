"""Files and folders under every kind of name, and outputs that are inputs by any spelling."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
import soundfile
from support.sounds import speech_like

from faithful_reel.core.book.commands import SetDetails
from faithful_reel.core.book.keeping import archived, backed_up, restored, unpacked, verified
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import AppError, BookDamaged
from faithful_reel.core.files import address, beside, harmless, named, plain, refuse_over, shortened
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.release.package import file_name, release_chapters
from faithful_reel.core.standins.booth import prepared_files
from faithful_reel.core.work.reporting import write_report

NAMES = [
    "Who Goes There?",
    "No. 5 #1",
    "100%41 sure%",
    "two\nlines",
    " spaces ",
    "-dash",
    "quote'\"`$(x)",
    "日本語の本",
    "é" * 100,
    "b\udcff\udcfe",  # bytes that are no UTF-8
    "file:x?mode=memory",
    "a&b=c;d",
]


def a_book(folder: Path) -> int:
    with BookStore(folder, create=True) as store:
        session = Session(store)
        for k in range(5):
            session.do(SetDetails(f"title {k}", "", ""))
        session.close()
        return store_count(folder)


def store_count(folder: Path) -> int:
    with BookStore(folder) as store:
        return store.count()


@pytest.mark.parametrize("name", NAMES)
def test_backups_and_archives_of_a_book_under_any_name_hold_all_of_it(tmp_path, name):
    book = tmp_path / f"{name}.reelbook"
    with BookStore(book, create=True) as store:
        session = Session(store)
        for k in range(5):
            session.do(SetDetails(f"title {k}", "", ""))
        session.close()
    backup = backed_up(book)
    assert backup.stat().st_size > 10_000
    archive = archived(book, tmp_path / "a.reelarchive")
    again = unpacked(archive, tmp_path / f"{name} again.reelbook"[-200:])
    assert store_count(again) == 5
    assert verified(book).sound
    restored(book, backup)
    assert store_count(book) == 5
    with BookStore(book) as store:
        assert Session(store).book.title == "title 4"
    assert sorted(p.name for p in tmp_path.iterdir() if p.name.endswith((".sqlite", ".part"))) == []


def call(*args: object, folder: Path) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run(
        [sys.executable, "-m", "faithful_reel", *map(os.fsencode, map(str, args))],
        capture_output=True,
        cwd=folder,
        check=False,
    )


@pytest.mark.parametrize("name", ["b\udcff\udcfe?#%41", "two\nlines", "ü" * 120])
def test_every_word_works_on_files_under_hostile_names(tmp_path, demo, name):
    sound = tmp_path / f"{name}.flac"
    shutil.copy(demo / "chapter-2.flac", sound)
    text = tmp_path / f"{name}.txt"
    shutil.copy(demo / "chapter-2.txt", text)
    docx = tmp_path / f"{name}.docx"
    shutil.copy(demo / "manuscript.docx", docx)
    out = tmp_path / f"{name} out.wav"
    book = tmp_path / f"{name}.reelbook"
    archive = tmp_path / f"{name}.reelarchive"
    words = [
        (1, ("intake", sound, "--json")),
        (0, ("master", sound, "--out", out, "--json")),
        (0, ("check", out, "--json")),
        (0, ("new", book, "--manuscript", docx, "--recording", sound)),
        (0, ("verify", book, "--json")),
        (0, ("archive", book)),
        (0, ("unpack", archive, "--out", tmp_path / f"again {name[:80]}.reelbook")),
    ]
    for wanted, args in words:
        done = call(*args, folder=tmp_path)
        assert b"Traceback" not in done.stderr, done.stderr.decode(errors="replace")
        assert done.returncode in (0, wanted), (args[0], done.stderr.decode(errors="replace"))
        if "--json" in args:
            json.loads(done.stdout.decode("utf-8"))
    assert archive.stat().st_size > 100_000


def test_a_name_of_255_bytes_is_written_and_archived(tmp_path):
    sound = tmp_path / ("a" * 251 + ".wav")
    soundfile.write(sound, speech_like(seconds=6), 44_100)
    book = tmp_path / ("b" * 246 + ".reelbook")
    assert call("new", book, "--recording", sound, folder=tmp_path).returncode == 0
    assert call("archive", book, folder=tmp_path).returncode == 0
    out = tmp_path / ("c" * 251 + ".wav")
    assert call("master", sound, "--out", out, folder=tmp_path).returncode in (0, 1)
    assert out.is_file()


def test_a_release_title_of_a_hundred_wide_letters_fits():
    name = file_name(1, "潮" * 100, ".mp3")
    assert len(name.encode()) <= 200
    assert name.startswith("01 潮潮")


def test_shortened_never_cuts_inside_a_character():
    for most in range(12):
        cut = shortened("潮é a", most)
        assert "潮é a".startswith(cut)
        assert len(cut.encode()) <= most
    assert named(Path("x/" + "n" * 250 + ".reelbook"), ".reelarchive").name == "n" * 243 + ".reelarchive"


@pytest.mark.parametrize("name", NAMES)
def test_the_address_of_a_database_leads_to_that_very_file(tmp_path, name):
    import sqlite3

    path = tmp_path / f"{name}.sqlite"
    with sqlite3.connect(address(path), uri=True) as db:
        db.execute("CREATE TABLE t (x)")
    db.close()
    assert path.stat().st_size > 0
    assert len(list(tmp_path.iterdir())) == 1


def test_a_half_written_file_has_a_name_nobody_can_guess(tmp_path):
    names = {beside(tmp_path / ("n" * 255)).name for _ in range(20)}
    assert len(names) == 20
    assert all(len(n) < 60 and n.startswith(".") for n in names)


@pytest.mark.parametrize("name", ["../../evil", "a/b", "", ".hidden", "x\0y", "n" * 300])
def test_a_book_may_only_name_files_of_its_own(name):
    with pytest.raises(BookDamaged):
        plain(name)


@pytest.mark.parametrize("cell", ["=1+1", "+1", "-1", "@x", "\tx", "\r=1"])
def test_cells_that_a_spreadsheet_would_calculate_are_made_harmless(cell):
    assert harmless(cell) == f"'{cell}"
    assert harmless(f"a{cell}") == f"a{cell}"


# --- output equal to input ----------------------------------------------------------------------------------------


@pytest.fixture
def sources(tmp_path, demo):
    """A chapter, its script and a pickup, with a hard link, a symbolic link and a folder that leads to them."""
    folder = tmp_path / "in"
    folder.mkdir()
    for name in ("chapter-2.flac", "chapter-2.txt", "pickups-1.flac"):
        shutil.copy(demo / name, folder / name)
    return folder


def spellings(source: Path):
    """Other ways to say the same path."""
    folder = source.parent
    hard, soft = folder / f"hard{source.suffix}", folder / f"soft{source.suffix}"
    if not hard.exists():
        os.link(source, hard)
        soft.symlink_to(source.name)
        (folder.parent / "way").symlink_to(folder)
    return [source, folder / ".." / folder.name / source.name, hard, soft, folder.parent / "way" / source.name]


def test_no_word_writes_over_what_it_reads_by_any_spelling(sources):
    audio, script, pickup = sources / "chapter-2.flac", sources / "chapter-2.txt", sources / "pickups-1.flac"
    before = {p: p.read_bytes() for p in (audio, script, pickup)}
    for out in spellings(audio):
        for args in (
            ("master", audio, "--out", out),
            ("rough", "--audio", audio, "--script", script, "--out", out),
            ("splice", "--audio", pickup, "--script", script, "--pickup", audio, "--line", "x", "--out", out),
            ("splice", "--audio", audio, "--script", script, "--pickup", pickup, "--line", "x", "--out", out),
        )[: 4 if out == audio else 2]:
            done = call(*args, folder=sources)
            assert done.returncode == 2
            assert b"is the source itself" in done.stderr
    done = call("rough", "--audio", audio, "--script", script, "--out", script, folder=sources)
    assert done.returncode == 2
    assert {p: p.read_bytes() for p in before} == before


def test_an_archive_is_never_written_into_its_own_book(tmp_path):
    book = tmp_path / "b.reelbook"
    a_book(book)
    for out in (book / "book.sqlite", book / "backups" / "a.reelarchive", tmp_path / "x" / ".." / "b.reelbook" / "a.reelarchive"):
        with pytest.raises(AppError, match="inside of"):
            archived(book, out)
    assert store_count(book) == 5


def test_nothing_is_written_into_a_book_from_outside(tmp_path, demo_book):
    book = tmp_path / "b.reelbook"
    shutil.copytree(demo_book, book)
    sound = next((book / "recordings").glob("*.flac"))
    steps, before = tmp_path / "steps.json", sound.read_bytes()
    steps.write_text('[{"kind": "split", "at": 1000}]')
    (tmp_path / "way").symlink_to(book)
    for out in (sound, book / "new.flac", tmp_path / "way" / "masters" / "new.flac"):
        done = call("edit", sound, "--do", steps, "--out", out, folder=tmp_path)
        assert (done.returncode, b"inside of the book" in done.stderr or b"source itself" in done.stderr) == (2, True), out
    with pytest.raises(AppError, match="inside of the book"):
        release_chapters([], book / "release", {}, load_profile("retail"), Unwatched())
    with pytest.raises(AppError, match="inside of the book"):
        write_report([], "t", book / "masters" / "r.csv")
    assert not (book / "release").exists()
    assert sound.read_bytes() == before


def test_the_booth_does_not_write_over_the_takes_that_it_reads(tmp_path, demo):
    prepared = tmp_path / "prepared"
    shutil.copytree(demo, prepared)
    sheet = tmp_path / "sheet.csv"
    sheet.write_text("read this line\nBy nine o’clock the whole town had come down to look.\n", encoding="utf-8")
    before = {p: p.read_bytes() for p in prepared.iterdir()}
    for out in prepared_files(prepared):
        done = call("booth", sheet, "--takes", prepared, "--out", out, folder=tmp_path)
        assert done.returncode == 2
        assert b"is the source itself" in done.stderr
    assert {p: p.read_bytes() for p in prepared.iterdir()} == before
    for _ in range(2):  # beside them it may write, and over what it wrote there itself
        assert call("booth", sheet, "--takes", prepared, "--out", prepared / "read.flac", folder=tmp_path).returncode == 0


def test_only_ordinary_files_are_written_over(tmp_path):
    os.mkfifo(tmp_path / "pipe.wav")
    with pytest.raises(AppError, match="no ordinary file"):
        refuse_over(tmp_path / "pipe.wav", tmp_path / "a.wav")
    refuse_over(tmp_path / "new.wav", tmp_path / "a.wav")


def test_a_fresh_demo_replaces_only_what_the_demo_made(tmp_path, demo_book):
    mine = tmp_path / "mine.reelbook"
    a_book(mine)
    done = call("demo", "--folder", mine, "--fresh", folder=tmp_path)
    assert done.returncode == 2
    assert b"was not made by the demo" in done.stderr
    assert store_count(mine) == 5
    from faithful_reel.core.book.demo import is_demo_book

    assert is_demo_book(demo_book)
    assert not is_demo_book(mine)
    assert not is_demo_book(tmp_path)
