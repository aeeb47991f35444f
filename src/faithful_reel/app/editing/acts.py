"""The acts of editing: on the span, or at the cursor, wherever they are drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QInputDialog, QMenu

from faithful_reel.app.actions import Act, Menu, On
from faithful_reel.app.asking import Asking
from faithful_reel.app.desks import DeskName
from faithful_reel.app.editing.at_mouse import Part, Thing, parts_at
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.lane_dialog import ask_for_lanes
from faithful_reel.app.editing.lanes import LaneWork
from faithful_reel.app.editing.presenter import Editing, Reach
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.settings import Settings, number
from faithful_reel.app.transport.close_view import CloseView
from faithful_reel.app.widgets.field_bar import Answer, FieldBar, Line, Number, Pick
from faithful_reel.app.widgets.loupe.handles import Dragged, Hold
from faithful_reel.app.widgets.loupe.loupe import Under
from faithful_reel.app.widgets.parts import ActSource
from faithful_reel.core.book.commands import RenameChapter
from faithful_reel.core.book.kept import DescribeChapter
from faithful_reel.core.reel.reel import Marker, Shape
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.times import TimeFormat
from faithful_reel.core.work.editing import Stop

AT = DeskName.PROOF
HELD = {
    Hold.POINT: Thing.POINT, Hold.JOIN: Thing.JOIN, Hold.CROSSFADE: Thing.JOIN, Hold.FADE_IN: Thing.FADE, Hold.FADE_OUT: Thing.FADE,
}  # fmt: skip
SHAPES: dict[str, Shape] = {"equal power, for unlike sound": "equal_power", "equal gain, for like sound": "equal_gain"}


@dataclass
class EditActs:
    """What the user can do with sound: a question at most, then the presenter."""

    editing: Editing
    cutting: Cutting
    shaping: Shaping
    lanes: LaneWork
    panel: ProofPanel
    loupe: CloseView
    ask: Asking
    settings: Settings
    bar: FieldBar

    def __post_init__(self) -> None:
        self.bench = self.editing.bench
        self.panel.galley.selection_changed.connect(self._words_marked)
        self.panel.galley.let_go.connect(self.editing.let_go)
        self.editing.listen(self._show)
        self.loupe.dragged.connect(self._dragged)
        self.loupe.point_wanted.connect(self.shaping.put_point_at)
        self.loupe.point_unwanted.connect(self.shaping.drop_point_at)
        self.loupe.menu_wanted.connect(self._loupe_menu)
        self.panel.galley.menu_wanted.connect(self._page_menu)

    def _dragged(self, held: Dragged) -> None:
        """A grip of the loupe was let go: one step."""
        grip, shaping = held.grip, self.shaping
        match grip.hold:
            case Hold.POINT:
                shaping.move_point(grip.lane, grip.at, held.to, held.value)
            case Hold.JOIN:
                shaping.drag_join(grip.lane, grip.at, held.to, carried=held.carried)
            case Hold.CROSSFADE:
                shaping.drag_crossfade(grip.lane, grip.at, held.to, held.value)
            case hold:
                shaping.drag_fade(grip.lane, grip.at, held.to, held.value, at_start=hold is Hold.FADE_IN)

    @property
    def acts(self) -> Sequence[Act[EditActs]]:
        """The table below."""
        return ACTS

    def bind(self, acts: ActSource) -> None:
        """Whose checks follow what edges snap to."""
        self._bound = acts
        self._show()

    # --- menus where the mouse is ---------------------------------------------------------------------------------

    def _loupe_menu(self, under: Under) -> None:
        """The menu of what lies under the mouse in the loupe; the cursor goes there first, unless it is marked."""
        editing, transport = self.editing, self.editing.transport
        things: list[Thing] = []
        if under.on_name:
            editing.choose_lane(under.lane)
            things = [Thing.LANE]
        else:
            things += [Thing.MARKER] if under.on_marker else []
            things += [HELD[under.hold]] if under.hold is not None else []
            inside = any(s.start <= under.at < s.stop for s in editing.spans) and editing.shown_lane in (LINKED, under.lane)
            if not inside:
                editing.let_go()  # nothing is done with what is marked elsewhere
            if under.lane >= 0 and not inside and self.loupe.several:
                editing.choose_lane(under.lane)
            if not inside or things:
                transport.go_to(under.at)
        found = editing.found()
        name = found[1].lanes[under.lane].name if under.on_name and found is not None else ""
        self._menu(under.point, parts_at(editing, under.at, tuple(things), name))

    def _page_menu(self, point: QPoint) -> None:
        """The menu of the word under the mouse, and of the finding on it."""
        word, span = self.panel.galley.cursor_word, self.editing.span
        at = span.start if span is not None and self.editing.on_words else self.editing.transport.spot
        spot = self.editing.transport.spot
        things = (Thing.FINDING,) if self.panel.take_finding_on(word) else ()
        self.editing.transport.put(spot)  # acts are done where the mouse is, and not where the finding begins
        self._menu(point, parts_at(self.editing, at, things))

    def _menu(self, point: QPoint, parts: list[Part]) -> None:
        menu = QMenu(self.ask.parent)
        menu.setToolTipsVisible(True)
        for k, part in enumerate(parts):
            inside = menu if k == 0 else menu.addMenu(part.heading)
            if inside is None:
                continue
            if k == 0:
                heading = menu.addAction(part.heading)
                if heading is not None:
                    heading.setEnabled(False)
            for act in part.acts:
                inside.addAction(self._bound[act])
            if k == 0 and len(parts) > 1:
                menu.addSeparator()
        if parts:
            menu.exec(point)

    def _words_marked(self, first: int, last: int) -> None:
        if first >= 0:
            self.editing.select_words(first, last)
        else:
            self.editing.clear()

    def _show(self) -> None:
        editing = self.editing
        self.panel.galley.show_selection(*editing.words(), [(s.start, s.stop) for s in editing.spans])
        for kind in SNAPS:
            self._bound[f"snap.{kind.value}"].setChecked(kind in editing.snapping)
        self._bound["edit.ease"].setChecked(editing.easing)

    def _number(self, key: str, title: str, words: str, usual: float, least: float, most: float) -> float | None:
        """A number that the user types; the last one is proposed.  None where the user thought better of it."""
        known = number(self.settings, f"edit/{key}", usual, least, most)
        value, taken = QInputDialog.getDouble(self.ask.parent, title, words, known, least, most, 3)
        if not taken:
            return None
        self.settings.setValue(f"edit/{key}", value)
        return value

    # --- taking out, putting in -----------------------------------------------------------------------------------

    def take_out(self) -> None:
        """Take out and close up; where another voice sounds there too, it is asked first."""
        self.cutting.take_out()

    def fill(self) -> None:
        """Lay room tone over it."""
        self.cutting.fill()

    def silence(self) -> None:
        """On one lane only."""
        self.cutting.silence()

    def pause(self) -> None:
        """Ask how long."""
        seconds = self._number("pause", "Insert a pause", "Seconds", 0.5, 0.001, 600.0) if self.editing.ready() else None
        if seconds is not None:
            self.cutting.pause(seconds)

    def keep_only(self) -> None:
        """All else goes."""
        self.cutting.keep_only()

    def _to_clipboard(self, words: str) -> None:
        board = QGuiApplication.clipboard()
        if board is not None and words:
            board.setText(words)

    def copy(self) -> None:
        """The sound, and its words as text."""
        self._to_clipboard(self.cutting.copy())

    def cut(self) -> None:
        """Copy and take out; where another voice sounds there too, it is asked first."""
        self._to_clipboard(self.cutting.cut())

    def paste(self) -> None:
        """At the cursor, or over the span."""
        self.cutting.paste()

    def paste_over(self) -> None:
        """Keeping the time."""
        self.cutting.paste(keep_time=True)

    def move_here(self) -> None:
        """What was copied, in one step."""
        self.cutting.move_here()

    def duplicate(self) -> None:
        """Once more, after itself."""
        self.cutting.duplicate()

    def as_if_out(self) -> None:
        """Before it is done."""
        self.cutting.hear_as_if()

    def as_if_filled(self) -> None:
        """Before it is done."""
        self.cutting.hear_as_if(fill=True)

    # --- pieces, joins, gain --------------------------------------------------------------------------------------

    def split(self) -> None:
        """At the cursor, or at both ends."""
        self.cutting.split()

    def split_every(self) -> None:
        """Ask at what."""
        if not self.editing.ready(need=True):
            return
        kinds = {f"every {k.value}": k for k in (Stop.WORD, Stop.SENTENCE, Stop.PAUSE, Stop.ONSET)}
        asked, taken = QInputDialog.getItem(self.ask.parent, "Split", "Split at", list(kinds), 0, editable=False)
        if taken:
            self.cutting.split_at_every(kinds[asked])

    def soften(self) -> None:
        """All joins of the span."""
        self.shaping.joins(soften=True)

    def set_back(self) -> None:
        """All joins of the span."""
        self.shaping.joins(soften=False)

    def crossfade(self) -> None:
        """Ask, over the foot, how long the joins that are meant take."""
        meant = self.shaping.joins_meant() if self.editing.ready() else None
        if meant is not None:
            title, join = meant
            rate = self.bench.book.rate
            length = Number("Length", 1000 * join.length / rate, 0.0, 10_000.0, 5.0, "ms", 1)
            shape = Pick("Shape", tuple(SHAPES), next(w for w, known in SHAPES.items() if known == join.shape))
            about = self._joins_meant
            self.bar.ask(title, [length, shape], self._crossfade, do="Set it", about=about, back_to=self.panel.galley)

    def _joins_meant(self) -> str | None:
        meant = self.shaping.joins_meant()
        return meant[0] if meant is not None else None

    def _crossfade(self, values: tuple[Answer, ...]) -> None:
        self.shaping.set_joins(float(values[0]) / 1000, SHAPES[str(values[1])])

    def fade_in(self) -> None:
        """Over the span, else ask how long."""
        self._fade(at_start=True)

    def fade_out(self) -> None:
        """Over the span, else ask how long."""
        self._fade(at_start=False)

    def _fade(self, *, at_start: bool) -> None:
        if not self.editing.ready():
            return
        seconds: float | None = 0.0
        if self.editing.span is None:
            seconds = self._number("fade", "Fade in" if at_start else "Fade out", "Seconds", 0.2, 0.0, 120.0)
        if seconds is not None:
            self.shaping.fade(seconds, at_start=at_start)

    def softer(self) -> None:
        """1 dB softer."""
        self.shaping.louder(-1.0)

    def louder(self) -> None:
        """1 dB louder."""
        self.shaping.louder(1.0)

    def gain(self) -> None:
        """Ask by how much."""
        if not self.editing.ready(need=True):
            return
        by_db = self._number("gain", "Change the gain", "dB", 0.0, -40.0, 24.0)
        if by_db is not None:
            self.shaping.louder(by_db)

    def name_piece(self) -> None:
        """Ask for the name of the piece at the cursor."""
        if not self.editing.ready():
            return
        known = self.shaping.piece_description()
        said = self.ask.description("Describe the piece", *known) if known is not None else None
        if said is not None:
            self.shaping.name_piece(*said)

    def describe_chapter(self) -> None:
        """Ask for its colour and note."""
        chapter = self.bench.chapter
        if chapter is None:
            self.bench.tell("This book has no chapters yet. Bring in the manuscript at Intake.")
            return
        said = self.ask.description("Describe the chapter", chapter.title, chapter.color, chapter.note)
        if said is not None:
            title, color, note = said
            if title.strip() != chapter.title:
                self.bench.do(RenameChapter(chapter.id, title))
            if (color, note) != (chapter.color, chapter.note):
                self.bench.do(DescribeChapter(chapter.id, color, note))

    def mark(self) -> None:
        """Drop a marker, without stopping the sound, and ask for its name over the foot."""
        made = self.shaping.mark()
        if made is not None:
            self._ask_for_name(made)

    def _ask_for_name(self, marker: Marker) -> None:
        named = partial(self._named, marker)
        title = f"Marker at {self.editing.time(marker.at)}"
        self.bar.ask(title, [Line("Name", marker.name)], named, do="Name it", stays=False, back_to=self.panel.galley)

    def _named(self, marker: Marker, values: tuple[Answer, ...]) -> None:
        name = str(values[0]).strip()
        if name and name != marker.name:
            self.shaping.name_marker(marker.id, name)

    def name_marker(self) -> None:
        """Ask, over the foot, for the name of the marker nearest to the cursor."""
        marker = self.shaping.marker_near()
        if marker is not None:
            self._ask_for_name(marker)

    def drop_marker(self) -> None:
        """The one nearest to the cursor goes."""
        marker = self.shaping.marker_near()
        if marker is not None:
            self.shaping.remove_markers([marker.id])

    def point_up(self) -> None:
        """0.1 dB."""
        self.shaping.put_point(0.1)

    def point_down(self) -> None:
        """0.1 dB."""
        self.shaping.put_point(-0.1)

    def point(self) -> None:
        """Ask where the line goes at the cursor."""
        if self.editing.ready():
            by_db = self._number("point", "Gain point at the cursor", "dB, from where the line is", -3.0, -96.0, 24.0)
            if by_db is not None:
                self.shaping.put_point(by_db)

    def drop_point(self) -> None:
        """The nearest one."""
        self.shaping.drop_point()

    def flatten(self) -> None:
        """Of what is marked."""
        self.shaping.flatten()

    # --- lanes ----------------------------------------------------------------------------------------------------

    def next_lane(self) -> None:
        """One after another, then all."""
        self.lanes.next_lane()

    def add_lane(self) -> None:
        """Ask which recordings, and whether they are music."""
        if not self.editing.ready():
            return
        asked = ask_for_lanes(self.ask.parent, [(r.hash, r.name) for r in self.bench.book.brought])
        if asked is not None:
            self.lanes.add_lanes(asked.recordings, asked.name, music=asked.music, apart=asked.apart)

    def mute(self) -> None:
        """Or let it be heard again."""
        at = self.lanes.lane_at_hand()
        if at is not None:
            self.lanes.mix(muted=not at[1].lanes[at[2]].muted)

    def solo(self) -> None:
        """Or with the others again."""
        at = self.lanes.lane_at_hand()
        if at is not None:
            self.lanes.mix(solo=not at[1].lanes[at[2]].solo)

    def level(self) -> None:
        """Ask for the lane's level."""
        at = self.lanes.lane_at_hand()
        if at is not None:
            now = at[1].lanes[at[2]].gain_db
            gain_db, taken = QInputDialog.getDouble(self.ask.parent, "Level of the lane", "dB", now, -60.0, 24.0, 1)
            if taken:
                self.lanes.mix(gain_db=gain_db)

    def pan(self) -> None:
        """Ask for the lane's place."""
        at = self.lanes.lane_at_hand()
        if at is not None:
            now = 100 * at[1].lanes[at[2]].pan
            place, taken = QInputDialog.getDouble(
                self.ask.parent, "Place of the lane", "−100 is left, 100 right; in stereo only", now, -100, 100, 0
            )
            if taken:
                self.lanes.mix(pan=place / 100)

    def name_lane(self) -> None:
        """Ask for the lane's name."""
        at = self.lanes.lane_at_hand()
        if at is not None:
            lane = at[1].lanes[at[2]]
            said = self.ask.description("Describe the lane", lane.name, lane.color, lane.note)
            if said is not None:
                self.lanes.describe_lane(*said)

    def hide(self) -> None:
        """Or show it."""
        self.lanes.hide()

    def show_all(self) -> None:
        """All lanes."""
        self.lanes.show_all()

    def link(self) -> None:
        """Or unlink it."""
        self.lanes.link()

    def into_step(self) -> None:
        """From the cursor on."""
        self.lanes.into_step()

    def lane_up(self) -> None:
        """Above its neighbour."""
        self.lanes.move_lane(-1)

    def lane_down(self) -> None:
        """Below its neighbour."""
        self.lanes.move_lane(1)

    def remove_lane(self) -> None:
        """Its recordings stay."""
        self.lanes.remove_lane()

    def give_way(self) -> None:
        """Ask by how much."""
        if self.lanes.lane_at_hand() is not None:
            by_db = self._number("way", "Music gives way", "dB softer under the words", 14.0, 1.0, 60.0)
            words = "Seconds before the voice comes in that it is down; below 0: after"
            lead_s = self._number("lead", "Music gives way", words, 0.2, -5.0, 5.0) if by_db is not None else None
            if by_db is not None and lead_s is not None:
                self.lanes.give_way(by_db, lead_s)

    # --- what is marked -------------------------------------------------------------------------------------------

    def jump(self, kind: Stop, way: int, *, extend: bool) -> None:
        """Go there, or mark up to there."""
        self.editing.jump(kind, way, extend=extend)

    def word(self) -> None:
        """Mark the word."""
        self.editing.select_word()

    def sentence(self) -> None:
        """Mark the sentence."""
        self.editing.select_sentence()

    def whole(self) -> None:
        """Mark the chapter."""
        self.editing.select_all()

    def another(self) -> None:
        """Keep this one, and mark another."""
        self.editing.add()

    def none(self) -> None:
        """Mark nothing."""
        self.editing.let_go()

    def stretch(self, reach: Reach, *, end: bool) -> None:
        """From here to there."""
        self.editing.stretch_to(reach, end=end)

    def typed(self) -> None:
        """Ask for two times."""
        editing = self.editing
        if not editing.ready():
            return
        span = editing.span
        known = (
            f"{editing.time(span.start)} to {editing.time(span.stop)}" if span else f"{editing.time(editing.transport.spot)} to "
        )
        asked, taken = QInputDialog.getText(self.ask.parent, "Mark by times", "From … to …", text=known)
        if taken:
            first, _, last = asked.partition(" to ")
            editing.select_times(first, last)

    def times(self) -> None:
        """Ask how times are shown."""
        names = {f.value: f for f in TimeFormat}
        at = list(names).index(self.bench.times.value)
        asked, taken = QInputDialog.getItem(self.ask.parent, "Times", "Show times as", list(names), at, editable=False)
        if taken:
            self.editing.show_times(names[asked])

    def nudge(self, way: int, *, end: bool) -> None:
        """Move an edge."""
        self.editing.nudge(way, end=end)

    def ease(self) -> None:
        """Word cuts, or no longer."""
        self.editing.ease()

    def unit(self) -> None:
        """By word, valley, millisecond, sample."""
        self.editing.next_unit()

    def valley(self) -> None:
        """Into the quietest moment nearby."""
        self.editing.to_valley()

    def snap(self, kind: Stop) -> None:
        """To a kind of place, or no longer."""
        self.editing.snap(kind)


