"""The core from a shell: JSON on standard output, progress on standard error.

Exit codes: 0 done, 1 done and something failed its check, 2 unusable input, or an output that takes nothing (one clear line).
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sys
from dataclasses import asdict
from enum import StrEnum
from functools import partial
from pathlib import Path
from types import FrameType
from typing import Annotated, TextIO, cast

import typer

from faithful_reel import __version__
from faithful_reel.core.errors import AppError
from faithful_reel.core.jobs import FlagWatch, Watch
from faithful_reel.core.units import EAR_RATE, clock

app = typer.Typer(
    add_completion=False,
    pretty_exceptions_enable=False,
    help="Proof, splice and master audiobook narration.",
)

Audio = Annotated[Path, typer.Option(help="The recording.")]
Script = Annotated[Path, typer.Option(help="The manuscript's text of this recording.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
NoTerminal = Annotated[bool, typer.Option("--no-terminal", help="Tell in a box what keeps the window from opening.")]
Language = Annotated[str, typer.Option(help="The language that is read, as a two-letter code.")]
OneEar = Annotated[bool, typer.Option("--one-ear", help="Ask the first ear only, even where others are installed.")]
HeardFile = Annotated[
    Path | None,
    typer.Option("--heard", help="A file that keeps what the ears made of every stretch: what is in it is not heard again."),
]


class Matching(StrEnum):
    """What of a pickup recording is brought to the chapter's."""

    LEVEL = "level"
    TONE = "tone"
    ROOM = "room"
    ECHO = "echo"


ProfileName = Annotated[str, typer.Option(help="A profile's name, or a JSON file.")]


def _watch() -> Watch:
    """Progress on standard error, where that is a terminal."""
    if not sys.stderr.isatty():
        return FlagWatch(lambda _done, _note: None, lambda: False)

    def report(done: float, note: str) -> None:
        sys.stderr.write(f"\r{100 * done:3.0f} %  {note:<24}")
        sys.stderr.write("\n" if done >= 1 else "")
        sys.stderr.flush()

    return FlagWatch(report, lambda: False)


def _tell_of(*paths: Path) -> None:
    """Say where a recording holds less sound than it promises, or has odd channels: it is worked on all the same."""
    from faithful_reel.core.audio.files import channels_of
    from faithful_reel.core.audio.wholeness import shortfall

    for path in paths:
        if cut := shortfall(path):
            sys.stderr.write(f"faithful-reel: {cut}\n")
        if odd := channels_of(path).told:
            sys.stderr.write(f"faithful-reel: {path.name}: {odd}\n")


def _print(value: object) -> None:
    text = json.dumps(value, ensure_ascii=False)
    sys.stdout.write(text.encode("utf-8", "backslashreplace").decode() + "\n")  # names that are no text stay valid JSON


