"""Channels that do not go together: told rightly, and mixed so that nothing of the better one is lost."""

from __future__ import annotations

import itertools
import json
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from support.sounds import RATE, noise

from faithful_reel.core.audio.channels import ChannelMeter, Odd
from faithful_reel.core.audio.files import channels_of, downmixed, read_mono
from faithful_reel.core.book.commands import AddRecording
from faithful_reel.core.book.recordings import decode, examined, path_of, received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import Cancelled
from faithful_reel.core.jobs import FlagWatch
from faithful_reel.core.measure.health import shortcomings
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.release.check import checked_file


@pytest.fixture(scope="module")
def voice(demo):
    x, rate = soundfile.read(demo / "chapter-2.flac", dtype="float32", frames=25 * 44_100)
    assert rate == RATE
    return x


def late(x, seconds):
    """A fractional delay by the phase of the whole spectrum (shift theorem)."""
    hz = np.fft.rfftfreq(len(x), 1 / RATE)
    return np.fft.irfft(np.fft.rfft(x) * np.exp(-2j * np.pi * hz * seconds), len(x)).astype(np.float32)


def hiss(x, seed, db=-65.0):
    return noise(seconds=len(x) / RATE + 1, rms_db=db, seed=seed)[: len(x)]


def turns(x):
    """1 and 0 by turns of three seconds."""
    return (np.arange(len(x)) // (3 * RATE) % 2).astype(np.float32)


SOURCES = {
    "inverted": (lambda x: (x, -x), Odd.TURNED, "turned against"),
    "inverted, a little softer": (lambda x: (x, -0.95 * x), Odd.TURNED, "turned back"),
    "inverted, in noise": (lambda x: (x + hiss(x, 1), hiss(x, 2) - x), Odd.TURNED, "turned against"),
    "inverted and late": (lambda x: (x, -late(x, 0.0003)), Odd.TURNED, "0.30 ms"),
    "inverted, softer": (lambda x: (x, -0.3 * x), Odd.TURNED, "turned against"),
    **{
        f"{ms} ms": ((lambda x, s=ms / 1000: (x, late(x, s))), Odd.LATE, f"second channel {ms:.2f} ms later")
        for ms in (0.09, 0.2, 0.4, 0.7, 1.0)
    },
    "the first is late": (lambda x: (late(x, 0.0005), x), Odd.LATE, "first channel 0.50 ms later"),
    "late, in noise": (lambda x: (x + hiss(x, 1), late(x, 0.0003) + hiss(x, 2)), Odd.LATE, "0.30 ms later"),
    "late and softer": (lambda x: (x, 0.7 * late(x, 0.0006)), Odd.LATE, "0.60 ms later"),
    "second dead": (lambda x: (x, 0 * x), Odd.DEAD, "second channel is dead"),
    "first dead, with hiss": (lambda x: (hiss(x, 3, -80.0), x), Odd.DEAD, "first channel is dead"),
    "second 20 dB softer": (lambda x: (x, 0.1 * x), Odd.SOFTER, "second channel is 20 dB softer"),
    "first 20 dB softer": (lambda x: (0.1 * x, x), Odd.SOFTER, "first channel is 20 dB softer"),
    "alternating": (lambda x: (x * turns(x), x * (1 - turns(x))), Odd.ALTERNATING, "not in both"),
    "alternating, in noise": (
        lambda x: (x * turns(x) + hiss(x, 1), x * (1 - turns(x)) + hiss(x, 2)), Odd.ALTERNATING, "not in both"),
    "two microphones with the other's voice": (
        lambda x: (
            x * turns(x) + 0.15 * late(x * (1 - turns(x)), 0.001), x * (1 - turns(x)) + 0.15 * late(x * turns(x), 0.001)),
        Odd.ALTERNATING, "not in both"),
}  # fmt: skip


def thirds(x):
    """Energy in the third-octaves from 80 Hz to 16 kHz, in dB, of the whole sound."""
    power, hz = np.abs(np.fft.rfft(x)) ** 2, np.fft.rfftfreq(len(x), 1 / RATE)
    edges = 80 * 2 ** (np.arange(24) / 3)
    return np.array([10 * np.log10(power[(hz >= a) & (hz < b)].sum() + 1e-9) for a, b in itertools.pairwise(edges)])


def found_of(x, block=50_000):
    meter = ChannelMeter(RATE, len(x))
    for at in range(0, x.shape[1], block):
        meter.feed(x[:, at : at + block])
    return meter.found()


@pytest.mark.parametrize("name", SOURCES)
def test_what_is_odd_is_told_and_the_mix_keeps_the_better_channel(name, voice):
    made, odd, told = SOURCES[name]
    x = np.stack(made(voice))
    found = found_of(x)
    assert found.odd is odd
    assert told in found.words
    assert not found.fit
    mix = downmixed(x, found.weights)
    better = thirds(max(x, key=lambda c: float(np.sum(np.square(c, dtype=np.float64)))))
    heard = better > better.max() - 50
    assert (better - thirds(mix))[heard].max() <= 0.5
    assert np.abs(mix).max() <= 1


@pytest.mark.parametrize(
    "made",
    [
        lambda x: (x, x),
        lambda x: (x + hiss(x, 1), x + hiss(x, 2)),
        lambda x: (x + hiss(x, 1, -45.0), x + hiss(x, 2, -45.0)),
        lambda x: (x, 0.9 * x),
        lambda x: (x + 0.05, x),
        lambda x: (x, late(x, 0.000_01)),
        lambda x: (x + hiss(x, 1, -34.0), x - hiss(x, 1, -34.0)),  # a wide sound under the voice
        lambda x: (x + hiss(x, 1, -46.0), x - hiss(x, 1, -46.0)),
        lambda x: (0 * x, 0 * x),
        lambda x: (x,),
    ],
)
def test_where_nothing_is_odd_nothing_is_told(made, voice):
    found = found_of(np.stack(made(voice)))
    assert (found.odd, found.words, found.fit) == (Odd.NOTHING, "", True)


def test_noise_of_two_channels_is_no_reason_to_take_one_of_them(voice):
    for db in (-70.0, -60.0, -50.0):
        assert (
            found_of(np.stack([voice + hiss(voice, 1, db), voice + hiss(voice, 2, db)])).weights == ()
        )  # their mean has less of it


def test_comparing_a_long_recording_tells_how_far_it_is_and_can_be_stopped(tmp_path, voice):
    soundfile.write(tmp_path / "a.wav", np.stack([voice, -voice], axis=1), RATE)
    told = []
    examined(tmp_path / "a.wav", RATE, FlagWatch(lambda done, note: told.append((done, note)), lambda: False))
    assert {note for _, note in told} == {"comparing channels", "measuring"}
    assert told == sorted(told, key=lambda row: row[0])
    soundfile.write(tmp_path / "b.wav", np.stack([voice, voice], axis=1), RATE)
    seen = []
    with pytest.raises(Cancelled):
        examined(tmp_path / "b.wav", RATE, FlagWatch(lambda done, note: seen.append(note), lambda: len(seen) > 1))
    assert set(seen) == {"comparing channels"}


def test_it_does_not_depend_on_the_blocks_and_looks_at_no_more_than_eight(voice):
    x = np.stack([voice, -voice])
    assert found_of(x, 997) == found_of(x, 10**7)
    many = np.stack([voice] * 10)
    assert np.array_equal(downmixed(many, found_of(many).weights), many.mean(axis=0, dtype=np.float32))
    three = np.stack([voice, voice, 0 * voice])
    assert found_of(three).words == "the third channel is dead: the first alone is worked on"


def test_two_voices_that_are_added_do_not_clip(voice):
    x = np.stack([voice * turns(voice), voice * (1 - turns(voice))])
    x[:, 5 * RATE : 5 * RATE + 20] = 0.9  # both at once, for a moment
    found = found_of(x)
    assert found.odd is Odd.ALTERNATING
    assert 0.98 < np.abs(downmixed(x, found.weights)).max() <= 1
    assert found.weights[0] == found.weights[1] > 0.5  # and neither voice is lost
    beside_a_dead_one = found_of(np.stack([0 * voice, *x]))
    assert beside_a_dead_one.weights[0] == 0
    assert min(beside_a_dead_one.weights[1:]) > 0.4


@pytest.mark.parametrize(
    "other", [lambda x: 0.3 * x, lambda x: late(x, 0.0005), lambda x: -x, lambda x: 0.1 * x, lambda x: 0 * x]
)
def test_nobody_who_speaks_in_one_channel_alone_is_left_out(voice, other):
    """A guest for two seconds, in the channel that is otherwise softer, late, turned, or dead."""
    first, second = voice.copy(), other(voice).astype(np.float32)
    guest = slice(12 * RATE, 14 * RATE)
    first[guest], second[guest] = 1e-4 * voice[guest], 0.4 * voice[16 * RATE : 18 * RATE]
    found = found_of(np.stack([first, second]))
    mix = downmixed(np.stack([first, second]), found.weights)
    assert found.odd
    assert np.sqrt(np.mean(mix[14 * RATE :] ** 2)) > 0.4 * np.sqrt(np.mean(voice[14 * RATE :] ** 2))
    assert np.abs(mix).max() <= 1
    assert np.sqrt(np.mean(mix[guest] ** 2)) > 0.2 * np.sqrt(np.mean(voice[16 * RATE : 18 * RATE] ** 2))


def test_a_guest_of_two_seconds_in_hours_is_not_left_out_as_a_dead_channel(voice):
    meter = ChannelMeter(RATE, 2)
    for _ in range(900):  # as if it went on for hours: frames of the narrator alone
        meter.feed(np.stack([voice[15 * RATE : 19 * RATE], 0 * voice[: 4 * RATE]]))
    meter.feed(np.stack([0 * voice[: 2 * RATE], 0.3 * voice[16 * RATE : 18 * RATE]]))
    found = meter.found()
    assert found.odd is Odd.DIFFERENT
    assert found.weights[1] > 0


def test_a_book_works_on_the_sound_and_not_on_what_the_sum_leaves(tmp_path, voice):
    source = tmp_path / "turned.wav"
    soundfile.write(source, np.stack([voice, -0.95 * voice], axis=1), RATE, subtype="PCM_24")
    looked = examined(source, RATE)
    missed = shortcomings(
        looked.health, rate=RATE, peak_db=looked.peak_db, rms_db=looked.rms_db, noise_floor_db=looked.noise_floor_db
    )
    assert "the second channel is turned against the first (opposite sign): it is turned back" in missed
    assert channels_of(source).weights == looked.mix == (0.5, -0.5)
    assert np.abs(read_mono(source, RATE, looked.mix) - 0.975 * voice).max() < 1e-4
    with BookStore(tmp_path / "b.reelbook", create=True) as store:
        session = Session(store)
        session.do(AddRecording(received(store.folder, source, RATE)))
        session.close()
    with BookStore(tmp_path / "b.reelbook") as store:
        book = Session(store).book
        [recording] = book.recordings
        decode(store.folder, book, recording)
        worked = soundfile.read(path_of(store.folder, recording, RATE), dtype="float32")[0]
        assert np.abs(worked - 0.975 * voice).max() < 1e-4
        before = replace(recording, mix=())  # as it came into a book by an earlier version: nothing of its reels may change
        assert path_of(store.folder, before, RATE) == store.folder / "recordings" / recording.stored


@pytest.mark.parametrize("name", ["inverted", "0.4 ms", "second dead", "first 20 dB softer", "alternating"])
def test_no_finished_file_passes_with_such_channels(tmp_path, voice, name):
    made, _, told = SOURCES[name]
    path = tmp_path / "a.flac"
    soundfile.write(path, np.stack(made(voice), axis=1), RATE, subtype="PCM_24")
    retail = load_profile("retail")
    for profile in (retail, replace(retail, channels=())):  # one of one's own may say nothing of channels
        figures, found = checked_file(path, profile)
        verdict = next(v for v in found if v.rule == "channels")
        assert not verdict.passed
        assert told in str(verdict.value) or "dead" in str(verdict.value)
    assert json.loads(json.dumps(figures.as_json()))["channels_fit"] is False
