"""One reader for each kind of manuscript: DOCX, EPUB, ODT, RTF, PDF, HTML, Markdown and plain text."""

from __future__ import annotations

import itertools
import posixpath
import re
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.text.archives import Archive, opened, xml_of
from faithful_reel.core.text.document import MOST_LETTERS, Document, TooMuch, Writer

_W = "{http://schemas.openxmlformats.org/wordprocessingml/2006/main}"
_XHTML = "{http://www.w3.org/1999/xhtml}"
_OPS = "{http://www.idpf.org/2007/ops}"


def local(element: Any) -> str:
    """An element's name without its namespace; empty for comments and instructions."""
    tag = element.tag
    return tag.rsplit("}", 1)[-1].lower() if isinstance(tag, str) else ""


# --- DOCX (ECMA-376, part 1) ------------------------------------------------------------------------------------------


def read_docx(path: Path) -> Document:
    """Read a DOCX.  Pages are known only as last laid out by the program that saved it.

    Raises
    ------
    FileProblem
        It is damaged, locked or not what its name says.
    """
    import docx
    from docx.exceptions import PythonDocxError
    from docx.opc.exceptions import OpcError

    with opened(path) as archive:
        for name in archive.names:
            if name.endswith((".xml", ".rels")):
                xml_of(archive.read(name), path)
        notes = _docx_notes(archive)
    try:
        with path.open("rb") as file:
            document = docx.Document(file)
    except (PythonDocxError, OpcError) as problem:
        raise FileProblem(f"{path.name} is damaged: it is not a DOCX document. Save the manuscript again.") from problem
    styles = {s.style_id: s.name or "" for s in document.styles}
    writer = Writer()
    writer.page = 1
    for paragraph in document.element.body.iter(f"{_W}p"):
        if paragraph.getparent().tag == f"{_W}txbxContent":
            continue
        style = _docx_style(styles, paragraph)
        level = _docx_level(paragraph, style)
        for element in paragraph.iter():
            kind = element.tag
            if kind == f"{_W}lastRenderedPageBreak":
                writer.new_page()
            elif kind == f"{_W}t":
                writer.run(element.text or "", italic=_docx_italic(element, style))
            elif kind == f"{_W}tab":
                writer.space()
            elif kind in (f"{_W}br", f"{_W}cr"):
                writer.line()
            elif kind == f"{_W}noBreakHyphen":
                writer.run("-")
        writer.end(level=level, title=style.lower() == "title")
    for note in notes:
        writer.note(note)
    core = document.core_properties
    writer.document.title, writer.document.author = core.title or "", core.author or ""
    return writer.document


def _docx_notes(archive: Archive) -> list[str]:
    notes = []
    for part in ("word/footnotes.xml", "word/endnotes.xml"):
        if part in archive.names:
            bodies = [note for note in archive.xml(part) if note.get(f"{_W}type") is None]
            notes += ["".join(t.text or "" for t in body.iter(f"{_W}t")) for body in bodies]
    return notes


def _docx_style(styles: dict[str, str], paragraph: Any) -> str:
    found = paragraph.find(f"{_W}pPr/{_W}pStyle")
    if found is None:
        return ""
    return styles.get(found.get(f"{_W}val") or "", "")


def _docx_level(paragraph: Any, style: str) -> int:
    outline = paragraph.find(f"{_W}pPr/{_W}outlineLvl")
    told = outline.get(f"{_W}val") or "" if outline is not None else ""
    if re.fullmatch(r"[0-9]{1,2}", told):
        return int(told) + 1
    match = re.match(r"heading ([0-9])$", style.lower())
    return int(match[1]) if match else 0


def _docx_italic(element: Any, style: str) -> bool:
    italic = element.getparent().find(f"{_W}rPr/{_W}i")
    if italic is None:
        emphasis = element.getparent().find(f"{_W}rPr/{_W}rStyle")
        return emphasis is not None and (emphasis.get(f"{_W}val") or "").lower() == "emphasis" and style != ""
    return (italic.get(f"{_W}val") or "true").lower() not in ("0", "false", "off")