SNAPS = (Stop.WORD, Stop.JOIN, Stop.MARKER, Stop.PAUSE, Stop.SENTENCE)
KEYS = {
    Stop.WORD: ("Ctrl+Left", "Ctrl+Right"),
    Stop.SENTENCE: ("J", "K"),
    Stop.PAUSE: ("X", "C"),
    Stop.ONSET: ("Z", "V"),
    Stop.JOIN: ("Alt+PgUp", "Alt+PgDown"),
    Stop.MARKER: ("Alt+Home", "Alt+End"),
    Stop.FINDING: ("Ctrl+Alt+PgUp", "Ctrl+Alt+PgDown"),
}
"""One pair for each kind of place: the one before, the next.  With Shift the span is stretched to it."""
A, E, S, G = EditActs, Menu.EDIT, Menu.SOUND, Menu.GO
PAGE = On.PAGE


def _jumps() -> list[Act[EditActs]]:
    found: list[Act[EditActs]] = []
    for kind, keys in KEYS.items():
        for way, key in zip((-1, 1), keys, strict=True):
            words = f"Next {kind.value}" if way > 0 else f"{kind.value.capitalize()} before"
            name = f"{kind.value}_{'next' if way > 0 else 'before'}"
            go, far = (partial(A.jump, kind=kind, way=way, extend=extend) for extend in (False, True))
            tip = f"Put the cursor on the {'next' if way > 0 else 'previous'} {kind.value}"
            found.append(Act(f"go.{name}", G, words, key, tip, go, AT, PAGE, apart=way < 0))
            to = f"Span to the {'next' if way > 0 else 'previous'} {kind.value}"
            held, _, last = key.rpartition("+")
            shifted = "+".join(filter(None, (held, "Shift", last)))
            found.append(
                Act(
                    f"span.{name}",
                    G,
                    to,
                    shifted,
                    f"{to}, from where it was begun",
                    far,
                    AT,
                    PAGE,
                    apart=way < 0,
                    within="Stretch the span",
                )
            )
    return found


