"""Loupe, meter, trio, themes, acts, crash handling, jobs, sound."""

from __future__ import annotations

import ast
import itertools
import sys
import threading
from functools import partial
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, QSettings, Qt
from PyQt6.QtGui import QColor, QPixmap
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget
from support.sounds import noise, speech_like

import faithful_reel
from faithful_reel.app import theme
from faithful_reel.app.actions import Act, Actions, Menu, meet
from faithful_reel.app.acts import every_act
from faithful_reel.app.crash import CrashHandler
from faithful_reel.app.jobs import Jobs
from faithful_reel.app.sound import Player
from faithful_reel.app.theme import CONTROLS, DAY, NIGHT, READING, THEMES, control_font, load_fonts, reading_font
from faithful_reel.app.widgets.loupe import Loupe, LoupeContent, LoupeLane
from faithful_reel.app.widgets.loupe.content import Spectrum
from faithful_reel.app.widgets.meters import EvennessPlot, Meter
from faithful_reel.app.widgets.trio import Trio, TrioBoundary
from faithful_reel.core.audio.overview import overview_of
from faithful_reel.core.errors import Cancelled, FileProblem
from faithful_reel.core.measure.picture import VOICE, spectrogram
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.reel import Lane, Piece
from faithful_reel.core.reel.render import Row
from faithful_reel.core.standins.sound_card import SimulatedCard
from faithful_reel.core.work.splicing import LineWord
from faithful_reel.core.work.timeline import Tokens

SOURCES = Path(faithful_reel.__file__).parent


def luminance(color: QColor) -> float:
    """Relative luminance: W3C, Web Content Accessibility Guidelines 2.1, definition of contrast ratio."""
    parts = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in (color.redF(), color.greenF(), color.blueF())]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


def contrast(a: QColor, b: QColor) -> float:
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.published("W3C Web Content Accessibility Guidelines 2.1, success criteria 1.4.3 and 1.4.11")
@pytest.mark.parametrize("theme", [DAY, NIGHT], ids=lambda t: t.name)
def test_text_and_marks_hold_their_contrast(theme):
    for role in ("ink", "quiet", "red", "blue", "graphite", "good"):
        for ground in ("page", "desk", "chosen"):
            if (role, ground) not in (("good", "chosen"), ("good", "desk")):
                assert contrast(theme.color(role), theme.color(ground)) >= 4.5 - 0.75 * (ground == "chosen"), (role, ground)
    assert contrast(theme.color("wave"), theme.color("strip")) >= 3
    assert contrast(theme.color("ink"), theme.color("lit")) >= 4.5


def test_a_damaged_font_is_told_in_the_log_and_keeps_nobody_out(qtbot, monkeypatch, tmp_path, caplog):
    (tmp_path / "broken.ttf").write_bytes(b"no font at all")
    monkeypatch.setattr(theme, "_shipped_faces", lambda: [tmp_path / "broken.ttf"])
    load_fonts()
    assert "broken.ttf is damaged" in caplog.text
    monkeypatch.setattr(theme.QFontDatabase, "families", list)
    with pytest.raises(FileProblem, match="the system has none"):
        load_fonts()


def test_the_shipped_fonts_are_used(qtbot):
    load_fonts()
    from PyQt6.QtGui import QFontInfo

    assert QFontInfo(reading_font(18)).family() == READING
    assert QFontInfo(control_font(13)).family() == CONTROLS


def test_a_colour_that_somebody_changes_is_nobody_elses():
    THEMES["day"].color("page").setAlphaF(0.5)
    assert THEMES["day"].color("page").alphaF() == 1.0


def test_no_slot_is_a_closure():
    """A lambda that holds `self` in a connection has crashed the process before: bound methods only."""
    found = []
    for path in (SOURCES / "app").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if (
                isinstance(node, ast.Call)
                and isinstance(node.func, ast.Attribute)
                and node.func.attr in ("connect", "singleShot")
            ):
                found += [f"{path.name}:{node.lineno}" for a in node.args if isinstance(a, ast.Lambda)]
    assert found == []