# --- HTML, and what is HTML inside ------------------------------------------------------------------------------------

_BLOCKS = frozenset(
    "address article aside blockquote body caption center dd details div dl dt fieldset figcaption figure footer form h1"
    " h2 h3 h4 h5 h6 header hr html legend li main nav ol p pre section summary table tbody td tfoot th thead title tr ul".split()
)
_SILENT = frozenset("script style head noscript template iframe object svg math audio video select textarea nav rt rp".split())
_ITALIC = frozenset(["i", "em", "cite", "dfn"])
_NOTES = frozenset(["footnote", "footnotes", "endnote", "endnotes", "rearnote", "rearnotes"])
_NOTE_MARKS = frozenset(["noteref", "doc-noteref", "backlink", "doc-backlink"])
DEEPEST = 200


def _kinds(element: Any) -> set[str]:
    named = f"{element.get(f'{_OPS}type') or element.get('epub:type') or ''} {element.get('role') or ''}"
    return {part.removeprefix("doc-") for part in named.lower().split()}


def walk_html(root: Any, writer: Writer, marked: frozenset[str] = frozenset()) -> None:
    """Hand the text of an HTML tree to a writer.  An element whose id is in `marked` begins a chapter."""
    pending = ["" in marked]

    def end(level: int) -> None:
        count = len(writer.document.paragraphs)
        writer.end(level=level)
        if pending[0] and len(writer.document.paragraphs) > count:
            made = writer.document.paragraphs[-1]
            if not made.level and len(made.words) <= 15:
                made.level = 1
            pending[0] = False

    def walk(element: Any, level: int, depth: int, *, italic: bool) -> None:
        name = local(element)
        kinds = _kinds(element)
        if not name or name in _SILENT or depth > DEEPEST or "hidden" in element.attrib:
            return
        if element.get("id") in marked or element.get("name") in marked:
            pending[0] = True
        if "pagebreak" in kinds:
            number = re.sub(r"\D", "", element.get("title") or element.get("aria-label") or element.text or "")
            writer.new_page(int(number) if number and len(number) < 6 else 0)
            return
        if kinds & _NOTES or "footnotes" in (element.get("class") or "").split():
            for note in [n for n in element.iter() if local(n) in ("li", "aside", "p")] or [element]:
                if not any(local(inner) in ("li", "aside", "p") for inner in note.iterdescendants()):
                    writer.note(re.sub(r"[↩︎]+|^\W*\d+\W+(?=\w)", "", "".join(note.itertext())))
            return
        if kinds & _NOTE_MARKS or "footnote-ref" in (element.get("class") or ""):
            return
        if name == "hr":
            end(level)
            writer.scene_break()
            return
        if name == "br":
            writer.line()
            return
        block = name in _BLOCKS
        if block:
            end(level)
        if re.fullmatch(r"h[1-6]", name):
            level = int(name[1])
        slanted = italic or name in _ITALIC or "italic" in (element.get("style") or "")
        writer.run(element.text or "", italic=slanted)
        for child in element:
            walk(child, level, depth + 1, italic=slanted)
            writer.run(child.tail or "", italic=slanted)
        if block:
            end(level)

    walk(root, 0, 0, italic=False)
    end(0)


def _html_tree(data: bytes | str) -> Any:
    from lxml import html

    return html.document_fromstring(data, parser=html.HTMLParser(no_network=True, huge_tree=False, encoding=None))


def read_html(path: Path) -> Document:
    """Read an HTML page; headings h1 to h6, rules as scene breaks."""
    return html_document(decoded(path))


def html_document(text: str) -> Document:
    """A document from HTML in a string."""
    root = _html_tree(re.sub(r"^\s*<\?xml[^>]*\?>", "", text))
    writer = Writer()
    walk_html(root, writer)
    title = root.find(".//title")
    author = root.find(".//meta[@name='author']")
    writer.document.title = " ".join("".join(title.itertext()).split()) if title is not None else ""
    writer.document.author = author.get("content") or "" if author is not None else ""
    return writer.document


