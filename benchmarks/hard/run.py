"""Inputs that once broke it: `./reel bench-hard`.  Ends with what went wrong; exit code 1 where anything did.

Every part is bounded in time.  `--only sounds|files|outward|names|texts|full|channels|attacked|torn|killed|monkey|model` runs one of them.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import zipfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import soundfile

ROOT = Path(__file__).resolve().parents[2]
DEMO = ROOT / "demo" / "book"
sys.path[:0] = [str(Path(__file__).parent), str(ROOT / "tests")]

from sounds import CASES, MUST_FAIL, RATE, chapter, clicked, clicks_at  # noqa: E402

MOST_S, MOST_MB = 5.0, 500.0
"""For an input that makes no sense: one clear line within this, or done."""


class Findings:
    """What went wrong, told at once and counted at the end."""

    def __init__(self) -> None:
        self.faults: list[str] = []

    def check(self, true: bool, text: str) -> None:
        """Keep `text` unless `true`."""
        if not true:
            self.faults.append(text)
            print(f"  FAULT {text}", flush=True)


def call(*args: object, folder: Path, limit: float = 120.0, room: int = -1) -> tuple[int, str, str, float, float]:
    """Run a word of the program: exit code, both outputs, seconds, and its greatest memory in MB.

    With `room` no file may grow over so many bytes.
    """
    begun = time.perf_counter()
    limited = f"import resource, runpy; resource.setrlimit(resource.RLIMIT_FSIZE, ({room}, {room}));"
    limited += "runpy.run_module('faithful_reel', run_name='__main__', alter_sys=True)"
    process = subprocess.Popen(
        [sys.executable, *(["-c", limited] if room >= 0 else ["-m", "faithful_reel"]), *map(os.fsencode, map(str, args))],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        cwd=folder,
        start_new_session=True,
    )
    try:
        out, err = process.communicate(timeout=limit)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.communicate()
        return -1, "", "hung", limit, 0.0
    return process.returncode, out.decode(errors="replace"), err.decode(errors="replace"), time.perf_counter() - begun, 0.0


def measured(*args: object, folder: Path) -> tuple[int, str, str, float, float]:
    """As `call`, with the greatest memory that the process took (Linux getrusage, ru_maxrss of a waited child)."""
    code = (
        "import json, resource, subprocess, sys, time; t = time.perf_counter();"
        "d = subprocess.run([sys.executable, '-m', 'faithful_reel', *sys.argv[1:]], capture_output=True, timeout=60);"
        "print(json.dumps([d.returncode, d.stdout.decode(errors='replace')[:2000], d.stderr.decode(errors='replace')[-2000:],"
        " time.perf_counter() - t, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024]))"
    )
    done = subprocess.run([sys.executable, "-c", code, *map(str, args)], capture_output=True, text=True, cwd=folder, check=False)
    if done.returncode:
        return -1, "", "hung", 60.0, 0.0
    found: tuple[int, str, str, float, float] = tuple(json.loads(done.stdout.splitlines()[-1]))  # type: ignore[assignment]
    return found


def one_line(err: str) -> bool:
    """Whether what a user reads is one clear line."""
    lines = [line for line in err.splitlines() if line.strip()]
    return len(lines) == 1 and lines[0].startswith("faithful-reel: ") and "Traceback" not in err


# --- sounds -------------------------------------------------------------------------------------------------------


def levels_by_ffmpeg(path: Path, samples: int) -> np.ndarray:
    """RMS in dB of successive stretches of all channels, by FFmpeg's astats."""
    said = subprocess.run(
        ["ffmpeg", "-v", "error", "-i", path, "-af", f"asetnsamples=n={samples}:p=0,astats=metadata=1:reset=1,ametadata=print:key=lavfi.astats.Overall.RMS_level:file=-", "-f", "null", "-"],
        capture_output=True, text=True, check=True,
    ).stdout  # fmt: skip
    return np.array([float(v) for v in re.findall(r"RMS_level=(-?[\d.]+|-?inf)", said)])


def ffmpeg_says(path: Path, figures: dict[str, float], limits: dict[str, object]) -> dict[str, bool]:
    """The verdicts that follow from FFmpeg's own figures of a file."""
    said = subprocess.run(
        ["ffmpeg", "-hide_banner", "-nostats", "-i", path, "-af", "astats,ebur128=peak=true", "-f", "null", "-"],
        capture_output=True, text=True, check=True,
    ).stderr  # fmt: skip
    overall = said.split("Overall", 1)[1]
    rms = float(re.search(r"RMS level dB: (-?[\d.]+)", overall)[1])  # type: ignore[index]
    peak = float(re.search(r"Peak level dB: (-?[\d.]+)", overall)[1])  # type: ignore[index]
    loudness = float(said.rsplit("I:", 1)[1].split()[0])
    true_peak = float(re.findall(r"Peak:\s+(-?[\d.]+) dBFS", said)[-1])
    frames = levels_by_ffmpeg(path, round(0.02 * figures["rate"]))
    head, tail = round(figures["head_s"] / 0.02), round(figures["tail_s"] / 0.02)
    power = 10 ** (np.where(np.isfinite(frames), frames, -200) / 10)
    quiet = 10 * np.log10(np.convolve(power, np.ones(25) / 25, "valid"))  # half a second
    inner = power[head : len(power) - tail] if tail else power[head:]
    runs = np.convolve(inner, np.ones(10) / 10, "valid")
    every = [10 * np.log10(runs[a : a + 250].min()) for a in range(0, max(1, len(runs) - 250), 250)]  # the quietest 0.2 s of 5 s
    verdicts: dict[str, bool] = {}
    if limits.get("rms_db"):
        low, high = limits["rms_db"]  # type: ignore[misc]
        verdicts["rms"] = low <= rms <= high
    if limits.get("peak_db") is not None:
        verdicts["peak"] = peak <= limits["peak_db"]  # type: ignore[operator]
    if limits.get("true_peak_db") is not None:
        verdicts["true_peak"] = true_peak <= limits["true_peak_db"] + 0.1  # type: ignore[operator]  # it prints tenths
    if limits.get("lufs"):
        low, high = limits["lufs"]  # type: ignore[misc]
        verdicts["loudness"] = low <= loudness <= high
    if limits.get("noise_floor_db") is not None:
        verdicts["noise_floor"] = float(quiet[quiet > -120].min(initial=0.0)) <= limits["noise_floor_db"] + 0.5  # type: ignore[operator]
        verdicts["pause_floor"] = float(np.median(every)) <= limits["noise_floor_db"] + 0.5  # type: ignore[operator]
    return verdicts


