"""Speed and memory on a one-hour chapter, each beside a yardstick of the same run.  `./reel bench` runs all.

Times on a shared machine wander: read the ratios.  Budgets are in budgets.toml; a missed one is marked and makes the
exit code 1.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import tempfile
import time
import tomllib
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

ROOT = Path(__file__).parent.parent
DEMO = ROOT / "demo" / "book"
RATE = 44_100


def long_chapter(folder: Path, minutes: float) -> tuple[Path, Path, float]:
    """A long chapter: the demo's three raw chapters again and again, with their texts, and the planted errors' share left as it is.

    The narration between the planted errors is what makes a real chapter; so that the errors are not ten times as dense as
    they are in real narration, only one round in six is a chapter as recorded, the others are cut from its clean sentences.
    """
    from faithful_reel.core.text.manuscript import read_script

    truth = json.loads((DEMO / "truth.json").read_text())
    pieces: list[np.ndarray] = []
    texts: list[str] = []
    seconds = 0.0
    turn = 0
    while seconds < 60 * minutes:
        number = 1 + turn % 3
        sound, _ = soundfile.read(DEMO / f"chapter-{number}.flac", dtype="float32")
        chapter = read_script(DEMO / f"chapter-{number}.txt")
        spoiled = {
            w
            for p in truth[f"chapter-{number}"]["planted"]
            for w in range(p.get("word_index", 0), p.get("word_index", 0) + p.get("word_count", 0) + 1)
        }
        times = {i: (a, b) for i, a, b in truth[f"chapter-{number}"]["words"]}
        if turn % 6 == 0:
            pieces.append(sound)
            texts.append(chapter.text)
        else:
            for sentence in chapter.sentences():
                if not spoiled & set(sentence) and all(i in times for i in sentence):
                    start, stop = times[sentence.start][0] - 0.12, times[sentence.stop - 1][1] + 0.25
                    pieces.append(sound[int(start * RATE) : int(stop * RATE)])
                    texts.append(" ".join(chapter.words[i].text for i in sentence))
        turn += 1
        seconds = sum(map(len, pieces)) / RATE
    soundfile.write(folder / "long.flac", np.concatenate(pieces), RATE, subtype="PCM_16")
    (folder / "long.txt").write_text("\n\n".join(texts), encoding="utf-8")
    return folder / "long.flac", folder / "long.txt", seconds


def in_own_process(code: str, *args: str) -> tuple[float, float, dict[str, float]]:
    """Run code in a process of its own: seconds, peak memory in MB, and what it printed as JSON on its last line."""
    start = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", code, *args], capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stderr)
    values = json.loads(done.stdout.strip().splitlines()[-1])
    return time.perf_counter() - start, values.pop("peak_mb"), values


def told_by(script: str, *args: str) -> dict[str, Any]:
    """What a benchmark of its own prints as JSON on its last line."""
    path = Path(__file__).parent / script
    done = subprocess.run([sys.executable, str(path), *args], capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stderr)
    return dict(json.loads(done.stdout.strip().splitlines()[-1]))


PEAK = """import json, pathlib
def peak():  # VmHWM, since what getrusage tells is inherited from the parent
    lines = pathlib.Path("/proc/self/status").read_text().splitlines()
    return int(next(s for s in lines if s.startswith("VmHWM")).split()[1]) / 1024
"""

PROOF = (
    PEAK
    + """
import sys, threading, time
from pathlib import Path
from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.collate.proofing import proofed
from faithful_reel.core.hear.ears import installed_ears
from faithful_reel.core.text.manuscript import read_script
def taken(pid):  # MB, what processes share counted once (Linux proc(5), Pss)
    try:
        lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
    except OSError:  # it has just ended
        return 0.0
    return int(next((s for s in lines if s.startswith("Pss:")), "Pss: 0").split()[1]) / 1024
def sizes():
    pids = [p for t in Path("/proc/self/task").iterdir() for p in (t / "children").read_text().split()]
    return [taken("self"), *map(taken, pids)]
most, over = [0.0], threading.Event()
def sample():
    while not over.wait(0.2):
        try:
            most[:] = max(most, sizes(), key=sum)
        except OSError:  # a thread has just ended
            continue
begun = time.perf_counter()
x = ear_sound(Path(sys.argv[1]))
chapter = read_script(Path(sys.argv[2]))
ears = installed_ears()
first, marks = [], {}
class Watch:
    def tick(self, done, note=""):
        marks.setdefault(note, time.perf_counter())
def early(proof):
    if proof.findings:
        first.append(time.perf_counter() - begun)
