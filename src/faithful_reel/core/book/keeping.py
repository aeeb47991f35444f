"""Keeping the book safe: rolling backups of its database, restoring one, a single archive of everything, verifying."""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import re
import shutil
import sqlite3
import struct
import time
import zipfile
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from faithful_reel.core.book.condition import BACKUP_NAME, SUBFOLDERS, backup_number, backups, held_open, see_own, see_whole
from faithful_reel.core.book.model import Recording
from faithful_reel.core.book.recordings import Fault, faults
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import BookDamaged, FileProblem, StoreProblem
from faithful_reel.core.files import DATABASE, address, beside, hash_of, refuse_over, shown, why
from faithful_reel.core.jobs import Part, Unwatched, Watch

KEEP_NEWEST, KEEP_DAYS = 6, 14
ARCHIVE_SUFFIX = ".reelarchive"
MANIFEST = "manifest.json"
_NAME = re.compile(r"book\.sqlite|(?:recordings|masters)/[^/\\\0]{1,200}")
MOST_FILES = 20_000
EARLIEST = (1980, 1, 1, 0, 0, 0)
"""Before it a clock that was never set can not be told in an archive (APPNOTE.TXT, 4.4.6)."""


def backed_up(folder: Path) -> Path:
    """Write a backup of the book's database into its `backups` folder, beside the work, and thin out the old ones.

    Kept are the newest six and the last of each of the latest fourteen days.

    Raises
    ------
    StoreProblem
        It can not be written, or the database is damaged; what was there stays.
    """
    shelf = folder / "backups"
    number = 1 + max(map(backup_number, backups(folder)), default=0)
    target = _free(shelf, f"book-{number:06d}-{time.strftime('%Y%m%d-%H%M%S', time.gmtime())}")
    part = beside(target)
    try:
        shelf.mkdir(exist_ok=True)
        _copied(folder, folder / DATABASE, part)
        part.replace(target)
    except (OSError, sqlite3.Error, BookDamaged) as problem:
        raise StoreProblem(f"No backup of {folder.name} could be written{why(problem)}. Make room on the disk.") from problem
    finally:
        part.unlink(missing_ok=True)
    _thinned(shelf)
    return target


def _copied(folder: Path, database: Path, target: Path) -> None:
    """A consistent copy of a database that may be in use, read to the book that it holds."""
    with contextlib.closing(sqlite3.connect(address(database, read_only=True), uri=True)) as db:
        if db.execute("PRAGMA quick_check").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("the database is damaged")
        db.execute("VACUUM INTO ?", (address(target),))
    with target.open("rb") as file:
        os.fsync(file.fileno())
    with contextlib.closing(sqlite3.connect(address(target, read_only=True), uri=True)) as db:
        see_whole(folder, db)


def _free(folder: Path, stem: str) -> Path:
    """A name that is not taken yet."""
    names = (f"{stem}{'' if n == 1 else f'-{n}'}.sqlite" for n in itertools.count(1))
    return next(folder / name for name in names if not (folder / name).exists())


def _thinned(shelf: Path) -> None:
    days: dict[str, Path] = {}
    found = backups(shelf.parent)
    for path in found:
        if name := BACKUP_NAME.fullmatch(path.name):
            days.setdefault(name["day"], path)
    kept = {*found[:KEEP_NEWEST], *list(days.values())[:KEEP_DAYS]}
    for path in found:
        if path not in kept:
            path.unlink(missing_ok=True)


def restored(folder: Path, backup: Path) -> Path:
    """Put a backup in the place of a damaged database, which is kept beside it; where that now lies.

    Raises
    ------
    StoreProblem
        The backup is damaged itself, or can not be copied; nothing was changed.
    """
    see_own(folder)
    part = beside(folder / DATABASE)
    kept = _free(folder, f"damaged-{time.strftime('%Y%m%d-%H%M%S', time.gmtime())}")
    try:
        with held_open(folder):
            _copied(folder, backup, part)
            logs = [folder / (DATABASE + tail) for tail in ("-wal", "-shm")]
            for path in (folder / DATABASE, *logs):  # first all is kept; then the log goes, which must not meet another database
                if path.exists():
                    shutil.copy2(path, kept.with_name(kept.name + path.name.removeprefix(DATABASE)))
            for path in logs:
                path.unlink(missing_ok=True)
            part.replace(folder / DATABASE)
    except (OSError, sqlite3.Error, BookDamaged) as problem:
        raise StoreProblem(f"The backup {backup.name} can not be used{why(problem)}. Try an older one.") from problem
    finally:
        part.unlink(missing_ok=True)
    return kept


# --- one archive --------------------------------------------------------------------------------------------------


