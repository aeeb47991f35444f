"""Make the two-voice chapter of the demo book: two narrators in rooms of their own, in step, and music of the sea.

Run `./reel demo-book` to make it again.  The second voice is the first one with a smaller throat: said slower, played faster.
"""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path

import numpy as np
import soundfile
import soxr
from make_demo import HERE, RATE, SEED, TONE_DB, VOICE_DB, Booth, Sound, Word, bare, db
from scipy.signal import butter, sosfilt

VOICES = {"N": "narrator", "C": "clerk"}
SMALLER = 1.19
"""How much faster the second voice is played than it was said."""
BEFORE = (("N", "Is it running?"), ("C", "Ready when you are."), ("N", "Then from the top, please."))
"""The talk before the reading begins."""
LEAD_S, BETWEEN_S, PARAGRAPH_S = 2.0, 0.55, 0.35


class Clerk(Booth):
    """The second narrator."""

    def spoken(self, text: str, *, pace: float = 1.18) -> tuple[Sound, list[Word]]:
        """As the first, a little higher and from a smaller throat."""
        voice, words = super().spoken(text, pace=pace * SMALLER)
        faster = soxr.resample(voice, RATE * SMALLER, RATE, quality="VHQ")
        return faster, [(w, round(a / SMALLER), round(b / SMALLER)) for w, a, b in words]


def cough(rng: np.random.Generator) -> Sound:
    """Two short bursts of breath."""
    n = int(0.5 * RATE)
    t = np.arange(n) / RATE
    noise = sosfilt(butter(2, [300, 3500], "bandpass", fs=RATE, output="sos"), rng.standard_normal(n))
    swell = np.exp(-t / 0.06) + np.where(t > 0.24, np.exp(-(t - 0.24) / 0.07), 0.0)
    out = noise * swell * np.minimum(1, t / 0.004)
    return out / np.max(np.abs(out)) * 10 ** (-12 / 20)


def sea(rng: np.random.Generator, seconds: float) -> Sound:
    """Music of the sea: slow chords of soft tones over waves of noise."""
    n = int(seconds * RATE)
    t = np.arange(n) / RATE
    out = np.zeros(n)
    for k, chord in enumerate(((45, 52, 57, 60), (43, 50, 55, 59), (41, 48, 53, 57), (43, 50, 55, 62)) * 8):
        at = k * 6.0
        if at >= seconds:
            break
        swell = np.clip((t - at) / 2.5, 0, 1) * np.clip((at + 7.5 - t) / 2.5, 0, 1)
        for pitch in chord:
            hz = 440 * 2 ** ((pitch - 69) / 12)
            out += (
                0.2
                * swell
                * (np.sin(2 * np.pi * hz * t) + 0.3 * np.sin(2 * np.pi * 2 * hz * t + 0.3 * np.sin(2 * np.pi * 0.2 * t)))
            )
    waves = sosfilt(butter(1, [200, 1800], "bandpass", fs=RATE, output="sos"), rng.standard_normal(n))
    out += 0.12 * waves / np.std(waves) * (0.4 + 0.6 * np.sin(2 * np.pi * t / 9) ** 2)
    out *= np.minimum(1, t / 3) * np.minimum(1, (seconds - t) / 4)
    return out / np.max(np.abs(out)) * 10 ** (-9 / 20)


def levelled(voice: Sound, words: list[Word]) -> tuple[Sound, int]:
    """A saying at its level, cut to its words; and where it was cut."""
    lead, trail = max(0, words[0][1] - int(0.05 * RATE)), min(voice.size, words[-1][2] + int(0.12 * RATE))
    voice = voice[lead:trail] * 10 ** ((VOICE_DB - db(voice[lead:trail])) / 20)
    fade = int(0.01 * RATE)
    voice[:fade] *= np.linspace(0, 1, fade)
    voice[-fade:] *= np.linspace(1, 0, fade)
    return voice, lead


