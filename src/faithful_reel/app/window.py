"""The window: contents, desk names with counts, the desks, the loupe, the transport."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QLocale, QPoint, QSettings, QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QTableWidgetItem,
    QTextEdit,
    QVBoxLayout,
    QWidget,
)

from faithful_reel import __version__
from faithful_reel.app.actions import ACTS, AT_DESK, ON_THE_FINDING, ON_THE_PAGE, Actions
from faithful_reel.app.history import HistoryPane
from faithful_reel.app.intake.panel import IntakePanel
from faithful_reel.app.intake.presenter import IntakePresenter
from faithful_reel.app.jobs import Jobs
from faithful_reel.app.master.panel import MasterPanel
from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.pickups.panel import PickupsPanel
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.proof.names_presenter import NamesPresenter
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.release.panel import ReleasePanel
from faithful_reel.app.release.presenter import ReleasePresenter
from faithful_reel.app.settings import number, text
from faithful_reel.app.sound import Player
from faithful_reel.app.splice.panel import SplicePanel
from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.theme import THEMES, style_sheet
from faithful_reel.app.widgets.galley import LOWEST, TALLEST, WIDEST
from faithful_reel.app.widgets.loupe import Loupe
from faithful_reel.app.widgets.parts import ROLE, ContentsDelegate, Desk, Meter, OneLine, button, label, rule, table, tip
from faithful_reel.app.workbench import Hearers, Workbench
from faithful_reel.core.audio import files
from faithful_reel.core.audio.tempo import FASTEST, SLOWEST
from faithful_reel.core.book.commands import SetLanguage
from faithful_reel.core.book.keeping import ARCHIVE_SUFFIX, archived, backed_up, unpacked
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.book.store import SUFFIX
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.collate.flaws import Flaw
from faithful_reel.core.collate.proofing import wake
from faithful_reel.core.hear.ears import ENGLISH, LANGUAGES
from faithful_reel.core.measure.picture import spectrogram
from faithful_reel.core.reel.reel import Lane, Piece, Reel, recordings_of
from faithful_reel.core.reel.render import FileSources, Renderer
from faithful_reel.core.text import manuscript
from faithful_reel.core.units import Signal, Span, clock, ratio
from faithful_reel.core.work import reporting
from faithful_reel.core.work.splicing import placed_joins

DESKS = ("intake", "proof", "pickups", "splice", "master", "release")
SPEEDS = (0.75, 0.9, 1.0, 1.1, 1.25, 1.5, 1.75, 2.0, 2.25, 2.5)
NOTICE_MS = 12_000
BACKUP_MS = 10 * 60_000
TITLE_BAR = 44
"""Left free for the title bar that the desktop puts on the window, in pixels."""
MANUSCRIPTS = f"Manuscripts ({' '.join('*' + s for s in manuscript.SUFFIXES)})"
SOUNDS = f"Sound ({' '.join('*' + s for s in files.SUFFIXES)});;All files (*)"
QUIET = ("Draw ", "Back up", "Bring in ", "Check ", "Wake ")
"""Jobs that are told elsewhere, or that nobody waits for."""
JOIN_STEP_S = 0.005


class Window(QMainWindow):
    """One book, one window."""

    def __init__(self, bench: Workbench, jobs: Jobs, player: Player, settings: QSettings) -> None:
        super().__init__()
        self.bench, self.jobs, self.player, self.settings = bench, jobs, player, settings
        bench.tell = self.tell
        own = text(settings, "hear/ear")
        bench.ears = Hearers(Path(own) if own else None)
        self.setMinimumSize(1000, 640)
        self.intake, self.proof, self.pickups = IntakePresenter(bench), ProofPresenter(bench), PickupsPresenter(bench)
        self.names = NamesPresenter(bench)
        self.splice, self.mastering = SplicePresenter(bench), MasterPresenter(bench)
        self.releasing = ReleasePresenter(bench, self.mastering)
        self.desks: dict[str, Desk] = {
            "intake": IntakePanel(self.intake),
            "proof": ProofPanel(self.proof, self.names),
            "pickups": PickupsPanel(self.pickups),
            "splice": SplicePanel(self.splice),
            "master": MasterPanel(self.mastering),
            "release": ReleasePanel(self.releasing),
        }
        self.spot = 0
        self._playing_reel: object = None
        self._loupe_shown: object = None
        self._finding_shown = ""
        self._counted: dict[str, tuple[object, tuple[int, int], frozenset[str]]] = {}
        self._backed_up = bench.session.store.count()
        self._lead_s = number(settings, "listen/lead", 2.0, 0.0, 60.0)
        self._speed = min(SPEEDS, key=lambda speed: abs(speed - number(settings, "listen/speed", 1.0, SLOWEST, FASTEST)))
        self._tall = number(settings, "view/tall", 1.0, LOWEST, TALLEST)
        self._wide = number(settings, "view/wide", 0.0, 0.0, WIDEST)
        self.proof.off = frozenset(filter(None, text(settings, "proof/off").split(",")))
        self.opened: list[Path] = []
        self.actions_ = Actions(self, self._handlers(), settings, self._why_not, self.tell)
        self._build()
        self._connect()
        self.set_theme(text(settings, "view/theme", "day"))
        self.show_desk(text(settings, "view/desk", "proof" if bench.book.chapters else "intake"))
        size = settings.value("view/size")
        self.resize(self._fitting(size if isinstance(size, QSize) else QSize(1280, 800)))
        self.refresh()
        self._tell_state()
        self.galley.setFocus()

    def _fitting(self, wanted: QSize) -> QSize:
        """A size with which the whole window, its title bar included, is on the screen."""
        screen = self.screen()
        if screen is None:
            return wanted
        room = screen.availableGeometry().size()
        return wanted.boundedTo(QSize(room.width(), room.height() - TITLE_BAR)).expandedTo(self.minimumSize())

    # --- building -------------------------------------------------------------------------------------------------

    def _build(self) -> None:
        self._build_menus()
        top = QWidget()
        top.setObjectName("top")
        row = QHBoxLayout(top)
        row.setContentsMargins(16, 4, 16, 0)
        self.book_title = OneLine()
        self.book_title.setObjectName("title")
        row.addWidget(self.book_title)
        row.addStretch()
        row.addWidget(self._jobs_row(), 1)
        self.desk_buttons: dict[str, QPushButton] = {}
        for name in DESKS:
            made = button(name.capitalize(), "deskname", f"The {name.capitalize()} desk (Ctrl+{DESKS.index(name) + 1})")
            made.setCheckable(True)
            made.setProperty("desk", name)
            made.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            made.clicked.connect(self._desk_clicked)
            row.addWidget(made)
            self.desk_buttons[name] = made
        self.contents = QListWidget()
        self.contents.setAccessibleName("Contents")
        self.contents.setMinimumWidth(150)
        self.contents.setMaximumWidth(260)
        self._contents_delegate = ContentsDelegate(self.contents)
        self.contents.setItemDelegate(self._contents_delegate)
        self.contents.currentItemChanged.connect(self._chapter_chosen)
        self.stack = QStackedWidget()
        for name in DESKS:
            self.stack.addWidget(self.desks[name])
        across = QSplitter(Qt.Orientation.Horizontal)
        across.setHandleWidth(1)
        across.addWidget(self.contents)
        across.addWidget(self.stack)
        across.setStretchFactor(1, 1)
        across.setSizes([176, 1104])
        self.loupe = Loupe()
        down = QSplitter(Qt.Orientation.Vertical)
        down.setHandleWidth(1)
        down.addWidget(across)
        down.addWidget(self.loupe)
        down.setStretchFactor(0, 1)
        down.setSizes([560, 132])
        self.notice = label("", "problem", wrap=True)
        self.notice.setContentsMargins(16, 4, 16, 4)
        self.notice.hide()
        self._notice_timer = QTimer(self)
        self._notice_timer.setSingleShot(True)
        self._notice_timer.timeout.connect(self.notice.hide)
        self._backup_timer = QTimer(self)
        self._backup_timer.timeout.connect(self.back_up)
        self._backup_timer.start(BACKUP_MS)
        self.history = HistoryPane(self.bench, self)
        self.addDockWidget(Qt.DockWidgetArea.RightDockWidgetArea, self.history)
        self.history.hide()
        whole = QWidget()
        box = QVBoxLayout(whole)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        box.addWidget(top)
        box.addWidget(rule())
        box.addWidget(self.notice)
        box.addWidget(down, 1)
        box.addWidget(rule())
        box.addWidget(self._foot())
        self.setCentralWidget(whole)

    def _build_menus(self) -> None:
        bar = self.menuBar()
        if bar is None:
            return
        menus: dict[str, QMenu] = {}
        for act in ACTS:
            if act.menu not in menus:
                menu = bar.addMenu(act.menu)
                if menu is None:
                    continue
                menu.setToolTipsVisible(True)
                menus[act.menu] = menu
            menus[act.menu].addAction(self.actions_[act.id])

    def _jobs_row(self) -> QWidget:
        """The work that goes on, beside the title: the page stays where it is when work begins and ends."""
        self.job_row = QWidget()
        row = QHBoxLayout(self.job_row)
        row.setContentsMargins(24, 0, 16, 3)
        row.setSpacing(10)
        self.job_name = OneLine()
        self.job_name.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.job_bar = QProgressBar()
        self.job_bar.setRange(0, 1000)
        self.job_bar.setFixedWidth(90)
        self.job_bar.setAccessibleName("Progress")
        self.job_left = label("", "quiet")
        self.job_cancel = button("Cancel", tip="Stop this work; nothing is lost")
        self.job_cancel.clicked.connect(self._cancel_job)
        row.addWidget(self.job_name, 1)
        row.addWidget(self.job_bar)
        row.addWidget(self.job_left)
        row.addWidget(self.job_cancel)
        self.job_row.hide()
        return self.job_row

    def _foot(self) -> QWidget:
        foot = QWidget()
        foot.setObjectName("foot")
        row = QHBoxLayout(foot)
        row.setContentsMargins(16, 5, 16, 5)
        row.setSpacing(10)
        self.play_button = button("Play", tip="Play from the cursor, or stop (Space)")
        self.play_button.setMinimumWidth(64)
        self.play_button.clicked.connect(self.actions_["play.toggle"].trigger)
        self.speed = QComboBox()
        self.speed.setAccessibleName("Speed")
        self.speed.setToolTip("Speed without a change of pitch ([ and ])")
        for value in SPEEDS:
            self.speed.addItem(f"{value:.2f} ×", value)
        self.speed.setCurrentIndex(SPEEDS.index(self._speed) if self._speed in SPEEDS else 2)
        self.speed.activated.connect(self._speed_chosen)
        self.lead = QComboBox()
        self.lead.setAccessibleName("Lead-in")
        self.lead.setToolTip("How long before a spot the sound starts")
        for seconds in (0.0, 1.0, 2.0, 3.0):
            self.lead.addItem(f"lead-in {seconds:g} s", seconds)
        self.lead.setCurrentIndex(max(0, self.lead.findData(self._lead_s)))
        self.lead.activated.connect(self._lead_chosen)
        self.loop_button = button("Loop", tip="Play the stretch again and again (L)")
        self.loop_button.setCheckable(True)
        self.loop_button.clicked.connect(self.actions_["play.loop"].trigger)
        self.time = QLabel("0:00:00.000")
        self.time.setAccessibleName("Position")
        self.time.setMinimumWidth(100)
        self.meter = Meter()
        self.card_name = label("", "quiet")
        self.card_name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.card_name.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.saved = label("", "quiet")
        for widget in (self.play_button, self.speed, self.lead, self.loop_button, self.time, self.meter):
            row.addWidget(widget)
        row.addWidget(self.card_name, 1)
        row.addWidget(self.saved)
        return foot

    def _connect(self) -> None:
        self.bench.listen(self.refresh)
        self.proof.listen(self._proof_changed)
        self.jobs.changed.connect(self._show_jobs)
        self.player.moved.connect(self._moved)
        self.player.level.connect(self.meter.set_level)
        self.player.started.connect(self._play_state)
        self.player.ended.connect(self._play_state)
        self.player.failed.connect(self.tell)
        self.loupe.clicked.connect(self.go_to_position)
        proof, intake, pickups = self.desks["proof"], self.desks["intake"], self.desks["pickups"]
        splice, master, release = self.desks["splice"], self.desks["master"], self.desks["release"]
        assert isinstance(proof, ProofPanel)
        assert isinstance(intake, IntakePanel)
        assert isinstance(pickups, PickupsPanel)
        assert isinstance(splice, SplicePanel)
        assert isinstance(master, MasterPanel)
        assert isinstance(release, ReleasePanel)
        self.galley = proof.galley
        proof.hear_wanted.connect(self.actions_["proof.hear"].trigger)
        proof.listen_wanted.connect(self.actions_["proof.listen"].trigger)
        proof.swap_wanted.connect(self.actions_["proof.swap"].trigger)
        proof.decided.connect(self._decided)
        proof.time_wanted.connect(self._go_to_time)
        self.galley.word_clicked.connect(self._word_clicked)
        self.galley.word_activated.connect(self.play_from)
        self.galley.menu_wanted.connect(self._galley_menu)
        intake.manuscript_wanted.connect(self.actions_["intake.manuscript"].trigger)
        intake.recordings_wanted.connect(self.actions_["intake.recordings"].trigger)
        intake.search_wanted.connect(self.ask_search)
        intake.replacement_wanted.connect(self.ask_replacement)
        self.history.wanted.connect(self._go_to_step)
        proof.names.hear_wanted.connect(self._hear_medley)
        proof.names.place_wanted.connect(self._go_to_place)
        self.galley.set_zoom(tall=self._tall, wide=self._wide)
        pickups.send_wanted.connect(self.actions_["pickups.send"].trigger)
        pickups.receive_wanted.connect(self.actions_["pickups.receive"].trigger)
        pickups.hear.connect(self._hear_reel)
        splice.hear.connect(self._hear_reel)
        splice.place_wanted.connect(self.actions_["splice.place"].trigger)
        splice.pass_wanted.connect(self.actions_["splice.pass"].trigger)
        master.hear_before.connect(self._hear_unmastered)
        master.hear_after.connect(self._hear_mastered)
        master.chapter_chosen.connect(self.bench.open_chapter)
        release.release_wanted.connect(self.actions_["release.write"].trigger)
        # a desk shows again when its own presenter changed
        for presenter in (self.intake, self.pickups, self.splice, self.mastering, self.releasing):
            presenter.listen(self._desk_changed)

    def _handlers(self) -> dict[str, Callable[[], None]]:
        return {
            "book.new": self.new_book,
            "book.open": self.open_book,
            "intake.manuscript": self.ask_manuscript,
            "intake.recordings": self.ask_recordings,
            "pickups.receive": self.ask_pickup,
            "pickups.send": self.ask_call_sheet,
            "book.archive": self.ask_archive,
            "book.unpack": self.ask_unpack,
            "intake.pair": self.intake.pair_by_ear,
            "book.quit": self._quit,
            "edit.undo": self.undo,
            "edit.redo": self.redo,
            "edit.history": self.show_history,
            "edit.cut_close": self._cut_close,
            "edit.cut_fill": self._cut_fill,
            "edit.split": self._split,
            "edit.join_earlier": self._join_earlier,
            "edit.join_later": self._join_later,
            "edit.softer": self._softer,
            "edit.louder": self._louder,
            "proof.hear": self._hear_chapter,
            "proof.ear": self.ask_ear,
            "proof.language": self.ask_language,
            "proof.search": self._search,
            "proof.report": self.ask_report,
            "proof.rough": self._rough_cut,
            "proof.next": self._next,
            "proof.previous": self._previous,
            "proof.listen": self.listen_to_finding,
            "proof.stet": self._stet,
            "proof.mend": self._mend,
            "proof.pickup": self._pickup,
            "proof.swap": self._swap_take,
            "proof.reopen": self._reopen,
            "proof.accept": self._accept,
            "proof.note": self._note,
            "proof.flag": self._flag,
            "proof.remark": self._remark,
            "proof.elsewhere": self._elsewhere,
            "proof.names": self.show_names,
            "proof.unheard": self._unheard,
            "proof.sign": self._sign,
            "proof.flaws": self.ask_flaws,
            "proof.doubtful": self._doubtful,
            "splice.place": self._place,
            "splice.pass": self._pass,
            "master.this": self._master_this,
            "master.all": self.mastering.master_all,
            "release.write": self.ask_release,
            "play.toggle": self.toggle_play,
            "play.back": self._back,
            "play.loop": self._loop,
            "play.faster": self._faster,
            "play.slower": self._slower,
            "view.intake": self._view_intake,
            "view.proof": self._view_proof,
            "view.pickups": self._view_pickups,
            "view.splice": self._view_splice,
            "view.master": self._view_master,
            "view.release": self._view_release,
            "view.night": self._night,
            "view.spectrum": self._spectrum,
            "view.taller": self._taller,
            "view.lower": self._lower,
            "view.wider": self._wider,
            "view.narrower": self._narrower,
            "view.closer": self._closer,
            "view.farther": self._farther,
            "view.next_chapter": self._next_chapter,
            "view.previous_chapter": self._previous_chapter,
            "help.keys": self.show_keys,
            "help.about": self.show_about,
        }

    # --- showing --------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the book as it is: contents, counts, the desk at hand, the loupe."""
        book = self.bench.book
        self.book_title.setText(book.title)
        self.book_title.setToolTip(tip(book.title))
        self.setWindowTitle(f"{book.title} – Faithful Reel")
        self._show_contents()
        self._show_counts()
        self._desk_changed()
        self._show_finding()
        self._show_loupe()
        self.history.refresh()
        undo, redo = self.bench.session.can_undo(), self.bench.session.can_redo()
        self.actions_["edit.undo"].setText(f"Undo: {undo}" if undo else "Undo")
        self.actions_["edit.redo"].setText(f"Redo: {redo}" if redo else "Redo")
        self.actions_["edit.undo"].setEnabled(bool(undo))
        self.actions_["edit.redo"].setEnabled(bool(redo))
        at = self.bench.session.store.step(self.bench.session.store.head).at
        self.saved.setText(f"step saved {at[11:]}" if at else "nothing changed yet")
        self.card_name.setText("no sound device: simulated sound card" if self.player.card.simulated else "")

    def _show_contents(self) -> None:
        self.contents.blockSignals(True)
        chapters = self.bench.book.chapters
        while self.contents.count() > len(chapters):
            self.contents.takeItem(self.contents.count() - 1)
        while self.contents.count() < len(chapters):
            self.contents.addItem(QListWidgetItem())
        for row, chapter in enumerate(chapters):
            item = self.contents.item(row)
            if item is None:
                continue
            left, shown = self._open_findings(chapter)
            share = 1 - left / shown if shown else 1.0 if chapter.hearing else 0.0
            state = (
                "no recording"
                if not chapter.recording
                else "being heard"
                if chapter.id in self.proof.hearing_now
                else "not heard yet"
                if not chapter.hearing
                else f"{left} open"
                if left
                else "all decided"
            )
            if chapter.hearing and chapter.id not in self.proof.hearing_now:
                listened = self.proof.listening.share(chapter)
                signed = self.proof.proofed(chapter)
                state = " · ".join(
                    filter(None, (signed or state, f"{100 * listened:.0f} % listened" if listened > 0.005 else ""))
                )
            if item.data(ROLE) != (chapter.title, share, state) or item.data(ROLE + 1) != chapter.id:
                item.setData(ROLE, (chapter.title, share, state))
                item.setData(ROLE + 1, chapter.id)
                item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{chapter.title}: {state}")
                item.setToolTip(tip(f"{chapter.title}: {state}"))
            if chapter.id == self.bench.chapter_id and self.contents.currentItem() is not item:
                self.contents.setCurrentItem(item)
        self.contents.blockSignals(False)

    def _open_findings(self, chapter: ChapterState) -> tuple[int, int]:
        """How many findings of a chapter are open, and how many are shown; counted once for every state of it."""
        known = self._counted.get(chapter.id)
        if known is None or known[0] is not chapter.findings or known[2] != self.proof.off:
            shown = [f for f in chapter.findings if not self.proof.is_folded(f)]
            known = chapter.findings, (sum(f.decision is Decision.OPEN for f in shown), len(shown)), self.proof.off
            self._counted[chapter.id] = known
        return known[1]

    def _show_counts(self) -> None:
        book = self.bench.book
        open_ = sum(self._open_findings(c)[0] for c in book.chapters)
        states = [p.state.value for p in book.pickups]
        failing = sum(self.mastering.state(c) == "fails" for c in book.chapters)
        to_master = sum(self.mastering.state(c) in ("to do", "out of date") for c in book.chapters)
        counts = {
            "intake": str(sum(not c.recording for c in book.chapters) or ""),
            "proof": str(open_ or ""),
            "pickups": str(sum(s in ("to send", "sent") for s in states) or ""),
            "splice": str(sum(s in ("in", "chosen") for s in states) or ""),
            "master": f"{failing}!" if failing else str(to_master or ""),
            "release": str(sum(not c.released and self.mastering.state(c) == "passes" for c in book.chapters) or ""),
        }
        for name, made in self.desk_buttons.items():
            text = f"{name.capitalize()} {counts[name]}".strip()
            if made.text() == text:
                continue
            made.setText(text)
            made.setAccessibleName(f"{name.capitalize()} desk, {counts[name] or 'nothing'} to do")

    def _desk_changed(self) -> None:
        panel = self.stack.currentWidget()
        if isinstance(panel, Desk):
            panel.refresh()

    def _proof_changed(self) -> None:
        self._show_contents()
        if self.stack.currentWidget() is self.desks["proof"]:
            self.desks["proof"].refresh()
        self._show_finding()

    def _show_finding(self) -> None:
        """Bring the finding at hand into the loupe, once."""
        finding = self.proof.finding()
        if finding is not None and finding.id != self._finding_shown:
            self._finding_shown = finding.id
            span = self.proof.span(finding)
            if span is not None and not self.player.playing:
                self.spot = span.start
                self.loupe.look_at((span.start + span.stop) // 2, span_s=max(3.0, 2.5 * len(span) / self.bench.book.rate))
                self._show_position(span.start, follow=False)

    def _show_loupe(self) -> None:
        chapter = self.bench.chapter
        reel = chapter.reel if chapter else None
        key = (
            reel,
            chapter.hearing if chapter else "",
            tuple(self.bench.overview(r) is not None for r in recordings_of(reel)) if reel else (),
        )
        if key == self._loupe_shown:
            return
        self._loupe_shown = key
        if chapter is None or reel is None:
            rate = self.bench.book.rate
            self.loupe.set_content(
                columns=None, render=None, spectrum=None, length=0, rate=rate, words=None, joins=(), tone_level=None
            )
            return
        words = self.bench.tokens(chapter).heard()
        floor = self.bench.book.recording(chapter.recording).noise_floor_db if chapter.recording else -90.0
        self.loupe.set_content(
            columns=self.bench.columns(reel),
            render=self.bench.render_here(reel),
            spectrum=spectrogram,
            length=len(reel),
            rate=self.bench.book.rate,
            words=words,
            joins=placed_joins(reel),
            tone_level=ratio(floor) * 3,
        )
        if len(words) and self.spot == 0:
            self.spot = words[0].start
            self.loupe.look_at(words[0].start + self.bench.book.rate)

    def _show_jobs(self) -> None:
        running = self.jobs.running
        visible = [r for r in running if not r.name.startswith(QUIET)]
        self.job_row.setVisible(bool(visible))
        if visible:
            first = visible[0]
            more = f"   and {len(visible) - 1} more" if len(visible) > 1 else ""
            name = f"{first.name}: {first.note}{more}" if first.note else first.name + more
            self.job_name.setText(name)
            self.job_name.setToolTip(tip(name))
            self.job_bar.setValue(round(1000 * first.fraction))
            left = first.seconds_left()
            self.job_left.setText("" if left is None else _left(left))

    def _cancel_job(self) -> None:
        visible = [r for r in self.jobs.running if not r.name.startswith(QUIET)]
        if visible:
            visible[0].cancel()

    def tell(self, text: str) -> None:
        """Show one message above the desk for a while."""
        self.notice.setText(text)
        self.notice.show()
        self._notice_timer.start(NOTICE_MS)

    def set_theme(self, name: str) -> None:
        """Day or night."""
        theme = THEMES.get(name, THEMES["day"])
        self.settings.setValue("view/theme", theme.name)
        self.setStyleSheet(style_sheet(theme))
        self._contents_delegate.theme = theme
        self.loupe.set_theme(theme)
        self.meter.set_theme(theme)
        self.history.set_theme(theme)
        for panel in self.desks.values():
            panel.set_theme(theme)
        self.actions_["view.night"].setChecked(theme.name == "night")

    def show_desk(self, name: str) -> None:
        """Go to a desk."""
        name = name if name in DESKS else "proof"
        self.settings.setValue("view/desk", name)
        self.stack.setCurrentWidget(self.desks[name])
        for other, made in self.desk_buttons.items():
            made.setChecked(other == name)
        self._desk_changed()

    # --- listening ------------------------------------------------------------------------------------------------

    def _reel(self) -> tuple[ChapterState, Reel] | None:
        chapter = self.bench.chapter
        return (chapter, chapter.reel) if chapter and chapter.reel else None

    def play_from(self, position: int, stop: int | None = None, *, lead: bool = False) -> None:
        """Play the chapter at hand from a position."""
        found = self._reel()
        if found is None:
            self.tell("There is nothing to play: this chapter has no recording yet.")
            return
        start = max(0, position - (round(self._lead_s * self.bench.book.rate) if lead else 0))
        self._playing_reel = found[1]
        self.player.play(
            self.bench.renderer(found[1]).render,
            start,
            len(found[1]) if stop is None else min(stop, len(found[1])),
            self.bench.book.rate,
            speed=self._speed,
            loop=self.actions_["play.loop"].isChecked(),
        )
        self.proof.listening.begin(found[0].id, found[1], start)

    def _hear_reel(self, reel: object, start: int, stop: int) -> None:
        if isinstance(reel, Reel):
            self._playing_reel = reel
            self.player.play(
                self.bench.renderer(reel).render,
                start,
                stop,
                self.bench.book.rate,
                speed=self._speed,
                loop=self.actions_["play.loop"].isChecked(),
            )

    def listen_to_finding(self) -> None:
        """Hear the finding at hand with its lead-in."""
        finding = self.proof.finding()
        span = self.proof.span(finding) if finding else None
        if span is None:
            self.tell(
                "This finding is no longer heard in the reel." if finding else "No finding is at hand. Choose one in the docket."
            )
            return
        self.play_from(span.start, span.stop + self.bench.book.rate, lead=True)

    def toggle_play(self) -> None:
        """Play from the cursor, or stop."""
        if self.player.playing:
            self.player.stop()
            self.spot = self.player.position
        else:
            self.play_from(self.spot)

    def _back(self) -> None:
        at = self.player.position if self.player.playing else self.spot
        self.play_from(at, lead=True)

    def go_to_position(self, position: int) -> None:
        """Put the cursor at a position; while playing, go on from there."""
        self.spot = position
        if self.player.playing:
            self.play_from(position)
        else:
            self._show_position(position, follow=True)

    def _word_clicked(self, _cell: int, position: int) -> None:
        if position >= 0:
            self.go_to_position(position)
            self.loupe.look_at(position)

    def _moved(self, position: int) -> None:
        found = self._reel()
        if found and self._playing_reel is found[1]:
            self.proof.listening.reach(position)
            self.spot = position
            self._show_position(position, follow=True)
        else:
            splice = self.desks["splice"]
            if isinstance(splice, SplicePanel) and self.stack.currentWidget() is splice:
                splice.trio.set_playhead(position)
            self.time.setText(clock(position / self.bench.book.rate))

    def _show_position(self, position: int, *, follow: bool) -> None:
        self.time.setText(clock(position / self.bench.book.rate))
        self.galley.set_playhead(position, follow=follow and self.player.playing)
        self.loupe.set_playhead(position, follow=follow)

    def _play_state(self) -> None:
        self.play_button.setText("Stop" if self.player.playing else "Play")
        if not self.player.playing:
            self.proof.listening.end()

    def _hear_unmastered(self) -> None:
        chapter = self.bench.chapter
        if chapter and chapter.master and chapter.reel:
            raw = self.bench.book.recording(chapter.recording).rms_db
            rms = chapter.master.figures.get("rms_db")
            gain = float(rms) - raw if isinstance(rms, float | int) else 0.0
            render = self.bench.renderer(chapter.reel).render

            def louder(start: int, stop: int) -> Signal:
                return np.asarray(np.clip(render(start, stop) * np.float32(ratio(gain)), -1, 1), np.float32)

            self._playing_reel = None
            self.player.play(louder, self.spot, len(chapter.reel), self.bench.book.rate, speed=self._speed)

    def _hear_mastered(self) -> None:
        chapter = self.bench.chapter
        if chapter and chapter.master:
            path = self.bench.session.store.folder / "masters" / chapter.master.stored
            if not path.is_file():
                self.tell(f"The master {path.name} is no longer there. Master the chapter again.")
                return
            seconds = chapter.master.figures.get("seconds")
            length = round(float(seconds) * self.bench.book.rate) if isinstance(seconds, float | int) else 0
            render = Renderer(Reel((Lane("master", (Piece("master", 0, length),)),)), FileSources(lambda _: path)).render
            self._playing_reel = None
            self.player.play(
                render,
                min(max(0, self.spot - 9 * self.bench.book.rate), length // 2),
                length,
                self.bench.book.rate,
                speed=self._speed,
            )

    def _speed_chosen(self) -> None:
        self._set_speed(float(self.speed.currentData()))

    def _set_speed(self, speed: float) -> None:
        self._speed = min(FASTEST, max(SLOWEST, speed))
        self.settings.setValue("listen/speed", self._speed)
        self.speed.setCurrentIndex(SPEEDS.index(self._speed))
        if self.player.playing and self._reel() and self._playing_reel is self._reel()[1]:  # type: ignore[index]
            self.play_from(self.player.position)

    def _faster(self) -> None:
        self._set_speed(SPEEDS[min(len(SPEEDS) - 1, SPEEDS.index(self._speed) + 1)])

    def _slower(self) -> None:
        self._set_speed(SPEEDS[max(0, SPEEDS.index(self._speed) - 1)])

    def _lead_chosen(self) -> None:
        self._lead_s = float(self.lead.currentData())
        self.settings.setValue("listen/lead", self._lead_s)

    def _loop(self) -> None:
        self.loop_button.setChecked(self.actions_["play.loop"].isChecked())

    # --- acts -----------------------------------------------------------------------------------------------------

    def undo(self) -> None:
        """Take the last step back."""
        self.player.stop()
        self.bench.undo()

    def redo(self) -> None:
        """Do it again."""
        self.player.stop()
        self.bench.redo()

    def _desk_clicked(self) -> None:
        sender = self.sender()
        if sender is not None:
            self.show_desk(str(sender.property("desk")))

    def _chapter_chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._take_chapter(str(item.data(ROLE + 1)))

    def _take_chapter(self, chapter_id: str) -> None:
        self.player.stop()
        self.spot = 0
        self.proof.current = self._finding_shown = ""
        self.bench.open_chapter(chapter_id)

    def _step_chapter(self, by: int) -> None:
        ids = [c.id for c in self.bench.book.chapters]
        if self.bench.chapter_id in ids:
            self._take_chapter(ids[min(len(ids) - 1, max(0, ids.index(self.bench.chapter_id) + by))])

    def _next_chapter(self) -> None:
        self._step_chapter(1)

    def _previous_chapter(self) -> None:
        self._step_chapter(-1)

    def _hear_chapter(self) -> None:
        if self.bench.chapter:
            self.proof.hear_chapter(self.bench.chapter.id)
        else:
            self.tell("There is nothing to hear: this book has no chapters yet.")

    def _rough_cut(self) -> None:
        self.player.stop()
        self.proof.rough_cut()

    def _search(self) -> None:
        panel = self.desks["proof"]
        assert isinstance(panel, ProofPanel)
        panel.open_search()

    def _go_to_time(self, position: int) -> None:
        found = self._reel()
        if found is None or position >= len(found[1]):
            self.tell("This chapter does not last that long.")
            return
        self.go_to_position(position)
        self.galley.set_playhead(position, follow=True)

    def _next(self) -> None:
        self.proof.step(1)

    def _previous(self) -> None:
        self.proof.step(-1)

    def _decided(self, name: str) -> None:
        self.proof.decide(Decision(name))

    def _stet(self) -> None:
        self.proof.decide(Decision.STET)

    def _mend(self) -> None:
        self.player.stop()
        self.proof.decide(Decision.MEND)

    def _pickup(self) -> None:
        self.proof.decide(Decision.PICKUP)

    def _swap_take(self) -> None:
        self.player.stop()
        self.proof.swap_take()

    def _reopen(self) -> None:
        self.proof.decide(Decision.OPEN)

    def _doubtful(self) -> None:
        self.proof.show_doubtful = self.actions_["proof.doubtful"].isChecked()
        self.proof.changed()

    def _note(self) -> None:
        panel = self.desks["proof"]
        assert isinstance(panel, ProofPanel)
        start, stop = self.loupe.stretch
        if start >= 0:
            rate = self.bench.book.rate
            panel.open_note(f"{clock(start / rate)} to {clock(stop / rate)}", None, Span(start, stop))
            return
        first, last = self.galley.selection
        heard = self.proof.word_at(self.player.position) if self.player.playing else -1
        if heard >= 0 and first == last:
            first = last = heard
        if first < 0:
            self.tell("Select the words first: click on the galley, then Shift+click. Or mark a stretch in the loupe.")
            return
        chapter = self.bench.chapter
        words = self.bench.text(chapter).words if chapter else ()
        text = " ".join(w.text for w in words[first : last + 1])
        panel.open_note(f"“{text if len(text) < 32 else text[:30] + ' …'}”", (first, last), None)

    def _why_not(self, act_id: str, by_key: bool) -> str:  # noqa: FBT001 - as the actions call it
        """Why an act can not be done now: what it works on is not seen."""
        act = next(a for a in ACTS if a.id == act_id)
        home = next((desk for desk, acts in AT_DESK.items() if act_id in acts), "")
        if home and self.stack.currentWidget() is not self.desks[home]:
            return f"“{act.text.rstrip('…')}” works at the {home.capitalize()} desk (Ctrl+{DESKS.index(home) + 1})."
        proof = self.desks["proof"]
        assert isinstance(proof, ProofPanel)
        if act_id in ON_THE_FINDING and proof.names_shown:
            return "The names stand where the docket was, so that no finding is seen. Close them first (Ctrl+Shift+W)."
        focus = QApplication.focusWidget()
        elsewhere = isinstance(focus, QLineEdit | QComboBox | QAbstractSpinBox | QAbstractItemView | QTextEdit | QPlainTextEdit)
        if by_key and act_id in ON_THE_PAGE and elsewhere and focus is not proof.list:
            return f"The key of “{act.text.rstrip('…')}” works on the page and in the docket. Click there first, or use the menu."
        return ""

    def _remark(self) -> None:
        panel = self.desks["proof"]
        assert isinstance(panel, ProofPanel)
        if self.proof.finding() is None:
            self.tell("No finding is at hand. Choose one in the docket first (N).")
        else:
            panel.open_remark()

    def _flag(self) -> None:
        heard = self.proof.word_at(self.player.position) if self.player.playing else self.galley.cursor_word
        if heard < 0:
            self.tell("No word is heard here. Play, and flag at the word; or put the cursor on it.")
        elif self.proof.note_finding(Kind.OTHER, heard, heard, "flagged while listening"):
            self.tell("Flagged. Its note can be written with F.")

    def _accept(self) -> None:
        self.proof.accept()

    def _elsewhere(self) -> None:
        chapter, word = self.bench.chapter, self.galley.cursor_word
        if chapter is None or word < 0:
            self.tell("Put the cursor on a word first.")
            return
        self.names.elsewhere(chapter.id, word, self._hear_medley)

    def _hear_medley(self, reel: Reel) -> None:
        self._hear_reel(reel, 0, len(reel))

    def show_names(self) -> None:
        """The list of names and words in the docket's place, or the docket again."""
        panel = self.desks["proof"]
        assert isinstance(panel, ProofPanel)
        self.show_desk("proof")
        panel.toggle_names()

    def _go_to_place(self, chapter: str, word: int) -> None:
        if chapter != self.bench.chapter_id:
            self._take_chapter(chapter)
        self.show_desk("proof")
        self.galley.go_to_word(word)

    def _unheard(self) -> None:
        at = self.proof.next_unheard(self.spot)
        if at < 0:
            self.tell("All of this chapter was listened to.")
            return
        self.go_to_position(at)
        self.galley.set_playhead(at, follow=True)

    def _sign(self) -> None:
        self.proof.sign_off()

    def ask_flaws(self) -> None:
        """Which kinds of flaws are shown; the others are folded away."""
        dialog = QDialog(self)
        dialog.setWindowTitle("Kinds of flaws")
        box = QVBoxLayout(dialog)
        box.addWidget(label("Flaws of these kinds are shown; the others are folded away, never dropped.", "quiet"))
        boxes = {}
        for flaw in Flaw:
            boxes[flaw.value] = QCheckBox(flaw.value)
            boxes[flaw.value].setChecked(flaw.value not in self.proof.off)
            box.addWidget(boxes[flaw.value])
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(dialog.accept)
        buttons.rejected.connect(dialog.reject)
        box.addWidget(buttons)
        if dialog.exec():
            off = sorted(name for name, made in boxes.items() if not made.isChecked())
            self.settings.setValue("proof/off", ",".join(off))
            self.proof.switch_off(frozenset(off))

    def _cut_close(self) -> None:
        self.player.stop()
        self.proof.cut_and_close(*self.galley.selection)

    def _cut_fill(self) -> None:
        self.player.stop()
        self.proof.cut_and_fill(*self.galley.selection)

    def _split(self) -> None:
        self.proof.split(self.spot)

    def _join_earlier(self) -> None:
        self.proof.move_join(self.spot, -JOIN_STEP_S)

    def _join_later(self) -> None:
        self.proof.move_join(self.spot, JOIN_STEP_S)

    def _softer(self) -> None:
        self.proof.set_gain(*self.galley.selection, -1.0)

    def _louder(self) -> None:
        self.proof.set_gain(*self.galley.selection, 1.0)

    def _galley_menu(self, point: QPoint) -> None:
        menu = QMenu(self)
        for act in ("proof.note", "edit.cut_close", "edit.cut_fill", "edit.softer", "edit.louder", "edit.split"):
            menu.addAction(self.actions_[act])
        menu.exec(point)

    def _place(self) -> None:
        self.player.stop()
        self.splice.place()

    def _pass(self) -> None:
        self.splice.pass_()

    def _master_this(self) -> None:
        if self.bench.chapter:
            self.mastering.master(self.bench.chapter.id)
        else:
            self.tell("There is nothing to master: this book has no chapters yet.")

    def _view_intake(self) -> None:
        self.show_desk("intake")

    def _view_proof(self) -> None:
        self.show_desk("proof")

    def _view_pickups(self) -> None:
        self.show_desk("pickups")

    def _view_splice(self) -> None:
        self.show_desk("splice")

    def _view_master(self) -> None:
        self.show_desk("master")

    def _view_release(self) -> None:
        self.show_desk("release")

    def _night(self) -> None:
        self.set_theme("night" if self.actions_["view.night"].isChecked() else "day")

    def _spectrum(self) -> None:
        self.loupe.set_spectrum(shown=self.actions_["view.spectrum"].isChecked())

    def _zoom(self, tall: float, wide: float) -> None:
        """Change the height of the strips and the time on a line by factors; kept for the next time."""
        self._tall = min(TALLEST, max(LOWEST, self._tall * tall))
        self._wide = min(WIDEST, self._wide * wide if self._wide else 90.0 if wide > 1 else 0.0)
        self._wide = self._wide if self._wide >= 80 else 0.0
        self.galley.set_zoom(tall=self._tall, wide=self._wide)
        self.settings.setValue("view/tall", self._tall)
        self.settings.setValue("view/wide", self._wide)

    def _taller(self) -> None:
        self._zoom(1.25, 1.0)

    def _lower(self) -> None:
        self._zoom(0.8, 1.0)

    def _wider(self) -> None:
        self._zoom(1.0, 1.35)

    def _narrower(self) -> None:
        self._zoom(1.0, 1 / 1.35)

    def _closer(self) -> None:
        self.loupe.zoom(0.6)

    def _farther(self) -> None:
        self.loupe.zoom(1 / 0.6)

    # --- dialogs --------------------------------------------------------------------------------------------------

    def _folder(self) -> str:
        folder = text(self.settings, "files/folder", str(Path.home()))
        return folder if Path(folder).is_dir() else str(Path.home())

    def _remember(self, path: str) -> Path:
        self.settings.setValue("files/folder", str(Path(path).parent))
        return Path(path)

    def ask_manuscript(self) -> None:
        """Choose a manuscript and bring it in."""
        path, _ = QFileDialog.getOpenFileName(self, "Bring in a manuscript", self._folder(), MANUSCRIPTS)
        if path:
            self.intake.bring_manuscript(self._remember(path))

    def ask_recordings(self) -> None:
        """Choose recordings and bring them in."""
        paths, _ = QFileDialog.getOpenFileNames(self, "Bring in recordings", self._folder(), SOUNDS)
        if paths:
            self._remember(paths[0])
            self.intake.bring_recordings([Path(p) for p in paths])

    def ask_pickup(self) -> None:
        """Choose a pickup recording and sort its takes."""
        path, _ = QFileDialog.getOpenFileName(self, "Receive a pickup recording", self._folder(), SOUNDS)
        if path:
            self.pickups.receive(self._remember(path))

    def ask_call_sheet(self) -> None:
        """Choose a place for the call sheet and write it."""
        path, _ = QFileDialog.getSaveFileName(self, "Write the call sheet", self._folder() + "/call-sheet.csv", "Table (*.csv)")
        if path:
            self.pickups.send(self._remember(path))

    def ask_report(self) -> None:
        """Choose whose findings, and a file, and write the report."""
        chapter = self.bench.chapter
        if chapter is None:
            self.tell("There is nothing to report: this book has no chapters yet.")
            return
        whose, taken = QInputDialog.getItem(
            self, "Proof report", "Findings of", [chapter.title, "the whole book"], 0, editable=False
        )
        if not taken:
            return
        whole = whose == "the whole book"
        name = "proof report" if whole else f"proof report, {chapter.title.replace(':', ',').replace('/', '-')}"
        wanted = ";;".join(f"{s[1:].upper()} (*{s})" for s in reporting.SUFFIXES)
        path, chosen = QFileDialog.getSaveFileName(self, "Write the report", f"{self._folder()}/{name}.pdf", wanted)
        if path:
            out = self._remember(path)
            suffix = chosen[chosen.find("*") + 1 : -1]
            out = out if out.suffix.lower() in reporting.SUFFIXES else out.with_name(out.name + (suffix or ".pdf"))
            self.proof.report(out, whole=whole)

    def ask_ear(self) -> None:
        """Choose the folder of another recogniser; an empty choice goes back to the shipped one."""
        path = QFileDialog.getExistingDirectory(self, "Folder of another ear (cancel: the shipped one)", self._folder())
        self.settings.setValue("hear/ear", path)
        self.bench.ears = Hearers(Path(path) if path else None)
        self.tell(f"The ear is now {Path(path).name}." if path else "The ear is the shipped one.")

    def ask_language(self) -> None:
        """Choose the language that the book is read in."""
        names = {QLocale.languageToString(QLocale(code).language()): code for code in LANGUAGES}
        at = list(names.values()).index(self.bench.book.language)
        name, taken = QInputDialog.getItem(self, "Language", "The book is read in", list(names), at, editable=False)
        if taken and names[name] != self.bench.book.language and self.bench.do(SetLanguage(names[name])):
            alone = (
                " The multilingual ear hears it alone, without a witness: expect more doubt." if names[name] != ENGLISH else ""
            )
            self.tell(f"The book is read in {name}.{alone} Chapters that were heard already can be heard again.")

    def ask_release(self) -> None:
        """Choose a folder and release."""
        path = QFileDialog.getExistingDirectory(self, "Release into a folder", self._folder())
        if path:
            self.releasing.release(self._remember(path + "/x").parent)

    def new_book(self) -> None:
        """Choose a name and open a new book in a window of its own."""
        path, _ = QFileDialog.getSaveFileName(self, "New book", self._folder() + "/Untitled.reelbook", "Books (*.reelbook)")
        if path:
            self._open_other(self._remember(path), create=True)

    def open_book(self) -> None:
        """Choose a book and open it in a window of its own."""
        path = QFileDialog.getExistingDirectory(self, "Open a book (a folder NAME.reelbook)", self._folder())
        if path:
            self._open_other(self._remember(path), create=False)

    def _open_other(self, path: Path, *, create: bool) -> None:
        from faithful_reel.app.wiring import open_beside

        open_beside(self, path, create=create)

    def show_history(self) -> None:
        """Open or close the history pane."""
        self.history.setVisible(not self.history.isVisible())
        if self.history.isVisible():
            self.history.view.setFocus()

    def _go_to_step(self, step: int) -> None:
        self.player.stop()
        self.bench.go_to(step)

    # --- keeping --------------------------------------------------------------------------------------------------

    def ask_archive(self) -> None:
        """Choose a file and write the whole book into it."""
        folder = self.bench.session.store.folder
        path, _ = QFileDialog.getSaveFileName(
            self,
            "Export the book as one archive",
            f"{self._folder()}/{folder.stem}{ARCHIVE_SUFFIX}",
            f"Archives (*{ARCHIVE_SUFFIX})",
        )
        if path:
            out = self._remember(path)
            out = out if out.suffix else out.with_suffix(ARCHIVE_SUFFIX)
            self.jobs.start(f"Export {out.name}", partial(archived, folder, out), done=self._archived, stopped=self.bench.stopped)

    def _archived(self, out: Path) -> None:
        self.tell(f"The whole book is in {out.name}, {out.stat().st_size / 2**20:.0f} MB.")

    def ask_unpack(self) -> None:
        """Choose an archive and a name, unpack the book and open it."""
        source, _ = QFileDialog.getOpenFileName(
            self, "Unpack an archive of a book", self._folder(), f"Archives (*{ARCHIVE_SUFFIX})"
        )
        if not source:
            return
        path = self._remember(source)
        target, _ = QFileDialog.getSaveFileName(
            self, "Unpack the book as", str(path.with_name(path.stem + SUFFIX)), f"Books (*{SUFFIX})"
        )
        if target:
            folder = Path(target)
            self.jobs.start(
                f"Unpack {path.name}", partial(unpacked, path, folder), done=self._unpacked, stopped=self.bench.stopped
            )

    def _unpacked(self, folder: Path) -> None:
        self._open_other(folder, create=False)

    def back_up(self) -> None:
        """Write a backup of the database beside the work, where the book moved since the last one."""
        head = self.bench.session.store.count()
        if head != self._backed_up:
            self._backed_up = head
            folder = self.bench.session.store.folder
            self.jobs.start("Back up", lambda _watch: backed_up(folder), done=self._ignore, stopped=self.bench.stopped)

    def wake_ears(self) -> None:
        """Import what the ears stand on while nobody waits for it."""
        self.jobs.start("Wake the ears", wake, done=self._ignore, stopped=self.bench.stopped)

    def _ignore(self, _result: object) -> None:
        pass

    def _tell_state(self) -> None:
        if self.intake.faults:
            self._tell_faults()
        elif self.bench.session.store.crashed:
            steps = self.bench.session.store.count()
            lost = self.bench.session.store.lost_steps
            if lost:
                self.tell(
                    f"The last {lost} steps that were saved are missing: the book's log (book.sqlite-wal) is gone. "
                    f"If you have it, close the book, lay it beside book.sqlite, and open it again. {steps} steps are here."
                )
            else:
                self.tell(f"The book was not closed the last time. Its database is whole, and all {steps} steps are here.")
        self.intake.check_touched(self._tell_faults)

    def _tell_faults(self) -> None:
        found = self.intake.faults
        if found:
            named = [f"{self.bench.book.recording(r).name} ({kind})" for r, kind in found.items()]
            names = ", ".join(named[:4]) + (" and more" if len(named) > 4 else "")
            self.tell(f"{len(found)} of the book's recordings are missing or changed: {names}. Find them again at Intake.")

    def ask_search(self) -> None:
        """Choose a folder to look for lost recordings in."""
        path = QFileDialog.getExistingDirectory(self, "Look for lost recordings in", self._folder())
        if path:
            self.intake.find_lost(self._remember(path + "/x").parent)

    def ask_replacement(self, recording: str) -> None:
        """Choose the file of a lost recording."""
        path, _ = QFileDialog.getOpenFileName(self, "Choose the file of the lost recording", self._folder(), SOUNDS)
        if path:
            self.intake.replace_lost(recording, self._remember(path))

    def show_keys(self) -> None:
        """All acts and their keys; a key can be changed here and stays changed."""
        dialog = QDialog(self)
        dialog.setWindowTitle("Keys")
        dialog.resize(620, 560)
        view = table(["Act", "Key", "What it does"], "Acts and their keys")
        view.setEditTriggers(view.EditTrigger.DoubleClicked | view.EditTrigger.EditKeyPressed)
        view.setRowCount(len(ACTS))
        for row, act in enumerate(ACTS):
            for column, cell in enumerate((act.text, self.actions_[act.id].shortcut().toString(), act.tip)):
                item = QTableWidgetItem(cell)
                if column != 1:
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                view.setItem(row, column, item)
        view.resizeColumnsToContents()
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(dialog.accept)
        buttons.rejected.connect(dialog.reject)
        box = QVBoxLayout(dialog)
        box.addWidget(label("Double click a key to change it.", "quiet"))
        box.addWidget(view)
        box.addWidget(buttons)
        if dialog.exec():
            for row, act in enumerate(ACTS):
                edited = view.item(row, 1)
                if edited is not None and edited.text() != self.actions_[act.id].shortcut().toString():
                    self.actions_.set_key(act.id, edited.text())

    def show_about(self) -> None:
        """Version and licences."""
        text = (
            f"Faithful Reel {__version__}\n\n"
            "Proofs long narration against its manuscript, splices pickups, masters chapter files.\n\n"
            "Free software under the GNU General Public License, version 3. "
            "The typefaces Literata and Inter are under the SIL Open Font License 1.1."
        )
        QMessageBox.about(self, "About Faithful Reel", text)

    def _quit(self) -> None:
        self.close()

    def closeEvent(self, event: QCloseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Stop the sound and the jobs, let go of the book.  Nothing to save: every step is on disk."""
        self.settings.setValue("view/size", self.size())
        self._notice_timer.stop()
        self._backup_timer.stop()
        self.player.stop()
        self.jobs.close()
        self.splice.close()
        self.bench.close()
        if event is not None:
            event.accept()
        application = QApplication.instance()
        if application is not None:
            self.player.card.close()


def _left(seconds: float) -> str:
    if seconds > 90:
        return f"about {round(seconds / 60)} min left"
    return f"about {max(1, round(seconds))} s left"