@app.command()
def proof(
    book: Annotated[
        Path | None,
        typer.Argument(metavar="[BOOK]", help="A folder NAME.reelbook: all its chapters that are not heard are heard into it."),
    ] = None,
    audio: Annotated[Path | None, typer.Option(help="The recording, where no book is given.")] = None,
    script: Annotated[Path | None, typer.Option(help="The manuscript's text of this recording.")] = None,
    as_json: AsJson = False,
    least: Annotated[
        float | None,
        typer.Option(
            help="Leave out findings less sure than this, 0 to 1; without it what the window folds away at first.", min=0, max=1
        ),
    ] = None,
    one_ear: OneEar = False,
    heard: HeardFile = None,
    language: Language = "en",
) -> None:
    """Find every departure of a recording from its script, or of all chapters of a book from theirs."""
    if book is not None:
        if audio or script or heard or least is not None or language != "en":
            raise AppError(
                "A book has its own recordings, text and language, and keeps all findings. Give only --one-ear and --json."
            )
        _proof_book(book, as_json=as_json, one_ear=one_ear)
        return
    if audio is None or script is None:
        raise AppError("Say what is to be heard: a BOOK, or --audio FILE with --script FILE.")
    from faithful_reel.core.audio.files import channels_of, ear_sound
    from faithful_reel.core.collate.clicks import clicks_in
    from faithful_reel.core.collate.findings import is_shown
    from faithful_reel.core.collate.proofing import proofed
    from faithful_reel.core.hear.ears import installed_ears
    from faithful_reel.core.hear.memory import memory_in
    from faithful_reel.core.text.manuscript import read_script

    chapter = read_script(script)
    _tell_of(audio)
    with memory_in(heard) as memory:
        ears = installed_ears(only_first=one_ear, language=language)
        mix = channels_of(audio).weights
        clicks = partial(clicks_in, audio, weights=mix)
        result = proofed(ear_sound(audio, mix), chapter, ears, _watch(), memory=memory, clicks=clicks)
    shown = [f for f in result.findings if (is_shown(f) if least is None else f.confidence >= least)]
    if as_json:
        found = [
            {
                "kind": f.kind.value,
                "written": f.written,
                "heard": f.heard,
                "start": round(f.start / EAR_RATE, 3),
                "end": round(f.stop / EAR_RATE, 3),
                "confidence": f.confidence,
                "word_index": f.word_index,
                "word_count": f.word_count,
                "flaw": f.evidence.flaw,
                "note": f.evidence.note,
            }
            for f in shown
        ]
        _print({"findings": found, "words": len(chapter.words), "audio_seconds": round(result.seconds, 3)})
        return
    for f in shown:
        what = f"“{f.written}” read as “{f.heard}”" if f.written and f.heard else f.written or f.heard or f.evidence.note
        sys.stdout.write(f"{clock(f.start / EAR_RATE)}  {f.kind.value.replace('_', ' '):<12} {f.confidence:4.2f}  {what}\n")
    sys.stdout.write(f"{len(shown)} findings in {len(chapter.words)} words, {clock(result.seconds)}\n")


def _proof_book(folder: Path, *, as_json: bool, one_ear: bool) -> None:
    """Hear the chapters of a book that are not heard; each is kept as soon as it is done."""
    from faithful_reel.core.book.session import Session
    from faithful_reel.core.book.store import BookStore
    from faithful_reel.core.collate.findings import is_shown
    from faithful_reel.core.hear.ears import installed_ears
    from faithful_reel.core.work.whole_book import ChapterHeard, hear_book, to_hear

    def told(result: ChapterHeard) -> None:
        if as_json:
            return
        shown = sum(map(is_shown, result.chapter.findings))
        sys.stdout.write(f"{result.chapter.title}: {result.problem or f'{shown} findings'}\n")
        sys.stdout.flush()

    with BookStore(folder) as store:
        session = Session(store)
        wanted = [c.id for c in to_hear(session.book)]
        ears = installed_ears(only_first=one_ear, language=session.book.language)
        found = hear_book(session, wanted, ears, _watch(), told)
        missing = [c.title for c in session.book.chapters if not c.recording]
    if as_json:
        rows = [
            {"chapter": r.chapter.title, "findings": sum(map(is_shown, r.chapter.findings)), "problem": r.problem} for r in found
        ]
        _print({"chapters": rows, "without_recording": missing})
    elif not found:
        sys.stdout.write("Every chapter that has a recording is heard already.\n")
    if any(r.problem for r in found):
        raise typer.Exit(1)


@app.command()
def align(audio: Audio, script: Script, as_json: AsJson = False, heard: HeardFile = None, language: Language = "en") -> None:
    """Find where every written word is spoken."""
    from faithful_reel.core.audio.files import ear_sound_of
    from faithful_reel.core.collate.proofing import aligned
    from faithful_reel.core.hear.ears import installed_ears
    from faithful_reel.core.hear.memory import memory_in
    from faithful_reel.core.text.manuscript import read_script

    chapter = read_script(script)
    _tell_of(audio)
    with memory_in(heard) as memory:
        placed = aligned(ear_sound_of(audio), chapter, installed_ears(language=language), _watch(), memory)
    rows = [
        {
            "text": w.text,
            "start": round(p.start / EAR_RATE, 3) if p else None,
            "end": round(p.stop / EAR_RATE, 3) if p else None,
            "confidence": round(p.confidence, 3) if p else 0.0,
        }
        for w, p in zip(chapter.words, placed, strict=True)
    ]
    if as_json:
        _print({"words": rows})
        return
    for word, place in zip(chapter.words, placed, strict=True):
        sys.stdout.write(f"{clock(place.start / EAR_RATE) if place else 'not read':<12} {word.text}\n")


