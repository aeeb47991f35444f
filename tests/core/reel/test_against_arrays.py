"""Every command on reels of several lanes, against the same done to plain arrays, to the sample."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import (
    BringIntoStep,
    ChangeGain,
    CutAndClose,
    CutAndFill,
    DrawLine,
    InsertPause,
    LinkLane,
    MixLane,
    MoveEdge,
    OrderLanes,
    Paste,
    PutBackSound,
    ReplaceByTake,
    SetFade,
    SetGain,
    SplitAt,
    SplitMany,
)
from faithful_reel.core.reel.cutting import copied
from faithful_reel.core.reel.reel import (
    OFF_DB,
    Fade,
    Join,
    Lane,
    Piece,
    Reel,
    ToneSource,
)
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span

LENGTH = 6000
HARD = Join(0, "equal_power")
SOUNDS = {name: np.random.default_rng(k).uniform(-1, 1, LENGTH).astype(np.float32) for k, name in enumerate("abmt")}
TONE = ToneSource("t", 100, 5000)


def source(recording, start, stop):
    x = SOUNDS[recording]
    out = np.zeros(stop - start, np.float32)
    first, last = max(0, start), min(stop, len(x))
    if last > first:
        out[first - start : last - start] = x[first:last]
    return out


def rendered(reel):
    return Renderer(reel, source).render(0, len(reel))


def hard(reel):
    """A reel whose joins are all hard."""
    return replace(reel, lanes=tuple(replace(k, segments=tuple(replace(s, join=HARD) for s in k.segments)) for k in reel.lanes))


class Plain:
    """A lane as four arrays: its sound, its gain in dB, its line in dB, its fades."""

    def __init__(self, x, gain=None, line=None, fade_in=None, fade_out=None):
        n = len(x)
        self.x = x
        self.gain = np.zeros(n) if gain is None else gain
        self.line = np.zeros(n) if line is None else line
        self.fade_in = np.ones(n) if fade_in is None else fade_in
        self.fade_out = np.ones(n) if fade_out is None else fade_out
        self.linked, self.late, self.level = True, 0, 0.0

    def rows(self):
        return self.x, self.gain, self.line, self.fade_in, self.fade_out

    def exchanged(self, a, b, other):
        a, b = min(a, len(self.x)), min(b, len(self.x))
        self.x, self.gain, self.line, self.fade_in, self.fade_out = (
            np.concatenate([mine[:a], new, mine[b:]]) for mine, new in zip(self.rows(), other.rows(), strict=True)
        )

    def between(self, a, b):
        return Plain(*(row[a:b].copy() for row in self.rows()))

    def sound(self):
        line = np.where(self.line > OFF_DB, 10 ** (self.line / 20), 0)
        return self.x * 10 ** (self.gain / 20) * line * self.fade_in * self.fade_out * 10 ** (self.level / 20)


def tone(length, at):
    """Room tone as the reel weaves it by itself; its weaving has tests of its own."""
    if not length:
        return Plain(np.zeros(0))
    return Plain(rendered(Reel((Lane("", (TONE.filling(length, 1 + at % 9973),)),))).astype(float))


def rest(length):
    return Plain(np.zeros(length))


NOTHING = rest(0)
PLACE = st.integers(0, 3 * LENGTH)
SHORT = st.integers(1, 900)


class Edits(RuleBasedStateMachine):
    """A voice with room tone of its own, another voice, music; any commands in any order."""

    def __init__(self):
        super().__init__()
        names = {"voice": "a", "other": "b", "music": "m"}
        self.reel = Reel(
            tuple(
                Lane(name, (Piece(own, 0, LENGTH - 500 * k),), music=name == "music", tone=TONE if name == "voice" else None)
                for k, (name, own) in enumerate(names.items())
            )
        )
        self.plain = [Plain(SOUNDS[own][: LENGTH - 500 * k].astype(float)) for k, own in enumerate(names.values())]
        self.order = list(names)

    # --- the plain way --------------------------------------------------------------------------------------------

    def filling(self, k, length, at):
        return tone(length, at) if self.order[k] == "voice" else rest(length)

    def group(self, k):
        if k >= 0 and not self.plain[k].linked:
            return [k]
        return [i for i, p in enumerate(self.plain) if p.linked]

    def follow(self, k, a, b, by):
        """What the other lanes do when lane `k` is `by` longer at `b`."""
        group = self.group(k)
        for i in group:
            p = self.plain[i]
            if i == k:
                continue
            if by < 0:
                p.exchanged(b + by, b, NOTHING)
            elif by > 0 and b < len(p.x):
                p.exchanged(b, b, self.filling(i, by, a))
        self.late(group, by)

    def late(self, group, by):
        if len(group) == 1 and not self.plain[group[0]].linked:
            self.plain[group[0]].late += by
        else:
            for p in self.plain:
                p.late -= 0 if p.linked else by

    def __len__(self):
        return max(len(p.x) for p in self.plain)

    def done(self, command):
        """Do it; whether it was not refused."""
        before = self.reel
        try:
            self.reel = command.apply(self.reel)
        except EditRefused:
            assert self.reel is before
            return False
        return True

    def lane(self, k):
        return k % len(self.plain)

    def span(self, a, n):
        a %= len(self)
        return a, min(len(self), a + n)

    # --- commands -------------------------------------------------------------------------------------------------

    @rule(a=PLACE, n=SHORT, k=st.integers(-1, 2))
    def cut(self, a, n, k):
        a, b = self.span(a, n)
        k = k if k < 0 else self.lane(k)
        if self.done(CutAndClose(a, b, lane=k)):
            group = self.group(k)
            for i in group:
                self.plain[i].exchanged(a, b, NOTHING)
            self.late(group, a - b)

    @rule(a=PLACE, n=SHORT, k=st.integers(0, 2))
    def fill(self, a, n, k):
        (a, b), k = self.span(a, n), self.lane(k)
        if self.done(CutAndFill(a, b, None, k)):
            p = self.plain[k]
            p.exchanged(a, b, self.filling(k, max(0, min(b, len(p.x)) - a), a))

    @rule(a=PLACE, n=SHORT, k=st.integers(0, 2))
    def pause(self, a, n, k):
        (a, _), k = self.span(a, 0), self.lane(k)
        if self.done(InsertPause(a, n, None, k)):
            self.plain[k].exchanged(a, a, self.lead(k, a, self.filling(k, n, a)))
            self.follow(k, a, a, n)

    def lead(self, k, a, what):
        """With the way from the end of a lane that is shorter."""
        gap = a - len(self.plain[k].x)
        if gap <= 0:
            return what
        way = self.filling(k, gap, len(self.plain[k].x))
        way.exchanged(gap, gap, what)
        return way

    @rule(a=PLACE, k=st.integers(0, 2))
    def split(self, a, k):
        self.done(SplitAt(a % len(self), self.lane(k)))

    @rule(places=st.lists(PLACE, min_size=1, max_size=6))
    def split_many(self, places):
        places = tuple(a % len(self) for a in places)
        assert self.done(SplitMany(places, tuple("x" for _ in places), tuple(range(len(self.plain)))))
        starts = [lane.starts() for lane in self.reel.lanes]
        assert all(a in row for row in starts for a in places if a < row[-1])

    @rule(a=PLACE, n=SHORT, k=st.integers(0, 2), gain=st.floats(-20, 12))
    def gain(self, a, n, k, gain):
        (a, b), k = self.span(a, n), self.lane(k)
        if self.done(SetGain(a, b, gain, k)):
            p = self.plain[k]
            p.gain[a:b] = np.where(p.x[a:b] != 0, gain, p.gain[a:b])

    @rule(a=PLACE, n=SHORT, k=st.integers(0, 2), by=st.floats(-3, 3))
    def louder(self, a, n, k, by):
        (a, b), k = self.span(a, n), self.lane(k)
        if self.done(ChangeGain(a, b, by, k)):
            self.plain[k].gain[a:b] += by

    @rule(a=PLACE, n=SHORT, k=st.integers(0, 2), drawn=st.lists(st.tuples(st.floats(0, 1), st.floats(-96, 12)), max_size=4))
    def draw(self, a, n, k, drawn):
        (a, b), k = self.span(a, n), self.lane(k)
        points = dict(sorted((a + round(at * (b - a - 1)), gain) for at, gain in drawn))
        p = self.plain[k]
        if not self.done(DrawLine(a, b, tuple(points.items()), k)):
            return
        stop = min(b, len(p.x))
        ends = self.line_beside(k, a, b)
        points = {a: ends[0], b: ends[1]} | points
        xs = sorted(points)
        p.line[a:stop] = np.interp(np.arange(a, stop), xs, [points[x] for x in xs])

    def line_beside(self, k, a, b):
        """The line at both ends of a stretch, before it is drawn anew: as the arrays have it, or as it would run on."""
        p, stop = self.plain[k], min(b, len(self.plain[k].x))
        starts = self.before.lanes[k].starts()
        last = self.before.lanes[k].segments[max(i for i, at in enumerate(starts[:-1]) if at < stop)]
        at = b - max(at for at in starts[:-1] if at < stop)
        xs = [(x - last.origin, gain) for x, gain in last.line]
        after = np.interp(at, *zip(*xs, strict=True)) if xs else 0.0
        return p.line[a], float(after)

    @rule(k=st.integers(0, 2), i=st.integers(0, 30), n=st.integers(0, 700), bend=st.floats(-2, 2), first=st.booleans())
    def fade(self, k, i, n, bend, first):
        k = self.lane(k)
        lane = self.reel.lanes[k]
        i %= len(lane.segments)
        if self.done(SetFade(i, Fade(n, bend), first, k)):
            a, b = lane.starts()[i : i + 2]
            row = self.plain[k].fade_in if first else self.plain[k].fade_out
            row[a:b] = 1.0
            curve = ((np.arange(n) + 0.5) / max(1, n)) ** 2**bend
            row[a : a + n] = curve if first else row[a : a + n]
            row[b - n : b] = row[b - n : b] if first else curve[::-1]

    @rule(a=PLACE, n=SHORT, to=PLACE, over=st.integers(0, 400), keep=st.booleans(), one=st.booleans(), k=st.integers(0, 2))
    def paste(self, a, n, to, over, keep, one, k):
        (a, b), (c, d) = self.span(a, n), self.span(to, over)
        lanes = (self.lane(k),) if one else tuple(range(len(self.plain)))
        content = copied(self.reel, Span(a, b), lanes)
        what = {}
        for i in lanes:
            copy = self.plain[i].between(a, b)
            missing = (b - a) - len(copy.x)
            copy.exchanged(len(copy.x), len(copy.x), self.filling(i, missing, a))
            what[i] = copy
        if not self.done(Paste(c, d, content, keep)):
            return
        n = b - a
        if keep:
            d = min(len(self), c + n) if d == c else d
            for i, copy in what.items():
                p = self.plain[i]
                own = max(0, min(d, len(p.x)) - min(c, len(p.x)))
                if own <= n:
                    p.exchanged(c, d, copy.between(0, own))
                else:
                    copy.exchanged(n, n, self.filling(i, own - n, min(c, len(p.x))))
                    p.exchanged(c, d, copy)
            return
        moving = sorted({j for i in lanes for j in self.group(i)})
        by = n - (d - c)
        for i in moving:
            p = self.plain[i]
            if i in what:
                gap = c - len(p.x)
                if gap > 0:
                    way = self.filling(i, gap, c)
                    way.exchanged(gap, gap, what[i])
                    what[i] = way
                p.exchanged(c, d, what[i])
            elif by < 0:
                p.exchanged(d + by, d, NOTHING)
            elif by > 0 and d < len(p.x):
                p.exchanged(d, d, self.filling(i, by, c))
        self.late(moving, by)

    @rule(a=PLACE, n=SHORT, t=st.integers(0, 4000), m=SHORT, k=st.integers(0, 2))
    def take(self, a, n, t, m, k):
        (a, b), k = self.span(a, n), self.lane(k)
        if self.done(ReplaceByTake(a, b, "t", t, t + m, 0.0, TONE, lane=k)):
            self.plain[k].exchanged(a, b, self.lead(k, a, Plain(SOUNDS["t"][t : t + m].astype(float))))
            self.follow(k, a, b, m - (b - a))

    @rule(a=PLACE, t=st.integers(0, 4000), m=SHORT, k=st.integers(0, 2))
    def put_back(self, a, t, m, k):
        k = self.lane(k)
        p = self.plain[k]
        a %= len(p.x) + 1
        if self.done(PutBackSound(a, "t", t, t + m, 0.0, TONE, lane=k)):
            p.exchanged(a, a, Plain(SOUNDS["t"][t : t + m].astype(float)))
            self.follow(k, a, a, m)

    @rule(k=st.integers(0, 2), i=st.integers(0, 30), by=st.integers(-600, 600), first=st.booleans())
    def edge(self, k, i, by, first):
        k = self.lane(k)
        lane = self.reel.lanes[k]
        i %= len(lane.segments)
        segment, (a, b) = lane.segments[i], lane.starts()[i : i + 2]
        if not isinstance(segment, Piece) or segment.line or segment.fade_in.length or segment.fade_out.length:
            return
        if not self.done(MoveEdge(i, by, first, k, LENGTH)):
            return
        p, more = self.plain[k], -by if first else by
        at = a if first else b
        if more > 0:
            own = slice(segment.start - more, segment.start) if first else slice(segment.stop, segment.stop + more)
            shown = Plain(SOUNDS[segment.recording][own].astype(float))
            shown.gain[:] = segment.gain_db
            p.exchanged(at, at, shown)
            self.follow(k, at, at, more)
        else:
            gone = (at, at - more) if first else (at + more, at)
            p.exchanged(*gone, NOTHING)
            self.follow(k, *gone, more)

    @rule(k=st.integers(0, 2), linked=st.booleans())
    def link(self, k, linked):
        k = self.lane(k)
        assert self.done(LinkLane(k, linked))
        self.plain[k].linked = linked

    @rule(k=st.integers(0, 2), a=PLACE)
    def into_step(self, k, a):
        k = self.lane(k)
        p = self.plain[k]
        a %= len(p.x) + 1
        late = p.late
        if self.done(BringIntoStep(k, a)):
            p.exchanged(a, a + max(0, late), self.filling(k, max(0, -late), a))
            p.late = 0

    @rule(k=st.integers(0, 2), level=st.floats(-12, 6))
    def mix(self, k, level):
        k = self.lane(k)
        assert self.done(MixLane(k, level))
        self.plain[k].level = level

    @rule(turn=st.permutations([0, 1, 2]))
    def reorder(self, turn):
        assert self.done(OrderLanes(tuple(turn)))
        self.plain, self.order = [self.plain[k] for k in turn], [self.order[k] for k in turn]

    # --- what always holds ----------------------------------------------------------------------------------------

    @invariant()
    def the_same_samples(self):
        for lane, p in zip(self.reel.lanes, self.plain, strict=True):
            assert len(lane) == len(p.x)
            one = Reel((lane,))
            assert np.allclose(rendered(hard(one)), p.sound(), atol=2e-6)
        self.before = self.reel

    @invariant()
    def no_empty_pieces_and_known_slips(self):
        assert all(len(s) > 0 for lane in self.reel.lanes for s in lane.segments)
        assert [lane.late for lane in self.reel.lanes] == [p.late for p in self.plain]

    @invariant()
    def the_mix_is_the_sum(self):
        total = np.zeros(len(self))
        for p in self.plain:
            total[: len(p.x)] += p.sound()
        assert np.allclose(rendered(hard(self.reel)), total, atol=4e-6)


TestEdits = Edits.TestCase
TestEdits.settings = settings(max_examples=60, stateful_step_count=14, deadline=None)
