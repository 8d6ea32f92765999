"""The report as one HTML file, its pictures in it."""

import base64
import html
import io

import numpy as np
from PIL import Image

from lucid_relic.delivery.report.page import Page, Section

STYLE = """
@page{size:A4;margin:14mm}body{margin:24px auto;max-width:900px;color:#1d2b3a;background:#fffdf7;font:14px/1.45 system-ui,sans-serif}
h1{font-size:26px;margin:0}h2{font-size:16px;margin:22px 0 6px;border-bottom:1px solid #d9d0bf;padding-bottom:3px}
table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:3px 10px 3px 0;vertical-align:top}
table.facts{width:auto}table:not(.facts) td.n,th.n{text-align:right;font-variant-numeric:tabular-nums;white-space:nowrap}th{font-weight:600;color:#4d5a66}
.sides{display:grid;grid-template-columns:repeat(4,1fr);gap:8px}figure{margin:0;background:#efe9dd;border-radius:6px}
img{width:100%;display:block}figcaption{text-align:center;color:#4d5a66;padding-bottom:4px}.quiet{color:#4d5a66}
"""


def page_html(page: Page) -> str:
    """The page, whole in one file."""
    title = html.escape(page.title)
    parts = [f"<h1>{title}</h1>"]
    if page.notes:
        parts.append(f"<p>{html.escape(page.notes)}</p>")
    if page.pictures:
        parts.append(f'<div class="sides">{"".join(_side(name, picture) for name, picture in page.pictures)}</div>')
    parts += [_section(s) for s in page.sections]
    body = "\n".join(parts)
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{title}: report</title>'
        f"<style>{STYLE}</style></head><body>{body}</body></html>\n"
    )


def _side(name: str, picture: np.ndarray) -> str:
    encoded = io.BytesIO()
    Image.fromarray(picture).save(encoded, "PNG", optimize=True)
    data = base64.b64encode(encoded.getvalue()).decode()
    return f'<figure><img alt="from the {name}" src="data:image/png;base64,{data}"><figcaption>{name}</figcaption></figure>'


def _section(section: Section) -> str:
    said = f'<p class="quiet">{html.escape(section.sentence)}</p>' if section.sentence else ""
    return f"<h2>{html.escape(section.title)}</h2>{said}{_table(section) if section.rows else ''}"


def _table(section: Section) -> str:
    cells = lambda row, tag: "".join(  # noqa: E731
        f"<{tag}{' class=n' if n else ''}>{html.escape(cell)}</{tag}>" for n, cell in enumerate(row)
    )
    top = f"<tr>{cells(section.head, 'th')}</tr>" if section.head else ""
    body = "".join(f"<tr>{cells(row, 'td')}</tr>" for row in section.rows)
    return f"<table{'' if section.head else ' class=facts'}>{top}{body}</table>"