@app.command()
def rough(
    audio: Audio,
    script: Script,
    out: Annotated[Path, typer.Option(help="The new file.")],
    as_json: AsJson = False,
    one_ear: OneEar = False,
    heard: HeardFile = None,
) -> None:
    """Cut a raw recording down to its last complete readings."""
    from faithful_reel.core.files import refuse_over
    from faithful_reel.core.hear.ears import installed_ears
    from faithful_reel.core.hear.memory import memory_in
    from faithful_reel.core.text.manuscript import read_script
    from faithful_reel.core.work.one_chapter import rough_file

    refuse_over(out, *filter(None, (audio, script, heard)))
    chapter = read_script(script)
    _tell_of(audio)
    with memory_in(heard) as memory:
        made = rough_file(audio, chapter, out, installed_ears(only_first=one_ear), _watch(), memory)
    if as_json:
        _print(made.as_json())
        return
    for f, start, stop in made.cuts:
        sys.stdout.write(f"{clock(start)} to {clock(stop)}  {f.kind.value.replace('_', ' '):<12} {f.heard or f.evidence.note}\n")
    sys.stdout.write(f"{out}: {len(made.cuts)} cuts, {clock(made.before_s)} became {clock(made.after_s)}\n")


@app.command()
def splice(
    audio: Audio,
    script: Script,
    pickup: Annotated[Path, typer.Option(help="The pickup recording.")],
    line: Annotated[str, typer.Option(help="The corrected words, as the script has them.")],
    out: Annotated[Path, typer.Option(help="The new file.")],
    without: Annotated[
        list[Matching] | None, typer.Option(help="Leave this as the pickup recording has it; may be repeated.")
    ] = None,
    as_json: AsJson = False,
    one_ear: OneEar = False,
    heard: HeardFile = None,
) -> None:
    """Put a line of a pickup recording into a chapter at word boundaries."""
    from faithful_reel.core.files import refuse_over
    from faithful_reel.core.hear.ears import installed_ears
    from faithful_reel.core.hear.memory import memory_in
    from faithful_reel.core.splice.match import Switches
    from faithful_reel.core.text.manuscript import read_script
    from faithful_reel.core.work.one_chapter import splice_file

    switches = Switches(**dict.fromkeys((m.value for m in without or ()), False))
    refuse_over(out, *filter(None, (audio, script, pickup, heard)))
    chapter = read_script(script)
    _tell_of(audio, pickup)
    with memory_in(heard) as memory:
        result = splice_file(audio, chapter, pickup, line, out, installed_ears(only_first=one_ear), _watch(), memory, switches)
    if as_json:
        _print(result.as_json())
        return
    made = result.preview
    places = " and ".join(f"{clock(at / made.rate)}" for at in made.joins)
    sys.stdout.write(f"{out}: joined at {places}, {result.seam_in.ease} and {result.seam_out.ease}\n")
    if result.wrong:
        sys.stdout.write(f"not heard as written: {'; '.join(result.wrong)}\n")


@app.command()
def booth(
    sheet: Annotated[Path, typer.Argument(metavar="SHEET", help="The call sheet of a round: CSV or XLSX.")],
    out: Annotated[Path, typer.Option(help="The pickup recording to write.")],
    takes: Annotated[Path | None, typer.Option(help="A folder of prepared takes; else those of the demo.")] = None,
    seed: Annotated[int, typer.Option(help="Another number gives another performance.")] = 1,
    shuffled: Annotated[bool, typer.Option("--shuffled", help="Read the lines in another order.")] = False,
    as_json: AsJson = False,
) -> None:
    """Have a simulated narrator read a call sheet: a pickup recording for trying things out."""
    from faithful_reel.core.audio.encode import write_audio
    from faithful_reel.core.book.demo import demo_files
    from faithful_reel.core.errors import FileProblem
    from faithful_reel.core.files import refuse_over, shown
    from faithful_reel.core.standins.booth import BoothSettings, lines_of_sheet, performed, prepared_files, voices_of
    from faithful_reel.core.units import BOOK_RATE

    prepared = takes or demo_files()
    refuse_over(out, sheet, *prepared_files(prepared))
    lines = lines_of_sheet(sheet)
    if takes is not None and not any(path.is_file() for path in prepared_files(takes)):
        raise FileProblem(f"{shown(takes)} is no folder of prepared takes. Choose another one, or leave it out.")
    made = performed(lines, voices_of(prepared), BoothSettings(seed=seed, shuffled=shuffled))
    if not any(s.what == "take" for s in made.said):
        raise FileProblem(
            "No line of this sheet can be said by the voices that are there. Install a voice, or give prepared takes."
        )
    write_audio(out, [made.sound[None]], BOOK_RATE)
    if as_json:
        rows = [asdict(s) | {"start": round(s.start / BOOK_RATE, 3), "stop": round(s.stop / BOOK_RATE, 3)} for s in made.said]
        _print({"said": rows, "unsaid": made.unsaid})
        return
    sys.stdout.write(
        f"{out}: {sum(s.what == 'take' for s in made.said)} takes of {len(lines) - len(made.unsaid)} lines, simulated\n"
    )
    for number in made.unsaid:
        sys.stderr.write(f"faithful-reel: no voice can say line {number + 1}: {lines[number]}\n")


