"""One text, made as every kind of manuscript by other programs' libraries, or by hand from the published formats."""

from __future__ import annotations

import html
import re
import zipfile
from collections.abc import Callable
from pathlib import Path

TITLE, AUTHOR = "The Ferry Ledger", "Imre Oakshott"
# (heading, [paragraph, ...]); *stars* are italics, "***" a scene break, "^n" a footnote's mark
CHAPTERS = (
    (
        "Chapter One: The Ferry",
        [
            "The ferry *Patience* left at half past six, as it had for 41 years — or so said Mr. Quill, who kept the ledger.^1",
            "“You’re late,” he said to nobody. “You’re always late.” The café on the quay was shut, and a well-known smell of tar hung over it.",
            "***",
            "By noon the fog had come. Nobody crossed, and nobody asked *why not* until the evening bell had rung its three slow notes.",
        ],
    ),
    (
        "Chapter Two: The Ledger",
        [
            "On page 112 somebody had written a sum that did not add up: £3 and 4 pence, twice.^2",
            "Ada read it again. Then she read it *aloud*, for the sound of it, and the old naïve rhyme came back.",
        ],
    ),
    (
        "Chapter Three: The Crossing",
        ["There is not much more to tell. The boat went over, and it came back; that is what boats do."],
    ),
)
NOTES = ("A ferryman’s half past six is a quarter to seven.", "The sum was never settled.")


def plain(text: str) -> str:
    """A paragraph without its marks."""
    return re.sub(r"\^\d", "", text).replace("*", "")


def chapter_words() -> list[list[str]]:
    """The words of every chapter, headings first, as any reader must give them."""
    return [
        [*heading.split(), *(w for p in paragraphs if p != "***" for w in plain(p).replace(" — ", "— ").split())]
        for heading, paragraphs in CHAPTERS
    ]


def _runs(text: str) -> list[tuple[str, bool, str]]:
    """(text, italic, note number) runs of a paragraph."""
    runs = []
    for i, part in enumerate(text.split("*")):
        for piece in re.split(r"(\^\d)", part):
            if piece.startswith("^"):
                runs.append(("", False, piece[1:]))
            elif piece:
                runs.append((piece, i % 2 == 1, ""))
    return runs


def make_docx(path: Path) -> None:
    """By python-docx; the footnotes' part by hand (ECMA-376, part 1, 17.11)."""
    import docx
    from docx.opc.constants import CONTENT_TYPE, RELATIONSHIP_TYPE
    from docx.opc.packuri import PackURI
    from docx.opc.part import Part
    from docx.oxml import parse_xml

    space = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"'
    document = docx.Document()
    document.core_properties.title, document.core_properties.author = TITLE, AUTHOR
    document.add_paragraph(TITLE, style="Title")
    document.add_paragraph("All rights reserved.")
    for heading, paragraphs in CHAPTERS:
        document.add_heading(heading, 1)
        for text in paragraphs:
            made = document.add_paragraph()
            for run, italic, note in _runs("* * *" if text == "***" else text) if text != "***" else [("* * *", False, "")]:
                if note:
                    made.add_run()._r.append(parse_xml(f'<w:footnoteReference {space} w:id="{note}"/>'))
                else:
                    made.add_run(run).italic = italic or None
    rows = "".join(
        f'<w:footnote w:id="{i}"><w:p><w:r><w:t>{html.escape(n)}</w:t></w:r></w:p></w:footnote>' for i, n in enumerate(NOTES, 1)
    )
    extra = '<w:footnote w:type="separator" w:id="0"><w:p><w:r><w:separator/></w:r></w:p></w:footnote>'
    part = Part(
        PackURI("/word/footnotes.xml"),
        CONTENT_TYPE.WML_FOOTNOTES,
        f"<w:footnotes {space}>{extra}{rows}</w:footnotes>".encode(),
        document.part.package,
    )
    document.part.relate_to(part, RELATIONSHIP_TYPE.FOOTNOTES)
    document.save(str(path))


def make_odt(path: Path) -> None:
    """By odfpy."""
    from odf import dc, meta
    from odf.opendocument import OpenDocumentText
    from odf.style import ParagraphProperties, Style, TextProperties
    from odf.text import H, Note, NoteBody, NoteCitation, P, Span

    document = OpenDocumentText()
    document.meta.addElement(dc.Title(text=TITLE))
    document.meta.addElement(meta.InitialCreator(text=AUTHOR))
    slanted = Style(name="Slanted", family="text")
    slanted.addElement(TextProperties(fontstyle="italic"))
    paged = Style(name="Paged", family="paragraph")
    paged.addElement(ParagraphProperties(breakbefore="page"))
    title = Style(name="Title", family="paragraph")
    document.automaticstyles.addElement(slanted)
    document.automaticstyles.addElement(paged)
    document.styles.addElement(title)
    document.text.addElement(P(stylename=title, text=TITLE))
    document.text.addElement(P(text="All rights reserved."))
    for heading, paragraphs in CHAPTERS:
        document.text.addElement(H(outlinelevel=1, stylename=paged, text=heading))
        for text in paragraphs:
            made = P()
            for run, italic, note in _runs(text) if text != "***" else [("* * *", False, "")]:
                if note:
                    foot = Note(noteclass="footnote")
                    foot.addElement(NoteCitation(text=note))
                    body = NoteBody()
                    body.addElement(P(text=NOTES[int(note) - 1]))
                    foot.addElement(body)
                    made.addElement(foot)
                elif italic:
                    made.addElement(Span(stylename=slanted, text=run))
                else:
                    made.addText(run)
            document.text.addElement(made)
    document.save(str(path))


