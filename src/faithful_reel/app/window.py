"""The window: title, desks, contents, foot.  A frame: what happens at a desk is the desk's own."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

from PyQt6.QtCore import QChildEvent, QSettings, QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QShowEvent
from PyQt6.QtWidgets import (
    QApplication,
    QDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from faithful_reel.app.actions import Act, Actions, Menu, On
from faithful_reel.app.contents import Contents
from faithful_reel.app.contents_list import ContentsList
from faithful_reel.app.crash import or_else
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.history import HistoryPane
from faithful_reel.app.intake.presenter import IntakePresenter
from faithful_reel.app.jobs import Jobs
from faithful_reel.app.jobs_row import JobsRow
from faithful_reel.app.keeping import Keeping
from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.notify import notify
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.proof.names_presenter import NamesPresenter
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.release.presenter import ReleasePresenter
from faithful_reel.app.settings import keep_rows, number, rows, text
from faithful_reel.app.sound import Player
from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.theme import THEMES, scale_of_letters, style_sheet
from faithful_reel.app.transport.bar import TransportBar
from faithful_reel.app.transport.close_view import CloseView
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.widgets.field_bar import FieldBar
from faithful_reel.app.widgets.galley import LOWEST, TALLEST, WIDEST
from faithful_reel.app.widgets.message_strip import MessageStrip, Said
from faithful_reel.app.widgets.parts import ActButton, Desk, OneLine, Scrolled, button, label, rule, tip
from faithful_reel.app.widgets.tables import RowMenu, give_widths, keep_widths
from faithful_reel.app.workbench import Workbench
from faithful_reel.core.work.mastering import unheard_lanes

TITLE_BAR = 44
"""Left free for the title bar that the desktop puts on the window, in pixels."""
FRAME_BUTTONS = 150
"""What the frame of a dialog needs beside its title, in pixels at usual letters."""
SMALLEST = QSize(800, 480)


@dataclass(frozen=True, slots=True)
class Parts:
    """What the wiring puts into a window."""

    bench: Workbench
    jobs: Jobs
    transport: Transport
    player: Player
    contents: Contents
    panels: Mapping[DeskName, Desk]
    loupe: CloseView
    foot: TransportBar
    intake: IntakePresenter
    proof: ProofPresenter
    names: NamesPresenter
    pickups: PickupsPresenter
    splice: SplicePresenter
    mastering: MasterPresenter
    releasing: ReleasePresenter
    keeping: Keeping
    editing: Editing


class Window(QMainWindow):
    """One book, one window."""

    def __init__(self, parts: Parts, desks: Desks, settings: QSettings) -> None:
        super().__init__()
        self.parts, self.desks, self.settings = parts, desks, settings
        self.bench, self.jobs, self.transport = parts.bench, parts.jobs, parts.transport
        self.loupe, self.panels = parts.loupe, parts.panels
        self.theme = THEMES["day"]
        self.closing: list[Callable[[], object]] = []
        """Called when the window closes, before the book does."""
        self._tall = number(settings, "view/tall", 1.0, LOWEST, TALLEST)
        self._wide = number(settings, "view/wide", 0.0, 0.0, WIDEST)
        self._sure_to_close = self._panes_given = False
        self.setMinimumSize(SMALLEST)
        self._build()
        proof = parts.panels[DeskName.PROOF]
        assert isinstance(proof, ProofPanel)
        self.proof_panel, self.galley = proof, proof.galley
        self.galley.set_zoom(tall=self._tall, wide=self._wide)

    def furnish(self, actions: Actions) -> None:
        """Give the window its acts, and show the book."""
        self.actions_ = actions
        self._build_menus()
        inside = self.findChildren(QWidget)
        for made in inside:
            if isinstance(made, ActButton | RowMenu):
                made.bind(actions)
        actions.keys_changed.connect(self._keys_changed)
        self.bench.tell, self.bench.report, self.bench.warn = self.tell, self.report, self.warn
        self.bench.listen(self.refresh)
        self.desks.listen(self._desk_changed)
        self.set_theme(text(self.settings, "view/theme", "day"))
        give_widths([table for table in inside if isinstance(table, QTableView)], self.settings)
        size = self.settings.value("view/size")
        self.resize(self._fitting(size if isinstance(size, QSize) else QSize(1280, 800)))
        self._desk_changed()
        self.refresh()
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
        self.job_row = JobsRow(self.jobs)
        self.job_row.ended.connect(self._job_ended)
        self.jobs.changed.connect(self._show_title)
        self.contents = ContentsList(self.parts.contents, self.bench.open_chapter)
        self.stack = QStackedWidget()
        self.pages = {d: panel if d is DeskName.PROOF else Scrolled(panel) for d, panel in self.panels.items()}
        for page in self.pages.values():
            self.stack.addWidget(page)
        self.across = self._splitter("contents", Qt.Orientation.Horizontal, (self.contents, self.stack), _contents_sizes(), 1)
        self.down = self._splitter("loupe", Qt.Orientation.Vertical, (self.across, self.loupe), (560, 132), 0)
        self.strip = MessageStrip()
        self.notice = self.strip.notice
        self.bar = FieldBar()
        self.bar.turned.connect(self._tell_turned)
        self._asked_in = self.bench.chapter_id
        self.history = HistoryPane(self.bench, self)
        self.history.wanted.connect(self._go_to_step)
        self.addDockWidget(Qt.DockWidgetArea.RightDockWidgetArea, self.history)
        self.history.hide()
        whole = QWidget()
        box = QVBoxLayout(whole)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        for widget in (self._head(), rule(), self.strip, rule(), self.down, self.bar, rule(), self.parts.foot):
            box.addWidget(widget, 1 if widget is self.down else 0)
        self.setCentralWidget(whole)

    def _tell_turned(self, now: str) -> None:
        """What the row over the foot names is another now."""
        self.tell(f"Meant now: {now}. Press Enter again to do it.")

    def _splitter(
        self, name: str, way: Qt.Orientation, inside: tuple[QWidget, QWidget], sizes: tuple[int, int], grows: int
    ) -> QSplitter:
        made = QSplitter(way)
        made.setObjectName(name)
        made.setHandleWidth(1)
        made.setChildrenCollapsible(False)
        for widget in inside:
            made.addWidget(widget)
        made.setStretchFactor(grows, 1)
        made.setSizes(list(sizes))
        return made

    def _head(self) -> QWidget:
        head = QWidget()
        head.setObjectName("top")
        row = QHBoxLayout(head)
        row.setContentsMargins(16, 4, 16, 0)
        self.book_title = OneLine()
        self.book_title.setObjectName("title")
        row.addWidget(self.book_title)
        self.unheard = label("", "problem")
        self.unheard.setAccessibleName("Lanes that are not heard")
        row.addWidget(self.unheard)
        row.addStretch()
        row.addWidget(self.job_row, 1)
        self.desk_buttons: dict[DeskName, QPushButton] = {}
        for desk in DeskName:
            made = button(desk.words, "deskname", f"The {desk.words} desk ({desk.key})")
            made.setCheckable(True)
            made.setProperty("desk", desk)
            made.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            made.clicked.connect(self._desk_clicked)
            row.addWidget(made)
            self.desk_buttons[desk] = made
        return head

    def _build_menus(self) -> None:
        bar = self.menuBar()
        assert bar is not None
        menus: dict[tuple[Menu, str], QMenu] = {}
        for act in self.actions_.all():
            whole = menus.get((act.menu, ""))
            if whole is None:
                whole = menus[act.menu, ""] = _menu(bar.addMenu(f"&{act.menu.value}"))
            inside = menus.get((act.menu, act.within))
            if inside is None:
                inside = menus[act.menu, act.within] = _menu(whole.addMenu(act.within))
            elif act.apart:
                inside.addSeparator()
            inside.addAction(self.actions_[act.id])

    def _keys_changed(self) -> None:
        for made in self.findChildren(ActButton):
            made.follow(self.actions_)
        for desk, made_ in self.desk_buttons.items():
            made_.setToolTip(self.actions_.tip(f"view.{desk.value}"))

    # --- showing --------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the book as it is: contents, counts, the desk at hand, the loupe, the foot."""
        book, session = self.bench.book, self.bench.session
        self.book_title.setText(book.title)
        self.book_title.setToolTip(tip(book.title))
        self._show_title()
        chapter = self.bench.chapter
        if self._asked_in != self.bench.chapter_id:
            self._asked_in = self.bench.chapter_id
            self.bar.shut()
        unheard = unheard_lanes(chapter.reel) if chapter else []
        self.unheard.setText(f"not heard: {', '.join(unheard)}" if unheard else "")
        self.unheard.setVisible(bool(unheard))
        self.show_contents()
        self.refresh_desk()
        self.loupe.refresh()
        self.history.refresh()
        undo, redo = session.can_undo(), session.can_redo()
        self.actions_.say("edit.undo", f"Undo: {undo}" if undo else "Undo")
        self.actions_.say("edit.redo", f"Redo: {redo}" if redo else "Redo")
        self.actions_["edit.undo"].setEnabled(bool(undo))
        self.actions_["edit.redo"].setEnabled(bool(redo))
        if not self.transport.playing:
            self.parts.foot.show_time(self.transport.spot)
        at = session.store.step(session.store.head).at
        self.parts.foot.show_saved(f"step saved {at[11:]}" if at else "nothing changed yet")

    def _show_title(self) -> None:
        percent = self.job_row.percent
        done = f"{percent} %  " if percent >= 0 else ""
        self.setWindowTitle(f"{done}{self.bench.book.title} – Faithful Reel")

    def show_contents(self) -> None:
        """The contents, and what is left to do at every desk."""
        self.contents.refresh(self.bench.chapter_id)
        for desk, count in self.parts.contents.to_do().items():
            made, words = self.desk_buttons[desk], f"{desk.words} {count}".strip()
            if made.text() != words:
                made.setText(words)
                made.setAccessibleName(f"{desk.words} desk, {count or 'nothing'} to do")

    def refresh_desk(self) -> None:
        """The desk at hand; where it can not be shown the first one, and why: a book can be opened whatever is in it."""
        desk = self.desks.current
        if desk is DeskName.INTAKE:
            self.panels[desk].refresh()
            return
        with or_else(self._first_desk):
            self.panels[desk].refresh()

    def _first_desk(self, why: str) -> None:
        desk = self.desks.current
        self.desks.show(DeskName.INTAKE)
        self.warn(f"The {desk.words} desk can not be shown: {why}")

    def _desk_changed(self) -> None:
        desk = self.desks.current
        if self.across.isHidden():
            self._grow(grown=False)
        self.settings.setValue("view/desk", desk.value)
        self.bar.shut()
        self.stack.setCurrentWidget(self.pages[desk])
        for other, made in self.desk_buttons.items():
            made.setChecked(other is desk)
        self.actions_.arrange(desk)
        self.refresh_desk()
        self.panels[self.desks.current].take_keys()

    def _desk_clicked(self) -> None:
        sender = self.sender()
        if sender is not None:
            desk = DeskName(sender.property("desk"))
            self.desks.show(desk)
            self.desk_buttons[desk].setChecked(True)

    def tell(self, text: str) -> None:
        """Say something above the desk, until something else is said."""
        self.strip.say(text, Said.NEWS)

    def report(self, text: str) -> None:
        """Say that something was done."""
        self.strip.say(text, Said.DONE)

    def warn(self, text: str) -> None:
        """Say what went wrong."""
        self.strip.say(text, Said.PROBLEM)

    def show_messages(self) -> None:
        """The last messages again."""
        self.strip.show_last()

    def come_forward(self) -> None:
        """Somebody would open this book a second time: here it is."""
        if self.isMinimized():
            self.showNormal()
        self.raise_()
        self.activateWindow()
        QApplication.alert(self)
        self.tell("This book is open here already.")

    def _job_ended(self, name: str) -> None:
        notify(self, f"{name}: done.")

    def set_theme(self, name: str) -> None:
        """Day or night."""
        self.theme = theme = THEMES.get(name, THEMES["day"])
        self.settings.setValue("view/theme", theme.name)
        self.setStyleSheet(style_sheet(theme))
        for panel in self.panels.values():
            panel.set_theme(theme)
        for part in (self.contents, self.loupe, self.parts.foot, self.history):
            part.set_theme(theme)
        self.actions_["view.night"].setChecked(theme.name == "night")

    def zoom(self, tall: float, wide: float) -> None:
        """Change the height of the strips and the time on a line by factors; kept for the next time."""
        wanted = self._wide * wide if self._wide else 90.0 if wide > 1 else 0.0
        self.galley.set_zoom(tall=self._tall * tall, wide=wanted)
        measures = self.galley.setting.measures
        self._tall, self._wide = measures.tall, measures.wide
        self.settings.setValue("view/tall", self._tall)
        self.settings.setValue("view/wide", self._wide)

    def grow_loupe(self) -> None:
        """Let the loupe fill the middle of the window, with its lanes under each other, or give the page back."""
        self._grow(grown=self.across.isVisible())

    def _grow(self, *, grown: bool) -> None:
        self.across.setVisible(not grown)
        self.actions_["view.grow"].setChecked(grown)
        (self.loupe if grown else self.galley).setFocus()

    def show_history(self) -> None:
        """Open or close the history pane."""
        self.history.setVisible(not self.history.isVisible())
        if self.history.isVisible():
            self.history.view.setFocus()

    def _go_to_step(self, step: int) -> None:
        self.transport.stop()
        self.bench.go_to(step)

    # --- keys -----------------------------------------------------------------------------------------------------

    def why_not(self, act: Act[Any], by_key: bool) -> str:  # noqa: FBT001 - as the actions call it
        """Why an act can not be done now: what it works on is not seen."""
        if act.desk is not None and self.desks.current is not act.desk:
            return f"“{act.name}” works at the {act.desk.words} desk ({self.actions_.key(f'view.{act.desk.value}')})."
        if act.on is On.ANYTHING:
            return ""
        if act.on is On.FINDING and self.across.isHidden():
            key = self.actions_.key("view.grow")
            return f"The loupe fills the window, so that no finding is seen. Give the page back first ({key})."
        focus = QApplication.focusWidget()
        return self.panels[self.desks.current].why_not(act.name, finding=act.on is On.FINDING, by_key=by_key, focus=focus)

    def next_part(self, by: int) -> None:
        """Give the keys to the next part of the window: contents, desk, side, loupe, foot, names of the desks."""
        parts = self._stops()
        focus = QApplication.focusWidget()
        inside = [i for i, (whole, _) in enumerate(parts) if focus is not None and (whole is focus or whole.isAncestorOf(focus))]
        at = inside[-1] if inside else -1 if by > 0 else 0
        parts[(at + by) % len(parts)][1].setFocus(Qt.FocusReason.ShortcutFocusReason)

    def _stops(self) -> list[tuple[QWidget, QWidget]]:
        """The parts of the window that are seen, each with the widget that takes its keys."""
        desk: QWidget = self.panels[self.desks.current]
        parts: list[tuple[QWidget, QWidget]] = [(self.contents, self.contents)]
        if desk is self.proof_panel:
            side = self.proof_panel.names.view if self.proof_panel.names_shown else self.proof_panel.docket.list
            parts += [
                (self.galley, self.galley),
                (self.proof_panel.side, side if side.isVisible() else self.proof_panel.docket.kinds),
            ]
        else:
            inside = desk.findChildren(QWidget)
            first = next((w for w in inside if w.isVisible() and w.focusPolicy() & Qt.FocusPolicy.TabFocus), desk)
            parts.append((desk, first))
        parts += [(self.loupe, self.loupe), (self.parts.foot, self.parts.foot.play)]
        if self.history.isVisible():
            parts.append((self.history, self.history.view))
        return parts

    # --- closing --------------------------------------------------------------------------------------------------

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802 - Qt's name
        """The panes get their widths once the window has its own."""
        super().showEvent(event)
        if not self._panes_given:
            self._panes_given = True
            QTimer.singleShot(0, self._give_panes)

    def _give_panes(self) -> None:
        kept = rows(self.settings, "view/panes")
        for pane in self.findChildren(QSplitter):
            sizes = kept.get(pane.objectName(), [])
            if len(sizes) == pane.count() and all(size > 0 for size in sizes):
                pane.setSizes([round(size) for size in sizes])

    def _keep(self) -> None:
        self.settings.setValue("view/size", self.size())
        panes = [p for p in self.findChildren(QSplitter) if p.objectName()]
        keep_rows(self.settings, "view/panes", {p.objectName(): [float(s) for s in p.sizes()] for p in panes})
        keep_widths(self.findChildren(QTableView), self.settings)

    def close_now(self) -> None:
        """Close without a question: the system asks for it, or the program has to end."""
        self._sure_to_close = True
        self.close()

    def _may_close(self) -> bool:
        seen = self.jobs.seen
        if self._sure_to_close or not seen:
            return True
        names = ", ".join(r.name for r in seen[:3]) + (" and more" if len(seen) > 3 else "")
        box = QMessageBox(
            QMessageBox.Icon.Question, "Faithful Reel", f"Work is going on: {names}. Close all the same?", parent=self
        )
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setInformativeText("It is stopped, and can be begun again; nothing that was done is lost.")
        close = box.addButton("Stop it and close", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Go on working", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        return box.clickedButton() is close

    def childEvent(self, event: QChildEvent | None) -> None:  # noqa: N802 - Qt's name
        """A dialog is as wide as its title needs, with its buttons: a frame cuts off what does not fit."""
        super().childEvent(event)
        dialog = event.child() if event is not None and event.polished() else None
        if isinstance(dialog, QDialog):
            QTimer.singleShot(0, partial(_as_wide_as_its_title, dialog))

    def closeEvent(self, event: QCloseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Stop the sound and the jobs, let go of the book.  Nothing to save: every step is on disk."""
        if not self._may_close():
            if event is not None:
                event.ignore()
            return
        self._keep()
        self.transport.stop()
        self.jobs.close()
        for closing in self.closing:
            closing()
        self.bench.close()
        if event is not None:
            event.accept()


def _menu(made: QMenu | None) -> QMenu:
    """A menu that tells what its acts do."""
    assert made is not None
    made.setToolTipsVisible(True)
    return made


def _contents_sizes() -> tuple[int, int]:
    """How wide the contents are, and the desk beside them, before anybody has dragged them."""
    contents = round(176 * min(1.5, scale_of_letters()))
    return contents, 1280 - contents


def _as_wide_as_its_title(dialog: QDialog) -> None:
    with contextlib.suppress(RuntimeError):  # it is gone already
        title = dialog.fontMetrics().horizontalAdvance(dialog.windowTitle())
        dialog.resize(max(dialog.width(), title + round(FRAME_BUTTONS * scale_of_letters())), dialog.height())
