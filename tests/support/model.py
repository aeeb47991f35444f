"""An editor who presses anything, and a model of what may come of it that shares no code with the program.

The model holds every lane as an array that names each of its samples: which one of which recording, 0 for room tone and rests.  It knows
nothing of pieces, joins or commands.  After every act it asks:

* Did a lane lose a sample?  Then it was marked, or the editor was asked about that lane and said yes, or, for music, was told.
* Do two linked lanes still stand to each other as they did, wherever both kept their sound?
* Does a marker still stand at its sample?
* Does undo bring back the very same arrays, and the journal lead to the very same book?
* Does what was cut come back as it was, where it was?
"""

from __future__ import annotations

import itertools
import random

import numpy as np

from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.lanes import LaneWork
from faithful_reel.app.editing.pacing import Edge, Timing
from faithful_reel.app.editing.presenter import Reach
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.app.workbench import GO_ON, LEAVE, Workbench
from faithful_reel.core.audio.overview import overview_of
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.session import Session
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.reel import Lane, Marker, Piece, Reel, Rest, ToneSource
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.work.offcuts import offcuts_of, put_back
from faithful_reel.core.work.timeline import Hearing
from support.editing import Settings, editing_of
from support.jobs import HeldJobs
from support.remembered import Remembered

RATE, LENGTH = 1000, 6000
UNASKED, SLIVERS, ROLLED, NOWHERE = 70, 20, 20, -(10**9)
"""So many samples of another voice, 0.05 s and a step of the meter, are not asked about where they are no words; so many that were
cut in slivers under 5 ms are no offcuts; a join is moved by so many at most."""
WORD, STEP = 300, 400
NAMES = {name: 1 + k * LENGTH for k, name in enumerate("abmn")}
IDS = 1 + len(NAMES) * LENGTH
SOUNDS = {name: np.random.default_rng(k).uniform(-0.5, 0.5, LENGTH).astype(np.float32) for k, name in enumerate(NAMES)}
TONE = ToneSource("n", 100, 900)


def source(name, start, stop):
    x = np.zeros(stop - start, np.float32)
    first, last = max(0, start), min(LENGTH, stop)
    if last > first:
        x[first - start : last - start] = SOUNDS[name][first:last]
    return x


def _hearing(words, own):
    """Words that one voice reads, the others not read by it."""
    heard, placed, links = [], [], []
    for k, text in enumerate(words):
        at = 200 + STEP * k
        placed.append(Placed(at, at + WORD, 0.9) if k in own else None)
        links.append((k, k + 1, len(heard), len(heard) + (k in own), k in own))
        heard += [Heard(text, at, at + WORD, 0.9)] if k in own else []
    return tuple(heard), tuple(placed), tuple(links)


