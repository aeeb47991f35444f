"""Out of the book: a span or its pieces as sound with cue markers, its markers as a list, the times of its words."""

from __future__ import annotations

import csv
import html
import io
import re
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from pathlib import Path

import pysubs2
from praatio import textgrid
from praatio.data_classes.interval_tier import IntervalTier

from faithful_reel.core.audio.cues import Cue, write_cues
from faithful_reel.core.audio.encode import SUFFIXES, write_audio
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.files import beside, encodable, harmless, shown
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.reel.reel import Piece, Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.times import TimeFormat, time_text
from faithful_reel.core.units import Signal, Span
from faithful_reel.core.work.timeline import Tokens

BLOCK_S = 10.0
LONGEST_FILE_NAME = 60
_UNFIT = re.compile(r'[\x00-\x1f\x7f/\\:*?"<>|]+')


class WordTimes(Enum):
    """How the times of words are written; the value is the suffix."""

    WEBVTT = ".vtt"
    SRT = ".srt"
    TEXTGRID = ".TextGrid"
    CSV = ".csv"


@dataclass(frozen=True, slots=True)
class Written:
    """A file that was written, and how long its sound is, in samples."""

    path: Path
    length: int


def cues_within(reel: Reel, span: Span, lanes: Sequence[int]) -> list[Cue]:
    """The markers of a stretch, and the named pieces of some of its lanes, from its beginning."""
    cues = [Cue(m.at - span.start, m.name or "marker") for m in reel.markers if span.start <= m.at < span.stop]
    for index in lanes:
        lane = reel.lanes[index]
        for segment, at in zip(lane.segments, lane.starts(), strict=False):
            first, last = max(at, span.start), min(at + len(segment), span.stop)
            if segment.name and first < last:
                cues.append(Cue(first - span.start, segment.name, last - first))
    return sorted(cues, key=lambda c: (c.at, c.length))


def written_span(
    reel: Reel,
    span: Span,
    path: Path,
    render: Callable[[Reel], Renderer],
    rate: int,
    *,
    lanes: Sequence[int] = (),
    bits: int = 24,
    watch: Watch | None = None,
) -> Written:
    """Write a stretch of a reel, all that is heard or some `lanes` alone, to a WAV, FLAC or MP3 file with cue markers.

    Raises
    ------
    FileProblem
        The file can not be written; nothing is left half-written.
    EditRefused
        The stretch is empty.
    """
    watch = watch or Unwatched()
    if not 0 <= span.start < span.stop <= len(reel):
        raise EditRefused("There is no sound to write here.")
    if path.suffix.lower() not in SUFFIXES:
        raise FileProblem(f"{path.name} can not be written: name it .wav, .flac or .mp3.")
    if not path.parent.is_dir():
        raise FileProblem(f"The folder for {path.name} is not there. Make it first.")
    cues = cues_within(reel, span, lanes or range(len(reel.lanes)))
    source = render(alone(reel, lanes) if lanes else reel)
    part = beside(path, path.suffix.lower())
    try:
        write_audio(part, _ticked(source, span, round(BLOCK_S * rate), watch, path.name), rate, bits=bits)
        write_cues(part, cues, rate, len(span))
        part.replace(path)
    except FileProblem as problem:  # told of what is written beside, by a name that nobody knows
        raise FileProblem(str(problem).replace(part.name, shown(path))) from problem
    except OSError as problem:
        raise FileProblem(f"{shown(path)} could not be written ({problem.strerror}). Choose another folder.") from problem
    finally:
        part.unlink(missing_ok=True)
    return Written(path, len(span))


def _ticked(source: Renderer, span: Span, block: int, watch: Watch, name: str) -> Iterator[Signal]:
    """The blocks of a stretch; (n,) each."""
    done = 0
    for x in source.blocks(span.start, span.stop, block):
        yield x
        done += x.shape[-1]
        watch.tick(done / len(span), f"writing {name}")


def alone(reel: Reel, lanes: Sequence[int]) -> Reel:
    """Some lanes of a reel, heard whether they are muted or not."""
    return replace(reel, lanes=tuple(replace(reel.lanes[k], muted=False, solo=False) for k in lanes))


def written_pieces(
    reel: Reel,
    span: Span,
    lane: int,
    folder: Path,
    suffix: str,
    render: Callable[[Reel], Renderer],
    rate: int,
    *,
    bits: int = 24,
    watch: Watch | None = None,
) -> list[Written]:
    """Write each piece of a lane that begins in a stretch to a file of its own, by its number and its name.

    A file that is there already is never written over: the new one gets a number behind its name.

    Raises
    ------
    FileProblem
        A file can not be written; those before it are whole.
    EditRefused
        No piece begins in the stretch.
    """
    watch = watch or Unwatched()
    row = reel.lanes[lane]
    pieces = [
        (segment.name, Span(max(at, span.start), min(at + len(segment), len(reel))))
        for segment, at in zip(row.segments, row.starts(), strict=False)
        if isinstance(segment, Piece) and span.start <= at < span.stop
    ]
    if not pieces:
        raise EditRefused("No piece begins in what is marked.")
    found: list[Written] = []
    for number, (name, place) in enumerate(pieces, 1):
        path = _free(folder, f"{number:03d} {file_name(name)}".strip(), suffix)
        part = Part(watch, (number - 1) / len(pieces), number / len(pieces))
        found.append(written_span(reel, place, path, render, rate, lanes=[lane], bits=bits, watch=part))
    return found


def file_name(text: str) -> str:
    """A text as part of a file's name: without what no file system takes, and not too long."""
    return _UNFIT.sub(" ", text).strip(" .")[:LONGEST_FILE_NAME].strip(" .")


