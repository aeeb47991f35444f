"""Every call that README, manual page and menu entry tell of, each in a process of its own: a window is seen, then ended."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from faithful_reel.app.doorbell import ring
from faithful_reel.core.book.keeping import archived, verified

ROOT = Path(__file__).resolve().parents[2]
PROGRAM = [sys.executable, "-m", "faithful_reel"]
ENTRY = ROOT / "src/faithful_reel/assets/desktop/org.faithfulreel.FaithfulReel.desktop"
LONGEST_S = 90.0


def until(found, process):
    """Wait for something; a program that ends before it comes fails with what it said."""
    deadline = time.monotonic() + LONGEST_S
    while not found():
        assert process.poll() is None, f"ended with {process.returncode}: {process.stderr.read()}"
        assert time.monotonic() < deadline, "nothing is seen"
        time.sleep(0.05)


@pytest.fixture(scope="module")
def display(tmp_path_factory):
    """A virtual display of our own."""
    reading, writing = os.pipe()
    command = ["Xvfb", "-displayfd", str(writing), "-screen", "0", "1280x800x24", "-nolisten", "tcp", "-noreset"]
    server = subprocess.Popen(command, pass_fds=[writing], stderr=subprocess.DEVNULL)
    os.close(writing)
    with os.fdopen(reading) as told:
        number = told.readline().strip()
    yield f":{number}"
    server.terminate()
    server.wait()


def titles(display):
    """The titles of the windows that are mapped on a display, as xwininfo tells them."""
    tree = subprocess.run(["xwininfo", "-display", display, "-root", "-tree"], capture_output=True, text=True, check=True).stdout
    found = []
    for name, title in re.findall(r'(0x[0-9a-f]+) "(.*?)": \(', tree):
        told = subprocess.run(["xwininfo", "-display", display, "-id", name], capture_output=True, text=True, check=False).stdout
        if "IsViewable" in told:
            found.append(title)
    return found


@contextlib.contextmanager
def started(call, folder, display="", **more):
    """A program that is running, and ended afterwards by SIGTERM: with 0, and with nothing on standard error but notes."""
    home = folder / "home"
    home.mkdir(exist_ok=True)
    environment = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    environment |= {
        "HOME": str(home), "XDG_CONFIG_HOME": str(home), "XDG_DATA_HOME": str(home), "FAITHFUL_REEL_VENV": sys.prefix,
        **({"DISPLAY": display, "QT_QPA_PLATFORM": "xcb"} if display else {"QT_QPA_PLATFORM": "offscreen"}), **more,
    }  # fmt: skip
    with subprocess.Popen(call, cwd=folder, env=environment, stderr=subprocess.PIPE, text=True) as process:
        try:
            yield process
            process.send_signal(signal.SIGTERM)
            said = process.communicate(timeout=60)[1]
            assert process.returncode == 0, said
            assert "Traceback" not in said
            assert "QApplication" not in said
        finally:
            process.kill()


def menu_calls():
    """What the menu entry starts, with the program in the place of its name."""
    lines = re.findall(r"^Exec=faithful-reel (.*)$", ENTRY.read_text(), re.MULTILINE)
    assert len(lines) == 2
    return [line.split() for line in lines]


OPEN, DEMO = menu_calls()
STARTS = {
    "without a word": (PROGRAM, "Faithful Reel"),
    "open without a book": ([*PROGRAM, "open"], "Faithful Reel"),
    "open a book": ([*PROGRAM, "open", "my.reelbook"], "Tide Clerk"),
    "open a book's database": ([*PROGRAM, "open", "my.reelbook/book.sqlite"], "Tide Clerk"),
    "open an archive": ([*PROGRAM, "open", "my.reelarchive"], "Unpack the book as"),
    "the menu entry with a book": ([*PROGRAM, *(w.replace("%f", "my.reelbook") for w in OPEN)], "Tide Clerk"),
    "the menu entry without": ([*PROGRAM, *(w for w in OPEN if w != "%f")], "Faithful Reel"),
    "the menu entry's demo": ([*PROGRAM, *DEMO], "Tide Clerk"),
    "demo": ([*PROGRAM, "demo", "--folder", "other.reelbook"], "Tide Clerk"),
    "the script, open": ([str(ROOT / "reel"), "open", "my.reelbook"], "Tide Clerk"),
    "the script, demo": ([str(ROOT / "reel"), "demo"], "Tide Clerk"),
}


@pytest.fixture
def folder(tmp_path, demo_book):
    """Where somebody stands who starts the program: a book and its archive beside it."""
    shutil.copytree(demo_book, tmp_path / "my.reelbook")
    archived(tmp_path / "my.reelbook", tmp_path / "my.reelarchive")
    return tmp_path


@pytest.mark.slow
@pytest.mark.parametrize("start", STARTS)
def test_a_window_is_seen(start, folder, display):
    call, title = STARTS[start]
    with started(call, folder, display) as process:
        until(lambda: any(title in t for t in titles(display)), process)
    assert not titles(display)


@pytest.mark.slow
@pytest.mark.parametrize("start", ["open a book", "the menu entry with a book", "the script, open"])
def test_off_screen_it_answers_too(start, folder):
    with started(STARTS[start][0], folder) as process:
        until(lambda: ring(folder / "my.reelbook"), process)


@pytest.mark.slow
def test_a_second_start_brings_the_window_forward(folder, display):
    book = folder / "my.reelbook"
    with started([*PROGRAM, "open", "my.reelbook"], folder, display) as process:
        until(lambda: ring(book), process)
        (folder / "link.reelbook").symlink_to(book)
        for path in ("my.reelbook", "link.reelbook", "my.reelbook/book.sqlite"):
            environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
            second = subprocess.run(
                [*PROGRAM, "open", path], cwd=folder, env=environment, capture_output=True, text=True, check=False, timeout=60
            )
            assert (second.returncode, "its window comes forward" in second.stderr) == (0, True), second.stderr
        assert process.poll() is None
    assert not ring(book)


@pytest.mark.slow
def test_who_was_started_from_a_menu_reads_what_is_wrong_in_a_box(folder, display):
    call = [*PROGRAM, "open", "--no-terminal", "nothing.reelbook"]
    environment = os.environ | {"DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "HOME": str(folder)}
    process = subprocess.Popen(call, cwd=folder, env=environment, stderr=subprocess.PIPE, text=True)
    until(lambda: "Faithful Reel" in titles(display), process)
    process.terminate()
    assert "The book nothing.reelbook is not there." in process.communicate(timeout=60)[1]
    assert process.returncode == 2


@pytest.mark.slow
def test_the_script_works_in_the_folder_it_is_called_in(folder, demo):
    shutil.copyfile(demo / "chapter-1.flac", folder / "raw.flac")
    call = [str(ROOT / "reel"), "master", "raw.flac", "--profile", "retail", "--out", "done.wav", "--json"]
    environment = os.environ | {"FAITHFUL_REEL_VENV": sys.prefix}
    done = subprocess.run(call, cwd=folder, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert (folder / "done.wav").is_file()
    assert not (ROOT / "done.wav").exists()


@pytest.mark.slow
def test_three_starts_on_a_demo_that_is_not_there_yet_make_one_book_and_one_window(tmp_path):
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen", "HOME": str(tmp_path), "XDG_CONFIG_HOME": str(tmp_path)}
    call = [*PROGRAM, "demo", "--folder", "d.reelbook"]
    with contextlib.ExitStack() as stack:
        running = [
            stack.enter_context(subprocess.Popen(call, cwd=tmp_path, env=environment, stderr=subprocess.PIPE, text=True))
            for _ in range(3)
        ]
        try:
            deadline = time.monotonic() + LONGEST_S
            while sum(p.poll() is None for p in running) > 1 and time.monotonic() < deadline:
                time.sleep(0.1)
            others = [p for p in running if p.poll() is not None]
            assert [p.returncode for p in others] == [0, 0], [p.stderr.read() for p in others]
            assert all("its window comes forward" in p.stderr.read() for p in others)
            assert ring(tmp_path / "d.reelbook")
        finally:
            for process in running:
                process.send_signal(signal.SIGTERM)
    assert not list(tmp_path.glob(".*.part"))
    assert verified(tmp_path / "d.reelbook").sound