def read_markdown(path: Path) -> Document:
    """Read Markdown (CommonMark, with footnotes)."""
    from markdown_it import MarkdownIt
    from mdit_py_plugins.footnote import footnote_plugin

    document = html_document(MarkdownIt("commonmark").use(footnote_plugin).render(decoded(path)))
    document.title = next((p.text for p in document.paragraphs if p.level == 1), "")
    if sum(p.level == 1 for p in document.paragraphs) == 1 and any(p.level == 2 for p in document.paragraphs):
        next(p for p in document.paragraphs if p.level == 1).title = True
    else:
        document.title = ""
    return document


# --- EPUB 2 and 3 (IDPF Open Packaging Format 2.0.1; EPUB 3.3) --------------------------------------------------------


def read_epub(path: Path) -> Document:
    """Read an EPUB in the order of its spine; its table of contents says where chapters begin.

    Raises
    ------
    FileProblem
        It is damaged, locked or not what its name says.
    """
    with opened(path) as archive:
        if "META-INF/encryption.xml" in archive.names and b"enc#" not in archive.read("META-INF/encryption.xml"):
            raise FileProblem(f"{path.name} is locked against copying. Ask the publisher for an open file.")
        container = archive.xml("META-INF/container.xml")
        package = next((e.get("full-path") for e in container.iter() if local(e) == "rootfile"), None)
        if not package:
            raise FileProblem(f"{path.name} does not say where its text is. Ask for the EPUB again.")
        root = archive.xml(package)
        folder = posixpath.dirname(package)
        items = {e.get("id"): e for e in root.iter() if local(e) == "item"}
        marks = _epub_marks(archive, items, folder)
        writer = Writer()
        for reference in (e for e in root.iter() if local(e) == "itemref"):
            item = items.get(reference.get("idref"))
            if item is None or reference.get("linear") == "no" or "nav" in (item.get("properties") or "").split():
                continue
            name = posixpath.normpath(posixpath.join(folder, unquote(item.get("href") or "")))
            if name not in archive.names or "html" not in (item.get("media-type") or ""):
                continue
            data = archive.read(name)
            xml_bombs_refused(data, path)
            writer.scene_break()
            if writer.document.paragraphs:
                writer.new_page(writer.page)
            walk_html(_html_tree(data), writer, frozenset(m for n, m in marks if n == name))
        for element in root.iter():
            text = " ".join((element.text or "").split())
            if local(element) == "title" and not writer.document.title:
                writer.document.title = text
            elif local(element) == "creator" and not writer.document.author:
                writer.document.author = text
        return writer.document


def xml_bombs_refused(data: bytes, path: Path) -> None:
    """Refuse entities that a page defines for itself.

    Raises
    ------
    FileProblem
        There are some: they can grow without end.
    """
    if b"<!ENTITY" in data[:65_536]:
        raise FileProblem(f"{path.name} defines XML entities of its own, which no manuscript needs. It was not opened.")


def _epub_marks(archive: Archive, items: dict[Any, Any], folder: str) -> list[tuple[str, str]]:
    """(file, fragment) of every entry at the top of the table of contents: EPUB 3's page of navigation, or EPUB 2's NCX."""
    marks: list[tuple[str, str]] = []
    for item in items.values():
        name = posixpath.normpath(posixpath.join(folder, unquote(item.get("href") or "")))
        if name not in archive.names:
            continue
        base = posixpath.dirname(name)
        targets: list[str] = []
        if "nav" in (item.get("properties") or "").split():
            for nav in (e for e in _html_tree(archive.read(name)).iter() if local(e) == "nav" and "toc" in _kinds(e)):
                top = next((e for e in nav.iter() if local(e) == "ol"), None)
                entries = [li.find("a") for li in top] if top is not None else []
                targets += [a.get("href") or "" for a in entries if a is not None]
        elif item.get("media-type") == "application/x-dtbncx+xml" and not marks:
            tree = archive.xml(name)
            for point in (p for m in tree.iter() if local(m) == "navmap" for p in m if local(p) == "navpoint"):
                targets += [c.get("src") or "" for c in point if local(c) == "content"][:1]
        for target in targets:
            file, _, fragment = target.partition("#")
            marks.append((posixpath.normpath(posixpath.join(base, unquote(file))), fragment))
    return marks


