"""Texts made into documents: DOCX (ISO/IEC 29500), ODT (ISO/IEC 26300) and PDF (ISO 32000), from clean HTML."""

from __future__ import annotations

import hashlib
import io
import re
import unicodedata
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from lxml import html as lxml_html

from ..errors import Misconfigured
from ..markup import first_of
from ..text import for_xml

TYPES = {
    "docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
    "odt": "application/vnd.oasis.opendocument.text",
    "pdf": "application/pdf",
}
WIDEST = 440.0
"""Points a picture may be wide: the width of the text on a page of A4."""


@dataclass(frozen=True)
class Run:
    """Words set in one way; `link` is where they lead."""

    text: str
    bold: bool = False
    italic: bool = False
    code: bool = False
    link: str = ""


@dataclass(frozen=True)
class Block:
    """A paragraph and what it is: ``text``, ``heading`` (of a `level`), ``item`` (of a list at a `level`, with its `number` or 0),
    ``quote``, ``code``, ``rule``, ``image`` (its address in `link`) or ``table`` (`rows` of cells)."""

    kind: str
    runs: tuple[Run, ...] = ()
    level: int = 1
    number: int = 0
    link: str = ""
    rows: tuple[tuple[tuple[Run, ...], ...], ...] = ()


@dataclass
class _Reading:
    blocks: list[Block] = field(default_factory=list)
    runs: list[Run] = field(default_factory=list)


_HEADINGS = {"h1": 1, "h2": 2, "h3": 3, "h4": 4}


def blocks_of(page: str) -> list[Block]:
    """What clean HTML says, block after block."""
    reading = _Reading()
    if page.strip():
        _read(lxml_html.fragment_fromstring(page, create_parent="div"), reading, Run(""), Block("text"))
    _end(reading, Block("text"))
    return reading.blocks


def _end(reading: _Reading, shape: Block) -> None:
    """Close the paragraph that is being read."""
    runs = list(_joined(reading.runs, shape.kind == "code"))
    reading.runs.clear()
    if any(run.text.strip() for run in runs):
        reading.blocks.append(Block(shape.kind, tuple(runs), shape.level, shape.number))


def _joined(runs: list[Run], as_written: bool) -> Iterator[Run]:
    """Runs with white space as a page shows it: one space, none at the ends."""
    before = "\n"
    kept: list[Run] = []
    for run in runs:
        text = run.text if as_written else re.sub(r"[ \t\r\n]+", " ", run.text).replace("\x0b", "\n")
        if not as_written and before[-1:] in (" ", "\n"):
            text = text.lstrip(" ")
        if text:
            kept.append(Run(text, run.bold, run.italic, run.code, run.link))
            before = text
    if kept and not as_written:
        kept[-1] = Run(kept[-1].text.rstrip(), kept[-1].bold, kept[-1].italic, kept[-1].code, kept[-1].link)
    return iter(run for run in kept if run.text)


def _read(element: Any, reading: _Reading, style: Run, shape: Block) -> None:
    """An element's words, and those inside it."""
    _say(reading, element.text, style)
    count = 0
    for inner in element:
        tag = inner.tag if isinstance(inner.tag, str) else ""
        if tag == "br":
            _say(reading, "\x0b", style)
        elif tag == "hr":
            _end(reading, shape)
            reading.blocks.append(Block("rule"))
        elif tag == "img":
            _end(reading, shape)
            words = (Run(inner.get("alt") or ""),) if inner.get("alt") else ()
            reading.blocks.append(Block("image", words, link=inner.get("src") or ""))
        elif tag == "table":
            _end(reading, shape)
            rows = tuple(tuple(_cell(cell) for cell in row.iter("td", "th")) for row in inner.iter("tr"))
            reading.blocks.append(Block("table", rows=tuple(row for row in rows if row)))
        elif tag in _HEADINGS:
            _inner(inner, reading, style, shape, Block("heading", level=_HEADINGS[tag]))
        elif tag in ("ul", "ol"):
            _end(reading, shape)
            level = shape.level + 1 if shape.kind == "item" else 1
            _read(inner, reading, style, Block("list", level=level, number=first_of(inner) if tag == "ol" else 0))
            reading.runs.clear()
        elif tag == "li":
            count += 1
            _inner(
                inner,
                reading,
                style,
                shape,
                Block("item", level=shape.level, number=shape.number + count - 1 if shape.number else 0),
            )
        elif tag == "blockquote":
            _inner(inner, reading, style, shape, Block("quote"))
        elif tag == "pre":
            _inner(inner, reading, style, shape, Block("code"))
        elif tag in ("p", "div", "figure", "figcaption"):
            # A paragraph inside an item or a quotation is a part of it.
            _inner(inner, reading, style, shape, shape)
        else:
            _read(inner, reading, _styled(inner, tag, style), shape)
        _say(reading, inner.tail, style)