def lost_words(source: np.ndarray, out: Path, words: list[tuple[float, float]]) -> list[int]:
    """Words whose stretch of the source is not in the finished file, by envelopes alone: neither uses the program's own ear.

    The two are laid over each other where their envelopes agree best; a word is lost where it came out 18 dB fainter than
    the middle of all words, or lies outside.
    """
    y, rate = soundfile.read(out, dtype="float32", always_2d=True)
    x = source if source.ndim == 2 else source[:, None]

    def envelope(z: np.ndarray, at: int) -> np.ndarray:
        step = at // 100
        spectrum = (
            np.abs(np.fft.rfft(z[: len(z) // step * step].reshape(-1, step, z.shape[1]), axis=1)[:, 2:40]) ** 2
        )  # 200 Hz to 4 kHz
        return np.asarray(10 * np.log10(spectrum.sum(axis=(1, 2)) + 1e-9))

    a, b = envelope(x, RATE), envelope(y, rate)
    n = 1 << int(np.ceil(np.log2(len(a) + len(b))))
    cross = np.fft.irfft(np.fft.rfft(a - a.mean(), n) * np.conj(np.fft.rfft(b - b.mean(), n)), n)
    lag = int(cross.argmax())
    lag -= n if lag > n // 2 else 0
    change = []
    for start, stop in words:
        lo, hi = round(100 * start), max(round(100 * start) + 1, round(100 * stop))
        inside = lo - lag >= 0 and hi - lag <= len(b)
        change.append(np.percentile(b[lo - lag : hi - lag], 90) - np.percentile(a[lo:hi], 90) if inside else -200.0)
    middle = float(np.median(change))
    return [k for k, value in enumerate(change) if value < middle - 18]


def sounds(found: Findings, folder: Path) -> None:
    """Every hard recording, to every profile: no word lost, no wrong pass, verdicts as FFmpeg's figures say."""
    from faithful_reel.core.measure.profile import load_profile

    x, words = chapter(DEMO)
    levels: dict[str, float] = {}
    for name, make in CASES.items():
        soundfile.write(folder / "in.wav", make(x, words), RATE, subtype="FLOAT")
        for profile, suffix in (("retail", "wav"), ("retail", "mp3"), ("broadcast", "wav")):
            limits = load_profile(profile)
            out = folder / f"out.{suffix}"
            code, text, err, seconds, _ = call("master", "in.wav", "--profile", profile, "--out", out, "--json", folder=folder)
            found.check(code in (0, 1) and "Traceback" not in err, f"{name}, {profile}: exit {code}, {err.strip()[-200:]}")
            if code not in (0, 1):
                continue
            entry = json.loads(text)["files"][0]
            figures, failing = entry["figures"], [v["rule"] for v in entry["verdicts"] if not v["pass"]]
            lost = lost_words(make(x, words), out, words) if name != "sparse" and suffix == "wav" else []
            found.check(not lost, f"{name}, {profile}: words {lost} lost")
            by_ffmpeg = ffmpeg_says(
                out, figures, {f: getattr(limits, f) for f in ("rms_db", "peak_db", "true_peak_db", "lufs", "noise_floor_db")}
            )
            for rule, passes in by_ffmpeg.items():
                ours = rule not in failing
                found.check(
                    ours == passes or (rule == "pause_floor" and not ours),
                    f"{name}, {profile}, {suffix}: {rule} {'passes' if ours else 'fails'} here, not by FFmpeg's figures",
                )
            if profile == "retail":
                found.check((code == 1) == bool(failing), f"{name}: exit {code} with {failing}")
                found.check(name not in MUST_FAIL or code == 1, f"{name}: passes")
                found.check(
                    bool(failing) or figures["pause_floor_db"] <= -60,
                    f"{name}: passes with pauses at {figures['pause_floor_db']}",
                )
                levels[name] = figures["lufs"]
            print(
                f"  {name:<34} {profile:<9} {suffix}  {seconds:4.1f} s  RMS {figures['rms_db']:6.1f}  {figures['lufs']:6.1f} LUFS"
                f"  floor {figures['noise_floor_db']:6.1f}  pauses {figures['pause_floor_db']:6.1f}  head {figures['head_s']:.2f}"
                f"  tail {figures['tail_s']:.2f}  lost {len(lost)}  {'fails ' + ', '.join(failing) if failing else 'passes'}",
                flush=True,
            )
    spread = abs(levels["as it came"] - levels["sparse"])
    found.check(spread < 0.5, f"dense and sparse differ by {spread:.1f} LU")


# --- files --------------------------------------------------------------------------------------------------------


def files(found: Findings, folder: Path) -> None:
    """Half files, many channels, MP3 without headers, playlists, mutated archives."""
    x, _ = chapter(DEMO)
    soundfile.write(folder / "whole.wav", x, RATE, subtype="PCM_24")
    for name, options in (
        ("a.wav", ()),
        ("a.mp3", ("-b:a", "192k")),
        ("a.aiff", ()),
        ("a.ogg", ()),
        ("a.m4a", ("-movflags", "+faststart")),
    ):
        subprocess.run(["ffmpeg", "-v", "error", "-y", "-i", folder / "whole.wav", *options, folder / name], check=True)
        raw = (folder / name).read_bytes()
        (folder / name).write_bytes(raw[: len(raw) // 2])
        for word in (("intake", name), ("master", name, "--out", f"out-{name}.wav"), ("check", name)):
            code, out, err, *_ = call(*word, folder=folder)
            told = out + err
            found.check(code in (1, 2), f"half a {name}: {word[0]} ends with {code}")
            found.check(
                bool(re.search(r"cut short|broken off|breaks off|damaged|promises|whole", told)),
                f"half a {name}: {word[0]} says {told[:120]}",
            )
    for header in ("0", "1"):
        subprocess.run(
            [
                "ffmpeg",
                "-v",
                "error",
                "-y",
                "-i",
                folder / "whole.wav",
                "-t",
                "3",
                "-b:a",
                "192k",
                "-write_xing",
                header,
                folder / "c.mp3",
            ],
            check=True,
        )
        figures = json.loads(call("check", "c.mp3", "--json", folder=folder)[1])["files"][0]["figures"]
        found.check(
            (figures["cbr"], figures["bit_rate"]) == (True, 192_000),
            f"CBR MP3, header {header}: {figures['cbr']}, {figures['bit_rate']}",
        )
    for channels in (7, 8, 9, 12, 16, 24, 32, 33, 64, 100):
        for kind in ("wav", "w64", "caf"):
            soundfile.write(folder / f"c.{kind}", np.tile(x[:RATE, None], (1, channels)), RATE)
            for word in (("check", f"c.{kind}"), ("intake", f"c.{kind}"), ("master", f"c.{kind}", "--out", "o.wav")):
                code, _, err, *_ = call(*word, folder=folder)
                found.check(
                    code in (0, 1, 2) and "Traceback" not in err, f"{channels} channels, {kind}: {word[0]} ends with {code}"
                )
    for name, text in (
        ("l.m3u8", "#EXTM3U\n#EXTINF:2,\nwhole.wav\n"),
        ("l.txt", "ffconcat version 1.0\nfile whole.wav\n"),
        ("l.pls", "[playlist]\nFile1=whole.wav\n"),
    ):
        (folder / name).write_text(text)
        found.check(call("intake", name, folder=folder)[0] == 2, f"the list {name} is taken for a recording")
    book = folder / "b.reelbook"
    call("new", book, "--manuscript", DEMO / "manuscript.txt", "--recording", DEMO / "chapter-2.flac", folder=folder)
    call("archive", book, folder=folder)
    from faithful_reel.core.book.keeping import unpacked
    from faithful_reel.core.errors import AppError

    raw, rng, ends = (folder / "b.reelarchive").read_bytes(), random.Random(3), Counter()
    with zipfile.ZipFile(folder / "b.reelarchive") as archive:
        central = archive.start_dir
    before = {p.name for p in folder.iterdir()}
    for turn in range(800):
        mutated = bytearray(raw)
        where = rng.choice((range(4096), range(central, len(raw)), range(len(raw))))
        for _ in range(rng.choice((1, 1, 2, 20))):
            mutated[rng.choice(where)] = rng.randrange(256)
        (folder / "m.reelarchive").write_bytes(mutated[: rng.randrange(len(mutated))] if turn % 5 == 0 else mutated)
        try:
            unpacked(folder / "m.reelarchive", folder / "m.reelbook")
            ends["opened"] += 1
        except AppError as problem:
            ends["told"] += 1
            found.check("\n" not in str(problem), f"archive {turn}: {problem}")
        except Exception as problem:  # noqa: BLE001 - what must not come
            found.check(False, f"archive {turn}: {type(problem).__name__}: {problem}")
        shutil.rmtree(folder / "m.reelbook", ignore_errors=True)
    left = {p.name for p in folder.iterdir()} - before
    found.check(left <= {"m.reelarchive"}, f"archives left {left}")
    print(f"  800 mutated archives: {dict(ends)}", flush=True)


def names(found: Findings, folder: Path) -> None:
    """Files and folders under every kind of name; outputs that are inputs."""
    for name in ("Who Goes There?", "No. 5 #1", "100%41", "two\nlines", "b\udcff\udcfe", "é" * 110, "-x", "日本" * 20):
        sound, book = folder / f"{name}.flac", folder / f"{name}.reelbook"
        shutil.copy(DEMO / "chapter-2.flac", sound)
        for word in (
            ("intake", sound, "--json"), ("master", sound, "--out", folder / f"{name}.mp3"), ("check", folder / f"{name}.mp3"),
            ("new", book, "--manuscript", DEMO / "manuscript.docx", "--recording", sound), ("verify", book, "--json"),
            ("archive", book, "--out", folder / "a.reelarchive"), ("unpack", folder / "a.reelarchive", "--out", folder / "again.reelbook"),
        ):  # fmt: skip
            code, out, err, *_ = call(*word, folder=folder)
            found.check(
                code in ((0, 1) if word[0] in ("intake", "new") else (0,)) and "Traceback" not in err,
                f"{name!r}: {word[0]} ends with {code}: {err[-150:]}",
            )
        code, out, *_ = call("verify", folder / "again.reelbook", "--json", folder=folder)
        found.check(
            code == 0 and json.loads(out)["steps"] > 1 and json.loads(out)["recordings"] == 1, f"{name!r}: the archive is empty"
        )
        shutil.rmtree(folder / "again.reelbook", ignore_errors=True)
    source = folder / "source.flac"
    shutil.copy(DEMO / "chapter-2.flac", source)
    (folder / "soft.flac").symlink_to(source)
    os.link(source, folder / "hard.flac")
    digest = source.read_bytes()
    for out in (source, folder / "soft.flac", folder / "hard.flac", folder / "." / "source.flac"):
        for word in (("master", source, "--out", out), ("rough", "--audio", source, "--script", DEMO / "chapter-2.txt", "--out", out),
                     ("splice", "--audio", DEMO / "chapter-1.flac", "--script", DEMO / "chapter-1.txt", "--pickup", source, "--line", "x", "--out", out)):  # fmt: skip
            code, _, err, *_ = call(*word, folder=folder)
            found.check(code == 2 and one_line(err), f"{word[0]} over its input: {code}, {err[-150:]}")
            found.check(source.read_bytes() == digest, f"{word[0]} wrote over its input")


def texts(found: Findings, folder: Path) -> None:
    """Texts, numbers and profiles that make no sense: one clear line in seconds, or done."""
    import docx
    from docx.enum.style import WD_STYLE_TYPE

    x, _ = chapter(DEMO)
    soundfile.write(folder / "short.wav", x[10 * RATE : 12 * RATE], RATE)
    styled = docx.Document()
    for k in range(100):
        styled.styles.add_style(f"S{k}", WD_STYLE_TYPE.PARAGRAPH)
    for k in range(3000):
        styled.add_paragraph(f"Paragraph {k} with some words.", style=f"S{k % 100}")
    styled.save(folder / "styles.docx")
    made = {
        "a.rtf": "{\\rtf1 " + "\\b" * 400_000 + " hello}", "b.rtf": "{\\rtf1 " + "\\s1 " * 300_000 + " hello}", "c.rtf": "{\\rtf1 " + "{" * 100_000 + " hello",
        "d.rtf": "{\\rtf1 " + "\\'e9" * 500_000 + " hello}", "e.rtf": "{\\rtf1 " + "a" * 3_000_000 + " hello}", "big.txt": "word " * 10_000_000,
        "one.txt": "w" * 50_000_000, "lines.txt": "a\n\n" * 5_000_000, "digits.txt": f"It was {'9' * 3000} pounds, {'1,' * 400}2 and £{'7' * 900}.",
        "circled.txt": "Chapter ➃ and ² and ٣٤ and ४२ ➃% £➃ ➃th", "deep.html": "<div>" * 50_000 + "words", "deep.md": ">" * 20_000 + " words",
        "brackets.md": "[" * 50_000 + "x" + "]" * 50_000,
    }  # fmt: skip
    for name, text in made.items():
        (folder / name).write_text(text)
    for name in (*made, "styles.docx"):
        for word in (
            ("proof", "--one-ear", "--audio", "short.wav", "--script", name, "--json"),
            ("new", "n", "--manuscript", name),
        ):
            code, _, err, seconds, memory = measured(*word, folder=folder)
            shutil.rmtree(folder / "n.reelbook", ignore_errors=True)
            found.check(code == 0 or (code in (1, 2) and one_line(err)), f"{name}: {word[0]} ends with {code}: {err[-150:]}")
            found.check(
                code == 0 or (seconds < MOST_S and memory < MOST_MB),
                f"{name}: {word[0]} took {seconds:.1f} s, {memory:.0f} MB to refuse",
            )
            found.check(seconds < 20, f"{name}: {word[0]} took {seconds:.1f} s")
    good = {
        "name": "x",
        "rates": [44100],
        "channels": [1],
        "codecs": ["wav"],
        "target_rms_db": -20,
        "make_head_s": 0.5,
        "make_tail_s": 1,
    }
    profiles = {
        "deep": "[" * 200_000, "deeper": '{"a":' * 50_000 + "1" + "}" * 50_000, "list": "[]", "types": json.dumps(good | {"rates": 7, "name": 5}),
        "absurd": json.dumps(good | {"target_rms_db": 1e308}), "head": json.dumps(good | {"make_head_s": 1e6}), "nan": json.dumps(good | {"rms_db": [float("nan"), 0]}),
        "rate": json.dumps(good | {"rates": [-1]}), "digits": '{"target_rms_db":' + "9" * 10_000 + "}", "huge": '{"name":"' + "x" * 50_000_000 + '"}',
    }  # fmt: skip
    for name, text in profiles.items():
        (folder / f"{name}.json").write_text(text)
        code, _, err, seconds, memory = measured(
            "master", "short.wav", "--profile", f"{name}.json", "--out", "o.wav", folder=folder
        )
        found.check(code == 2 and one_line(err), f"profile {name}: {code}, {err[-150:]}")
        found.check(seconds < MOST_S and memory < MOST_MB, f"profile {name}: {seconds:.1f} s, {memory:.0f} MB")


def outward(found: Findings, folder: Path) -> None:
    """Steps, timelines, cues and clicks that once broke what goes in and out."""
    x, words = chapter(DEMO)
    soundfile.write(folder / "short.wav", x[10 * RATE : 14 * RATE], RATE, subtype="PCM_16")
    steps = {
        "length": '[{"kind":"insert_pause","at":5,"length":' + str(1 << 70) + "}]", "digits": '[{"kind":"cut_and_close","start":0,"stop":' + "9" * 400 + "}]",
        "rest": '[{"kind":"paste","start":0,"stop":0,"content":[[0,[{"kind":"rest","length":-5}]]]}]', "nan": '[{"kind":"set_gain","start":0,"stop":9,"gain_db":NaN}]',
        "infinite": '[{"kind":"set_gain","start":0,"stop":9,"gain_db":1e999}]', "join": '[{"kind":"cut_and_close","start":5,"stop":9,"join":{"length":5,"bend":Infinity}}]',
        "surrogate": '[{"kind":"name_piece","index":0,"name":"\\ud800","lane":"\\udfff"}]', "deep": "[" * 100_000, "empty": "[]", "none": '[{"kind":"nothing"}]',
    }  # fmt: skip
    for name, text in steps.items():
        (folder / f"{name}.json").write_text(text)
        code, _, err, seconds, _ = call("edit", "short.wav", "--do", f"{name}.json", "--out", "o.wav", folder=folder)
        found.check(code == 2 and one_line(err), f"edit, {name}: {code}, {err[-200:]}")
        found.check(seconds < MOST_S and not (folder / "o.wav").exists(), f"edit, {name}: {seconds:.1f} s, or a file was left")

    from faithful_reel.core.audio.cues import Cue, write_cues
    from faithful_reel.core.collate.clicks import clicks_in
    from faithful_reel.core.errors import AppError
    from faithful_reel.core.work.exchange import read_timeline

    for name, text in (
        ("deep", "[" * 200_000),
        ("nested", '{"children": [' * 4_000),
        ("half", '{"OTIO_SCHEMA"'),
        ("other", '{"OTIO_SCHEMA": "Clip.2"}'),
    ):
        (folder / "a.otio").write_text(text)
        begun = time.perf_counter()
        try:
            read_timeline(folder / "a.otio")
            found.check(False, f"timeline, {name}: read")
        except AppError as problem:
            found.check("\n" not in str(problem), f"timeline, {name}: {problem}")
        found.check(time.perf_counter() - begun < MOST_S, f"timeline, {name}: {time.perf_counter() - begun:.1f} s")
    subprocess.run(["ffmpeg", "-v", "error", "-y", "-i", folder / "short.wav", folder / "cues.mp3"], check=True)
    for count in (255, 256, 3_000):
        write_cues(folder / "cues.mp3", [Cue(k * 40, f"mark {k}") for k in range(count)], RATE, 4 * RATE)
        listed = subprocess.run(
            ["ffprobe", "-v", "error", "-show_chapters", folder / "cues.mp3"], capture_output=True, text=True, check=True
        ).stdout
        found.check(listed.count("[CHAPTER]") in (0, count), f"MP3 with {count} cues: {listed.count('[CHAPTER]')} chapters")
    soundfile.write(folder / "clicks.wav", clicked(x, words), RATE, subtype="PCM_24")
    told = [c.at * RATE / 16_000 for c in clicks_in(folder / "clicks.wav")]
    places = clicks_at(len(x))
    hit = sum(any(abs(t - at) < RATE // 500 for t in told) for at in places)
    false = sum(all(abs(t - at) > RATE // 50 for at in places) for t in told)
    found.check(hit >= 0.95 * len(places) and false <= 1, f"clicks: {hit} of {len(places)}, {false} beside them")
    print(f"  clicks: {hit} of {len(places)}, {false} beside them", flush=True)


# --- books --------------------------------------------------------------------------------------------------------


FULL_TRIES = 20
"""How often the disk is full for each word that writes."""


def full(found: Findings, folder: Path) -> None:
    """Every word that writes a file, while no file may grow over a size (getrlimit(2), RLIMIT_FSIZE): whole, or not there."""
    x, _ = chapter(DEMO)
    source, book = folder / "source.wav", folder / "b.reelbook"
    soundfile.write(source, x[: 20 * RATE], RATE, subtype="PCM_16")
    (folder / "steps.json").write_text(json.dumps([{"kind": "cut_and_close", "start": "0:01", "stop": "0:01.5"}]))
    (folder / "sheet.csv").write_text("read this line\nBy nine o’clock the whole town had come down to look.\n", encoding="utf-8")
    call("new", book, "--manuscript", DEMO / "manuscript.txt", "--recording", source, folder=folder)
    call("archive", book, "--out", folder / "held.reelarchive", folder=folder)
    new = ("new", folder / "n.reelbook", "--recording", folder / "r.ogg")
    subprocess.run(["ffmpeg", "-v", "error", "-y", "-i", source, folder / "r.ogg"], check=True)
    words: list[tuple[tuple[object, ...], Path]] = [
        *((("edit", source, "--do", "steps.json", "--out", folder / f"e.{s}"), folder / f"e.{s}") for s in ("wav", "flac", "mp3")),
        *((("master", source, "--out", folder / f"m.{s}"), folder / f"m.{s}") for s in ("wav", "flac", "mp3")),
        (("booth", "sheet.csv", "--out", folder / "p.flac"), folder / "p.flac"),
        (("archive", book, "--out", folder / "a.reelarchive"), folder / "a.reelarchive"),
        (("unpack", folder / "held.reelarchive", "--out", folder / "u.reelbook"), folder / "u.reelbook"),
        (new, folder / "n.reelbook"),
    ]  # fmt: skip
    rng, ends = random.Random(5), Counter()
    for word, out in words:
        code, _, err, *_ = call(*word, folder=folder)
        length = _length(out, folder)
        found.check(code in (0, 1) and length > 0, f"{word[0]} to {out.name}: {code}, {err[-150:]}")
        whole = _size(out)
        _away(out)
        before = {p.name for p in folder.iterdir()}
        sizes = [0, whole - 1, *(whole - rng.randrange(1, 60_000) for _ in range(FULL_TRIES // 2))]
        for room in [*sizes, *(rng.randrange(whole) for _ in range(FULL_TRIES - len(sizes)))]:
            code, _, err, *_ = call(*word, folder=folder, room=max(0, room))
            told = f"{word[0]} to {out.name} with room for {room} of {whole}"
            ends["told" if code == 2 else "whole"] += 1
            found.check(code in (0, 1, 2) and "Traceback" not in err, f"{told}: {code}, {err[-150:]}")
            found.check(not out.exists() or _length(out, folder) == length, f"{told}: what is there is not whole ({code})")
            found.check(code == 2 or out.exists(), f"{told}: ends with {code}, and nothing is there")
            _away(out)
            left = {p.name for p in folder.iterdir()} - before
            found.check(not left, f"{told}: left {left}")
    print(f"  {sum(ends.values())} tries: {dict(ends)}", flush=True)


def _size(path: Path) -> int:
    return max(p.stat().st_size for p in (path, *path.rglob("*")) if p.is_file())


def _away(path: Path) -> None:
    shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)


def _length(path: Path, folder: Path) -> int:
    """How much another reader finds: FFmpeg's samples of a sound file; 1 for a whole book or archive; 0 for a damaged one."""
    if path.suffix == ".reelbook":
        return int(call("verify", path, folder=folder)[0] == 0)
    if path.suffix == ".reelarchive":
        with zipfile.ZipFile(path) as archive:
            return int(archive.testzip() is None)
    command = ["ffmpeg", "-v", "error", "-i", path, "-f", "s16le", "-"]
    done = subprocess.run(command, capture_output=True, check=False)
    return 0 if done.returncode or done.stderr else len(done.stdout) // 2


def channels(found: Findings, folder: Path) -> None:
    """Twenty sources of two channels that do not go together, and three that do: by `intake`, `check`, and the mix of a book."""
    sys.path.insert(0, str(ROOT / "tests" / "core" / "audio"))
    from test_channels import SOURCES, thirds

    from faithful_reel.core.audio.files import channels_of, read_mono

    voice = soundfile.read(DEMO / "chapter-2.flac", dtype="float32", frames=25 * RATE)[0]
    worst = 0.0
    for name, (make, _, told) in SOURCES.items():
        x = np.stack(make(voice))
        soundfile.write(folder / "in.wav", x.T, RATE, subtype="FLOAT")
        code, out, err, *_ = call("intake", "in.wav", "--json", folder=folder)
        odd = json.loads(out)["recordings"][0]["odd_channels"] if code in (0, 1) else err
        found.check(code == 1 and told in odd, f"{name}: intake ends with {code} and says {odd!r}")
        code, out, err, *_ = call("check", "in.wav", "--json", folder=folder)
        rules = {v["rule"]: v["pass"] for v in json.loads(out)["files"][0]["verdicts"]} if code == 1 else {}
        found.check(rules.get("channels") is False, f"{name}: check ends with {code}, channels {rules.get('channels')}")
        mix = read_mono(folder / "in.wav", RATE, channels_of(folder / "in.wav").weights)
        better = thirds(max(x, key=lambda c: float(np.sum(np.square(c, dtype=np.float64)))))
        loss = float((better - thirds(mix))[better > better.max() - 50].max())
        found.check(loss <= 0.5, f"{name}: the mix is {loss:.2f} dB under the better channel")
        worst = max(worst, loss)
    for name, x in (
        ("one channel", voice[None]),
        ("the same twice", np.stack([voice, voice])),
        ("a little softer", np.stack([voice, 0.9 * voice])),
    ):
        soundfile.write(folder / "in.wav", x.T, RATE, subtype="FLOAT")
        odd = json.loads(call("intake", "in.wav", "--json", folder=folder)[1])["recordings"][0]["odd_channels"]
        found.check(not odd, f"{name}: told as {odd}")
    print(f"  {len(SOURCES)} sources, at worst {worst:.2f} dB under the better channel", flush=True)


def attacked(found: Findings, folder: Path) -> None:
    """Outputs over inputs and into books, links, pipes, devices, closed outputs, absurd sheets, and a clock that is moved."""
    from faithful_reel.core.book import keeping
    from faithful_reel.core.book.commands import SetDetails
    from faithful_reel.core.book.condition import backups, whole_backups
    from faithful_reel.core.book.session import Session
    from faithful_reel.core.book.store import BookStore

    book, prepared = folder / "b.reelbook", folder / "prepared"
    call("new", book, "--manuscript", DEMO / "manuscript.txt", "--recording", DEMO / "chapter-2.flac", folder=folder)
    shutil.copytree(DEMO, prepared)
    shutil.copy(DEMO / "chapter-2.flac", folder / "a.flac")
    (folder / "s.csv").write_text("read this line\nBy nine o’clock the whole town had come down to look.\n", encoding="utf-8")
    (folder / "steps.json").write_text(json.dumps([{"kind": "split", "at": 1000}]))
    # outputs
    inside = next((book / "recordings").iterdir())
    before = {p: p.read_bytes() for p in (*prepared.iterdir(), inside, folder / "a.flac") if p.is_file()}
    outs = [prepared / "booth.flac", prepared / "booth.json", inside, book / "masters" / "x.flac"]
    for out in outs:
        for word in (
            ("booth", "s.csv", "--takes", prepared, "--out", out),
            ("edit", "a.flac", "--do", "steps.json", "--out", out),
            ("master", "a.flac", "--out", out),
        ):
            if word[0] != "booth" and out.parent == prepared:
                continue  # which those do not read
            code, _, err, *_ = call(*word, folder=folder)
            found.check(code == 2 and one_line(err), f"{word[0]} to {out.name}: {code}, {err[-150:]}")
    found.check({p: p.read_bytes() for p in before} == before, "something that is read was written over")
    found.check(not (book / "masters" / "x.flac").exists(), "a file was written into a book")
    # a clock that is moved
    plain, made = time.gmtime, []
    with BookStore(book) as store:
        session = Session(store)
        for k, hours in enumerate((0, -3, 30, -3, 0, -300_000, 30, -3, 0, -1)):
            keeping.time.gmtime = lambda *_, h=hours: plain(1_780_000_000 + 3600 * h)  # type: ignore[attr-defined]
            session.do(SetDetails(f"Title {k}", "", ""))
            made.append(keeping.backed_up(book))
            found.check(backups(book)[0] == made[-1], f"the clock moved by {hours} h: the newest backup is not the newest")
            found.check(all(p.exists() for p in made[-6:]), f"the clock moved by {hours} h: a new backup is gone")
        session.close()
    keeping.time.gmtime = plain  # type: ignore[attr-defined]
    found.check(whole_backups(book)[0].path == made[-1], "another backup than the newest is offered first")
    # links
    names = [p.relative_to(book) for p in sorted(book.rglob("*"))]
    for name in names:
        there, linked = folder / "elsewhere" / "x", folder / "l.reelbook"
        shutil.copytree(book, linked)
        there.parent.mkdir()
        shutil.move(linked / name, there)
        (linked / name).symlink_to(there)
        kept = {p: p.read_bytes() for p in there.parent.rglob("*") if p.is_file()}
        for word in (
            ("verify", linked),
            ("archive", linked, "--out", folder / "l.reelarchive"),
            ("proof", linked),
            ("edit", linked, "--do", "steps.json"),
        ):
            code, _, err, *_ = call(*word, folder=folder)
            found.check(code == 2 and one_line(err), f"{name} as a link: {word[0]} ends with {code}: {err[-120:]}")
        found.check({p: p.read_bytes() for p in there.parent.rglob("*") if p.is_file()} == kept, f"{name} as a link was changed")
        shutil.rmtree(linked)
        shutil.rmtree(there.parent)
    # pipes, devices, outputs that take nothing
    os.mkfifo(folder / "pipe")
    for odd in ("pipe", "/dev/zero", "/dev/null", "."):
        for word in (
            ("edit", "a.flac", "--do", odd, "--out", "o.wav"), ("edit", odd, "--do", "steps.json", "--out", "o.wav"), ("booth", odd, "--out", "o.wav"),
            ("booth", "s.csv", "--takes", odd, "--out", "o.wav"), ("master", "a.flac", "--profile", odd, "--out", "o.wav"), ("check", odd), ("intake", odd),
            ("proof", "--audio", "a.flac", "--script", odd), ("unpack", odd, "--out", "u.reelbook"), ("new", "n.reelbook", "--manuscript", odd),
            ("rough", "--audio", "a.flac", "--script", DEMO / "chapter-2.txt", "--out", "o.wav", "--heard", odd), ("archive", odd),
        ):  # fmt: skip
            if (word[0], odd) == ("booth", ".") and "--takes" in word:
                continue
            code, _, err, seconds, _ = call(*word, folder=folder, limit=30)
            found.check(
                code == 2 and one_line(err) and seconds < MOST_S, f"{word[0]} on {odd}: {code} in {seconds:.0f} s, {err[-120:]}"
            )
    for how, wanted in ((">&-", 2), (">/dev/full", 2), ("| true; exit ${PIPESTATUS[0]}", 2), ("2>&-", 1)):
        line = f"{sys.executable} -m faithful_reel check a.flac --json {how}"
        done = subprocess.run(["bash", "-c", line], cwd=folder, capture_output=True, text=True, check=False)
        found.check(
            done.returncode == wanted and "Traceback" not in done.stderr, f"check {how}: {done.returncode}, {done.stderr[-120:]}"
        )
    # sheets
    with zipfile.ZipFile(folder / "bomb.xlsx", "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("xl/worksheets/sheet1.xml", b" " * (400 << 20))
    code, _, err, seconds, most_mb = measured("booth", "bomb.xlsx", "--out", "o.wav", folder=folder)
    found.check(
        code == 2 and one_line(err) and most_mb < MOST_MB, f"an XLSX of 400 MB: {code}, {seconds:.1f} s, {most_mb:.0f} MB"
    )
    print(
        f"  {len(outs)} outputs, {len(names)} links; an XLSX of 400 MB is told in {seconds:.1f} s with {most_mb:.0f} MB",
        flush=True,
    )


def torn(found: Findings, folder: Path) -> None:
    """500 torn or bit-flipped books: each ends in a named state in under 5 s."""
    from support.torn import healthy_book, spoiled, state

    whole = healthy_book(folder / "whole.reelbook")
    ends: Counter[str] = Counter()
    worst = 0.0
    for seed in range(500):
        way = spoiled(whole, folder / "b.reelbook", 50_000 + seed)
        begun = time.perf_counter()
        try:
            ends[state(folder / "b.reelbook")] += 1
        except BaseException as problem:  # noqa: BLE001 - what must not come
            found.check(False, f"book {seed} ({way}): {type(problem).__name__}: {problem}")
        worst = max(worst, time.perf_counter() - begun)
    found.check(worst < MOST_S, f"the slowest took {worst:.1f} s")
    print(f"  500 books: {dict(ends)}, the slowest in {worst:.2f} s", flush=True)


def killed(found: Findings, folder: Path) -> None:
    """300 SIGKILLs of an editing run, 100 SIGTERMs of words that write: no acknowledged step lost, nothing half-written."""
    from support.torn import healthy_book

    from faithful_reel.core.book.keeping import verified
    from faithful_reel.core.book.session import Session
    from faithful_reel.core.book.store import BookStore

    book = healthy_book(folder / "k.reelbook", steps=10)
    process = subprocess.Popen(
        [sys.executable, ROOT / "tests" / "support" / "killed.py", str(book), "300"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdin is not None
    assert process.stdout is not None
    steps = 0
    for line in process.stdout:
        told = json.loads(line)
        with BookStore(book) as store:
            session = Session(store)
            reel = session.book.chapters[0].reel
            # one more step may have reached the disk than was told of
            known = (store.head == told["head"] and len(reel or ()) == told["length"]) or store.count() >= told["head"]
            found.check(known and store.lost_steps == 0, f"after a kill at step {told['head']} the book stands at {store.head}")
        steps += told["steps"]
        left = [p.name for p in book.rglob(".*") if p.name.endswith((".part", ".sqlite"))]
        found.check(not left, f"left behind: {left}")
        process.stdin.write("\n")
        process.stdin.flush()
    process.stdin.close()
    process.wait()
    found.check(not verified(book).problems, "the book is not sound after 300 kills")
    print(f"  300 SIGKILLs in {steps} acknowledged steps", flush=True)
    rng, ends = random.Random(8), Counter()
    call("new", folder / "t.reelbook", "--recording", DEMO / "chapter-2.flac", folder=folder)
    for turn in range(100):
        out = folder / f"term{turn}"
        out.mkdir()
        word, result = rng.choice((
            (("master", DEMO / "chapter-2.flac", "--out", out / "o.mp3"), "o.mp3"), (("master", DEMO / "chapter-2.flac", "--out", out / "o.wav"), "o.wav"),
            (("archive", folder / "t.reelbook", "--out", out / "a.reelarchive"), "a.reelarchive"), (("new", out / "n.reelbook", "--recording", DEMO / "chapter-2.flac"), "n.reelbook"),
        ))  # fmt: skip
        process = subprocess.Popen(
            [sys.executable, "-m", "faithful_reel", *map(str, word)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        time.sleep(rng.uniform(0.4, 3.2))
        process.terminate()
        _, err = process.communicate(timeout=30)
        left = {p.name for p in out.iterdir()}
        ends[process.returncode] += 1
        found.check("Traceback" not in err, f"SIGTERM of {word[0]}: {err[-200:]}")
        found.check(left <= {result}, f"SIGTERM of {word[0]} left {left}")
        if left:
            found.check(_is_whole(out / result), f"SIGTERM of {word[0]} left half of {result}")
        shutil.rmtree(out)
    print(f"  100 SIGTERMs, exit codes {dict(ends)}", flush=True)


def _is_whole(path: Path) -> bool:
    from faithful_reel.core.audio.wholeness import shortfall
    from faithful_reel.core.book.keeping import verified

    if path.suffix == ".reelbook":
        return verified(path).sound
    if path.suffix == ".reelarchive":
        with zipfile.ZipFile(path) as archive:
            return archive.testzip() is None
    return shortfall(path) is None


def monkey(found: Findings, folder: Path) -> None:
    """Somebody who presses everything until the journal has grown by 500 steps, twice."""
    del folder
    for seed in (21, 22):
        done = subprocess.run(
            [sys.executable, ROOT / "tests" / "support" / "monkey.py", str(seed), "500"],
            capture_output=True,
            text=True,
            cwd=ROOT / "tests",
            timeout=1200,
            check=False,
        )
        lines = done.stdout.strip().splitlines()
        result = json.loads(lines[-1]) if lines else {"faults": [done.stderr[-500:]], "steps": 0}
        found.check(not result["faults"], f"monkey {seed}: {result['faults'][:3]}")
        found.check(result["steps"] >= 500, f"monkey {seed}: only {result['steps']} steps")
        print(f"  monkey {seed}: {result.get('moves')} moves, {result['steps']} steps", flush=True)


SEQUENCES, SHARD, ACTS = 20_000, 250, 17


def _editors(first: int) -> list[str]:
    """What some editors of the model found, each a line."""
    from support.model import Editor

    return [f"model {seed}: {told}" for seed in range(first, first + SHARD) if (told := Editor(seed).run(ACTS))]


def model(found: Findings, folder: Path) -> None:
    """Twenty thousand editors who press anything, against arrays that know nothing of the program: no sound goes unasked."""
    del folder
    with ProcessPoolExecutor(max_workers=os.cpu_count()) as pool:
        for done, told in enumerate(pool.map(_editors, range(1_000_000, 1_000_000 + SEQUENCES, SHARD)), 1):
            for line in told:
                found.check(False, line)
            if done % 10 == 0:
                print(f"  {done * SHARD} sequences", flush=True)


PARTS = {p.__name__: p for p in (sounds, files, outward, names, texts, full, channels, attacked, torn, killed, monkey, model)}


def main() -> int:
    """Run all parts, or one."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", choices=sorted(PARTS), default="")
    wanted = parser.parse_args().only
    found = Findings()
    for name, part in PARTS.items():
        if wanted in ("", name):
            begun = time.perf_counter()
            print(f"{name}: {(part.__doc__ or '').splitlines()[0]}", flush=True)
            with tempfile.TemporaryDirectory(prefix="faithful-reel-hard-") as folder:
                part(found, Path(folder))
            print(f"  {time.perf_counter() - begun:.0f} s", flush=True)
    print(f"{len(found.faults)} faults")
    return 1 if found.faults else 0


if __name__ == "__main__":
    sys.exit(main())
