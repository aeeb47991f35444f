"""How a chapter's master stands and sounds; pairing recordings by what was heard."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import soundfile
from support.chapters import LENGTH, RATE, TEXT, TOKENS, made, place
from support.sounds import noise, speech_like

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.model import Book, Master, Recording, Stretch
from faithful_reel.core.collate.pairing import Passage
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.measure.profile import limits_key, load_profile, profile_names
from faithful_reel.core.pickups.ledger import Pickup, Take
from faithful_reel.core.reel.reel import Lane, Piece, Reel, reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span
from faithful_reel.core.work.mastering import (
    CURRENT,
    DUE,
    MasterState,
    at_mastered_level,
    known_words,
    master_file,
    master_renderer,
    master_state,
    mastered,
)
from faithful_reel.core.work.pairing import paired_by_ear, passages_of, unread
from faithful_reel.core.work.timeline import tokens_of


def master(**more):
    known = {
        "file": "One.mp3",
        "profile": "retail",
        "reel_key": "k",
        "steps": (),
        "figures": {},
        "verdicts": (("rms", "", "", True),),
    }
    return Master(**(known | more))


@pytest.mark.parametrize(
    ("kept", "state"),
    [
        (None, MasterState.TO_DO),
        (master(), MasterState.PASSES),
        (master(verdicts=(("rms", "", "", True), ("peak", "", "", False))), MasterState.FAILS),
        (master(reel_key="before"), MasterState.OUT_OF_DATE),
        (master(profile="broadcast"), MasterState.OUT_OF_DATE),
        (master(limits="limits"), MasterState.PASSES),
        (master(limits="other"), MasterState.OUT_OF_DATE),
    ],
)
def test_how_a_master_stands(kept, state):
    _, chapter, _ = made()
    asked = []

    def key():
        asked.append(True)
        return "k"

    assert master_state(replace(chapter, master=kept), "retail", "limits", key) is state
    assert bool(asked) == (
        kept is not None and kept.profile == "retail" and kept.limits != "other"
    )  # it takes a while on a long chapter
    assert master_state(replace(chapter, master=kept, reel=None), "retail", "limits", key) is MasterState.NO_SOUND
    assert (state in DUE) == (state not in CURRENT) or state is MasterState.FAILS


def test_the_words_that_are_never_trimmed_are_all_that_were_heard():
    book, chapter, hearing = made()
    assert known_words(tokens_of(book, chapter, TOKENS, hearing), chapter.reel) == Span(place(0), place(len(TOKENS) - 1) + LENGTH)
    assert known_words(tokens_of(book, chapter, TOKENS, None), chapter.reel) is None


def test_music_before_the_words_is_never_trimmed(tmp_path):
    """Eight seconds of music that comes up out of nothing, then a voice: all of it is in the finished file."""
    voice = np.concatenate([noise(seconds=8, rms_db=-70), speech_like(seconds=20)]).astype(np.float32)
    at = np.arange(8 * 44_100) / 44_100
    sounds = {"v": voice, "m": (0.02 * np.sin(2 * np.pi * 440 * at) * (at / 8) ** 4).astype(np.float32)}

    def source(recording, start, stop):
        x, out = sounds[recording], np.zeros(stop - start, np.float32)
        first, last = max(0, start), min(stop, len(x))
        out[first - start : max(first, last) - start] = x[first:last] if last > first else ()
        return out

    reel = Reel((Lane("voice", (Piece("v", 0, len(voice)),)), Lane("music", (Piece("m", 0, len(at)),), music=True)))
    nothing = tokens_of(Book(), replace(made()[1], reel=None), ["a"], None)
    words = known_words(nothing, reel)
    assert words == Span(0, len(at))
    assert known_words(nothing, replace(reel, lanes=(reel.lanes[0], replace(reel.lanes[1], muted=True)))) is None
    seconds = {}
    for name, kept in (("with", words), ("without", None)):
        mastered(Renderer(reel, source), 44_100, "retail", "k", tmp_path / f"{name}.wav", words=kept, watch=Unwatched())
        seconds[name] = soundfile.info(tmp_path / f"{name}.wav").duration
    assert seconds["with"] > 28 + 0.5 + 1.0  # and head and tail
    assert seconds["with"] - seconds["without"] > 1  # what would be lost, were it not known that this is music


def test_the_original_is_heard_as_loud_as_its_master():
    book, chapter, _ = made()  # its recording has -24 dB

    def render(start, stop):
        return np.full(stop - start, 0.1, np.float32)

    six_up = at_mastered_level(render, book, replace(chapter, master=master(figures={"rms_db": -18.0})))
    assert six_up(10, 14) == pytest.approx(np.full(4, 0.1 * 10 ** (6 / 20)), abs=1e-6)
    clipped = at_mastered_level(render, book, replace(chapter, master=master(figures={"rms_db": 6})))
    assert clipped(0, 3).tolist() == [1.0, 1.0, 1.0]
    assert clipped(0, 3).dtype == np.float32
    unknown = at_mastered_level(render, book, replace(chapter, master=master(figures={"rms_db": "none"})))
    assert unknown(0, 2) == pytest.approx(np.full(2, 0.1))
    assert at_mastered_level(render, book, chapter)(0, 2) == pytest.approx(np.full(2, 0.1))


@pytest.fixture
def book_folder(tmp_path):
    """A raw recording of a chapter, and a folder for masters."""
    x = np.concatenate([noise(seconds=4, rms_db=-64), speech_like(seconds=20, rms_db=-26, floor_db=-64)])
    write_audio(tmp_path / "raw.wav", [x[None]], RATE)
    (tmp_path / "masters").mkdir()
    return tmp_path, len(x)


def test_a_master_is_made_checked_and_heard(book_folder):
    folder, length = book_folder
    files = FileSources(lambda _: folder / "raw.wav")
    out = folder / "masters" / "One.wav"
    try:
        reel = Renderer(reel_of("r", length), files)
        done = mastered(reel, RATE, "retail", "k", out, words=Span(5 * RATE, length - RATE), watch=Unwatched())
    finally:
        files.close()
    assert (done.file, done.profile, done.reel_key) == ("One.wav", "retail", "k")
    assert done.passed
    assert {v[0] for v in done.verdicts} >= {"rms", "peak", "noise_floor", "whole", "words"}
    assert done.steps
    sound = master_renderer(folder, done, RATE)
    assert len(sound) == round(done.figures["seconds"] * RATE)
    assert -23 < 20 * np.log10(np.sqrt(np.mean(np.square(sound.render(0, len(sound)), dtype=np.float64)))) < -18
    sound.source.close()


def test_a_master_that_is_not_the_file_that_was_checked_is_told(tmp_path):
    (tmp_path / "masters").mkdir()
    (tmp_path / "masters" / "One.mp3").write_bytes(b"another")
    with pytest.raises(FileProblem, match="not the file that was checked"):
        master_renderer(tmp_path, master(digest="0" * 64), RATE)


def test_masters_of_another_reel_or_other_limits_are_other_files():
    names = {master_file("c1", key, limits, ".mp3") for key in ("aaaaaaaa", "bbbbbbbb") for limits in ("11111111", "22222222")}
    assert len(names) == 4
    limits = [limits_key(load_profile(name)) for name in profile_names()]
    assert len(set(limits)) == len(limits)


def test_a_master_whose_file_is_gone_is_told(tmp_path):
    with pytest.raises(FileProblem, match=r"One\.mp3 is no longer there"):
        master_renderer(tmp_path, master(), RATE)


# --- pairing ----------------------------------------------------------------------------------------------------------


def recording(name, length=1000, **more):
    return Recording(name, f"{name}.wav", ".wav", RATE, 1, length, -3, -62, -24, None, **more)


@pytest.fixture
def book():
    _, chapter, _ = made()
    bare = replace(chapter, recording="", reel=None)
    chapters = tuple(replace(bare, id=f"c{i}", title=f"Chapter {i}") for i in (1, 2, 3))
    return Book(chapters=chapters, recordings=tuple(recording(f"r{i}") for i in (1, 2, 3, 4)))


def test_a_whole_recording_is_paired_as_it_is_and_parts_are_joined_in_reading_order(book):
    found = [
        Passage("r2", 0, 0, 1000, 0, 0.9),
        Passage("r3", 1, 0, 600, 80, 0.9),
        Passage("r1", 1, 200, 1000, 0, 0.5),
        Passage("r3", 2, 600, 1000, 0, 0.34),
        Passage("r4", 2, 0, 1000, 50, 0.33),
    ]
    told = paired_by_ear(book, found)
    assert told.unsure == 1
    pairs = dict(told.command.pairs)
    assert pairs["c1"] == "r2"
    second, third = told.command.recordings
    assert second.parts == (Stretch("r1", 200, 1000), Stretch("r3", 0, 600))
    assert second.name == "r1 + r3 (Chapter 2)"
    assert pairs["c2"] == second.hash
    assert third.parts == (Stretch("r3", 600, 1000),)
    assert pairs["c3"] == third.hash
    after = told.command.apply(book)
    assert [c.recording for c in after.chapters] == ["r2", second.hash, third.hash]


def test_a_chapter_that_has_a_recording_keeps_it(book):
    taken = replace(book, chapters=(replace(book.chapters[0], recording="r4"), *book.chapters[1:]))
    told = paired_by_ear(taken, [Passage("r2", 0, 0, 1000, 0, 0.9), Passage("r1", 1, 0, 1000, 0, 0.1)])
    assert told.command.pairs == ()
    assert told.unsure == 1
    assert paired_by_ear(book, []).command.pairs == ()


def test_a_recording_is_unread_until_a_chapter_a_take_or_a_part_has_it(book):
    joined = recording("j", parts=(Stretch("r2", 0, 5), Stretch("r3", 0, 5)))
    chapters = (replace(book.chapters[0], recording="j"), *book.chapters[1:])
    take = Take("r4", 0, 5, 0, "x")
    pickup = Pickup("p", "c1", (), "x", "x", 0, 1, 0, 1, takes=(take,))
    full = replace(book, chapters=chapters, recordings=(*book.recordings, joined), pickups=(pickup,))
    assert [r.hash for r in unread(full)] == ["r1"]
    assert [r.hash for r in unread(replace(full, pickups=()))] == ["r1", "r4"]
    unused = replace(full, chapters=book.chapters, pickups=())
    assert [r.hash for r in unread(unused)] == ["r1", "r2", "r3", "r4"]  # the joined one is no file


def test_every_recording_is_sampled_with_the_ear_held(book, monkeypatch):
    from contextlib import contextmanager

    from faithful_reel.core.work import pairing

    held, ticks = [], []

    class Ear:
        @contextmanager
        def busy(self):
            held.append(True)
            yield
            held.append(False)

        def rest(self):
            held.append("rest")

    def passages_in(path, one, rate, finder, ear, watch):
        assert held == [True]
        watch.tick(1.0, "")
        return (Passage(one.hash, 0, 0, 1, 0, 0.9), Passage(str(path), 0, 0, 1, 0, 0.9))

    class Watch:
        def tick(self, done, note=""):
            ticks.append((round(done, 2), note))

    monkeypatch.setattr(pairing, "passages_in", passages_in)
    found = passages_of(book.recordings[:2], [TEXT], RATE, lambda r: f"/{r.name}", Ear(), Watch())
    assert [p.recording for p in found] == ["r1", "/r1.wav", "r2", "/r2.wav"]
    assert held == [True, False, "rest"]
    assert ticks == [(0.0, "r1.wav"), (0.5, ""), (0.5, "r2.wav"), (1.0, "")]