def archived(folder: Path, out: Path, watch: Watch | None = None) -> Path:
    """Write the whole book into one file: database, recordings, masters, and a list of their hashes.

    The book may be open and in use meanwhile.

    Raises
    ------
    StoreProblem
        The book is incomplete, or the archive can not be written; nothing is left behind.
    """
    watch = watch or Unwatched()
    part, database = beside(out), beside(out, ".sqlite")
    if not (folder / DATABASE).is_file():
        raise StoreProblem(f"{folder.name} is not a book: it holds no {DATABASE}. Choose a folder that ends in .reelbook.")
    refuse_over(out, folder)
    see_own(folder)
    try:
        _copied(folder, folder / DATABASE, database)
        files = [(DATABASE, database)]
        for sub in ("recordings", "masters"):
            found = sorted((folder / sub).iterdir()) if (folder / sub).is_dir() else []
            files += [(f"{sub}/{p.name}", p) for p in found if p.is_file() and not p.name.startswith(".")]
        total = sum(p.stat().st_size for _, p in files) or 1
        listed = []
        done = 0
        with zipfile.ZipFile(part, "w", allowZip64=True) as archive:
            for name, path in files:
                watch.tick(done / total, f"writing {name}")
                digest = hash_of(path)
                kind = zipfile.ZIP_STORED if path.suffix in (".flac", ".mp3", ".m4a", ".ogg", ".opus") else zipfile.ZIP_DEFLATED
                info = zipfile.ZipInfo(name, max(time.gmtime()[:6], EARLIEST))
                info.compress_type, info.file_size = kind, path.stat().st_size
                with path.open("rb") as source, archive.open(info, "w", force_zip64=True) as target:
                    while data := source.read(1 << 20):
                        target.write(data)
                        done += len(data)
                        watch.tick(done / total, f"writing {name}")
                listed.append({"name": name, "size": path.stat().st_size, "sha256": digest})
            manifest = {"format": "faithful-reel archive", "version": 1, "book": folder.stem, "files": listed}
            archive.writestr(MANIFEST, json.dumps(manifest, indent=1), zipfile.ZIP_DEFLATED)
        with part.open("rb") as file:
            os.fsync(file.fileno())
        part.replace(out)
    except (OSError, sqlite3.Error) as problem:
        raise StoreProblem(f"{out.name} could not be written{why(problem)}. Make room and try again.") from problem
    finally:
        part.unlink(missing_ok=True)
        database.unlink(missing_ok=True)
    return out


def unpacked(source: Path, folder: Path, watch: Watch | None = None) -> Path:
    """Make a book folder from an archive; every file is checked by its hash, and nothing is written outside the folder.

    Raises
    ------
    FileProblem
        The archive is damaged, or holds what no archive of a book holds.
    StoreProblem
        The folder is there already, or can not be written; nothing is left behind.
    """
    watch = watch or Unwatched()
    if folder.exists():
        raise StoreProblem(f"{folder.name} is there already. Choose another name for the book.")
    _see_archive(source)
    made = beside(folder)
    try:
        with zipfile.ZipFile(source) as archive:
            listed = _listed(archive, source)
            made.mkdir(parents=True)
            for sub in SUBFOLDERS:
                (made / sub).mkdir()
            total = sum(entry["size"] for entry in listed) or 1
            free = shutil.disk_usage(made).free
            if total > free:
                raise StoreProblem(f"{source.name} needs {total >> 20} MB, but only {free >> 20} MB are free. Make room first.")
            done = 0
            for entry in listed:
                _take_out(archive, source, entry, made / entry["name"], Part(watch, done / total, (done + entry["size"]) / total))
                done += entry["size"]
        made.replace(folder)
    except _NO_ARCHIVE as problem:
        raise FileProblem(f"{source.name} is not a whole archive of a book. Copy it again.") from problem
    except OSError as problem:
        raise StoreProblem(f"The book could not be unpacked from {source.name} ({problem.strerror}). Make room.") from problem
    finally:
        shutil.rmtree(made, ignore_errors=True)
    return folder


_NO_ARCHIVE = (
    zipfile.BadZipFile, zlib.error, struct.error, EOFError, NotImplementedError, LookupError, ArithmeticError, ValueError,
    TypeError, RuntimeError, RecursionError,
)  # fmt: skip
"""What reading a damaged archive ends with."""


def _see_archive(source: Path) -> None:
    """Refuse what is not there, and what is no ordinary file: a pipe would be waited for."""
    if not source.is_file():
        raise FileProblem(f"The archive {shown(source)} is not there, or is no file. Check the name and the folder.")


def _take_out(archive: zipfile.ZipFile, source: Path, entry: dict[str, Any], target: Path, watch: Watch) -> None:
    """Write one file of an archive, and check that it is as it was packed; a recording can not be written to from then on."""
    left = entry["size"]
    with archive.open(entry["name"]) as packed, target.open("wb") as out:
        while part := packed.read(1 << 20):
            left -= len(part)
            if left < 0:
                break
            out.write(part)
            watch.tick(1.0 - left / max(1, entry["size"]), f"reading {entry['name']}")
        out.flush()
        os.fsync(out.fileno())
    if left or hash_of(target) != entry["sha256"]:
        raise FileProblem(f"{source.name} is damaged: {entry['name']} is not as it was packed. Copy it again.")
    if Path(entry["name"]).parent.name == "recordings":
        target.chmod(0o444)


