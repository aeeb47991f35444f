"""The shelf of the house: sounds kept for all books, each as a FLAC file with a small JSON file beside it."""

from __future__ import annotations

import contextlib
import json
import os
import re
import uuid
from collections.abc import Iterable
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.audio.files import MAX_RATE
from faithful_reel.core.errors import FileProblem, StoreProblem
from faithful_reel.core.files import beside, encodable, from_json
from faithful_reel.core.units import Signal

LONGEST_NAME, LONGEST_NOTE, LONGEST = 200, 4000, 1 << 40
_ID = re.compile(r"[0-9a-f]{32}")


@dataclass(frozen=True, slots=True)
class Housed:
    """One sound of the house; `length` is in samples at `rate`."""

    id: str
    name: str
    rate: int
    length: int
    color: str = ""
    note: str = ""


class HouseShelf:
    """The sounds of a folder, which several windows may share.  The folder is made when something is put there."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def items(self) -> list[Housed]:
        """What is there, by name; what can not be read is left out."""
        found: list[Housed] = []
        for path in self.folder.glob("*.json") if self.folder.is_dir() else ():
            try:
                known = from_json(path.read_text(encoding="utf-8"))
                item = Housed(
                    path.stem,
                    encodable(str(known["name"])),
                    int(known["rate"]),
                    int(known["length"]),
                    encodable(str(known["color"])),
                    encodable(str(known["note"])),
                )
            except (OSError, ValueError, OverflowError, TypeError, KeyError):
                continue
            sane = 1 <= item.rate <= MAX_RATE and 0 <= item.length <= LONGEST
            if sane and _ID.fullmatch(item.id) and self.sound(item.id).is_file():
                found.append(item)
        return sorted(found, key=lambda i: (i.name.casefold(), i.id))

    def sound(self, item: str) -> Path:
        """The file of a sound."""
        return self.folder / f"{item}.flac"

    def put(self, name: str, parts: Iterable[Signal], rate: int, *, color: str = "", note: str = "") -> Housed:
        """Write a sound, blocks of (n,) or (channels, n), and keep it; on return it is on disk.

        Raises
        ------
        StoreProblem
            It can not be written; nothing is left behind.
        """
        if not name.strip():
            raise StoreProblem("What is put on the shelf needs a name.")
        made = Housed(uuid.uuid4().hex, name.strip()[:LONGEST_NAME], rate, 0, color, note[:LONGEST_NOTE])
        path, length = self.sound(made.id), 0

        def counted() -> Iterable[Signal]:
            nonlocal length
            for x in parts:
                length += x.shape[-1]
                yield x

        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            write_audio(path, counted(), rate)
            made = replace(made, length=length)
            self._note(made)
        except (OSError, FileProblem, StoreProblem) as problem:
            with contextlib.suppress(OSError):
                path.unlink(missing_ok=True)
            why = str(problem).replace(path.name, "its file")
            raise StoreProblem(f"“{made.name}” could not be put on the shelf of the house: {why}") from problem
        return made

    def describe(self, item: str, name: str, color: str, note: str) -> None:
        """Give a sound another name, colour and note.

        Raises
        ------
        StoreProblem
            It is no longer there, has no name, or can not be written.
        """
        known = next((i for i in self.items() if i.id == item), None)
        if known is None:
            raise StoreProblem("This is no longer on the shelf of the house.")
        if not name.strip():
            raise StoreProblem("What is on the shelf needs a name.")
        self._note(replace(known, name=name.strip()[:LONGEST_NAME], color=color, note=note[:LONGEST_NOTE]))

    def remove(self, item: str) -> None:
        """Take a sound off the shelf: its files go into the folder `removed` beside the others, from where they can be had again.

        Raises
        ------
        StoreProblem
            They can not be moved.
        """
        aside = self.folder / "removed"
        try:
            aside.mkdir(exist_ok=True)
            for suffix in (".json", ".flac"):
                path = self.folder / f"{item}{suffix}"
                if path.is_file():
                    path.replace(aside / path.name)
        except OSError as problem:
            raise StoreProblem(f"The sound could not be taken off the shelf ({problem.strerror}).") from problem

    def _note(self, item: Housed) -> None:
        path = self.folder / f"{item.id}.json"
        part = beside(path)
        body = {k: v for k, v in asdict(item).items() if k != "id"}
        try:
            with part.open("w", encoding="utf-8") as file:
                json.dump(body, file, ensure_ascii=False, indent=1)
                file.flush()
                os.fsync(file.fileno())
            part.replace(path)
        except OSError as problem:
            raise StoreProblem(f"The shelf of the house can not be written to ({problem.strerror}).") from problem
        finally:
            part.unlink(missing_ok=True)