def _html_body(heading: str, paragraphs: list[str], *, tag: str = "h1", epub: bool = False) -> str:
    out = [f"<{tag}>{html.escape(heading)}</{tag}>"]
    for text in paragraphs:
        if text == "***":
            out.append("<hr/>")
            continue
        inner = ""
        for run, italic, note in _runs(text):
            if note:
                kind = ' epub:type="noteref"' if epub else ' role="doc-noteref"'
                inner += f'<a{kind} href="#n{note}">{note}</a>'
            else:
                inner += f"<em>{html.escape(run)}</em>" if italic else html.escape(run)
        out.append(f"<p>{inner}</p>")
    return "\n".join(out)


def make_html(path: Path) -> None:
    """By hand (HTML living standard), notes by the DPUB-ARIA roles."""
    body = "\n".join(_html_body(h, p) for h, p in CHAPTERS)
    notes = "".join(f'<aside role="doc-footnote" id="n{i}">{n}</aside>' for i, n in enumerate(NOTES, 1))
    path.write_text(
        f"<!DOCTYPE html><html><head><title>{TITLE}</title><meta name='author' content='{AUTHOR}'>"
        f"<style>p {{ color: red }}</style></head><body><p>All rights reserved.</p>{body}{notes}</body></html>",
        encoding="utf-8",
    )


def _epub(path: Path, version: int) -> None:
    pages = []
    for i, (heading, paragraphs) in enumerate(CHAPTERS, 1):
        tag = "h2" if version == 2 else "h1"
        notes = "".join(
            f'<aside epub:type="footnote" id="n{k}"><p>{NOTES[int(k) - 1]}</p></aside>' if version == 3 else ""
            for k in re.findall(r"\^(\d)", " ".join(paragraphs))
        )
        text = paragraphs if version == 3 else [re.sub(r"\^\d", "", p) for p in paragraphs]
        pages.append(
            (
                f"c{i}.xhtml",
                (
                    '<?xml version="1.0" encoding="utf-8"?><html xmlns="http://www.w3.org/1999/xhtml"'
                    f' xmlns:epub="http://www.idpf.org/2007/ops"><head><title>{i}</title></head><body>'
                    f"{_html_body(heading, text, tag=tag, epub=version == 3)}{notes}</body></html>"
                ),
            )
        )
    front = (
        '<html xmlns="http://www.w3.org/1999/xhtml"><head><title>Copyright</title></head><body>'
        "<p>All rights reserved.</p></body></html>"
    )
    items = "".join(f'<item id="c{i}" href="text/{n}" media-type="application/xhtml+xml"/>' for i, (n, _) in enumerate(pages, 1))
    spine = "".join(f'<itemref idref="c{i}"/>' for i in range(1, len(pages) + 1))
    if version == 3:
        links = "".join(f'<li><a href="text/{n}">{h}</a></li>' for (n, _), (h, _) in zip(pages, CHAPTERS, strict=True))
        contents = (
            "nav.xhtml",
            (
                '<html xmlns="http://www.w3.org/1999/xhtml" xmlns:epub="http://www.idpf.org/2007/ops"><body>'
                f'<nav epub:type="toc"><ol>{links}</ol></nav></body></html>'
            ),
        )
        item = '<item id="nav" href="nav.xhtml" media-type="application/xhtml+xml" properties="nav"/>'
        toc = ""
    else:
        points = "".join(
            f'<navPoint id="p{i}"><navLabel><text>{h}</text></navLabel><content src="text/{n}"/></navPoint>'
            for i, ((n, _), (h, _)) in enumerate(zip(pages, CHAPTERS, strict=True))
        )
        contents = ("toc.ncx", f'<ncx xmlns="http://www.daisy.org/z3986/2005/ncx/"><navMap>{points}</navMap></ncx>')
        item = '<item id="ncx" href="toc.ncx" media-type="application/x-dtbncx+xml"/>'
        toc = ' toc="ncx"'
    package = (
        f'<package xmlns="http://www.idpf.org/2007/opf" version="{version}.0"><metadata xmlns:dc="http://purl.org/dc/elements/1.1/">'
        f"<dc:title>{TITLE}</dc:title><dc:creator>{AUTHOR}</dc:creator></metadata>"
        f'<manifest><item id="f" href="text/front.xhtml" media-type="application/xhtml+xml"/>{items}{item}</manifest>'
        f'<spine{toc}><itemref idref="f"/>{spine}</spine></package>'
    )
    container = (
        '<container xmlns="urn:oasis:names:tc:opendocument:xmlns:container" version="1.0"><rootfiles>'
        '<rootfile full-path="OPS/book.opf" media-type="application/oebps-package+xml"/></rootfiles></container>'
    )
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("mimetype", "application/epub+zip")
        archive.writestr("META-INF/container.xml", container)
        archive.writestr("OPS/book.opf", package)
        archive.writestr(f"OPS/{contents[0]}", contents[1])
        archive.writestr("OPS/text/front.xhtml", front)
        for name, page in pages:
            archive.writestr(f"OPS/text/{name}", page)