def main(folder: Path) -> None:
    """Make the chapter's files in `folder`."""
    lines = (HERE / "two_voices.txt").read_text(encoding="utf-8").splitlines()
    booths = {"N": Booth(SEED + 70), "C": Clerk(SEED + 71)}
    said: dict[str, list[tuple[int, Sound]]] = {"N": [], "C": []}
    spikes: list[tuple[int, Sound]] = []
    planted: list[dict[str, object]] = []
    words_at: list[list[object]] = []
    script: list[str] = []
    at, position, last = int(LEAD_S * RATE), 0, []

    def say(who: str, text: str) -> list[Word]:
        nonlocal at
        voice, words = booths[who].spoken(text)
        voice, lead = levelled(voice, words)
        said[who].append((at, voice))
        placed = [(w, a - lead + at, b - lead + at) for w, a, b in words]
        at += voice.size + int(BETWEEN_S * RATE)
        return placed

    for who, text in BEFORE:
        words = say(who, text)
        planted.append(
            {"kind": "talk", "lane": VOICES[who], "start": words[0][1] / RATE, "end": words[-1][2] / RATE, "heard": text}
        )
    at += int(1.5 * RATE)
    paragraph = False
    for line in lines:
        if line.startswith("#"):
            continue
        if not line.strip():
            paragraph = True
            continue
        if line.startswith("!pause"):
            seconds = float(line.split()[1])
            planted.append({"kind": "pause", "start": at / RATE, "end": at / RATE + seconds})
            at += int(seconds * RATE)
            continue
        if line.startswith("!cough"):
            word = next(w for w in last if w[0].strip(".,").lower() == line.split()[1])
            burst = cough(booths["C"].rng)
            spikes.append((word[1], burst))
            planted.append({"kind": "cough", "lane": "clerk", "start": word[1] / RATE, "end": (word[1] + burst.size) / RATE})
            continue
        if line.startswith("="):
            for title in line[2:].split("|"):
                script.append(title)
                last = say("N", title + ".")
                words_at += [
                    [position + k, "narrator", round(a / RATE, 4), round(b / RATE, 4)] for k, (_, a, b) in enumerate(last)
                ]
                position += len(last)
            paragraph = True
            continue
        who, _, text = line.partition(": ")
        if paragraph:
            at += int(PARAGRAPH_S * RATE)
        written = re.sub(r"\{([^|}]*)\|([^|}]*)\|[^}]*\}", r"\1", text)
        read = re.sub(r"\{([^|}]*)\|([^|}]*)\|[^}]*\}", r"\2", text)
        last = say(who, bare(read))
        for k, (w, r) in enumerate(zip(written.split(), read.split(), strict=True)):
            start, stop = last[k][1] / RATE, last[k][2] / RATE
            words_at.append([position + k, VOICES[who], round(start, 4), round(stop, 4)])
            if w != r:
                planted.append(
                    {
                        "kind": "misread",
                        "lane": VOICES[who],
                        "word_index": position + k,
                        "written": w,
                        "heard": r,
                        "start": start,
                        "end": stop,
                    }
                )
        position += len(last)
        shown = re.sub(r'"([^"]*)"', "\u201c\\1\u201d", written)
        script.append(shown) if paragraph or not script else script.append(script.pop() + " " + shown)
        paragraph = False
    length = at + 2 * RATE
    for who, name in VOICES.items():
        dry = np.zeros(length)
        for start, voice in said[who]:
            dry[start : start + voice.size] += voice
        for start, burst in spikes if who == "C" else ():
            dry[start : start + burst.size] += burst
        booth = booths[who]
        wet = booth.room(dry, tail_s=0.22 if who == "N" else 0.15)
        sound = wet + booth.tone(length, TONE_DB - (0 if who == "N" else 3), 50.0)
        soundfile.write(folder / f"two-voices-{name}.flac", np.clip(sound, -0.999, 0.999), RATE, subtype="PCM_16")
    soundfile.write(folder / "two-voices-sea.flac", sea(np.random.default_rng(SEED), 24.0), RATE, subtype="PCM_16")
    (folder / "two-voices.txt").write_text("\n\n".join(script) + "\n", encoding="utf-8")
    truth = {"rate": RATE, "planted": planted, "words": words_at}
    (folder / "two-voices.json").write_text(json.dumps(truth, indent=1) + "\n", encoding="utf-8")
    print(f"two voices: {length / RATE:.1f} s", file=sys.stderr)


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else HERE / "book")
