"""A recipe laid on a sound: each step measures the sound as it comes to it, then treats it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Self

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfiltfilt

from faithful_reel.core.audio.raw import RawFile
from faithful_reel.core.audio.roomtone import find_room_tone
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.treat import recipe as r
from faithful_reel.core.treat.breaths import breaths_softened, found_breaths, is_between_sentences
from faithful_reel.core.treat.cells import Near, Sound, Treatment, grid, near, over_cells, treated_cells
from faithful_reel.core.treat.clicks import clicks_redrawn, found_clicks
from faithful_reel.core.treat.clipping import clipped_places, clipping_redrawn, piles
from faithful_reel.core.treat.echo import EchoReduced, reverberation
from faithful_reel.core.treat.hum import HumTaken, found_hum
from faithful_reel.core.treat.noise import NoiseReduced, room_noise
from faithful_reel.core.treat.pauses import spans_of, voice_of
from faithful_reel.core.treat.places import Patched, Place
from faithful_reel.core.treat.plosives import found_plosives, low_levels, plosives_tamed
from faithful_reel.core.treat.sibilance import SPLIT_HZ, found_sibilance, is_harsh, sibilance_softened, sibilant_levels
from faithful_reel.core.treat.tone import Bell, ToneSettings, ToneShaped, balance, towards
from faithful_reel.core.units import SILENT_DB, Signal, Span, decibels, ratio, samples

MOST_TONE_S = 20.0
"""Room tone is looked for in so much sound around each pause that holds it."""
Figures = dict[str, float | str]


@dataclass(frozen=True)
class Prepared:
    """What a step measured: its treatment, or None where there is nothing to do; the places; figures; why nothing is done.

    `gain_db` is what it does to all of the sound alike.
    """

    treatment: Treatment | None
    places: tuple[Place, ...] = ()
    figures: Figures | None = None
    why: str = ""
    gain_db: float = 0.0


@dataclass(frozen=True, slots=True)
class Touched:
    """A place that a step touched, in samples: its level in dB, in the way of its kind, before and after, and how sure it was."""

    start: int
    stop: int
    kind: str
    before_db: float
    after_db: float
    sure: float


@dataclass(frozen=True)
class Done:
    """A step as it was done: what it did, in figures and places; `why` nothing was done, where that is so.

    `taken_db` is the level of what it took away.
    """

    do: str
    rested: bool
    touched: tuple[Touched, ...]
    figures: Figures
    why: str
    taken_db: float
    gain_db: float


@dataclass(frozen=True)
class Kept:
    """Sound in a file without a name, as a sound that treatments read."""

    file: RawFile
    rate: int

    @property
    def channels(self) -> int:
        """How many there are."""
        return self.file.channels

    @property
    def frames(self) -> int:
        """Its length in samples."""
        return self.file.frames

    def read(self, start: int, stop: int) -> Signal:
        """Samples `start` to `stop`: (channels, n)."""
        return self.file("", start, stop)


class Treated:
    """The sound that came out, which is gone when this is closed, and what every step did."""

    def __init__(self, sound: Sound, done: tuple[Done, ...], held: contextlib.ExitStack) -> None:
        self.sound, self.done, self._held = sound, done, held

    @property
    def gain_db(self) -> float:
        """What the steps did to all of the sound alike: what was taken away is told beside the sound at this level."""
        return sum(step.gain_db for step in self.done)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._held.close()


def treated(sound: Sound, recipe: r.Recipe, folder: Path, watch: Watch | None = None) -> Treated:
    """A recipe laid on a sound, step by step, in bounded memory; on the way it lies in files without names in `folder`.

    Raises
    ------
    FileProblem, SignalError, Cancelled
        Nothing is left behind then.
    """
    watch = watch or Unwatched()
    done: list[Done] = []
    awake, k = max(1, len(recipe.awake())), 0
    with contextlib.ExitStack() as stack:
        now, held = sound, contextlib.ExitStack()
        for step in recipe.steps:
            if step.rested:
                done.append(Done(step.do, True, (), {}, "it rests", SILENT_DB, 0.0))
                continue
            before, files = now, contextlib.ExitStack()
            stack.enter_context(files)
            last: Prepared | None = None
            for _ in range(step.passes if isinstance(step, r.Noise) else 1):
                prepared = prepared_step(step, now, Part(watch, k / awake, (k + 0.6) / awake))
                if prepared.treatment is None:
                    break
                last, made = prepared, files.enter_context(RawFile(folder, sound.channels))
                cells = treated_cells(now, prepared.treatment, Part(watch, (k + 0.6) / awake, (k + 1) / awake), "treating")
                for _cell in made.write(part for part in cells):
                    pass
                now = Kept(made, sound.rate)
            k += 1
            if last is None:
                done.append(Done(step.do, False, (), prepared.figures or {}, prepared.why, SILENT_DB, 0.0))
                continue
            done.append(_told(step, last, before, now))
            held.close()  # nothing reads what came to this step any more
            held = files
        watch.tick(1.0)
        return Treated(now, tuple(done), stack.pop_all())


def taken_db(before: Sound, after: Sound, gain_db: float) -> float:
    """The level in dB of what was taken away: the sound before, at the gain that all of it was given, less that after."""
    gain, power = np.float32(ratio(gain_db)), 0.0
    for start, stop in grid(0, before.frames):
        taken = before.read(start, stop) * gain - after.read(start, stop)
        power += float(np.sum(np.square(taken, dtype=np.float64)))
    return 10 * float(np.log10(power / max(1, before.frames * before.channels) + 10 ** (SILENT_DB / 10)))


def _told(step: r.AnyStep, prepared: Prepared, before: Sound, after: Sound) -> Done:
    touched = []
    gain = prepared.gain_db
    for place in prepared.places:
        levels = [height(sound, place) for sound in (before, after)]
        touched.append(Touched(place.start, place.stop, place.kind, levels[0], levels[1] - gain, place.sure))
    return Done(step.do, False, tuple(touched), prepared.figures or {}, "", taken_db(before, after, gain), gain)


def height(sound: Sound, place: Place) -> float:
    """The level in dB of a place, in the way of its kind: a click's or a clipped place's peak, the low part of a burst, the high
    one of an s, the whole of a breath.
    """
    reach = samples(0.1, sound.rate)
    here = near(sound, place.start, place.stop, reach)
    x = here.sound.astype(np.float64)
    if place.kind in {"click", "crackle", "clipping"}:
        return decibels(float(np.max(np.abs(x[:, here.first : here.last]), initial=0.0)))
    if place.kind == "plosive" and x.shape[1] > reach:
        x = sosfiltfilt(butter(2, 150.0, fs=sound.rate, output="sos"), x, axis=1)
    if place.kind == "sibilance" and sound.rate > 2.2 * SPLIT_HZ and x.shape[1] > reach:
        x = sosfiltfilt(butter(2, SPLIT_HZ, "highpass", fs=sound.rate, output="sos"), x, axis=1)
    return decibels(float(np.sqrt(np.mean(np.square(x[:, here.first : here.last])))))


# --- each step ----------------------------------------------------------------------------------------------------


def prepared_step(step: r.AnyStep, sound: Sound, watch: Watch) -> Prepared:
    """What a step finds in a sound, and the treatment that it makes of it."""
    return _PREPARING[type(step)](step, sound, watch)


def kept_places(step: r.AnyStep, places: list[Place], rate: int) -> list[Place]:
    """Places without those that a step leaves out."""
    out = [(samples(a, rate), samples(b, rate)) for a, b in step.left_out]
    return [p for p in places if not any(p.start < b and p.stop > a for a, b in out)]


def _loud_db(sound: Sound) -> float:
    """The level of the voice: what is undercut nine tenths of the time, of 20 ms."""
    size = samples(0.02, sound.rate)

    def levels(cell: Near) -> NDArray[np.float64]:
        x = cell.sound[:, cell.first : cell.last]
        count = x.shape[1] // size
        if not count:
            return np.zeros(0)
        x = x - x.mean(axis=1, keepdims=True)
        power = np.square(x[:, : count * size].reshape(-1, count, size)).mean(axis=(0, 2))
        return np.asarray(10 * np.log10(power + 1e-20))

    found = np.concatenate([np.zeros(0), *over_cells(sound, 0, levels)])
    return float(np.percentile(found, 90)) if len(found) else SILENT_DB


def _clicks(step: r.Clicks | r.Crackle, sound: Sound, watch: Watch) -> Prepared:
    crackle = isinstance(step, r.Crackle)
    sensitivity = step.by_word(-1.5, 0.0, 1.5, step.sensitivity)
    places = found_clicks(sound, crackle=crackle, sensitivity=sensitivity, loud_db=_loud_db(sound), watch=Part(watch, 0, 0.7))
    done = clicks_redrawn(sound, kept_places(step, places, sound.rate), Part(watch, 0.7, 1))
    figures: Figures = {"found": len(places), "redrawn": len(done)}
    if not done:
        return Prepared(None, figures=figures, why=f"no {'crackle' if crackle else 'click'} was found")
    return Prepared(Patched([patch for _, patch in done]), tuple(place for place, _ in done), figures)


def _clipping(step: r.Clipping, sound: Sound, watch: Watch) -> Prepared:
    found = piles(sound, Part(watch, 0, 0.1))
    if not found:
        return Prepared(None, why="it is not clipped, or so softly that it can not be told")
    places = kept_places(step, clipped_places(sound, found, Part(watch, 0.1, 0.2)), sound.rate)
    most = step.by_word(6.0, 18.0, 24.0, step.most_over_db)
    patches, left, peak = clipping_redrawn(sound, found, places, most_over_db=most, watch=Part(watch, 0.2, 1))
    told = {f"cut_off_{p.channel + 1}_{'up' if p.sign > 0 else 'down'}_db": round(decibels(abs(p.level)), 2) for p in found}
    figures: Figures = {**told, "redrawn": len(patches), "not_redrawn": len(left), "peak_db": round(peak, 2)}
    if not patches:
        return Prepared(None, figures=figures, why="so much is missing that nothing can be redrawn")
    down = min(0.0, step.peak_db - peak)
    figures["gain_db"] = round(down, 2)
    gone = {(p.start, p.stop) for p in left}
    kept = tuple(p for p in places if (p.start, p.stop) not in gone)
    return Prepared(Patched(patches, down), kept, figures, gain_db=down)


def _plosives(step: r.Plosives, sound: Sound, watch: Watch) -> Prepared:
    levels = low_levels(sound, Part(watch, 0, 0.8))
    places = found_plosives(levels, sensitivity_db=step.by_word(-3.0, 0.0, 4.0, step.sensitivity_db))
    places = kept_places(step, places, sound.rate)
    if not places:
        return Prepared(None, why="no burst stands out")
    patches = plosives_tamed(sound, places, levels, Part(watch, 0.8, 1))
    return Prepared(Patched(patches), tuple(places), {"found": len(places)})


def _sibilance(step: r.Sibilance, sound: Sound, watch: Watch) -> Prepared:
    levels = sibilant_levels(sound, Part(watch, 0, 0.8))
    places = kept_places(step, found_sibilance(levels, most_db=step.over_db), sound.rate)
    if not places:
        even = "no s stands out" if is_harsh(levels) or step.over_db is not None else "this reader's s are not harsh"
        return Prepared(None, why=even)
    share = step.by_word(0.5, 1.0, 1.0, step.share)
    lower = 2.0 if step.strength == "strong" and step.share is None else 0.0
    patches = sibilance_softened(
        sound, places, levels, share=share, most_db=step.over_db, lower_db=lower, watch=Part(watch, 0.8, 1)
    )
    return Prepared(Patched(patches), tuple(places), {"found": len(places)})


def _breaths(step: r.Breaths, sound: Sound, watch: Watch) -> Prepared:
    places = kept_places(step, found_breaths(sound, Part(watch, 0, 0.6)), sound.rate)
    speaks, pauses = spans_of(voice_of(sound, Part(watch, 0.6, 0.8)))
    if step.where != "all":
        places = [p for p in places if is_between_sentences(p, speaks, sound.rate) == (step.where == "between")]
    if not places:
        return Prepared(None, why="no breath was found")
    room = _room_tone(sound, pauses) if step.how != "softer" else None
    if step.how != "softer" and room is None:
        return Prepared(None, why="there is no stretch of the room alone to lay in their place")
    by = step.by_word(6.0, 10.0, 16.0, step.by_db)
    patches = breaths_softened(sound, places, how=step.how, by_db=by, room=room, watch=Part(watch, 0.8, 1))
    return Prepared(Patched(patches), tuple(places), {"found": len(places)})


def _room_tone(sound: Sound, pauses: list[Span]) -> Signal | None:
    """The best stretch of room tone that any of the longest pauses holds."""
    for pause in sorted(pauses, key=len, reverse=True)[:8]:
        start, stop = pause.start, min(pause.stop, pause.start + samples(MOST_TONE_S, sound.rate))
        x = sound.read(start, stop)
        found = find_room_tone(np.asarray(x.mean(axis=0)), sound.rate)
        if found is not None:
            return x[:, found.start : found.stop]
    longest = max(pauses, key=len, default=None)
    if longest is not None and len(longest) >= samples(0.15, sound.rate):
        return sound.read(longest.start, longest.stop)
    return None


def _hum(step: r.HumOut, sound: Sound, watch: Watch) -> Prepared:
    hum = found_hum(sound, mains=float(step.mains) or None, watch=watch)
    if hum is None:
        return Prepared(None, why="no hum stands over the room's noise")
    share = step.by_word(0.75, 1.0, 1.0, step.share)
    figures: Figures = {
        "mains_hz": hum.mains,
        "drift_hz": round(hum.drift_hz, 2),
        "level_db": round(hum.level_db, 1),
        "harmonics": ", ".join(map(str, hum.harmonics)),
    }
    return Prepared(HumTaken(hum, sound.rate, share=share), (), figures)


def _noise(step: r.Noise, sound: Sound, watch: Watch) -> Prepared:
    speaks, pauses = spans_of(voice_of(sound, Part(watch, 0, 0.8)))
    if step.stretches:
        given = [Span(samples(a, sound.rate), min(sound.frames, samples(b, sound.rate))) for a, b in step.stretches if b > a]
        pauses = [span for span in given if len(span) > 0]
    if not pauses:
        return Prepared(None, why="nobody is ever silent here, so that the room can not be heard: mark a stretch of it elsewhere")
    noise = room_noise(sound, pauses, watch=Part(watch, 0.8, 1))
    level = noise.level_db(noise.usual.mean(axis=0))
    depth = step.by_word(6.0, 12.0, 18.0, step.depth_db)
    if step.to_db is not None:
        depth = level - step.to_db
    depth = min(depth, 30.0) / (step.passes if step.to_db is None else 1)
    figures: Figures = {"room_db": round(level, 1), "depth_db": round(depth, 1), "pauses": len(pauses)}
    if depth <= 0.05 or level < -95:
        return Prepared(None, figures=figures, why="the room is as quiet as that already")
    return Prepared(NoiseReduced(noise, speaks, depth_db=depth, share=step.share), (), figures)


def _echo(step: r.Echo, sound: Sound, watch: Watch) -> Prepared:
    room = reverberation(sound, watch)
    figures: Figures = {"rt_s": round(room.rt_s, 2), "falls": room.falls}
    if room.why:
        return Prepared(None, figures=figures, why=room.why)
    floor = step.by_word(6.0, 10.0, 14.0, step.floor_db)
    return Prepared(EchoReduced(room.rt_s, sound.rate, floor_db=floor, share=step.share), (), figures)


def _tone(step: r.Tone, sound: Sound, watch: Watch) -> Prepared:
    settings = ToneSettings(
        step.low_cut_hz, step.high_cut_hz, step.low_shelf_hz, step.low_shelf_db, step.high_shelf_hz, step.high_shelf_db,
        tuple(Bell(b.hz, b.gain_db, b.q) for b in step.bells), step.curve,
    )  # fmt: skip
    offset, figures = None, Figures()
    if step.without_dc:
        sums = list(over_cells(sound, 0, _sums, Part(watch, 0, 0.2)))
        offset = np.sum(sums, axis=0) / max(1, sound.frames)
        figures["dc"] = round(float(np.max(np.abs(offset), initial=0.0)), 6)
    more = None
    if step.towards:
        own = balance(sound, voice_of(sound, Part(watch, 0.2, 0.5)), Part(watch, 0.5, 0.8))
        more = towards(own, step.towards)
        figures["towards_most_db"] = round(float(np.max(np.abs(more))), 1)
    shaped = ToneShaped(settings, sound.rate, more_db=more, offset=offset)
    gain = 0.0
    if step.peak_db is not None:
        peaks = over_cells(sound, shaped.reach, lambda cell: float(np.max(np.abs(shaped.treated(cell)), initial=0.0)))
        peak = max(peaks, default=0.0)
        gain = step.peak_db - decibels(peak) if peak > 1e-6 else 0.0
        figures["gain_db"] = round(gain, 2)
        shaped = ToneShaped(settings, sound.rate, more_db=more, offset=offset, gain_db=gain)
    watch.tick(1.0)
    still = shaped.reach == 0 and (offset is None or float(np.max(np.abs(offset), initial=0.0)) < 1e-7) and not gain
    if still:
        return Prepared(None, figures=figures, why="no tone is set")
    return Prepared(shaped, (), figures, gain_db=gain)


def _sums(cell: Near) -> NDArray[np.float64]:
    return np.asarray(cell.sound[:, cell.first : cell.last].sum(axis=1, dtype=np.float64))


_PREPARING: dict[type[r.Common], Callable[..., Prepared]] = {
    r.Clicks: _clicks,
    r.Crackle: _clicks,
    r.Clipping: _clipping,
    r.Plosives: _plosives,
    r.Sibilance: _sibilance,
    r.Breaths: _breaths,
    r.HumOut: _hum,
    r.Noise: _noise,
    r.Echo: _echo,
    r.Tone: _tone,
}
