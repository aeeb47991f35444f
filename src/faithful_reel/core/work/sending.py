"""Sending a round: its call sheet in every format, a clip of the sound around each line, and one long clip of all."""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.names import name_key
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import beside, refuse_over
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.pickups.ledger import Pickup, Round
from faithful_reel.core.pickups.sheets import FORMATS, Sheet, SheetLine, html_sheet, numbered, sheet_as, write_bytes
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Signal, Span, clock
from faithful_reel.core.work.asking import heard_instead, page_of, sentence_before, words_to_mind
from faithful_reel.core.work.timeline import Hearing, tokens_of

LEAD_S, TAIL_S, GAP_S = 4.0, 2.0, 2.0
"""What of the chapter is heard with a line, before it and after it; and the silence between lines in the long clip."""
FADE_S = 0.02
CLIPS, LONG_CLIP, SHEET = "clips", "all-clips", "call-sheet"


SayNumber = Callable[[int], Signal | None]
"""The sound of a line's number at the book's rate, (n,); None where nobody can say it."""


@dataclass(frozen=True, slots=True)
class Sending:
    """What is written with a round: formats; the suffix of the clips, empty for none; one zip, a page that holds its sounds.

    `spoken` has the number of each clip said before it in the long one.
    """

    formats: tuple[str, ...] = FORMATS
    clips: str = ".wav"
    long_clip: bool = True
    as_zip: bool = False
    page_with_sounds: bool = False
    spoken: bool = False


def sheet_of(
    book: Book,
    found: Round,
    texts: Callable[[ChapterState], Chapter],
    hearings: Callable[[ChapterState], Hearing | None],
    clips: str = "",
) -> Sheet:
    """The call sheet of a round; `clips` is the suffix of its clips, empty where there are none."""
    lines: list[SheetLine] = []
    pickups = [book.pickup(name) for name in found.pickups]
    for number, p in enumerate(pickups, 1):
        chapter = book.chapter(p.chapter)
        text, hearing = texts(chapter), hearings(chapter)
        here = {name_key(w) for w in p.line.split()}
        span = _in_reel(book, chapter, p, hearing)
        lines.append(
            SheetLine(
                number,
                chapter.title,
                page_of(text, p),
                clock((span.start if span else p.start) / book.rate)[:-4],
                tuple(p.line.split()),
                words_to_mind(chapter, p),
                heard_instead(chapter, p),
                p.want,
                p.note,
                tuple((name, how) for name, how in book.say if name in here),
                sentence_before(text, p),
                f"{number:03d}{clips}" if clips and span else "",
            )
        )
    title = f"{book.title}: call sheet, round {found.number}"
    due = f"Due {found.due}. " if found.due else ""
    how = "Read each line twice, with its number before it, at the level and the distance of the clip."
    return Sheet(title, f"{numbered(lines)}. {due}{found.note + ' ' if found.note else ''}{how}", tuple(lines))


def _in_reel(book: Book, chapter: ChapterState, pickup: Pickup, hearing: Hearing | None) -> Span | None:
    """Where a line is heard in the chapter as it stands."""
    if hearing is None or chapter.reel is None:
        return None
    tokens = tokens_of(book, chapter, [""] * len(hearing.placed), hearing)
    own = [(t.start, t.stop) for t in tokens if t.word in pickup.words and t.start >= 0]
    return Span(min(a for a, _ in own), max(b for _, b in own)) if own else None