# --- ODT (OASIS OpenDocument 1.3, part 3) -----------------------------------------------------------------------------

_TEXT = "{urn:oasis:names:tc:opendocument:xmlns:text:1.0}"
_STYLE = "{urn:oasis:names:tc:opendocument:xmlns:style:1.0}"
_FO = "{urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0}"


def read_odt(path: Path) -> Document:
    """Read an ODT; pages are known as far as the program that saved it marked them.

    Raises
    ------
    FileProblem
        It is damaged, locked or not what its name says.
    """
    with opened(path) as archive:
        if b"encryption-data" in (archive.read("META-INF/manifest.xml") if "META-INF/manifest.xml" in archive.names else b""):
            raise FileProblem(f"{path.name} is locked with a password. Save it without one.")
        root = archive.xml("content.xml")
        trees = [root, *([archive.xml("styles.xml")] if "styles.xml" in archive.names else [])]
        meta = archive.xml("meta.xml") if "meta.xml" in archive.names else None
    styles = {s.get(f"{_STYLE}name"): s for tree in trees for s in tree.iter(f"{_STYLE}style")}
    italic = {n for n, s in styles.items() if any(p.get(f"{_FO}font-style") == "italic" for p in s)}
    titles = {n for n, s in styles.items() if "Title" in (n, s.get(f"{_STYLE}parent-style-name"))} | {"Title"}
    paged = {n for n, s in styles.items() if any(p.get(f"{_FO}break-before") == "page" for p in s)}
    writer = Writer()
    writer.page = 1

    def walk(element: Any, *, slanted: bool) -> None:
        kind = local(element)
        if kind in ("tracked-changes", "annotation", "table-of-content", "frame"):
            return
        if kind == "note":
            body = element.find(f"{_TEXT}note-body")
            writer.note(" ".join(body.itertext()) if body is not None else "")
            return
        if kind == "soft-page-break":
            writer.new_page()
        elif kind in ("s", "tab"):
            writer.space()
        elif kind == "line-break":
            writer.line()
        style = element.get(f"{_TEXT}style-name")
        if kind in ("p", "h") and style in paged:
            writer.new_page()
        leaning = slanted or style in italic
        writer.run(element.text or "", italic=leaning)
        for child in element:
            walk(child, slanted=leaning)
            writer.run(child.tail or "", italic=leaning)
        if kind in ("p", "h"):
            level = element.get(f"{_TEXT}outline-level") or "1"
            writer.end(
                level=(int(level) if re.fullmatch(r"[0-9]{1,2}", level) else 1) if kind == "h" else 0, title=style in titles
            )

    body = next((e for e in root.iter() if local(e) == "text" and "office" in str(e.tag)), None)
    if body is None:
        raise FileProblem(f"{path.name} holds no text document. Save the manuscript as ODT.")
    for child in body:
        walk(child, slanted=False)
    for element in meta.iter() if meta is not None else ():
        if local(element) == "title":
            writer.document.title = element.text or ""
        elif local(element) in ("initial-creator", "creator") and not writer.document.author:
            writer.document.author = element.text or ""
    return writer.document


# --- RTF (Rich Text Format 1.9.1) -------------------------------------------------------------------------------------

_RTF_TOKEN = re.compile(r"\\([a-z]{1,32})(-?\d{1,10})? ?|\\'[0-9a-f]{2}|\\[^a-z]|[{}]", re.IGNORECASE | re.DOTALL)
_ITALIC_ON, _ITALIC_OFF, _PAGE, _NOTE_ON, _NOTE_OFF, _HEAD = range(0xE000, 0xE006)
"""Private characters that carry what the RTF library would drop through it; a heading's is followed by its level."""


