"""The galley: layout, place, marks, mouse and keys."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtGui import QPixmap
from PyQt6.QtTest import QTest

from faithful_reel.app.theme import DAY, NIGHT
from faithful_reel.app.widgets.galley import Cell, Cells, Galley, GalleyContent, Mark, Measures, Strip
from faithful_reel.app.widgets.galley.marks import note_top
from faithful_reel.core.collate.findings import Decision, Kind

RATE = 44_100
LINE_H, STRIP_H, TEXT_H = Measures().line_h, Measures().strip_h, Measures().text_h
TEXT = [
    "The",
    "tide",
    "had",
    "gone",
    "out",
    "further",
    "than",
    "anyone",
    "in",
    "the",
    "harbour",
    "could",
    "remember",
    "and",
    "it",
    "left",
    "the",
    "old",
    "ferry",
    "lying",
    "on",
    "its",
    "side",
    "in",
    "the",
    "mud",
]


def even(edges):
    return np.tile(np.array([[-0.2], [0.2]], np.float32), len(edges) - 1)


def painted(galley, number):
    """A line drawn anew."""
    return galley.drawing.painted(number, galley.viewport().width(), galley.devicePixelRatioF()).toImage()


def top_cell(galley):
    """The first cell of the line at the top."""
    return galley.setting.lines[int(galley.verticalScrollBar().value() // galley.line_height)].first


def content(*, marks=(), extra=(), joins=()):
    cells, at = [], RATE // 2
    for i, text in enumerate(TEXT * 6):
        if i in extra:
            cells.append(Cell("again", -1, at, at + 9000, extra=True))
            at += 9500
        cells.append(Cell(text, i, at, at + 12_000, paragraph=i // 40))
        at += 12_600
    return GalleyContent(Cells.of(cells), tuple(marks), (Strip("voice", even, tuple(joins)),), at + RATE, RATE)


@pytest.fixture
def galley(qtbot):
    made = Galley()
    qtbot.addWidget(made)
    made.resize(800, 520)
    made.set_content(content())
    with qtbot.waitExposed(made):
        made.show()
    return made


def seen(galley):
    """The page as it is painted now."""
    shot = QPixmap(galley.viewport().size())
    galley.viewport().render(shot)
    return shot.toImage()


def test_what_a_turn_has_no_time_for_is_painted_in_the_next(galley, qtbot, monkeypatch):
    def whole():
        """The page once nothing is left for another turn, however long a turn takes on a busy machine."""
        shot = seen(galley)
        while galley._paint_timer.isActive():
            qtbot.wait(5)
            shot = seen(galley)
        return shot

    before = whole()
    marks = tuple(Mark(f"f{k}", Kind.MISREAD, 9 * k, 3, 0, 0, "heard", Decision.OPEN, doubtful=False) for k in range(8))
    galley.set_content(content(marks=marks), keep_place=True)
    after = whole()
    galley.set_content(content(), keep_place=True)
    assert whole() == before != after
    monkeypatch.setattr("faithful_reel.app.widgets.galley.lines.PAINT_S", 0.0)
    galley._set_lines(galley.content, galley.setting.measures)  # the lines stay, their marks come
    galley.set_content(content(marks=marks), keep_place=True)
    turns = []
    while len(turns) < 50 and (not turns or turns[-1] != after):
        turns.append(seen(galley))
    assert len(turns) > 3
    assert turns[-1] == after
    line, shot_height = int(LINE_H), before.height()
    foot = [shot.copy(0, shot.height() - line, shot.width(), line) for shot in turns]
    assert foot[0] == before.copy(0, before.height() - line, before.width(), line)  # as it was, until it has its turn
    moved = content(marks=marks[:1])
    moved.cells.starts[5:] += 300  # the lines are set anew
    galley.set_content(moved, keep_place=True)
    assert seen(galley).copy(0, shot_height - line, before.width(), line) == foot[-1]


def test_words_do_not_overlap_and_stay_in_the_text_area(galley):
    for line in galley.setting.lines:
        rights = [b for _, _, b in line.cells]
        lefts = [a for _, a, _ in line.cells]
        assert all(a >= b for b, a in zip(rights, lefts[1:], strict=False))
        assert rights[-1] <= galley.viewport().width()


def test_time_runs_on_along_every_line_and_from_line_to_line(galley):
    last = 0.0
    for line in galley.setting.lines:
        assert all(b >= a for a, b in zip(line.ts, line.ts[1:], strict=False))
        assert all(b >= a for a, b in zip(line.xs, line.xs[1:], strict=False))
        assert line.at + line.ts[0] >= last
        last = line.at + line.ts[-1]


def test_every_word_stands_above_its_sound(galley):
    for line in galley.setting.lines:
        for index, a, b in line.placed():
            cell = galley.content.cells[index]
            assert line.x_of(cell.start) == pytest.approx(a, abs=0.01)
            assert line.x_of(cell.stop) == pytest.approx(b, abs=0.01)


def test_a_click_on_a_word_and_on_its_strip(galley, qtbot):
    rect = galley.word_rect(20)
    with qtbot.waitSignal(galley.word_clicked) as caught:
        QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=rect.center().toPoint())
    cell = galley.content.cells[20]
    assert caught.args == [20, cell.start]
    strip = QPoint(int(rect.left() + 0.75 * rect.width()), int(rect.top() + TEXT_H + STRIP_H / 2))
    with qtbot.waitSignal(galley.word_clicked) as caught:
        QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=strip)
    assert caught.args[1] == pytest.approx(cell.start + 0.75 * 12_000, abs=300)


def test_shift_click_and_drag_select_words(galley):
    QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=galley.word_rect(3).center().toPoint())
    QTest.mouseClick(
        galley.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, galley.word_rect(9).center().toPoint()
    )
    assert galley.selection == (3, 9)
    QTest.mousePress(galley.viewport(), Qt.MouseButton.LeftButton, pos=galley.word_rect(12).center().toPoint())
    QTest.mouseMove(galley.viewport(), galley.word_rect(10).center().toPoint())
    QTest.mouseRelease(galley.viewport(), Qt.MouseButton.LeftButton, pos=galley.word_rect(10).center().toPoint())
    assert galley.selection == (10, 12)


def test_arrows_walk_the_words(galley, qtbot):
    QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=galley.word_rect(5).center().toPoint())
    with qtbot.waitSignal(galley.word_clicked) as caught:
        QTest.keyClick(galley, Qt.Key.Key_Right)
    assert caught.args[0] == 6
    with qtbot.waitSignal(galley.word_clicked) as caught:
        QTest.keyClick(galley, Qt.Key.Key_Down)
    assert galley.setting.line_of[caught.args[0]] == galley.setting.line_of[6] + 1
    QTest.keyClick(galley, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert galley.selection[1] - galley.selection[0] == 1


def test_the_word_being_heard_is_lit_and_kept_in_view(galley):
    cell = galley.content.cells[100]
    galley.set_playhead(cell.start + 10, follow=True)
    assert galley.lit_word == 100
    assert 0 <= galley.word_rect(100).top() <= galley.viewport().height() - LINE_H / 2
    galley.set_playhead(cell.stop + 300)
    assert galley.lit_word == -1


@pytest.mark.parametrize(
    "kind", ["misread", "skipped", "added", "repeated", "false_start", "pause", "noise", "level", "name", "other"]
)
def test_every_kind_of_mark_is_drawn(galley, kind):
    plain = painted(galley, 0)
    cell = galley.content.cells[2]
    extra = (2,) if kind in ("added", "repeated", "false_start") else ()
    mark = Mark("f1", Kind(kind), 2, 1, cell.start, cell.stop, "note", Decision.PICKUP)
    galley.set_content(content(extra=extra))
    without = painted(galley, 0)
    galley.set_content(content(marks=[mark], extra=extra))
    assert painted(galley, 0) != without
    if not extra:
        assert without == plain


def test_doubtful_marks_are_folded_until_they_are_asked_for(galley):
    mark = Mark("f1", Kind.MISREAD, 2, 1, -1, -1, "note", Decision.OPEN, doubtful=True)
    galley.set_content(content(marks=[mark]))
    folded = painted(galley, 0)
    galley.set_show_doubtful(shown=True)
    assert painted(galley, 0) != folded


def test_a_click_in_the_margin_takes_the_finding(galley, qtbot):
    galley.set_content(content(marks=[Mark("f7", Kind.MISREAD, 2, 1, -1, -1, "that", Decision.OPEN)]))
    with qtbot.waitSignal(galley.mark_clicked) as caught:
        QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(galley.viewport().width() - 60, 28))
    assert caught.args == ["f7"]


def test_the_current_finding_comes_into_view(galley):
    galley.set_content(content(marks=[Mark("f7", Kind.MISREAD, 140, 1, -1, -1, "that", Decision.OPEN)]))
    galley.set_current_mark("f7")
    assert 0 <= galley.word_rect(140).top() < galley.viewport().height()


def test_resizing_sets_the_lines_anew_and_keeps_the_place(galley, qtbot):
    galley.verticalScrollBar().setValue(int(5 * LINE_H))
    top = top_cell(galley)
    lines = galley.lines
    galley.resize(600, 520)
    qtbot.waitUntil(lambda: galley.lines > lines)
    assert abs(galley.setting.line_of[top] - galley.verticalScrollBar().value() / LINE_H) <= 1


def test_day_and_night_draw_differently_and_sharp_at_any_scale(galley):
    day = painted(galley, 0)
    galley.set_theme(NIGHT)
    assert painted(galley, 0) != day
    galley.set_theme(DAY)
    for scale in (1.5, 2.0):
        galley.devicePixelRatioF = lambda scale=scale: scale
        assert painted(galley, 0).width() == round(galley.viewport().width() * scale)


def test_a_page_with_the_focus_and_a_playhead_is_still_paper(galley):
    galley.setFocus()
    galley.set_playhead(galley.content.cells[3].start)
    image = seen(galley)
    paper = sum(
        image.pixel(x, y) == DAY.color("page").rgb() for x in range(0, image.width(), 7) for y in range(0, image.height(), 7)
    )
    assert paper > 0.4 * (image.width() // 7) * (image.height() // 7)


def test_an_empty_page_says_why(galley):
    galley.set_content(GalleyContent())
    galley.set_empty_text("Bring in the manuscript.")
    picture = QPixmap(galley.viewport().size())
    galley.viewport().render(picture)
    blank = QPixmap(galley.viewport().size())
    blank.fill(DAY.color("page"))
    assert picture.toImage() != blank.toImage()


def test_words_without_sound_are_set_all_the_same(galley):
    cells = tuple(Cell(t, i, -1, -1) for i, t in enumerate(TEXT))
    galley.set_content(GalleyContent(Cells.of(cells), (), (), 0, RATE))
    assert galley.lines >= 2
    assert galley.word_rect(5).width() > 0


def test_a_line_of_verse_begins_a_line_and_goes_back_when_it_is_none(galley):
    from dataclasses import replace

    plain = content()
    galley.set_content(plain)
    flat = galley.word_rect(5)
    galley.set_content(replace(plain, lines=frozenset({5, 9})))
    assert galley.word_rect(5).y() > galley.word_rect(4).y()
    assert galley.word_rect(9).y() > galley.word_rect(8).y()
    galley.set_content(plain)
    assert galley.word_rect(5) == flat


def inked(galley, rect) -> int:
    """How many pixels of a part of the page are not paper."""
    image = galley.viewport().grab(rect).toImage()
    paper = galley.theme.color("page").rgb()
    return sum(image.pixel(x, y) != paper for x in range(image.width()) for y in range(image.height()))


def test_pages_stand_in_the_margin_and_scenes_are_parted(galley):
    from dataclasses import replace

    plain = content()
    galley.set_content(replace(plain, pages=((40, 12),), breaks=frozenset({1})))
    bar = galley.verticalScrollBar()
    bar.setValue(int(galley.word_rect(40).top()) + bar.value() - 200)
    y = int(galley.word_rect(40).top())  # the first word of the second paragraph
    margin, gap = QRect(2, y + 2, 62, int(TEXT_H) - 4), QRect(90, y - 12, 120, 8)
    assert inked(galley, margin) > 20
    assert inked(galley, gap) > 10
    galley.set_content(plain, keep_place=True)
    assert inked(galley, margin) == 0
    assert inked(galley, gap) == 0


def test_after_an_edit_the_page_is_as_if_it_were_laid_out_whole(galley, qtbot):
    """Only changed paragraphs are set anew: the result must not differ from setting all of them."""
    from dataclasses import replace

    def moved(source, first, by):
        cells = source.cells
        late = np.arange(len(cells)) >= first
        shifted = (np.where(late, column + by, column) for column in (cells.starts, cells.stops))
        starts, stops = shifted
        return replace(source, cells=replace(cells, starts=starts, stops=stops), length=source.length + by)

    before = content(extra=(30, 90))
    other = content(extra=(90,))
    steps = [
        moved(before, 50, -4000),
        moved(before, 3, 9000),
        before,
        other,
        moved(other, 110, -500),
        before,
        moved(before, 0, 700),
    ]
    galley.set_content(before)
    fresh = Galley()
    qtbot.addWidget(fresh)
    fresh.resize(galley.size())
    fresh.show()
    fresh.set_content(before)
    qtbot.waitUntil(lambda: fresh.viewport().width() == galley.viewport().width() == fresh.setting.width)
    for step in steps:
        galley.set_content(step, keep_place=True)
        fresh.set_content(step)
        assert galley.setting.starts == fresh.setting.starts
        assert galley.setting.line_of == fresh.setting.line_of
        for ours, theirs in zip(galley.setting.lines, fresh.setting.lines, strict=True):
            assert ours.placed() == theirs.placed()
            assert ours.xs == theirs.xs
            assert [ours.at + t for t in ours.ts] == [theirs.at + t for t in theirs.ts]


def test_a_long_page_whose_words_all_moved_in_time_is_set_in_turns(galley, qtbot):
    """What is in sight at once, the rest while there is time; in the end as if it were laid out whole."""
    from dataclasses import replace

    cells = Cells.of(
        [Cell(TEXT[i % len(TEXT)], i, 9000 * i, 9000 * i + 8000 - 40 * (i % 7), paragraph=i // 50) for i in range(4000)]
    )
    source = GalleyContent(cells, (), (Strip("voice", even),), 9000 * 4000, RATE)
    galley.set_content(source)
    bar = galley.verticalScrollBar()
    bar.setValue(bar.maximum() // 2)
    wider = replace(cells, starts=cells.starts * 2, stops=cells.starts * 2 + 30_000 * (np.arange(4000) % 5 == 0) + 6000)
    step = replace(source, cells=wider, length=source.length * 2)
    galley.set_content(step, keep_place=True)
    assert galley.setting.stale
    top = top_cell(galley)
    line = galley.setting.lines[galley.setting.line_of[top]]
    assert line.at == wider.starts[line.first]
    qtbot.waitUntil(lambda: not galley.setting.stale, timeout=10_000)
    assert not galley._stale_timer.isActive()
    assert top_cell(galley) == galley.setting.lines[galley.setting.line_of[top]].first
    fresh = Galley()
    qtbot.addWidget(fresh)
    fresh.resize(galley.size())
    fresh.show()
    fresh.set_content(source)
    qtbot.waitUntil(lambda: fresh.viewport().width() == galley.viewport().width() == fresh.setting.width)
    fresh.set_content(step)
    assert galley.setting.starts == fresh.setting.starts
    assert galley.setting.line_of == fresh.setting.line_of


def test_notes_of_one_line_stand_under_each_other_and_each_is_taken_by_its_row(galley, qtbot):
    marks = [Mark(f"f{k}", Kind.MISREAD, k, 1, -1, -1, f"note {k}", Decision.OPEN) for k in range(6)]
    galley.set_content(content(marks=marks))
    measures, x = galley.setting.measures, galley.viewport().width() - 60
    taken = []
    galley.mark_clicked.connect(taken.append)
    for row in range(4):
        middle = galley.y_of(0) + (note_top(row, measures) + note_top(row + 1, measures)) / 2
        QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(x, int(middle)))
    assert taken == ["f0", "f1", "f2", "f3"]
    drawn = [
        inked(
            galley,
            QRect(galley.viewport().width() - int(measures.right) + 20, int(galley.y_of(0) + note_top(row, measures)), 80, 17),
        )
        for row in range(4)
    ]
    assert min(drawn) > 10
    above = QPoint(x, int(galley.y_of(0) + note_top(0, measures)) - 2)
    QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=above)
    assert len(taken) == 4


def test_a_note_that_is_not_drawn_is_not_taken(galley):
    marks = [Mark(f"f{k}", Kind.MISREAD, k, 1, -1, -1, f"note {k}", Decision.OPEN) for k in range(6)]
    galley.set_content(content(marks=marks))
    measures = galley.setting.measures
    taken = []
    galley.mark_clicked.connect(taken.append)
    fifth = galley.y_of(0) + note_top(4, measures) + 1
    assert galley.line_under(fifth) == 0
    QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(galley.viewport().width() - 60, int(fifth)))
    assert taken == []