def opened_apart(source: Path, folder: Path, watch: Watch | None = None) -> Path:
    """Make a book of an archive's database alone, without its recordings and masters, in a folder that is not there yet.

    Raises
    ------
    FileProblem
        The archive is damaged, or is none of a book.
    StoreProblem
        The folder can not be written.
    """
    watch = watch or Unwatched()
    _see_archive(source)
    try:
        with zipfile.ZipFile(source) as archive:
            entry = next(e for e in _listed(archive, source) if e["name"] == DATABASE)
            for sub in SUBFOLDERS:
                (folder / sub).mkdir(parents=True)
            _take_out(archive, source, entry, folder / DATABASE, watch)
    except _NO_ARCHIVE as problem:
        raise FileProblem(f"{source.name} is not a whole archive of a book. Copy it again.") from problem
    except OSError as problem:
        raise StoreProblem(f"{source.name} could not be read ({problem.strerror}). Make room and try again.") from problem
    return folder


def recordings_from(source: Path, recordings: Sequence[Recording], folder: Path, watch: Watch | None = None) -> None:
    """Take recordings out of an archive into a book's folder; those that are there already are left as they are.

    Each is known by the hash of its bytes, and by the archive's list.

    Raises
    ------
    FileProblem
        The archive is damaged, or does not hold one of them as it should be.
    StoreProblem
        They can not be written; what was written before is no part of the book yet.
    """
    watch = watch or Unwatched()
    wanted = [r for r in recordings if not r.parts and not (folder / "recordings" / r.stored).is_file()]
    _see_archive(source)
    part = beside(folder / "recordings" / "new")
    try:
        with zipfile.ZipFile(source) as archive:
            listed = {entry["name"]: entry for entry in _listed(archive, source)}
            for k, recording in enumerate(wanted):
                entry = listed.get(f"recordings/{recording.stored}")
                if entry is None or entry["sha256"] != (recording.file or recording.hash):
                    raise FileProblem(f"{source.name} does not hold the recording {recording.name} that its book plays.")
                _take_out(archive, source, entry, part, Part(watch, k / len(wanted), (k + 1) / len(wanted)))
                part.replace(folder / "recordings" / recording.stored)
    except _NO_ARCHIVE as problem:
        raise FileProblem(f"{source.name} is not a whole archive of a book. Copy it again.") from problem
    except OSError as problem:
        raise StoreProblem(f"Recordings of {source.name} could not be brought in ({problem.strerror}). Make room.") from problem
    finally:
        part.unlink(missing_ok=True)


def _listed(archive: zipfile.ZipFile, source: Path) -> list[dict[str, Any]]:
    with archive.open(MANIFEST) as file:
        manifest = json.loads(file.read(1 << 24))
    if not isinstance(manifest, dict) or manifest.get("format") != "faithful-reel archive":
        raise FileProblem(f"{source.name} is not an archive of a book.")
    if int(manifest["version"]) > 1:
        raise FileProblem(f"{source.name} was made by a newer version of this program. Update to open it.")
    listed = list(manifest["files"])
    names = [str(entry["name"]) for entry in listed]
    plain = all(_NAME.fullmatch(n) and ".." not in n for n in names)
    sizes = all(isinstance(entry["size"], int) and entry["size"] >= 0 for entry in listed)
    if not plain or not sizes or len(set(names)) != len(names) or len(names) > MOST_FILES or DATABASE not in names:
        raise FileProblem(f"{source.name} holds files that no archive of a book holds. It was not unpacked.")
    return listed


# --- verifying ----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Verified:
    """What was checked of a book, and what is wrong with it."""

    steps: int
    recordings: int
    problems: tuple[str, ...]
    faults: tuple[Fault, ...]

    @property
    def sound(self) -> bool:
        """Whether nothing is wrong."""
        return not self.problems and not self.faults


def verified(folder: Path, watch: Watch | None = None) -> Verified:
    """Check all of a book: the database's integrity, the journal from the first step to the last, every recording's hash.

    Raises
    ------
    StoreProblem
        The book can not be opened at all.
    """
    watch = watch or Unwatched()
    with BookStore(folder) as store:
        problems = store.integrity()
        session = Session(store)
        watch.tick(0.05, "replaying the journal")
        if store.book_at(store.head, afresh=True) != session.book:
            problems.append("the journal does not lead to the book as it was last kept")
        found = faults(folder, session.book, hashes=True, watch=watch)
        return Verified(store.count(), len(session.book.recordings), tuple(problems), tuple(found))