def _inner(element: Any, reading: _Reading, style: Run, around: Block, shape: Block) -> None:
    _end(reading, around)
    _read(element, reading, style, shape)
    _end(reading, shape)


def _styled(element: Any, tag: str, style: Run) -> Run:
    return Run(
        "",
        style.bold or tag in ("strong", "b", "th"),
        style.italic or tag in ("em", "i"),
        style.code or tag == "code",
        _leads(str(element.get("href") or "")) if tag == "a" else style.link,
    )


def _leads(link: str) -> str:
    """A link that leads somewhere from a document too; one to a place of the page itself leads nowhere."""
    return link if link.startswith(("http://", "https://", "mailto:")) else ""


def _say(reading: _Reading, text: str | None, style: Run) -> None:
    if text:
        reading.runs.append(Run(text, style.bold, style.italic, style.code, style.link))


def _cell(cell: Any) -> tuple[Run, ...]:
    reading = _Reading()
    _read(cell, reading, Run("", bold=cell.tag == "th"), Block("text"))
    _end(reading, Block("text"))
    return tuple(run for block in reading.blocks for run in block.runs)


# -- documents ------------------------------------------------------------------------------------------


def typeset(kind: str, title: str, page: str, pictures: Mapping[str, bytes], made: datetime) -> bytes:
    """A document of a kind (a key of `TYPES`) from clean HTML, made at a moment (UTC). Pictures are put in where their bytes are given, by address; of others
    their words stand there. Raises `Misconfigured` for a sign that a PDF cannot show."""
    make: dict[str, Callable[[str, list[Block], Mapping[str, bytes], datetime], bytes]]
    make = {"docx": _docx, "odt": _odt, "pdf": _pdf}
    return make[kind](for_xml(title), blocks_of(for_xml(page)), pictures, made)


def _size(content: bytes) -> tuple[float, float]:
    """Width and height in points, as large as fits the text."""
    from PIL import Image

    with Image.open(io.BytesIO(content)) as picture:
        width, height = picture.size
    wide = min(WIDEST, width * 0.75)
    return wide, wide * height / max(1, width)


def _docx(title: str, blocks: list[Block], pictures: Mapping[str, bytes], moment: datetime) -> bytes:
    import docx
    from docx.enum.text import WD_ALIGN_PARAGRAPH
    from docx.oxml import OxmlElement
    from docx.oxml.ns import qn
    from docx.shared import Pt

    document = docx.Document()
    about = document.core_properties
    about.title, about.author, about.comments = title, "", ""
    about.created = about.modified = moment

    def say(paragraph: Any, runs: tuple[Run, ...]) -> None:
        for run in runs:
            made = paragraph.add_run(run.text)
            made.bold, made.italic = run.bold or None, run.italic or None
            if run.code:
                made.font.name = "Courier New"
            if run.link:
                place = paragraph.part.relate_to(
                    run.link, "http://schemas.openxmlformats.org/officeDocument/2006/relationships/hyperlink", is_external=True
                )
                link = OxmlElement("w:hyperlink")
                link.set(qn("r:id"), place)
                made.font.underline = True
                paragraph._p.append(link)
                link.append(made._r)

    def begin_anew(paragraph: Any) -> int:
        """A list that counts from one; gives its number."""
        style = document.styles["List Number"].element
        numbering = document.part.numbering_part.element
        own = numbering.num_having_numId(style.pPr.numPr.numId.val).abstractNumId.val
        made = numbering.add_num(own)
        made.add_lvlOverride(ilvl=0).add_startOverride(1)
        return int(made.numId)

    counting = 0
    for block in blocks:
        if block.kind == "heading":
            say(document.add_heading(level=block.level), block.runs)
        elif block.kind == "item":
            deep = f" {min(block.level, 3)}" if block.level > 1 else ""
            paragraph = document.add_paragraph(style=f"List {'Number' if block.number else 'Bullet'}{deep}")
            if block.number and block.level == 1:
                counting = begin_anew(paragraph) if block.number == 1 else counting
                numbered = paragraph._p.get_or_add_pPr().get_or_add_numPr()
                numbered.get_or_add_numId().val, numbered.get_or_add_ilvl().val = counting, 0
            say(paragraph, block.runs)
        elif block.kind == "rule":
            document.add_paragraph("⁂").alignment = WD_ALIGN_PARAGRAPH.CENTER
        elif block.kind == "image" and block.link in pictures:
            document.add_picture(io.BytesIO(pictures[block.link]), width=Pt(_size(pictures[block.link])[0]))
        elif block.kind == "table":
            table = document.add_table(len(block.rows), max(map(len, block.rows), default=1), style="Table Grid")
            for row, cells in zip(table.rows, block.rows, strict=True):
                for place, runs in zip(row.cells, cells, strict=False):
                    say(place.paragraphs[0], runs)
        else:
            style = {"quote": "Quote", "code": "No Spacing"}.get(block.kind)
            runs = tuple(Run(run.text, code=True) for run in block.runs) if block.kind == "code" else block.runs
            say(document.add_paragraph(style=style), runs)
    out = io.BytesIO()
    document.save(out)
    return out.getvalue()