def test_only_named_edges_catch_everything():
    found = {
        path.name
        for path in SOURCES.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.ExceptHandler) and (node.type is None or ast.unparse(node.type) in ("Exception", "BaseException"))
    }
    assert found <= {"jobs.py", "crash.py", "sound.py", "store.py"}


# --- acts ---------------------------------------------------------------------------------------------------------


def test_acts_have_one_key_each_and_words():
    acts = every_act()
    keyed = [a for a in acts if a.key]
    assert not [(a.id, b.id) for a, b in itertools.combinations(keyed, 2) if a.key == b.key and meet(a.desk, b.desk)]
    assert len({a.id for a in acts}) == len(acts)
    assert all(a.words and a.tip for a in acts)


class Bench:
    """Does what its acts say, by writing it down."""

    def __init__(self):
        self.done = []

    @property
    def acts(self):
        return [
            Act("proof.stet", Menu.PROOF, "Stet", "S", "Let it stand", lambda bench: bench.done.append("proof.stet")),
            Act("proof.mend", Menu.PROOF, "Mend", "M", "Repair it", lambda bench: bench.done.append("proof.mend")),
        ]


def test_a_key_can_be_changed_and_stays_changed(qtbot, tmp_path):
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    bench, said = Bench(), []
    window, other = QWidget(), QWidget()
    qtbot.addWidget(window)
    qtbot.addWidget(other)
    actions = Actions(window, [bench], settings, lambda act, _by_key: "not here" if act.id == "proof.mend" else "", said.append)
    actions.set_key("proof.stet", "Ctrl+Alt+S")
    actions.run("proof.stet")
    actions.run("proof.mend")
    assert (bench.done, said) == (["proof.stet"], ["not here"])  # what can not be done says so
    assert "Ctrl+Alt+S" in actions.tip("proof.stet")
    again = Actions(other, [bench], settings, lambda *_: "", said.append)
    assert again["proof.stet"].shortcut().toString() == "Ctrl+Alt+S"


def test_every_menu_has_a_letter_for_each_act_and_none_twice():
    from faithful_reel.app.actions import mnemonics

    letters = {}
    for act in every_act():
        words = mnemonics(every_act())[act.id]
        assert words.replace("&&", "").count("&") == 1, words
        letters.setdefault((act.menu, act.within), []).append(words[words.index("&") + 1].lower())
    assert all(len(found) == len(set(found)) for found in letters.values())


# --- loupe, meter, trio -------------------------------------------------------------------------------------------


@pytest.fixture
def loupe(qtbot):
    x = speech_like(seconds=6)
    overview = overview_of([x])
    made = Loupe()
    qtbot.addWidget(made)
    made.resize(800, 140)
    words = Tokens(["tide"], np.array([0]), np.array([30_000]), np.array([60_000]))
    pieces = Lane("voice", (Piece("x", 0, 50_000), Piece("x", 50_000, len(x))))
    lane = LoupeLane("voice", lambda edges: made.drawn(edges), lambda a, b: x[a:b], partial(lane_look, Row(pieces)))  # noqa: PLW0108 - tests exchange it
    made.drawn = overview.columns
    made.set_content(
        LoupeContent((lane,), Spectrum(lambda y, w, h: spectrogram(y, w, height=h), VOICE.share_of), len(x), 44_100, words, 0.001)
    )
    made.show()
    qtbot.waitExposed(made)
    return made


def picture(widget):
    shot = QPixmap(widget.size())
    widget.render(shot)
    return shot.toImage()


def test_the_loupe_zooms_from_a_minute_to_single_samples(loupe):
    loupe.look_at(45_000, span_s=60)
    seen = []
    for _ in range(40):
        seen.append(picture(loupe))
        loupe.zoom(0.6)
    assert loupe.samples_per_pixel < 0.1
    assert len({img.constBits().asstring(img.sizeInBytes()) for img in seen}) > 15


def test_the_sound_is_drawn_once_while_the_playhead_runs(loupe):
    drawn = []
    columns = loupe.drawn
    loupe.drawn = lambda edges: drawn.append(edges) or columns(edges)
    loupe.look_at(100_000, span_s=3)
    seen = []
    for at in range(50_000, 150_000, 10_000):
        loupe.set_playhead(at, follow=False)
        seen.append(picture(loupe))
    assert len(drawn) == 1
    assert all(a != b for a, b in pairwise(seen))
    loupe.set_playhead(200_000, follow=True)
    picture(loupe)
    assert len(drawn) == 2


