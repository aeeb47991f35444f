"""A take is brought to the chapter: what was altered in a known way is measured, taken back, and no more than that.

The sound is the demo's chapter one, whose words lie where its truth says; the same words are altered by filters of SciPy.
"""

from __future__ import annotations

import json
from dataclasses import replace
from functools import cache

import numpy as np
import pytest
import soundfile
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scipy.signal import fftconvolve, firwin2, welch
from support.sounds import DEMO, noise

from faithful_reel.core.audio.tempo import Tempo
from faithful_reel.core.splice.alike import with_same_edges
from faithful_reel.core.splice.match import Switches, matched
from faithful_reel.core.splice.pitch import heights_of, raised, word_heights
from faithful_reel.core.splice.profile import BANDS, MOST_LEVEL_DB, MOST_TONE_DB, Spoken, echo_apart, figures_of, profile_of
from faithful_reel.core.units import Span

RATE = 44_100
WORDS = range(50, 66)
AROUND_S = 1.5
NOTHING = Switches(level=False, tone=False, room=False, echo=False)
EVERY_DB = np.geomspace(100, 8000, 20)  # third-octaves (IEC 61260-1: a tenth of a decade)


@cache
def reading():
    """Sixteen words of the demo with what is around them, and where they are."""
    rows = {k: (a, b) for k, a, b in json.loads((DEMO / "truth.json").read_text())["chapter-1"]["words"]}
    spans = tuple(Span(*(round(s * RATE) for s in rows[k])) for k in WORDS)
    first, stop = spans[0].start - round(AROUND_S * RATE), spans[-1].stop + round(AROUND_S * RATE)
    x, rate = soundfile.read(DEMO / "chapter-1.flac", start=first, stop=stop, dtype="float32")
    assert rate == RATE
    return Spoken(x, first, spans)


def altered(x):
    chapter = reading()
    return replace(chapter, sound=np.asarray(x, np.float32))


def pair(chapter, take):
    return figures_of(chapter, RATE), figures_of(take, RATE)


def as_chapter(take, chapter=None, *, tone=None, **switches):
    chapter = chapter or reading()
    here, there = pair(chapter, take)
    profile = profile_of([(here, there, 1.0)])
    laid = np.zeros(len(take.sound), np.float32) if tone is None else tone
    return matched(take, there, here, profile, RATE, Switches(**switches), lambda: laid)


def spoken_of(x):
    chapter = reading()
    return np.concatenate([x[s.start - chapter.offset : s.stop - chapter.offset] for s in chapter.words])


def level(x):
    return 10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-20)


