"""Out of the book: sound with cue markers, markers as a list, word times; read back by other libraries."""

from __future__ import annotations

import csv
import html
import itertools
import subprocess
import sys

import numpy as np
import pysubs2
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from praatio import textgrid
from support.chapters import TEXT, TOKENS, made
from wavinfo import WavInfoReader

from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import Lane, Marker, Piece, Reel, Rest
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter, Word
from faithful_reel.core.times import TimeFormat
from faithful_reel.core.units import Span
from faithful_reel.core.work.exporting import file_name, written_markers, written_pieces, written_span, written_words
from faithful_reel.core.work.timeline import Tokens, tokens_of

RATE = 44_100
X = np.random.default_rng(3).uniform(-0.3, 0.3, 4 * RATE).astype(np.float32)


def source(_recording, start, stop):
    out = np.zeros(stop - start, np.float32)
    first, last = max(0, start), min(stop, len(X))
    if last > first:
        out[first - start : last - start] = X[first:last]
    return out


def table(path):
    with path.open(encoding="utf-8", newline="") as file:
        return list(csv.DictReader(file))


def render(reel):
    return Renderer(reel, source)


REEL = Reel(
    (
        Lane("voice", (Piece("r", 0, RATE, name="The tide/out"), Piece("r", RATE, 3 * RATE), Rest(100), Piece("r", 0, 500, name="The tide/out"))),
        Lane("clerk", (Rest(1000), Piece("r", 0, RATE, name="no")), muted=True),
    ),
    (Marker("m1", RATE // 2, "half", "red", "a, note"), Marker("m2", 2 * RATE + 5, "")),
)  # fmt: skip


@pytest.mark.parametrize(
    ("suffix", "bits", "close"), [(".wav", 24, 2e-7), (".wav", 16, 4e-5), (".wav", 32, 0), (".flac", 24, 2e-7)]
)
def test_a_span_is_written_as_it_is_played(tmp_path, suffix, bits, close):
    path = tmp_path / f"a{suffix}"
    written = written_span(REEL, Span(1000, 3 * RATE + 50), path, render, RATE, bits=bits)
    x, rate = soundfile.read(path, dtype="float32")
    assert (rate, len(x), written.length) == (RATE, 3 * RATE - 950, 3 * RATE - 950)
    np.testing.assert_allclose(x, render(REEL).render(1000, 3 * RATE + 50), atol=close)
    assert [p.name for p in tmp_path.iterdir()] == [path.name]


def test_markers_and_names_of_pieces_are_its_cues(tmp_path):
    path = tmp_path / "a.wav"
    written_span(REEL, Span(1000, RATE), path, render, RATE)
    cues = WavInfoReader(str(path), info_encoding="utf-8").cues
    labels = {x.name: x.text for x in cues.labels}
    assert [(c.sample_offset, labels[c.name]) for c in cues.cues] == [(0, "The tide/out"), (0, "no"), (RATE // 2 - 1000, "half")]


def test_some_lanes_alone_are_heard_though_they_are_muted(tmp_path):
    path = tmp_path / "a.wav"
    written_span(REEL, Span(1200, 5000), path, render, RATE, lanes=[1], bits=32)
    np.testing.assert_allclose(soundfile.read(path, dtype="float32")[0][441:], X[641:4000], atol=0)


def test_pieces_are_files_of_their_own_and_nothing_is_written_over(tmp_path):
    (tmp_path / "001 The tide out.wav").write_bytes(b"mine")
    written = written_pieces(REEL, Span(0, len(REEL)), 0, tmp_path, ".wav", render, RATE)
    assert [w.path.name for w in written] == ["001 The tide out (2).wav", "002.wav", "003 The tide out.wav"]
    assert [w.length for w in written] == [RATE, 2 * RATE, 500]
    assert (tmp_path / "001 The tide out.wav").read_bytes() == b"mine"
    with pytest.raises(EditRefused, match="No piece begins"):
        written_pieces(REEL, Span(5, 6), 0, tmp_path, ".wav", render, RATE)


@pytest.mark.parametrize(
    ("span", "name", "told"),
    [(Span(0, 0), "a.wav", "no sound"), (Span(0, 10**9), "a.wav", "no sound"), (Span(0, 9), "a.ogg", r"name it \.wav"), (Span(0, 9), "no/a.wav", r"a\.wav")],
)  # fmt: skip
def test_what_can_not_be_written_is_told_and_nothing_is_left(tmp_path, span, name, told):
    with pytest.raises((EditRefused, FileProblem), match=told):
        written_span(REEL, span, tmp_path / name, render, RATE)
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("suffix", [".wav", ".flac", ".mp3"])
def test_a_full_disk_is_told_by_the_name_that_was_asked_for_and_nothing_is_left(tmp_path, suffix):
    """In a process of its own whose files may not grow: what a full disk does, at the first byte, later, or at the last flush."""
    code = """
import resource, signal, sys
from pathlib import Path
import numpy as np
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span
from faithful_reel.core.work.exporting import written_span
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
noise = np.random.default_rng(1).uniform(-0.3, 0.3, 400_000).astype(np.float32)
path = Path(sys.argv[1])
def write():
    written_span(reel_of("r", 400_000), Span(0, 400_000), path, lambda r: Renderer(r, lambda _, a, b: np.resize(noise, b - a)), 44_100)
write()
size, before = path.stat().st_size, path.read_bytes()
for limit in (0, 60_000, size // 2, size - 300_000, *range(size - 40_000, size, 8_000), size - 100, size - 1, size):
    resource.setrlimit(resource.RLIMIT_FSIZE, (max(0, limit), resource.RLIM_INFINITY))
    try:
        write()
        sys.stderr.write(f"{size - limit} written\\n")
    except FileProblem as problem:
        sys.stderr.write(f"{problem}\\n")
    resource.setrlimit(resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    assert path.read_bytes() == before, limit
    assert len(list(path.parent.iterdir())) == 1, limit
"""
    command = [sys.executable, "-c", code, str(tmp_path / f"a{suffix}")]
    *told, last = subprocess.run(command, capture_output=True, text=True, timeout=100, check=True).stderr.splitlines()
    assert last == "0 written"
    assert all(f"a{suffix} could not be written" in line for line in told)
    assert len(told) == 11


def test_stopped_half_way_nothing_is_left(tmp_path):
    class Stopped(Unwatched):
        def tick(self, done, what=""):
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        written_span(REEL, Span(0, RATE), tmp_path / "a.wav", render, RATE, watch=Stopped())
    assert list(tmp_path.iterdir()) == []


@settings(max_examples=80, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.text())
def test_any_name_makes_part_of_a_file_name(text):
    name = file_name(text)
    assert len(name) <= 60
    assert not set(name) & set('/\\\0:*?"<>|\n')
    assert name == name.strip(" .")


def test_markers_as_a_list(tmp_path):
    path = tmp_path / "markers.csv"
    written_markers(REEL, path, RATE, TimeFormat.SAMPLES)
    rows = table(path)
    assert rows[0] == {"time": "22050", "seconds": "0.500000", "name": "half", "colour": "red", "note": "a, note"}
    assert [r["time"] for r in rows] == ["22050", str(2 * RATE + 5)]


def chapter():
    book, chapter, hearing = made()
    cut = hearing.heard[2].start - 100, hearing.heard[2].stop + 100  # one word is cut
    reel = CutAndClose(*cut).apply(chapter.reel)
    from dataclasses import replace

    return tokens_of(book, replace(chapter, reel=reel), TOKENS, hearing), len(reel)


@pytest.mark.parametrize("suffix", [".vtt", ".srt"])
def test_word_times_as_subtitles_are_read_back(tmp_path, suffix):
    tokens, length = chapter()
    path = tmp_path / f"a{suffix}"
    count = written_words(tokens, TEXT, length, RATE, path)
    events = pysubs2.load(str(path)).events
    heard = tokens.heard()
    assert count == len(events) == len(TOKENS) - 1
    for event, token in zip(events, heard, strict=True):
        assert event.plaintext == token.text
        assert event.start == pytest.approx(1000 * token.start / RATE, abs=1)
        assert event.end <= round(1000 * token.stop / RATE) + 1
    if suffix == ".vtt":
        assert path.read_text().startswith("WEBVTT\n")  # W3C WebVTT: the file's first line


ODD = ('"quoted"', "AT&T", "<b>bold</b>", "{sic}", r"a\Nb", "-->", "\ud800odd")


def of_words(words):
    count = len(words)
    tokens = Tokens(words, np.arange(count), np.arange(count) * 4000 + 10, np.arange(count) * 4000 + 3000)
    return tokens, Chapter("x", tuple(Word(w, 0, 0) for w in words))


@pytest.mark.parametrize("suffix", [".vtt", ".srt"])
def test_voices_that_speak_at_once_keep_their_whole_words_and_no_cue_is_empty(tmp_path, suffix):
    starts, stops = np.array([100, 2000, 2500, 9000]), np.array([4000, 2010, 6000, 9005])
    tokens = Tokens(["long", "  ", "over", "brief"], np.arange(4), starts, stops, lanes=np.array([0, 0, 1, 0]))
    path = tmp_path / f"a{suffix}"
    assert written_words(tokens, Chapter("x", tuple(Word(w, 0, 0) for w in "abcd")), 50_000, RATE, path) == 3
    events = pysubs2.load(str(path)).events
    assert [(e.plaintext, e.end > e.start) for e in events] == [("long", True), ("over", True), ("brief", True)]
    assert events[0].end == pytest.approx(1000 * 2000 / RATE, abs=1)  # to the next of its own voice
    assert events[1].end == pytest.approx(1000 * 6000 / RATE, abs=1)


def test_a_marker_that_a_spreadsheet_would_take_for_a_formula_is_told_apart(tmp_path):
    reel = Reel(REEL.lanes, (Marker("m", 5, "=1+1", "", "@SUM(A1)"),))
    written_markers(reel, tmp_path / "m.csv", RATE)
    (row,) = table(tmp_path / "m.csv")
    assert (row["name"], row["note"]) == ("'=1+1", "'@SUM(A1)")


@pytest.mark.parametrize("suffix", [".vtt", ".srt", ".csv", ".TextGrid"])
def test_no_word_is_lost_or_taken_for_an_order_whatever_is_in_it(tmp_path, suffix):
    """WebVTT writes &, < and > as the standard says (W3C WebVTT, cue text), so that --> ends no cue."""
    tokens, text = of_words(list(ODD))
    path = tmp_path / f"a{suffix}"
    assert written_words(tokens, text, 50_000, RATE, path) == len(ODD)
    raw = path.read_text(encoding="utf-8")
    kept = [w.replace("\ud800", "?") for w in ODD]
    if suffix == ".csv":  # what a spreadsheet would take for a formula is told apart
        assert [r["word"] for r in table(path)] == [f"'{w}" if w[0] == "-" else w for w in kept]
    elif suffix == ".TextGrid":
        grid = textgrid.openTextgrid(str(path), includeEmptyIntervals=False)
        assert [w.label for w in grid.getTier("words").entries] == kept
    else:
        said = [block.split("\n")[-1] for block in raw.strip().split("\n\n")[suffix == ".vtt" :]]
        kept = kept if suffix == ".vtt" else [w.replace("-->", "->") for w in kept]  # a line with --> is one of times in SRT
        assert [html.unescape(s) if suffix == ".vtt" else s for s in said] == kept
        assert suffix == ".srt" or not any(c in "".join(said) for c in "<>")


def test_word_times_as_a_textgrid_with_words_and_sentences(tmp_path):
    tokens, length = chapter()
    path = tmp_path / "a.TextGrid"
    written_words(tokens, TEXT, length, RATE, path)
    grid = textgrid.openTextgrid(str(path), includeEmptyIntervals=False)
    words = grid.getTier("words").entries
    assert [w.label for w in words] == [t.text for t in tokens.heard()]
    assert words[0].start == pytest.approx(tokens.heard()[0].start / RATE, abs=1e-5)
    assert [s.label for s in grid.getTier("sentences").entries] == [
        " ".join(TEXT.words[k].text for k in s) for s in TEXT.sentences()
    ]
    assert grid.maxTimestamp == pytest.approx(length / RATE)


def test_word_times_as_a_table(tmp_path):
    tokens, length = chapter()
    path = tmp_path / "a.csv"
    written_words(tokens, TEXT, length, RATE, path)
    rows = table(path)
    assert [r["word"] for r in rows] == [t.text for t in tokens.heard()]
    assert rows[0]["number"] == "1"
    assert all(float(a["end"]) <= float(b["start"]) + 1e-6 for a, b in itertools.pairwise(rows))


def test_words_that_are_not_heard_or_a_wrong_suffix_are_told(tmp_path):
    book, unheard, _ = made()
    tokens = tokens_of(book, unheard, TOKENS, None)
    with pytest.raises(EditRefused, match="Hear the chapter first"):
        written_words(tokens, TEXT, 100, RATE, tmp_path / "a.srt")
    with pytest.raises(FileProblem, match=r"name it \.vtt"):
        written_words(tokens, TEXT, 100, RATE, tmp_path / "a.txt")