class Editor:
    """One book, one editor; `run` does so many acts and tells what was wrong with the first that was."""

    def __init__(self, seed: int, lanes: list[Lane] | None = None) -> None:
        self.rng = random.Random(seed)
        text = chapter_of("One", [" ".join(f"word{k}" for k in range(13)) + "."])
        words = [w.text for w in text.words]
        second = {4, 5, 9}
        rng = self.rng
        lanes = lanes or [
            Lane("voice", (Piece("a", 0, LENGTH),), tone=TONE if rng.random() < 0.5 else None),
            Lane("clerk", (Rest(300), Piece("b", 300, LENGTH - 500)), muted=rng.random() < 0.3, tone=TONE if rng.random() < 0.3 else None),
            Lane("sea", (Rest(1000), Piece("m", 0, 3000)), music=True),
        ][: rng.choice([1, 2, 3, 3])]  # fmt: skip
        if seed:
            rng.shuffle(lanes)
        markers = tuple(Marker(f"m{k}", rng.randrange(LENGTH)) for k in range(rng.randrange(3)))
        lone = Lane(rng.choice(["voice", "other"]), (Piece("n", 1000, LENGTH),))
        pair = (Lane("clerk", (Piece("n", 1000, 3000),)), Lane("voice", (Piece("n", 3000, 5000),)))
        store = Remembered(Book())
        heard, placed, links = _hearing(words, set(range(13)) - second)
        voices = (("b", Hearing(*_hearing(words, second))),)
        hearing = store.put(Hearing, Hearing(heard, placed, links, voices if any(k.name == "clerk" for k in lanes) else ()))
        key = store.put(Chapter, text)
        chapters = (
            ChapterState("c1", "One", key, "a", hearing, (), Reel(tuple(lanes), markers)),
            ChapterState("c2", "Two", key, "n", "", (), Reel((lone,) if rng.random() < 0.5 else pair)),
        )
        recordings = tuple(Recording(n, n, ".wav", RATE, 1, LENGTH, -6, -60, -20, TONE if n == "a" else None) for n in NAMES)
        store.books[0] = Book("T", rate=RATE, chapters=chapters, recordings=recordings)
        self.store, self.told, self.asked, self.answer, self.which = store, [], [], GO_ON, False
        self.bench = Workbench(Session(store), HeldJobs(), tell=self.told.append)
        self.bench._sources = source
        self.bench.overview = {n: overview_of(iter([x])) for n, x in SOUNDS.items()}.get
        self.bench.ask = self._asked
        self.editing = editing_of(self.bench)
        self.cutting, self.shaping, self.lanes = Cutting(self.editing), Shaping(self.editing), LaneWork(self.editing)
        self.timing = Timing(self.editing, self.cutting, self.shaping, Settings())

    def _asked(self, title, _words, told, choices):
        self.answer = self.rng.choice(choices)
        if title == "Which lane?":
            self.which = True
            self.asked += [self.answer.partition(" ")[2]] if self.answer != LEAVE else []
        else:
            self.asked += [row.partition(":")[0] for row in told]
        return self.answer

    # --- the model ------------------------------------------------------------------------------------------------

    def arrays(self):
        """(chapter, lane id) to the samples of a lane."""
        return {(c.id, lane.id): self.array(lane) for c in self.bench.book.chapters for lane in c.reel.lanes}

    @staticmethod
    def array(lane):
        rows = [
            NAMES[s.recording] + np.arange(s.start, s.stop) if isinstance(s, Piece) else np.zeros(len(s), np.int64)
            for s in lane.segments
        ]
        return np.concatenate([np.zeros(0, np.int64), *rows])

    def about(self):
        """(chapter, lane id) to (name, music, linked)."""
        return {(c.id, k.id): (k.name, k.music, k.linked) for c in self.bench.book.chapters for k in c.reel.lanes}

    def marked(self):
        """The lanes that the editor marked; empty where it is not clear which, for one that shows all of them."""
        chapter = self.bench.chapter
        lanes, editing = chapter.reel.lanes, self.editing
        if editing.lane >= 0:
            return {lanes[editing.lane].id}
        if self.drawn and editing.span is not None:
            return {self.drawn}
        voices = [k for k in lanes if not k.music]
        if len(voices) == 1 or len(lanes) == 1:
            return {(voices or lanes)[0].id}
        return {self.spoken} if self.spoken and editing.span is not None else set()

    def mark(self):
        """Mark something, or put the cursor somewhere."""
        rng, editing, chapter = self.rng, self.editing, self.bench.chapter
        reel, self.drawn, self.spoken = chapter.reel, "", ""
        editing.let_go()
        at = rng.randrange(len(reel))
        self.editing.transport.spot = at
        kind = rng.choice(["words", "drawn", "times", "several", "none"])
        stop = min(len(reel), at + rng.randint(2, 900))
        if kind == "words" and chapter.hearing:
            first = rng.randrange(12)
            tokens = self.bench.tokens(chapter)
            editing.select_words(first, first + rng.randrange(2))
            said = {
                t.lane
                for t in tokens.heard()
                if editing.span and editing.span.start <= (t.start + t.stop) // 2 < editing.span.stop
            }
            self.spoken = reel.lanes[said.pop()].id if len(said) == 1 else ""
        elif kind == "drawn":
            lane = rng.randrange(len(reel.lanes))
            editing.draw(at, stop, lane)
            self.drawn = reel.lanes[lane].id
        elif kind in ("times", "several"):
            editing.select(at, stop)
            if kind == "several":
                editing.add()
                other = rng.randrange(len(reel))
                editing.select(other, min(len(reel), other + rng.randint(2, 400)))

    def act(self):
        """One act: its name, whether it was done, and the lanes whose sound it may change unasked."""
        rng, cutting, editing = self.rng, self.cutting, self.editing
        if rng.random() < 0.1:
            self.bench.open_chapter(rng.choice(["c1", "c2"]))
        if rng.random() < 0.2:
            editing.choose_lane(rng.randint(-1, len(self.bench.chapter.reel.lanes) - 1))
        self.mark()
        editing.easing = rng.random() < 0.3
        name = rng.choice(ACTS)
        mine = {(self.bench.chapter_id, k) for k in self.marked()}
        held = {(c, str(k)) for c in ("c1", "c2") for k, _ in (cutting.copied.content if cutting.copied else ())}
        match name:
            case "pause":
                done = cutting.pause(rng.choice([0.04, 0.3]))
            case "paste" | "paste over":
                done = cutting.paste(keep_time=name == "paste over")
                mine |= {(self.bench.chapter_id, k) for k in self._pasted_to()} if name == "paste over" else set()
            case "move here":
                done, mine = cutting.move_here(), held
            case "copy":
                done = bool(cutting.copy()) or True
            case "cut":
                done = cutting.cut() != "" or True
            case "louder":
                done = self.shaping.louder(-1.0)
            case "mark":
                done = self.shaping.mark()
            case "mute":
                done = self.lanes.mix(muted=rng.random() < 0.5)
            case "link":
                done = self.lanes.link()
            case "order":
                done = self.lanes.move_lane(rng.choice([-1, 1]))
            case "join":
                done, mine = self.shaping.move_join(rng.choice([-0.01, 0.02])), set(self.arrays())  # that nearest to the cursor
            case "longer" | "shorter":
                done, mine = self.timing.change_pause(1 if name == "longer" else -1), set()
            case "here":
                reach, end, fill = rng.choice(list(Reach)), rng.random() < 0.5, rng.random() < 0.3
                done = self.timing.from_here(reach, end=end, fill=fill)
                lanes = self.bench.chapter.reel.lanes
                mine = {k for k in mine if editing.lane >= 0 or sum(not lane.music for lane in lanes) == 1}
            case "edge":
                self.timing.step_ms = 100.0
                done = self.timing.move_edge(rng.choice(list(Edge)), rng.choice([-1, 1]), carried=rng.random() < 0.5)
            case "slide":
                self.timing.step_ms = 50.0
                done = self.timing.slide(rng.choice([-1, 1]))
            case _:
                done = getattr(cutting, name)()
        return name, done, mine

    def _pasted_to(self):
        """The lanes that the last step pasted to."""
        command = self.store.kinds.get(self.store.head)
        edits = getattr(command, "edits", ())
        return {str(k) for _, e in edits if getattr(e, "kind", "") == "paste" for k, _ in e.content}

    # --- what must hold -------------------------------------------------------------------------------------------

    def run(self, acts: int) -> str:
        """Do so many acts; what the first of them did that it must not, empty where all is well."""
        for _ in range(acts):
            before, about, book = self.arrays(), self.about(), self.bench.session.book
            self.told.clear()
            self.asked.clear()
            copied = self.cutting.copied
            name, done, mine = self.act()
            after = self.arrays()
            wrong = self._wrong(name, before, after, about, mine, copied)
            if not wrong and self.bench.session.book is not book and self.rng.random() < 0.3:
                wrong = self._back(name, before, after, book)
            if wrong:
                return f"{name} ({'done' if done else 'not done'}; asked {self.asked}; told {self.told}): {wrong}"
        return "" if self.store.replayed() == self.bench.session.book else "the journal leads to another book"

    def _wrong(self, name, before, after, about, mine, copied):
        if before.keys() == after.keys() and all(np.array_equal(row, after[k]) for k, row in before.items()):
            return ""
        for key, lost in _lost(before, after).items():
            voice, music, _ = about[key]
            if lost <= UNASKED or key in mine or voice in self.asked:
                continue
            if music and any(m.startswith(voice) or f", {voice} " in m for m in self.told):
                continue
            if (
                not {k for k in mine if k[0] == key[0]} and not music
            ):  # it was not said which: one voice is meant, the others asked
                losing = [
                    about[k][0] for k, n in _lost(before, after).items() if k[0] == key[0] and not about[k][1] and n > UNASKED
                ]
                if all(other in self.asked for other in losing if other != voice):
                    continue
            return f"{lost} samples of {voice} went unasked (marked {mine})"
        return self._out_of_step(name, before, after, about, copied) or self._astray(before, after, about, copied)

    @staticmethod
    def _moved(old, now):
        """How much later each sample of a lane stands that is there once before and after; NOWHERE for the others."""
        shift = np.full(len(old), NOWHERE)
        where = np.full(IDS, NOWHERE)
        where[now] = np.arange(len(now))
        single = (_counts(old) == 1) & (_counts(now) == 1)
        at = np.flatnonzero(single[old])
        shift[at] = where[old[at]] - at
        return shift

    def _content(self, copied):
        return np.concatenate(
            [np.zeros(1, np.int64), *(self.array(Lane("", row)) for _, row in (copied.content if copied else ()))]
        )

    def _out_of_step(self, name, before, after, about, copied):
        content = self._content(copied)
        for chapter in ("c1", "c2"):
            rows = [
                self._moved(np.where(np.isin(before[k], content), 0, before[k]), after[k])
                for k in before
                if k[0] == chapter and k in after and about[k][2]
            ]
            for a, b in itertools.combinations(rows, 2):
                n = min(len(a), len(b))
                both = (a[:n] > NOWHERE) & (b[:n] > NOWHERE)
                rolled = {"join": ROLLED, "edge": 100, "slide": LENGTH}.get(
                    name, 0
                )  # what a join moves over is taken from its other side
                if (a[:n][both] != b[:n][both]).sum() > rolled:
                    return f"lanes of {chapter} are out of step by {np.unique(a[:n][both] - b[:n][both])}"
        return ""

    def _astray(self, before, after, about, copied):
        """Markers that no longer stand at their sample, by the first linked lane."""
        old = {m.id: m for m in self.markers_before} if hasattr(self, "markers_before") else {}
        now = {m.id: m for m in self.bench.book.chapters[0].reel.markers}
        self.markers_before = self.bench.book.chapters[0].reel.markers
        length = len(self.bench.book.chapters[0].reel)
        if any(not 0 <= m.at <= length for m in now.values()):
            return "a marker stands beyond the end"
        linked = [k for k in before if k[0] == "c1" and k in after and about[k][2] and not about[k][1]]
        for key in linked[:1]:
            shift = self._moved(np.where(np.isin(before[key], self._content(copied)), 0, before[key]), after[key])
            for i, m in old.items():
                if i in now and m.at < len(shift) and shift[m.at] > NOWHERE and now[i].at != m.at + shift[m.at]:
                    return f"marker {i} stands {now[i].at - m.at - shift[m.at]} samples from its sample"
        return ""

    def _back(self, name, before, after, book):
        """Undo and redo; what was cut, put back; and undone again."""
        self.bench.undo()
        if self.bench.session.book != book or not _same(self.arrays(), before):
            return "undo does not bring back what was there"
        self.bench.redo()
        if not _same(self.arrays(), after):
            return "redo does not lead back"
        once = all((_counts(row) <= 1).all() for row in before.values())  # what is heard elsewhere as well is no offcut
        if name in ("take_out", "fill", "silence", "keep_only") and once:
            return self._put_back(before)
        return ""

    def _put_back(self, before):
        step = self.store.head
        chapter = self.bench.chapter_id
        cuts = offcuts_of(self.store.changes[-1:], chapter)
        for cut in cuts:
            reel = self.bench.book.chapter(chapter).reel
            try:
                edits = put_back(cut, reel)
            except EditRefused:  # it came back with one before it: whether it did is counted below
                continue
            if not self.editing.do(
                self.bench.book.chapter(chapter), lambda edits=edits: edits, "Put back", meant=frozenset(k.id for k in reel.lanes)
            ):
                return f"an offcut can not be put back: {self.told[-1:]}"
        now = self.arrays()
        lacks = {k: _counts(old) - _counts(now[k]) for k, old in before.items()}
        if any((row[1:] < 0).any() for row in lacks.values()):
            return "put back, some of it is there twice"
        if any((row[1:] > 0).sum() > SLIVERS for row in lacks.values()):
            return f"put back, {max((row[1:] > 0).sum() for row in lacks.values())} samples lack"
        silence = all(len(now[k]) == len(old) for k, old in before.items())  # time without sound is no offcut
        if silence and all((row[1:] == 0).all() for row in lacks.values()) and not _same(now, before):
            return "put back, it is not where it was"
        while self.store.head != step:
            self.bench.undo()
        return ""


def _counts(row):
    """How often each sample stands in an array; silence does not count."""
    found = np.bincount(row, minlength=IDS)
    found[0] = 0
    return found


def _lost(before, after):
    """How many samples each lane lost that came to no other."""
    none = np.zeros(0, np.int64)
    old, now = ({k: _counts(rows.get(k, none)) for k in {**before, **after}} for rows in (before, after))
    came = sum(np.maximum(now[k] - old[k], 0) for k in old)
    return {k: int(np.maximum(old[k] - now[k] - came, 0).sum()) for k in before}


def _same(a, b):
    return a.keys() == b.keys() and all(np.array_equal(np.trim_zeros(a[k], "b"), np.trim_zeros(b[k], "b")) for k in a)


ACTS = [
    *(
        "take_out",
        "fill",
        "silence",
        "pause",
        "keep_only",
        "copy",
        "cut",
        "paste",
        "paste over",
        "move here",
        "duplicate",
        "split",
    ),
    *("take_out", "fill", "cut", "paste", "move here", "louder", "mark", "mute", "link", "order", "join"),
    *("here", "edge", "slide", "longer", "shorter"),
]
"""What the editor does, the constant acts more often."""