@app.command()
def edit(
    source: Annotated[Path, typer.Argument(metavar="BOOK|AUDIO", help="A book, or an audio file.")],
    do: Annotated[Path, typer.Option(help="A JSON file that lists the steps.")],
    out: Annotated[Path | None, typer.Option(help="The new file, where an audio file is edited.")] = None,
    chapter: Annotated[str, typer.Option(help="The chapter of a book: its number, title or id.")] = "1",
    as_json: AsJson = False,
) -> None:
    """Carry out a list of edits, on a chapter of a book or on an audio file."""
    from faithful_reel.core.book.session import Session
    from faithful_reel.core.book.store import BookStore
    from faithful_reel.core.errors import FileProblem
    from faithful_reel.core.work.steps import edit_book, edit_file

    if source.is_dir():
        if out is not None:
            raise FileProblem("A book keeps its edits itself. Leave --out away.")
        with BookStore(source) as store:
            made = edit_book(Session(store), chapter, do)
    elif out is None:
        raise FileProblem("An audio file is never written over. Say where the result goes: --out FILE.")
    else:
        _tell_of(source)
        made = dict(edit_file(source, do, out, _watch()))
    if as_json:
        _print(made)
    else:
        sys.stdout.write(f"{out or source}: {made['steps']} steps, {made['seconds_before']} s became {made['seconds_after']} s\n")


@app.command()
def master(
    source: Annotated[Path, typer.Argument(metavar="IN", help="The chapter's sound.")],
    out: Annotated[Path, typer.Option(help="The new file: .wav, .flac or .mp3.")],
    profile: ProfileName = "retail",
    as_json: AsJson = False,
) -> None:
    """Bring a chapter to a delivery profile."""
    from faithful_reel.core.audio.wholeness import shortfall
    from faithful_reel.core.files import refuse_over
    from faithful_reel.core.measure.profile import Verdict, load_profile, verdicts
    from faithful_reel.core.release.chapter_file import master_file
    from faithful_reel.core.release.check import checked_file, file_report

    refuse_over(out, source, Path(profile))
    limits = load_profile(profile)
    made = master_file(source, limits, out, watch=_watch())
    figures, found = checked_file(out, limits)
    found = (*found, made.words)
    cut = shortfall(source)
    if cut:
        found = (*found, Verdict("source", "all that its header promises", str(cut), passed=False))
        sys.stderr.write(f"faithful-reel: {cut}\n")
    if made.already:
        sys.stderr.write(f"faithful-reel: {source.name} passes this profile already: it was mastered once more.\n")
    passed = all(v.passed for v in found)
    if as_json:
        report = file_report(out, figures, found) | {"already_passed": made.already}
        before = [v.as_json() for v in verdicts(made.before, limits)]
        report |= {"before": made.before.as_json(), "before_verdicts": before, "steps": list(made.steps)}
        _print({"files": [report]})
    else:
        for step in made.steps:
            sys.stdout.write(f"  {step}\n")
        _print_verdicts(out, found)
    raise typer.Exit(0 if passed else 1)


def _print_verdicts(path: Path, found: tuple[object, ...]) -> None:
    from faithful_reel.core.measure.profile import Verdict

    for v in found:
        assert isinstance(v, Verdict)
        sys.stdout.write(f"{'pass' if v.passed else 'FAIL'}  {v.rule:<18} {v.value!s:>12}   {v.limit}   {path.name}\n")


