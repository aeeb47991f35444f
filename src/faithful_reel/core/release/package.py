"""Release: finished files under their names, tagged, checked by another reader, with a report that proves it."""

from __future__ import annotations

import html
import re
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.audio.encode import write_tags
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import beside, hash_of, refuse_over, shortened
from faithful_reel.core.jobs import Watch
from faithful_reel.core.measure.levels import Figures
from faithful_reel.core.measure.profile import Profile, Verdict
from faithful_reel.core.release.check import checked_file


@dataclass(frozen=True, slots=True)
class Entry:
    """One chapter to release: its mastered file, its title, and the SHA-256 of the file as it was checked, where that is known."""

    chapter: str
    source: Path
    title: str
    digest: str = ""


@dataclass(frozen=True, slots=True)
class Released:
    """A released file and what the check found."""

    chapter: str
    path: Path
    figures: Figures
    verdicts: tuple[Verdict, ...]

    @property
    def passed(self) -> bool:
        """Whether every rule passes."""
        return all(v.passed for v in self.verdicts)


def file_name(number: int, title: str, suffix: str) -> str:
    """`01 Chapter One - Low Water.mp3`: only characters that every system takes."""
    safe = re.sub(r"\s*[:/\\|]\s*", " - ", title)
    safe = re.sub(r"[^\w\s\-.,'&()]", "", safe).strip(" .") or "Chapter"
    kept = shortened(safe[:100], 180).strip(" .")
    return f"{number:02d} {kept}{suffix}"


def release_chapters(entries: Sequence[Entry], out: Path, tags: dict[str, str], profile: Profile, watch: Watch) -> list[Released]:
    """Copy, tag and check every chapter file; write `report.html` beside them.

    Raises
    ------
    FileProblem
        The folder can not be written; files that were finished stay, none is half-written.
    """
    report = out / "report.html"
    refuse_over(report)
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise FileProblem(f"The folder {out.name} can not be made ({problem.strerror}). Choose another one.") from problem
    done: list[Released] = []
    for number, entry in enumerate(entries, 1):
        target = out / file_name(number, entry.title, entry.source.suffix)
        part = beside(target, target.suffix)
        try:
            refuse_over(target, entry.source)
            shutil.copyfile(entry.source, part)
            part.chmod(0o644)
            if entry.digest and hash_of(part) != entry.digest:
                raise FileProblem(f"The master of {entry.title} is not the file that was checked. Master it and release again.")
            write_tags(part, {**tags, "title": entry.title, "tracknumber": f"{number}/{len(entries)}"})
            part.replace(target)
        except OSError as problem:
            raise FileProblem(
                f"{target.name} could not be written ({problem.strerror}). Make room and release again."
            ) from problem
        finally:
            part.unlink(missing_ok=True)
        done.append(Released(entry.chapter, target, *checked_file(target, profile)))
        watch.tick(number / len(entries), f"checked {target.name}")
    part = beside(report)
    try:
        part.write_text(report_html(done, tags, profile), encoding="utf-8")
        part.replace(report)
    except OSError as problem:
        raise FileProblem(f"The report could not be written ({problem.strerror}). Make room and release again.") from problem
    finally:
        part.unlink(missing_ok=True)
    return done


def report_html(released: Sequence[Released], tags: dict[str, str], profile: Profile) -> str:
    """The delivery report: every file, every rule, its limit and its value."""
    rows = "".join(
        f"<tr class='{'ok' if v.passed else 'bad'}'><td>{html.escape(r.path.name) if i == 0 else ''}</td><td>{html.escape(v.rule.replace('_', ' '))}</td>"
        f"<td>{html.escape(v.limit)}</td><td>{html.escape(str(v.value))}</td><td>{'pass' if v.passed else 'FAIL'}</td></tr>"
        for r in released
        for i, v in enumerate(r.verdicts)
    )
    heading = html.escape(f"{tags.get('album', '')}: delivery report")
    return (
        f"<!doctype html><html lang='en'><meta charset='utf-8'><title>{heading}</title><style>body{{font:15px serif;margin:2em;color:#26221c}}"
        "table{border-collapse:collapse}td,th{border-bottom:1px solid #d5cbb8;padding:4px 12px;text-align:left}.bad{color:#b02a1e;font-weight:bold}"
        f"</style><h1>{heading}</h1><p>Profile: {html.escape(profile.name)}. Every file was read again by another decoder than the one that wrote it.</p>"
        f"<table><tr><th>file</th><th>rule</th><th>limit</th><th>value</th><th></th></tr>{rows}</table></html>\n"
    )