def test_a_click_in_the_loupe_says_where(loupe, qtbot):
    loupe.look_at(60_000, span_s=1.0)
    with qtbot.waitSignal(loupe.clicked) as caught:
        QTest.mouseClick(loupe, Qt.MouseButton.LeftButton, pos=QPoint(600, 70))
    assert caught.args[0] == pytest.approx(60_000 + 0.25 * 44_100, abs=60)


def test_the_spectrogram_takes_the_waveforms_place(loupe):
    loupe.look_at(80_000, span_s=2)
    wave = picture(loupe)
    loupe.set_spectrum(shown=True)
    assert picture(loupe) != wave


def test_the_loupe_follows_and_keys_scroll(loupe):
    loupe.look_at(10_000, span_s=1)
    loupe.set_playhead(200_000, follow=True)
    assert loupe._from() <= 200_000 <= loupe._from() + loupe._span
    before = loupe._centre
    QTest.keyClick(loupe, Qt.Key.Key_PageUp)
    assert loupe._centre < before
    QTest.keyClick(loupe, Qt.Key.Key_Plus)
    assert loupe._span < 44_100


def test_spectrogram_puts_high_notes_on_top():
    t = np.arange(44_100) / 44_100
    low, high = (spectrogram(np.sin(2 * np.pi * hz * t).astype(np.float32), 50) for hz in (300, 8000))
    assert low.mean(axis=1).argmax() > high.mean(axis=1).argmax()
    assert spectrogram(np.zeros(10, np.float32), 5).shape == (192, 5)


def test_the_meter_latches_the_peak_until_it_is_clicked(qtbot):
    meter = Meter()
    qtbot.addWidget(meter)
    meter.show()
    meter.set_level(-20, -6)
    meter.set_level(-40, -30)
    assert meter.latched == -6
    loud = picture(meter)
    QTest.mouseClick(meter, Qt.MouseButton.LeftButton)
    assert meter.latched < -100
    assert picture(meter) != loud


def test_the_plot_marks_what_is_out_of_its_limits(qtbot):
    plot = EvennessPlot()
    qtbot.addWidget(plot)
    plot.resize(400, 160)
    plot.set_rows([("One", -26.0, -20.0)], (-23.0, -18.0))
    good = picture(plot)
    plot.set_rows([("One", -26.0, -26.0)], (-23.0, -18.0))
    assert picture(plot) != good


def test_a_proposal_can_be_clicked(qtbot):
    trio = Trio()
    qtbot.addWidget(trio)
    trio.resize(700, 240)
    words = tuple(
        LineWord(
            w, (k * 20_000, k * 20_000 + 15_000), (k * 20_000, k * 20_000 + 15_000), (k * 20_000, k * 20_000 + 15_000), k == 1
        )
        for k, w in enumerate(("a", "green", "bottle"))
    )
    columns = overview_of([noise(seconds=2, rms_db=-20)]).columns
    boundaries = (TrioBoundary(19_000, 19_000, True, 0, 0), TrioBoundary(500, 500, True, 1, 1))
    trio.set_content(words, boundaries, (columns,) * 3, "")
    picture(trio)
    spot = next(s for s, b in trio._spots if b.index == 1)
    with qtbot.waitSignal(trio.boundary_clicked) as caught:
        QTest.mouseClick(trio, Qt.MouseButton.LeftButton, pos=QPointF(spot).toPoint())
    assert caught.args == [True, 1]


# --- jobs, sound, crash -------------------------------------------------------------------------------------------


@pytest.fixture
def jobs(qtbot):
    made = Jobs()
    yield made
    made.close()


def test_every_callback_comes_on_the_interface_thread(jobs, qtbot):
    seen = []
    here = threading.current_thread()

    def job(watch):
        for k in range(5):
            watch.tick(k / 5, "working")
        return 42

    jobs.start("x", job, done=lambda v: seen.append((v, threading.current_thread() is here)), stopped=seen.append)
    qtbot.waitUntil(lambda: bool(seen))
    assert seen == [(42, True)]
    assert jobs.running == []