def _odt(title: str, blocks: list[Block], pictures: Mapping[str, bytes], moment: datetime) -> bytes:
    from odf import dc, draw, meta, style, table, text
    from odf.opendocument import OpenDocumentText
    from PIL import Image

    document = OpenDocumentText()
    document.meta.addElement(dc.Title(text=title))
    document.meta.addElement(meta.CreationDate(text=moment.isoformat(timespec="seconds")))
    ways = {
        "bold": {"fontweight": "bold"},
        "italic": {"fontstyle": "italic"},
        "code": {"fontfamily": "monospace"},
    }
    for name, properties in ways.items():
        way = style.Style(name=name, family="text")
        way.addElement(style.TextProperties(**properties))
        document.automaticstyles.addElement(way)
    inset = style.Style(name="inset", family="paragraph")
    inset.addElement(style.ParagraphProperties(marginleft="1cm", marginright="1cm"))
    document.automaticstyles.addElement(inset)
    lists = {}
    for name, numbered in (("dots", False), ("numbers", True)):
        lists[numbered] = made = text.ListStyle(name=name)
        for level in range(1, 5):
            if numbered:
                kind = text.ListLevelStyleNumber(level=level, numformat="1", numsuffix=".")
            else:
                kind = text.ListLevelStyleBullet(level=level, bulletchar="•")
            kind.addElement(style.ListLevelProperties(spacebefore=f"{0.6 * level}cm", minlabelwidth="0.6cm"))
            made.addElement(kind)
        document.automaticstyles.addElement(made)

    def say(into: Any, runs: tuple[Run, ...]) -> Any:
        for run in runs:
            inner = into
            if run.link:
                inner = text.A(href=run.link, type="simple")
                into.addElement(inner)
            for name in ("bold", "italic", "code"):
                if getattr(run, name):
                    span = text.Span(stylename=name)
                    inner.addElement(span)
                    inner = span
            for n, line in enumerate(run.text.split("\n")):
                if n:
                    inner.addElement(text.LineBreak())
                inner.addText(line)
        return into

    def frame(content: bytes, words: str) -> Any:
        with Image.open(io.BytesIO(content)) as picture:
            kind = Image.MIME[picture.format or "PNG"]
        wide, high = _size(content)
        place = document.addPicture(f"Pictures/{hashlib.sha256(content).hexdigest()[:16]}.{kind.rsplit('/', 1)[-1]}", kind, content)
        made = draw.Frame(width=f"{wide:.0f}pt", height=f"{high:.0f}pt", anchortype="paragraph")
        made.addElement(draw.Image(href=place, type="simple", show="embed", actuate="onLoad"))
        return made

    open_lists: list[Any] = []
    for block in blocks:
        if block.kind != "item":
            open_lists.clear()
        if block.kind == "heading":
            document.text.addElement(say(text.H(outlinelevel=block.level), block.runs))
        elif block.kind == "item":
            del open_lists[block.level :]
            if block.number == 1 and len(open_lists) == block.level:
                open_lists.pop()
            while len(open_lists) < block.level:
                made = text.List(stylename=lists[bool(block.number)])
                parent = open_lists[-1].lastChild if open_lists else document.text
                if parent is None:
                    parent = text.ListItem()
                    open_lists[-1].addElement(parent)
                parent.addElement(made)
                open_lists.append(made)
            item = text.ListItem()
            item.addElement(say(text.P(), block.runs))
            open_lists[-1].addElement(item)
        elif block.kind == "rule":
            document.text.addElement(text.P(text="⁂"))
        elif block.kind == "image" and block.link in pictures:
            paragraph = text.P()
            paragraph.addElement(frame(pictures[block.link], "".join(run.text for run in block.runs)))
            document.text.addElement(paragraph)
        elif block.kind == "table":
            made = table.Table()
            made.addElement(table.TableColumn(numbercolumnsrepeated=max(map(len, block.rows), default=1)))
            for cells in block.rows:
                row = table.TableRow()
                for runs in cells:
                    cell = table.TableCell()
                    cell.addElement(say(text.P(), runs))
                    row.addElement(cell)
                made.addElement(row)
            document.text.addElement(made)
        else:
            runs = tuple(Run(run.text, code=True) for run in block.runs) if block.kind == "code" else block.runs
            document.text.addElement(say(text.P(**({"stylename": inset} if block.kind in ("quote", "code") else {})), runs))
    out = io.BytesIO()
    document.save(out)
    return out.getvalue()


