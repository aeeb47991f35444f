"""Lines that were read again: marks that the narrator made, and how another reading stands beside the one that is kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from faithful_reel.core.collate.findings import AGAIN, SHOWN, Finding
from faithful_reel.core.collate.flaws import Flaw, Levels
from faithful_reel.core.collate.links import collated
from faithful_reel.core.collate.places import EDGE, Reading, Witness, read_chunk
from faithful_reel.core.hear.pronounce import phones_read
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.units import EAR_RATE, Span

MARK_S = 0.3
MARKED = 9.0
"""How many times as likely a retake is where the narrator marked one (own rule)."""
AROUND_S = 3.0
FAINT_DB, FAINT = 12.0, 0.08
"""A repeat that is fainter than the words around it by so much is so many times as likely (own rule): in the tuning chapters and
sixteen real readings of the benchmark, four of five such were noise that an ear made a word of; the fifth was near certain."""


def with_marks(findings: Sequence[Finding], heard: Sequence[Heard]) -> list[Finding]:
    """A clap or click between a reading that was given up and the next one is the narrator's mark of a retake.

    It is called so, and makes the false start or repeat before it surer; one in a word is no such mark.
    """
    starts = np.sort([h.start for h in heard])
    out = list(findings)
    for k, mark in enumerate(findings):
        if mark.evidence.flaw not in (Flaw.CLICK, Flaw.NOISE, Flaw.THUMP) or mark.stop - mark.start > MARK_S * EAR_RATE:
            continue
        middle = (mark.start + mark.stop) // 2
        if any(h.start <= middle < h.stop for h in heard):
            continue
        at = int(np.searchsorted(starts, mark.start))
        before = int(starts[at - 1]) if at else 0  # the last word that began before the mark
        for n, f in enumerate(findings):
            if f.kind in AGAIN and f.start <= before < f.stop:
                note = f"a clap or click that marks a retake ({mark.evidence.note})"
                out[k] = replace(mark, evidence=replace(mark.evidence, flaw=Flaw.MARK.value, note=note))
                out[n] = _likelier(f, MARKED)
    return out


def where_faint(findings: Sequence[Finding], heard: Sequence[Heard], spoken: Levels) -> list[Finding]:
    """Doubt what is said to be read again where there is hardly a voice: the room, or a breath, was taken for a word.

    `spoken` is the level of the sound in dB every 5 ms, (n,).
    """
    starts, frame = np.array([h.start for h in heard]), EAR_RATE // 200
    tops = np.array([spoken[h.start // frame : h.stop // frame + 1].max(initial=-100.0) for h in heard])
    around = round(AROUND_S * EAR_RATE)
    out = list(findings)
    for k, f in enumerate(findings):
        own = spoken[f.start // frame : f.stop // frame + 1]
        near = tops[(starts > f.start - around) & (starts < f.stop + around)]
        if f.kind in AGAIN and len(own) and len(near) and np.percentile(own, 90) < np.median(near) - FAINT_DB:
            note = f.evidence.note or "far fainter than the words around it"
            out[k] = replace(_likelier(f, FAINT), evidence=replace(f.evidence, note=note))
    return out


def _likelier(f: Finding, times: float) -> Finding:
    return replace(f, confidence=round(times * f.confidence / (1 + (times - 1) * f.confidence), 3))


def beside_kept(
    findings: Sequence[Finding], heard: Sequence[Heard], placed: Sequence[Span | None], spoken: Levels
) -> list[Finding]:
    """Say of every other reading how much louder and faster it is than the one that is kept.

    Parameters
    ----------
    findings : sequence of Finding
        Those of two words and more that were read again are given `level_db` and `pace`.
    heard : sequence of Heard
        All heard words, with their edges.
    placed : sequence
        Where every written word is read, in samples; None for those that are not.
    spoken : (n,) array
        Level of the sound in dB, every 5 ms.
    """
    out = list(findings)
    for k, f in enumerate(findings):
        if f.kind not in AGAIN or f.word_count < 2:
            continue
        own = [h for h in heard if f.start <= h.start < f.stop]
        spans = [p for p in placed[f.word_index : f.word_index + f.word_count] if p is not None]
        kept = [h for h in heard if any(p.start <= h.start < p.stop for p in spans)]
        if own and kept:
            level = round(_level(own, spoken) - _level(kept, spoken), 1)
            out[k] = replace(f, evidence=replace(f.evidence, level_db=level, pace=round(_pace(own) / _pace(kept), 2)))
    return out


def judged_alike(
    findings: Sequence[Finding],
    readings: Sequence[Reading],
    written: Sequence[str],
    starts: frozenset[int],
    phones: Witness | None,
) -> list[Finding]:
    """Say of every other reading how many of its words depart from the text, by all ears and the rules of a chapter.

    Parameters
    ----------
    findings : sequence of Finding
        Those of two words and more that were read again are given `departs`.
    readings : sequence of Reading
        What was heard in every chunk.
    written, starts, phones
        As in `read_chunk`.
    """
    out = list(findings)
    for k, f in enumerate(findings):
        if f.kind not in AGAIN or f.word_count < 2:
            continue
        reading = next((r for r in readings if any(f.start <= w.start < f.stop for w in r.words)), None)
        if reading is not None and reading.by_ear:
            out[k] = replace(f, evidence=replace(f.evidence, departs=_departs(f, reading, written, starts, phones)))
    return out


def _departs(f: Finding, reading: Reading, written: Sequence[str], starts: frozenset[int], phones: Witness | None) -> int:
    """How many words of one other reading depart from the text."""
    own = [j for j, w in enumerate(reading.words) if f.start <= w.start < f.stop]
    texts = [w.text for w in reading.words]
    heard: dict[str, list[Heard]] = {}
    for ear, words in reading.by_ear.items():
        links = collated(texts, [w.text for w in words])
        mine = [
            j for k in links if k.written and k.heard and k.written.start <= own[-1] and k.written.stop > own[0] for j in k.heard
        ]
        heard[ear] = list(words[min(mine) : max(mine) + 1]) if mine else []
    around = Span(max(0, f.start - EDGE), f.stop + EDGE)
    part = read_chunk(range(f.word_index, f.word_index + f.word_count), written, starts, heard, phones, around)
    found = [j for place in part.places for j in place.departures if j.confidence >= SHOWN]
    return sum(max(1, len(j.difference.written)) for j in found if j.difference.kind not in AGAIN)


def _level(words: Sequence[Heard], spoken: Levels) -> float:
    """The median of the words' levels."""
    frame = EAR_RATE // 200
    parts = [10 ** (spoken[w.start // frame : w.stop // frame + 1] / 10) for w in words]
    return float(np.median([10 * np.log10(p.mean() + 1e-20) for p in parts if len(p)] or [-100.0]))


def _pace(words: Sequence[Heard]) -> float:
    """How fast words are read, times an even pace."""
    return sum(map(_expected_s, words)) / max(1e-3, sum(w.stop - w.start for w in words) / EAR_RATE)


def _expected_s(word: Heard) -> float:
    """How long a word lasts at an even pace: 45 ms and 75 ms a phone (from memory, only compared with its like)."""
    return 0.045 + 0.075 * len(phones_read([word.text]))