def quiet_of(x):
    """Both ends, where nobody speaks."""
    n = round(0.4 * RATE)
    found = min((x[k : k + n] for k in range(0, len(x) - n, n // 2)), key=level)
    return level(found)


def thirds(x):
    """Levels in bands a third of an octave wide, in dB."""
    hz, power = welch(x, RATE, nperseg=4096)
    return np.array([10 * np.log10(power[(hz >= f / 2 ** (1 / 6)) & (hz < f * 2 ** (1 / 6))].mean() + 1e-20) for f in EVERY_DB])


def tilted(x, db):
    hz = np.geomspace(50, RATE / 2 * 0.98, 60)
    gain = np.clip(np.log2(hz / 900) / np.log2(80), -0.5, 0.5) * db
    taps = firwin2(1025, [0, *hz, RATE / 2], 10 ** (np.array([gain[0], *gain, gain[-1]]) / 20), fs=RATE)
    return fftconvolve(x, taps, "same")


def roomy(x, seconds=0.5, strength=1.0):
    n = round(1.2 * seconds * RATE)
    tail = np.random.default_rng(3).standard_normal(n) * 10 ** (-3 * np.arange(n) / (seconds * RATE))
    tail[: round(0.003 * RATE)] = 0
    tail *= strength / np.sqrt(np.sum(tail**2))
    tail[0] = 1.0
    return fftconvolve(x, tail)[: len(x)]


@pytest.mark.parametrize("db", [-10.0, -3.0, 0.0, 6.0, 10.0])
def test_a_level_is_found_and_taken_back(db):
    x = reading().sound
    y, amounts = as_chapter(altered(x * 10 ** (db / 20)))
    assert amounts.level_db == pytest.approx(-db, abs=0.15)
    assert level(spoken_of(y)) == pytest.approx(level(spoken_of(x)), abs=0.1)
    assert amounts.tone_db < 0.3


@pytest.mark.parametrize("db", [-6.0, 6.0])
def test_a_tilt_is_found_and_taken_back(db):
    x = reading().sound
    take = altered(tilted(x, db))
    before, after = (np.abs(thirds(spoken_of(z)) - thirds(spoken_of(x))) for z in (take.sound, as_chapter(take)[0]))
    assert before.mean() > 1.2
    assert after.mean() < 0.6


def test_what_is_over_the_chapters_floor_is_taken_out_and_no_more():
    x = reading().sound
    floor = quiet_of(x)
    take = altered(x + noise(seconds=len(x) / RATE + 1, rms_db=floor + 14)[: len(x)])
    assert quiet_of(take.sound) > floor + 12
    y, amounts = as_chapter(take)
    assert quiet_of(y) == pytest.approx(floor, abs=2.0)
    assert amounts.room_db < -8
    assert level(spoken_of(y)) == pytest.approx(level(spoken_of(x)), abs=0.4)


def test_the_chapters_own_room_is_laid_under_where_it_is_louder():
    x = reading().sound
    hiss = noise(seconds=2 * len(x) / RATE + 1, rms_db=quiet_of(x) + 12)
    chapter = altered(x + hiss[: len(x)])
    y, amounts = as_chapter(altered(x), chapter, tone=hiss[len(x) : 2 * len(x)])
    assert quiet_of(y) == pytest.approx(quiet_of(chapter.sound), abs=1.0)
    assert amounts.room_db > 8
    dry, _ = as_chapter(altered(x), chapter, tone=hiss[len(x) : 2 * len(x)], room=False)
    assert quiet_of(dry) < quiet_of(chapter.sound) - 8


@pytest.mark.parametrize("tone", ["none", "of another room", "half as long"])
def test_where_the_chapter_has_no_tone_of_its_own_its_floor_is_made(tone):
    """A tone that is not the chapter's, none at all, or one too short: what is laid under is as loud and as coloured as the floor."""
    x = reading().sound
    brown = tilted(noise(seconds=2 * len(x) / RATE + 1, rms_db=quiet_of(x) + 12), -12)
    chapter = altered(x + brown[: len(x)])
    laid = {
        "none": np.zeros(0, np.float32),
        "of another room": noise(seconds=len(x) / RATE + 1, rms_db=-80)[: len(x)],
        "half as long": brown[: len(x) // 2].astype(np.float32),
    }[tone]
    y, _ = as_chapter(altered(x), chapter, tone=laid)
    assert quiet_of(y) == pytest.approx(quiet_of(chapter.sound), abs=1.5)
    a, b = (thirds(z[-round(0.5 * RATE) :]) for z in (y, chapter.sound))
    assert np.abs(a - b).mean() < 3


def test_late_echo_of_another_room_falls_as_in_the_chapter():
    chapter = reading()
    take = altered(roomy(chapter.sound))
    here, there = pair(chapter, take)
    before = echo_apart(here.decay, there.decay)
    y, amounts = as_chapter(take)
    after = echo_apart(here.decay, figures_of(altered(y), RATE).decay)
    assert before < -3
    assert abs(after) < abs(before) / 2
    assert amounts.echo_db < -1.5


def test_with_every_switch_off_a_take_stays_as_it_is():
    x = roomy(tilted(reading().sound, 5) * 0.4)
    take = altered(x + noise(seconds=len(x) / RATE + 1, rms_db=-50)[: len(x)])
    here, there = pair(reading(), take)
    y, amounts = matched(take, there, here, profile_of([(here, there, 1.0)]), RATE, NOTHING, lambda: np.zeros(0, np.float32))
    np.testing.assert_allclose(y, take.sound, atol=2e-6)
    assert (amounts.level_db, amounts.tone_db, amounts.echo_db) == (0, 0, 0)


@pytest.mark.parametrize("db", [-60.0, 60.0])
def test_no_more_is_done_than_the_bounds_let(db):
    x = tilted(reading().sound, 60) * 10 ** (db / 20)
    y, amounts = as_chapter(altered(x))
    assert abs(amounts.level_db) <= MOST_LEVEL_DB + 1.5
    assert amounts.tone_db <= MOST_TONE_DB
    assert np.isfinite(y).all()
    assert len(y) == len(x)


@pytest.mark.parametrize("kind", ["silence", "constant", "click", "loud hiss", "a few samples"])
def test_a_take_in_which_nobody_speaks_makes_no_numbers_that_are_none(kind):
    n = len(reading().sound)
    x = np.zeros(n, np.float32)
    if kind == "constant":
        x += 0.4
    elif kind == "click":
        x[n // 2] = 1.0
    elif kind == "loud hiss":
        x += noise(seconds=n / RATE + 1, rms_db=-6)[:n]
    elif kind == "a few samples":
        x = x[:50]
    y, amounts = as_chapter(altered(x))
    assert np.isfinite(y).all()
    assert len(y) == len(x)
    assert np.isfinite([amounts.level_db, amounts.tone_db, amounts.room_db, amounts.echo_db]).all()
    assert level(y) <= max(level(x) + MOST_LEVEL_DB + MOST_TONE_DB, quiet_of(reading().sound)) + 3  # the room is laid under


def test_a_take_whose_words_are_not_known_is_let_be():
    chapter = reading()
    unheard = replace(chapter, words=(None,) * len(chapter.words), sound=chapter.sound * np.float32(0.3))
    here, there = pair(chapter, unheard)
    profile = profile_of([(here, there, 1.0)])
    assert profile.level_db == 0
    assert set(profile.tone_db) == {0.0}


def test_what_few_words_say_is_taken_for_less():
    x = tilted(reading().sound, 6)
    told = []
    for count in (1, 16):
        few = replace(reading(), words=tuple(s if k < count else None for k, s in enumerate(reading().words)))
        told.append(profile_of([(*pair(few, replace(few, sound=x.astype(np.float32))), 1.0)]))
    one, all_ = told
    assert np.mean(one.spread_db) > 2 * np.mean(all_.spread_db)
    assert np.abs(one.tone_db).max() < np.abs(all_.tone_db).max()


def test_a_floor_is_found_around_a_take_in_which_nobody_pauses():
    chapter = reading()
    inner = Span(chapter.words[6].start - chapter.offset, chapter.words[9].stop - chapter.offset)
    short = Spoken(chapter.sound[inner.start : inner.stop], chapter.offset + inner.start, chapter.words[6:10])
    true = level_of_floor(figures_of(chapter, RATE))
    assert level_of_floor(figures_of(replace(short, room=chapter.sound), RATE)) == pytest.approx(true, abs=2)
    assert level_of_floor(figures_of(short, RATE)) > true + 4  # what it would be taken for


def level_of_floor(figures):
    return float(np.median(10 * np.log10(figures.floor_bands)))


def test_one_profile_of_many_lines_leaves_an_odd_one_aside():
    x = reading().sound
    rows = [(*pair(reading(), altered(x * g)), 1.0) for g in (0.5, 0.5, 0.5, 0.1)]
    profile = profile_of(rows)
    assert profile.level_db == pytest.approx(6, abs=0.3)
    assert profile.lines == 4
    assert len(profile.tone_db) == BANDS


def moved(spans, seconds, jitter=0.0, seed=1):
    by = np.random.default_rng(seed).uniform(-jitter, jitter, 2 * len(spans)) + seconds
    edges = [round(e + s * RATE) for e, s in zip([e for s in spans for e in (s.start, s.stop)], by, strict=True)]
    edges = np.maximum.accumulate(edges)
    return tuple(Span(int(a), max(int(a) + 1, int(b))) for a, b in zip(edges[::2], edges[1::2], strict=True))


@pytest.mark.parametrize("seconds", [-0.06, 0.0, 0.08])
def test_edges_of_the_same_sound_that_are_told_elsewhere_are_brought_back(seconds):
    chapter = reading()
    quieter = tilted(chapter.sound, 6) * 0.25
    take = replace(altered(quieter), words=moved(chapter.words, seconds, 0.02))
    found = with_same_edges(chapter, take, RATE)
    apart = [abs(a.start - b.start) / RATE for a, b in zip(found.words, chapter.words, strict=True)]
    assert np.median(apart) < 0.006
    assert max(apart[1:-1]) < 0.03


def test_edges_are_found_in_a_faster_reading():
    chapter = reading()
    tempo = Tempo(RATE, 1.07)
    fast = np.concatenate([tempo.feed(chapter.sound), tempo.flush()])
    true = [(s.start - chapter.offset) / 1.07 for s in chapter.words]
    told = tuple(
        Span(round(t + 0.04 * RATE), round(t + 0.04 * RATE + len(s) / 1.07)) for t, s in zip(true, chapter.words, strict=True)
    )
    found = with_same_edges(chapter, Spoken(fast.astype(np.float32), 0, told), RATE)
    apart = [abs(a.start - t) / RATE for a, t in zip(found.words, true, strict=True)]
    assert np.median(apart) < 0.02
    assert np.median(apart) < 0.5 * 0.04


def test_words_that_one_side_lacks_stay_as_they_are():
    chapter = reading()
    holed = replace(chapter, words=(*chapter.words[:5], None, *chapter.words[6:]))
    take = altered(chapter.sound)
    assert with_same_edges(holed, take, RATE).words[5] == take.words[5]
    assert with_same_edges(chapter, replace(take, words=holed.words), RATE).words[5] is None
    none = replace(take, words=(None,) * len(take.words))
    assert with_same_edges(chapter, none, RATE) == none


@settings(max_examples=25, deadline=None)
@example([454, 454, 454, 5295], 3353, 3)
@given(st.lists(st.integers(0, 40_000), min_size=4, max_size=4), st.integers(0, 30_000), st.integers(0, 3))
def test_any_told_edges_give_words_in_order_and_inside(edges, length, seed):
    """Whatever an ear says, words stay words: not empty, in order, inside of the sound and its surroundings."""
    a, b, c, d = sorted(edges)
    x = noise(seconds=1, rms_db=-20, seed=seed + 1)
    sides = [Spoken(x, 0, (Span(a, b + 1), Span(c + 1, d + 2))), Spoken(x[:length], 100, (Span(a, b + 1), Span(c + 1, d + 2)))]
    found = with_same_edges(*sides, RATE).words
    assert len(found) == 2
    assert all(len(s) > 0 for s in found)
    assert found[0].start <= found[1].start


# --- height -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("hz", [85.0, 130.0, 220.0, 340.0])
@pytest.mark.parametrize("rate", [22_050, 44_100, 48_000])
def test_the_height_of_a_known_tone(hz, rate):
    t = np.arange(rate) / rate
    x = sum(np.sin(2 * np.pi * hz * k * t + k) / k for k in range(1, 8)).astype(np.float32) * 0.1
    [height] = word_heights([Span(5000, 5000 + rate // 2)], x, 0, rate)
    assert height == pytest.approx(12 * np.log2(hz / 100), abs=0.15)
    assert np.isnan(word_heights([None, Span(0, 40), Span(rate, 2 * rate)], x, 0, rate)).all()


def test_noise_and_silence_have_no_height():
    assert heights_of(np.zeros((3, 2000)), RATE).tolist() == [0, 0, 0]
    hiss = noise(seconds=1, rms_db=-20).astype(float).reshape(-1, 2205)
    assert (heights_of(hiss, RATE) == 0).mean() > 0.9


@pytest.mark.parametrize("semitones", [-1.0, 0.5, 1.0])
def test_a_higher_take_is_found_and_brought_down(semitones):
    chapter = reading()
    take = altered(raised(chapter.sound, RATE, semitones))
    assert len(take.sound) == len(chapter.sound)
    profile = profile_of([(*pair(chapter, take), 1.0)])
    assert profile.pitch == pytest.approx(-semitones, abs=0.15)
    assert 1 < profile.pitch_range < 5
    back = altered(raised(take.sound, RATE, profile.pitch))
    assert profile_of([(*pair(chapter, back), 1.0)]).pitch == pytest.approx(0, abs=0.15)
    assert level(spoken_of(back.sound)) == pytest.approx(level(spoken_of(chapter.sound)), abs=0.5)


def test_a_voice_of_which_too_little_is_voiced_has_no_height():
    few = replace(reading(), words=reading().words[:3])
    assert profile_of([(*pair(few, few), 1.0)]).pitch == 0