def _visible(text: str) -> str:
    """A text without signs that only steer how others are set, which fonts do not have; tabs as spaces, a hyphen that does not break
    as one."""
    return "".join(sign for sign in text.expandtabs(4).replace("\u2011", "-") if unicodedata.category(sign) != "Cf")


def _pdf(title: str, blocks: list[Block], pictures: Mapping[str, bytes], moment: datetime) -> bytes:
    import font_source_serif_pro as fonts
    from fontTools.ttLib import TTFont
    from fpdf import FPDF
    from fpdf.fonts import FontFace

    pdf = FPDF(format="A4", unit="pt")
    pdf.set_creation_date(moment)
    pdf.set_title(title)
    pdf.set_producer("Ulmus")
    pdf.set_margins(77, 72)
    pdf.set_auto_page_break(True, 72)
    for style, name in (("", "Regular"), ("B", "Bold"), ("I", "It"), ("BI", "BoldIt")):
        pdf.add_font("serif", style, f"{fonts.font_directory}/SourceSerifPro-{name}.ttf")
    pdf.set_fallback_fonts(["serif"], exact_match=False)
    known = TTFont(fonts.SourceSerifPro).getBestCmap()
    said = "".join(
        run.text for block in blocks for runs in (block.runs, *(cell for row in block.rows for cell in row)) for run in runs
    )
    if missing := next((sign for sign in _visible(said) if ord(sign) > 31 and ord(sign) not in known), ""):
        raise Misconfigured(f"A PDF made here cannot show “{missing}”. Save it as DOCX or ODT, or leave it out.")
    pdf.add_page()

    def say(runs: tuple[Run, ...], size: float, plain: str = "") -> None:
        for run in runs:
            style = "".join(sign for sign, on in (("B", run.bold or "B" in plain), ("I", run.italic or "I" in plain)) if on)
            pdf.set_font("serif", style, size)
            pdf.set_text_color(*((47, 90, 40) if run.link else (29, 28, 25)))
            pdf.write(size * 1.45, _visible(run.text), run.link)
        pdf.ln(size * 1.45)

    left = pdf.l_margin
    for block in blocks:
        indent = 18.0 * block.level if block.kind == "item" else 24.0 if block.kind in ("quote", "code") else 0.0
        pdf.set_left_margin(left + indent)
        pdf.set_x(left + indent)
        if block.kind == "heading":
            size = {1: 22.0, 2: 17.0, 3: 14.0}.get(block.level, 12.0)
            if pdf.will_page_break(size * 3.5):
                pdf.add_page()
            pdf.ln(size * 0.5)
            pdf.start_section("".join(run.text for run in block.runs), level=block.level - 1, strict=False)
            say(block.runs, size, "B")
            pdf.ln(4)
        elif block.kind == "item":
            pdf.set_font("serif", "", 11)
            pdf.set_x(left + indent - 16)
            pdf.write(16, f"{block.number}." if block.number else "•")
            pdf.set_x(left + indent)
            say(block.runs, 11)
            pdf.ln(2)
        elif block.kind == "rule":
            pdf.ln(6)
            pdf.set_draw_color(160, 155, 145)
            pdf.line(left, pdf.get_y(), pdf.w - pdf.r_margin, pdf.get_y())
            pdf.ln(12)
        elif block.kind == "image" and block.link in pictures:
            wide, high = _size(pictures[block.link])
            if pdf.will_page_break(high):
                pdf.add_page()
            pdf.image(io.BytesIO(pictures[block.link]), w=wide, h=high, alt_text="".join(run.text for run in block.runs))
            pdf.ln(8)
        elif block.kind == "table":
            pdf.set_font("serif", "", 10)
            with pdf.table(headings_style=FontFace(emphasis=None), line_height=15) as made:
                for cells in block.rows:
                    row = made.row()
                    for n in range(max(map(len, block.rows))):
                        row.cell(_visible("".join(run.text for run in cells[n])) if n < len(cells) else "")
            pdf.ln(10)
        else:
            say(block.runs, 10 if block.kind == "code" else 11, "I" if block.kind == "quote" else "")
            pdf.ln(6)
    return bytes(pdf.output())