@app.command()
def treat(
    source: Annotated[Path, typer.Argument(metavar="IN", help="The recording.")],
    out: Annotated[Path, typer.Option(help="The new file: .wav, .flac or .mp3.")],
    recipe: Annotated[str, typer.Option(help="A recipe's name, or a JSON file.")] = "",
    do: Annotated[str, typer.Option(help="Treatments instead of a recipe, in their order: clicks,hum,noise and so on.")] = "",
    taken_away: Annotated[Path | None, typer.Option("--taken-away", help="What was taken away, as a file.")] = None,
    as_json: AsJson = False,
) -> None:
    """Mend the sound of a recording by a recipe: clicks, clipping, plosives, sibilance, breaths, hum, noise, echo, tone."""
    from faithful_reel.core.errors import FileProblem
    from faithful_reel.core.files import refuse_over
    from faithful_reel.core.treat.recipe import load_recipe, recipe_doing
    from faithful_reel.core.work.treating import treat_file

    if bool(recipe) == bool(do):
        raise FileProblem("Say what is to be done, by --recipe or by --do, one of the two.")
    if recipe:
        for path in (out, *([taken_away] if taken_away else [])):
            refuse_over(path, Path(recipe))
    wanted = load_recipe(recipe) if recipe else recipe_doing(do)
    _tell_of(source)
    made = treat_file(source, wanted, out, taken_away=taken_away, watch=_watch())
    if as_json:
        _print(made.as_json())
        return
    for step in made.steps:
        figures = ", ".join(f"{name} {value}" for name, value in step.figures.items())
        told = step.why or "; ".join(filter(None, [f"{len(step.touched)} places" if step.touched else "", figures]))
        sys.stdout.write(f"  {step.do}: {told}\n")
    if made.lowered_db:
        sys.stdout.write(f"  made softer by {made.lowered_db:.1f} dB, so that nothing is clipped\n")


@app.command()
def check(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Audio files.")],
    profile: ProfileName = "retail",
    as_json: AsJson = False,
) -> None:
    """Hold finished files against a delivery profile."""
    from faithful_reel.core.measure.profile import load_profile
    from faithful_reel.core.release.check import checked_file, file_report

    limits = load_profile(profile)
    results = [(path, *checked_file(path, limits, _watch())) for path in files]
    if as_json:
        _print({"files": [file_report(*result) for result in results]})
    else:
        for path, _, found in results:
            _print_verdicts(path, found)
    raise typer.Exit(0 if all(v.passed for _, _, found in results for v in found) else 1)


@app.command()
def demo(
    folder: Annotated[
        Path | None, typer.Option(help="Where the demo book is kept; a new one is made where there is none.")
    ] = None,
    fresh: Annotated[bool, typer.Option("--fresh", help="Start over with an untouched demo book.")] = False,
    no_terminal: NoTerminal = False,
) -> None:
    """Open the window on the demo book."""
    from faithful_reel.app.main import run_demo, shown_in_a_box

    with shown_in_a_box() if no_terminal else contextlib.nullcontext():
        run_demo(folder, fresh=fresh)


