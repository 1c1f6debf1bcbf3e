"""Reports of the town as PDF: real ones, one that was only scanned, one locked with a password."""

from __future__ import annotations

import io
from functools import lru_cache

from flask import Blueprint, Response, abort, render_template

from . import faults
from .companies import companies
from .sites import state
from .world import articles

bp = Blueprint("reports", __name__, url_prefix="/reports")
TITLES = {
    "seed-year.pdf": "The seed year: a report of the Wend valley",
    "canal-trade.pdf": "Trade on the Ostrey Cut: a survey of eight houses",
    "scanned.pdf": "Minutes of the lock committee, scanned",
    "locked.pdf": "Wages, locked",
}
YIELDS = [
    ("Crop", "Plots", "Seed saved, kg", "Germination, %"),
    ("Drought bean", "14", "61.5", "93"),
    ("Winter squash", "9", "12.2", "88"),
    ("Sea kale", "4", "3.1", "71"),
    ("Wend leek", "11", "7.4", "90"),
    ("Black oat", "6", "140.0", "96"),
]


@bp.get("/")
def index() -> str:
    return render_template("reports.html", reports=TITLES)


@bp.get("/<name>")
def report(name: str) -> Response:
    mode = state().fault("report")
    early = faults.common(mode)
    if early is not None:
        return early
    body = pdf(name) if name in TITLES else abort(404)
    if mode == "cut":
        body = body[: len(body) // 3]
    return Response(body, mimetype="application/pdf")


@lru_cache
def pdf(name: str, pages: int = 0) -> bytes:
    """A report; `pages` makes the first of them that long, for measuring."""
    from fpdf import FPDF

    sheet = FPDF(format="A4")
    sheet.set_title(TITLES.get(name, name))
    sheet.set_author("Hedge Lane Press")
    sheet.set_margins(22, 22)
    if name == "scanned.pdf":
        from PIL import Image, ImageDraw

        picture = Image.new("L", (600, 800), 245)
        ImageDraw.Draw(picture).text((60, 60), "Minutes of the lock committee", fill=40)
        sheet.add_page()
        sheet.image(picture, x=20, y=20, w=160)
        return bytes(sheet.output())
    if name == "locked.pdf":
        sheet.set_encryption(owner_password="keys", user_password="wages")
    sheet.add_page()
    sheet.set_font("Helvetica", "B", 24)
    sheet.multi_cell(0, 11, _plain(TITLES.get(name, name)), new_x="LMARGIN", new_y="NEXT")
    sheet.ln(6)
    chosen = _sections(name)
    turn = 0
    while True:
        title, paragraphs = chosen[turn % len(chosen)]
        sheet.set_font("Helvetica", "B", 16)
        sheet.multi_cell(0, 9, _plain(title), new_x="LMARGIN", new_y="NEXT")
        sheet.ln(2)
        sheet.set_font("Helvetica", "", 11)
        for paragraph in paragraphs:
            sheet.multi_cell(0, 6, _plain(paragraph), new_x="LMARGIN", new_y="NEXT")
            sheet.ln(2)
        turn += 1
        if turn == 2 and name == "seed-year.pdf":
            _table(sheet)
        if turn >= len(chosen) and sheet.page_no() >= pages:
            break
    return bytes(sheet.output())


def _table(sheet: object) -> None:
    sheet.set_font("Helvetica", "B", 13)  # type: ignore[attr-defined]
    sheet.multi_cell(0, 8, "What was saved", new_x="LMARGIN", new_y="NEXT")  # type: ignore[attr-defined]
    sheet.set_font("Courier", "", 10)  # type: ignore[attr-defined]
    for row in YIELDS:
        line = "".join(cell.ljust(width) for cell, width in zip(row, (18, 10, 20, 16), strict=True))
        sheet.cell(0, 5, line, new_x="LMARGIN", new_y="NEXT")  # type: ignore[attr-defined]
    sheet.ln(4)  # type: ignore[attr-defined]


def _sections(name: str) -> list[tuple[str, tuple[str, ...]]]:
    if name == "canal-trade.pdf":
        return [(c.name, tuple(p for page in c.pages[:4] for p in page.paragraphs)) for c in companies().values()]
    return [(a.title, a.paragraphs) for a in articles("furrow-letter")[:10]]


def _plain(text: str) -> str:
    """What the built-in fonts can set."""
    for a, b in (("“", '"'), ("”", '"'), ("’", "'"), ("‘", "'"), ("–", "-"), ("—", "-"), ("…", "...")):
        text = text.replace(a, b)
    return text.encode("latin-1", "replace").decode("latin-1")


def seed_files() -> dict[str, bytes]:
    """What stands in the file store at first."""
    import docx

    text = docx.Document()
    text.core_properties.title = "Brief for the spring letter"
    text.core_properties.author = "Ines Varga"
    text.add_heading("Brief for the spring letter", 1)
    text.add_paragraph(
        "The letter goes to everybody who bought seed last spring. It should say what is new, and ask for seed back."
    )
    text.add_heading("What must be in it", 2)
    for line in ("The three new varieties and why they were kept.", "The date of the seed morning.", "How to send seed back."):
        text.add_paragraph(line, style="List Bullet")
    table = text.add_table(rows=1, cols=2)
    table.rows[0].cells[0].text, table.rows[0].cells[1].text = "Variety", "Packets"
    for row in (("Drought bean", "900"), ("Sea kale", "120")):
        cells = table.add_row().cells
        cells[0].text, cells[1].text = row
    out = io.BytesIO()
    text.save(out)
    return {
        "briefs/spring-letter.docx": out.getvalue(),
        "briefs/style.md": b"# How we write\n\nPlain and warm. One thought a sentence. Figures where they help.\n\n## Never\n\nBreathless, or in capitals.\n",
        "reports/seed-year.pdf": pdf("seed-year.pdf"),
        "tables/prices.csv": b"Variety,Packet,Price\nDrought bean,40 seeds,3.20\nSea kale,25 seeds,3.80\nWend leek,200 seeds,2.60\n",
    }
