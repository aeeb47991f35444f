"""The shell's words on plain files, with made ears: what changes, what stays, and in every channel."""

from __future__ import annotations

from contextlib import contextmanager
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from support.chapters import LENGTH, RATE, TEXT, TOKENS, made, place

from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.links import Link
from faithful_reel.core.collate.proofing import Placed, Proof
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import hash_of
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.judging import LineTakes, Session
from faithful_reel.core.pickups.ledger import Take
from faithful_reel.core.splice.boundaries import Boundary
from faithful_reel.core.splice.place import Choice, Plan
from faithful_reel.core.splice.seam import FIGURES
from faithful_reel.core.units import EAR_RATE
from faithful_reel.core.work import one_chapter, receiving
from faithful_reel.core.work.hearing_again import HeardSo
from faithful_reel.core.work.one_chapter import rough_file, rough_of, splice_file

LINE = "A line of green bottles lay there."
SHIFT = 30_000
"""How much earlier the pickup begins with the line than the chapter has it."""


class Ears:
    """One ear, which is held and rests."""

    def __init__(self):
        self.first = self

    @contextmanager
    def busy(self):
        yield

    def rest(self):
        pass


def voice(count, *, shift=0, seed=1, level=0.1):
    """`count` words of noise at the places of a made chapter, over a soft floor."""
    rng = np.random.default_rng(seed)
    x = rng.standard_normal(place(count) + RATE) * 0.0005
    for i in range(count):
        x[place(i) - shift : place(i) - shift + LENGTH] += level * rng.standard_normal(LENGTH) * np.hanning(LENGTH)
    return x.astype(np.float32)


def at_ear(n):
    return round(n * EAR_RATE / RATE)


def proof_of(hearing, findings=()):
    heard = tuple(replace(h, start=at_ear(h.start), stop=at_ear(h.stop)) for h in hearing.heard)
    placed = tuple(Placed(at_ear(p.start), at_ear(p.stop), 0.9) if p else None for p in hearing.placed)
    found = tuple(replace(f, start=at_ear(f.start), stop=at_ear(f.stop)) for f in findings)
    return Proof(heard, placed, found, tuple(Link(range(a, b), range(c, d), s) for a, b, c, d, s in hearing.links), 1.0)


@pytest.fixture(params=[1, 2])
def files(request, tmp_path, monkeypatch):
    """A chapter in which "green" is read as "great", and a pickup of the line; the ears are made."""
    channels = request.param
    read = [t if t != "green" else "great" for t in TOKENS]
    _, _, hearing = made(read=read)
    chapter = np.stack([voice(len(TOKENS), seed=c + 1) for c in range(channels)], axis=1)
    soundfile.write(tmp_path / "chapter.wav", chapter, RATE, subtype="FLOAT")
    soundfile.write(tmp_path / "pickup.wav", voice(len(TOKENS), shift=SHIFT, seed=9, level=0.05), RATE, subtype="FLOAT")
    said = tuple(Heard(w, place(4 + i) - SHIFT, place(4 + i) - SHIFT + LENGTH, 0.9) for i, w in enumerate(LINE.split()))

    def proofed(x, script, ears, watch, *, memory=None):
        assert x.shape == (at_ear(len(chapter)),)
        assert (script, type(ears), memory) == (TEXT, Ears, "memory")
        watch.tick(1.0, "heard")
        return proof_of(hearing)

    def session_of(x, lines, ears, recording, rate, watch, memory, marked=()):
        assert (len(x), rate, memory) == (at_ear(len(chapter)), RATE, "memory")
        assert isinstance(ears, Ears)
        watch.tick(1.0, "sorted")
        words = tuple((h.start, h.stop) for h in said)
        take = Take(recording, words[0][0], words[-1][1], 0, LINE, words)
        return Session((LineTakes((take,), 0) if lines == [LINE] else LineTakes((), -1),), ())

    def heard_again(book, chapter, text, hearing, words, render_of, ears, watch, memory):
        assert (text, words, memory) == (TEXT, range(4, 11), "memory")
        assert book.chapters == (chapter,)
        assert book.pickups[0].placed
        assert len(render_of(chapter.reel).render(0, len(chapter.reel))) == len(chapter.reel)  # the take's sound is there
        return HeardSo(())

    monkeypatch.setattr(one_chapter, "proofed", proofed)
    monkeypatch.setattr(one_chapter, "heard_again", heard_again)
    monkeypatch.setattr(receiving, "session_of", session_of)
    return tmp_path, chapter


class Watch:
    """What was told of the work."""

    def __init__(self):
        self.told = []

    def tick(self, done, note=""):
        self.told.append((round(done, 2), note))