@app.command()
def intake(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Recordings as they came.")],
    as_json: AsJson = False,
) -> None:
    """Look at the health of recordings: what they are, and which limits they miss."""
    from faithful_reel.core.book.recordings import examined
    from faithful_reel.core.measure.health import shortcomings

    reports: list[dict[str, object]] = []
    lines: list[str] = []
    problems: list[str] = []
    for path in files:
        try:
            r = examined(path, 44_100, _watch())
        except AppError as problem:
            problems.append(str(problem))
            reports.append({"path": str(path), "problem": str(problem)})
            continue
        h = r.health
        assert h is not None
        missed = shortcomings(h, rate=r.rate, peak_db=r.peak_db, rms_db=r.rms_db, noise_floor_db=r.noise_floor_db)
        tone = {"start": round(r.tone.start / 44_100, 3), "end": round(r.tone.stop / 44_100, 3)} if r.tone else None
        reports.append(
            {
                "path": str(path),
                "codec": h.codec,
                "rate": r.rate,
                "depth": h.depth,
                "channels": r.channels,
                "odd_channels": h.channels,
                "seconds": h.seconds,
                "peak_db": r.peak_db,
                "rms_db": r.rms_db,
                "noise_floor_db": r.noise_floor_db,
                "clipped_samples": h.clipped,
                "clipped_at": [round(start / r.rate, 4) for start, _ in h.places],
                "dc": h.dc,
                "hum_hz": h.hum_hz or None,
                "hum_db": h.hum_db if h.hum_hz else None,
                "room_tone": tone,
                "room_tone_seconds": h.tone_s,
                "speech_share": h.speech,
                "finished_seconds": h.finished_s,
                "missed": missed,
                "sound": not missed,
            }
        )
        lines.append(
            f"{path.name}: {clock(h.seconds)}, {r.rate} Hz, {h.depth or h.codec}, {r.channels} ch, peak {r.peak_db} dB,"
            f" floor {r.noise_floor_db} dB: {'; '.join(missed) or 'sound'}"
        )
    if as_json:
        _print({"recordings": reports})
    else:
        sys.stdout.write("".join(f"{line}\n" for line in lines))
    sys.stderr.write("".join(f"faithful-reel: {line}\n" for line in problems))
    raise typer.Exit(2 if problems else 0 if all(report["sound"] for report in reports) else 1)


@app.command("new")
def new_book(
    book: Annotated[Path, typer.Argument(metavar="BOOK", help="The folder to make, NAME.reelbook.")],
    manuscript: Annotated[Path | None, typer.Option(help="A manuscript to bring in.")] = None,
    recordings: Annotated[
        list[Path] | None, typer.Option("--recording", help="A recording to bring in; may be given often.")
    ] = None,
    title: Annotated[str, typer.Option(help="The book's title; else the manuscript's own.")] = "",
    author: Annotated[str, typer.Option(help="Its author.")] = "",
    narrator: Annotated[str, typer.Option(help="Who reads it.")] = "",
) -> None:
    """Make a new book, and bring in what is given."""
    from faithful_reel.core.book.making import make_book

    folder, refused = make_book(book, manuscript, recordings or [], title=title, author=author, narrator=narrator, watch=_watch())
    for problem in refused:
        sys.stderr.write(f"faithful-reel: {problem}\n")
    sys.stdout.write(f"{folder}\n")
    raise typer.Exit(1 if refused else 0)


Book = Annotated[Path, typer.Argument(metavar="BOOK", help="A folder NAME.reelbook.")]


@app.command()
def archive(
    book: Book, out: Annotated[Path | None, typer.Option(help="The archive; else NAME.reelarchive beside the book.")] = None
) -> None:
    """Write a whole book into one file."""
    from faithful_reel.core.book.keeping import ARCHIVE_SUFFIX, archived
    from faithful_reel.core.files import named

    made = archived(book, out or named(book.resolve(), ARCHIVE_SUFFIX), _watch())
    sys.stdout.write(f"{made}\n")


@app.command()
def unpack(
    source: Annotated[Path, typer.Argument(metavar="ARCHIVE", help="A file NAME.reelarchive.")],
    out: Annotated[Path | None, typer.Option(help="The folder to make; else NAME.reelbook beside the archive.")] = None,
) -> None:
    """Make a book of an archive; every file is checked by its hash."""
    from faithful_reel.core.book.condition import SUFFIX
    from faithful_reel.core.book.keeping import unpacked
    from faithful_reel.core.files import named

    sys.stdout.write(f"{unpacked(source, out or named(source.resolve(), SUFFIX), _watch())}\n")


@app.command()
def verify(book: Book, as_json: AsJson = False) -> None:
    """Check a whole book: its database, its journal, and every recording's bytes."""
    from faithful_reel.core.book.keeping import verified

    found = verified(book, _watch())
    if as_json:
        faults = [{"recording": f.recording, "name": f.name, "fault": f.kind} for f in found.faults]
        _print(
            {
                "steps": found.steps,
                "recordings": found.recordings,
                "problems": list(found.problems),
                "faults": faults,
                "sound": found.sound,
            }
        )
    else:
        for problem in found.problems:
            sys.stdout.write(f"database: {problem}\n")
        for fault in found.faults:
            sys.stdout.write(f"{fault.kind}: {fault.name} ({fault.recording[:12]})\n")
        state = "whole" if found.sound else "NOT whole"
        sys.stdout.write(f"{book.name}: {found.steps} steps, {found.recordings} recordings, {state}\n")
    raise typer.Exit(0 if found.sound else 1)


