"""Findings held against what was planted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from faithful_reel.core.collate.findings import READING, SHOWN, Finding, Kind, is_shown
from faithful_reel.core.collate.proofing import LEAST

WORDS = ("misread", "skipped", "added")
SHORT_S = 0.15
"""Under this a copied sound is a function word at its shortest, cut out of running speech; said again it lasts longer (from memory)."""
LEVELS = (LEAST, SHOWN, 0.5, 0.8)
"""Doubts counted as found, shown at first, sure, surer."""
AGAIN = {Kind.REPEATED, Kind.FALSE_START, Kind.ADDED}


@dataclass
class Score:
    """Counts over any number of readings."""

    planted: Counter[str] = field(default_factory=Counter)
    found: Counter[str] = field(default_factory=Counter)
    false: Counter[str] = field(default_factory=Counter)
    words: int = 0
    short: Counter[str] = field(default_factory=Counter)  # repeats by how long what is said again lasts, and those found
    bins: Counter[int] = field(default_factory=Counter)  # findings by tenth of confidence
    true_bins: Counter[int] = field(default_factory=Counter)
    sure: Counter[float] = field(default_factory=Counter)  # plants by the levels of confidence that they are told at
    wrong_sure: Counter[float] = field(default_factory=Counter)  # and findings of nothing
    doubts: int = 0
    missed: list[str] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)

    def recall(self, kinds: Iterable[str]) -> float:
        chosen = list(kinds)
        return 100 * sum(self.found[k] for k in chosen) / max(1, sum(self.planted[k] for k in chosen))

    @property
    def false_per_thousand(self) -> float:
        return 1000 * sum(self.false[k] for k in READING) / max(1, self.words)

    def add(self, name: str, plants: Sequence[Mapping], findings: Sequence[Finding], words: int) -> None:
        """Count one reading.  A plant is found by a finding of a fitting kind that stands on its words (or beside them, by one)."""
        self.words += words
        matched = labelled(plants, findings)
        for k, plant in enumerate(plants):
            self.planted[plant["kind"]] += 1
            telling = [f for f, of in zip(findings, matched) if k in of]
            best = max((f.confidence for f in telling), default=0.0)
            self.sure.update(level for level in LEVELS if best >= level)
            found = any(map(is_shown, telling))
            if plant["kind"] == "repeated" and "seconds" in plant:
                length = "short" if plant["seconds"] < SHORT_S else "long"
                self.short[length] += 1
                self.short[f"{length} found"] += found
            if found:
                self.found[plant["kind"]] += 1
            else:
                self.missed.append(
                    f"{name} {plant['kind']} [{plant['word_index']}] {plant['written']!r} -> {plant['heard']!r} ({best:.2f})"
                )
        for finding, of in zip(findings, matched):
            if finding.kind in READING:
                self.doubts += not is_shown(finding)
                self.wrong_sure.update(level for level in LEVELS if finding.confidence >= level and not of)
                tenth = min(9, int(finding.confidence * 10))
                self.bins[tenth] += 1
                self.true_bins[tenth] += bool(of)
            if not of and is_shown(finding):
                self.false[finding.kind] += 1
                if finding.kind in READING:
                    e = finding.evidence
                    self.wrong.append(
                        f"{name} {finding.kind} [{finding.word_index}] {finding.written!r} -> {finding.heard!r} "
                        f"({finding.confidence:.2f}; ear {e.ear:.2f} witness {e.witness} second {e.second!r})"
                    )

    def plotted(self) -> str:
        """The share of findings that are real by the tenth of their confidence; a star where a perfect ear's would stand."""
        rows = []
        for tenth in range(10):
            if self.bins[tenth]:
                share = self.true_bins[tenth] / self.bins[tenth]
                bar = ["#" if k < round(40 * share) else " " for k in range(40)]
                bar[4 * tenth + 2] = "*"
                rows.append(f"{tenth / 10:.1f} |{''.join(bar)}| {self.true_bins[tenth]} of {self.bins[tenth]}")
        return "\n".join(rows)

    def in_short(self) -> str:
        """Recall and false findings at the threshold that findings are shown from, and at others."""
        total = sum(self.planted.values())
        parts = [f"{self.words} words, {total} planted"]
        if total:
            parts.append("found " + ", ".join(f"{100 * self.sure[v] / total:.1f} % at {v:.2f}" for v in LEVELS))
        parts.append("false " + ", ".join(f"{1000 * self.wrong_sure[v] / max(1, self.words):.1f} at {v:.2f}" for v in LEVELS))
        shown = [
            (v, sum(self.bins[t] for t in range(round(10 * v), 10)), sum(self.true_bins[t] for t in range(round(10 * v), 10)))
            for v in (0.5, 0.8)
        ]
        parts += [
            f"of findings at {v:.1f} and over {100 * true / count:.0f} % are real" for v, count, true in shown if count and total
        ]
        return (
            "; ".join([*parts, f"{1000 * self.doubts / max(1, self.words):.1f} doubts"])
            + " (false ones and doubts in 1,000 words)"
        )

    def told(self) -> str:
        """The table."""
        lines = ["kind          planted  found  recall"]
        lines += [f"{k:<13} {self.planted[k]:7d} {self.found[k]:6d} {self.recall([k]):6.1f} %" for k in self.planted]
        lines.append(
            f"words: recall {self.recall(WORDS):.1f} %; repeats {self.recall(['repeated', 'take']):.1f} %; "
            f"false starts {self.recall(['false_start']):.1f} %"
        )
        if self.short:
            lines.append(
                f"repeats of {1000 * SHORT_S:.0f} ms and more: {self.short['long found']} of {self.short['long']}; "
                f"of less: {self.short['short found']} of {self.short['short']}"
            )
        lines.append(
            f"false findings {self.false_per_thousand:.1f} per 1,000 words of {self.words}; by kind "
            + ", ".join(f"{k} {n}" for k, n in sorted(self.false.items()))
        )
        rows = [f"{t / 10:.1f}: {self.true_bins[t]} of {self.bins[t]}" for t in range(10) if self.bins[t]]
        lines.append("real, by tenth of confidence   " + "   ".join(rows))
        return "\n".join(lines)


def labelled(plants: Sequence[Mapping], findings: Sequence[Finding]) -> list[set[int]]:
    """For every finding the plants that it tells of."""
    result = []
    for f in findings:
        of: set[int] = set()
        if f.kind in READING:
            lo, hi = f.word_index, f.word_index + max(1, f.word_count)
            for k, plant in enumerate(plants):
                a, b = plant["word_index"], plant["word_index"] + max(1, plant["word_count"])
                again = plant["kind"] not in WORDS
                if again and f.kind not in AGAIN:
                    continue
                reach = plant["word_count"] + 1 if again else 1
                if lo < b + (reach if again else 1) and hi > a - 1:
                    of.add(k)
        result.append(of)
    return result
