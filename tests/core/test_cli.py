"""The headless twins as a user calls them: exit codes, JSON shapes, one clear line for bad input."""

from __future__ import annotations

import itertools
import json
import os
import shutil
import signal
import subprocess
import sys
import time

import numpy as np
import pytest
import soundfile
from support.sounds import speech_like

from faithful_reel.core.book.commands import EDITION, EditReel, NoteName
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import HEARD, BookStore
from faithful_reel.core.collate.findings import READING, SHOWN
from faithful_reel.core.reel.commands import CutAndClose


def call(*args, folder=None):
    """Run `faithful-reel` in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "faithful_reel", *map(str, args)], capture_output=True, text=True, cwd=folder, check=False
    )
    return done.returncode, done.stdout, done.stderr


def files_in(folder):
    return sorted(p.name for p in folder.iterdir())


@pytest.mark.slow
def test_proof_gives_the_documented_shape(demo, proofs, heard_file):
    call_ = "proof", "--audio", demo / "chapter-2.flac", "--script", demo / "chapter-2.txt", "--json", "--heard", heard_file
    code, out, err = call(*call_)
    assert (code, err) == (0, "")
    result = json.loads(out)
    assert set(result) == {"findings", "words", "audio_seconds"}
    assert result["words"] == len((demo / "chapter-2.txt").read_text().split())
    assert result["audio_seconds"] == pytest.approx(soundfile.info(str(demo / "chapter-2.flac")).duration, abs=0.01)
    for f in result["findings"]:
        assert set(f) == {"kind", "written", "heard", "start", "end", "confidence", "word_index", "word_count", "flaw", "note"}
        assert 0 <= f["start"] <= f["end"] <= result["audio_seconds"]
        assert f["confidence"] >= (SHOWN if f["kind"] in READING else 0.5)  # what the window does not fold away
    tokens = (demo / "chapter-2.txt").read_text().split()
    for f in (f for f in result["findings"] if f["kind"] in ("misread", "skipped")):
        assert " ".join(tokens[f["word_index"] : f["word_index"] + f["word_count"]]) == f["written"]


@pytest.mark.slow
def test_a_whole_book_is_heard_and_afterwards_only_what_was_changed(demo_book, proofs, heard_file, tmp_path):
    book = tmp_path / "b.reelbook"
    shutil.copytree(demo_book, book)
    shutil.copyfile(heard_file, book / HEARD)
    code, out, err = call("proof", book, "--json")
    assert (code, err) == (0, "")
    result = json.loads(out)
    assert [row["problem"] for row in result["chapters"]] == [""] * 3
    with BookStore(book) as store:
        session = Session(store)
        chapters = session.book.chapters
        assert [c.title for c in chapters if c.hearing] == [row["chapter"] for row in result["chapters"]]
        assert all(row["findings"] > 5 for row in result["chapters"])
        first = chapters[0]
        session.do(EditReel(first.id, CutAndClose(20 * 44_100, 21 * 44_100), (), EDITION))
    code, out, _ = call("proof", book)
    assert code == 0
    assert out.startswith(first.title)
    assert len(out.splitlines()) == 1  # the others were not touched
    with BookStore(book) as store:
        again = Session(store).book.chapters[0]
        assert again.hearing == first.hearing
        assert any(f.id.startswith("e") for f in again.findings)
    code, out, _ = call("proof", book)
    assert (code, out) == (0, "Every chapter that has a recording is heard already.\n")


@pytest.mark.slow
def test_align_gives_one_entry_for_every_token(demo, proofs, heard_file):
    call_ = "align", "--audio", demo / "chapter-3.flac", "--script", demo / "chapter-3.txt", "--json", "--heard", heard_file
    code, out, _ = call(*call_)
    words = json.loads(out)["words"]
    tokens = (demo / "chapter-3.txt").read_text().split()
    assert code == 0
    assert [w["text"] for w in words] == tokens
    skipped = [w for w in words if w["start"] is None]
    assert {w["text"] for w in skipped} >= {"at", "all"}
    spoken = [w for w in words if w["start"] is not None]
    assert all(a["start"] < b["start"] + 0.05 for a, b in itertools.pairwise(spoken))
    assert all(w["end"] > w["start"] for w in spoken)


@pytest.mark.slow
def test_splice_changes_only_what_it_says(demo, tmp_path, proofs, heard_file):
    out_file = tmp_path / "out.wav"
    code, out, err = call(
        "splice", "--audio", demo / "chapter-1.flac", "--script", demo / "chapter-1.txt", "--pickup", demo / "pickups-1.flac",
        "--line", "By nine o’clock the whole town had come down to look.", "--out", out_file, "--json", "--heard", heard_file,
    )  # fmt: skip
    assert code == 0, err
    result = json.loads(out)
    assert {"join_in", "join_out", "seam", "replaced", "taken", "crossfades", "matched"} <= set(result)
    before, rate = soundfile.read(demo / "chapter-1.flac")
    after, rate_after = soundfile.read(out_file)
    assert rate == rate_after
    start, stop = (round(t * rate) for t in result["replaced"])
    reach = round(max(result["crossfades"]) * rate) + 10
    assert reach < 0.25 * rate
    assert np.allclose(before[: start - reach], after[: start - reach], atol=1e-6)
    tail = len(before) - stop - reach
    assert np.allclose(before[-tail:], after[-tail:], atol=1e-6)
    assert len(after) - len(before) == pytest.approx((result["join_out"] - result["replaced"][1]) * rate, abs=10)
    # the misreading stood at 41.5 s
    assert result["replaced"][0] < 41.52 < result["replaced"][1]
    for side in ("in", "out"):
        seam = result["seam"][side]
        assert seam["kind"] == "pause"
        assert seam["word"] in ("unnoticeable", "listen")
        assert seam["click"] < 3


@pytest.mark.slow
@pytest.mark.parametrize("suffix", [".mp3", ".flac"])
def test_master_and_check_pass_the_retail_profile_on_the_demo(demo, tmp_path, suffix):
    made = []
    for number in (1, 2, 3):
        out_file = tmp_path / f"{number}{suffix}"
        code, out, err = call("master", demo / f"chapter-{number}.flac", "--profile", "retail", "--out", out_file, "--json")
        assert code == 0, err
        entry = json.loads(out)["files"][0]
        assert entry["pass"] is True
        assert entry["before"]["head_s"] > 9
        made.append(out_file)
    code, out, _ = call("check", *made, "--profile", "retail", "--json")
    assert code == 0
    for entry in json.loads(out)["files"]:
        wanted = {
            "rms_db",
            "peak_db",
            "true_peak_db",
            "lufs",
            "noise_floor_db",
            "head_s",
            "tail_s",
            "seconds",
            "rate",
            "channels",
            "codec",
            "bit_rate",
            "cbr",
            "pause_floor_db",
            "dead_s",
            "dead_channels",
            "odd_channels",
            "channels_fit",
            "range_lu",
        }
        assert set(entry["figures"]) == wanted
        assert all(set(v) == {"rule", "limit", "value", "pass"} for v in entry["verdicts"])
    assert files_in(tmp_path) == sorted(p.name for p in made)


def test_check_of_a_raw_file_fails_with_1(demo):
    code, out, _ = call("check", demo / "chapter-1.flac", "--profile", "retail", "--json")
    assert code == 1
    entry = json.loads(out)["files"][0]
    assert entry["pass"] is False
    assert {v["rule"] for v in entry["verdicts"] if not v["pass"]} >= {"rms", "peak", "head"}


def bad_files(folder, demo):
    soundfile.write(folder / "silence.wav", np.zeros(44_100 * 3), 44_100)
    soundfile.write(folder / "zero.wav", np.zeros(0), 44_100)
    soundfile.write(folder / "eight.wav", np.stack([speech_like(seconds=4, rate=8000)] * 2, axis=1), 8000)
    soundfile.write(folder / "good.wav", speech_like(seconds=4), 44_100)
    (folder / "cut.flac").write_bytes((demo / "chapter-1.flac").read_bytes()[:700_000])
    (folder / "text.docx").write_text("only text, called a document")
    (folder / "empty.txt").write_text("")
    (folder / "good.txt").write_text("Some words to read aloud.")


BAD = [
    ("proof", "--json"),
    ("proof", "--audio", "good.wav"),
    ("proof", "missing.reelbook"),
    ("proof", "good.txt"),
    ("proof", "missing.reelbook", "--least", "0.5"),
    ("proof", "missing.reelbook", "--audio", "good.wav", "--script", "good.txt"),
    ("proof", "--audio", "missing.wav", "--script", "good.txt"),
    ("proof", "--audio", "good.wav", "--script", "missing.txt"),
    ("proof", "--audio", "cut.flac", "--script", "good.txt"),
    ("proof", "--audio", "good.wav", "--script", "text.docx"),
    ("proof", "--audio", "good.wav", "--script", "empty.txt"),
    ("proof", "--audio", "silence.wav", "--script", "good.txt"),
    ("proof", "--audio", "zero.wav", "--script", "good.txt"),
    ("proof", "--audio", "eight.wav", "--script", "good.txt"),
    ("align", "--audio", "eight.wav", "--script", "good.txt"),
    ("splice", "--audio", "eight.wav", "--script", "good.txt", "--pickup", "good.wav", "--line", "Some words", "--out", "out.wav"),
    ("align", "--audio", "text.docx", "--script", "good.txt"),
    ("align", "--audio", "silence.wav", "--script", "good.txt"),
    ("splice", "--audio", "good.wav", "--script", "good.txt", "--pickup", "missing.wav", "--line", "Some words", "--out", "out.wav"),
    ("splice", "--audio", "good.wav", "--script", "good.txt", "--pickup", "good.wav", "--line", "nothing like it at all", "--out", "out.wav"),
    ("master", "missing.wav", "--profile", "retail", "--out", "out.wav"),
    ("master", "cut.flac", "--profile", "retail", "--out", "out.wav"),
    ("master", "silence.wav", "--profile", "retail", "--out", "out.mp3"),
    ("master", "zero.wav", "--profile", "retail", "--out", "out.mp3"),
    ("master", "eight.wav", "--profile", "retail", "--out", "out.mp3"),
    ("master", "text.docx", "--profile", "retail", "--out", "out.mp3"),
    ("master", "good.wav", "--profile", "nothing", "--out", "out.mp3"),
    ("master", "good.wav", "--profile", "retail", "--out", "out.xyz"),
    ("master", "good.wav", "--profile", "retail", "--out", "no/such/folder/out.wav"),
    ("check", "missing.mp3", "--profile", "retail"),
    ("check", "zero.wav", "--profile", "retail"),
    ("check", "text.docx", "--profile", "retail"),
    ("check", "cut.flac", "--profile", "retail"),
]  # fmt: skip


@pytest.fixture(scope="module")
def bad_folder(tmp_path_factory, demo):
    folder = tmp_path_factory.mktemp("bad")
    bad_files(folder, demo)
    return folder


@pytest.mark.parametrize("args", BAD, ids=lambda a: " ".join(a[:4]))
def test_bad_input_is_one_line_and_exit_2_and_nothing_left_behind(bad_folder, args):
    before = files_in(bad_folder)
    code, out, err = call(*args, "--json", folder=bad_folder)
    assert code == 2
    assert out == ""
    assert len(err.strip().splitlines()) == 1
    assert "Traceback" not in err
    assert err.startswith("faithful-reel: ")
    assert files_in(bad_folder) == before


def test_without_weights_the_rest_still_works(bad_folder, monkeypatch):
    monkeypatch.setenv("FAITHFUL_REEL_EAR", str(bad_folder))
    code, _, err = call("proof", "--audio", "good.wav", "--script", "good.txt", "--json", folder=bad_folder)
    assert code == 2
    assert "model.bin" in err
    assert call("check", "good.wav", "--profile", "retail", "--json", folder=bad_folder)[0] == 1


def test_a_folder_that_can_not_be_written_is_told(bad_folder, tmp_path):
    if os.geteuid() == 0:
        locked = "/proc/nowhere.wav"
    else:
        tmp_path.chmod(0o500)
        locked = str(tmp_path / "out.wav")
    code, out, err = call("master", "good.wav", "--profile", "retail", "--out", locked, folder=bad_folder)
    assert (code, out) == (2, "")
    assert len(err.strip().splitlines()) == 1


def test_help_and_version():
    assert call("--version")[1].startswith("faithful-reel ")
    code, out, _ = call("--help")
    assert code == 0
    assert all(word in out for word in ("proof", "align", "splice", "master", "check", "demo"))


def test_plain_output_is_for_people(demo):
    code, out, _ = call("check", demo / "chapter-1.flac", "--profile", "retail")
    assert code == 1
    assert "FAIL  rms" in out


# --- intake and books ---------------------------------------------------------------------------------------------


def test_intake_prints_the_health_line(demo, tmp_path):
    x = speech_like(seconds=8)
    x[100_000:100_012] = 1.0
    soundfile.write(tmp_path / "clipped.wav", x, 44_100)
    code, out, err = call("intake", demo / "chapter-2.flac", tmp_path / "clipped.wav", "--json")
    assert (code, err) == (1, "")  # one of them misses a limit
    clean, clipped = json.loads(out)["recordings"]
    assert set(clean) == {
        "path", "codec", "rate", "depth", "channels", "odd_channels", "seconds", "peak_db", "rms_db", "noise_floor_db", "clipped_samples",
        "clipped_at", "dc", "hum_hz", "hum_db", "room_tone", "room_tone_seconds", "speech_share", "finished_seconds", "missed",
        "sound",
    }  # fmt: skip
    assert clean["sound"]
    assert (clean["rate"], clean["channels"], clean["depth"]) == (44_100, 1, "16-bit")
    assert clean["hum_hz"] == pytest.approx(50, abs=0.5)  # as the demo book's room was made
    assert clean["room_tone"]["end"] > clean["room_tone"]["start"]
    assert not clipped["sound"]
    assert clipped["clipped_samples"] == 12
    assert clipped["clipped_at"] == [pytest.approx(100_000 / 44_100, abs=1e-3)]


def test_intake_goes_on_after_a_file_that_can_not_be_read(demo, tmp_path):
    (tmp_path / "bad.wav").write_bytes(b"nothing")
    code, out, err = call("intake", tmp_path / "bad.wav", demo / "chapter-2.flac", "--json")
    assert code == 2
    bad, good = json.loads(out)["recordings"]
    assert set(bad) == {"path", "problem"}
    assert good["sound"]
    assert err.count("\n") == 1
    assert "bad.wav" in err
    code, out, _ = call("intake", demo / "chapter-2.flac")
    assert code == 0
    assert out.startswith("chapter-2.flac: 0:01:2")


def test_a_book_is_made_archived_unpacked_and_verified(demo, tmp_path):
    manuscript, one, three = demo / "manuscript.docx", demo / "chapter-1.flac", demo / "chapter-3.flac"
    code, out, err = call(
        "new", "Tide", "--manuscript", manuscript, "--recording", one, "--recording", three, "--narrator", "N", folder=tmp_path
    )
    assert (code, err) == (0, "")
    book = tmp_path / "Tide.reelbook"
    assert out.strip().endswith("Tide.reelbook")
    code, out, _ = call("verify", book, "--json")
    assert code == 0
    assert json.loads(out) == {"steps": 6, "recordings": 2, "problems": [], "faults": [], "sound": True}
    code, out, _ = call("archive", book)
    assert code == 0
    assert (tmp_path / "Tide.reelarchive").is_file()
    code, _, _ = call("unpack", tmp_path / "Tide.reelarchive", "--out", tmp_path / "Again.reelbook")
    assert code == 0
    assert call("verify", tmp_path / "Again.reelbook")[:2] == (0, "Again.reelbook: 6 steps, 2 recordings, whole\n")
    lost = min((book / "recordings").iterdir())
    lost.unlink()
    code, out, _ = call("verify", book, "--json")
    assert code == 1
    assert [f["fault"] for f in json.loads(out)["faults"]] == ["missing"]


def test_a_copy_is_compared_and_a_list_is_placed(demo, tmp_path):
    call("new", "Tide", "--manuscript", demo / "manuscript.docx", "--recording", demo / "chapter-1.flac", folder=tmp_path)
    book, copy = tmp_path / "Tide.reelbook", tmp_path / "Copy.reelbook"
    call("archive", book)
    call("unpack", tmp_path / "Tide.reelarchive", "--out", copy)
    assert call("compare", book, tmp_path / "Tide.reelarchive", "--json")[0] == 0
    with BookStore(copy) as store:
        Session(store).do(NoteName("Nell", "nel"))
    call("archive", copy)
    before = (book / "book.sqlite").read_bytes()
    code, out, _ = call("compare", book, tmp_path / "Copy.reelarchive", "--json")
    assert code == 1
    [row] = json.loads(out)["differences"]
    assert (row["what"], row["there"], row["clash"]) == ("names", "nel", False)
    assert call("compare", book, tmp_path / "Copy.reelarchive")[1] == "book: names: how “Nell” is said: - -> nel\n"
    (tmp_path / "list.csv").write_text("chapter,as written,as heard\n1,green bottles,great bottles\n", encoding="utf-8")
    code, out, _ = call("findings", book, tmp_path / "list.csv", "--json")
    assert code == 1  # the chapter was not heard yet
    [line] = json.loads(out)["lines"]
    assert (line["line"], line["kind"], line["sure"], line["places"]) == (2, "misread", False, [])
    assert "not heard yet" in call("findings", book, tmp_path / "list.csv")[1]
    assert (book / "book.sqlite").read_bytes() == before
    assert call("findings", book, tmp_path / "none.csv")[0] == 2
    assert call("compare", book, tmp_path / "list.csv")[0] == 2


def test_bad_calls_on_books_are_one_line_and_leave_nothing(demo, tmp_path):
    (tmp_path / "empty.docx").write_bytes(b"")
    (tmp_path / "no.reelarchive").write_bytes(b"nothing")
    before = files_in(tmp_path)
    for args in (
        ("new", tmp_path / "A", "--manuscript", tmp_path / "empty.docx"),
        ("new", tmp_path / "A", "--manuscript", tmp_path / "missing.epub"),
        ("verify", tmp_path),
        ("verify", tmp_path / "none.reelbook"),
        ("archive", tmp_path),
        ("unpack", tmp_path / "no.reelarchive"),
        ("unpack", tmp_path / "missing.reelarchive"),
        ("open", tmp_path / "none.reelbook"),
    ):
        code, out, err = call(*args)
        assert (code, out) == (2, ""), args
        assert err.startswith("faithful-reel: ")
        assert err.count("\n") == 1
    assert files_in(tmp_path) == before
    code, _, err = call(
        "new", tmp_path / "B", "--manuscript", demo / "manuscript.txt", "--recording", tmp_path / "no.reelarchive"
    )
    assert code == 1  # the book is made; the one recording was refused
    assert "no.reelarchive" in err


def test_rough_refuses_what_it_can_not_use_and_leaves_nothing(demo, tmp_path):
    soundfile.write(tmp_path / "silence.wav", np.zeros(44_100), 44_100)
    before = files_in(tmp_path)
    for audio, script in ((tmp_path / "none.wav", demo / "chapter-1.txt"), (tmp_path / "silence.wav", demo / "chapter-1.txt")):
        code, out, err = call("rough", "--audio", audio, "--script", script, "--out", tmp_path / "cut.wav", "--json")
        assert (code, out) == (2, "")
        assert err.count("\n") == 1
    assert files_in(tmp_path) == before


@pytest.mark.slow
@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT])
@pytest.mark.parametrize("after", [0.3, 1.3, 1.9, 2.5])
def test_a_signal_clears_away_what_was_begun_whatever_runs(demo, tmp_path, number, after):
    """Compiled code turns an exception that comes while it runs into another one: that is no traceback for the user."""
    process = subprocess.Popen(
        [sys.executable, "-m", "faithful_reel", "master", demo / "chapter-2.flac", "--out", tmp_path / "o.mp3"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    time.sleep(after)
    process.send_signal(number)
    _, err = process.communicate(timeout=60)
    assert "Traceback" not in err
    assert files_in(tmp_path) in ([], ["o.mp3"])
    assert process.returncode in (128 + number, 0, -number)  # the last where Python itself had not begun
    if process.returncode == 0:
        assert files_in(tmp_path) == ["o.mp3"]


# --- what is no file, and outputs that take nothing ---------------------------------------------------------------


@pytest.mark.parametrize("word", [("edit", "a.flac", "--do", "?", "--out", "o.wav"), ("booth", "?", "--out", "o.wav"),
                                  ("booth", "s.csv", "--takes", "?", "--out", "o.wav"),
                                  ("rough", "--audio", "a.flac", "--script", "s.txt", "--out", "o.wav", "--heard", "?"),
                                  ("master", "a.flac", "--profile", "./?", "--out", "o.wav"), ("check", "?"), ("unpack", "?"),
                                  ("proof", "--audio", "a.flac", "--script", "?")])  # fmt: skip
def test_a_pipe_or_a_device_is_told_and_not_waited_for(tmp_path, demo, word):
    shutil.copy(demo / "chapter-2.flac", tmp_path / "a.flac")
    (tmp_path / "s.csv").write_text("read this line\nx\n")
    (tmp_path / "s.txt").write_text("words")
    for name in ("pipe", "device", "folder/pipe"):
        path = tmp_path / name
        path.parent.mkdir(exist_ok=True)
        os.mkfifo(path) if name != "device" else path.symlink_to("/dev/zero")
        if name == "folder/pipe":
            path.rename(path.with_name("booth.json"))
            path = path.parent
        args = [a.replace("?", str(path.relative_to(tmp_path))) for a in word]
        done = subprocess.run(
            [sys.executable, "-m", "faithful_reel", *args], cwd=tmp_path, capture_output=True, text=True, timeout=60, check=False
        )
        assert (done.returncode, done.stderr.count("\n"), done.stderr[:15]) == (2, 1, "faithful-reel: "), done.stderr
        assert not (tmp_path / "o.wav").exists()


@pytest.mark.parametrize(
    ("how", "code", "told"),
    [(">&-", 2, "it is closed"), (">/dev/full", 2, "No space left"), ("| true; exit ${PIPESTATUS[0]}", 2, "Broken pipe"), ("2>&-", 1, ""),
     (">/dev/null", 1, "")],
)  # fmt: skip
def test_an_output_that_takes_nothing_is_no_failed_check(tmp_path, demo, how, code, told):
    word = f"{sys.executable} -m faithful_reel check {demo / 'chapter-2.flac'} --json {how}"
    done = subprocess.run(["bash", "-c", word], cwd=tmp_path, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == code
    assert told in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize("encoding", ["ascii", "latin-1", "utf-8"])
def test_a_terminal_of_any_encoding_is_told_everything(tmp_path, demo, encoding):
    name = "ü“日.flac"
    shutil.copy(demo / "chapter-2.flac", tmp_path / name)
    word = [sys.executable, "-m", "faithful_reel", "check", name]
    done = subprocess.run(word, cwd=tmp_path, capture_output=True, env=os.environ | {"PYTHONIOENCODING": encoding}, check=False)
    assert (done.returncode, done.stderr) == (1, b"")
    assert name.encode(encoding, "backslashreplace") in done.stdout


@pytest.mark.parametrize("channels", [1, 2])
def test_values_that_are_no_numbers_go_into_no_file(tmp_path, channels):
    x = np.tile(speech_like(seconds=3)[:, None], (1, channels))
    x[60_000, -1] = np.nan
    soundfile.write(tmp_path / "a.wav", x, 44_100, subtype="FLOAT")
    (tmp_path / "s.json").write_text('[{"kind": "split", "at": 1000}]')
    for word in (("intake", "a.wav"), ("check", "a.wav"), ("edit", "a.wav", "--do", "s.json", "--out", "o.wav"),
                 ("master", "a.wav", "--out", "o.wav"), ("new", "b.reelbook", "--recording", "a.wav")):  # fmt: skip
        code, _, err = call(*(tmp_path / w if w in ("a.wav", "s.json", "o.wav", "b.reelbook") else w for w in word))
        assert code == (1 if word[0] == "new" else 2)
        assert "not numbers" in err
        assert "Traceback" not in err
    assert not (tmp_path / "o.wav").exists()
