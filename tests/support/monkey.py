"""Somebody who presses everything: acts, keys, clicks, edits, undo, reopening, on the real window with a real book.

Run as a program it works on a fresh demo book until the journal has grown by so many steps: `python monkey.py SEED STEPS`.
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
import traceback
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QInputDialog, QMessageBox, QWidget

from faithful_reel.app.acts import every_act
from faithful_reel.app.desks import DeskName
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.core.book.commands import EDITION
from faithful_reel.core.book.keeping import archived, verified
from faithful_reel.core.book.pickups import ReceiveTakes
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.errors import AppError
from faithful_reel.core.pickups.ledger import WAITING, Take

LEFT_OUT = frozenset({"book.quit", "book.new", "book.open", "proof.hear", "intake.pair"})
"""What ends the run, starts another process, or takes the ears minutes."""
SELDOM = frozenset({"master.this", "master.all", "release.write", "book.archive", "proof.report", "book.unpack"})
WORDS = ("tide", "=1+1", "<b>x</b>", "", "0:00:12", "p 3", "\N{SNOWMAN}", "a" * 300, "'; DROP TABLE steps; --", "100 % #?")


class Monkey:
    """Presses things in a window; `faults` are what went wrong."""

    def __init__(self, window, seed: int, folder: Path) -> None:
        self.window, self.rng, self.folder = window, random.Random(seed), folder
        self.faults: list[str] = []
        self.done: list[str] = []

    def dialogs(self, patch) -> None:
        """Answer every dialog by chance, as `patch(object, name, value)` puts it in."""
        folder = self.folder
        names = iter(range(10**9))

        def some_file(*_args, **_more):
            path = folder / f"made-{next(names)}{self.rng.choice(('.csv', '.pdf', '.reelarchive', '.x'))}"
            return self.rng.choice(("", str(path))), ""

        listed, copy = folder / "list.csv", folder / "copy.reelarchive"
        listed.write_text("as heard,as written,time\ngreat,green,0:21\nx,the,\n,nobody,9:99\n<b>,=1+1,\n", encoding="utf-8")
        archived(self.window.book, copy)

        def there(_parent, title, *_args, **_more):
            path = listed if "findings" in title else copy if "archive of this" in title else ""
            return str(self.rng.choice(("", path))), ""

        patch(QFileDialog, "getOpenFileName", there)
        patch(QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([], ""))
        patch(QFileDialog, "getExistingDirectory", lambda *_a, **_k: self.rng.choice(("", str(folder / "out"))))
        patch(QFileDialog, "getSaveFileName", some_file)
        patch(QInputDialog, "getItem", lambda _p, _t, _l, items, *_a, **_k: (self.rng.choice(items), self.rng.random() < 0.7))
        some = self.rng
        patch(QInputDialog, "getText", lambda *_a, **_k: (some.choice(WORDS), some.random() < 0.7))
        patch(QInputDialog, "getMultiLineText", lambda *_a, **_k: (some.choice(WORDS), some.random() < 0.7))
        patch(QInputDialog, "getDouble", lambda *a, **_k: (some.uniform(-3.0, 3.0), some.random() < 0.7))
        patch(QInputDialog, "getInt", lambda *a, **_k: (some.randrange(5), some.random() < 0.7))
        patch(
            QMessageBox,
            "question",
            lambda *_a, **_k: some.choice((QMessageBox.StandardButton.Yes, QMessageBox.StandardButton.No)),
        )
        patch(QMessageBox, "about", lambda *_a: None)
        patch(QDialog, "exec", lambda _self: self.rng.randrange(2))

    # --- one move -------------------------------------------------------------------------------------------------

    def move(self) -> None:
        """Do one thing, whatever it is."""
        moves = (
            (self.act, 20), (self.edit_words, 44), (self.decide, 22), (self.key, 14), (self.click, 10), (self.walk_history, 6),
            (self.write, 5), (self.pickup, 6), (self.look, 4),
        )  # fmt: skip
        move = self.rng.choices([m for m, _ in moves], [w for _, w in moves])[0]
        self.done.append(move.__name__)
        move()
        QApplication.processEvents()

    def act(self) -> None:
        """Any act of the menus."""
        act = self.rng.choice([a.id for a in every_act() if a.id not in LEFT_OUT])
        if act in SELDOM and self.rng.random() < 0.9:
            return
        self.done[-1] = act
        self.window.do(act)

    def edit_words(self) -> None:
        """A real edit on some words of the reel."""
        window = self.window.window
        chapter = window.bench.chapter
        if chapter is None:
            return
        count = len(window.bench.text(chapter).words)
        first = self.rng.randrange(count)
        last = min(count - 1, first + self.rng.randrange(4))
        proof, editing, rate = window.parts.proof, window.parts.editing, window.bench.book.rate
        cutting, shaping = Cutting(editing), Shaping(editing)
        reel = len(chapter.reel) if chapter.reel else 1
        kind = self.rng.randrange(12)
        if kind < 11:
            editing.select_words(first, last)
            window.transport.spot = self.rng.randrange(reel)
        match kind:
            case 0 if reel > 30 * rate:
                cutting.take_out()
            case 1 | 2:
                cutting.fill()
            case 3:
                shaping.louder(self.rng.choice((-3.0, -1.0, 1.0, 2.5)))
            case 4:
                cutting.split()
            case 5:
                shaping.move_join(self.rng.choice((-0.02, 0.005)))
            case 6:
                cutting.copy()
            case 7:
                editing.clear()
                cutting.paste(keep_time=self.rng.random() < 0.5)
            case 8:
                shaping.put_point(self.rng.choice((-6.0, 0.1)))
            case 9:
                shaping.fade(0.3, at_start=self.rng.random() < 0.5)
            case 10:
                cutting.pause(self.rng.choice((0.01, 0.5)))
            case _:
                proof.note_finding(self.rng.choice(list(Kind)), first, last, self.rng.choice(WORDS))

    def decide(self) -> None:
        """A decision on a finding, or on several."""
        proof = self.window.window.parts.proof
        rows = proof.rows()
        if not rows:
            return
        chapter, finding = self.rng.choice(rows)
        proof.choose(finding.id, chapter)
        if self.rng.random() < 0.15:
            proof.select([(c, f.id) for c, f in self.rng.sample(rows, min(len(rows), 4))])
        proof.decide(self.rng.choice(list(Decision)), self.rng.choice(WORDS))

    def key(self) -> None:
        """A key on whatever has the focus, or is given it."""
        window = self.window.window
        widgets = [w for w in window.findChildren(QWidget) if w.isVisible() and w.focusPolicy() != Qt.FocusPolicy.NoFocus]
        widget = self.rng.choice(widgets) if widgets and self.rng.random() < 0.5 else QApplication.focusWidget() or window.galley
        widget.setFocus()
        keys = [getattr(Qt.Key, f"Key_{name}") for name in (
            *"ABDEFGHLMNOPSTUW", "Space", "Return", "Escape", "Delete", "Backspace", "Left", "Right", "Up", "Down", "Tab",
            "Home", "End", "PageUp", "PageDown", "BracketLeft", "BracketRight", "F1",
        )]  # fmt: skip
        modifier = self.rng.choice((Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.AltModifier))  # fmt: skip
        QTest.keyClick(widget, self.rng.choice(keys), modifier)

    def click(self) -> None:
        """The mouse somewhere on the galley, the loupe, a list or a table."""
        window = self.window.window
        places = [
            window.galley.viewport(),
            window.loupe,
            window.contents.viewport(),
            window.panels["proof"].list.viewport(),
            window.stack.currentWidget(),
        ]
        place = self.rng.choice([p for p in places if p is not None and p.isVisible()])
        point = QPoint(self.rng.randrange(max(1, place.width())), self.rng.randrange(max(1, place.height())))
        modifier = self.rng.choice(
            (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier)
        )
        (QTest.mouseDClick if self.rng.random() < 0.1 else QTest.mouseClick)(place, Qt.MouseButton.LeftButton, modifier, point)

    def walk_history(self) -> None:
        """Undo, redo, or any step of the journal."""
        bench = self.window.window.bench
        match self.rng.randrange(5):
            case 0 | 1:
                bench.undo()
            case 2 | 3:
                bench.redo()
            case _:
                count = bench.session.store.count()
                bench.go_to(self.rng.randrange(max(1, count - 40), count + 1))

    def write(self) -> None:
        """Words into a field."""
        window = self.window.window
        panel = window.panels["proof"]
        match self.rng.randrange(3):
            case 0:
                window.parts.proof.write_note(self.rng.choice(WORDS))
            case 1:
                panel.search.wanted.setText(self.rng.choice(WORDS))
                panel.search._find_next()
            case _:
                window.parts.pickups.note(self.rng.choice(WORDS))

    def pickup(self) -> None:
        """Takes come in, are chosen, put in, passed."""
        window = self.window.window
        book = window.bench.book
        waiting = [p for p in book.pickups if p.state in WAITING]
        if not waiting:
            return
        pickup = self.rng.choice(waiting)
        if not pickup.takes:
            start = self.rng.randrange(441_000, 2_000_000)
            words = tuple((start + 17_640 * k, start + 17_640 * k + 15_000) for k in range(pickup.word_count))
            take = Take(
                self.rng.choice(book.recordings).hash, words[0][0], words[-1][1], self.rng.randrange(3), pickup.line, words
            )
            window.bench.do(ReceiveTakes(take.recording, ((pickup.id, (take,), 0),), EDITION))
            return
        window.parts.pickups.choose(pickup.id)
        window.parts.pickups.choose_take(self.rng.randrange(len(pickup.takes)))
        window.parts.splice.choose(pickup.id)
        window.desks.show(DeskName.SPLICE)
        window.parts.splice.place()
        if self.rng.random() < 0.5:
            window.parts.splice.pass_()

    def look(self) -> None:
        """Another desk, chapter, size or theme."""
        window = self.window.window
        match self.rng.randrange(4):
            case 0:
                window.desks.show(self.rng.choice(list(DeskName)))
            case 1:
                window.bench.open_chapter(self.rng.choice(window.bench.book.chapters).id)
            case 2:
                window.resize(self.rng.randrange(900, 1600), self.rng.randrange(600, 1000))
            case _:
                window.grab()

    # --- the run --------------------------------------------------------------------------------------------------

    def same_when_reopened(self) -> None:
        """Close and open the book: it must be as it was shown."""
        before, head = self.window.bookstate, self.window.window.bench.session.store.head
        self.window.idle()
        before, head = self.window.bookstate, self.window.window.bench.session.store.head
        self.window.reopen()
        if self.window.bookstate != before or self.window.window.bench.session.store.head != head:
            self.faults.append("the book is not as it was when it was closed")

    def sound(self) -> None:
        """The closed book: its database, its journal from the first step on, its recordings."""
        result = verified(self.window.book)
        if not result.sound:
            self.faults.append(f"not sound: {result.problems} {result.faults}")


def main() -> int:
    """A long run outside of the tests; prints what it did as JSON."""
    import os

    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from faithful_reel.app.main import application
    from faithful_reel.core.book.demo import demo_files, make_demo_book
    from support.app import DemoWindow
    from support.hearing import lay_hearing

    seed, wanted = int(sys.argv[1]), int(sys.argv[2])
    app = application()
    caught: list[str] = []

    def keep(kind, value, trace):
        caught.append(f"{kind.__name__}: {value}")
        traceback.print_exception(kind, value, trace)

    sys.excepthook = keep

    class Bot:  # what DemoWindow asks of pytest-qt
        def waitExposed(self, _window):
            QTest.qWait(50)

        def waitUntil(self, true, timeout=180_000):
            for _ in range(timeout // 20):
                if true():
                    return
                QTest.qWait(20)
            raise TimeoutError

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make_demo_book(folder / "source.reelbook", demo_files())
        (folder / "work").mkdir()
        window = DemoWindow(Bot(), folder / "work", folder / "source.reelbook")
        for chapter in ("c1", "c2", "c3"):
            lay_hearing(window.window.bench, chapter)
        monkey = Monkey(window, seed, folder / "work")
        monkey.dialogs(setattr)
        start = window.window.bench.session.store.count()
        moves = 0
        while window.window.bench.session.store.count() - start < wanted and moves < 30 * wanted:
            moves += 1
            try:
                monkey.move()
            except AppError as problem:
                caught.append(f"unhandled {type(problem).__name__}: {problem} after {monkey.done[-3:]}")
            except Exception as problem:  # noqa: BLE001 - every fault is told
                caught.append(f"{type(problem).__name__}: {problem} after {monkey.done[-3:]}")
            if moves % 400 == 0:
                monkey.same_when_reopened()
        monkey.same_when_reopened()
        steps = window.window.bench.session.store.count() - start
        window.close()
        monkey.sound()
        with BookStore(window.book) as store:
            Session(store)
        print(json.dumps({"seed": seed, "moves": moves, "steps": steps, "faults": [*caught, *monkey.faults]}))
    del app
    return 1 if caught or monkey.faults else 0


if __name__ == "__main__":
    sys.path.insert(0, str(Path(__file__).parents[1]))
    sys.exit(main())