def read_rtf(path: Path) -> Document:
    """Read RTF.  The library gives bare text, so italics, pages, notes and headings travel through it as private characters.

    Raises
    ------
    FileProblem
        It is damaged, locked or not what its name says.
    """
    from striprtf.striprtf import rtf_to_text

    raw = path.read_bytes().decode("latin-1")
    if raw.count("{") > 500_000:
        raise FileProblem(f"{path.name} is no usable RTF: it nests too deeply. Save the manuscript as DOCX.")
    headings = {
        m[1]: int(m[2]) for m in re.finditer(r"\\s([0-9]{1,5})\b[^{}]{0,400}?heading ([0-9])\s{0,9};", raw, re.IGNORECASE)
    }
    text = rtf_to_text(_marked_rtf(raw, headings), errors="replace")
    writer = Writer()
    writer.page = 1
    for line in text.split("\n"):
        _rtf_line(line, writer)
    info = {k: re.search(r"\{\\" + k + r" ([^{}]*)\}", raw) for k in ("title", "author")}
    writer.document.title, writer.document.author = ((m[1] if m else "") for m in info.values())
    return writer.document


def _marked_rtf(raw: str, headings: dict[str, int]) -> str:
    def mark(code: int) -> str:
        return f"{{\\uc1\\u{code - 0x10000}?}}"

    out: list[str] = []
    last = 0
    stack: list[tuple[bool, bool]] = []
    italic = note = False
    for match in _RTF_TOKEN.finditer(raw):
        out.append(raw[last : match.start()])
        last = match.end()
        text, word, value = match[0], (match[1] or "").lower(), match[2]
        if text == "{":
            stack.append((italic, note))
            out.append(text)
            continue
        if text == "}":
            before, outer_note = stack.pop() if stack else (False, False)
            out.append(
                (mark(_ITALIC_OFF if italic else _ITALIC_ON) if before != italic else "")
                + (mark(_NOTE_OFF) if note and not outer_note else "")
                + text
            )
            italic, note = before, outer_note
            continue
        out.append(text)
        if word == "i" or (word == "plain" and italic):
            italic = word == "i" and value != "0"
            out.append(mark(_ITALIC_ON if italic else _ITALIC_OFF))
        elif word == "page":
            out[-1] = mark(_PAGE)
        elif word == "footnote":
            out[-1] = mark(_NOTE_ON)
            note = True
        elif word == "outlinelevel" and value and int(value) < 9:
            out.append(mark(_HEAD) + f"{int(value) + 1}")
        elif word == "s" and value in headings and len(stack) == 1:
            out.append(mark(_HEAD) + f"{headings[value]}")
    return "".join(out) + raw[last:]


def _rtf_line(line: str, writer: Writer) -> None:
    level, italic, note = 0, False, ""
    in_note = False
    for part in re.split(r"([\ue000-\ue004]|\ue005\d)", line):
        if not part:
            continue
        code = ord(part[0])
        if code in (_ITALIC_ON, _ITALIC_OFF):
            italic = code == _ITALIC_ON
        elif code == _PAGE:
            writer.new_page()
        elif code in (_NOTE_ON, _NOTE_OFF):
            if in_note:
                writer.note(note)
            in_note, note = code == _NOTE_ON, ""
        elif code == _HEAD:
            level = int(part[1])
        elif in_note:
            note += part
        else:
            writer.run(part, italic=italic)
    writer.end(level=level)


# --- PDF --------------------------------------------------------------------------------------------------------------


def read_pdf(path: Path) -> Document:
    """Read a PDF that holds text.

    Paragraphs are found from the lines' places (an indent, a wider gap), headings from their size; running heads and
    page numbers are left out.  Own rules.
    """
    from faithful_reel.core.text.pdf import pdf_document

    return pdf_document(path)


# --- plain text -------------------------------------------------------------------------------------------------------