def make_epub2(path: Path) -> None:
    """By hand (IDPF OPF 2.0.1), contents as NCX; without notes, which EPUB 2 has no mark for."""
    _epub(path, 2)


def make_epub3(path: Path) -> None:
    """By hand (EPUB 3.3), contents as a page of navigation, notes as asides."""
    _epub(path, 3)


def make_rtf(path: Path) -> None:
    """By hand (Rich Text Format 1.9.1)."""

    def escaped(text: str) -> str:
        return "".join(c if ord(c) < 128 else f"\\u{ord(c)}?" for c in text)

    out = [
        r"{\rtf1\ansi\ansicpg1252\deff0{\fonttbl{\f0 Serif;}}",
        r"{\stylesheet{\s0 Normal;}{\s1\b\fs32 heading 1;}}",
        rf"{{\info{{\title {TITLE}}}{{\author {AUTHOR}}}}}",
        r"\pard All rights reserved.\par",
    ]
    for heading, paragraphs in CHAPTERS:
        out.append(rf"\page\pard\s1 {escaped(heading)}\par")
        for text in paragraphs:
            inner = ""
            for run, italic, note in _runs(text) if text != "***" else [("* * *", False, "")]:
                if note:
                    inner += rf"{{\super\chftn{{\footnote\pard {escaped(NOTES[int(note) - 1])}}}}}"
                else:
                    inner += rf"{{\i {escaped(run)}}}" if italic else escaped(run)
            out.append(rf"\pard\s0 {inner}\par")
    path.write_text("\n".join(out) + "}", encoding="ascii")


def make_pdf(path: Path) -> None:
    """By reportlab: A5 pages with running heads and page numbers."""
    from reportlab.lib.enums import TA_JUSTIFY
    from reportlab.lib.pagesizes import A5
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.platypus import PageBreak, Paragraph, SimpleDocTemplate, Spacer

    body = ParagraphStyle("body", fontName="Times-Roman", fontSize=11, leading=14, firstLineIndent=14, alignment=TA_JUSTIFY)
    head = ParagraphStyle("head", fontName="Times-Bold", fontSize=18, leading=24, spaceAfter=18)
    story: list[object] = [Paragraph("All rights reserved.", body), PageBreak()]
    for i, (heading, paragraphs) in enumerate(CHAPTERS):
        if i:
            story.append(PageBreak())
        story.append(Paragraph(heading, head))
        for text in paragraphs:
            if text == "***":
                story += [
                    Spacer(1, 8),
                    Paragraph("* * *", ParagraphStyle("stars", parent=body, alignment=1, firstLineIndent=0)),
                    Spacer(1, 8),
                ]
                continue
            marked = "".join(f"<i>{html.escape(r)}</i>" if it else html.escape(r) for r, it, note in _runs(text) if not note)
            story.append(Paragraph(marked, body))

    def furniture(canvas, document) -> None:
        canvas.setFont("Times-Roman", 9)
        canvas.drawCentredString(A5[0] / 2, 24, str(document.page))

    SimpleDocTemplate(str(path), pagesize=A5, title=TITLE, author=AUTHOR).build(
        story, onFirstPage=furniture, onLaterPages=furniture
    )


def make_markdown(path: Path) -> None:
    """By hand (CommonMark 0.31, with footnotes)."""
    out = [f"# {TITLE}", "All rights reserved."]
    for heading, paragraphs in CHAPTERS:
        out.append(f"## {heading}")
        out += [re.sub(r"\^(\d)", r"[^\1]", p) if p != "***" else "---" for p in paragraphs]
    out += [f"[^{i}]: {n}" for i, n in enumerate(NOTES, 1)]
    path.write_text("\n\n".join(out) + "\n", encoding="utf-8")


def make_text(path: Path) -> None:
    """Plain text as it is commonly typed: underlined italics, stars between scenes, notes in brackets."""
    out = [TITLE, f"by {AUTHOR}", "All rights reserved."]
    for heading, paragraphs in CHAPTERS:
        out.append(heading)
        out += [re.sub(r"\^(\d)", r"[\1]", p).replace("*", "_") if p != "***" else "* * *" for p in paragraphs]
    out += [f"[{i}] {n}" for i, n in enumerate(NOTES, 1)]
    path.write_text("\n\n".join(out) + "\n", encoding="utf-8")


MAKERS: dict[str, Callable[[Path], None]] = {
    "book.docx": make_docx,
    "book.odt": make_odt,
    "two.epub": make_epub2,
    "three.epub": make_epub3,
    "book.rtf": make_rtf,
    "book.pdf": make_pdf,
    "book.html": make_html,
    "book.md": make_markdown,
    "book.txt": make_text,
}
