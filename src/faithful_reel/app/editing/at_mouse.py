"""What lies at a place of the page or the loupe, and the acts that fit it: for the menu there.  No Qt."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.core.reel.reel import Piece, Rest
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.units import Span
from faithful_reel.core.work.pauses import pause_near


class Thing(Enum):
    """What a menu is for."""

    FINDING = "Finding"
    MARKER = "Marker"
    POINT = "Gain point"
    JOIN = "Join"
    FADE = "Fade"
    LANE = "Lane"
    SPAN = "Marked"
    WORD = "Word"
    PAUSE = "Pause"
    PIECE = "Piece"


ACTS = {
    Thing.FINDING: (
        "proof.listen", "proof.stet", "proof.mend", "proof.pickup", "proof.swap", "proof.reopen", "proof.accept", "proof.remark",
    ),
    Thing.MARKER: ("marker.name", "marker.drop"),
    Thing.POINT: ("edit.point_up", "edit.point_down", "edit.point", "edit.drop_point", "edit.flatten"),
    Thing.JOIN: ("ear.join", "ear.as_it_was", "edit.join_earlier", "edit.join_later", "edge.step", "edit.crossfade"),
    Thing.FADE: ("edit.fade_in", "edit.fade_out"),
    Thing.LANE: (
        "lane.mute", "lane.solo", "lane.level", "lane.pan", "lane.name", "lane.hide", "lane.link", "lane.up", "lane.down",
        "lane.give_way", "lane.remove",
    ),
    Thing.SPAN: (
        "ear.marked", "edit.cut_close", "edit.cut_fill", "edit.silence", "edit.keep_only", "edit.as_if_out", "edit.cut",
        "edit.copy", "edit.paste", "edit.duplicate", "slide.earlier", "slide.later", "edit.split", "edit.softer", "edit.louder",
        "edit.crossfade", "edit.soften", "edit.redraw", "record.over", "proof.note", "view.to_span", "span.another", "span.none",
    ),
    Thing.WORD: (
        "ear.marked", "span.word", "span.sentence", "edit.cut_close", "edit.cut_fill", "here.out_to_sentence",
        "here.out_from_sentence", "record.over", "proof.note", "proof.flag", "proof.elsewhere",
    ),
    Thing.PAUSE: (
        "pause.mark", "pause.shorter", "pause.longer", "pause.usual", "pause.typed", "edit.pause", "here.out_to_pause",
        "here.out_from_pause",
    ),
    Thing.PIECE: (
        "edit.name_piece", "edit.split", "edge.start_earlier_carried", "edge.start_later_carried", "edge.end_earlier_carried",
        "edge.end_later_carried", "edit.fade_in", "edit.fade_out", "edit.paste", "edit.mark",
    ),
}  # fmt: skip
"""The acts that fit each."""


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a menu: what it is for, in words, and its acts."""

    heading: str
    acts: tuple[str, ...]


def parts_at(editing: Editing, position: int, things: tuple[Thing, ...] = (), name: str = "") -> list[Part]:
    """The parts of the menu at a place: first `things` that lie under the mouse itself, the first of a name; then what sounds."""
    found = [Part(f"{thing.value} {name}".strip() if k == 0 else thing.value, ACTS[thing]) for k, thing in enumerate(things)]
    at = editing.found()
    if at is None or Thing.LANE in things:
        return found
    chapter, reel = at
    spans = editing.marked()
    if any(span.start <= position < span.stop for span in spans):
        return [*found, Part(f"Marked: {editing.said(spans) or editing.time(spans[0].start)}", ACTS[Thing.SPAN])]
    word = editing.word_at(position)
    if word is not None and editing.lane in (LINKED, word.lane):
        found.append(Part(f"Word “{word.text}”", ACTS[Thing.WORD]))
    else:
        pause = pause_near(editing.pauses(chapter, reel, Span(position, position)), position, editing.bench.book.rate)
        if pause is not None and pause.span.start <= position <= pause.span.stop:
            found.append(Part(f"Pause of {len(pause.span) / editing.bench.book.rate:.2f} s", ACTS[Thing.PAUSE]))
    own = editing.own_lane(reel)
    lane = reel.lanes[own if own is not None else 0]
    if position < len(lane):
        segment = lane.segments[lane.index_at(position)]
        kind = "Piece" if isinstance(segment, Piece) else "Rest" if isinstance(segment, Rest) else "Room tone"
        found.append(Part(f"{kind} {segment.name}".strip(), ACTS[Thing.PIECE]))
    return found