def spliced(folder, line=LINE, out="out.wav", watch=None):
    return splice_file(folder / "chapter.wav", TEXT, folder / "pickup.wav", line, folder / out, Ears(), watch, "memory")


def test_a_splice_changes_the_word_and_nothing_else(files):
    folder, before = files
    watch = Watch()
    made_ = spliced(folder, watch=watch)
    assert watch.told == [(0.6, "heard"), (0.8, "sorted"), (0.8, "hearing the result")]
    after, rate = soundfile.read(folder / "out.wav", dtype="float32", always_2d=True)
    told, preview = made_.as_json(), made_.preview
    command = preview.plan.command
    start, stop, grown = command.start, command.stop, len(after) - len(before)
    assert rate == RATE
    assert after.shape[1] == before.shape[1]
    assert place(4) - RATE // 4 < start < place(7) < place(7) + LENGTH < stop < place(10) + LENGTH
    assert grown == (command.take_stop - command.take_start) - (stop - start)
    left, right = command.join_in.length // 2 + 2, command.join_out.length // 2 + 2
    step = 2**-23  # of 24 bits
    assert np.abs(after[: start - left] - before[: start - left]).max() <= 2 * step
    assert np.abs(after[stop + grown + right :] - before[stop + right :]).max() <= 2 * step
    gain = 10 ** (preview.plan.gain_db / 20)
    theirs = preview.matched.sound[command.take_start + left : command.take_stop - right] * gain
    for channel in after.T:  # the take in every channel, in step to the sample
        assert np.abs(channel[start + left : start + left + len(theirs)] - theirs).max() <= 2 * step
    mixed_down = 3 * (before.shape[1] - 1)  # channels of their own noise are 3 dB softer together
    assert preview.plan.gain_db == pytest.approx(6 - mixed_down, abs=1)
    assert told["replaced"] == pytest.approx([start / RATE, stop / RATE], abs=1e-4)
    assert told["matched"]["level_db"] == preview.plan.gain_db
    for side in ("in", "out"):
        assert set(told["seam"][side]) == {*FIGURES, "percentiles", "kind", "word"}


@pytest.mark.parametrize(
    ("wrong", "tried", "left"),
    [
        ([(), ()], 1, ()),
        ([("“green” is not heard",), ()], 2, ()),
        ([("a", "b"), ("a", "b", "c"), ("c",), ("d",), ("e", "f"), ("g",)], 6, ("c",)),
    ],
)
def test_where_a_word_is_not_heard_as_written_the_next_best_places_are_tried(files, monkeypatch, wrong, tried, left):
    folder, _ = files
    asked = []

    def heard_again(book, chapter, *_more):
        asked.append(chapter.reel)
        return HeardSo(wrong[len(asked) - 1])

    monkeypatch.setattr(one_chapter, "heard_again", heard_again)
    result = spliced(folder)
    assert len(asked) == tried
    assert len(set(asked)) == tried  # no place twice
    assert result.wrong == left
    assert result.as_json()["wrong"] == list(left)
    first = next(k for k, told in enumerate(wrong) if told == left)
    assert result.preview.reel == asked[first]
    out, _ = soundfile.read(folder / "out.wav", dtype="float32", always_2d=True)
    assert len(out) == len(asked[first])  # and that is what was written


def test_sources_are_never_written_over(files):
    folder, _ = files
    before = {p.name: p.read_bytes() for p in folder.iterdir()}
    for out in ("chapter.wav", "pickup.wav"):
        with pytest.raises(FileProblem):
            spliced(folder, out=out)
    with pytest.raises(FileProblem):
        rough_file(folder / "chapter.wav", TEXT, folder / "chapter.wav", Ears())
    assert {p.name: p.read_bytes() for p in folder.iterdir()} == before


def test_lines_that_can_not_be_put_in_are_told(files, monkeypatch):
    folder, _ = files

    def refused(line, match):
        with pytest.raises(FileProblem, match=match):
            spliced(folder, line)
        assert not (folder / "out.wav").exists()

    refused("  ", "line is empty")
    refused("Nobody mentioned umbrellas", "script")
    monkeypatch.setattr(receiving, "session_of", lambda *_a, **_k: Session((LineTakes((), -1),), ()))
    refused(LINE, r"not heard in pickup\.wav")
    _, _, hearing = made()
    links = tuple((a, b, c, c if 4 <= a < 11 else d, s) for a, b, c, d, s in hearing.links)
    placed = tuple(None if 4 <= k < 11 else p for k, p in enumerate(hearing.placed))
    deaf = replace(hearing, links=links, placed=placed)
    monkeypatch.setattr(one_chapter, "proofed", lambda *_a, **_k: proof_of(deaf))
    refused(LINE, r"not heard in chapter\.wav")


