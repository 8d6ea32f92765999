"""The report as PDF on A4, with fonts and pictures in it."""

import io
import unicodedata
from pathlib import Path

import numpy as np
import reportlab
from PIL import Image as Picture
from reportlab.lib.colors import HexColor
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.platypus import Flowable, Image, KeepTogether, Paragraph, SimpleDocTemplate, Spacer, Table

from lucid_relic.delivery.report.page import Page, Section

MARGIN = 16 * mm
WIDTH = A4[0] - 2 * MARGIN
INK, QUIET, LINE = HexColor("#1d2b3a"), HexColor("#4d5a66"), HexColor("#d9d0bf")
PLAIN, STRONG = "Report", "Report-Strong"
FONTS = {PLAIN: "Vera.ttf", STRONG: "VeraBd.ttf"}  # ship with reportlab
# Signs that these fonts lack:
INSTEAD = str.maketrans({"\u2009": " ", "⌀": "Ø", "−": "-", "≤": "<", "≥": ">", "→": "to", "σ": "s"})
BODY = ParagraphStyle("body", fontName=PLAIN, fontSize=8.5, leading=11, textColor=INK)
SAID = ParagraphStyle("said", BODY, textColor=QUIET, spaceAfter=3)
TITLE = ParagraphStyle("title", BODY, fontName=STRONG, fontSize=17, leading=22, spaceAfter=2)
HEADING = ParagraphStyle("heading", BODY, fontName=STRONG, fontSize=10.5, leading=14, spaceBefore=9, spaceAfter=3)
FIGURE = ParagraphStyle("figure", BODY, alignment=2)
HEAD, HEAD_FIGURE = (ParagraphStyle(s.name + "-head", s, fontName=STRONG, textColor=QUIET) for s in (BODY, FIGURE))
UNDER = ParagraphStyle("under", SAID, alignment=1)


def page_pdf(page: Page) -> bytes:
    """The page as PDF; the same page gives the same bytes."""
    for name, file in FONTS.items():
        if name not in pdfmetrics.getRegisteredFontNames():
            pdfmetrics.registerFont(TTFont(name, str(Path(reportlab.__file__).parent / "fonts" / file)))
    flow: list[Flowable] = [_words(page.title, TITLE)]
    if page.notes:
        flow.append(_words(page.notes, BODY))
    if page.pictures:
        flow += [Spacer(1, 2 * mm), _pictures(page.pictures)]
    for section in page.sections:
        flow += _section(section)
    written = io.BytesIO()
    document = SimpleDocTemplate(
        written, pagesize=A4, title=f"{page.title}: report", author="Lucid Relic", invariant=1,
        leftMargin=MARGIN, rightMargin=MARGIN, topMargin=MARGIN, bottomMargin=MARGIN,
    )  # fmt: skip
    document.build(flow)
    return written.getvalue()


def _words(text: str, style: ParagraphStyle) -> Paragraph:
    known = pdfmetrics.getFont(style.fontName).face.charToGlyph
    plain = "".join(c if ord(c) in known or c == "\n" else _without_marks(c, known) for c in text.translate(INSTEAD))
    return Paragraph(plain.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;"), style)


def _without_marks(sign: str, known: dict[int, int]) -> str:
    """A letter without the marks that a font lacks; a question mark for what it does not have at all."""
    bare = "".join(c for c in unicodedata.normalize("NFKD", sign) if ord(c) in known)
    return bare or "?"


def _pictures(pictures: list[tuple[str, np.ndarray]]) -> Table:
    side = WIDTH / len(pictures)
    drawn = []
    for _, picture in pictures:
        encoded = io.BytesIO()
        Picture.fromarray(picture).save(encoded, "PNG")
        drawn.append(Image(io.BytesIO(encoded.getvalue()), side - 2 * mm, side - 2 * mm))
    return Table([drawn, [_words(name, UNDER) for name, _ in pictures]], colWidths=[side] * len(pictures))


def _section(section: Section) -> list[Flowable]:
    head: list[Flowable] = [_words(section.title, HEADING)]
    if section.sentence:
        head.append(_words(section.sentence, SAID))
    if not section.rows:
        return [KeepTogether(head)]
    columns = max(len(row) for row in section.rows)
    rows = [[_words(c, FIGURE if n and section.head else BODY) for n, c in enumerate(row)] for row in section.rows]
    if section.head:
        rows.insert(0, [_words(c, HEAD_FIGURE if n else HEAD) for n, c in enumerate(section.head)])
    first = 0.3 * WIDTH
    rest = [0.7 * WIDTH / max(columns - 1, 1)] * (columns - 1)
    table = Table(rows, colWidths=[first, *rest], repeatRows=1 if section.head else 0, hAlign="LEFT")
    table.setStyle([
        ("LINEBELOW", (0, 0), (-1, -1), 0.3, LINE), ("VALIGN", (0, 0), (-1, -1), "TOP"),
        ("TOPPADDING", (0, 0), (-1, -1), 1.5), ("BOTTOMPADDING", (0, 0), (-1, -1), 2), ("LEFTPADDING", (0, 0), (-1, -1), 0),
    ])  # fmt: skip
    # A heading never stands alone at the foot of a page; a long table may go on over to the next.
    return [KeepTogether([*head, table])] if len(rows) < 20 else [*head, table]
