"""The contents and the counts on the desks' names: what is left to do in every chapter, and at every desk.  No Qt."""

from __future__ import annotations

from dataclasses import dataclass

from faithful_reel.app.desks import DeskName
from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.memo import Memo
from faithful_reel.core.pickups.ledger import State
from faithful_reel.core.work.mastering import MasterState


@dataclass(frozen=True, slots=True)
class Line:
    """A chapter in the contents: how much of it is decided, 0 to 1, and how it stands in words."""

    chapter: str
    title: str
    share: float
    state: str
    color: str = ""
    note: str = ""


class Contents:
    """Counts what is open."""

    def __init__(self, proof: ProofPresenter, mastering: MasterPresenter) -> None:
        self._proof, self._mastering = proof, mastering
        self._counted: Memo[tuple[int, int]] = Memo()

    def lines(self) -> list[Line]:
        """Every chapter in reading order."""
        return [self._line(chapter) for chapter in self._proof.bench.book.chapters]

    def _line(self, chapter: ChapterState) -> Line:
        left, shown = self._open(chapter)
        share = 1 - left / shown if shown else 1.0 if chapter.hearing else 0.0
        if not chapter.recording:
            state = "no recording"
        elif chapter.id in self._proof.hearing_now:
            state = "being heard"
        elif not chapter.hearing:
            state = "not heard yet"
        else:
            listened = self._proof.listening.share(chapter)
            told = self._proof.proofed(chapter) or (f"{left} open" if left else "all decided")
            state = " · ".join(filter(None, (told, f"{100 * listened:.0f} % listened" if listened > 0.005 else "")))
        return Line(chapter.id, chapter.title, share, state, chapter.color, chapter.note)

    def _open(self, chapter: ChapterState) -> tuple[int, int]:
        """How many findings of a chapter are open, and how many are shown."""
        findings = self._proof.bench.findings(chapter) if chapter.hearing else chapter.findings

        def counted() -> tuple[int, int]:
            shown = [f for f in findings if not self._proof.is_folded(f)]
            return sum(f.decision is Decision.OPEN for f in shown), len(shown)

        return self._counted.of(chapter.id, (findings, self._proof.off), counted)

    def to_do(self) -> dict[DeskName, str]:
        """What stands beside a desk's name; empty where nothing is left."""
        book = self._proof.bench.book
        masters = [(c, self._mastering.state(c)) for c in book.chapters]
        failing = sum(state is MasterState.FAILS for _, state in masters)
        counts = {
            DeskName.INTAKE: sum(not c.recording for c in book.chapters),
            DeskName.PROOF: sum(self._open(c)[0] for c in book.chapters),
            DeskName.PICKUPS: sum(p.state in (State.TO_SEND, State.SENT) for p in book.pickups),
            DeskName.SPLICE: sum(p.state in (State.IN, State.CHOSEN) for p in book.pickups),
            DeskName.MASTER: sum(state in (MasterState.TO_DO, MasterState.OUT_OF_DATE) for _, state in masters),
            DeskName.RELEASE: sum(not c.released and state is MasterState.PASSES for c, state in masters),
        }
        told = {desk: str(count or "") for desk, count in counts.items()}
        return told | ({DeskName.MASTER: f"{failing}!"} if failing else {})
