"""The window worked by keys alone, told to assistive technology, in any size of letters; the page stays where it is."""

from __future__ import annotations

import contextlib
import itertools

import pytest
from PyQt6.QtCore import QPoint, QSettings, Qt
from PyQt6.QtGui import QContextMenuEvent, QFont, QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QAbstractScrollArea, QApplication, QComboBox, QDialog, QLineEdit, QMenu, QWidget
from support.app import DemoWindow

from faithful_reel.app.asking import Asking
from faithful_reel.app.desks import DeskName
from faithful_reel.app.help import KeysDialog, page_of
from faithful_reel.app.keys import refused
from faithful_reel.app.places import Places, recent_books, remember_book
from faithful_reel.app.start import RecentBooks, Wanted
from faithful_reel.app.theme import letters_of, scale_of_letters
from faithful_reel.app.widgets.galley import Cell, Cells, Galley, GalleyContent, PagePlace, Strip
from faithful_reel.app.widgets.tables import Table, natural
from faithful_reel.core.book.commands import EditReel, PlaceHearing
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.work.timeline import Hearing

RATE = 44_100


@pytest.fixture
def heard(opened):
    """The demo window with its first chapter heard as written, three findings on it."""
    window = opened.window
    chapter = window.bench.book.chapter("c1")
    words = window.bench.text(chapter).words
    step = chapter.reel.lanes[0].segments[0].stop // (len(words) + 1)
    placed = tuple(Placed(i * step, i * step + step // 2, 0.9) for i in range(len(words)))
    said = tuple(Heard(w.text, p.start, p.stop, 0.9) for w, p in zip(words, placed, strict=True))
    found = tuple(
        Finding(f"f{k}", Kind.MISREAD, words[k].text, "other", k, 1, k * step, k * step + step // 2, 0.9) for k in (10, 40, 90)
    )
    links = tuple((i, i + 1, i, i + 1, True) for i in range(len(words)))
    key = window.bench.session.store.put(Hearing, Hearing(said, placed, links))
    window.bench.do(PlaceHearing("c1", key, found))
    opened.do("view.proof")
    opened.idle()
    return opened


def press(key, modifier=Qt.KeyboardModifier.NoModifier):
    """Press a key on whatever has the focus."""
    QTest.keyClick(QApplication.focusWidget(), key, modifier)


# --- buttons, boxes and the way round --------------------------------------------------------------------------------


def stops(window):
    """What Tab goes through, from where the focus is until it comes round."""
    found = []
    for _ in range(200):
        press(Qt.Key.Key_Tab)
        focus = QApplication.focusWidget()
        if focus in found:
            return found
        found.append(focus)
    raise AssertionError("Tab goes on for ever")


@pytest.mark.parametrize("desk", list(DeskName))
def test_tab_reaches_every_control_of_a_desk(heard, desk):
    window = heard.window
    window.activateWindow()
    heard.do("proof.next")  # its card is seen
    window.desks.show(desk)
    window.contents.setFocus()
    reached = stops(window)
    wanted = [
        w
        for w in window.findChildren(QWidget)
        if isinstance(w, QAbstractButton | QComboBox | QLineEdit | QAbstractScrollArea)
        and w.isVisible()
        and w.isEnabled()
        and w.focusPolicy() & Qt.FocusPolicy.TabFocus
        and w.focusProxy() is None
    ]
    missed = [f"{type(w).__name__} {w.accessibleName()}" for w in wanted if w not in reached]
    assert not missed
    assert len(wanted) > 6


def test_space_and_enter_press_the_button_that_has_the_frame(heard):
    window = heard.window
    loop, undo = window.parts.foot.loop, window.desk_buttons[DeskName.MASTER]
    loop.setFocus()
    press(Qt.Key.Key_Space)
    assert window.transport.looping
    assert not window.transport.playing  # Space is the key of Play as well
    press(Qt.Key.Key_Return)
    assert not window.transport.looping
    undo.setFocus()
    press(Qt.Key.Key_Enter)
    assert window.desks.current is DeskName.MASTER


def test_letters_choose_in_a_box_and_decide_nothing(heard):
    heard.do("proof.next")
    box = heard.window.proof_panel.docket.kinds
    box.setFocus()
    before = heard.window.bench.session.store.head
    for key in "smpn":
        QTest.keyClick(box, key)
    assert heard.window.bench.session.store.head == before
    assert heard.window.parts.proof.current == "f10"
    assert box.currentIndex() > 0


def test_f6_goes_round_the_parts_of_the_window(heard):
    window = heard.window
    window.galley.setFocus()
    seen = []
    for _ in range(5):
        heard.do("view.next_part")
        seen.append(QApplication.focusWidget())
    assert window.galley in seen
    assert {window.contents, window.loupe, window.parts.foot.play} <= set(seen)
    heard.do("view.previous_part")
    assert QApplication.focusWidget() is seen[-2]


# --- the galley by keys ------------------------------------------------------------------------------------------------


def made_galley(qtbot, words=240, long=""):
    texts = [f"word{i}" for i in range(words)]
    if long:
        texts[5] = long
    galley = Galley()
    qtbot.addWidget(galley)
    galley.resize(760, 420)
    cells = [Cell(t, i, 20_000 * i, 20_000 * i + 15_000, paragraph=i // 60) for i, t in enumerate(texts)]
    import numpy as np

    columns = Strip("voice", lambda edges: np.zeros((2, len(edges) - 1), np.float32))
    galley.set_content(GalleyContent(Cells.of(cells), (), (columns,), 20_000 * words, RATE))
    galley.show()
    qtbot.waitExposed(galley)
    galley.setFocus()
    return galley


def test_home_end_and_pages_walk_the_page(qtbot):
    galley = made_galley(qtbot)
    QTest.keyClick(galley, Qt.Key.Key_End)
    last = galley.cursor_word
    assert last == galley.setting.lines[0].stop - 1
    QTest.keyClick(galley, Qt.Key.Key_Home)
    assert galley.cursor_word == 0
    QTest.keyClick(galley, Qt.Key.Key_End, Qt.KeyboardModifier.ControlModifier)
    assert galley.cursor_word == 239
    QTest.keyClick(galley, Qt.Key.Key_Home, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(galley, Qt.Key.Key_PageDown)
    assert galley.setting.line_of[galley.cursor_word] >= 2
    QTest.keyClick(galley, Qt.Key.Key_PageUp)
    assert galley.cursor_word == 0


def test_select_all_copy_and_let_go(qtbot):
    galley = made_galley(qtbot, words=30)
    QTest.keyClick(galley, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert galley.selection == (0, 29)
    QTest.keyClick(galley, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QGuiApplication.clipboard().text() == " ".join(f"word{i}" for i in range(30))
    QTest.keyClick(galley, Qt.Key.Key_Escape)
    assert galley.selection[0] == galley.selection[1]


def test_enter_plays_from_the_word_and_the_menu_key_opens_the_menu_there(qtbot):
    galley = made_galley(qtbot)
    galley.go_to_word(7)
    with qtbot.waitSignal(galley.word_activated) as caught:
        QTest.keyClick(galley, Qt.Key.Key_Return)
    assert caught.args == [140_000]
    event = QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, QPoint(0, 0))
    with qtbot.waitSignal(galley.menu_wanted) as caught:
        QApplication.sendEvent(galley, event)
    at = galley.viewport().mapFromGlobal(caught.args[0])
    assert galley.word_rect(7).adjusted(-2, -2, 2, 8).contains(at.toPointF())


def test_the_right_button_moves_the_cursor_but_keeps_what_is_selected_under_it(qtbot):
    galley = made_galley(qtbot)

    def click(word, button=Qt.MouseButton.LeftButton, modifier=Qt.KeyboardModifier.NoModifier):
        QTest.mouseClick(galley.viewport(), button, modifier, galley.word_rect(word).center().toPoint())

    click(12, Qt.MouseButton.RightButton)
    assert galley.cursor_word == 12
    click(14)
    click(18, modifier=Qt.KeyboardModifier.ShiftModifier)
    click(16, Qt.MouseButton.RightButton)
    assert galley.selection == (14, 18)


def test_a_word_of_300_letters_goes_on_over_lines_and_stays_above_its_sound(qtbot):
    galley = made_galley(qtbot, words=20, long="a" * 300)
    parts = [line for line in galley.setting.lines if any(line.first + k == 5 for k, _, _ in line.cells)]
    assert len(parts) >= 3
    right = galley.viewport().width()
    assert all(b <= right for line in parts for _, _, b in line.cells)
    letters = "".join(line.letters(5, "a" * 300) for line in parts)
    assert letters == "a" * 300
    times = [(line.at + line.ts[0], line.at + line.ts[-1]) for line in parts]
    assert all(a[1] <= b[0] + 1 for a, b in itertools.pairwise(times))
    galley.go_to_word(6)
    assert galley.cursor_word == 6
    assert galley.grab().toImage().width() > 0


# --- what is told to who does not see it ---------------------------------------------------------------------------


def test_the_galley_tells_line_word_and_finding(heard):
    heard.do("proof.next")
    galley = heard.window.galley
    galley.setFocus()
    galley.go_to_word(10)
    told = galley.accessibleDescription()
    word = heard.window.bench.text(heard.window.bench.chapter).words[10].text
    assert told.startswith(f"{word}, heard at 0:00:")
    assert "misread, other, open" in told
    assert "Line " in told
    heard.keys("s")
    galley.go_to_word(10)
    assert "misread, other, stet" in galley.accessibleDescription()


def test_every_control_has_a_name_and_play_says_what_it_does(heard):
    window = heard.window
    for desk in DeskName:
        window.desks.show(desk)
        for widget in window.findChildren(QWidget):
            if isinstance(widget, QComboBox | QLineEdit | Table) and widget.isVisible():
                assert widget.accessibleName(), (desk, widget)
    play = window.parts.foot.play
    assert (play.text(), play.accessibleName()) == ("Play", "Play")
    heard.do("play.toggle")
    assert (play.text(), play.accessibleName()) == ("Stop", "Stop")
    heard.do("play.toggle")
    assert play.accessibleName() == "Play"


def test_loupe_meter_and_plot_tell_what_they_show(heard):
    window = heard.window
    heard.do("proof.next")
    window.loupe.setFocus()
    assert "cursor at 0:00:" in window.loupe.accessibleDescription()
    QTest.keyClick(window.loupe, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert "marked 0:00:" in window.loupe.accessibleDescription()
    meter = window.parts.foot.meter
    meter.set_level(-20.0, -3.5)
    assert meter.accessibleDescription() == "peak −3.5"
    meter.setFocus()
    QTest.keyClick(meter, Qt.Key.Key_Space)
    assert meter.accessibleDescription() == "peak —"
    window.desks.show(DeskName.MASTER)
    assert "Chapter One" in window.panels["master"].plot.accessibleDescription()


# --- letters of any size ---------------------------------------------------------------------------------------------


@pytest.fixture
def letters():
    """Sets the application's letters, and sets them back."""
    before = QApplication.font()
    yield lambda points: QApplication.setFont(letters_of(QFont("Sans", points)))
    QApplication.setFont(before)


def clipped(window):
    """Buttons and boxes that are smaller than what is written in them."""
    return [
        f"{type(w).__name__} {w.text()}"
        for w in window.findChildren(QAbstractButton)
        if w.isVisible() and w.text() and (w.width() < w.sizeHint().width() or w.height() < w.sizeHint().height() - 1)
    ]


@pytest.mark.parametrize(("points", "size"), [(10, (960, 540)), (10, (1280, 800)), (18, (1280, 800))])
def test_nothing_is_clipped_at_any_desk(qtbot, tmp_path, demo_book, letters, points, size):
    letters(points)
    assert scale_of_letters() == pytest.approx(points / 10, rel=0.02)
    made = DemoWindow(qtbot, tmp_path, demo_book)
    try:
        made.window.resize(*size)
        QApplication.processEvents()
        assert (made.window.width(), made.window.height()) == size
        for desk in DeskName:
            made.window.desks.show(desk)
            with contextlib.suppress(TimeoutError):
                qtbot.waitUntil(lambda: not clipped(made.window), timeout=2000)
            assert not clipped(made.window), desk
    finally:
        made.close()


# --- a page that stays -------------------------------------------------------------------------------------------------


def y_of(galley, word):
    return galley.word_rect(word).top()


def test_a_change_above_never_moves_what_is_in_view(heard):
    window, galley = heard.window, heard.window.galley
    heard.do("view.wider")  # lines break by time, too
    galley.verticalScrollBar().setValue(galley.verticalScrollBar().maximum() // 2 + 17)
    QApplication.processEvents()
    word = galley.place.word
    before, lines = y_of(galley, word), galley.lines
    window.bench.do(EditReel("c1", CutAndClose(3 * RATE, 12 * RATE)))  # words above lose their sound, lines close up
    galley.finish()
    assert galley.lines != lines
    assert abs(y_of(galley, word) - before) <= 1
    heard.do("edit.undo")
    galley.finish()
    assert abs(y_of(galley, word) - before) <= 1


def test_resizing_keeps_the_word_at_the_top_however_often(heard):
    galley = heard.window.galley
    galley.verticalScrollBar().setValue(galley.verticalScrollBar().maximum() // 2)
    QApplication.processEvents()
    word = galley.place.word
    for width in (900, 1280, 1000, 1100, 820, 1280):
        heard.window.resize(width, 800)
        QApplication.processEvents()
        assert galley.place.word == word


def test_each_chapter_keeps_its_place_and_cursor_also_after_closing(heard):
    window = heard.window
    window.galley.go_to_word(90)
    heard.do("view.next_chapter")
    window.galley.go_to_word(30)
    there = window.galley.place
    heard.do("view.previous_chapter")
    assert window.galley.cursor_word == 90
    assert window.galley.word_rect(90).top() < window.galley.viewport().height()
    heard.do("view.next_chapter")
    assert window.galley.place == there
    heard.reopen()
    assert heard.window.bench.chapter_id == "c2"  # the chapter that was at hand
    assert heard.window.galley.cursor_word == 30
    heard.do("view.previous_chapter")
    assert heard.window.galley.cursor_word == 90


def test_panes_and_columns_keep_their_sizes(opened):
    opened.do("view.proof")
    opened.do("edit.history")
    opened.window.history.view.horizontalHeader().resizeSection(1, 133)
    opened.do("edit.history")
    opened.window.across.setSizes([300, 980])
    QApplication.processEvents()
    width = opened.window.contents.width()
    assert width > 250
    opened.reopen()
    opened.qtbot.waitUntil(lambda: abs(opened.window.contents.width() - width) <= 2)
    assert opened.window.history.view.horizontalHeader().sectionSize(1) == 133


def test_recent_books_are_remembered_the_last_one_first(tmp_path):
    from PyQt6.QtCore import QSettings

    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    books = [tmp_path / f"{n}.reelbook" for n in "abc"]
    for book in books:
        book.mkdir()
        remember_book(settings, book)
    remember_book(settings, books[0])
    books[1].rmdir()
    assert recent_books(settings) == [books[0], books[2]]  # one that is gone is not offered
    settings.setValue("books/recent", "{nonsense")
    assert recent_books(settings) == []
    places = Places(settings, books[0])
    settings.setValue(f"{places._key}/places", '{"c1": [1, "x"], "c2": [1, 2, 3], "c3": [1]}')
    again = Places(settings, books[0])
    assert (again.kept("c1"), again.kept("c2"), again.kept("c3")) == ([], [1.0, 2.0, 3.0], [])


def test_the_list_of_books_opens_the_last_one_by_enter(qtbot, tmp_path):
    books = [tmp_path / "one.reelbook", tmp_path / "two.reelbook"]
    dialog = RecentBooks(books, first=True)
    qtbot.addWidget(dialog)
    dialog.show()
    dialog.list.setFocus()
    QTest.keyClick(dialog.list, Qt.Key.Key_Return)
    assert dialog.result() == QDialog.DialogCode.Accepted
    assert (dialog.chosen, dialog.wanted) == (books[0], Wanted.NONE)
    empty = RecentBooks([], first=True)
    qtbot.addWidget(empty)
    empty.show()
    QTest.mouseClick(empty.others[Wanted.DEMO], Qt.MouseButton.LeftButton)
    assert (empty.chosen, empty.wanted) == (None, Wanted.DEMO)


# --- keys ----------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("key", "why"),
    [
        ("Ctrl+E", ""),
        ("", ""),
        ("F7", ""),
        ("Q", ""),
        ("no such key", "is no key"),
        ("Ctrl+", "is no key"),
        ("Tab", "moves through the window"),
        ("Left", "moves through the window"),
        ("Shift+Return", "moves through the window"),
        ("Ctrl+A", "belongs to the galley"),
        ("Alt+B", "may open a menu"),
        ("Ctrl+K, Ctrl+B", "One key at a time"),
    ],
)
def test_nonsense_is_no_key(key, why):
    assert (why in refused(key)) if why else refused(key) == ""


@pytest.fixture
def keys(opened, qtbot):
    made = KeysDialog(
        opened.window.actions_, Asking(opened.window, opened.window.settings), opened.window.settings, opened.window
    )
    made.show()
    yield made
    made.close()


def test_the_keys_are_searched_also_those_of_the_parts(keys):
    keys.search.setText("crossfade of nothing")
    assert keys.view.rowCount() == 0
    keys.search.setText("loupe esc")
    assert keys.view.rowCount() == 1
    assert keys.act == ""  # it stays as it is
    assert not keys.key.isEnabled()
    keys.search.setText("stet")
    assert keys.act == "proof.stet"


def test_a_clash_is_told_and_swapped_and_tooltips_follow(opened, keys):
    from PyQt6.QtGui import QKeySequence

    actions = opened.window.actions_
    keys.search.setText("let it stand")
    keys.key.setKeySequence(QKeySequence("M"))
    assert "belongs to “Mend”" in keys.told.text()
    assert not keys.set.isEnabled()
    opened.press(keys.swap)
    assert (actions.key("proof.stet"), actions.key("proof.mend")) == ("M", "S")
    stet = opened.window.proof_panel.docket.card.decisions[Decision.STET]
    assert "(M)" in stet.toolTip()
    keys.key.setKeySequence(QKeySequence("Tab"))
    assert "can not be given away" in keys.told.text()
    opened.press(keys.usual)  # S is Mend's now: told, not taken
    assert "belongs to “Mend”" in keys.told.text()
    opened.press(keys.swap)
    assert (actions.key("proof.stet"), actions.key("proof.mend")) == ("S", "M")
    opened.press(keys.none)
    assert actions.key("proof.stet") == ""
    assert "(" not in stet.toolTip()


def test_an_act_is_done_by_a_part_of_its_name_and_the_last_stand_first(opened, keys, monkeypatch):
    actions = opened.window.actions_
    opened.do("view.night")
    keys._sift()
    assert keys.view.key_at(0) == "view.night"
    keys.search.setText("mark the sent")
    assert keys.act == "span.sentence"
    keys.search.setText("a join")
    QTest.keyClick(keys.search, Qt.Key.Key_Down)
    second = keys.act
    assert second != keys.view.key_at(0)
    QTest.keyClick(keys.search, Qt.Key.Key_Return)
    assert keys.wanted == second
    assert not keys.isVisible()
    done = []
    monkeypatch.setattr(KeysDialog, "exec", lambda dialog: setattr(dialog, "wanted", "view.night"))
    monkeypatch.setattr(actions, "run", done.append)
    actions["help.keys"].trigger()
    assert done == ["view.night"]


def test_keys_are_kept_as_sets_and_go_to_files_and_back(opened, keys, tmp_path, monkeypatch):
    from PyQt6.QtWidgets import QFileDialog, QInputDialog

    actions = opened.window.actions_
    actions.set_key("proof.stet", "Ctrl+Alt+Shift+S")
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("two hands", True))
    opened.press(keys.keep)
    assert [keys.sets.itemText(k) for k in range(keys.sets.count())] == ["usual keys", "two hands"]
    out = tmp_path / "mine"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(out), "Keys (*.json)"))
    opened.press(keys.write)
    assert out.with_suffix(".json").is_file()
    inside = opened.window.bench.session.store.folder / "keys.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(inside), "Keys (*.json)"))
    opened.press(keys.write)
    assert "would lie inside of the book" in keys.told.text()
    assert not inside.exists()
    keys.sets.setCurrentIndex(0)
    keys.sets.activated.emit(0)
    assert actions.key("proof.stet") == "S"
    keys.sets.setCurrentIndex(1)
    keys.sets.activated.emit(1)
    assert actions.key("proof.stet") == "Ctrl+Alt+Shift+S"
    actions.give_keys({})
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(out.with_suffix(".json")), ""))
    opened.press(keys.read)
    assert actions.key("proof.stet") == "Ctrl+Alt+Shift+S"
    opened.press(keys.forget)
    assert keys.sets.count() == 1
    wrong = {"proof.stet": "Tab", "proof.mend": "P", "no.such": "X"}
    told = actions.give_keys(wrong)
    assert any("no act of this version" in t for t in told)
    assert any("“Stet” keeps its usual key" in t for t in told)
    assert any("belongs to" in t for t in told)
    assert actions.key("proof.stet") == "S"
    held = [actions.key(a.id) for a in actions.all() if a.desk in (None, DeskName.PROOF) and actions.key(a.id)]
    assert len(held) == len(set(held))


@pytest.mark.parametrize(
    "raw", [b"", b"[]", b"{", b"\xff\xfe", b'{"kind": "faithful-reel keys", "keys": {"a": 1}}', b"[" * 100_000, b" " * (1 << 21)]
)
def test_a_file_without_keys_is_told_and_changes_nothing(opened, keys, tmp_path, monkeypatch, raw):
    from PyQt6.QtWidgets import QFileDialog

    path = tmp_path / "keys.json"
    path.write_bytes(raw)
    before = opened.window.actions_.keys()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(path), ""))
    opened.press(keys.read)
    assert "holds no keys" in keys.told.text()
    assert opened.window.actions_.keys() == before


def test_a_key_that_the_user_chose_is_not_taken_by_the_usual_one_of_another_act(qtbot, tmp_path, demo_book):
    settings = QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat)
    for act, key in {"play.faster": "F11", "proof.mend": "F3", "splice.next": "F4"}.items():  # chosen when these were free
        settings.setValue(f"keys/{act}", key)
    settings.sync()
    window = DemoWindow(qtbot, tmp_path, demo_book)
    try:
        actions = window.window.actions_
        assert [actions.key(a) for a in ("play.faster", "ear.join", "proof.mend", "here.out_to_word")] == ["F11", "", "F3", ""]
        assert [actions.key(a) for a in ("splice.next", "here.out_to_sentence")] == ["F4", "F4"]  # they never meet
        for act in ("ear.marked", "pause.mark"):
            assert actions.key(act) == actions.act(act).key
    finally:
        window.close()


def test_a_key_of_two_desks_is_that_of_the_desk_at_hand(opened):
    actions = opened.window.actions_
    opened.do("view.proof")
    assert actions["here.out_to_word"].shortcut().toString() == "F3"
    assert actions["splice.hear_in"].shortcut().isEmpty()
    opened.do("view.splice")
    assert actions["splice.hear_in"].shortcut().toString() == "F3"
    assert actions["here.out_to_word"].shortcut().isEmpty()
    assert actions.key("here.out_to_word") == "F3"


def test_every_desk_has_a_page_of_help(opened):
    for desk in DeskName:
        page = page_of(desk)
        assert page.startswith(f"# {desk.words}\n")
        assert len(page.split()) > 40
    opened.do("help.desk")
    shown = [w for w in QApplication.topLevelWidgets() if isinstance(w, QDialog) and w.isVisible()]
    assert any(opened.window.desks.current.words in w.windowTitle() for w in shown)
    for dialog in shown:
        dialog.close()


# --- tables ------------------------------------------------------------------------------------------------------------------


@pytest.fixture
def table(qtbot):
    made = Table(["Name", "Count"], "Things")
    qtbot.addWidget(made)
    made.setSelectionMode(Table.SelectionMode.ExtendedSelection)
    made.fill([("b", "10"), ("A", "9"), ("c", "−3.5 dB")], keys=["kb", "ka", "kc"])
    made.show()
    return made


def names(table):
    return [table.item(r, 0).text() for r in range(table.rowCount())]


def test_a_click_on_a_heading_sorts_and_the_third_brings_the_order_back(table, qtbot):
    header = table.horizontalHeader()

    def click(section):
        x = header.sectionViewportPosition(section) + 10
        QTest.mouseClick(header.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(x, header.height() // 2))

    table.choose("kc")
    click(1)
    assert names(table) == ["c", "A", "b"]  # by number, not by letter
    assert table.key == "kc"
    table.fill([("b", "10"), ("A", "9"), ("c", "−3.5 dB"), ("d", "1")], keys=["kb", "ka", "kc", "kd"])
    assert names(table) == ["c", "d", "A", "b"]  # it stays sorted, and every row keeps its key
    assert [table.key_at(r) for r in range(4)] == ["kc", "kd", "ka", "kb"]
    assert table.key == "kc"
    click(1)
    assert names(table) == ["b", "A", "d", "c"]
    click(1)
    assert names(table) == ["b", "A", "c", "d"]
    assert [table.key_at(r) for r in range(4)] == ["kb", "ka", "kc", "kd"]


def test_rows_are_copied_several_at_once(table):
    table.selectAll()
    QTest.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QGuiApplication.clipboard().text() == "b\t10\nA\t9\nc\t−3.5 dB"
    QTest.keyClick(table, Qt.Key.Key_End)
    assert table.key == "kc"
    QTest.keyClick(table, Qt.Key.Key_Home)
    assert table.key == "kb"


def test_what_is_sorted_by_numbers_first():
    assert sorted(["chapter 10", "chapter 9", "−2 dB", "3 dB", "−10 dB"], key=natural) == [
        "−10 dB", "−2 dB", "3 dB", "chapter 9", "chapter 10",
    ]  # fmt: skip


def test_the_right_click_moves_the_cursor_and_opens_a_menu_with_the_acts(heard, monkeypatch):
    opened = []
    monkeypatch.setattr(QMenu, "exec", lambda menu, *_a: opened.append([a.text().replace("&", "") for a in menu.actions()]))
    docket = heard.window.proof_panel.docket.list
    rect = docket.visualRect(docket.rows.index(2))
    QTest.mouseClick(docket.viewport(), Qt.MouseButton.RightButton, pos=rect.center())
    QApplication.sendEvent(
        docket.viewport(),
        QContextMenuEvent(QContextMenuEvent.Reason.Mouse, rect.center(), docket.viewport().mapToGlobal(rect.center())),
    )
    assert heard.window.parts.proof.current == "f90"
    assert {"Stet", "Mend", "Pickup", "Copy the rows"} <= set(opened[-1])


# --- history, decisions, jobs ------------------------------------------------------------------------------------------


def test_the_history_says_which_words_and_a_mend_is_a_mend(heard):
    heard.do("proof.next")
    finding = heard.window.parts.proof.finding()
    heard.do("proof.stet")
    store = heard.window.bench.session.store
    assert store.step(store.head).label == f"Stet: {finding.written}"
    heard.window.bench.do(EditReel("c1", CutAndClose(5 * RATE, 5 * RATE + 900), ("f40",), 2))
    assert store.step(store.head).label == f"Mend: {heard.bookstate.chapters[0].finding('f40').written}"
    heard.window.bench.do(EditReel("c1", CutAndClose(5 * RATE, 5 * RATE + 900)))
    assert store.step(store.head).label == "Cut and close"


def test_listening_stops_when_a_decision_moves_on(heard):
    heard.do("ear.next")
    heard.do("proof.next")
    heard.do("proof.listen")
    assert heard.window.transport.playing
    heard.do("proof.stet")
    assert not heard.window.transport.playing
    assert heard.window.parts.proof.current == "f40"


def test_work_is_in_the_title_and_closing_asks_once(heard, monkeypatch):
    import threading

    from PyQt6.QtWidgets import QMessageBox

    window, go = heard.window, threading.Event()

    def job(watch):
        watch.tick(0.5, "half")
        while not go.wait(0.02):
            watch.tick(0.5, "half")

    asked = []

    def exec_(box):
        asked.append(box.text())
        box._chosen = box.buttons()[len(asked) % 2]
        return 0

    monkeypatch.setattr(QMessageBox, "exec", exec_)
    monkeypatch.setattr(QMessageBox, "clickedButton", lambda box: next(b for b in box.buttons() if "Go on" in b.text()))
    window.jobs.start("Long work", job, done=lambda _r: None, stopped=lambda _w: None)
    heard.qtbot.waitUntil(lambda: window.windowTitle().startswith("50 %"))
    window.close()
    assert asked == ["Work is going on: Long work. Close all the same?"]
    assert window.isVisible()
    go.set()
    heard.idle()
    assert not window.windowTitle().startswith("50")


def test_quiet_work_is_neither_shown_nor_asked_about(heard):
    import threading

    window, go = heard.window, threading.Event()
    window.jobs.start("Draw something", lambda _w: go.wait(5), done=lambda _r: None, stopped=lambda _w: None, quiet=True)
    assert not window.job_row.isVisible()
    assert window._may_close()
    go.set()
    heard.idle()


def test_work_that_ends_while_the_window_is_away_tells_the_desktop(heard, monkeypatch):
    told = []
    monkeypatch.setattr("faithful_reel.app.window.notify", lambda _window, text: told.append(text))
    heard.window.jobs.start("Long work", lambda _w: None, done=lambda _r: None, stopped=lambda _w: None)
    heard.idle()
    assert told == ["Long work: done."]


# --- sound -----------------------------------------------------------------------------------------------------------------


def test_volume_is_heard_shown_and_kept(heard):
    window = heard.window
    heard.do("play.softer")
    heard.do("play.softer")
    assert window.parts.player.volume_db == -4.0
    assert window.parts.foot.volume.value() == -4
    heard.reopen()
    assert heard.window.parts.player.volume_db == -4.0
    heard.do("play.louder")
    heard.do("play.louder")
    heard.do("play.louder")
    assert heard.window.parts.player.volume_db == 0.0
    assert "as loud as the sound is" in heard.window.notice.text()


def test_the_shuttle_goes_both_ways_and_counts_nothing_backwards(heard, qtbot):
    window = heard.window
    transport, player = window.transport, window.parts.player
    transport.spot = 40 * RATE
    before = window.parts.proof.listening.listened("c1")
    heard.do("play.shuttle_back")
    qtbot.waitUntil(lambda: player.position < 40 * RATE - 4000)
    heard.do("play.shuttle_back")
    at = player.position
    qtbot.waitUntil(lambda: player.position < at - 8000)
    heard.do("play.shuttle_on")
    heard.do("play.shuttle_on")  # stands still
    assert not transport.playing
    assert transport.spot < 40 * RATE
    assert window.parts.proof.listening.listened("c1") == before
    heard.do("play.shuttle_on")
    start = player.position
    qtbot.waitUntil(lambda: player.position > start + 4000)
    heard.do("play.toggle")


def test_backwards_is_the_same_sound_from_its_end(qtbot):
    import numpy as np

    from faithful_reel.app.sound import Player

    class Card:
        name, simulated, device = "kept", True, ""

        def __init__(self):
            self.blocks = []

        def begin(self): ...
        def halt(self): ...
        def close(self): ...
        def take_back(self, keep):
            return 0

        def played(self):
            return 0

        def push(self, block, count):
            self.blocks.append(np.array(block[:count]))
            return count

    x = np.linspace(0, 0.9, 10_000).astype(np.float32)
    card = Card()
    player = Player(card)
    player.volume_db = -6.0
    player.play(lambda a, b: x[a:b], 1000, 9000, RATE, backwards=True)
    qtbot.waitUntil(lambda: sum(map(len, card.blocks)) == 8000)
    player.stop()
    heard = np.concatenate(card.blocks)
    assert np.allclose(heard, x[1000:9000][::-1] * 10 ** (-6 / 20), atol=1e-6)


def test_a_place_of_the_page_is_a_value():
    assert PagePlace() == PagePlace(-1, 0.0, -1)