@pytest.mark.parametrize("why", [FileProblem("a.wav is gone."), ValueError("bug")])
def test_a_jobs_problem_is_handed_over(jobs, qtbot, why):
    seen = []

    def job(_watch):
        raise why

    jobs.start("x", job, done=seen.append, stopped=lambda e: seen.append(("stopped", e)))
    qtbot.waitUntil(lambda: bool(seen))
    assert seen == [("stopped", why)]


def test_cancel_ends_a_job_as_cancelled(jobs, qtbot):
    seen, started = [], threading.Event()

    def job(watch):
        started.set()
        while True:
            watch.tick(0.5)

    running = jobs.start("x", job, done=seen.append, stopped=seen.append)
    assert started.wait(5)
    running.cancel()
    qtbot.waitUntil(lambda: bool(seen))
    assert isinstance(seen[0], Cancelled)


def test_nothing_is_delivered_after_closing(qtbot):
    jobs = Jobs()
    seen = []
    jobs.start("x", lambda _watch: 1, done=seen.append, stopped=seen.append)
    jobs.close()
    qtbot.wait(50)
    assert seen == []


class Clock:
    """Time that the test moves."""

    now = 0.0

    def __call__(self):
        return self.now


def test_the_simulated_card_keeps_time_and_stands_still_when_it_runs_dry():
    clock = Clock()
    card = SimulatedCard(1000, clock=clock, buffer_s=0.5)
    card.begin()
    assert card.push(None, 800) == 500
    clock.now += 0.2
    assert card.played() == 200
    assert card.push(None, 800) == 200
    clock.now += 10
    assert card.played() == 700
    clock.now += 10
    card.push(None, 100)
    clock.now += 0.05
    assert card.played() == 750
    card.halt()
    clock.now += 10
    assert card.played() == 750


def test_the_player_plays_to_the_end_and_tells_position_and_level(qtbot):
    x = noise(seconds=0.5, rms_db=-20)
    player = Player(SimulatedCard(44_100))
    places, levels = [], []
    player.moved.connect(places.append)
    player.level.connect(lambda rms, peak: levels.append((rms, peak)))
    with qtbot.waitSignal(player.ended, timeout=5000):
        player.play(lambda a, b: x[a:b], 1000, len(x), 44_100)
    assert places == sorted(places)
    assert places[-1] == pytest.approx(len(x), abs=2500)
    assert any(abs(rms + 20) < 1.5 for rms, _ in levels)
    assert not player.playing


def test_speed_moves_the_position_faster(qtbot):
    x = noise(seconds=2, rms_db=-20)
    player = Player(SimulatedCard(44_100))
    with qtbot.waitSignal(player.ended, timeout=5000):
        player.play(lambda a, b: x[a:b], 0, len(x), 44_100, speed=2.5)
    assert player.position >= 0.9 * len(x)


def test_a_rendering_that_fails_stops_the_sound_and_says_why(qtbot):
    def render(_a, _b):
        raise FileProblem("The recording is gone.")

    player = Player(SimulatedCard(44_100))
    with qtbot.waitSignal(player.failed, timeout=5000) as caught:
        player.play(render, 0, 44_100, 44_100)
    assert caught.args == ["The recording is gone."]
    assert not player.playing


def test_a_crash_is_shown_in_plain_words_and_kept(monkeypatch, tmp_path, capsys):
    from faithful_reel.app import crash

    monkeypatch.setattr(crash, "report_folder", lambda: tmp_path / "logs")
    shown = []
    handler = CrashHandler(lambda message, details: shown.append((message, details)))
    try:
        raise KeyError("what")  # noqa: TRY301 - the handler needs a real traceback
    except KeyError:
        handler.caught(*sys.exc_info())
    assert "Nothing is lost" in shown[0][0]
    assert "KeyError" in shown[0][1]
    assert "KeyError" in next((tmp_path / "logs").iterdir()).read_text()
    assert "KeyError" in capsys.readouterr().err