@app.command()
def compare(
    book: Book,
    copy: Annotated[Path, typer.Argument(metavar="ARCHIVE", help="A copy of it that came back.")],
    as_json: AsJson = False,
) -> None:
    """Say what another copy of a book has more; neither is changed."""
    from faithful_reel.core.book.keeping import opened_apart
    from faithful_reel.core.book.session import Session
    from faithful_reel.core.book.store import BookStore
    from faithful_reel.core.files import temporary_folder
    from faithful_reel.core.work.copies import archive_name, differences, parted

    with temporary_folder() as held, BookStore(book) as store:
        apart_of = opened_apart(copy, Path(held) / "copy.reelbook", _watch())
        copies = parted(book, store.head, apart_of, copy.name, _watch())
        rows = differences(Session(store).book, copies, archive_name(copy))
    if as_json:
        names = ("chapter", "what", "words", "here", "there", "clash", "why")
        _print({"parted": copies.step, "differences": [{name: getattr(row, name) for name in names} for row in rows]})
    else:
        for row in rows:
            mark = "! " if row.clash else ""
            why = f" ({row.why})" if row.why else ""
            sys.stdout.write(
                f"{row.chapter or 'book'}: {mark}{row.what.value}: {row.words}: {row.here or '-'} -> {row.there}{why}\n"
            )
    raise typer.Exit(1 if rows else 0)


@app.command()
def findings(
    book: Book,
    listed: Annotated[Path, typer.Argument(metavar="LIST", help="A table: CSV, XLSX, DOCX, ODT or ODS.")],
    as_json: AsJson = False,
) -> None:
    """Say which places of a book the lines of somebody's list of findings mean; nothing is taken in."""
    from contextlib import closing

    from faithful_reel.core.apart import apart
    from faithful_reel.core.book.model import ChapterState
    from faithful_reel.core.book.session import Session
    from faithful_reel.core.book.store import BookStore, Contents
    from faithful_reel.core.text.tables import tables_of
    from faithful_reel.core.text.words import Chapter
    from faithful_reel.core.work.others import kind_of, lines_of, placed
    from faithful_reel.core.work.timeline import Hearing

    watch = _watch()
    lines = lines_of(apart(tables_of, listed, path=listed, watch=watch), listed)
    with BookStore(book) as store, closing(Contents(book)) as contents:
        whole = Session(store).book

        def texts(chapter: ChapterState) -> tuple[Chapter, Hearing | None]:
            return contents.get(Chapter, chapter.text), contents.get(Hearing, chapter.hearing) if chapter.hearing else None

        rows = placed(whole, lines, texts, watch)
    if as_json:
        told = [
            {
                "line": row.said.number, "kind": kind_of(row.said), "sure": row.sure, "why": row.why,
                "places": [
                    {
                        "chapter": s.chapter, "first": s.first, "count": s.count, "start": round(s.start / whole.rate, 3),
                        "stop": round(s.stop / whole.rate, 3), "double": s.double,
                    }
                    for s in row.spots
                ],
            }
            for row in rows
        ]  # fmt: skip
        _print({"lines": told, "sure": sum(row.sure for row in rows)})
    else:
        for row in rows:
            where = f"{row.spots[0].chapter} {clock(row.spots[0].start / whole.rate)}" if row.spots else "nowhere"
            sys.stdout.write(f"line {row.said.number}: {where}, {'sure' if row.sure else 'NOT sure'}: {row.why}\n")
    raise typer.Exit(0 if all(row.sure for row in rows) else 1)


@app.command("open")
def open_book(
    book: Annotated[
        Path | None, typer.Argument(metavar="[BOOK]", help="A folder NAME.reelbook, its database, or a NAME.reelarchive.")
    ] = None,
    no_terminal: NoTerminal = False,
) -> None:
    """Open the window on a book; without one, on the books that were open before."""
    from faithful_reel.app.main import run_path, run_start, shown_in_a_box

    with shown_in_a_box() if no_terminal else contextlib.nullcontext():
        run_start() if book is None else run_path(book)