def decoded(path: Path) -> str:
    """A text file in any common encoding.

    Raises
    ------
    FileProblem
        It is no text.
    """
    if path.stat().st_size > 4 * MOST_LETTERS:
        raise TooMuch
    raw = path.read_bytes()
    if raw.startswith((b"\xff\xfe\0\0", b"\0\0\xfe\xff")):
        return raw.decode("utf-32", errors="replace")
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        return raw.decode("utf-16", errors="replace")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        pass
    else:
        if "\0" not in text:
            return text
    sample = raw[:65_536]
    zeros = sample.count(0)
    if zeros > len(sample) // 4:  # two bytes a letter, without a mark
        odd = sum(b == 0 for b in sample[1::2])
        return raw.decode("utf-16-le" if 2 * odd > zeros else "utf-16-be", errors="replace")
    if zeros or sum(b < 9 or 13 < b < 27 for b in sample) > len(sample) // 50:
        raise FileProblem(f"{path.name} is not a text file. Choose the manuscript as DOCX, EPUB, ODT, RTF, PDF, HTML or text.")
    from charset_normalizer import from_bytes

    found = from_bytes(
        sample, cp_isolation=["cp1252", "cp1250", "cp1251", "mac_roman", "iso8859_15", "shift_jis", "gb18030", "big5", "euc_kr"]
    )
    best = found.best()
    return raw.decode(best.encoding if best is not None else "cp1252", errors="replace")


_UNDERLINED = re.compile(r"(?<!\w)_(?=\S)([^_]*\S)_(?!\w)")
_NOTE_LINE = re.compile(r"^\[(?:\d+|\*|Footnote[^\]]*)\]:?\s+(.*)$", re.DOTALL)
_NOTE_MARK = re.compile(r"(?<=\S)\[(?:\d{1,3}|\*)\]")


VERSE_LINE, FREE_ENDS = 60, 0.7
"""Letters that a line of verse has at most, and how many of its lines end though another word would have fitted (own rules)."""


def is_verse(block: str, width: int) -> bool:
    """Whether the lines of a paragraph of plain text are verse: short, each begun with a capital, and ended before the `width` of
    the text's lines made them.  Prose that is wrapped ends a line only where the next word does not fit.
    """
    lines = [line.strip() for line in block.strip().split("\n")]
    if len(lines) < 2 or max(map(len, lines)) > VERSE_LINE:
        return False
    free = [len(a) + 1 + len(b.split()[0]) <= width for a, b in itertools.pairwise(lines) if b]
    capitals = all(next((c.isupper() for c in line if c.isalpha()), False) for line in lines)
    return capitals and sum(free) >= FREE_ENDS * len(free)


def _run_lines(writer: Writer, text: str, *, verse: bool, italic: bool = False) -> None:
    """Hand text to a writer, its lines as such where it is verse."""
    first, *rest = text.split("\n") if verse else [text]
    writer.run(first, italic=italic)
    for line in rest:
        writer.line()
        writer.run(line, italic=italic)


def read_plain(path: Path) -> Document:
    """Read plain text: a blank line, or where there is none a line's end, ends a paragraph.

    `_words_` are italics, `[1]` marks a note and a paragraph that begins so is one, a form feed begins a page.
    """
    text = decoded(path).replace("\r\n", "\n").replace("\r", "\n")
    if len(text) > MOST_LETTERS:
        raise TooMuch
    lines = [line for line in text.split("\n") if line.strip()]
    wrapped = re.search(r"\n[ \t]*\n", text.strip()) is not None
    width = max(map(len, lines), default=0)
    long_lines = sum(len(line) > 100 for line in lines) > len(lines) // 3
    writer = Writer()
    pages = text.split("\f")
    marks = {m[1] for m in re.finditer(r"^\[(\d+|\*)\]:?\s", text, re.MULTILINE)}
    for number, page in enumerate(pages):
        if len(pages) > 1:
            writer.new_page(number + 1)
        blocks = re.split(r"\n\s*\n", page) if wrapped and not long_lines else page.split("\n")
        for block in blocks:
            if note := _NOTE_LINE.match(block.strip()):
                writer.note(note[1])
                continue
            if marks:
                block = _NOTE_MARK.sub("", block)  # noqa: PLW2901 - the block without its marks
            verse = is_verse(block, width)
            at = 0
            for match in _UNDERLINED.finditer(block):
                _run_lines(writer, block[at : match.start()], verse=verse)
                _run_lines(writer, match[1], italic=True, verse=verse)
                at = match.end()
            _run_lines(writer, block[at:], verse=verse)
            writer.end()
    return writer.document