def _free(folder: Path, name: str, suffix: str) -> Path:
    for number in range(1, 10_000):
        path = folder / f"{name}{f' ({number})' if number > 1 else ''}{suffix}"
        if not path.exists():
            return path
    raise FileProblem(f"{folder.name} holds too many files of the name {name}. Choose another folder.")


# --- markers and words ------------------------------------------------------------------------------------------------


def written_markers(reel: Reel, path: Path, rate: int, shown: TimeFormat = TimeFormat.CLOCK) -> None:
    """Write the markers of a reel as CSV: time, seconds, name, colour, note.

    Raises
    ------
    FileProblem
        The file can not be written.
    """
    rows = [
        (time_text(m.at, rate, shown), f"{m.at / rate:.6f}", m.name, m.color, m.note)
        for m in sorted(reel.markers, key=lambda m: m.at)
    ]
    _write(path, _table(("time", "seconds", "name", "colour", "note"), rows))


def written_words(tokens: Tokens, text: Chapter, length: int, rate: int, path: Path) -> int:
    """Write where every word of a chapter is heard, as WebVTT, SRT, TextGrid or CSV by the suffix of `path`; how many words.

    Words that are not heard in the reel are left out; those that overlap the next of the same voice end where it begins.

    Raises
    ------
    FileProblem
        The file can not be written, or its suffix is none of these.
    EditRefused
        No word is heard.
    """
    kinds = {k.value.lower(): k for k in WordTimes}
    kind = kinds.get(path.suffix.lower())
    if kind is None:
        raise FileProblem(f"{path.name} can not be written: name it .vtt, .srt, .TextGrid or .csv.")
    heard = tokens.heard()
    voices = [_said(heard, lane, length) for lane in sorted({t.lane for t in heard})]
    rows = sorted((row for voice in voices for row in voice), key=lambda r: (r[2], r[1]))
    if not rows:
        raise EditRefused("No word of this chapter is heard yet. Hear the chapter first.")
    match kind:
        case WordTimes.CSV:
            table = [
                (said, word + 1 if word >= 0 else "", f"{start / rate:.6f}", f"{stop / rate:.6f}")
                for said, word, start, stop in rows
            ]
            _write(path, _table(("word", "number", "start", "end"), table))
        case WordTimes.TEXTGRID:
            _write(path, _text_grid(voices, text, length, rate))
        case _:
            _write(path, _subtitles(rows, rate, web=kind is WordTimes.WEBVTT))
    return len(rows)


Row = tuple[str, int, int, int]
"""A word, its number in the chapter (-1 for none), from where to where it is heard."""


def _said(heard: Tokens, lane: int, length: int) -> list[Row]:
    """The words of one voice, none longer than to its next one."""
    own = [t for t in heard if t.lane == lane]
    nexts = [*(t.start for t in own[1:]), length]
    rows = (
        (" ".join(encodable(t.text).split()), t.word, t.start, min(t.stop, after)) for t, after in zip(own, nexts, strict=True)
    )
    return [r for r in rows if r[3] > r[2] and r[0]]


_ORDERS, _HELD = "{}\\", "\ue000\ue001\ue002"
"""What the library of subtitles takes for orders to it, and as what it passes through: characters that no text uses."""


def _subtitles(rows: Sequence[Row], rate: int, *, web: bool) -> str:
    """Words as SRT, or as WebVTT with `&`, `<` and `>` as the standard writes them (W3C WebVTT, cue text)."""
    subtitles = pysubs2.SSAFile()
    for said, _, start, stop in rows:
        text = html.escape(said, quote=False) if web else said.replace("-->", "->")  # which would be read as times
        first = round(1000 * start / rate)
        subtitles.append(
            pysubs2.SSAEvent(
                start=first,
                end=max(first + 1, round(1000 * stop / rate)),
                text=text.translate(str.maketrans(_ORDERS, _HELD)),
            )
        )
    return str(subtitles.to_string("vtt" if web else "srt")).translate(str.maketrans(_HELD, _ORDERS))


def _text_grid(voices: Sequence[Sequence[Row]], text: Chapter, length: int, rate: int) -> str:
    """A tier of words for each voice and one of sentences, as the short text format of a TextGrid."""
    end = length / rate
    grid = textgrid.Textgrid(0, end)
    rows = sorted((row for voice in voices for row in voice), key=lambda r: r[2])
    sentences: list[tuple[float, float, str]] = []
    for sentence in text.sentences():
        inside = [r for r in rows if r[1] in sentence]
        if inside:
            said = encodable(" ".join(text.words[k].text for k in sentence))
            first, last = inside[0][2] / rate, max(r[3] for r in inside) / rate
            if not sentences or first >= sentences[-1][1]:
                sentences.append((first, last, said))
    for number, voice in enumerate(filter(None, voices), 1):
        words = [(start / rate, stop / rate, said) for said, _, start, stop in voice]
        grid.addTier(IntervalTier("words" if number == 1 else f"words {number}", words, 0, end))
    grid.addTier(IntervalTier("sentences", sentences, 0, end))
    with tempfile.TemporaryDirectory() as folder:  # the library writes to files by name only
        path = Path(folder) / "words.TextGrid"
        grid.save(str(path), format="short_textgrid", includeBlankSpaces=True)
        return path.read_text(encoding="utf-8")


def _table(head: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(head)
    writer.writerows([harmless(str(cell)) for cell in row] for row in rows)
    return out.getvalue()


def _write(path: Path, text: str) -> None:
    """Beside the target first, then renamed."""
    part = beside(path)
    try:
        part.write_text(text, encoding="utf-8", errors="replace", newline="")
        part.replace(path)
    except OSError as problem:
        raise FileProblem(f"{path.name} could not be written ({problem.strerror}). Choose another folder.") from problem
    finally:
        part.unlink(missing_ok=True)
