"""Sorting takes, gaps of a line, the call sheet."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from support.sounds import noise

from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.links import collated
from faithful_reel.core.collate.proofing import Placed, Proof, proofed
from faithful_reel.core.errors import FileProblem, SignalError
from faithful_reel.core.hear.aligner import Aligner
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Cancelled, Unwatched
from faithful_reel.core.pickups.judging import _Judged, _voice, session_of
from faithful_reel.core.pickups.sorting import Match
from faithful_reel.core.pickups.takes import changed_tokens, find_line, gaps_of
from faithful_reel.core.units import EAR_RATE, Span

LINE = ["By", "nine", "o’clock", "the", "whole", "town", "had", "come", "down", "to", "look."]


def test_a_line_is_found_in_the_script():
    script = [
        "He",
        "did",
        "not",
        "like",
        "surprises.",
        "By",
        "nine",
        "o’clock",
        "the",
        "whole",
        "town",
        "had",
        "come",
        "down",
        "to",
        "look.",
        "Children",
        "ran",
        "out.",
    ]
    assert find_line(script, LINE) == 5
    assert find_line(script, ["the", "whole", "town"]) == 8
    with pytest.raises(FileProblem, match="not in the script"):
        find_line(script, ["something", "quite", "different", "altogether"])


def spans(text):
    return [Span(1000 * i, 1000 * i + 800) for i, _ in enumerate(text.split())]


def test_gaps_take_extra_words_out_but_leave_neighbours_alone():
    # nobody [ever] listened. [Mr. Gray] Mr. Gray walked
    rows = list(zip([0, -1, 1, -1, -1, 2, 3, 4], spans("a b c d e f g h"), strict=True))
    entering, leaving = gaps_of(rows, range(2), Span(0, 20_000))
    assert entering[1] == Span(800, 1000)  # before "ever": a cut there takes it out
    assert leaving[1] == Span(1800, 2000)  # after "ever"
    assert leaving[2] == entering[2] == Span(2800, 3000)  # what is read between two lines stays where it is
    assert entering[0] == Span(0, 0)


def test_gaps_of_words_that_were_not_heard():
    rows = [(0, Span(0, 800)), (3, Span(3000, 3800))]
    entering, leaving = gaps_of(rows, range(1, 3), Span(0, 9000))
    assert entering[0] == leaving[0] == Span(800, 3000)  # between the words around
    assert entering[2] == Span(800, 3000)
    assert gaps_of([], range(2), Span(0, 9)) == ((None,) * 3, (None,) * 3)
    entering, leaving = gaps_of(rows[:1], range(1), Span(0, 9000))
    assert leaving[1] == entering[1] == Span(800, 9000)  # to the end


@given(st.lists(st.booleans(), min_size=1, max_size=12), st.integers(0, 4), st.integers(1, 6))
def test_a_gap_never_reaches_into_a_word_that_is_kept(written, first, count):
    rows, word = [], 0
    for k, own in enumerate(written):
        rows.append((word if own else -1, Span(1000 * k, 1000 * k + 800)))
        word += own
    bounds = Span(0, 1000 * len(written))
    entering, leaving = gaps_of(rows, range(first, first + count), bounds)
    assert len(entering) == len(leaving) == count + 1
    for gap in (*entering, *leaving):
        if gap is not None:
            assert bounds.start <= gap.start <= gap.stop <= bounds.stop
            assert all(gap.overlap(span) == 0 or w < 0 for w, span in rows if w >= 0)


def test_changed_tokens_of_a_line():
    links = collated(["a", "line", "of", "green", "bottles"], ["a", "line", "of", "great", "bottles"])
    assert changed_tokens(links, range(5)) == range(3, 4)
    assert changed_tokens(links, range(3)) == range(3)  # nothing departs: all of it


@pytest.mark.slow
def test_the_demos_pickup_recording_is_sorted(demo, ears, heard_file):
    truth = json.loads((demo / "truth.json").read_text())["pickups-1"]["takes"]
    lines = list(dict.fromkeys(t["line"] for t in truth))
    x = read_mono(demo / "pickups-1.flac", EAR_RATE)
    with Memory(heard_file) as memory:
        found = session_of(x, lines, ears, "r", 44_100, Unwatched(), memory)
    for line, row in zip(lines, found.lines, strict=True):
        real = [t for t in truth if t["line"] == line]
        assert len(row.takes) == len(real) == 2
        assert not any(t.departures for t in row.takes)  # both are as written
        assert row.best == 1
        assert row.why
        for take, where in zip(row.takes, real, strict=True):
            assert not take.part
            assert take.start / 44_100 == pytest.approx(where["start"], abs=0.12)
            assert take.stop / 44_100 == pytest.approx(where["end"], abs=0.15)
            assert take.clear[0] <= take.start < take.stop <= take.clear[1]
    assert any("Pick" in u.heard for u in found.left)  # slates read no line


@pytest.mark.slow
def test_lines_read_in_one_breath_are_parted_where_they_are(demo, ears, heard_file):
    truth = json.loads((demo / "truth.json").read_text())["pickups-1"]["takes"]
    lines = list(dict.fromkeys(t["line"] for t in truth))
    x = read_mono(demo / "pickups-1.flac", EAR_RATE)
    read = [next(t for t in truth if t["line"] == line) for line in lines[:2]]
    parts, spans, at = [x[: EAR_RATE // 2]], [], EAR_RATE // 2
    for t in read:  # a quarter of a second between them: one island of speech
        part = x[round((t["start"] - 0.05) * EAR_RATE) : round((t["end"] + 0.2) * EAR_RATE)]
        spans.append((at / EAR_RATE + 0.05, (at + len(part)) / EAR_RATE - 0.2))
        parts.append(part)
        at += len(part)
    with Memory(heard_file) as memory:
        x = np.concatenate([*parts, x[: EAR_RATE // 2]])
        both, second = (session_of(x, asked, ears, "r", EAR_RATE, Unwatched(), memory) for asked in (lines, lines[1:]))
    for (start, stop), row in zip(spans, both.lines[:2], strict=True):
        (only,) = row.takes
        assert not only.departures
        assert not only.part
        assert only.start / EAR_RATE == pytest.approx(start, abs=0.12)
        assert only.stop / EAR_RATE == pytest.approx(stop, abs=0.15)
    (left,) = second.left  # what nobody asked for
    assert left.start / EAR_RATE == pytest.approx(spans[0][0], abs=0.2)  # with the quiet before it
    assert left.stop / EAR_RATE == pytest.approx(spans[0][1], abs=0.06)


@pytest.mark.slow
def test_what_reads_half_of_a_line_and_then_another_is_no_take_of_it(demo, ears, heard_file):
    asked = ["By nine o'clock the whole crew was up and at its breakfast."]  # "... town had come down to look" is read
    x = read_mono(demo / "pickups-1.flac", EAR_RATE)
    with Memory(heard_file) as memory:
        found = session_of(x, asked, ears, "r", EAR_RATE, Unwatched(), memory)
    assert found.lines[0].takes == ()
    truth = json.loads((demo / "truth.json").read_text())["pickups-1"]["takes"]
    for t in (t for t in truth if "whole town" in t["line"]):  # told, and not dropped
        shared = [min(u.stop / EAR_RATE, t["end"]) - max(u.start / EAR_RATE, t["start"]) for u in found.left]
        assert max(shared) > 0.8 * (t["end"] - t["start"])


@pytest.mark.slow
@pytest.mark.parametrize("again", [True, False])
def test_a_take_that_the_whole_recordings_proof_lost_is_heard_for_itself_or_told(demo, ears, heard_file, monkeypatch, again):
    truth = json.loads((demo / "truth.json").read_text())["pickups-1"]["takes"]
    line = truth[0]["line"]
    x = read_mono(demo / "pickups-1.flac", EAR_RATE)

    def losing(sound, script, *args, **kept):
        if len(sound) < len(x) and not again:
            raise SignalError("Nobody speaks.")
        proof = proofed(sound, script, *args, **kept)
        if len(sound) < len(x):
            return proof
        ferries = [i for i, w in enumerate(script.words) if w.text == "ferry"]
        middles = [round((t["start"] + t["end"]) / 2 * EAR_RATE) for t in truth if t["line"] == line]
        gone = [Finding("f1", Kind.SKIPPED, "ferry", "", i, 1, m, m, 0.9) for i, m in zip(ferries, middles, strict=True)]
        return replace(proof, placed=(None,) * len(proof.placed), findings=tuple(gone))

    monkeypatch.setattr("faithful_reel.core.pickups.judging.proofed", losing)
    with Memory(heard_file) as memory:
        found = session_of(x, [line], ears, "r", EAR_RATE, Unwatched(), memory)
    real = [t for t in truth if t["line"] == line]
    if again:
        assert [t.start / EAR_RATE for t in found.lines[0].takes] == pytest.approx([t["start"] for t in real], abs=0.12)
        assert not any(t.departures for t in found.lines[0].takes)
    else:
        assert found.lines[0].takes == ()
        told = [u.start / EAR_RATE for u in found.left if u.heard.endswith("owning.")]
        assert told == pytest.approx([t["start"] for t in real], abs=0.7)


def judged(line, findings, placed=None):
    """The take of a line of which every word was placed, a second long, but those that are not `placed`."""
    tokens = line.split()
    x = noise(seconds=len(tokens), rms_db=-30, rate=EAR_RATE)
    at = [Placed(k * EAR_RATE, (k + 1) * EAR_RATE, 0.9) if placed is None or placed[k] else None for k in range(len(tokens))]
    found = tuple(Finding("f1", kind, a, b, k, 1, k * EAR_RATE, (k + 1) * EAR_RATE, sure) for kind, a, b, k, sure in findings)
    proof = Proof((), tuple(at), found, (), float(len(tokens)))
    match = Match(0, range(len(tokens)), range(len(tokens)), 1.0)
    one = _Judged(x, _voice(x), proof, match, 0, tokens, Span(0, len(x)))
    with Aligner() as aligner:
        return one.take("r", aligner)


def test_what_reads_a_third_of_a_line_otherwise_is_no_take_of_it():
    line = "There was a silence."
    assert judged(line, [(Kind.MISREAD, "silence.", "car.", 3, 0.9)]) is None
    assert judged(line, [(Kind.MISREAD, "silence.", "silences.", 3, 0.9)]).departures == 1
    assert judged(line, [(Kind.MISREAD, "silence.", "car.", 3, 0.1)]) is not None  # one ear misheard
    longer = f"{line} It was not broken for the whole of that hour."
    assert judged(longer, [(Kind.MISREAD, "silence.", "car.", 3, 0.9)]).departures == 1


def test_what_lacks_counts_as_read_otherwise():
    line = "She did not know that either."
    read = [(Kind.MISREAD, "know", "tap", 3, 0.9)]
    assert judged(line, read) is not None
    assert judged(line, read, [False, *[True] * 4, False]) is None  # "She" and "either" were not heard


@pytest.mark.slow
@pytest.mark.parametrize("note", ["listening", "placing words", "judging takes"])
def test_sorting_stops_wherever_it_is_when_it_is_cancelled(demo, ears, heard_file, note):
    class Cancelling:
        def __init__(self):
            self.ticks = []

        def tick(self, done, what=""):
            self.ticks.append((done, what))
            if what == note:
                raise Cancelled

    line = json.loads((demo / "truth.json").read_text())["pickups-1"]["takes"][0]["line"]
    x = read_mono(demo / "pickups-1.flac", EAR_RATE)
    watch = Cancelling()
    with Memory(heard_file) as memory, pytest.raises(Cancelled):
        session_of(x, [line], ears, "r", EAR_RATE, watch, memory)
    assert watch.ticks[-1][1] == note
    done = np.array([done for done, _ in watch.ticks])
    assert (np.diff(done) > -1e-9).all()  # and never goes back