@app.command()
def install(
    remove: Annotated[bool, typer.Option("--remove", help="Take it all away again.")] = False,
) -> None:
    """Put the program into the desktop's menu for this user, with icons, file types and a manual page."""
    from faithful_reel.app.desktop import installed, removed

    command = typer.main.get_command(app)
    for path in removed(command) if remove else installed(command):
        sys.stdout.write(f"{'removed' if remove else 'installed'} {path}\n")


def _version(wanted: bool) -> None:  # noqa: FBT001 - typer calls it so
    if wanted:
        sys.stdout.write(f"faithful-reel {__version__}\n")
        raise typer.Exit


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")] = False,
) -> None:
    del version
    if context.invoked_subcommand is None:
        open_book()


_signals: list[int] = []
"""Those that asked us to end."""


_COMPILERS = ("numba", "llvmlite")
AGAIN_S = 0.05


def _ended(number: int, frame: FrameType | None) -> None:
    """SIGTERM or Ctrl+C: clear away what was begun; a second one does not disturb that.

    Not from within a compiler, which is called from C and may not survive it, nor from what a sound library calls to write,
    which swallows it: then a moment later.
    """
    if number == signal.SIGALRM or not _signals:
        _signals.append(number)
        while frame is not None:
            package = frame.f_globals.get("__name__", "").partition(".")[0]
            if package in _COMPILERS or (package == "soundfile" and frame.f_code.co_name.startswith("vio_")):
                signal.setitimer(signal.ITIMER_REAL, AGAIN_S)
                return
            frame = frame.f_back
        raise SystemExit(128 + _signals[0])


class _Output:
    """Standard output, of which nothing that could not be written is taken for written: it ends as unusable input does."""

    def __init__(self, file: TextIO | None) -> None:
        self._file = file

    def write(self, text: str) -> int:
        if self._file is None:
            raise _unwritten("it is closed")
        try:
            return self._file.write(text)
        except OSError as problem:
            raise self._told(problem) from problem

    def flush(self) -> None:
        try:
            if self._file is not None:
                self._file.flush()
        except OSError as problem:
            raise self._told(problem) from problem

    def _told(self, problem: OSError) -> AppError:
        assert self._file is not None
        os.dup2(os.open(os.devnull, os.O_WRONLY), self._file.fileno())  # what waits is not tried again at the end
        return _unwritten(problem.strerror or str(problem))

    def __getattr__(self, name: str) -> object:
        return getattr(self._file, name)


def _unwritten(why: str) -> AppError:
    return AppError(f"What was found could not be written to standard output ({why}). Give it another place.")


def _open_outputs() -> None:
    """Outputs that take any name and any sign."""
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w", encoding="utf-8")  # noqa: PTH123, SIM115 - as long as we run
    sys.stderr.reconfigure(errors="backslashreplace")  # type: ignore[union-attr]
    if sys.stdout is not None:
        unicode = sys.stdout.encoding.lower().replace("-", "") == "utf8"
        sys.stdout.reconfigure(errors="surrogateescape" if unicode else "backslashreplace")  # type: ignore[union-attr]
    sys.stdout = cast("TextIO", _Output(sys.stdout))


def _run() -> int:
    """Run one command; its exit code."""
    try:
        app(standalone_mode=True)
    except SystemExit as end:
        sys.stdout.flush()
        return end.code if isinstance(end.code, int) else 0 if end.code is None else 2
    return 0


def main() -> None:
    """Run one command; turn what a user can cure into one line and exit code 2."""
    signal.signal(signal.SIGTERM, _ended)
    signal.signal(signal.SIGINT, _ended)
    signal.signal(signal.SIGALRM, _ended)
    try:
        _open_outputs()
        sys.exit(_run())
    except AppError as problem:
        sys.stderr.write(f"faithful-reel: {problem}\n")
        sys.stderr.flush()
        sys.exit(2)
    except SystemError:
        if not _signals:
            raise
        sys.exit(128 + _signals[0])  # what compiled code makes of our end when it comes while it runs
    except OSError as problem:
        name = Path(str(problem.filename)).name if problem.filename else "a file"
        sys.stderr.write(
            f"faithful-reel: {name}: {os.strerror(problem.errno) if problem.errno else problem}. Check the file and its folder.\n"
        )
        sys.exit(2)


if __name__ == "__main__":
    main()
