"""What happens at the Intake desk."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

from faithful_reel.app.workbench import Workbench
from faithful_reel.core.book.commands import AddChapters, AddRecording, PairRecording
from faithful_reel.core.book.model import ChapterState, Recording
from faithful_reel.core.book.recordings import received
from faithful_reel.core.errors import AppError
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.text.manuscript import read_manuscript
from faithful_reel.core.text.words import Chapter


def health(recording: Recording) -> str:
    """The plain verdict of a recording: what limits it misses, or that it is sound."""
    missed = []
    if recording.rate < 44_100:
        missed.append(f"recorded at only {recording.rate} Hz")
    if recording.peak_db > -0.1:
        missed.append("touches full scale")
    if recording.noise_floor_db > -50:
        missed.append(f"noise floor of {recording.noise_floor_db:.0f} dB is hard to mend")
    if recording.tone is None:
        missed.append("no room tone found")
    return "; ".join(missed) if missed else "sound"


class IntakePresenter:
    """Brings in manuscripts and recordings and pairs them."""

    def __init__(self, bench: Workbench) -> None:
        self.bench = bench

    def bring_manuscript(self, path: Path) -> bool:
        """Read a manuscript and take in its chapters."""
        try:
            manuscript = read_manuscript(path)
        except AppError as problem:
            self.bench.tell(str(problem))
            return False
        there = {c.text for c in self.bench.book.chapters}
        rows = []
        for number, chapter in enumerate(manuscript.chapters, len(self.bench.book.chapters) + 1):
            key = self.bench.session.store.put(Chapter, chapter)
            if key not in there:
                rows.append((f"c{number}-{hashlib.sha256(key.encode()).hexdigest()[:6]}", chapter.title, key))
        if not rows:
            self.bench.tell(f"All chapters of {path.name} are in the book already.")
            return False
        return self.bench.do(AddChapters(tuple(rows)))

    def bring_recordings(self, paths: list[Path]) -> None:
        """Copy recordings in, beside the work; each is paired by its number where that is plain."""
        folder, rate = self.bench.session.store.folder, self.bench.book.rate

        def job(watch: Watch) -> tuple[list[Recording], list[str]]:
            taken, refused = [], []
            for index, path in enumerate(paths):
                part = Part(watch, index / len(paths), (index + 1) / len(paths))
                try:
                    taken.append(received(folder, path, rate, part))
                except AppError as problem:
                    refused.append(str(problem))
            return taken, refused

        self.bench.jobs.start(f"Bring in {len(paths)} recordings", job, done=self._received, stopped=self.bench.stopped)

    def _received(self, result: tuple[list[Recording], list[str]]) -> None:
        taken, refused = result
        for recording in taken:
            if self.bench.do(AddRecording(recording)):
                chapter = self.chapter_for(recording)
                if chapter is not None:
                    self.bench.do(PairRecording(chapter.id, recording.hash))
        if refused:
            self.bench.tell("  ".join(refused))

    def chapter_for(self, recording: Recording) -> ChapterState | None:
        """The chapter that a recording's name points to: a lone number in it that counts a chapter without a recording."""
        numbers = re.findall(r"\d+", Path(recording.name).stem)
        if len(numbers) != 1 or "pickup" in recording.name.lower():
            return None
        index = int(numbers[0]) - 1
        chapters = self.bench.book.chapters
        if 0 <= index < len(chapters) and not chapters[index].recording:
            return chapters[index]
        return None

    def pair(self, chapter_id: str, recording: str) -> bool:
        """Say which recording reads a chapter."""
        if self.bench.book.chapter(chapter_id).recording == recording:
            return False
        return self.bench.do(PairRecording(chapter_id, recording))