def clip_of(reel: Reel, span: Span, rate: int, render_of: Callable[[Reel], Renderer]) -> Signal:
    """The sound around a line, (n,), with soft ends."""
    first, last = max(0, span.start - round(LEAD_S * rate)), min(len(reel), span.stop + round(TAIL_S * rate))
    x = np.array(np.atleast_2d(render_of(reel).render(first, last)).mean(axis=0), np.float32)
    n = min(len(x) // 2, round(FADE_S * rate))
    if n:
        ramp = np.linspace(0, 1, n, dtype=np.float32)
        x[:n] *= ramp
        x[-n:] *= ramp[::-1]
    return x


def write_round(
    target: Path,
    book: Book,
    found: Round,
    texts: Callable[[ChapterState], Chapter],
    hearings: Callable[[ChapterState], Hearing | None],
    render_of: Callable[[Reel], Renderer],
    sending: Sending | None = None,
    watch: Watch | None = None,
    say: SayNumber | None = None,
) -> list[str]:
    """Write a round into a new folder, or into one zip; the names of what was written.

    `say` gives the sound of a number, where they are to be said; one that it has none for is left out.

    Raises
    ------
    FileProblem
        It can not be written, or something is there already.  Nothing is left half-written.
    """
    sending, watch = sending or Sending(), watch or Unwatched()
    if target.exists():
        raise FileProblem(f"{target.name} is there already. Choose another name for the round.")
    refuse_over(target)
    part = beside(target)
    try:
        with TemporaryDirectory(prefix=".", dir=target.parent) as held:
            folder = Path(held) / "round"
            folder.mkdir()
            names = _written(folder, book, found, texts, hearings, render_of, sending, watch, say)
            if sending.as_zip:
                with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as packed:
                    for name in names:
                        packed.write(folder / name, name)
                part.replace(target)
            else:
                folder.replace(target)
    except OSError as problem:
        raise FileProblem(
            f"{target.name} could not be written ({problem.strerror}). Make room, or choose another folder."
        ) from problem
    finally:
        part.unlink(missing_ok=True)
    return names


def _written(
    folder: Path,
    book: Book,
    found: Round,
    texts: Callable[[ChapterState], Chapter],
    hearings: Callable[[ChapterState], Hearing | None],
    render_of: Callable[[Reel], Renderer],
    sending: Sending,
    watch: Watch,
    say: SayNumber | None,
) -> list[str]:
    sheet = sheet_of(book, found, texts, hearings, sending.clips)
    clips = _clips(book, found, sheet, hearings, render_of)
    names: list[str] = []
    if sending.clips and clips:
        (folder / CLIPS).mkdir()
        for done, (name, x) in enumerate(clips.items()):
            write_audio(folder / CLIPS / name, [x[None]], book.rate)
            names.append(f"{CLIPS}/{name}")
            watch.tick(0.8 * (done + 1) / len(clips), f"clip {done + 1} of {len(clips)}")
        if sending.long_clip:
            name = LONG_CLIP + sending.clips
            write_audio(folder / name, _in_a_row(sheet, clips, say if sending.spoken else None, book.rate), book.rate)
            names.append(name)
    for suffix in sending.formats:
        data = html_sheet(sheet, folder=CLIPS if sending.clips else "") if suffix == ".html" else sheet_as(sheet, suffix)
        write_bytes(folder / f"{SHEET}{suffix}", data)
        names.append(f"{SHEET}{suffix}")
    if sending.page_with_sounds:
        name = f"{SHEET}-with-sounds.html"
        write_bytes(folder / name, html_sheet(sheet, {n: mp3_of(x, book.rate) for n, x in clips.items()}))
        names.append(name)
    watch.tick(1.0, "written")
    return names


def _in_a_row(sheet: Sheet, clips: Mapping[str, Signal], say: SayNumber | None, rate: int) -> Iterator[Signal]:
    """All clips after one another, (1, n) each, silence between them, and where it is said each one's number before it."""
    silence = np.zeros((1, round(GAP_S * rate)), np.float32)
    for line in sheet.lines:
        if line.clip not in clips:
            continue
        if say is not None and (number := say(line.number)) is not None:
            yield number[None]
            yield silence
        yield clips[line.clip][None]
        yield silence


def _clips(
    book: Book,
    found: Round,
    sheet: Sheet,
    hearings: Callable[[ChapterState], Hearing | None],
    render_of: Callable[[Reel], Renderer],
) -> Mapping[str, Signal]:
    """The sound around every line that is heard, by the names of their clips."""
    clips: dict[str, Signal] = {}
    for name, line in zip(found.pickups, sheet.lines, strict=True):
        p = book.pickup(name)
        chapter = book.chapter(p.chapter)
        span = _in_reel(book, chapter, p, hearings(chapter))
        if line.clip and span is not None and chapter.reel is not None:
            clips[line.clip] = clip_of(chapter.reel, span, book.rate, render_of)
    return clips


def mp3_of(x: Signal, rate: int) -> bytes:
    """(n,) audio as the bytes of an MP3."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "clip.mp3"
        write_audio(path, [np.asarray(x, np.float32)[None]], rate, kbits=128)
        return path.read_bytes()