def _reaches() -> list[Act[EditActs]]:
    return [
        Act(f"span.{'to' if end else 'from'}_{reach.value}", E, f"Span {'to the end' if end else 'from the start'} of the {reach.value}", "",
            "Mark from the cursor to there", partial(A.stretch, reach=reach, end=end), AT, PAGE, rank=1, within="Span", apart=reach is Reach.PIECE and end)
        for reach in Reach for end in (True, False)
    ]  # fmt: skip


ACTS: tuple[Act[EditActs], ...] = (
    Act("edit.cut", E, "Cut", "Ctrl+X", "Copy what is marked, and take it out", A.cut, AT, PAGE, apart=True),
    Act("edit.copy", E, "Copy", "Ctrl+C", "Keep the sound that is marked to be pasted, and its words as text", A.copy, AT, PAGE),
    Act("edit.paste", E, "Paste", "Ctrl+V", "At the cursor, or in the place of what is marked; what follows moves", A.paste, AT, PAGE),
    Act("edit.paste_over", E, "Paste over, keeping the time", "Ctrl+Shift+V", "Nothing moves: what is missing is filled with room tone", A.paste_over, AT, PAGE),
    Act("edit.move_here", E, "Move here", "Ctrl+Alt+V", "Take what was copied out where it was, and put it in at the cursor", A.move_here, AT, PAGE),
    Act("edit.duplicate", E, "Duplicate", "Ctrl+Shift+D", "Once more, after itself", A.duplicate, AT, PAGE),
    Act("edit.cut_close", E, "Take out and close up", "Del", "What follows moves up, on all linked lanes", A.take_out, AT, PAGE, apart=True),
    Act("edit.cut_fill", E, "Take out and fill", "Shift+Del", "Lay room tone of the same reading over it; nothing moves", A.fill, AT, PAGE),
    Act("edit.silence", E, "Silence on this lane", "Ctrl+Del", "Lay room tone over it on one lane only", A.silence, AT, PAGE),
    Act("edit.keep_only", E, "Keep only this", "Ctrl+Shift+K", "Take all of the chapter out but what is marked", A.keep_only, AT, PAGE),
    Act("edit.pause", E, "Insert a pause…", "Ctrl+I", "So many seconds of room tone, at the cursor or in the place of what is marked", A.pause, AT, PAGE),
    Act("edit.as_if_out", E, "Hear as if taken out", "Y", "The lead-in and what would follow; nothing is done yet", A.as_if_out, AT, PAGE, apart=True),
    Act("edit.as_if_filled", E, "Hear as if filled", "Shift+Y", "The lead-in and what would follow; nothing is done yet", A.as_if_filled, AT, PAGE),
    Act("span.word", E, "Mark the word", "Ctrl+J", "The word at the cursor", A.word, AT, PAGE, rank=1, within="Span", apart=True),
    Act("span.sentence", E, "Mark the sentence", "Ctrl+K", "The sentence at the cursor", A.sentence, AT, PAGE, rank=1, within="Span"),
    Act("span.all", E, "Mark the chapter", "Ctrl+Shift+A", "All of it", A.whole, AT, PAGE, rank=1, within="Span"),
    Act("span.typed", E, "Mark by times…", "Ctrl+G", "From one time to another", A.typed, AT, rank=1, within="Span"),
    Act("span.another", E, "Keep this span, mark another", "Ctrl+D", "Acts work on all of them", A.another, AT, PAGE, rank=1, within="Span"),
    Act("span.none", E, "Mark nothing", "Ctrl+Shift+J", "Only the cursor stays", A.none, AT, PAGE, rank=1, within="Span"),
    *_reaches(),
    Act("span.start_earlier", E, "Span's start earlier", "Alt+Shift+Left", "By the unit that is set", partial(A.nudge, way=-1, end=False), AT, PAGE, rank=1, within="Edges of the span", apart=True),
    Act("span.start_later", E, "Span's start later", "Alt+Shift+Right", "By the unit that is set", partial(A.nudge, way=1, end=False), AT, PAGE, rank=1, within="Edges of the span"),
    Act("span.end_earlier", E, "Span's end earlier", "Alt+Shift+Down", "By the unit that is set", partial(A.nudge, way=-1, end=True), AT, PAGE, rank=1, within="Edges of the span"),
    Act("span.end_later", E, "Span's end later", "Alt+Shift+Up", "By the unit that is set", partial(A.nudge, way=1, end=True), AT, PAGE, rank=1, within="Edges of the span"),
    Act("span.unit", E, "Step of the edges", "Ctrl+U", "A word, a valley, 1 ms, one sample", A.unit, AT, rank=1, within="Edges of the span"),
    Act("span.valley", E, "Edges into valleys", "Q", "Move the edges, or the cursor, into the quietest moment within 30 ms", A.valley, AT, PAGE, rank=1, within="Edges of the span"),
    Act("edit.split", S, "Split", "Ctrl+;", "At both ends of what is marked, or at the cursor; the sound stays as it is", A.split, AT, PAGE),
    Act("edit.split_every", S, "Split at every…", "Ctrl+Shift+G", "At every word, sentence, pause or onset of what is marked; pieces get the names of their words", A.split_every, AT, PAGE),
    Act("edit.name_piece", S, "Describe the piece…", "", "Name, colour and note of the piece at the cursor", A.name_piece, AT, PAGE),
    Act("edit.crossfade", S, "Crossfade of the joins…", "Ctrl+Alt+J", "Length and shape of all joins that are marked, else of that nearest to the cursor; in a row over the foot", A.crossfade, AT, PAGE, apart=True),
    Act("edit.soften", S, "Soften all joins of the span", "Ctrl+Alt+S", "50 ms each, where the pieces have as much", A.soften, AT, PAGE),
    Act("edit.set_back", S, "Set all joins of the span back", "", "10 ms each", A.set_back, AT, PAGE),
    Act("edit.fade_in", S, "Fade in", "Ctrl+Alt+I", "Over what is marked, else over so many seconds of the piece at the cursor", A.fade_in, AT, PAGE, apart=True),
    Act("edit.fade_out", S, "Fade out", "Ctrl+Alt+O", "Over what is marked, else over so many seconds of the piece at the cursor", A.fade_out, AT, PAGE),
    Act("edit.softer", S, "1 dB softer", "Ctrl+Down", "What is marked, or the word at the cursor", A.softer, AT, PAGE, apart=True),
    Act("edit.louder", S, "1 dB louder", "Ctrl+Up", "What is marked, or the word at the cursor", A.louder, AT, PAGE),
    Act("edit.gain", S, "Change the gain…", "Ctrl+Alt+G", "Of what is marked, by so many dB", A.gain, AT, PAGE),
    Act("edit.point", S, "Gain point at the cursor…", "Ctrl+Alt+P", "Bend the gain line there, by so many dB", A.point, AT, PAGE, apart=True),
    Act("edit.point_up", S, "Gain line 0.1 dB up", "Alt+=", "At the cursor, where a point is put if there is none", A.point_up, AT, PAGE),
    Act("edit.point_down", S, "Gain line 0.1 dB down", "Alt+-", "At the cursor, where a point is put if there is none", A.point_down, AT, PAGE),
    Act("edit.drop_point", S, "Take a gain point away", "Ctrl+Shift+Backspace", "That nearest to the cursor", A.drop_point, AT, PAGE),
    Act("edit.flatten", S, "Flatten the gain line", "", "Of what is marked: 0 dB again", A.flatten, AT, PAGE),
    Act("edit.mark", S, "Drop a marker", "R", "Where sound is heard, else at the cursor; the sound goes on", A.mark, AT, PAGE, apart=True),
    Act("marker.name", S, "Name the marker…", "", "That nearest to the cursor, in a row over the foot", A.name_marker, AT, PAGE),
    Act("marker.drop", S, "Take the marker away", "", "That nearest to the cursor", A.drop_marker, AT, PAGE),
    Act("lane.next", S, "Next lane in hand", "Ctrl+T", "What is marked is on it; after the last on all linked lanes", A.next_lane, AT, rank=1, within="Lane", apart=True),
    Act("lane.add", S, "Add a lane…", "Ctrl+Alt+N", "Another voice or music, from the cursor on", A.add_lane, AT, rank=1, within="Lane"),
    Act("lane.mute", S, "Mute the lane", "Ctrl+Alt+K", "It is not heard, nor written; again: it is", A.mute, AT, rank=1, within="Lane"),
    Act("lane.solo", S, "Hear the lane alone", "Ctrl+Alt+H", "Only lanes that are to be heard alone are; again: all are", A.solo, AT, rank=1, within="Lane"),
    Act("lane.level", S, "Level of the lane…", "", "In dB", A.level, AT, rank=1, within="Lane"),
    Act("lane.pan", S, "Place of the lane…", "", "Between left and right", A.pan, AT, rank=1, within="Lane"),
    Act("lane.name", S, "Describe the lane…", "", "Its name, colour and note", A.name_lane, AT, rank=1, within="Lane"),
    Act("lane.hide", S, "Hide the lane, or show it", "", "It is heard as before; the loupe says what is hidden", A.hide, AT, rank=1, within="Lane"),
    Act("lane.show_all", S, "Show all lanes", "", "None is hidden any more", A.show_all, AT, rank=1, within="Lane"),
    Act("lane.link", S, "Link or unlink the lane", "", "Linked lanes gain and lose time together", A.link, AT, rank=1, within="Lane"),
    Act("lane.step", S, "Bring the lane into step", "", "From the cursor on: what is too much goes, what is missing is waited for", A.into_step, AT, rank=1, within="Lane"),
    Act("lane.up", S, "Lane up", "", "Above its neighbour", A.lane_up, AT, rank=1, within="Lane"),
    Act("lane.down", S, "Lane down", "", "Below its neighbour", A.lane_down, AT, rank=1, within="Lane"),
    Act("lane.give_way", S, "Music gives way…", "", "A gain line that falls while words are heard", A.give_way, AT, rank=1, within="Lane"),
    Act("lane.remove", S, "Remove the lane", "", "Its recordings stay in the book", A.remove_lane, AT, rank=1, within="Lane"),
    Act("chapter.describe", Menu.CHAPTER, "Describe the chapter…", "", "Its title, colour and note", A.describe_chapter, rank=1),
    *_jumps(),
    *(
        Act(f"snap.{kind.value}", G, f"Snap to {kind.value}s", "", "While an edge is dragged in the loupe; Alt holds it off", partial(A.snap, kind=kind), AT,
            checkable=True, rank=1, within="Snap to")
        for kind in SNAPS
    ),
    Act("edit.ease", S, "Ease word cuts", "", "Edges of words that are taken out go to where the sound on both sides is alike, at most 50 ms away", A.ease, AT,
        checkable=True, rank=1),
    Act("view.times", Menu.VIEW, "Show times as…", "", "Hours to milliseconds, samples, or timecode", A.times, apart=True),
)  # fmt: skip
