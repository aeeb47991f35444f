"""The real sound device: a private sound server with a null sink, whose monitor is recorded."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time

import numpy as np
import pytest
from support.sounds import sine

from faithful_reel.app.sound import DeviceCard, Player
from faithful_reel.app.wiring import sound_card

RATE = 44_100
needs_server = pytest.mark.skipif(
    not (shutil.which("pulseaudio") and shutil.which("parec")), reason="pulseaudio and pulseaudio-utils are not installed"
)


@pytest.fixture
def server(tmp_path, monkeypatch):
    """A sound server of our own; the child that owns the device finds it by its environment."""
    socket = tmp_path / "sock"
    monkeypatch.setenv("PULSE_SERVER", f"unix:{socket}")
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    monkeypatch.setenv("HOME", str(tmp_path))
    modules = ["module-null-sink sink_name=out rate=44100", f"module-native-protocol-unix socket={socket} auth-anonymous=1"]
    call = ["pulseaudio", "-n", "--daemonize=no", "--exit-idle-time=-1", *(f"--load={m}" for m in modules)]
    process = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    deadline = time.monotonic() + 10
    while subprocess.run(["pactl", "info"], capture_output=True, check=False).returncode and time.monotonic() < deadline:
        time.sleep(0.05)
    yield
    process.terminate()
    process.wait()


def heard_from(card, x, raw, qtbot):
    """Play `x` through the card and record the sink's monitor: what came out, without the quiet around it."""
    call = ["parec", "-d", "out.monitor", "--rate=44100", "--channels=1", "--format=float32le", "--raw"]
    with raw.open("wb") as file:
        recorder = subprocess.Popen(call, stdout=file, env=os.environ)
        qtbot.wait(500)
        player = Player(card)
        with qtbot.waitSignal(player.ended, timeout=10_000):
            player.play(lambda a, b: x[a:b], 0, len(x), RATE)
        qtbot.wait(500)
        recorder.terminate()
        recorder.wait()
    y = np.fromfile(raw, np.float32)
    loud = np.flatnonzero(np.abs(y) > 1e-3)
    return y[loud[0] : loud[-1]] if len(loud) else y[:0]


@needs_server
@pytest.mark.slow
def test_what_is_played_comes_out_whole_and_without_a_click(server, qtbot, tmp_path):
    card = DeviceCard(RATE)
    try:
        qtbot.waitUntil(lambda: card.state() != "waiting", timeout=15_000)
        assert card.state() == "ready"
        x = sine(440, seconds=2, db=-6)
        # a machine that stalls for longer than the ring holds breaks any sound: three tries
        for _ in range(3):
            y = heard_from(card, x, tmp_path / "heard.raw", qtbot)
            bend = np.abs(np.diff(y[2000:-2000], 2)).max(initial=0.0)
            if abs(len(y) / RATE - 2.0) < 0.02 and bend < 0.003:
                break
    finally:
        card.close()
    assert len(y) / RATE == pytest.approx(2.0, abs=0.02)
    assert 20 * np.log10(np.abs(y).max()) == pytest.approx(-6, abs=0.1)
    # the second difference of a sine of amplitude A is at most A w^2: a gap or a doubled sample would exceed it
    assert bend < 1.3 * 10 ** (-6 / 20) * (2 * np.pi * 440 / RATE) ** 2


@pytest.mark.slow
def test_without_any_device_the_simulated_card_steps_in(qtbot, monkeypatch, tmp_path):
    monkeypatch.setenv("PULSE_SERVER", f"unix:{tmp_path / 'nobody'}")
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    card = sound_card(RATE)
    try:
        assert card.simulated
    finally:
        card.close()


ORPHAN = """
import ctypes, os, signal, subprocess, sys, time
ctypes.CDLL(None).prctl(36, 1, 0, 0, 0)  # PR_SET_CHILD_SUBREAPER (Linux prctl(2)): orphans become ours, as in a desktop's session
child = "import os, sys; from PyQt6.QtCore import QCoreApplication; from faithful_reel.app.sound_process import run; print(os.getpid(), flush=True); run(QCoreApplication([]), int(sys.argv[1]))"
parent = "import os, subprocess, sys, time; subprocess.Popen([sys.executable, '-c', sys.argv[1], str(os.getpid())]); time.sleep(60)"
middle = subprocess.Popen([sys.executable, "-c", parent, child], stdout=subprocess.PIPE)
pid = int(middle.stdout.readline())
time.sleep(1.0)
with open(f"/proc/{pid}/stat") as told:
    print("dead" if told.read().split()[2] == "Z" else "alive")
middle.send_signal(signal.SIGKILL)
middle.wait()
for _ in range(100):
    time.sleep(0.1)
    if os.waitpid(pid, os.WNOHANG)[0] == pid:
        print("ended")
        break
"""


def test_a_sound_process_ends_with_its_window_also_where_a_session_adopts_orphans():
    done = subprocess.run([sys.executable, "-c", ORPHAN], capture_output=True, text=True, timeout=60, check=False)
    assert done.stdout.split() == ["alive", "ended"], done.stderr
