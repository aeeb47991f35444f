"""A hearing laid on a chapter of the demo book without listening: every word 0.4 s, with findings of several kinds."""

from __future__ import annotations

from faithful_reel.core.book.commands import EDITION, PlaceHearing
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.work.timeline import Hearing

STEP, WORD = 17_640, 15_640


def lay_hearing(bench, chapter_id: str = "c1") -> None:
    """Words stand from the tenth second on; misreads at words 10 and 60, a repeat before 30, more in between."""
    chapter = bench.book.chapter(chapter_id)
    words = bench.text(chapter).words
    said, placed, links, at = [], [], [], 441_000
    for i, word in enumerate(words):
        if i == 30:
            said.append(Heard("again", at, at + WORD, 0.9))
            links.append((30, 30, len(said) - 1, len(said), False))
            at += STEP
        placed.append(Placed(at, at + WORD, 0.9))
        said.append(Heard(word.text, at, at + WORD, 0.9))
        links.append((i, i + 1, len(said) - 1, len(said), True))
        at += STEP
    key = bench.session.store.put(Hearing, Hearing(tuple(said), tuple(placed), tuple(links)))

    def at_word(name, kind, i, heard="", confidence=0.9):
        return Finding(name, kind, words[i].text, heard, i, 1, placed[i].start, placed[i].stop, confidence)

    pause = placed[44]
    findings = (
        at_word("f1", Kind.MISREAD, 10, "other"),
        Finding("f2", Kind.REPEATED, "", "again", 30, 0, said[30].start, said[30].stop, 0.9),
        at_word("f3", Kind.MISREAD, 60, "another", 0.8),
        Finding("f4", Kind.NOISE, "", "", 45, 0, pause.stop, pause.stop + 1500, 0.8),
        at_word("f5", Kind.SKIPPED, 70, confidence=0.2),
    )
    bench.do(PlaceHearing(chapter_id, key, findings[: 5 if len(words) > 70 else 2], EDITION))


def lay_retake(bench, chapter_id: str = "c1") -> tuple[range, Finding]:
    """Lay a second reading of a sentence after all that a chapter's hearing holds; the sentence, and its finding."""
    chapter = bench.book.chapter(chapter_id)
    hearing, text = bench.hearing(chapter), bench.text(chapter)
    words = text.words
    sentence = next(s for s in text.sentences() if len(s) > 6 and s.start > 60)
    at = hearing.heard[-1].stop + 40_000
    again = tuple(Heard(words[i].text, at + 16_000 * k, at + 16_000 * k + 15_000, 0.9) for k, i in enumerate(sentence))
    links = (*hearing.links, (len(words), len(words), len(hearing.heard), len(hearing.heard) + len(again), False))
    key = bench.session.store.put(Hearing, Hearing((*hearing.heard, *again), hearing.placed, links))
    said = " ".join(w.text for w in again)
    take = Finding("f9", Kind.REPEATED, said, said, sentence.start, len(sentence), again[0].start, again[-1].stop, 0.9)
    bench.do(PlaceHearing(chapter_id, key, (take,)))
    return sentence, take