# --- rough ------------------------------------------------------------------------------------------------------------

AGAIN = [*TOKENS[:4], "+A", "+line", *TOKENS[4:]]


def test_a_rough_cut_takes_out_the_false_start_and_keeps_every_other_sample(files):
    folder, _ = files
    _, chapter, hearing = made(read=AGAIN)
    sound = np.stack([voice(len(AGAIN), seed=c) for c in range(2)], axis=1)
    soundfile.write(folder / "raw.wav", sound, RATE, subtype="FLOAT")
    slip = Finding("f1", Kind.FALSE_START, "", "A line", 4, 2, place(4), place(5) + LENGTH, 0.9)
    told = rough_of(proof_of(hearing, [slip]), folder / "raw.wav", TEXT, folder / "rough.wav")
    after, _ = soundfile.read(folder / "rough.wav", dtype="float32", always_2d=True)
    [(finding, start, stop)] = told.cuts
    assert (finding.id, finding.heard) == ("f1", "A line")
    assert (start, stop) == pytest.approx((place(4) / RATE, (place(5) + LENGTH) / RATE), abs=1e-3)
    [(at, _)] = told.joins
    gone = len(sound) - len(after)
    join = round(at * RATE)
    assert place(3) + LENGTH < join < place(4)
    assert join + gone < place(6)  # the word after it is whole
    assert told.before_s - told.after_s == pytest.approx(gone / RATE)
    assert np.abs(after[: join - 500] - sound[: join - 500]).max() <= 2**-22
    assert np.abs(after[join + 500 :] - sound[join + gone + 500 :]).max() <= 2**-22
    assert told.natural is not None
    shape = told.as_json()
    assert shape["cuts"] == [
        {"kind": "false_start", "heard": "A line", "start": round(start, 3), "end": round(stop, 3), "confidence": 0.9}
    ]
    assert shape["joins"][0]["at"] == round(at, 3)
    assert (shape["seconds_before"], shape["seconds_after"]) == (round(len(sound) / RATE, 3), round(len(after) / RATE, 3))
    assert len(chapter.reel) > 0


def test_a_clean_reading_is_written_as_it_is(files):
    folder, before = files
    _, _, hearing = made()
    told = rough_of(proof_of(hearing), folder / "chapter.wav", TEXT, folder / "rough.wav")
    after, _ = soundfile.read(folder / "rough.wav", dtype="float32", always_2d=True)
    assert np.abs(after - before).max() <= 2**-22
    assert (told.cuts, told.joins) == ((), ())
    assert told.before_s == told.after_s


def test_a_rough_file_is_heard_and_cut_in_one_call(files):
    folder, before = files
    watch = Watch()
    told = rough_file(folder / "chapter.wav", TEXT, folder / "rough.wav", Ears(), watch, "memory")
    assert watch.told == [(0.9, "heard")]
    assert told.cuts == ()  # nothing was found in it
    after, _ = soundfile.read(folder / "rough.wav", dtype="float32", always_2d=True)
    assert np.abs(after - before).max() <= 2**-22


def test_a_book_of_one_chapter_is_the_file(files):
    folder, before = files
    _, _, hearing = made()
    slip = Finding("f1", Kind.FALSE_START, "", "A line", 4, 2, place(4), place(5) + LENGTH, 0.9)
    one = one_chapter.one_chapter(folder / "chapter.wav", TEXT, proof_of(hearing, [slip]))
    recording = one.book.recordings[0]
    assert one.text is TEXT
    assert (one.book.rate, recording.length, recording.channels) == (RATE, len(before), before.shape[1])
    assert one.chapter.recording == recording.hash == hash_of(folder / "chapter.wav")
    assert len(one.chapter.reel) == len(before)
    assert [h.start for h in one.hearing.heard] == pytest.approx([h.start for h in hearing.heard], abs=3)
    assert one.chapter.findings[0].start == pytest.approx(place(4), abs=3)
    assert recording.tone is None or recording.tone.recording == recording.hash


def test_the_next_best_places_are_other_pairs_that_fit_the_cheapest_first():
    def at(place, score):
        return Boundary(0, place, place, score, 80, 0.1)

    entering, leaving = (at(50, 0.0), at(40, 1.0), at(250, 1.5), at(10, 5.0)), (at(90, 0.0), at(300, 2.0))
    plan = Plan(entering, leaving, entering[1], leaving[0], 0.0, None)
    choices = one_chapter._next_best(plan)
    assert choices == [Choice(0, 1), Choice(1, 1), Choice(2, 1), Choice(3, 0), Choice(3, 1)]  # 0, 0 means the best pair