sampler = threading.Thread(target=sample)
sampler.start()
t = time.perf_counter()
proof = proofed(x, chapter, ears, Watch(), early)
seconds = time.perf_counter() - t
over.set()
sampler.join()
from faster_whisper import WhisperModel
bare = WhisperModel(str(ears.first.weights.folder), device="cpu", compute_type="int8", cpu_threads=1, num_workers=2)
t = time.perf_counter()
segments, _ = bare.transcribe(x[: 16000 * 300], language="en", beam_size=1, temperature=0.0, word_timestamps=True, condition_on_previous_text=False)
for _ in segments:
    pass
yardstick = min(300, len(x) / 16000) / (time.perf_counter() - t)
print(json.dumps({"seconds": seconds, "quick": marks["listening again"] - marks["listening"], "first": first[0], "audio": len(x) / 16000, "yardstick": yardstick, "findings": len(proof.findings), "own": most[0], "peak_mb": sum(most)}))
"""
)

MASTER = (
    PEAK
    + """
import sys, time
from pathlib import Path
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.release.chapter_file import master_file
source, out, warm = Path(sys.argv[1]), Path(sys.argv[2]), Path(sys.argv[3])
profile = load_profile("retail")
master_file(warm, profile, out)
t = time.perf_counter()
made = master_file(source, profile, out)
print(json.dumps({"seconds": time.perf_counter() - t, "audio": made.before.seconds, "passed": float(made.after.noise_floor_db <= -60), "peak_mb": peak()}))
"""
)

MEASURE = (
    PEAK
    + """
import sys, time
from pathlib import Path
import soundfile
from faithful_reel.core.measure.levels import figures_of
from faithful_reel.core.release.check import file_figures
import numpy as np
figures_of(np.zeros(44100, np.float32), 44100)
t = time.perf_counter()
with soundfile.SoundFile(sys.argv[1]) as file:
    frames = 0
    while len(x := file.read(65536, dtype="float32")):
        frames += len(x)
read = time.perf_counter() - t
t = time.perf_counter()
figures = file_figures(Path(sys.argv[1]))
print(json.dumps({"seconds": time.perf_counter() - t, "audio": figures.seconds, "yardstick": figures.seconds / read, "peak_mb": peak()}))
"""
)

SCROLL = (
    PEAK
    + """
