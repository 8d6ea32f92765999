"""The report: one page that says what an object is, how large, what was measured of it and how, for whoever receives it."""

from lucid_relic.delivery.report.as_html import page_html
from lucid_relic.delivery.report.as_pdf import page_pdf
from lucid_relic.delivery.report.page import Page, Section, page_of

__all__ = ["Page", "Section", "page_html", "page_of", "page_pdf"]