import os, sys, time, random
os.environ["QT_QPA_PLATFORM"] = "offscreen"
import numpy as np
from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QPixmap
from faithful_reel.app.main import application
from faithful_reel.app.widgets.turns import OWN_TURN_MS
from faithful_reel.app.widgets.galley import Cell, Cells, Galley, GalleyContent, Strip
from faithful_reel.core.audio.overview import overview_of
app = application()
rng = random.Random(1)
words = "the tide had gone out further than anyone in harbour could remember it left old ferry lying on its side".split()
hours = float(sys.argv[1])
rate, at, cells = 44100, 0, []
n = int(9200 * hours)
for i in range(n):
    length = rng.randint(8000, 20000)
    cells.append(Cell(rng.choice(words), i, at, at + length, paragraph=i // 60))
    at += length + rng.choice((600, 900, 1200, 18000))
noise = np.random.default_rng(1).standard_normal(44100 * 20).astype(np.float32) * 0.1
overview = overview_of(noise for _ in range(at // len(noise) + 1))
galley = Galley()
galley.resize(1280, 800)
t = time.perf_counter()
galley.set_content(GalleyContent(Cells.of(cells), (), (Strip("voice", overview.columns),), at, rate))
laid = time.perf_counter() - t
galley.show()
app.processEvents()
from faithful_reel.app.main import calm_collector
calm_collector()  # as the window does
picture = QPixmap(galley.viewport().size())
bar = galley.verticalScrollBar()
frames, parted = [], 0
turns = [t for t in galley.findChildren(QTimer) if t.isSingleShot() and t.interval() == OWN_TURN_MS]
bar.setValue(bar.maximum() // 3)
galley.viewport().render(picture)
for _ in range(200):
    bar.setValue(bar.value() + 40)
    t = time.perf_counter()
    galley.viewport().render(picture)
    frames.append(1000 * (time.perf_counter() - t))
    parted += any(t.isActive() for t in turns)  # lines are left for the next frame
    [t.stop() for t in turns]
paced, left = [], 0
bar.setValue(bar.maximum() // 2)
galley.viewport().render(picture)
for _ in range(200):  # as a wheel does, 60 frames a second, with what there is time for between them
    begun = time.perf_counter()
    bar.setValue(bar.value() + 40)
    galley.viewport().render(picture)
    paced.append(1000 * (time.perf_counter() - begun))
    left += any(t.isActive() for t in turns)
    while time.perf_counter() - begun < 1 / 60:
        app.processEvents()
jumps = []
for _ in range(30):
    bar.setValue(rng.randint(0, bar.maximum()))
    t = time.perf_counter()
    galley.viewport().render(picture)
    jumps.append(1000 * (time.perf_counter() - t))
t = time.perf_counter()
blank = QPixmap(1280, 800)
for _ in range(20):
    blank.fill(0xFFFFFF)
yardstick = 1000 * (time.perf_counter() - t) / 20
frames.sort()
paced.sort()
print(json.dumps({"paced_ms": paced[100], "paced_worst_ms": paced[-1], "left": left, "median_ms": frames[100], "worst_ms": frames[-1], "jump_ms": sorted(jumps)[15], "parted": parted, "layout_ms": 1000 * laid, "words": n, "yardstick_ms": yardstick, "peak_mb": peak()}))
"""
)

STEP = (
    PEAK
    + """
import sys, time, tempfile
from pathlib import Path
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.book.commands import AddChapters, AddRecording, EditReel, PairRecording
from faithful_reel.core.book.model import Recording
from faithful_reel.core.reel.commands import CutAndClose
folder = Path(tempfile.mkdtemp()) / "b.reelbook"
session = Session(BookStore(folder, create=True))
session.do(AddChapters((("c1", "One", ""),)))
session.do(AddRecording(Recording("r", "r", ".wav", 44100, 1, 44100 * 3600, 0, 0, 0, None)))
session.do(PairRecording("c1", "r"))
times = []
for k in range(1000):
    t = time.perf_counter()
    session.do(EditReel("c1", CutAndClose(1000 * k + 50, 1000 * k + 90)))
    times.append(1000 * (time.perf_counter() - t))
session.store.close()
t = time.perf_counter()
session = Session(BookStore(folder))
opened = 1000 * (time.perf_counter() - t)
session.store.close()
times.sort()
print(json.dumps({"median_ms": times[500], "p99_ms": times[990], "open_ms": opened, "peak_mb": peak()}))
"""
)

INTAKE = (
    PEAK
    + """
import shutil, sys, tempfile, time
from pathlib import Path
import numpy as np, soundfile
from faithful_reel.core.book.recordings import received
from faithful_reel.core.book.store import BookStore
folder = Path(tempfile.mkdtemp())
hours, rate = float(sys.argv[1]), 96000
rng = np.random.default_rng(1)
minute = (rng.standard_normal((rate * 60, 2)) * 0.05 * (np.arange(rate * 60)[:, None] % (2 * rate) > rate)).astype(np.float32)
with soundfile.SoundFile(str(folder / "long.wav"), "w", rate, 2, "PCM_24", format="RF64") as file:
    for _ in range(round(60 * hours)):
        file.write(minute)
del minute
Path("/proc/self/clear_refs").write_text("5")  # the peak from here on
with BookStore(folder / "b.reelbook", create=True) as store:
    t = time.perf_counter()
    made = received(store.folder, folder / "long.wav", 44100)
    seconds = time.perf_counter() - t
t = time.perf_counter()
with open(folder / "long.wav", "rb") as file:
    while file.read(1 << 20):
        pass
bare = time.perf_counter() - t
shutil.rmtree(folder)
print(json.dumps({"seconds": seconds, "audio": 3600 * hours, "yardstick": 3600 * hours / bare, "peak_mb": peak()}))
"""
)

LANES = (Path(__file__).parent / "lanes.py").read_text().replace("from __future__ import annotations", "")
SCALE = (Path(__file__).parent / "scale.py").read_text().replace("from __future__ import annotations", "")


def main() -> int:
    """Run the benchmarks and hold them against their budgets."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=60.0)
    parser.add_argument("--only", default="")
    chosen = parser.parse_args()
    budgets = tomllib.loads((Path(__file__).parent / "budgets.toml").read_text())
    missed = 0

    def tell(name: str, value: float, unit: str, note: str) -> None:
        nonlocal missed
        budget = budgets.get(name)
        bad = budget is not None and (value < budget["least"] if "least" in budget else value > budget["most"])
        missed += bad
        limit = (
            ""
            if budget is None
            else f"  (budget: {'at least' if 'least' in budget else 'at most'} {budget.get('least', budget.get('most'))} {unit})"
        )
        print(f"{'MISSED ' if bad else 'ok     '} {name:<22} {value:9.2f} {unit:<4}{limit}  {note}", flush=True)

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        sound, text, seconds = long_chapter(folder, chosen.minutes)
        print(f"a chapter of {seconds / 60:.1f} minutes", flush=True)
        if chosen.only in ("", "measure"):
            _, peak, v = in_own_process(MEASURE, str(sound))
            tell(
                "measure_speed",
                v["audio"] / v["seconds"],
                "x",
                f"bare reading of the same file {v['yardstick']:.0f} x, memory {peak:.0f} MB",
            )
        if chosen.only in ("", "master"):
            for suffix in (".wav", ".mp3"):
                _, peak, v = in_own_process(MASTER, str(sound), str(folder / f"out{suffix}"), str(DEMO / "chapter-2.flac"))
                tell(f"master_speed_{suffix[1:]}", v["audio"] / v["seconds"], "x", "with its independent check")
                tell(f"master_memory_{suffix[1:]}", peak, "MB", "")
        if chosen.only in ("", "proof"):
            _, peak, v = in_own_process(PROOF, str(sound), str(text))
            bare = f"the bare first ear in 30 s windows {v['yardstick']:.1f} x"
            tell("proof_speed", v["audio"] / v["seconds"], "x", f"{bare}; {v['findings']:.0f} findings")
            tell("proof_quick", v["audio"] / v["quick"], "x", f"the first ear's pass; {bare}")
            tell("proof_first", v["first"], "s", "from the call to the first findings, ears loaded in it")
            tell(
                "proof_memory", peak, "MB", f"of all its processes, what they share counted once; {v['own']:.0f} MB of it its own"
            )
        if chosen.only in ("", "heartbeat"):
            _, _, v = in_own_process((ROOT / "benchmarks" / "heartbeat.py").read_text(), str(sound), str(text))
            note = f"99th percentile {v['p99_ms']:.1f} ms of {v['beats']:.0f} beats, {v['words']:.0f} words, {v['findings']:.0f} findings"
            tell(
                "heartbeat_worst",
                v["worst_ms"],
                "ms",
                f"{note}; a bare process beside it {v['bare_ms']:.1f} ms, the same window idle {v['idle_ms']:.1f} ms",
            )
        if chosen.only in ("", "scroll"):
            for hours in (1, 2):
                _, _, v = in_own_process(SCROLL, str(hours))
                tell(
                    f"scroll_median_{hours}h",
                    v["median_ms"],
                    "ms",
                    f"worst {v['worst_ms']:.1f}, {v['parted']:.0f} of 200 left lines to the next; at 60 frames a second {v['paced_ms']:.1f}, worst {v['paced_worst_ms']:.1f}, {v['left']:.0f} left lines; jump {v['jump_ms']:.1f}, layout {v['layout_ms']:.0f} ms of {v['words']:.0f} words; filling a blank frame {v['yardstick_ms']:.2f} ms",
                )
                tell(f"scroll_worst_{hours}h", v["worst_ms"], "ms", "")
        if chosen.only in ("", "step"):
            _, _, v = in_own_process(STEP)
            tell(
                "edit_step",
                v["median_ms"],
                "ms",
                f"99th percentile {v['p99_ms']:.1f} ms; opening a book of 1,000 steps {v['open_ms']:.0f} ms",
            )
        if chosen.only in ("", "lanes"):
            _, _, v = in_own_process(LANES)
            note = f"the slowest, {v['slowest']}; worst of all {v['command_worst_ms']:.1f}; adding the lengths of all pieces {v['bare_ms']:.2f} ms"
            tell("lanes_command", v["command_ms"], "ms", note)
            each = ", ".join(f"{kind} {ms:.1f}" for kind, ms in v["frames"].items())
            note = f"{each}; worst {v['frame_worst_ms']:.1f}; {v['lanes']} lanes; filling a blank frame {v['blank_ms']:.2f} ms"
            tell("loupe_frame", v["frame_ms"], "ms", note)
        if chosen.only in ("", "growth"):
            v = told_by("growth.py")
            for size, row in v.items():
                yard = row.pop("yardstick")
                count, _, what = size.partition(" ")
                for act, taken in row.items():
                    note = f"{taken / yard:.1f} times one pass that makes each piece anew ({yard:.0f} ms)"
                    tell(f"growth_{what}_{int(count) // 1000}k_{act.replace(' ', '_')}", taken, "ms", note)
        if chosen.only in ("", "desk"):
            v = told_by("desk.py")
            each = ", ".join(f"{act.partition('.')[2]} {ms:.0f}" for act, ms in v["steps"].items())
            note = f"{each}; worst {v['step_worst_ms']:.0f}; painting anew without a change {v['repaint_ms']:.1f} ms"
            tell("desk_painted", v["step_painted_ms"], "ms", note)
            note = f"worst of 25 {v['first_sound_worst_ms']:.0f}; rendering a block bare {v['block_ms']:.1f} ms"
            tell("first_sound", v["first_sound_ms"], "ms", note)
            tell("doubt_sound", v["doubt_ms"], "ms", f"a doubt settled and the next heard; worst of 40 {v['doubt_worst_ms']:.0f}")
        if chosen.only in ("", "strokes"):
            v = told_by("strokes.py")
            each = ", ".join(f"{act} {ms:.0f}" for act, ms in v["middle_ms"].items())
            note = f"{each}; rendering a block bare {v['block_ms']:.1f} ms"
            tell("stroke_sound", v["slowest_ms"], "ms", note)
        if chosen.only in ("", "planning"):
            v = told_by("planning.py")
            note = f"a line of {v['seconds']} s, a word of it to be replaced; all of it {v['planned_whole_ms']:.0f}; spectra of both sounds {v['bare_ms']:.0f} ms"
            tell("splice_planned", v["planned_ms"], "ms", note)
            note = f"the window held at most {v['held_worst_ms']:.0f} ms at a time; all of it {v['shown_whole_ms']:.0f}"
            tell("splice_shown", v["shown_ms"], "ms", note)
            tell("splice_put_in", v["put_in_ms"], "ms", f"painting the desk anew {v['repaint_ms']:.0f} ms")
        if chosen.only == "splice":  # an hour and more
            v = told_by("splice/run.py", "--part", "all")
            each = ", ".join(f"{name} {share:.3f}" for name, share in v["shares"].items() if name not in {"all", "cases"})
            tell("splice_all_limits", v["shares"]["all"], "", f"of {v['shares']['cases']:.0f} cases; {each}")
            for kind, sets in v["auc"].items():
                for features in ("minded", "unminded"):
                    areas = {k: a for k, a in sets[features].items() if k != "shuffled"}
                    note = ", ".join(f"{k} {a:.2f}" for k, a in sets[features].items())
                    tell(f"splice_found_{kind}_{features}", max(areas.values()), "", note)
        if chosen.only == "sorting":  # half an hour
            v = told_by("splice/sorting.py")
            tell("sorting_right", v["takes at their line"], "", f"of {v['takes']} takes of {v['lines']} lines")
            tell("sorting_best", v["best as in the truth"], "", "")
            tell("sorting_invented", v["invented"], "", "")
            tell("sorting_speed", v["times real time"], "x", f"{v['audio_s'] / 60:.0f} minutes")
        if chosen.only in ("", "cuts"):
            v = told_by("cuts.py")
            note = "; ".join(f"{kind} {area:.2f}" for kind, area in v["auc"].items() if kind != "close up")
            tell("cut_heard", v["auc"]["close up"], "", note)
        if chosen.only in ("", "intake"):
            _, peak, v = in_own_process(INTAKE, str(chosen.minutes / 30))
            note = f"2 channels at 96 kHz, copied, verified, measured; bare reading {v['yardstick']:.0f} x"
            tell("intake_speed", v["audio"] / v["seconds"], "x", note)
            tell("intake_memory", peak, "MB", f"{v['audio'] / 3600:.1f} hours")
        if chosen.only in ("", "scale"):
            for hours in (1, 5, 20):
                _, peak, v = in_own_process(SCALE, str(hours))
                size = f"{v['words']:.0f} words, {v['findings']:.0f} findings, {v['steps']:.0f} steps, {v['database_mb']:.1f} MB"
                tell(f"book_open_{hours}h", v["open_ms"], "ms", f"{size}; memory of the window {peak:.0f} MB")
                tell(f"book_window_{hours}h", v["window_ms"], "ms", "from the call to the painted page")
                tell(
                    f"book_step_disk_{hours}h",
                    v["disk_ms"],
                    "ms",
                    f"99th percentile {v['disk_p99_ms']:.1f}; a bare row in SQLite {v['yardstick_ms']:.2f} ms",
                )
                tell(
                    f"book_step_shown_{hours}h",
                    v["shown_ms"],
                    "ms",
                    f"written and painted, cuts and decisions by turns; 95th percentile {v['shown_p95_ms']:.1f}",
                )
                tell(f"book_step_cut_{hours}h", v["shown_cut_ms"], "ms", f"the cuts alone; a decision {v['shown_decide_ms']:.1f}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
